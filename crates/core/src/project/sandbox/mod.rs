//! Scratch folders that hold only what a stage declares: what they share, and how references are found in them.

mod pool;

use std::path::Path;

use textum_base::SourcePath;

pub use pool::Pool;

use crate::fsio::{IoError, TreeDir};

/// Lets a stage find a reference in a sandbox: by a link, since its bytes stay where they are. One with
/// an absolute path is found there anyway.
pub fn link_reference(project: &Path, path: &SourcePath, sandbox: &TreeDir) -> Result<(), IoError> {
    let Some(path) = path.in_project() else { return Ok(()) };
    if sandbox.standing(&path)?.is_some() {
        return Ok(());
    }
    sandbox.create_parent(&path)?;
    sandbox.create_link(&project.join(&path).to_string_lossy(), &path)
}
