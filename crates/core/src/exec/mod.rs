//! Carrying a plan out: stages side by side where graph and machine allow, each with a receipt.

mod clear;
mod conduct;
mod echo;
mod git;
mod likely;
mod live;
mod local;
mod metrics;
mod place;
mod run;
mod schedule;
mod stage;
mod watch;

pub use clear::{ClearError, Clearer};
pub use git::{git_says, git_state, in_git};
pub use likely::tail;
pub use live::{close_interrupted, live_runs};
pub use local::LocalPlace;
pub use metrics::read_metrics;
pub use place::{Job, Place, Running};
pub use run::{Execution, RunOptions, RunOutcome, SettledStage, run};
pub use stage::{Bench, Task};

use crate::data::DataError;
use crate::fingerprint::{PythonError, ScanError};
use crate::fsio::IoError;
use crate::ledger::LedgerError;
use crate::plan::PlanError;
use crate::receipt::{DocumentError, ReceiptError};
use crate::restore::PutError;
use crate::store::StoreError;
use crate::workspace::WorkspaceError;

/// Why a run could not be carried out; a stage that does not succeed is no such error.
#[derive(Debug, thiserror::Error)]
pub enum ExecError {
    /// No plan could be made.
    #[error(transparent)]
    Plan(#[from] PlanError),
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// The project's files could not be looked at.
    #[error(transparent)]
    Scan(#[from] ScanError),
    /// A dataset could not be recorded.
    #[error(transparent)]
    Data(#[from] Box<DataError>),
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// A receipt could not be read.
    #[error(transparent)]
    Receipt(#[from] ReceiptError),
    /// A document could not be written.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// A recorded result could not be put in place.
    #[error(transparent)]
    Put(#[from] PutError),
    /// What stood in the way could not be cleared.
    #[error(transparent)]
    Clear(#[from] ClearError),
    /// The interpreter.
    #[error(transparent)]
    Python(#[from] PythonError),
    /// The tree is taken, or the workspace is of a newer format.
    #[error(transparent)]
    Workspace(#[from] WorkspaceError),
    /// Another process has taken the same run id.
    #[error("the run id {0} has just been taken by another process: run again")]
    RunTaken(String),
}
