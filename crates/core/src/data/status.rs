//! The datasets of the manifest as they are now.

use serde::Serialize;

use super::DataError;
use super::version::{Version, versions};
use crate::config::manifest::DatasetDecl;
use crate::project::workspace::Project;
use crate::record::receipt::Content;

/// How a dataset in the working tree stands to what is recorded.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum DatasetState {
    /// It is a recorded version.
    Recorded,
    /// It is no recorded version; others are.
    Edited,
    /// No state of it was ever recorded.
    New,
    /// Nothing stands at its path.
    Missing,
}

/// A dataset as it is now.
#[derive(Clone, Debug)]
pub struct DatasetStatus {
    /// Its declaration.
    pub decl: DatasetDecl,
    /// How it stands to what is recorded.
    pub state: DatasetState,
    /// What stands at its path.
    pub content: Option<Content>,
    /// The version that it is; of an edited or missing one, the newest there is.
    pub version: Option<Version>,
    /// How many versions there are.
    pub versions: usize,
}

/// Looks at every dataset.
pub fn status_of(project: &Project) -> Result<Vec<DatasetStatus>, DataError> {
    let mut found = Vec::new();
    for decl in &project.manifest.data {
        let content = project.scanner.look(&decl.path)?;
        let mut known = versions(&project.ledger, &decl.name)?;
        let count = known.len();
        let same = content.as_ref().and_then(|c| known.iter().position(|v| v.content.digest == c.digest));
        let state = match (&content, same, count) {
            (None, ..) => DatasetState::Missing,
            (_, Some(_), _) => DatasetState::Recorded,
            (_, None, 0) => DatasetState::New,
            _ => DatasetState::Edited,
        };
        let version = match same {
            Some(at) => Some(known.swap_remove(at)),
            None => known.pop(),
        };
        found.push(DatasetStatus { decl: decl.clone(), state, content, version, versions: count });
    }
    project.save_looks();
    Ok(found)
}
