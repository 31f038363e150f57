//! Scratch folders that hold only what a stage declares.

use std::collections::BTreeMap;
use std::path::PathBuf;

use crate::exec::ExecError;
use crate::fsio::IoError;
use crate::receipt::Content;
use crate::restore::put_new;
use crate::store::Store;
use crate::workspace::Workspace;

/// Makes a sandbox of this name and puts contents in it. Nothing else is in it.
pub fn create(
    workspace: &Workspace,
    name: &str,
    store: &Store,
    contents: &BTreeMap<String, Content>,
) -> Result<PathBuf, ExecError> {
    let root = workspace.sandboxes_folder().join(name);
    std::fs::create_dir_all(&root).map_err(IoError::of("create the folder", &root))?;
    // A read may lie in another read: the folder is put first, and what it holds already stays.
    for (path, content) in contents {
        let target = root.join(path);
        if target.symlink_metadata().is_err() {
            put_new(store, content, &target)?;
        }
    }
    Ok(root)
}
