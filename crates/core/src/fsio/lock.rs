//! Locks that end with the process that holds them, so that none is ever left behind.

use std::fs::{File, OpenOptions, TryLockError};
use std::path::{Path, PathBuf};

use super::IoError;

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
}

fn open(path: &Path) -> Result<File, IoError> {
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder).map_err(IoError::of("create the folder", folder))?;
    }
    OpenOptions::new()
        .create(true)
        .truncate(false)
        .read(true)
        .write(true)
        .open(path)
        .map_err(IoError::of("open the lock file", path))
}

impl FileLock {
    /// Takes the lock if nobody holds it.
    pub fn try_exclusive(path: &Path) -> Result<TryLock, IoError> {
        let file = open(path)?;
        match file.try_lock() {
            Ok(()) => Ok(TryLock::Taken(FileLock { file, path: path.to_path_buf() })),
            Err(TryLockError::WouldBlock) => Ok(TryLock::Held),
            Err(TryLockError::Error(e)) => Err(IoError::of("lock", path)(e)),
        }
    }

    /// Takes the lock beside any number of other shared holders, waiting for an exclusive one.
    pub fn shared(path: &Path) -> Result<FileLock, IoError> {
        let file = open(path)?;
        file.lock_shared().map_err(IoError::of("lock", path))?;
        Ok(FileLock { file, path: path.to_path_buf() })
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
}
