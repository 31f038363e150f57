//! The boundary behind which commands are executed. A job is submitted and gets an id that can be written down;
//! by the id it is asked for, waited for and cancelled, also by another process that has attached to it.

mod batch;
mod capacity;
mod check;
mod local;
mod machine;
mod memory_group;
mod places;
mod processes;

use std::path::{Path, PathBuf};
use std::time::Duration;

pub(super) use batch::SEEN_AWAY;
pub use batch::{BatchExecutor, Cause, HeldMachine, Released, held_machines, release_machine};
pub(super) use batch::{end_submitted, submitted_name};
pub use capacity::Capacity;
pub use check::{PlaceCheck, check_place};
pub use local::LocalExecutor;
pub use machine::{Load, Machine};
pub use places::Places;
pub(super) use processes::{Mark, end_marked};

use crate::config::manifest::Needs;
use crate::fsio::IoError;
use crate::project::observed::AwayOrder;
use crate::record::receipt::{Content, Exit, PlaceRecord};

/// A command to be executed. It holds all that an executor knows of a stage.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Job {
    /// What is executed.
    pub command: JobCommand,
    /// The folder that it works in.
    pub folder: PathBuf,
    /// Its whole environment.
    pub variables: Vec<(String, String)>,
    /// The file at whose end what it prints is added.
    pub log: PathBuf,
    /// What it needs of the machine.
    pub needs: Needs,
    /// The place that it is for; none: this machine.
    pub place: Option<String>,
    /// The names of variables that it declares: those alone go where the environment is another.
    pub declared: Vec<String>,
    /// What it writes, below its folder: that is brought from where the folder is another.
    pub outputs: Vec<String>,
    /// What it reads that is in the project's store, as it lies in `folder`.
    pub inputs: Vec<(String, Content)>,
    /// The path of its checkpoints, below its folder.
    pub checkpoints: Option<String>,
    /// How it is observed where nothing is shared with its place, if it is to be.
    pub away: Option<AwayOrder>,
}

/// What a job executes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum JobCommand {
    /// A text for `sh -c`.
    Shell(String),
    /// A program and its arguments.
    Argv(Vec<String>),
}

impl JobCommand {
    /// The program and its arguments: a text is given to the shell.
    pub fn into_words(self) -> Vec<String> {
        match self {
            JobCommand::Shell(text) => vec!["/bin/sh".into(), "-c".into(), text],
            JobCommand::Argv(words) => words,
        }
    }
}

/// What tells a job from all others of its executor, also after this process has ended. One line of text.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct JobId(pub String);

/// How a job stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum JobState {
    /// It waits for room.
    Waiting,
    /// It is at work.
    Running,
    /// It has ended, and everything that it started with it.
    Ended(Exit),
    /// The executor knows no such job any more, and how it ended cannot be told.
    Lost,
}

/// Why a job has ended, where that was the place's doing and not its command's.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Why {
    /// In words.
    pub words: String,
    /// What it was, where the place has a word for it.
    pub cause: Option<Cause>,
}

impl Why {
    /// One that is known.
    pub fn of(cause: Cause) -> Why {
        Why { words: cause.words().to_string(), cause: Some(cause) }
    }
}

/// How a job is told to end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Cancel {
    /// It is asked to, and may tidy up.
    Ask,
    /// It, and everything that it started, ends at once.
    AtOnce,
}

/// How a command went beyond the memory of its job.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TooMuchMemory {
    /// It held so many bytes when it was looked at.
    Held(u64),
    /// It wanted more, and the kernel ended it, or a process that it had started.
    Refused,
}

/// The longest pause between two looks at a job that is waited for.
const LONGEST_PAUSE: Duration = Duration::from_millis(200);

/// A place where commands are executed. An error says that the place did not answer, never that a job has ended.
pub trait Executor: Sync {
    /// What receipts say of it.
    fn record(&self) -> PlaceRecord;

    /// The same of one of several places, before a job is there.
    fn record_for(&self, _place: Option<&str>) -> PlaceRecord {
        self.record()
    }

    /// What receipts say of where a job was executed.
    fn record_of(&self, _id: &JobId) -> PlaceRecord {
        self.record()
    }

    /// The room that it has for jobs, at most so many at once where that is said.
    fn capacity(&self, most: Option<usize>) -> Capacity;

    /// Takes a job on. When this returns the job is the place's to carry out, whatever becomes of this process.
    fn submit(&self, job: &Job) -> Result<JobId, IoError>;

    /// The job whose log is in this folder is not to be handed over any more: whoever waits for a place to take it on gives up.
    /// Its [`Executor::submit`] then fails by [`std::io::ErrorKind::Interrupted`] if nothing was handed over.
    fn give_up(&self, _folder: &Path, _place: Option<&str>) {}

    /// Why the job whose log is in this folder still waits to be taken on, in the place's words, if it takes no more for now.
    fn has_no_room(&self, _folder: &Path, _place: Option<&str>) -> Option<String> {
        None
    }

    /// How jobs stand, in the order asked for; in one call, whatever their number.
    fn poll(&self, ids: &[JobId]) -> Result<Vec<JobState>, IoError>;

    /// Tells a job to end. One that has ended already stays as it was.
    fn cancel(&self, id: &JobId, how: Cancel) -> Result<(), IoError>;

    /// Tells many jobs to end, in few calls; the first error, when all have been tried.
    fn cancel_all(&self, ids: &[JobId], how: Cancel) -> Result<(), IoError> {
        ids.iter().map(|id| self.cancel(id, how)).fold(Ok(()), Result::and)
    }

    /// Takes up a job that another process submitted; whether it is still known.
    fn attach(&self, id: &JobId) -> Result<bool, IoError>;

    /// This program there, where stages are observed and sealed by it; none: what is executed here will do.
    fn program(&self, _place: Option<&str>) -> Result<Option<PathBuf>, IoError> {
        Ok(None)
    }

    /// How a job stands as far as it is known without asking, and what its place says of it.
    fn says(&self, _id: &JobId) -> Option<(JobState, String)> {
        None
    }

    /// How long a job that has ended was at work, where the place knows that better than who waits for it.
    fn worked(&self, _id: &JobId) -> Option<Duration> {
        None
    }

    /// Takes up the job that another process submitted at a place for the stage of this folder, where its log is; none when
    /// the place knows of none and it has left nothing.
    fn take_up(&self, _folder: &Path, _place: Option<&str>) -> Result<Option<JobId>, IoError> {
        Ok(None)
    }

    /// Takes back an order for the stage of this folder, by another process, that may still be on its way to its place.
    fn take_back(&self, _folder: &Path, _place: Option<&str>) -> Result<(), IoError> {
        Ok(())
    }

    /// Waits until a job has ended. A job that is [`JobState::Lost`] is an error.
    fn wait(&self, id: &JobId) -> Result<Exit, IoError> {
        let mut pause = Duration::from_millis(1);
        loop {
            match self.poll(std::slice::from_ref(id))?.first() {
                Some(JobState::Ended(exit)) => return Ok(*exit),
                Some(JobState::Waiting | JobState::Running) => {}
                Some(JobState::Lost) | None => {
                    let lost = std::io::Error::other("how it ended cannot be told");
                    return Err(IoError::of("wait for the job", std::path::Path::new(&id.0))(lost));
                }
            }
            std::thread::sleep(pause);
            pause = (pause * 2).min(LONGEST_PAUSE);
        }
    }

    /// Why a job has ended, where that was the place's doing and not its command's.
    fn why(&self, _id: &JobId) -> Option<Why> {
        None
    }

    /// Whether a job and everything that it started hold, or wanted to hold, more memory than it needs by its
    /// own word. A place that leaves that to its own means says nothing.
    fn too_much_memory(&self, _id: &JobId) -> Option<TooMuchMemory> {
        None
    }
}
