//! This machine as a place: each command in a process group of its own, so that all of it can be ended.

use std::collections::HashMap;
use std::fs;
use std::os::unix::process::{CommandExt, ExitStatusExt};
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};
use std::sync::{Arc, Mutex, PoisonError};

use rustix::process::{Pid, Signal, WaitId, WaitIdOptions, kill_process_group, waitid};

use super::memory_group::MemoryGroup;
use super::processes::{self, Mark};
use super::{Cancel, Capacity, Executor, Job, JobId, JobState, TooMuchMemory};
use crate::fsio::{self, IoError};
use crate::project::fingerprint::{host, system};
use crate::record::receipt::{Exit, PlaceRecord};

/// This machine.
#[derive(Default)]
pub struct LocalExecutor {
    jobs: Mutex<HashMap<JobId, Arc<LocalJob>>>,
}

/// A job that this process has begun, or one of another process.
enum LocalJob {
    Own(OwnJob),
    /// One of this process's that has ended: all that is kept of it. A sweep has very many of them.
    Ended(Exit, bool),
    Other(Leader),
}

struct OwnJob {
    pid: Pid,
    /// How it stands; locked while its number is used, so that it is surely still its own.
    at: Mutex<At>,
    program: PathBuf,
    mark: Option<Mark>,
    memory: u64,
}

struct At {
    child: Child,
    memory_group: Option<MemoryGroup>,
    overstepped: bool,
    ended: Option<Exit>,
}

/// The first process of a job. A number alone may go to another process later: when it began tells them apart.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Leader {
    pid: Pid,
    began: u64,
    boot: String,
}

/// Joins the group whose door is the first word, then becomes the command. One that cannot be joined leaves the
/// command to be watched.
const JOIN: &str = r#"echo 0 2>/dev/null >"$0"; exec "$@""#;

fn boot() -> String {
    let id = fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default();
    id.trim().chars().take(8).collect()
}

impl Leader {
    /// The process with this number, as long as it has not been reaped; whether it still runs.
    fn of(pid: Pid) -> Option<(Leader, bool)> {
        let text = fs::read_to_string(format!("/proc/{}/stat", pid.as_raw_nonzero())).ok()?;
        // The name, in parentheses, may hold anything. See proc_pid_stat(5): what follows are fields 3 and on.
        let fields: Vec<&str> = text.rsplit_once(')')?.1.split_whitespace().collect();
        let runs = !matches!(*fields.first()?, "Z" | "X");
        Some((Leader { pid, began: fields.get(19)?.parse().ok()?, boot: boot() }, runs))
    }

    fn id(&self) -> JobId {
        JobId(format!("{}.{}.{}", self.pid.as_raw_nonzero(), self.began, self.boot))
    }

    fn named(id: &JobId) -> Option<Leader> {
        let (pid, rest) = id.0.split_once('.')?;
        let (began, boot) = rest.split_once('.')?;
        Some(Leader { pid: Pid::from_raw(pid.parse().ok().filter(|p| *p > 1)?)?, began: began.parse().ok()?, boot: boot.into() })
    }

    fn runs(&self) -> bool {
        Leader::of(self.pid).is_some_and(|(now, runs)| runs && now == *self)
    }
}

fn command_of(job: &Job, memory_group: Option<&MemoryGroup>) -> (std::process::Command, PathBuf) {
    let shell = ["/bin/sh", "-c"].map(String::from);
    let words = job.command.clone().into_words();
    let program = PathBuf::from(words.first().map_or("", String::as_str));
    let words = match textum_base::limits::open_files_before() {
        Some(most) => [&shell[..], &[format!("ulimit -Sn {most}; exec \"$@\""), "sh".to_string()], &words].concat(),
        None => words,
    };
    let command = match memory_group {
        Some(group) => {
            let mut command = std::process::Command::new(&shell[0]);
            command.arg(&shell[1]).arg(JOIN).arg(group.door()).args(&words);
            command
        }
        None => {
            let mut command = std::process::Command::new(words.first().map_or("", String::as_str));
            command.args(words.iter().skip(1));
            command
        }
    };
    (command, program)
}

impl LocalExecutor {
    /// Ends a job that has ended: what it left running goes, and only how it ended is kept.
    fn finish(&self, id: &JobId, own: &OwnJob) -> Result<Exit, IoError> {
        let (exit, overstepped) = own.finish()?;
        self.jobs.lock().unwrap_or_else(PoisonError::into_inner).insert(id.clone(), Arc::new(LocalJob::Ended(exit, overstepped)));
        Ok(exit)
    }

    fn job(&self, id: &JobId) -> Option<Arc<LocalJob>> {
        self.jobs.lock().unwrap_or_else(PoisonError::into_inner).get(id).cloned()
    }
}

impl Executor for LocalExecutor {
    fn record(&self) -> PlaceRecord {
        PlaceRecord {
            kind: "local".into(),
            host: host(),
            system: system(),
            name: None,
            job: None,
            processor: None,
            gpus: None,
            waited_ms: None,
            held_ms: None,
        }
    }

    fn capacity(&self, most: Option<usize>) -> Capacity {
        Capacity::of_machine(most)
    }

    fn submit(&self, job: &Job) -> Result<JobId, IoError> {
        let open = || fsio::append(&job.log);
        let memory = job.needs.memory;
        let memory_group = if memory > 0 { MemoryGroup::make(memory) } else { None };
        let (mut command, program) = command_of(job, memory_group.as_ref());
        command
            .current_dir(&job.folder)
            .env_clear()
            .envs(job.variables.iter().map(|(k, v)| (k, v)))
            .stdin(Stdio::null())
            .stdout(open()?)
            .stderr(open()?)
            .process_group(0);
        processes::adopt_orphans();
        let child = command.spawn().map_err(IoError::of("start the command", &program))?;
        let no_number = || IoError::of("start the command", &program)(std::io::Error::other("it has no process number"));
        let pid = i32::try_from(child.id()).ok().and_then(Pid::from_raw).ok_or_else(no_number)?;
        processes::lead(pid);
        // It has not been waited for: its number is its own, and /proc knows it.
        let id = Leader::of(pid).map_or_else(|| JobId(format!("{}.0.{}", pid.as_raw_nonzero(), boot())), |(leader, _)| leader.id());
        let at = Mutex::new(At { child, memory_group, overstepped: false, ended: None });
        let own = OwnJob { pid, at, program, mark: Mark::of(&job.variables), memory };
        self.jobs.lock().unwrap_or_else(PoisonError::into_inner).insert(id.clone(), Arc::new(LocalJob::Own(own)));
        Ok(id)
    }

    fn poll(&self, ids: &[JobId]) -> Result<Vec<JobState>, IoError> {
        let state = |id: &JobId| match self.job(id).as_deref() {
            Some(LocalJob::Own(own)) if own.has_ended() => self.finish(id, own).map(JobState::Ended),
            Some(LocalJob::Ended(exit, _)) => Ok(JobState::Ended(*exit)),
            Some(LocalJob::Own(_)) => Ok(JobState::Running),
            Some(LocalJob::Other(leader)) if leader.runs() => Ok(JobState::Running),
            // Whose child it was knows how it ended.
            Some(LocalJob::Other(_)) | None => Ok(JobState::Lost),
        };
        ids.iter().map(state).collect()
    }

    fn cancel(&self, id: &JobId, how: Cancel) -> Result<(), IoError> {
        let signal = if how == Cancel::Ask { Signal::INT } else { Signal::KILL };
        match self.job(id).as_deref() {
            Some(LocalJob::Own(own)) => {
                own.signal(signal);
                if how == Cancel::AtOnce {
                    own.mark.iter().for_each(processes::end_strays);
                }
            }
            Some(LocalJob::Other(leader)) if leader.runs() => {
                let _ = kill_process_group(leader.pid, signal);
            }
            Some(LocalJob::Other(_) | LocalJob::Ended(..)) | None => {}
        }
        Ok(())
    }

    fn attach(&self, id: &JobId) -> Result<bool, IoError> {
        if self.job(id).is_some() {
            return Ok(true);
        }
        let Some(leader) = Leader::named(id).filter(Leader::runs) else { return Ok(false) };
        self.jobs.lock().unwrap_or_else(PoisonError::into_inner).insert(id.clone(), Arc::new(LocalJob::Other(leader)));
        Ok(true)
    }

    fn wait(&self, id: &JobId) -> Result<Exit, IoError> {
        let lost = |what: &str| IoError::of("wait for the job", Path::new(&id.0))(std::io::Error::other(what.to_string()));
        match self.job(id).as_deref() {
            Some(LocalJob::Own(own)) => {
                own.wait();
                self.finish(id, own)
            }
            Some(LocalJob::Ended(exit, _)) => Ok(*exit),
            Some(LocalJob::Other(leader)) => {
                while leader.runs() {
                    std::thread::sleep(super::LONGEST_PAUSE);
                }
                Err(lost("another process began it: how it ended cannot be told"))
            }
            None => Err(lost("there is no such job")),
        }
    }

    fn too_much_memory(&self, id: &JobId) -> Option<TooMuchMemory> {
        match &*self.job(id)? {
            LocalJob::Own(own) => own.too_much_memory(),
            LocalJob::Ended(_, overstepped) => overstepped.then_some(TooMuchMemory::Refused),
            LocalJob::Other(_) => None,
        }
    }
}

impl OwnJob {
    fn at(&self) -> std::sync::MutexGuard<'_, At> {
        self.at.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Signals the group while its leader has not been reaped, so that the number is surely still its own.
    fn signal(&self, signal: Signal) {
        let at = self.at();
        if at.ended.is_none() {
            // An error means that there is nobody left to hear it.
            let _ = kill_process_group(self.pid, signal);
        }
    }

    /// Whether its command has ended; without reaping it.
    fn has_ended(&self) -> bool {
        let at = self.at();
        let options = WaitIdOptions::EXITED | WaitIdOptions::NOWAIT | WaitIdOptions::NOHANG;
        at.ended.is_some() || !matches!(waitid(WaitId::Pid(self.pid), options), Ok(None) | Err(rustix::io::Errno::INTR))
    }

    fn wait(&self) {
        // Waited for without reaping: what the command left running is ended while the group's number
        // cannot have gone to anybody else.
        while let Err(e) = waitid(WaitId::Pid(self.pid), WaitIdOptions::EXITED | WaitIdOptions::NOWAIT) {
            if e != rustix::io::Errno::INTR {
                break;
            }
        }
    }

    /// Ends what the command has left running, and reaps it; whether it had wanted too much memory.
    fn finish(&self) -> Result<(Exit, bool), IoError> {
        let mut at = self.at();
        if let Some(exit) = at.ended {
            return Ok((exit, at.overstepped));
        }
        let _ = kill_process_group(self.pid, Signal::KILL);
        let status = at.child.wait().map_err(IoError::of("wait for", &self.program))?;
        let exit = match status.code() {
            Some(code) => Exit::Code(code),
            None => Exit::Signal(status.signal().unwrap_or_default()),
        };
        at.ended = Some(exit);
        at.overstepped = at.memory_group.as_ref().is_some_and(MemoryGroup::has_overstepped);
        processes::follow_no_more(self.pid);
        // What left the group, a daemon for example, ends with its stage.
        self.mark.iter().for_each(processes::end_strays);
        at.memory_group = None;
        Ok((exit, at.overstepped))
    }

    fn too_much_memory(&self) -> Option<TooMuchMemory> {
        let at = self.at();
        if at.overstepped || at.memory_group.as_ref().is_some_and(MemoryGroup::has_overstepped) {
            return Some(TooMuchMemory::Refused);
        }
        if at.ended.is_some() {
            return None;
        }
        let held = processes::memory_of(self.pid, self.mark.as_ref(), self.memory);
        (held > self.memory).then_some(TooMuchMemory::Held(held))
    }
}
