//! Scratch folders that hold only what a stage declares.

mod pool;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

pub use pool::Pool;

use crate::exec::ExecError;
use crate::fsio::IoError;
use crate::receipt::Content;
use crate::workspace::Project;

/// Makes a sandbox of this name and puts contents in it. Nothing else is in it.
pub fn create(project: &Project, name: &str, contents: &BTreeMap<String, Content>, pool: &Pool) -> Result<PathBuf, ExecError> {
    let root = project.workspace.sandboxes_folder().join(name);
    std::fs::create_dir_all(&root).map_err(IoError::of("create the folder", &root))?;
    // A read may lie in another read: the folder is put first, and what it holds already stays.
    for (path, content) in contents {
        let target = root.join(path);
        if project.scanner.is_reference(path) {
            link_reference(project.workspace.root(), path, &root)?;
        } else if target.symlink_metadata().is_err() {
            pool.put(&project.store, content, &target)?;
        }
    }
    Ok(root)
}

/// Lets a stage find a reference in a sandbox: by a link, since its bytes stay where they are. One with
/// an absolute path is found there anyway.
pub fn link_reference(project: &Path, path: &str, root: &Path) -> Result<(), IoError> {
    let target = root.join(path);
    if path.starts_with('/') || target.symlink_metadata().is_ok() {
        return Ok(());
    }
    if let Some(parent) = target.parent() {
        std::fs::create_dir_all(parent).map_err(IoError::of("create the folder", parent))?;
    }
    std::os::unix::fs::symlink(project.join(path), &target).map_err(IoError::of("create the link", &target))
}
