//! `textum.receipt.json`: what the working tree's datasets and outputs are, for git to keep.

use std::collections::BTreeMap;
use std::path::Path;

use serde::{Deserialize, Serialize};

use super::{Content, DatasetState, StageReceipt};
use crate::fsio::{self, IoError};
use crate::store::Digest;
use textum_base::{ProjectPath, TREE_RECEIPT_NAME};

/// Its `type`.
pub const TREE_RECEIPT: &str = "textum/tree-receipt@1";

/// The receipt of a working tree.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct TreeReceipt {
    /// [`TREE_RECEIPT`].
    pub r#type: String,
    /// The run that brought the tree to this state.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub run: Option<String>,
    /// Each dataset's state, by name.
    pub data: BTreeMap<String, DatasetState>,
    /// Each stage's result, by name.
    pub stages: BTreeMap<String, TreeStage>,
}

/// A stage's result in the working tree.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct TreeStage {
    /// The stage key.
    pub key: Digest,
    /// The stage receipt.
    pub receipt: Digest,
    /// The run that executed it.
    pub run: String,
    /// What it wrote, by path.
    pub writes: BTreeMap<ProjectPath, Content>,
}

impl TreeStage {
    /// What the tree's receipt says of a stage with this receipt.
    pub fn of(receipt: &StageReceipt, digest: Digest) -> TreeStage {
        let writes = receipt.outputs().map(|w| (w.path.clone(), w.content.clone())).collect();
        TreeStage { key: receipt.key, receipt: digest, run: receipt.run.clone(), writes }
    }
}

/// Why the tree's receipt could not be read.
#[derive(Debug, thiserror::Error)]
pub enum TreeReceiptError {
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// It is not what Textum writes.
    #[error("{} cannot be read: {what}", path.display())]
    Malformed {
        /// The file.
        path: std::path::PathBuf,
        /// What is wrong with it.
        what: String,
    },
}

impl TreeReceipt {
    /// Reads the receipt of a project's working tree; `None` when there is none yet.
    pub fn load(project: &Path) -> Result<Option<TreeReceipt>, TreeReceiptError> {
        let path = project.join(TREE_RECEIPT_NAME);
        let bytes = match std::fs::read(&path) {
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(None),
            other => other.map_err(IoError::of("read", &path))?,
        };
        let malformed = |what: String| TreeReceiptError::Malformed { path: path.clone(), what };
        let receipt: TreeReceipt = serde_json::from_slice(&bytes).map_err(|e| malformed(e.to_string()))?;
        if receipt.r#type != TREE_RECEIPT {
            return Err(malformed(format!("its type is `{}`, this Textum reads `{TREE_RECEIPT}`", receipt.r#type)));
        }
        super::Document::check(&receipt).map_err(malformed)?;
        Ok(Some(receipt))
    }

    /// Writes it beside the manifest, if it differs from what stands there.
    pub fn save(&self, project: &Path) -> Result<(), IoError> {
        let path = project.join(TREE_RECEIPT_NAME);
        let mut text = serde_json::to_vec_pretty(self).map_err(|e| IoError::of("write", &path)(e.into()))?;
        text.push(b'\n');
        if std::fs::read(&path).is_ok_and(|now| now == text) {
            return Ok(());
        }
        fsio::write_atomic_by(&path, &text, &project.join(".textum"))
    }
}
