//! What any document speaks of, whatever its kind.

use super::{
    CheckpointReceipt, CountedEnvironment, DataReceipt, Document, DocumentError, EnvironmentRecord, EraseReceipt, Inputs,
    KeptEnvironment, LossReceipt, ObservedInputs, PruneReceipt, PublishReceipt, RebuildReceipt, Reference, RemarkReceipt,
    RunReceipt, StageReceipt, StageStart, read_document, type_of,
};
use crate::store::Digest;

/// All kinds of documents.
macro_rules! any {
    ($($document:ty),* $(,)?) => {
        /// Tells of everything that a document speaks of, but for other receipts. One of a kind that is not known speaks of
        /// nothing that could be told; one that cannot be read is an error.
        pub fn references_of(digest: &Digest, bytes: &[u8], tell: &mut dyn FnMut(Reference<'_>)) -> Result<(), DocumentError> {
            let kind = type_of(bytes).unwrap_or_default();
            $(if kind == <$document as Document>::TYPE {
                read_document::<$document>(digest, bytes)?.references(tell);
                return Ok(());
            })*
            Ok(())
        }
    };
}

any!(
    StageReceipt,
    RunReceipt,
    DataReceipt,
    CheckpointReceipt,
    StageStart,
    ObservedInputs,
    KeptEnvironment,
    EnvironmentRecord,
    CountedEnvironment,
    Inputs,
    LossReceipt,
    PruneReceipt,
    EraseReceipt,
    PublishReceipt,
    RebuildReceipt,
    RemarkReceipt,
);
