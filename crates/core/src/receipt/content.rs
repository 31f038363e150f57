//! What stood at a path: the smallest statement that receipts are made of.

use serde::{Deserialize, Serialize};

use crate::store::Digest;

/// What a content is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ContentKind {
    /// A file; the digest is that of its bytes.
    File,
    /// A file that may be executed; the digest is that of its bytes.
    Exec,
    /// A folder; the digest is that of its listing.
    Folder,
}

/// A content: what it is, its digest, and its size.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Content {
    /// What it is.
    pub kind: ContentKind,
    /// Its digest.
    pub digest: Digest,
    /// Its size in bytes; of a folder, that of all files in it.
    pub size: u64,
    /// Of a folder: the number of files in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub files: Option<u64>,
}

/// A content at a path below the project.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PathContent {
    /// The path.
    pub path: String,
    /// What stood there.
    #[serde(flatten)]
    pub content: Content,
}

/// How a dataset is kept.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Hold {
    /// Its bytes are in the store.
    #[default]
    Store,
    /// Only digests and the listing are: the bytes stay where they are.
    Reference,
}

impl Hold {
    /// Whether the bytes are in the store, which receipts leave unsaid.
    pub fn is_store(&self) -> bool {
        *self == Hold::Store
    }
}
