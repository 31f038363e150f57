//! What an engine that carries out jobs is asked, whatever it is.

use std::collections::BTreeMap;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use super::job::Known;
use crate::config::manifest::Needs;
use crate::pipeline::executor::{Cancel, Job};

/// So long an answer is waited for.
const ANSWER: Duration = Duration::from_secs(60);

/// Why an engine did not do what it was asked.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fault {
    /// It did not answer: whether it did it is not known.
    Silent(String),
    /// It does not do it.
    Refused(String),
    /// It takes no more jobs for now, and did not take these.
    Full(String),
    /// It never takes so many in one call.
    TooMany(String),
}

impl Fault {
    /// What it said, or what was seen.
    pub fn words(&self) -> &str {
        match self {
            Fault::Silent(words) | Fault::Refused(words) | Fault::Full(words) | Fault::TooMany(words) => words,
        }
    }
}

/// Why a job has ended, where that was not its command's doing.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Cause {
    /// It came to its time limit.
    Time,
    /// It wanted more memory than it was given.
    Memory,
    /// The node, or the way to it, was lost.
    Node,
    /// The engine could not begin it on its node: nothing of it was executed.
    NotBegun,
    /// It had to make room for another.
    Preempted,
    /// Somebody cancelled it there.
    Cancelled,
}

impl Cause {
    /// In words.
    pub fn words(self) -> &'static str {
        match self {
            Cause::Time => "the cluster ended it at its time limit, `needs = { time = … }`",
            Cause::Memory => "the cluster ended it since it wanted more memory than its `needs` say",
            Cause::Node => "the cluster lost the node that it was on",
            Cause::NotBegun => "the cluster could not begin it",
            Cause::Preempted => "the cluster gave its place to a job of higher priority",
            Cause::Cancelled => "it was cancelled in the cluster",
        }
    }

    /// Whether the same would do better another time, without anybody having changed anything.
    pub fn may_pass(self) -> bool {
        matches!(self, Cause::Node | Cause::NotBegun | Cause::Preempted)
    }
}

/// How a job stands, by its engine's word.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Stand {
    /// It waits for room.
    Waiting,
    /// It is at work.
    Running,
    /// It has ended by itself: what it left says how.
    Over,
    /// It was ended.
    Ended(Cause),
}

/// What an engine says of a job.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Told {
    /// How it stands.
    pub stand: Stand,
    /// In its own words.
    pub words: String,
}

/// A job to be submitted.
#[derive(Clone, Debug)]
pub struct Submission {
    /// The job.
    pub job: Job,
    /// What it is called; what it leaves is called so too.
    pub name: String,
    /// The folder of its log, where its script stands.
    pub folder: PathBuf,
}

/// A job as a queue is given it: its files stand where the queue sees them.
#[derive(Clone, Debug)]
pub struct Placed {
    /// What it is called.
    pub name: String,
    /// What it needs.
    pub needs: Needs,
    /// The folder of its log, as the queue sees it.
    pub folder: PathBuf,
    /// The same folder as it is here, for what must be known here of it.
    pub here: PathBuf,
    /// The script that carries it out, which stands in `folder` as `NAME.script`.
    pub script: String,
}

impl Placed {
    /// Where its script stands, as the queue sees it.
    pub fn script_path(&self) -> PathBuf {
        self.folder.join(format!("{}.script", self.name))
    }
}

/// Where the commands of a queue are executed: on this machine, or on the one that it is reached through.
pub struct Site<'a> {
    /// Executes a command, of these words and with this input, which may take so long.
    pub ask: &'a AskAt<'a>,
    /// The folder in which commands of the manifest are executed, as the queue sees it.
    pub root: Option<PathBuf>,
    /// A folder for what many jobs have in common, as the queue sees it.
    pub common: Option<PathBuf>,
    /// Whether that is another machine, which shares no folder with this one.
    pub is_far: bool,
}

/// See [`Site::ask`].
pub type AskAt<'a> = dyn Fn(&[String], Option<&[u8]>, Duration) -> Result<String, Fault> + Sync + 'a;

impl Site<'_> {
    /// What a command prints.
    pub fn ask(&self, words: &[String], input: Option<&[u8]>) -> Result<String, Fault> {
        (self.ask)(words, input, ANSWER)
    }
}

/// What takes jobs on and begins them when there is room, through commands of its own.
pub trait Queue: Send + Sync {
    /// What receipts call it.
    fn kind(&self) -> &'static str;

    /// Its version, and what it offers, in its words.
    fn describe(&self, site: &Site<'_>) -> Result<(String, Vec<String>), Fault>;

    /// Refuses what nothing there could ever carry out; what it cannot tell is fine.
    fn can_meet(&self, _site: &Site<'_>, _needs: &Needs, _folder: &Path) -> Result<(), Fault> {
        Ok(())
    }

    /// So many jobs of the same needs can be submitted in one call.
    fn most_together(&self) -> usize {
        1
    }

    /// Submits jobs of the same needs; what each is called there, in their order.
    fn submit(&self, site: &Site<'_>, jobs: &[Placed]) -> Result<Vec<String>, Fault>;

    /// What a job is called there that was submitted, or was to be; its folder as the queue sees it, and here.
    fn find(&self, site: &Site<'_>, name: &str, folder: &Path, here: &Path) -> Result<Option<String>, Fault>;

    /// How jobs stand, in one call; those that it does not know any more are left out.
    fn look(&self, site: &Site<'_>, jobs: &[Known]) -> Result<BTreeMap<String, Told>, Fault>;

    /// Tells jobs to end; what came of it for each, in their order.
    fn cancel(&self, site: &Site<'_>, jobs: &[Known], how: Cancel) -> Vec<Result<(), Fault>>;

    /// Whether its commands get this variable of this process. What they get may be shown to others there.
    fn keeps_variable(&self, _name: &str) -> bool {
        true
    }
}

/// An engine.
pub trait Engine: Send + Sync {
    /// What receipts call it.
    fn kind(&self) -> &'static str;

    /// Its version, and what it offers, in its words.
    fn describe(&self) -> Result<(String, Vec<String>), Fault>;

    /// Refuses what nothing there could ever carry out; what it cannot tell is fine.
    fn can_meet(&self, _needs: &Needs, _folder: &Path) -> Result<(), Fault> {
        Ok(())
    }

    /// So many jobs of the same needs can be submitted in one call.
    fn most_together(&self) -> usize {
        1
    }

    /// Submits jobs of the same needs; what each is called there, in their order.
    fn submit(&self, jobs: &[Submission]) -> Result<Vec<String>, Fault>;

    /// What a job is called there that was submitted, or was to be, by a process that does not know what came of it.
    fn find(&self, name: &str, folder: &Path) -> Result<Option<String>, Fault>;

    /// Takes back an order that may still be on its way: a job that begins only now does nothing.
    fn take_back(&self, _name: &str, _folder: &Path) -> Result<(), Fault> {
        Ok(())
    }

    /// How jobs stand, in one call; those that it does not know any more are left out.
    fn look(&self, jobs: &[Known]) -> Result<BTreeMap<String, Told>, Fault>;

    /// Whether anything was heard of a job since it was asked last, beside how it stands.
    fn had_news(&self) -> bool {
        false
    }

    /// How long its machine has been held, where one is rented.
    fn held_for(&self) -> Option<Duration> {
        None
    }

    /// Gives back what it holds: no job needs it any more.
    fn release(&self) -> Result<(), Fault> {
        Ok(())
    }

    /// Whoever waits for its machine gives up: that is [`Fault::Silent`] for whoever still wants it.
    fn give_up(&self) {}

    /// Tells jobs to end; what came of it for each, in their order.
    fn cancel(&self, jobs: &[Known], how: Cancel) -> Vec<Result<(), Fault>>;
}

/// Runs a command with those variables of this process that it keeps; what it printed, or why it did not succeed. One that does not answer in time is [`Fault::Silent`].
pub fn ask_for(words: &[String], input: Option<&[u8]>, most: Duration, keeps: &dyn Fn(&str) -> bool) -> Result<String, Fault> {
    let mut command = Command::new(&words[0]);
    // By all names: what is no text may be a secret too.
    for name in textum_base::environment::names().iter().filter(|name| !keeps(&name.to_string_lossy())) {
        command.env_remove(name);
    }
    command.args(&words[1..]).stdin(if input.is_some() { Stdio::piped() } else { Stdio::null() });
    command.stdout(Stdio::piped()).stderr(Stdio::piped());
    // What ends this process by the terminal does not end it: an order that has gone out is answered.
    std::os::unix::process::CommandExt::process_group(&mut command, 0);
    let mut child = command.spawn().map_err(|e| Fault::Refused(format!("{} cannot be started: {e}", words[0])))?;
    let pid = child.id();
    let stdin = child.stdin.take();
    let (done, over) = std::sync::mpsc::channel();
    let waiting = std::thread::spawn(move || {
        let _ = done.send(child.wait_with_output());
    });
    std::thread::scope(|scope| {
        if let (Some(text), Some(mut stdin)) = (input, stdin) {
            scope.spawn(move || {
                // One that does not read it says why by itself.
                let _ = stdin.write_all(text);
            });
        }
        let output = match over.recv_timeout(most) {
            Ok(output) => output.map_err(|e| Fault::Silent(format!("{}: {e}", words[0])))?,
            Err(_) => {
                if let Some(pid) = i32::try_from(pid).ok().and_then(rustix::process::Pid::from_raw) {
                    let _ = rustix::process::kill_process_group(pid, rustix::process::Signal::KILL);
                }
                let _ = waiting.join();
                // What it tried again and again it may have said.
                let said = over.try_recv().ok().and_then(Result::ok).map(|output| one_line(&output.stderr));
                let said = said.filter(|said| !said.is_empty()).map(|said| format!(": {said}")).unwrap_or_default();
                return Err(Fault::Silent(format!("{} did not answer for {} s{said}", words[0], most.as_secs())));
            }
        };
        if output.status.success() {
            return Ok(String::from_utf8_lossy(&output.stdout).into_owned());
        }
        let said = one_line(&output.stderr);
        Err(Fault::Refused(if said.is_empty() { format!("{} ended with {}", words[0], output.status) } else { said }))
    })
}

fn one_line(said: &[u8]) -> String {
    let said = String::from_utf8_lossy(said);
    said.lines().map(str::trim).filter(|l| !l.is_empty()).take(20).collect::<Vec<_>>().join("; ")
}

/// Words as they are given to [`ask`].
pub fn words(all: &[&str]) -> Vec<String> {
    all.iter().map(|w| (*w).to_string()).collect()
}
