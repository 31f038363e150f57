//! Looking after the store: what is in it and whose, and what can go without breaking a promise.

mod inventory;
mod live;
mod prune;
mod repeatable;
mod stats;

pub use inventory::Inventory;
pub use live::Live;
pub(crate) use live::items_of;
pub use prune::{Droppable, PruneOptions, PrunePlan, Scratch, carry_out, plan_prune};
pub use repeatable::WhyKept;
pub use stats::{Largest, Share, Stats, stats};

use crate::fsio::IoError;
use crate::pipeline::exec::ExecError;
use crate::record::ledger::{LedgerError, NameError};
use crate::record::receipt::{ReceiptError, TreeReceiptError};
use crate::store::StoreError;

/// Why the store could not be looked after.
#[derive(Debug, thiserror::Error)]
pub enum UpkeepError {
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// A receipt.
    #[error(transparent)]
    Receipt(#[from] ReceiptError),
    /// The tree's receipt.
    #[error(transparent)]
    Tree(#[from] TreeReceiptError),
    /// A run to be kept does not exist.
    #[error(transparent)]
    Name(#[from] NameError),
    /// A run that was cut off could not be closed.
    #[error(transparent)]
    Exec(#[from] Box<ExecError>),
    /// The packs are damaged: nothing is dropped before that is mended.
    #[error("{} is damaged ({what}): nothing was dropped", path.display())]
    Damaged {
        /// The damaged pack.
        path: std::path::PathBuf,
        /// What is wrong with it.
        what: String,
    },
}
