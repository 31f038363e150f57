//! Locks that end with the process that holds them, so that none is ever left behind.

use std::fs::{self, File, OpenOptions, TryLockError};
use std::io;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use super::IoError;
use super::fault::{self, Step};

/// An advisory lock on a file, held until dropped or until the process ends, however it ends.
#[derive(Debug)]
pub struct FileLock {
    file: File,
    path: PathBuf,
}

/// What came of trying to take a lock without waiting.
#[derive(Debug)]
pub enum TryLock {
    /// The lock is ours now.
    Taken(FileLock),
    /// Another process holds it.
    Held,
    /// There is no such file: nobody holds it, and looking for it must not make it.
    Absent,
}

pub(super) fn open(path: &Path) -> Result<File, IoError> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder).map_err(IoError::of("create the folder", folder))?;
    }
    let mut options = OpenOptions::new();
    options.create(true).truncate(false).read(true).write(true).open(path).map_err(IoError::of("open the lock file", path))
}

fn is_gone(e: &io::Error) -> bool {
    matches!(e.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
}

impl FileLock {
    fn try_open(file: File, path: &Path) -> Result<TryLock, IoError> {
        match file.try_lock() {
            Ok(()) => Ok(TryLock::Taken(FileLock { file, path: path.to_path_buf() })),
            Err(TryLockError::WouldBlock) => Ok(TryLock::Held),
            Err(TryLockError::Error(e)) => Err(IoError::of("lock", path)(e)),
        }
    }

    /// Takes the lock if nobody holds it; the file is made if it is not there.
    pub fn try_exclusive(path: &Path) -> Result<TryLock, IoError> {
        FileLock::try_open(open(path)?, path)
    }

    /// Takes the lock on a file that another process made, if nobody holds it. A file that is not there, or is
    /// removed at this moment, is nobody's.
    pub fn try_existing(path: &Path) -> Result<TryLock, IoError> {
        let file = match OpenOptions::new().read(true).write(true).open(path) {
            Err(e) if is_gone(&e) => return Ok(TryLock::Absent),
            // Not ours to take: whoever may write there does what there is to be done.
            Err(e) if matches!(e.kind(), io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem) => {
                return Ok(TryLock::Held);
            }
            other => other.map_err(IoError::of("open the lock file", path))?,
        };
        let found = FileLock::try_open(file, path)?;
        match found {
            TryLock::Taken(lock) if !lock.is_still_there() => Ok(TryLock::Absent),
            other => Ok(other),
        }
    }

    /// Whether the file that is locked is still the one of its name.
    pub fn is_still_there(&self) -> bool {
        let named = fs::symlink_metadata(&self.path).ok();
        named.zip(self.file.metadata().ok()).is_some_and(|(a, b)| (a.dev(), a.ino()) == (b.dev(), b.ino()))
    }

    /// Whether somebody holds the lock on a file; looking for it makes nothing and needs no right to write.
    pub fn is_held(path: &Path) -> bool {
        let Ok(file) = File::open(path) else { return false };
        let held = matches!(file.try_lock_shared(), Err(TryLockError::WouldBlock));
        let _ = file.unlock();
        held
    }

    /// Takes the lock beside any number of other shared holders, waiting for an exclusive one. `None` where the
    /// file is not there and may not be made: then nobody can write there either.
    pub fn shared(path: &Path) -> Result<Option<FileLock>, IoError> {
        let file = match open(path) {
            Ok(file) => file,
            Err(e) if e.is_refused() => match File::open(path) {
                Err(e) if is_gone(&e) => return Ok(None),
                other => other.map_err(IoError::of("open the lock file", path))?,
            },
            Err(e) => return Err(e),
        };
        file.lock_shared().map_err(IoError::of("lock", path))?;
        Ok(Some(FileLock { file, path: path.to_path_buf() }))
    }

    /// Takes the lock, waiting for whoever holds it.
    pub fn exclusive(path: &Path) -> Result<FileLock, IoError> {
        let file = open(path)?;
        file.lock().map_err(IoError::of("lock", path))?;
        Ok(FileLock { file, path: path.to_path_buf() })
    }

    /// Writes who holds the lock into its file, for those who find it held.
    pub fn describe(&mut self, text: &str) -> Result<(), IoError> {
        use std::io::{Seek, SeekFrom, Write};
        let write = |file: &mut File| {
            file.set_len(0)?;
            file.seek(SeekFrom::Start(0))?;
            file.write_all(text.as_bytes())
        };
        write(&mut self.file).map_err(IoError::of("write", &self.path))
    }

    /// Makes what is in its file durable.
    ///
    /// # Errors
    ///
    /// When the disk does not take it.
    pub fn sync(&self) -> Result<(), IoError> {
        fault::before(Step::Sync, &self.path).and_then(|()| self.file.sync_all()).map_err(IoError::of("sync", &self.path))
    }
}

impl Drop for FileLock {
    /// A child that another thread starts at this moment has a copy of the open file until it becomes its program, and closing
    /// ours would leave the lock to that (`man 2 flock`): others would find it held by nobody.
    fn drop(&mut self) {
        let _ = self.file.unlock();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_child_that_is_just_being_started_holds_no_lock_on() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("lock");
        for take in [FileLock::exclusive, |path: &Path| FileLock::shared(path).map(Option::unwrap)] {
            let lock = take(&path).unwrap();
            let of_child = lock.file.try_clone().unwrap();
            drop(lock);
            assert!(matches!(FileLock::try_exclusive(&path).unwrap(), TryLock::Taken(_)));
            drop(of_child);
        }
    }
}
