//! Why something could not be published, found or fetched.

use std::sync::Arc;

use textum_depot::{DepotError, StorageError};
use textum_registry::{KeyError, LogError};

use crate::data::DataError;
use crate::fsio::IoError;
use crate::inspect::lineage::TraceError;
use crate::project::depots::DepotsError;
use crate::project::fingerprint::ScanError;
use crate::project::tree::PutError;
use crate::project::workspace::WorkspaceError;
use crate::record::ledger::{LedgerError, NameError};
use crate::record::receipt::{DocumentError, ReceiptError};
use crate::share::SyncError;
use crate::store::StoreError;
use crate::table::TableError;

/// Why something could not be published, found or fetched.
#[derive(Debug, thiserror::Error)]
pub enum PublishError {
    /// The log.
    #[error(transparent)]
    Log(#[from] LogError),
    /// The depot.
    #[error(transparent)]
    Depots(#[from] DepotsError),
    /// What is shared.
    #[error(transparent)]
    Sync(#[from] SyncError),
    /// The key.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// No run has this name.
    #[error(transparent)]
    Run(#[from] NameError),
    /// A receipt.
    #[error(transparent)]
    Receipt(#[from] ReceiptError),
    /// A document.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// Where something comes from.
    #[error(transparent)]
    Trace(#[from] TraceError),
    /// A dataset.
    #[error(transparent)]
    Data(#[from] DataError),
    /// A table.
    #[error(transparent)]
    Table(#[from] TableError),
    /// A file of the project.
    #[error(transparent)]
    Scan(#[from] ScanError),
    /// A file could not be put in place.
    #[error(transparent)]
    Put(#[from] PutError),
    /// The project's folder.
    #[error(transparent)]
    Workspace(#[from] WorkspaceError),
    /// The disk.
    #[error(transparent)]
    Io(#[from] IoError),
    /// What was asked for is not there.
    #[error("{what}")]
    NotThere {
        /// What.
        what: String,
        /// What to do next.
        help: String,
    },
    /// What was asked for cannot be.
    #[error("{what}")]
    Wrong {
        /// What.
        what: String,
        /// What to do next.
        help: String,
    },
    /// What had to hold does not.
    #[error("{what}")]
    Refused {
        /// What.
        what: String,
        /// What to do next.
        help: String,
    },
}

impl PublishError {
    /// What was asked for is not there.
    pub fn not_there(what: impl Into<String>, help: impl Into<String>) -> PublishError {
        PublishError::NotThere { what: what.into(), help: help.into() }
    }

    /// What was asked for cannot be.
    pub fn wrong(what: impl Into<String>, help: impl Into<String>) -> PublishError {
        PublishError::Wrong { what: what.into(), help: help.into() }
    }

    /// What had to hold does not.
    pub fn refused(what: impl Into<String>, help: impl Into<String>) -> PublishError {
        PublishError::Refused { what: what.into(), help: help.into() }
    }
}

impl From<DepotError> for PublishError {
    fn from(e: DepotError) -> PublishError {
        PublishError::Depots(DepotsError::Depot(Arc::new(e)))
    }
}

impl From<StorageError> for PublishError {
    fn from(e: StorageError) -> PublishError {
        DepotError::from(e).into()
    }
}
