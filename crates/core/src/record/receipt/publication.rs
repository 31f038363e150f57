//! The receipt of a publication: what was offered to a registry, so that it stays as long as somebody may rely on it.

use serde::{Deserialize, Serialize};
use textum_registry::Bundle;

/// The `type` of it.
pub const PUBLISH_RECEIPT: &str = "textum/publish-receipt@1";

/// The document written before something is published. That it was published, and as which version, the registry says.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct PublishReceipt {
    /// [`PUBLISH_RECEIPT`].
    pub r#type: String,
    /// The name that it was offered under.
    pub name: String,
    /// When, RFC 3339 in UTC.
    pub at: String,
    /// Who, and where.
    pub by: String,
    /// What.
    pub bundle: Bundle,
}
