//! The loss receipt: documents that were there and are no more. It keeps a loss in sight until somebody has
//! acknowledged it.

use serde::{Deserialize, Serialize};

use crate::store::Digest;

/// The `type` of a loss receipt.
pub const LOSS_RECEIPT: &str = "textum/loss-receipt@1";

/// The document written when documents are found lost, and once more when somebody has acknowledged that.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LossReceipt {
    /// [`LOSS_RECEIPT`].
    pub r#type: String,
    /// What was lost.
    pub lost: Vec<LostDocument>,
    /// When that was found or acknowledged, RFC 3339 in UTC.
    pub found: String,
    /// Who found or acknowledged it, and where.
    pub by: String,
    /// Whether it is known and need not be told of any more.
    pub acknowledged: bool,
}

/// A document that is no more.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct LostDocument {
    /// Its digest, where that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<Digest>,
    /// Its type, as far as that is known.
    pub kind: String,
    /// The run that it belongs to, where that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<String>,
}
