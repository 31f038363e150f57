//! What is still to be done of what was erased: depots that have not heard of it, and what others have erased and this machine
//! has not.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use crate::fsio::{self, IoError};
use crate::project::workspace::Workspace;
use crate::store::Digest;

/// The `type` of the file of it.
const TYPE: &str = "textum/erasures@1";

/// What is still to be done of what was erased, and what of others' has been done here.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct Pending {
    r#type: String,
    /// Depots that have not heard of a receipt yet.
    pub depots: BTreeMap<Digest, BTreeSet<String>>,
    /// Receipts that this machine has carried out.
    pub done: BTreeSet<Digest>,
}

fn path(workspace: &Workspace) -> PathBuf {
    workspace.state().join("erasures.json")
}

impl Pending {
    /// What there is.
    pub fn load(workspace: &Workspace) -> Pending {
        // One that cannot be read knows of nothing done: all is looked at once more.
        let read = fsio::read_small(&path(workspace), 64 << 20).and_then(|bytes| serde_json::from_slice(&bytes).ok());
        read.filter(|p: &Pending| p.r#type == TYPE).unwrap_or_else(|| Pending { r#type: TYPE.to_string(), ..Pending::default() })
    }

    fn save(&self, workspace: &Workspace) -> Result<(), IoError> {
        let path = path(workspace);
        let bytes = serde_json::to_vec_pretty(self).map_err(|e| IoError::of("write", &path)(e.into()))?;
        fsio::write_atomic(&path, &bytes)
    }

    /// Depots are to hear of a receipt, which this machine has carried out.
    pub fn add(workspace: &Workspace, receipt: &Digest, depots: &[String]) -> Result<(), IoError> {
        let mut pending = Pending::load(workspace);
        if !depots.is_empty() {
            pending.depots.entry(*receipt).or_default().extend(depots.iter().cloned());
        }
        pending.done.insert(*receipt);
        pending.save(workspace)
    }

    /// A depot has heard of receipts.
    pub fn heard(workspace: &Workspace, receipts: &[Digest], depot: &str) -> Result<(), IoError> {
        let mut pending = Pending::load(workspace);
        for receipt in receipts {
            if let Some(depots) = pending.depots.get_mut(receipt) {
                depots.remove(depot);
            }
        }
        pending.depots.retain(|_, depots| !depots.is_empty());
        pending.save(workspace)
    }
}
