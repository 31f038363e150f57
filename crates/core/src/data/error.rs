//! Why a question about datasets could not be answered.

use std::path::PathBuf;

use crate::config::manifest::ManifestError;
use crate::fsio::IoError;
use crate::project::fingerprint::ScanError;
use crate::record::ledger::{Erasure, LedgerError};
use crate::record::receipt::DocumentError;
use crate::store::StoreError;
use crate::table::TableError;
use crate::table::filter::FilterError;

/// Why a question about datasets could not be answered.
#[derive(Debug, thiserror::Error)]
pub enum DataError {
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// Files could not be looked at.
    #[error(transparent)]
    Scan(#[from] ScanError),
    /// A document could not be written.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// A table could not be read.
    #[error(transparent)]
    Table(#[from] TableError),
    /// A condition is none.
    #[error("the condition `{text}`: {source}")]
    Filter {
        /// The condition.
        text: String,
        /// What is wrong, and where.
        source: FilterError,
    },
    /// The version was to be forgotten.
    #[error("{version} was {erasure}")]
    Erased {
        /// The version.
        version: String,
        /// When, by whom and why.
        erasure: Box<Erasure>,
    },
    /// A state that was to be forgotten stands in the tree again.
    #[error("what stands at {path} is the content that was {erasure}")]
    ErasedAgain {
        /// The dataset's path.
        path: String,
        /// When, by whom and why.
        erasure: Box<Erasure>,
    },
    /// No dataset has this name.
    #[error("there is no dataset `{name}`{}", near.as_ref().map_or(String::new(), |n| format!(": did you mean `{n}`?")))]
    NoDataset {
        /// The name given.
        name: String,
        /// The most similar name.
        near: Option<String>,
    },
    /// The dataset has no such version.
    #[error("there is no version {name}: the versions are {}", known.join(", "))]
    NoVersion {
        /// What was named.
        name: String,
        /// The versions there are.
        known: Vec<String>,
    },
    /// The dataset has no version yet.
    #[error("no state of the dataset {0} has been recorded yet")]
    NothingRecorded(String),
    /// Nothing stands at the dataset's path.
    #[error("the dataset {name} is not there: nothing stands at {}", path.display())]
    Absent {
        /// The dataset.
        name: String,
        /// Its path.
        path: PathBuf,
    },
    /// The bytes of a reference are not those that were recorded.
    #[error("{version} is a reference, and {} no longer matches it: {}", path.display(), now.as_ref().map_or("nothing is there".to_string(), |n| format!("{n} is there now")))]
    ReferenceChanged {
        /// The version asked for.
        version: String,
        /// Where its bytes were.
        path: PathBuf,
        /// What is there now.
        now: Option<String>,
    },
    /// A folder, where a table is needed.
    #[error("{0} is a folder: a table in it is named as in {0}:part.csv")]
    Folder(String),
    /// Nothing in the folder has this path.
    #[error("there is no {path} in {name}{}", near.as_ref().map_or(String::new(), |n| format!(": did you mean {n}?")))]
    NotInFolder {
        /// The folder.
        name: String,
        /// The path.
        path: String,
        /// The most similar path.
        near: Option<String>,
    },
    /// A file and a folder cannot be compared.
    #[error("{0} is a file and {1} a folder")]
    FileAndFolder(String, String),
    /// A dataset cannot be added.
    #[error("{what}")]
    NotAdded {
        /// What stands in the way.
        what: String,
        /// What to do.
        help: String,
    },
    /// The manifest would have mistakes.
    #[error(transparent)]
    Mistakes(#[from] Box<ManifestError>),
}
