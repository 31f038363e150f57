//! All receipts of a store, read.

use crate::record::ledger::Ledger;
use crate::record::receipt::{
    CHECKPOINT_RECEIPT, CheckpointReceipt, DATA_RECEIPT, DataReceipt, PUBLISH_RECEIPT, PublishReceipt, REBUILD_RECEIPT,
    RUN_RECEIPT, RebuildReceipt, ReceiptError, RunReceipt, STAGE_RECEIPT, StageReceipt, read_document,
};
use crate::store::{Digest, Store};

use super::UpkeepError;

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
}

impl Inventory {
    /// Reads all receipts that the ledger knows.
    pub fn load(store: &Store, ledger: &Ledger) -> Result<Inventory, UpkeepError> {
        let mut all = Inventory::default();
        for (digest, kind) in ledger.all_documents()? {
            let bytes = || store.read(&digest);
            match kind.as_str() {
                RUN_RECEIPT => all.runs.push((digest, RunReceipt::load(store, &digest)?)),
                STAGE_RECEIPT => all.stages.push((digest, StageReceipt::load(store, &digest)?)),
                DATA_RECEIPT => all.data.push((digest, read_document(&digest, &bytes()?).map_err(ReceiptError::from)?)),
                CHECKPOINT_RECEIPT => all.checkpoints.push((digest, CheckpointReceipt::load(store, &digest)?)),
                PUBLISH_RECEIPT => {
                    all.publications.push((digest, read_document(&digest, &bytes()?).map_err(ReceiptError::from)?));
                }
                REBUILD_RECEIPT => {
                    all.rebuilds.push((digest, read_document(&digest, &bytes()?).map_err(ReceiptError::from)?));
                }
                _ => {}
            }
        }
        Ok(all)
    }
}
