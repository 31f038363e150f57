//! Moving, copying and removing files and folders without losing any, by their paths. For what lies in a
//! project's tree there is [`super::TreeDir`], which no link leads out of.

use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use super::IoError;
use super::fault::{self, Step};

/// Removes a file, link or whole folder; nothing there is no error.
pub fn remove_any(path: &Path) -> Result<(), IoError> {
    let result = fault::before(Step::Remove, path).and_then(|()| match fs::symlink_metadata(path) {
        Ok(meta) if meta.is_dir() => fs::remove_dir_all(path),
        Ok(_) => fs::remove_file(path),
        Err(e) => Err(e),
    });
    match result {
        Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(()),
        other => other.map_err(IoError::of("remove", path)),
    }
}

/// Copies a regular file with its permission bits; the file system shares the blocks where it can.
pub fn copy_file(from: &Path, to: &Path) -> Result<(), IoError> {
    if let Some(folder) = to.parent() {
        fs::create_dir_all(folder).map_err(IoError::of("create the folder", folder))?;
    }
    fault::before(Step::Write, to).and_then(|()| fs::copy(from, to)).map(drop).map_err(IoError::of("copy", from))
}

/// Sets or clears the execute bits for those who may read.
pub fn set_executable(path: &Path, executable: bool) -> Result<(), IoError> {
    let meta = fs::metadata(path).map_err(IoError::of("look at", path))?;
    let mode = meta.permissions().mode();
    let wanted = if executable { mode | ((mode & 0o444) >> 2) } else { mode & !0o111 };
    if wanted == mode {
        return Ok(());
    }
    fs::set_permissions(path, fs::Permissions::from_mode(wanted)).map_err(IoError::of("set the mode of", path))
}
