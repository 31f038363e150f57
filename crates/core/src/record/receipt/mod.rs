//! The immutable documents that say exactly what was read, run and written; their canonical form.

mod any;
mod canonical;
mod content;
mod data;
mod document;
mod environment;
mod erasure;
mod kept;
mod loss;
mod metric;
mod observed;
mod part;
mod publication;
mod reference;
mod run;
mod signals;
mod stage;
mod tree;

pub use any::references_of;
pub(crate) use canonical::type_if_canonical;
pub use canonical::{DocumentError, canonical, is_canonical, read_document, type_of, word};
pub use content::{Content, ContentKind, PathContent, Private};
pub use data::{DATA_RECEIPT, DataReceipt, PRUNE_RECEIPT, PruneReceipt};
pub use document::{Document, is_run_id};
pub use environment::{COUNTED, CountedEnvironment, ENVIRONMENT, EnvironmentRecord, PythonRecord};
pub use erasure::{ERASE_RECEIPT, EraseReceipt, ErasedVersion, LeftKind, LeftOver};
pub use kept::{KEPT, KeptEnvironment, KeptPackage};
pub use loss::{LOSS_RECEIPT, LossReceipt, LostDocument};
pub use metric::Metric;
pub use observed::{
    OBSERVED, Observed, ObservedFile, ObservedFolder, ObservedGroup, ObservedHow, ObservedInputs, ObservedKind, ObservedLook,
    ObservedState, Unchecked, files_of_list, list_text,
};
pub use part::{files_in, folder_of, part_of_folder};
pub use publication::{PUBLISH_RECEIPT, PublishReceipt};
pub use reference::{GivenUp, Nothing, Reference, Role, Target};
pub use run::{
    DatasetState, GitState, REBUILD_RECEIPT, RUN_RECEIPT, RebuildReceipt, RebuiltStage, RebuiltWrite, RunReceipt, RunStage,
    RunStageState, RunState, Verdict,
};
pub use signals::{
    BranchedFrom, CHECKPOINT_RECEIPT, CheckpointReceipt, GateRecord, REMARK_RECEIPT, RemarkReceipt, STAGE_START, Series,
    SignalNote, SignalRecord, StageStart, StartFrom,
};
pub use stage::{Attempt, Exit, INPUTS, Inputs, PlaceRecord, Read, ReadInput, ReadKind, STAGE_RECEIPT, StageReceipt, StageState};
pub use textum_base::{Better, StorageMode, TREE_RECEIPT_NAME};
pub use tree::{TREE_RECEIPT, TreeReceipt, TreeReceiptError, TreeStage};

use crate::store::{Digest, Store, StoreError};

/// Why a receipt could not be had from the store.
#[derive(Debug, thiserror::Error)]
pub enum ReceiptError {
    /// The store does not have it, or not whole.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// It is not what it must be.
    #[error(transparent)]
    Document(#[from] DocumentError),
}

impl StageReceipt {
    /// Reads a stage receipt from the store.
    pub fn load(store: &Store, digest: &Digest) -> Result<StageReceipt, ReceiptError> {
        Ok(read_document(digest, &store.read(digest)?)?)
    }
}

impl RunReceipt {
    /// Reads a run receipt from the store.
    pub fn load(store: &Store, digest: &Digest) -> Result<RunReceipt, ReceiptError> {
        Ok(read_document(digest, &store.read(digest)?)?)
    }
}

impl CheckpointReceipt {
    /// Reads the receipt of a checkpoint from the store.
    pub fn load(store: &Store, digest: &Digest) -> Result<CheckpointReceipt, ReceiptError> {
        Ok(read_document(digest, &store.read(digest)?)?)
    }
}

impl StageStart {
    /// Reads what was known of an execution when it began.
    pub fn load(store: &Store, digest: &Digest) -> Result<StageStart, ReceiptError> {
        Ok(read_document(digest, &store.read(digest)?)?)
    }
}

impl EnvironmentRecord {
    /// Reads the record of an environment from the store.
    pub fn load(store: &Store, digest: &Digest) -> Result<EnvironmentRecord, ReceiptError> {
        Ok(read_document(digest, &store.read(digest)?)?)
    }
}

impl CountedEnvironment {
    /// Reads the counted part of an environment from the store.
    pub fn load(store: &Store, digest: &Digest) -> Result<CountedEnvironment, ReceiptError> {
        Ok(read_document(digest, &store.read(digest)?)?)
    }
}

impl EraseReceipt {
    /// Reads what was erased, and why, from the store.
    pub fn load(store: &Store, digest: &Digest) -> Result<EraseReceipt, ReceiptError> {
        Ok(read_document(digest, &store.read(digest)?)?)
    }
}

impl Inputs {
    /// The stage key: the digest of the canonical form.
    pub fn key(&self) -> Result<Digest, DocumentError> {
        Ok(Digest::of(&canonical(self)?))
    }
}
