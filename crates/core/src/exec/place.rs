//! The boundary behind which commands are executed.

use std::path::PathBuf;
use std::sync::Arc;

use crate::fsio::IoError;
use crate::manifest::Command;
use crate::receipt::{Exit, PlaceRecord};

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
}

/// A place where commands are executed.
pub trait Place: Sync {
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

    /// Bytes of memory that it and everything that it started hold now. What they share may be counted more than
    /// once as long as the sum stays below `limit`.
    fn memory(&self, limit: u64) -> u64;
}
