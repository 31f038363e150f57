//! Why something could not be erased.

use crate::data::DataError;
use crate::fsio::IoError;
use crate::maintain::upkeep::UpkeepError;
use crate::project::depots::DepotsError;
use crate::project::fingerprint::ScanError;
use crate::project::tree::PutError;
use crate::project::workspace::WorkspaceError;
use crate::publish::PublishError;
use crate::record::ledger::LedgerError;
use crate::record::receipt::{DocumentError, ReceiptError, TreeReceiptError};
use crate::share::SyncError;
use crate::store::StoreError;
use crate::table::without::WithoutError;

/// Why something could not be erased.
#[derive(Debug, thiserror::Error)]
pub enum EraseError {
    /// The dataset.
    #[error(transparent)]
    Data(#[from] DataError),
    /// The table could not be written without the rows.
    #[error(transparent)]
    Without(#[from] WithoutError),
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
    /// A document.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// The tree's receipt.
    #[error(transparent)]
    Tree(#[from] TreeReceiptError),
    /// Files could not be looked at.
    #[error(transparent)]
    Scan(#[from] ScanError),
    /// The file without the rows could not be put in place.
    #[error(transparent)]
    Put(#[from] PutError),
    /// The tree is somebody else's for now.
    #[error(transparent)]
    Workspace(#[from] WorkspaceError),
    /// What was made of it could not be found out.
    #[error(transparent)]
    Publish(#[from] PublishError),
    /// What receipts still need could not be found out.
    #[error(transparent)]
    Upkeep(#[from] UpkeepError),
    /// A depot.
    #[error(transparent)]
    Depots(#[from] DepotsError),
    /// The exchange with a depot.
    #[error(transparent)]
    Sync(#[from] SyncError),
    /// The dataset is a folder.
    #[error("{0} is a folder: rows are taken out of a dataset that is one table")]
    Folder(String),
    /// The condition looks at no column: it would take all rows or none.
    #[error("the condition `{0}` looks at no column")]
    NoColumn(String),
    /// The reason says what is to be forgotten.
    #[error("the reason holds {0:?}, which the condition looks for: it would stand in the receipt for ever")]
    Reason(String),
    /// Runs are at work: they may be reading the rows.
    #[error("{} at work: {}", if .0.len() == 1 { "a run is" } else { "runs are" }, .0.join(", "))]
    AtWork(Vec<String>),
    /// Others kept on recording while it was to be done.
    #[error("others keep on recording in this project")]
    Unsteady,
    /// The journal of an erasing that was cut off is not one.
    #[error("{} is not what an erasing that was cut off has left", .0.display())]
    Journal(std::path::PathBuf),
}

impl EraseError {
    /// Whether it is a matter of room, of rights or of somebody else at work: whoever comes when that is over can go on.
    pub fn is_circumstance(&self) -> bool {
        let waits = |e: &IoError| e.is_full() || e.is_refused();
        match self {
            EraseError::Workspace(WorkspaceError::Busy { .. }) => true,
            EraseError::Io(e) | EraseError::Store(StoreError::Io(e)) | EraseError::Put(PutError::Io(e)) => waits(e),
            EraseError::Tree(TreeReceiptError::Io(e)) | EraseError::Put(PutError::Store(StoreError::Io(e))) => waits(e),
            EraseError::Ledger(e) => e.is_circumstance(),
            _ => false,
        }
    }
}
