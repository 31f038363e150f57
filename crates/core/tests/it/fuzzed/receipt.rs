//! Documents of every type: one that is taken can be written and read again, and says the same then.

use textum_core::record::receipt::{
    CheckpointReceipt, CountedEnvironment, DataReceipt, Document, EnvironmentRecord, EraseReceipt, Inputs, LossReceipt,
    PruneReceipt, PublishReceipt, RebuildReceipt, RemarkReceipt, RunReceipt, StageReceipt, StageStart, TreeReceipt, canonical,
    read_document,
};
use textum_core::store::Digest;

fn again<T: Document>(bytes: &[u8]) {
    let digest = Digest::of(bytes);
    let Ok(document) = read_document::<T>(&digest, bytes) else { return };
    let written = canonical(&document).unwrap();
    let read: T = read_document(&digest, &written).unwrap();
    assert_eq!(canonical(&read).unwrap(), written);
}

/// The target.
pub fn target(bytes: &[u8]) {
    again::<StageReceipt>(bytes);
    again::<PublishReceipt>(bytes);
    again::<RunReceipt>(bytes);
    again::<DataReceipt>(bytes);
    again::<PruneReceipt>(bytes);
    again::<EraseReceipt>(bytes);
    again::<LossReceipt>(bytes);
    again::<RebuildReceipt>(bytes);
    again::<RemarkReceipt>(bytes);
    again::<CheckpointReceipt>(bytes);
    again::<StageStart>(bytes);
    again::<TreeReceipt>(bytes);
    again::<Inputs>(bytes);
    again::<EnvironmentRecord>(bytes);
    again::<CountedEnvironment>(bytes);
}
