//! Locks on any number of names without a file for each: a byte of one file stands for a name. Making and removing a file costs
//! far more than a lock, on ext4 all the more the more of them were removed in the last seconds.

use std::fs::File;
use std::os::fd::AsFd;
use std::os::unix::fs::FileExt;
use std::path::Path;

use nix::fcntl::{FcntlArg, fcntl};
use nix::libc;

use super::IoError;
use super::lock::open;

/// The first byte that stands for a name; before it holders write who they are.
const FIRST: u64 = 1 << 62;
/// Places for holders' words; names share them, so that each begins with its name.
const SLOTS: u64 = 4096;
/// The length of one, in bytes.
const SLOT: usize = 64;

/// An advisory lock on a name (`F_OFD_SETLK`, `man 2 fcntl`), held until dropped or until the process ends, however it ends.
#[derive(Debug)]
pub struct NameLock {
    file: File,
    byte: u64,
}

/// What came of trying to take one.
#[derive(Debug)]
pub enum TryName {
    /// It is ours.
    Taken(NameLock),
    /// Another has it: its words, as far as they can be read.
    Held(String),
}

impl NameLock {
    /// Takes the lock on a name in a file, which is made if it is not there, unless somebody has it, be it this process. `name`
    /// is a digest; `by` says who takes it, in a word of 47 bytes at most.
    pub fn take(path: &Path, name: &[u8; 32], by: &str) -> Result<TryName, IoError> {
        let number = u64::from_le_bytes([name[0], name[1], name[2], name[3], name[4], name[5], name[6], name[7]]);
        let lock = NameLock { file: open(path)?, byte: FIRST | (number >> 2) };
        let mut slot = [b' '; SLOT];
        slot[..16].copy_from_slice(&name[16..]);
        let at = (number % SLOTS) * SLOT as u64;
        match lock.set(libc::F_WRLCK) {
            Ok(()) => {
                let by = &by.as_bytes()[..by.len().min(SLOT - 17)];
                slot[16..16 + by.len()].copy_from_slice(by);
                lock.file.write_all_at(&slot, at).map_err(IoError::of("write", path))?;
                Ok(TryName::Taken(lock))
            }
            Err(nix::errno::Errno::EAGAIN | nix::errno::Errno::EACCES) => {
                let mut found = [0; SLOT];
                let is_its = lock.file.read_exact_at(&mut found, at).is_ok() && found[..16] == slot[..16];
                let by = if is_its { String::from_utf8_lossy(&found[16..]).trim_end().to_string() } else { String::new() };
                Ok(TryName::Held(by))
            }
            Err(e) => Err(IoError::of("lock", path)(e.into())),
        }
    }

    fn set(&self, kind: libc::c_int) -> nix::Result<()> {
        let range = libc::flock {
            l_type: kind as libc::c_short,
            l_whence: libc::SEEK_SET as libc::c_short,
            l_start: self.byte as libc::off_t,
            l_len: 1,
            l_pid: 0,
        };
        fcntl(self.file.as_fd(), FcntlArg::F_OFD_SETLK(&range)).map(drop)
    }
}

impl Drop for NameLock {
    /// As with [`super::FileLock`]: a child that is just being started must not hold it on.
    fn drop(&mut self) {
        let _ = self.set(libc::F_UNLCK);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn take(path: &Path, name: &[u8; 32], by: &str) -> Result<NameLock, String> {
        match NameLock::take(path, name, by).unwrap() {
            TryName::Taken(lock) => Ok(lock),
            TryName::Held(by) => Err(by),
        }
    }

    #[test]
    fn a_name_is_had_by_one_and_free_again_after_it() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("keys/held");
        let (one, mut other, mut far) = ([7; 32], [7; 32], [7; 32]);
        // The same place for words, another byte; and the same byte but for what is beyond its number.
        other[7] = 9;
        far[31] = 1;
        let first = take(&path, &one, "20261123-0542-7f3a").unwrap();
        assert_eq!(take(&path, &one, "me").unwrap_err(), "20261123-0542-7f3a");
        assert_eq!(take(&path, &far, "me").unwrap_err(), "", "whose words they are is not told wrongly");
        let second = take(&path, &other, "b").unwrap();
        assert_eq!(take(&path, &one, "me").unwrap_err(), "b", "the words of another name with the same end");
        let of_child = first.file.try_clone().unwrap();
        drop(first);
        let again = take(&path, &one, "me").unwrap();
        drop((of_child, again, second));
        assert!(take(&path, &one, "").is_ok());
        assert_eq!(std::fs::read_dir(path.parent().unwrap()).unwrap().count(), 1);
    }

    proptest! {
        #[test]
        fn names_that_differ_in_their_beginning_do_not_wait_for_one_another(a: [u8; 32], b: [u8; 32], by in "\\PC{0,80}") {
            let folder = tempfile::tempdir().unwrap();
            let path = folder.path().join("held");
            let first = take(&path, &a, &by).unwrap();
            let second = take(&path, &b, "");
            let same = u64::from_le_bytes(a[..8].try_into().unwrap()) >> 2 == u64::from_le_bytes(b[..8].try_into().unwrap()) >> 2;
            prop_assert_eq!(second.is_err(), same);
            drop(first);
            prop_assert!(take(&path, &a, &by).is_ok());
        }
    }
}
