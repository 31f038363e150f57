//! All receipts of a store, read.

use rayon::prelude::*;

use crate::record::ledger::Ledger;
use crate::record::receipt::{
    CheckpointReceipt, DataReceipt, Document, PublishReceipt, RebuildReceipt, ReceiptError, RunReceipt, StageReceipt, read_document,
};
use crate::store::{Digest, Store};

use super::UpkeepError;
use super::live::Folders;

/// All receipts of a store, each with its digest.
#[derive(Debug, Default)]
pub struct Inventory {
    /// Of runs.
    pub runs: Vec<(Digest, RunReceipt)>,
    /// Of executions.
    pub stages: Vec<(Digest, StageReceipt)>,
    /// Of states of datasets.
    pub data: Vec<(Digest, DataReceipt)>,
    /// Of checkpoints.
    pub checkpoints: Vec<(Digest, CheckpointReceipt)>,
    /// Of rebuilds.
    pub rebuilds: Vec<(Digest, RebuildReceipt)>,
    /// Of what was published.
    pub publications: Vec<(Digest, PublishReceipt)>,
    /// What the folders that they speak of hold.
    pub folders: Folders,
}

impl Inventory {
    /// Reads all receipts that the ledger knows. Whoever asks for them goes through what they speak of.
    pub fn load(store: &Store, ledger: &Ledger) -> Result<Inventory, UpkeepError> {
        store.keep_records();
        let documents = ledger.all_documents()?;
        Ok(Inventory {
            runs: all_of(store, &documents)?,
            stages: all_of(store, &documents)?,
            data: all_of(store, &documents)?,
            checkpoints: all_of(store, &documents)?,
            rebuilds: all_of(store, &documents)?,
            publications: all_of(store, &documents)?,
            folders: Folders::default(),
        })
    }
}

/// The documents of one type, each read.
fn all_of<T: Document + Send>(store: &Store, documents: &[(Digest, String)]) -> Result<Vec<(Digest, T)>, ReceiptError> {
    let of_type = documents.par_iter().filter(|(_, kind)| kind == T::TYPE);
    of_type.map(|(digest, _)| Ok((*digest, read_document(digest, &store.read(digest)?)?))).collect()
}
