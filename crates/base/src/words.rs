//! Words that the manifest and the documents share.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// The direction in which a metric gets better.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Better {
    /// More is better.
    Higher,
    /// Less is better.
    Lower,
}

/// How a dataset is kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum StorageMode {
    /// Its bytes are in the store.
    #[default]
    Store,
    /// Only digests and the listing are: the bytes stay where they are.
    Reference,
}

impl StorageMode {
    /// Whether the bytes are in the store, which receipts leave unsaid.
    pub fn is_store(&self) -> bool {
        *self == StorageMode::Store
    }
}
