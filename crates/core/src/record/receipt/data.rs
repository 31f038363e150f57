//! The data receipt: a state of a dataset that was recorded for the first time, or noted once more.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{Content, GitState, StorageMode};
use crate::store::Digest;
use textum_base::SourcePath;

/// The `type` of a data receipt.
pub const DATA_RECEIPT: &str = "textum/data-receipt@1";

/// The `type` of a prune receipt.
pub const PRUNE_RECEIPT: &str = "textum/prune-receipt@1";

/// The document written when outputs are dropped: they can be rebuilt, and nothing is amiss without them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PruneReceipt {
    /// [`PRUNE_RECEIPT`].
    pub r#type: String,
    /// When, RFC 3339 in UTC.
    pub pruned: String,
    /// Who dropped them, and where.
    pub by: String,
    /// The outputs by digest, with their sizes in bytes.
    pub dropped: BTreeMap<Digest, u64>,
}

/// The document written for each new state of a dataset.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct DataReceipt {
    /// [`DATA_RECEIPT`].
    pub r#type: String,
    /// The dataset's name.
    pub dataset: String,
    /// The version's number, from 1; of two that claim the same number, the later gets the next free one.
    pub number: u64,
    /// Its path: below the project, or absolute for a reference.
    pub path: SourcePath,
    /// What stood there.
    #[serde(flatten)]
    pub content: Content,
    /// How it is kept.
    #[serde(default, skip_serializing_if = "StorageMode::is_store")]
    pub hold: StorageMode,
    /// Of a table: its rows, without the header.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows: Option<u64>,
    /// When, RFC 3339 in UTC.
    pub recorded: String,
    /// Who recorded it, and where.
    pub by: String,
    /// Words given by a person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// The state of the git repository, where there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub git: Option<GitState>,
}
