//! The processes of a stage, wherever they went: descendants of its command, members of its group, and those that
//! left both but bear the run and the stage in their environment.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, Once, PoisonError};

use rustix::process::{Pid, Signal, WaitOptions, kill_process, waitpid};

/// The commands of stages at work in this process: their own reaping is theirs.
static LEADERS: Mutex<BTreeSet<i32>> = Mutex::new(BTreeSet::new());

/// Processes whose parents die become children of this one instead of the system's first: so a daemon that left
/// its session is found. Does nothing where the system cannot.
pub(crate) fn adopt_orphans() {
    static ONCE: Once = Once::new();
    ONCE.call_once(|| {
        let _ = rustix::process::set_child_subreaper(Some(rustix::process::getpid()));
    });
}

pub(crate) fn lead(pid: Pid) {
    LEADERS.lock().unwrap_or_else(PoisonError::into_inner).insert(pid.as_raw_nonzero().get());
}

pub(crate) fn follow_no_more(pid: Pid) {
    LEADERS.lock().unwrap_or_else(PoisonError::into_inner).remove(&pid.as_raw_nonzero().get());
}

/// What tells the processes of one stage of one run from all others.
#[derive(Clone, Debug)]
pub(crate) struct Mark {
    wanted: Vec<Vec<u8>>,
    /// A folder: whoever prints into a file below it is one of the stage's, whatever became of its environment.
    prints_into: Option<PathBuf>,
}

impl Mark {
    /// The mark in these variables; `None` for a command that is no stage's.
    pub(crate) fn of(variables: &[(String, String)]) -> Option<Mark> {
        let wanted = ["TEXTUM_RUN", "TEXTUM_STAGE"].map(|name| {
            let value = variables.iter().find(|(n, _)| n == name).map(|(_, v)| v)?;
            Some(format!("{name}={value}").into_bytes())
        });
        Some(Mark { wanted: wanted.into_iter().collect::<Option<_>>()?, prints_into: None })
    }

    /// The mark of all stages of a run with this folder. A job's id may not have been written down when Textum
    /// was killed: then its log tells it.
    pub(crate) fn of_run(run: &str, folder: &Path) -> Mark {
        Mark { wanted: vec![format!("TEXTUM_RUN={run}").into_bytes()], prints_into: fs::canonicalize(folder).ok() }
    }

    fn is_borne_by(&self, pid: i32) -> bool {
        let prints = |folder: &PathBuf| {
            let into = |stream: u32| fs::read_link(format!("/proc/{pid}/fd/{stream}")).is_ok_and(|file| file.starts_with(folder));
            into(1) || into(2)
        };
        if self.prints_into.as_ref().is_some_and(prints) {
            return true;
        }
        let Ok(environ) = fs::read(format!("/proc/{pid}/environ")) else { return false };
        self.wanted.iter().all(|wanted| environ.split(|b| *b == 0).any(|v| v == wanted.as_slice()))
    }
}

/// Linux says resident memory in pages; on the machines that Textum is built for they are this many bytes.
const PAGE: u64 = 4096;

struct Process {
    parent: i32,
    group: i32,
    resident: u64,
}

fn all_pids() -> impl Iterator<Item = i32> {
    fs::read_dir("/proc").into_iter().flatten().flatten().filter_map(|e| e.file_name().to_str()?.parse().ok())
}

fn process(pid: i32) -> Option<Process> {
    let text = fs::read_to_string(format!("/proc/{pid}/stat")).ok()?;
    // The name, in parentheses, may hold anything.
    let fields: Vec<&str> = text.rsplit_once(')')?.1.split_whitespace().collect();
    let number = |at: usize| fields.get(at)?.parse::<i64>().ok();
    let resident = number(21)?.max(0) as u64 * PAGE;
    Some(Process { parent: number(1)? as i32, group: number(2)? as i32, resident })
}

/// Bytes of memory that a stage's processes hold, summed up. Pages that several share count for each, unless the
/// sum is above `limit`: then they are counted once.
pub(crate) fn memory_of(leader: Pid, mark: Option<&Mark>, limit: u64) -> u64 {
    let all: HashMap<i32, Process> = all_pids().filter_map(|pid| Some((pid, process(pid)?))).collect();
    let mut of_stage: HashSet<i32> = HashSet::new();
    let leader = leader.as_raw_nonzero().get();
    let own = std::process::id() as i32;
    let strayed = |pid: i32, p: &Process| p.parent == own && mark.is_some_and(|m| m.is_borne_by(pid));
    let mut todo: Vec<i32> =
        all.iter().filter(|(pid, p)| **pid == leader || p.group == leader || strayed(**pid, p)).map(|(pid, _)| *pid).collect();
    while let Some(pid) = todo.pop() {
        if of_stage.insert(pid) {
            todo.extend(all.iter().filter(|(_, p)| p.parent == pid).map(|(child, _)| *child));
        }
    }
    let resident: u64 = of_stage.iter().filter_map(|pid| all.get(pid)).map(|p| p.resident).sum();
    if resident <= limit { resident } else { of_stage.iter().map(|pid| proportional(*pid).unwrap_or(all[pid].resident)).sum() }
}

/// Memory of a process, what it shares with others divided among them.
fn proportional(pid: i32) -> Option<u64> {
    let text = fs::read_to_string(format!("/proc/{pid}/smaps_rollup")).ok()?;
    let line = text.lines().find(|l| l.starts_with("Pss:"))?;
    line.split_whitespace().nth(1)?.parse::<u64>().ok().map(|kib| kib * 1024)
}

fn own_children() -> Option<Vec<i32>> {
    let mut found = Vec::new();
    let mut any = false;
    for task in fs::read_dir("/proc/self/task").ok()?.flatten() {
        if let Ok(text) = fs::read_to_string(task.path().join("children")) {
            any = true;
            found.extend(text.split_whitespace().filter_map(|n| n.parse::<i32>().ok()));
        }
    }
    any.then_some(found)
}

fn end(pid: i32) {
    let Some(pid) = Pid::from_raw(pid) else { return };
    let _ = kill_process(pid, Signal::KILL);
    // Only what was adopted can be waited for; for anything else this is an error, and somebody else's to do.
    let _ = waitpid(Some(pid), WaitOptions::empty());
}

/// Ends what a stage has left running after its command has ended and its group was killed.
pub(crate) fn end_strays(mark: &Mark) {
    // Ending one may hand its children over: until none is found. Bounded, should one come after the other.
    for _ in 0..1000 {
        let Some(children) = own_children() else { return end_marked(mark) };
        let leaders = LEADERS.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let strays: Vec<i32> = children.into_iter().filter(|pid| !leaders.contains(pid) && mark.is_borne_by(*pid)).collect();
        if strays.is_empty() {
            return;
        }
        strays.into_iter().for_each(end);
    }
}

/// Ends every process of the machine that bears a mark: what outlived a lost Textum. Does nothing where the system
/// does not show environments.
pub(crate) fn end_marked(mark: &Mark) {
    let own = std::process::id() as i32;
    // Until they are gone: one that is just being ended may still write. Whoever cannot be ended is left in the end.
    for _ in 0..2000 {
        let living: Vec<i32> = all_pids().filter(|pid| *pid != own && mark.is_borne_by(*pid)).collect();
        if living.is_empty() {
            return;
        }
        for pid in living.into_iter().filter_map(Pid::from_raw) {
            let _ = kill_process(pid, Signal::KILL);
        }
        std::thread::sleep(std::time::Duration::from_millis(1));
    }
}
