//! The one place with rename, sync and locks: how a file comes to be whole or not at all.
// This is the one place.
#![allow(clippy::disallowed_methods)]

mod atomic;
mod beneath;
mod fault;
mod lock;
mod name_lock;
mod out;
mod place;

use std::fmt;
use std::io;
use std::path::{Path, PathBuf};

pub use atomic::{
    part_file, part_folder, part_prefix, rename, same_disk, sweep_parts, sync_files_of, sync_folder, write_atomic, write_atomic_by,
    write_derived,
};
pub use beneath::{Scratch, Stamp, Standing, TreeDir};
pub use lock::{FileLock, TryLock};
pub use name_lock::{NameLock, TryName};
pub use out::OutFile;
pub use place::{
    append, copy_file, create, create_folder, create_only, link_or_copy, open_plain, overwrite, read_small, remove_any,
    remove_empty_folder, remove_file, set_executable, set_mode, share_file,
};

/// A failed operation on a path: what was being done, to which path, and why it failed.
#[derive(Debug)]
pub struct IoError {
    /// A verb phrase that completes "cannot …", such as `read` or `create the folder`.
    pub action: &'static str,
    /// The path it was done to.
    pub path: PathBuf,
    /// What the operating system said.
    pub source: io::Error,
}

impl IoError {
    /// Ties an operating-system error to what was done to which path; made for `map_err`.
    pub fn of(action: &'static str, path: &Path) -> impl FnOnce(io::Error) -> IoError {
        let path = path.to_path_buf();
        move |source| IoError { action, path, source }
    }

    /// Whether the system does not let us write there: no right to, or a file system that is read only.
    pub fn is_refused(&self) -> bool {
        matches!(self.source.kind(), io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem)
    }

    /// Whether there was no room: on the disk, or for files of this size.
    pub fn is_full(&self) -> bool {
        matches!(self.source.kind(), io::ErrorKind::StorageFull | io::ErrorKind::QuotaExceeded | io::ErrorKind::FileTooLarge)
    }

    /// Whether the path was simply not there.
    pub fn is_not_found(&self) -> bool {
        self.source.kind() == io::ErrorKind::NotFound
    }
}

impl fmt::Display for IoError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "cannot {} {}: {}", self.action, self.path.display(), self.source)
    }
}

impl std::error::Error for IoError {
    fn source(&self) -> Option<&(dyn std::error::Error + 'static)> {
        Some(&self.source)
    }
}
