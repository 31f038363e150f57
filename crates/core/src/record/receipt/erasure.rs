//! The erase receipt: rows of a dataset that were to be forgotten, and all content that went with them. It says nothing of
//! the rows themselves: neither their cells nor the condition that they met.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::store::Digest;

/// The `type` of an erase receipt.
pub const ERASE_RECEIPT: &str = "textum/erase-receipt@1";

/// A version of the dataset that had such rows.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ErasedVersion {
    /// What it was.
    pub digest: Digest,
    /// So many of its rows met the condition.
    pub rows: u64,
}

/// What may still hold such rows, because it is not Textum's to change, or was to stay.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LeftKind {
    /// The history of the git repository: the file is tracked there.
    Git,
    /// A file outside the store that a dataset only refers to.
    Reference,
    /// A model that was made of the rows, and was to be kept.
    Model,
    /// A result made of the rows whose content is also what something else is, that has nothing to do with them.
    Shared,
    /// Another recorded content in which the same rows stand, though no receipt says that it was made of them.
    SameRows,
    /// A file of the working tree in which the same rows stand.
    File,
    /// A version that could not be looked through.
    Unread,
    /// Another project of a depot that could not be looked through.
    Project,
}

/// Something that was left.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct LeftOver {
    /// Why.
    pub kind: LeftKind,
    /// What: a path, or a name such as `shifts@2`.
    pub what: String,
    /// Its content, where it is recorded.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<Digest>,
}

impl LeftOver {
    /// Something that was left.
    pub fn new(kind: LeftKind, what: &str, digest: Option<Digest>) -> LeftOver {
        LeftOver { kind, what: what.to_string(), digest }
    }
}

/// The document written when rows are erased.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct EraseReceipt {
    /// [`ERASE_RECEIPT`].
    pub r#type: String,
    /// When, RFC 3339 in UTC.
    pub erased: String,
    /// Who erased them, and where.
    pub by: String,
    /// Why, in the words of a person.
    pub because: String,
    /// The dataset.
    pub dataset: String,
    /// The columns that the condition looked at.
    pub columns: Vec<String>,
    /// The versions that had such rows, by number.
    pub versions: BTreeMap<String, ErasedVersion>,
    /// All contents that went, with their sizes in bytes.
    pub contents: BTreeMap<Digest, u64>,
    /// The number of the version that was recorded without the rows, where one was.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<u64>,
    /// Published versions that were made of the rows.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub published: Vec<String>,
    /// What may still hold such rows.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left: Vec<LeftOver>,
    /// The receipt that this one carries out somewhere else.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub follows: Option<Digest>,
}
