//! The boundary behind which commands are executed.

use std::path::PathBuf;
use std::sync::Arc;

use crate::config::manifest::Command;
use crate::fsio::IoError;
use crate::record::receipt::{Exit, PlaceRecord};

/// A command to be executed.
#[derive(Clone, Debug)]
pub struct Job {
    /// The command.
    pub command: Command,
    /// The folder that it works in.
    pub folder: PathBuf,
    /// Its whole environment.
    pub variables: Vec<(String, String)>,
    /// Where what it prints goes.
    pub log: PathBuf,
    /// Bytes of memory that it may hold; 0 where that is not said.
    pub memory: u64,
}

/// A place where commands are executed.
pub trait Executor: Sync {
    /// Starts a command.
    fn start(&self, job: &Job) -> Result<Arc<dyn Running>, IoError>;

    /// What receipts say of it.
    fn record(&self) -> PlaceRecord;
}

/// A command at work.
pub trait Running: Send + Sync {
    /// Waits until it has ended, and everything that it started with it.
    fn wait(&self) -> Result<Exit, IoError>;

    /// Asks it, and everything that it started, to end.
    fn interrupt(&self);

    /// Ends it, and everything that it started, at once.
    fn kill(&self);

    /// Whether it and everything that it started hold, or wanted to hold, more memory than its job may.
    fn too_much_memory(&self) -> Option<TooMuchMemory>;
}

/// How a command went beyond the memory of its job.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TooMuchMemory {
    /// It held so many bytes when it was looked at.
    Held(u64),
    /// It wanted more, and the kernel ended it, or a process that it had started.
    Refused,
}
