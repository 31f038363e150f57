//! Contents that sandboxes share: written out and checked once, then put in place without copying bytes.
//!
//! Where the file system can, a file is put as a clone, which is copied only where it is written into.
//! Elsewhere it is a hard link: a stage that writes into it changes the pool's file too. That is seen when
//! the stage's reads are looked at after it, the stage fails, and the pool forgets the file; sandboxes that
//! share it see it the same way. Nothing of a person's is ever linked: the pool is Textum's own.

use std::collections::HashMap;
use std::fs;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use crate::fsio::{self, IoError};
use crate::receipt::{Content, ContentKind};
use crate::restore::{PutError, put_new};
use crate::store::{Digest, ItemKind, Store, StoreError, parse_listing};

/// A file of the pool as it was when it was known to be right: size, time of its last change, inode.
type Seen = (u64, i64, i64, u64);

/// Contents written out once.
pub struct Pool {
    folder: PathBuf,
    known: Mutex<HashMap<String, Seen>>,
    clones: bool,
}

fn seen(path: &Path) -> Option<Seen> {
    let meta = fs::symlink_metadata(path).ok().filter(|m| m.is_file())?;
    Some((meta.len(), meta.mtime(), meta.mtime_nsec(), meta.ino()))
}

fn clone_file(from: &Path, to: &Path) -> bool {
    let (Ok(source), Ok(target)) = (fs::File::open(from), fs::File::create_new(to)) else { return false };
    if rustix::fs::ioctl_ficlone(&target, &source).is_ok() {
        return true;
    }
    let _ = fs::remove_file(to);
    false
}

impl Pool {
    /// The pool of the sandboxes in a folder. It is made anew by each process that uses it, so that what
    /// it holds is known to be right; what an earlier one left goes.
    pub fn open(sandboxes: &Path) -> Pool {
        let all = sandboxes.join(".pool");
        sweep(&all);
        let folder = all.join(std::process::id().to_string());
        let clones = fs::create_dir_all(&folder).is_ok() && {
            let (a, b) = (folder.join("a"), folder.join("b"));
            let can = fs::write(&a, b"cloned").is_ok() && clone_file(&a, &b);
            let _ = (fs::remove_file(&a), fs::remove_file(&b));
            can
        };
        Pool { folder, known: Mutex::default(), clones }
    }

    fn name(digest: &Digest, executable: bool) -> String {
        format!("{}{}", digest.hex(), if executable { "x" } else { "" })
    }

    /// Puts a content to a path where nothing stands.
    pub fn put(&self, store: &Store, content: &Content, target: &Path) -> Result<(), PutError> {
        if content.kind != ContentKind::Folder {
            return self.put_file(store, &content.digest, content.kind == ContentKind::Exec, target);
        }
        let listing = store.read(&content.digest)?;
        let items = parse_listing(&listing)
            .map_err(|e| StoreError::Damaged { path: store.folder().to_path_buf(), what: format!("{}: {e}", content.digest) })?;
        let make = |folder: &Path| fs::create_dir_all(folder).map_err(IoError::of("create the folder", folder));
        make(target)?;
        let mut last = String::new();
        for item in &items {
            let full = target.join(&*item.path);
            let parent = item.path.rsplit_once('/').map_or("", |(folder, _)| folder);
            if !parent.is_empty() && parent != last {
                make(&target.join(parent))?;
                last = parent.to_string();
            }
            match (item.kind, &item.digest) {
                (ItemKind::EmptyDir, _) | (_, None) => make(&full)?,
                (ItemKind::Link, Some(digest)) => {
                    let text = String::from_utf8_lossy(&store.read(digest)?).into_owned();
                    std::os::unix::fs::symlink(text, &full).map_err(IoError::of("create the link", &full))?;
                }
                (kind, Some(digest)) => self.put_file(store, digest, kind == ItemKind::Exec, &full)?,
            }
        }
        Ok(())
    }

    fn put_file(&self, store: &Store, digest: &Digest, executable: bool, target: &Path) -> Result<(), PutError> {
        if let Some(parent) = target.parent() {
            fs::create_dir_all(parent).map_err(IoError::of("create the folder", parent))?;
        }
        let name = Pool::name(digest, executable);
        let source = self.folder.join(&name);
        let right = {
            let known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
            known.get(&name).is_some_and(|then| seen(&source).as_ref() == Some(then))
        };
        if !right {
            fsio::remove_any(&source)?;
            let kind = if executable { ContentKind::Exec } else { ContentKind::File };
            put_new(store, &Content { kind, digest: *digest, size: 0, files: None }, &source)?;
            if let Some(now) = seen(&source) {
                self.known.lock().unwrap_or_else(PoisonError::into_inner).insert(name, now);
            }
        }
        let put = if self.clones {
            clone_file(&source, target) && (!executable || fsio::set_executable(target, true).is_ok())
        } else {
            fs::hard_link(&source, target).is_ok()
        };
        if put {
            return Ok(());
        }
        // Too many links, or another disk: then a copy.
        let kind = if executable { ContentKind::Exec } else { ContentKind::File };
        put_new(store, &Content { kind, digest: *digest, size: 0, files: None }, target)
    }

    /// Forgets a content: the next who needs it gets it from the store.
    pub fn forget(&self, store: &Store, content: &Content) {
        let mut digests = vec![content.digest];
        if content.kind == ContentKind::Folder {
            let listing = store.read(&content.digest).unwrap_or_default();
            digests.extend(parse_listing(&listing).unwrap_or_default().iter().filter_map(|i| i.digest));
        }
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        for digest in digests {
            known.remove(&Pool::name(&digest, false));
            known.remove(&Pool::name(&digest, true));
        }
    }
}

impl Drop for Pool {
    fn drop(&mut self) {
        let _ = fsio::remove_any(&self.folder);
        // Fails, as it should, while another process has a pool there.
        let _ = self.folder.parent().map(fs::remove_dir);
    }
}

/// Removes what processes that are gone have left. Links in their sandboxes keep their content.
fn sweep(all: &Path) {
    for entry in fs::read_dir(all).into_iter().flatten().flatten() {
        let process = entry.file_name().to_str().and_then(|n| n.parse::<u32>().ok());
        let alive = process.is_some_and(|p| Path::new("/proc").join(p.to_string()).exists() || !Path::new("/proc/self").exists());
        if !alive || process == Some(std::process::id()) {
            let _ = fsio::remove_any(&entry.path());
        }
    }
}
