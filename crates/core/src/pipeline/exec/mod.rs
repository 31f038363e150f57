//! Carrying a plan out: stages side by side where graph and machine allow, each with a receipt.

mod active_run;
mod apart;
mod attempts;
mod begin;
mod echo;
mod end;
mod gates;
mod judge;
mod left;
mod likely;
mod listen;
mod live;
pub(crate) mod mask;
mod metrics;
mod observing;
mod outcome;
mod param_files;
mod refusal;
mod room;
mod run;
mod scheduler;
mod sealing;
mod settling;
mod stage;
mod stage_set;
mod stopping;
mod sweep;
mod task;
mod unattended;
mod variants;
mod watch;

pub use likely::tail;
pub use live::{LiveView, ask_to_stop, close_interrupted, is_at_work, live_runs, live_view};
pub use observing::Observer;
pub use outcome::{Execution, RunOutcome, SettledStage};
pub use run::{RunOptions, run};
pub use stage::{KeepCheckpoint, StageContext};
pub use sweep::{SweepOutcome, VariantOutcome, run_sweep, sweep_name};
pub use task::Task;
pub(crate) use textum_observe::Seal;
pub use unattended::{UnattendedJob, UnattendedRun, end_unattended, standing_of, tree_is_free, unattended_runs};

use crate::config::param_file::ParamFileError;
use crate::data::DataError;
use crate::fsio::IoError;
use crate::pipeline::plan::PlanError;
use crate::project::fingerprint::{PythonError, ScanError};
use crate::project::tree::{ClearError, PutError};
use crate::project::workspace::WorkspaceError;
use crate::record::ledger::{LedgerError, NameError};
use crate::record::receipt::{DocumentError, ReceiptError};
use crate::store::StoreError;

/// How long stages have to end after they were asked to.
pub(crate) const GRACE: std::time::Duration = std::time::Duration::from_secs(10);

impl From<NameError> for ExecError {
    fn from(e: NameError) -> ExecError {
        ExecError::Name(Box::new(e))
    }
}

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
    /// A file of parameters.
    #[error(transparent)]
    ParamFile(#[from] ParamFileError),
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// What a gate compares with is not there.
    #[error(transparent)]
    Name(#[from] Box<NameError>),
    /// A checkpoint was named for a stage that is not to run.
    #[error("`{stage}`, which is to start from a checkpoint, is not among the stages that are to run")]
    NotSelected {
        /// The stage.
        stage: String,
    },
    /// A checkpoint was named for a stage that declares none.
    #[error("the stage `{stage}` declares no `checkpoints`, so that it cannot start from one")]
    NoCheckpoints {
        /// The stage.
        stage: String,
    },
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
    /// A run that was cut off may still have a job at work elsewhere.
    #[error(transparent)]
    MayBeAtWork(IoError),
    /// The run was asked to stop before it began.
    #[error("it was stopped before it began")]
    NotBegun,
    /// Another process has taken the same run id.
    #[error("the run id {0} has just been taken by another process: run again")]
    RunTaken(String),
}

impl ExecError {
    /// Whether nothing is wrong but that the disk has no room to write, or that a place does not answer: who only looks
    /// need not wait for either.
    pub fn is_circumstance(&self) -> bool {
        match self {
            ExecError::Io(e) | ExecError::Store(StoreError::Io(e)) => e.is_full(),
            other => matches!(other, ExecError::MayBeAtWork(_)),
        }
    }
}
