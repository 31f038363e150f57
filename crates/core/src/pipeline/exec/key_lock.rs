//! One execution of a key at a time, whichever process begins it: the others wait for the result.
//!
//! A lock is a file below `.textum/keys`, held by whoever executes the stage until its result can be found by
//! others, and released with the process however that ends.

use std::fs;
use std::path::{Path, PathBuf};

use crate::fsio::{FileLock, IoError, TryLock};
use crate::store::Digest;

/// The lock on a stage key.
pub(super) struct KeyLock {
    _lock: FileLock,
    path: PathBuf,
}

/// What came of trying to take it.
pub(super) enum TryKey {
    /// It is ours.
    Taken(KeyLock),
    /// A run of another process is executing it: its id, as far as it has said.
    Held(String),
}

impl KeyLock {
    /// Takes the lock on a key for a run, if nobody has it.
    pub(super) fn take(folder: &Path, key: &Digest, run: &str) -> Result<TryKey, IoError> {
        let path = folder.join(key.hex());
        loop {
            match FileLock::try_exclusive(&path)? {
                TryLock::Taken(mut lock) if lock.is_still_there() => {
                    lock.describe(run)?;
                    return Ok(TryKey::Taken(KeyLock { _lock: lock, path }));
                }
                // Whoever had it has just removed it.
                TryLock::Taken(_) | TryLock::Absent => {}
                TryLock::Held => {
                    let by = fs::read_to_string(&path).unwrap_or_default();
                    return Ok(TryKey::Held(by.chars().filter(|c| c.is_ascii_alphanumeric() || *c == '-').take(40).collect()));
                }
            }
        }
    }
}

impl Drop for KeyLock {
    fn drop(&mut self) {
        // Before the lock goes, so that nobody takes it for one that still means something.
        let _ = crate::fsio::remove_file(&self.path);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_key_is_had_by_one_and_free_again_after_it() {
        let folder = tempfile::tempdir().unwrap();
        let key = Digest::of(b"key");
        let take = || KeyLock::take(folder.path(), &key, "20261123-0542-7f3a").unwrap();
        let TryKey::Taken(first) = take() else { panic!("nobody has it") };
        assert!(matches!(take(), TryKey::Held(by) if by == "20261123-0542-7f3a"));
        assert!(matches!(KeyLock::take(folder.path(), &Digest::of(b"other"), "x").unwrap(), TryKey::Taken(_)));
        drop(first);
        assert!(matches!(take(), TryKey::Taken(_)));
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0);
    }
}
