//! Moving, copying and removing files and folders without losing any.

use std::fs;
use std::io;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use super::IoError;

/// Removes a file, link or whole folder; nothing there is no error.
pub fn remove_any(path: &Path) -> Result<(), IoError> {
    let result = match fs::symlink_metadata(path) {
        Ok(meta) if meta.is_dir() => fs::remove_dir_all(path),
        Ok(_) => fs::remove_file(path),
        Err(e) => Err(e),
    };
    match result {
        Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(()),
        other => other.map_err(IoError::of("remove", path)),
    }
}

/// Moves what stands at `path` to `wanted`, or beside it with a number when that is taken.
/// Nothing at the new place is ever overwritten. Returns where it went.
pub fn move_aside(path: &Path, wanted: &Path) -> Result<PathBuf, IoError> {
    if let Some(folder) = wanted.parent() {
        fs::create_dir_all(folder).map_err(IoError::of("create the folder", folder))?;
    }
    let mut target = wanted.to_path_buf();
    let mut number = 1;
    while fs::symlink_metadata(&target).is_ok() {
        number += 1;
        let mut name = wanted.file_name().unwrap_or_default().to_os_string();
        name.push(format!(".{number}"));
        target = wanted.with_file_name(name);
    }
    fs::rename(path, &target).map_err(IoError::of("move aside", path))?;
    Ok(target)
}

/// Copies a regular file with its permission bits; the file system shares the blocks where it can.
pub fn copy_file(from: &Path, to: &Path) -> Result<(), IoError> {
    if let Some(folder) = to.parent() {
        fs::create_dir_all(folder).map_err(IoError::of("create the folder", folder))?;
    }
    fs::copy(from, to).map(drop).map_err(IoError::of("copy", from))
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
