//! A cluster of the Slurm Workload Manager as a place, through its commands `sbatch`, `squeue` and `scancel`.
//!
//! The folder that a stage works in, and that of its run, are seen by both sides. Beside the log a job leaves `begun`, where it
//! is at work, and `end`, its exit status. How it stands is judged by what the engine says, never by an exit status alone; an
//! engine that does not answer is asked again. One thread asks for all jobs in one call.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::io::Write;
use std::os::unix::ffi::{OsStrExt, OsStringExt};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use super::{Cancel, Capacity, Executor, Job, JobCommand, JobId, JobState};
use crate::config::manifest::{Needs, PlaceDecl, shell_word};
use crate::fsio::{self, IoError};
use crate::project::fingerprint::{host, system};
use crate::record::receipt::{Exit, PlaceRecord};

/// The shortest and the longest pause between two questions.
const PAUSES: (Duration, Duration) = (Duration::from_millis(200), Duration::from_secs(3));
/// So long an answer is waited for.
const ANSWER: Duration = Duration::from_secs(60);
/// So long a submission is tried while the engine does not answer.
const PATIENCE: Duration = Duration::from_secs(600);
/// So long what a job left is waited for after its end: folders that several machines share show files late.
const LATE: Duration = Duration::from_secs(10);

/// In the folder of a stage's log: the name by which its job was submitted.
const SUBMITTED: &str = "submitted";

/// Ends the job of a stage whose Textum is gone, if one was submitted, and waits until it has. An error says that the engine
/// did not answer, so that it may be at work.
pub fn end_submitted(folder: &Path) -> Result<(), IoError> {
    let Ok(name) = std::fs::read_to_string(folder.join(SUBMITTED)) else { return Ok(()) };
    let name = name.trim();
    if !is_ours(name) {
        return Ok(());
    }
    let cluster = SlurmExecutor { name: name.to_string(), options: Vec::new(), jobs: 1, shared: Arc::default() };
    let unanswered = |e: String| {
        let what = format!("a job of a run that was cut off may still be at work, and its cluster does not say: {e}");
        IoError::of("end", Path::new(name))(std::io::Error::other(what))
    };
    let Some(number) = cluster.number_of(name).map_err(unanswered)? else { return Ok(()) };
    let id = Known::new(number, name, folder.to_path_buf()).id();
    if cluster.attach(&id).map_err(|e| unanswered(e.to_string()))? {
        cluster.cancel(&id, Cancel::AtOnce).map_err(|e| unanswered(e.to_string()))?;
        // Its word that it has ended counts, whatever it says of how.
        let _ = cluster.wait(&id);
    }
    Ok(())
}

/// A cluster.
pub struct SlurmExecutor {
    name: String,
    options: Vec<String>,
    jobs: u32,
    shared: Arc<Shared>,
}

#[derive(Default)]
struct Shared {
    jobs: Mutex<BTreeMap<JobId, Known>>,
    news: Condvar,
    asking: Mutex<bool>,
    /// Needs that something there can meet.
    met: Mutex<Vec<Needs>>,
}

/// What is known of a job.
#[derive(Clone, Debug)]
struct Known {
    number: u64,
    /// What it was submitted as; what it leaves is called so too.
    name: String,
    /// The folder of its log.
    folder: PathBuf,
    state: JobState,
    /// What the engine says of it, in its words.
    engine: String,
    /// Why it has ended, where that was not its command's doing.
    why: Option<String>,
    /// Since when its end is known without what it must have left.
    ended: Option<Instant>,
    /// Whether it was ended from here.
    cancelled: bool,
}

impl Known {
    fn new(number: u64, name: &str, folder: PathBuf) -> Known {
        let name = name.to_string();
        Known { number, name, folder, state: JobState::Waiting, engine: String::new(), why: None, ended: None, cancelled: false }
    }

    /// Its number, its name and its folder, in one word.
    fn id(&self) -> JobId {
        let is_plain = |b: &u8| b.is_ascii_graphic() && *b != b'%';
        let bytes = self.folder.as_os_str().as_bytes();
        let folder: String =
            bytes.iter().map(|b| if is_plain(b) { char::from(*b).to_string() } else { format!("%{b:02x}") }).collect();
        JobId(format!("{}.{}.{folder}", self.number, self.name))
    }

    fn named(id: &JobId) -> Option<Known> {
        let mut parts = id.0.splitn(3, '.');
        let (number, name, folder) = (parts.next()?.parse().ok()?, parts.next()?, parts.next()?);
        let mut bytes = Vec::new();
        let mut rest = folder.bytes();
        while let Some(byte) = rest.next() {
            bytes.push(match byte {
                b'%' => u8::from_str_radix(std::str::from_utf8(&[rest.next()?, rest.next()?]).ok()?, 16).ok()?,
                plain => plain,
            });
        }
        is_ours(name).then(|| Known::new(number, name, PathBuf::from(OsString::from_vec(bytes))))
    }

    fn file(&self, what: &str) -> PathBuf {
        self.folder.join(format!("{}.{what}", self.name))
    }

    /// Why a job that left no exit status has ended, as far as the engine's own lines tell.
    fn without_status(&self) -> String {
        let said = std::fs::read_to_string(self.file("cluster.log")).unwrap_or_default();
        let last = said.lines().rev().map(str::trim).find(|l| !l.is_empty()).unwrap_or_default();
        if said.to_lowercase().contains("memory limit") {
            return meaning("OUT_OF_MEMORY").flatten().unwrap_or_default().to_string();
        }
        let last: String = last.chars().take(300).collect();
        let last = if last.is_empty() { String::new() } else { format!(": {last}") };
        format!("it ended without leaving its exit status; the cluster says {}{last}", self.engine)
    }

    fn left(&self) -> Option<Exit> {
        std::fs::read_to_string(self.file("end")).ok()?.trim().parse().ok().map(exit_of)
    }
}

fn is_ours(name: &str) -> bool {
    name.strip_prefix("textum-").is_some_and(|rest| rest.len() == 16 && rest.bytes().all(|b| b.is_ascii_hexdigit()))
}

/// The engine's version, and its partitions in its words.
pub fn engine() -> Result<(String, Vec<String>), String> {
    let version = ask(&words(&["sinfo", "--version"]), None)?;
    let partitions =
        ask(&words(&["sinfo", "--noheader", "--format=%P  %D nodes %T, %c processors and %m MB each, %G, at most %l"]), None)?;
    Ok((version.trim().to_string(), partitions.lines().map(|l| l.trim().to_string()).collect()))
}

/// Runs a command of the engine; what it printed, or why it did not succeed.
fn ask(words: &[String], input: Option<&str>) -> Result<String, String> {
    let mut command = Command::new(&words[0]);
    command.args(&words[1..]).stdin(if input.is_some() { Stdio::piped() } else { Stdio::null() });
    command.stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = command.spawn().map_err(|e| format!("{} cannot be started: {e}", words[0]))?;
    if let (Some(text), Some(mut stdin)) = (input, child.stdin.take()) {
        // One that does not read it says why by itself.
        let _ = stdin.write_all(text.as_bytes());
    }
    let pid = child.id();
    let (done, over) = std::sync::mpsc::channel();
    let waiting = std::thread::spawn(move || {
        let _ = done.send(child.wait_with_output());
    });
    let output = match over.recv_timeout(ANSWER) {
        Ok(output) => output.map_err(|e| format!("{}: {e}", words[0]))?,
        Err(_) => {
            if let Some(pid) = i32::try_from(pid).ok().and_then(rustix::process::Pid::from_raw) {
                let _ = rustix::process::kill_process(pid, rustix::process::Signal::KILL);
            }
            let _ = waiting.join();
            return Err(format!("{} did not answer for {} s", words[0], ANSWER.as_secs()));
        }
    };
    if output.status.success() {
        return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
    }
    let said = String::from_utf8_lossy(&output.stderr);
    let said: Vec<&str> = said.lines().map(str::trim).filter(|l| !l.is_empty()).collect();
    Err(if said.is_empty() { format!("{} ended with {}", words[0], output.status) } else { said.join("; ") })
}

fn words(all: &[&str]) -> Vec<String> {
    all.iter().map(|w| (*w).to_string()).collect()
}

/// Whether an error says that the engine could not be reached, rather than that it refuses.
fn is_silence(error: &str) -> bool {
    const SIGNS: [&str; 9] = [
        "did not answer",
        "Unable to contact slurm controller",
        "Socket timed out",
        "Connection refused",
        "Zero Bytes were transmitted",
        "Transport endpoint is not connected",
        "Connection timed out",
        "Unexpected message received",
        "Protocol authentication error",
    ];
    SIGNS.iter().any(|sign| error.contains(sign))
}

/// The command with its whole environment, for a file of its own: the engine keeps and shows the scripts that it is given,
/// and there are secrets among the variables.
fn command_file(job: &Job) -> String {
    let variables: String =
        job.variables.iter().map(|(name, value)| format!(" {}", shell_word(&format!("{name}={value}")))).collect();
    let command = match &job.command {
        JobCommand::Shell(text) => format!("/bin/sh -c {}", shell_word(text)),
        JobCommand::Argv(words) => words.iter().map(|w| shell_word(w)).collect::<Vec<_>>().join(" "),
    };
    format!("exec env -i{variables} \"$@\" {command}\n")
}

/// What one job is given: where it works, what it executes, and what is left of it.
fn script(job: &Job, folder: &Path, name: &str) -> String {
    let word = |path: &Path| shell_word(&path.display().to_string());
    let (work, here, log) = (word(&job.folder), word(folder), word(&job.log));
    format!(
        r#"#!/bin/sh
# What tells it to end tells its command too, whose exit status is then still to be written.
trap : INT TERM
cd {here} || exit 125
{{ echo "${{SLURMD_NODENAME:-$(uname -n)}}"; echo "$SLURM_JOB_ID"; sed -n 's/^model name[^:]*: *//p' /proc/cpuinfo | head -n 1; echo "${{CUDA_VISIBLE_DEVICES:-}}"; }} > {name}.part && mv {name}.part {name}.begun
cd {work} || {{ echo 125 > {here}/{name}.end; exit 125; }}
# Graphics processors that were given to the job, and nothing else of the engine's.
set -- ${{CUDA_VISIBLE_DEVICES:+"CUDA_VISIBLE_DEVICES=$CUDA_VISIBLE_DEVICES"}}
/bin/sh {here}/{name}.command "$@" >> {log} 2>&1 < /dev/null
code=$?
# What the command has left running is of the same process group, and ends with it.
trap '' TERM
[ "$(ps -o pgid= -p $$ | tr -d ' ')" = $$ ] && kill -TERM 0
echo $code > {here}/{name}.part && mv {here}/{name}.part {here}/{name}.end
exit $code
"#
    )
}

/// What a job's state in the engine's words means: `None` while it has not ended, else why it has, where that was not its
/// command's doing.
fn meaning(state: &str) -> Option<Option<&'static str>> {
    Some(match state {
        "COMPLETED" | "FAILED" => None,
        "TIMEOUT" | "DEADLINE" => Some("the cluster ended it at its time limit, `needs = { time = … }`"),
        "OUT_OF_MEMORY" => Some("the cluster ended it since it wanted more memory than its `needs` say"),
        "NODE_FAIL" | "BOOT_FAIL" => Some("the cluster lost the node that it was on"),
        "PREEMPTED" => Some("the cluster gave its place to a job of higher priority"),
        "CANCELLED" | "REVOKED" => Some("it was cancelled in the cluster"),
        _ => return None,
    })
}

fn exit_of(code: i32) -> Exit {
    // As a shell tells of a command that a signal has ended.
    if (129..=192).contains(&code) { Exit::Signal(code - 128) } else { Exit::Code(code) }
}

impl Known {
    /// Takes in what the engine says, or that it knows the job no more.
    fn take(&mut self, said: Option<(&str, &str)>) {
        if matches!(self.state, JobState::Ended(_) | JobState::Lost) {
            return;
        }
        let Some((state, reason)) = said else {
            self.state = match self.left() {
                Some(exit) => JobState::Ended(exit),
                None if self.is_late() => JobState::Lost,
                None => return,
            };
            return;
        };
        self.engine = if reason.is_empty() || reason == "None" { state.to_string() } else { format!("{state}, {reason}") };
        match meaning(state) {
            None if state == "PENDING" || state == "CONFIGURING" || state.starts_with("REQUEUE") => self.state = JobState::Waiting,
            // What it must leave is there: the engine only has not heard of it, after it was lost for example.
            None => match self.left() {
                Some(exit) if self.is_late() => self.state = JobState::Ended(exit),
                _ => self.state = JobState::Running,
            },
            Some(_) if self.cancelled => self.state = JobState::Ended(self.left().unwrap_or(Exit::Signal(9))),
            Some(why) => match self.left() {
                Some(exit) if why.is_none() || exit == Exit::Code(0) => self.state = JobState::Ended(exit),
                exit if why.is_some() || self.is_late() => {
                    self.why = Some(why.map_or_else(|| self.without_status(), str::to_string));
                    self.state = JobState::Ended(exit.unwrap_or(Exit::Signal(9)));
                }
                _ => {}
            },
        }
    }

    fn is_late(&mut self) -> bool {
        self.ended.get_or_insert_with(Instant::now).elapsed() >= LATE
    }
}

impl Shared {
    fn jobs(&self) -> MutexGuard<'_, BTreeMap<JobId, Known>> {
        self.jobs.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Asks for all jobs that have not ended, in one call.
    fn look(&self) -> Result<(), String> {
        let open: Vec<u64> =
            self.jobs().values().filter(|k| !matches!(k.state, JobState::Ended(_) | JobState::Lost)).map(|k| k.number).collect();
        if open.is_empty() {
            return Ok(());
        }
        let list = open.iter().map(u64::to_string).collect::<Vec<_>>().join(",");
        let all = words(&["squeue", "--noheader", "--states=all", "--format=%A|%T|%r", &format!("--jobs={list}")]);
        let said = match ask(&all, None) {
            Ok(said) => said,
            // Of jobs that it has forgotten, all of them, it says that there are none such.
            Err(e) if e.contains("Invalid job id") => String::new(),
            Err(e) => return Err(e),
        };
        let mut states: BTreeMap<u64, (&str, &str)> = BTreeMap::new();
        for line in said.lines() {
            let mut parts = line.trim().splitn(3, '|');
            let (Some(number), Some(state)) = (parts.next().and_then(|n| n.parse().ok()), parts.next()) else { continue };
            states.insert(number, (state, parts.next().unwrap_or_default()));
        }
        for known in self.jobs().values_mut().filter(|k| open.contains(&k.number)) {
            known.take(states.get(&known.number).copied());
        }
        self.news.notify_all();
        Ok(())
    }

    /// Asks until every job has ended; one thread does so for all that wait.
    fn keep_asking(self: &Arc<Shared>) {
        let mut asking = self.asking.lock().unwrap_or_else(PoisonError::into_inner);
        if std::mem::replace(&mut *asking, true) {
            return;
        }
        drop(asking);
        let shared = self.clone();
        std::thread::spawn(move || {
            let mut pause = PAUSES.0;
            loop {
                std::thread::sleep(pause);
                let before = shared.jobs().values().map(|k| k.state).collect::<Vec<_>>();
                if let Err(e) = shared.look() {
                    tracing::debug!(error = %e, "the cluster does not answer");
                }
                let now = shared.jobs().values().map(|k| k.state).collect::<Vec<_>>();
                // Where something happens more will; where nothing does the engine is left in peace.
                pause = if before == now { (pause * 3 / 2).min(PAUSES.1) } else { PAUSES.0 };
                let mut asking = shared.asking.lock().unwrap_or_else(PoisonError::into_inner);
                if now.iter().all(|s| matches!(s, JobState::Ended(_) | JobState::Lost)) {
                    *asking = false;
                    return;
                }
            }
        });
    }
}

impl SlurmExecutor {
    /// The cluster of a declared place.
    pub fn of(decl: &PlaceDecl) -> SlurmExecutor {
        SlurmExecutor { name: decl.name.clone(), options: decl.options.clone(), jobs: decl.jobs, shared: Arc::default() }
    }

    fn failed(&self, action: &'static str, what: String) -> IoError {
        IoError::of(action, Path::new(&format!("[place.{}]", self.name)))(std::io::Error::other(what))
    }

    fn submission(&self, job: &Job, name: &str, folder: &Path) -> Vec<String> {
        let mut all = words(&["sbatch", "--parsable", "--no-requeue", "--export=NIL", "--open-mode=append"]);
        all.push(format!("--job-name={name}"));
        all.push(format!("--chdir={}", folder.display()));
        // What the engine itself says of the job, its end by force for example.
        all.push(format!("--output={}", folder.join(format!("{name}.cluster.log")).display()));
        all.push(format!("--cpus-per-task={}", job.needs.cpus));
        if job.needs.memory > 0 {
            all.push(format!("--mem={}M", job.needs.memory.div_ceil(1 << 20)));
        }
        if job.needs.gpus > 0 {
            all.push(format!("--gpus={}", job.needs.gpus));
        }
        if let Some(seconds) = job.needs.time {
            all.push(format!("--time={}", seconds.div_ceil(60).max(1)));
        }
        all.extend(self.options.iter().cloned());
        all
    }

    /// Asks whether any node could ever carry such a job out: what none can would wait for ever. Once for the same needs.
    fn can_meet(&self, job: &Job, folder: &Path) -> Result<(), IoError> {
        let mut met = self.shared.met.lock().unwrap_or_else(PoisonError::into_inner);
        if met.contains(&job.needs) {
            return Ok(());
        }
        let mut all = self.submission(job, "textum", folder);
        all.push("--test-only".to_string());
        match ask(&all, Some("#!/bin/sh\ntrue\n")) {
            Ok(_) => met.push(job.needs),
            // That nobody answers is told, or waited out, when it is submitted.
            Err(e) if is_silence(&e) || e.contains("cannot be started") => {}
            Err(e) => return Err(self.failed("submit a job to", format!("nothing there can meet its `needs`: {e}"))),
        }
        Ok(())
    }

    /// How a job ended, if it does within this time.
    pub fn wait_at_most(&self, id: &JobId, most: Duration) -> Result<Option<Exit>, IoError> {
        let (begun, mut jobs) = (Instant::now(), self.shared.jobs());
        loop {
            match jobs.get(id).map(|k| k.state) {
                Some(JobState::Ended(exit)) => return Ok(Some(exit)),
                Some(JobState::Lost) | None => return Err(self.failed("wait for a job of", "how it ended cannot be told".into())),
                Some(JobState::Waiting | JobState::Running) => {}
            }
            let Some(left) = most.checked_sub(begun.elapsed()) else { return Ok(None) };
            jobs = self.shared.news.wait_timeout(jobs, left).unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    /// What the engine last said of a job, in its words.
    pub fn engine_says(&self, id: &JobId) -> String {
        self.shared.jobs().get(id).map(|k| k.engine.clone()).filter(|s| !s.is_empty()).unwrap_or_else(|| "nothing".into())
    }

    /// The number of a job that was submitted by this name, where the answer to it was lost.
    fn number_of(&self, name: &str) -> Result<Option<u64>, String> {
        let all = words(&["squeue", "--noheader", "--states=all", "--format=%A", &format!("--name={name}")]);
        ask(&all, None).map(|said| said.lines().next().and_then(|l| l.trim().parse().ok()))
    }

    /// Submits, once: an engine that does not answer is asked, when it does again, whether it has the job.
    fn submit_once(&self, job: &Job, folder: &Path, name: &str) -> Result<u64, String> {
        let text = script(job, folder, name);
        // Before it is the engine's: whoever finds this process gone asks for it by this name.
        fsio::write_derived(&folder.join(SUBMITTED), name.as_bytes()).map_err(|e| e.to_string())?;
        // Its folder is private.
        let command = folder.join(format!("{name}.command"));
        fsio::write_derived(&command, command_file(job).as_bytes()).map_err(|e| e.to_string())?;
        let (begun, mut pause) = (Instant::now(), PAUSES.0);
        loop {
            let error = match ask(&self.submission(job, name, folder), Some(&text)) {
                Ok(said) => match said.trim().split(';').next().and_then(|n| n.parse().ok()) {
                    Some(number) => return Ok(number),
                    None => return Err(format!("sbatch answered {:?}, which is no number of a job", said.trim())),
                },
                Err(e) => e,
            };
            if !is_silence(&error) {
                return Err(error);
            }
            loop {
                if begun.elapsed() >= PATIENCE {
                    return Err(format!("the cluster has not answered for {} min: {error}", PATIENCE.as_secs() / 60));
                }
                std::thread::sleep(pause);
                pause = (pause * 2).min(PAUSES.1);
                match self.number_of(name) {
                    Ok(Some(number)) => return Ok(number),
                    Ok(None) => break,
                    Err(_) => {}
                }
            }
        }
    }
}

impl Executor for SlurmExecutor {
    fn record(&self) -> PlaceRecord {
        PlaceRecord {
            kind: "slurm".into(),
            host: host(),
            system: system(),
            name: Some(self.name.clone()),
            job: None,
            processor: None,
            gpus: None,
            waited_ms: None,
        }
    }

    fn capacity(&self, most: Option<usize>) -> Capacity {
        Capacity::of_machine(most).with_place(&self.name, self.jobs as usize)
    }

    fn submit(&self, job: &Job) -> Result<JobId, IoError> {
        let folder = job.log.parent().unwrap_or(&job.folder).to_path_buf();
        self.can_meet(job, &folder)?;
        let name = format!("textum-{:016x}", rand::random::<u64>());
        let number = self.submit_once(job, &folder, &name).map_err(|e| self.failed("submit a job to", e))?;
        let known = Known::new(number, &name, folder);
        let id = known.id();
        self.shared.jobs().insert(id.clone(), known);
        self.shared.keep_asking();
        Ok(id)
    }

    fn poll(&self, ids: &[JobId]) -> Result<Vec<JobState>, IoError> {
        self.shared.look().map_err(|e| self.failed("ask", e))?;
        let jobs = self.shared.jobs();
        Ok(ids.iter().map(|id| jobs.get(id).map_or(JobState::Lost, |k| k.state)).collect())
    }

    fn cancel(&self, id: &JobId, how: Cancel) -> Result<(), IoError> {
        let Some(known) = self.shared.jobs().get(id).cloned() else { return Ok(()) };
        if matches!(known.state, JobState::Ended(_)) {
            return Ok(());
        }
        let number = known.number.to_string();
        // The whole job hears it, also what the script has started.
        let orders = match (how, known.state) {
            (Cancel::Ask, JobState::Running) => vec![words(&["scancel", "--full", "--signal=INT", &number])],
            (_, JobState::Running) => vec![words(&["scancel", "--full", "--signal=KILL", &number]), words(&["scancel", &number])],
            _ => vec![words(&["scancel", &number])],
        };
        for order in orders {
            match ask(&order, None) {
                Ok(_) => {}
                Err(e) if e.contains("Invalid job id") || e.contains("already complet") || e.contains("not running") => {}
                Err(e) => return Err(self.failed("cancel a job of", e)),
            }
        }
        if let Some(known) = self.shared.jobs().get_mut(id) {
            known.cancelled |= how == Cancel::AtOnce || known.state == JobState::Waiting;
        }
        Ok(())
    }

    fn attach(&self, id: &JobId) -> Result<bool, IoError> {
        let Some(known) = Known::named(id) else { return Ok(false) };
        self.shared.jobs().entry(id.clone()).or_insert(known);
        // Nobody knows whether it is there as long as the engine does not answer.
        self.shared.look().map_err(|e| self.failed("ask", e))?;
        let known = self.shared.jobs().get(id).map(|k| (k.state, k.engine.is_empty()));
        let is_known = known.is_some_and(|(state, silent)| state != JobState::Lost && !(silent && state == JobState::Waiting));
        if is_known {
            self.shared.keep_asking();
        } else {
            self.shared.jobs().remove(id);
        }
        Ok(is_known)
    }

    fn wait(&self, id: &JobId) -> Result<Exit, IoError> {
        loop {
            if let Some(exit) = self.wait_at_most(id, PAUSES.1)? {
                return Ok(exit);
            }
        }
    }

    fn why(&self, id: &JobId) -> Option<String> {
        self.shared.jobs().get(id)?.why.clone()
    }

    fn record_of(&self, id: &JobId) -> PlaceRecord {
        let known = self.shared.jobs().get(id).cloned();
        let begun = known.as_ref().and_then(|k| std::fs::read_to_string(k.file("begun")).ok()).unwrap_or_default();
        let lines: Vec<&str> = begun.lines().map(str::trim).collect();
        let line = |at: usize| lines.get(at).filter(|l| !l.is_empty() && l.len() <= 200).map(|l| (*l).to_string());
        let written = |path: PathBuf| std::fs::metadata(path).and_then(|m| m.modified()).ok();
        // Both by the clock of the folder that both sides see.
        let waited = known.as_ref().and_then(|k| written(k.file("begun"))?.duration_since(written(k.folder.join(SUBMITTED))?).ok());
        PlaceRecord {
            waited_ms: waited.and_then(|w| u64::try_from(w.as_millis()).ok()),
            host: line(0).unwrap_or_else(host),
            job: known.map(|k| k.number.to_string()),
            processor: line(2),
            gpus: line(3),
            ..self.record()
        }
    }
}
