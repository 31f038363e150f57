//! Contents that sandboxes share: written out and checked once, then put in place without copying bytes.
//!
//! Where the file system can, a file is put as a clone, which is copied only where it is written into.
//! Elsewhere it is a hard link: a stage that writes into it changes the pool's file too. That is seen when
//! the stage's reads are looked at after it, the stage fails, and the pool forgets the file; sandboxes that
//! share it see it the same way. Who writes into it and puts it back is seen by a watch on the pool's files.
//! Nothing of a person's is ever linked: the pool is Textum's own.

use std::collections::HashMap;
use std::fs;
use std::path::Path;
use std::sync::{Mutex, PoisonError};
use std::time::Instant;

use inotify::{Inotify, WatchDescriptor, WatchMask};
use textum_base::ProjectPath;

use crate::fsio::{self, IoError, Stamp, Standing, TreeDir};
use crate::project::tree::{PutError, write_new};
use crate::record::receipt::{Content, ContentKind};
use crate::store::{Digest, ItemKind, Store, items_of_listing};

/// So many files are watched at most.
const MOST_WATCHED: usize = 4096;

/// Contents written out once.
pub struct Pool {
    folder: TreeDir,
    /// The files as they were when they were known to be right.
    known: Mutex<HashMap<ProjectPath, Stamp>>,
    clones: bool,
    watch: Option<Mutex<Watch>>,
}

/// Notices who writes into a file that is shared.
struct Watch {
    inotify: Inotify,
    names: HashMap<WatchDescriptor, ProjectPath>,
    written: HashMap<ProjectPath, Instant>,
}

fn clone_file(pool: &TreeDir, name: &ProjectPath, tree: &TreeDir, path: &ProjectPath, mode: u32) -> bool {
    let (Ok(source), Ok(target)) = (pool.open_file(name), tree.create_file(path, mode)) else { return false };
    if rustix::fs::ioctl_ficlone(target.file(), &source).is_ok() {
        return true;
    }
    let _ = tree.remove(path);
    false
}

/// The name of a file in the pool.
fn name_of(digest: &Digest, executable: bool, private: bool) -> Result<ProjectPath, IoError> {
    let name = format!("{}{}{}", digest.hex(), if executable { "x" } else { "" }, if private { "p" } else { "" });
    ProjectPath::new(&name).map_err(|e| IoError::of("share", name.as_ref())(std::io::Error::other(e)))
}

impl Pool {
    /// The pool of the sandboxes in a folder. It is made anew by each process that uses it, so that what
    /// it holds is known to be right; what an earlier one left goes.
    pub fn open(sandboxes: &Path) -> Result<Pool, IoError> {
        let all = sandboxes.join(".pool");
        sweep(&all);
        let folder = TreeDir::create(&all.join(std::process::id().to_string()))?;
        let clones = {
            let (a, b) = (name_of(&Digest::of(b"a"), false, false)?, name_of(&Digest::of(b"b"), false, false)?);
            let can = fsio::overwrite(&folder.full(&a), b"cloned").is_ok() && clone_file(&folder, &a, &folder, &b, 0o600);
            folder.remove(&a)?;
            folder.remove(&b)?;
            can
        };
        let watch = || Some(Mutex::new(Watch { inotify: Inotify::init().ok()?, names: HashMap::new(), written: HashMap::new() }));
        Ok(Pool { folder, known: Mutex::default(), clones, watch: if clones { None } else { watch() } })
    }

    fn seen(&self, name: &ProjectPath) -> Option<Stamp> {
        self.folder.stamp(name).ok().flatten()
    }

    /// Puts a content to a path where nothing stands.
    pub fn put(&self, store: &Store, content: &Content, tree: &TreeDir, path: &ProjectPath) -> Result<(), PutError> {
        tree.create_parent(path)?;
        if content.kind != ContentKind::Folder {
            let executable = content.kind == ContentKind::Exec;
            return self.put_file(store, &content.digest, executable, content.private.covers(""), tree, path);
        }
        let listing = store.read(&content.digest)?;
        let items = items_of_listing(store, &content.digest, &listing)?;
        if store.has_source() {
            store.bring(&items.iter().filter_map(|item| item.digest).collect::<Vec<_>>())?;
        }
        // Links need the care of the one who writes whole folders, and are few.
        if items.iter().any(|i| i.kind == ItemKind::Link) {
            return write_new(store, content, tree, path);
        }
        tree.create_folder(path)?;
        let folder = tree.folder(path)?;
        let mut last = String::new();
        for item in &items {
            let Ok(below) = ProjectPath::listed(&item.path) else { continue };
            match &item.digest {
                None => folder.create_folder(&below)?,
                Some(digest) => {
                    if let Some(parent) = below.parent().filter(|p| *p != last) {
                        folder.create_parent(&below)?;
                        last = parent.to_string();
                    }
                    let private = content.private.covers(&item.path);
                    self.put_file(store, digest, item.kind == ItemKind::Exec, private, &folder, &below)?;
                }
            }
        }
        Ok(())
    }

    fn put_file(
        &self,
        store: &Store,
        digest: &Digest,
        executable: bool,
        private: bool,
        tree: &TreeDir,
        path: &ProjectPath,
    ) -> Result<(), PutError> {
        let name = name_of(digest, executable, private)?;
        let kind = if executable { ContentKind::Exec } else { ContentKind::File };
        let file = Content { kind, private: private.into(), ..Content::file(*digest, 0) };
        self.take_in_written();
        let right = {
            let known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
            known.get(&name).is_some_and(|then| self.seen(&name).as_ref() == Some(then))
        };
        if !right {
            self.folder.remove(&name)?;
            write_new(store, &file, &self.folder, &name)?;
            if let Some(now) = self.seen(&name) {
                self.known.lock().unwrap_or_else(PoisonError::into_inner).insert(name.clone(), now);
            }
            self.watch(&name);
        }
        let mode = if executable { 0o777 } else { 0o666 };
        let put = match self.clones {
            true => clone_file(&self.folder, &name, tree, path, if private { mode & 0o700 } else { mode }),
            false => self.folder.share(&name, tree, path).is_ok(),
        };
        // Too many links, or another disk: then a copy.
        if put { Ok(()) } else { write_new(store, &file, tree, path) }
    }

    fn watch(&self, name: &ProjectPath) {
        let Some(watch) = &self.watch else { return };
        let mut watch = watch.lock().unwrap_or_else(PoisonError::into_inner);
        if watch.names.len() < MOST_WATCHED
            && let Ok(descriptor) = watch.inotify.watches().add(self.folder.full(name), WatchMask::MODIFY)
        {
            watch.names.insert(descriptor, name.clone());
        }
    }

    /// Forgets what somebody has written into, whether or not it was put back.
    fn take_in_written(&self) {
        let Some(watch) = &self.watch else { return };
        let mut guard = watch.lock().unwrap_or_else(PoisonError::into_inner);
        let Watch { inotify, names, written } = &mut *guard;
        let mut buffer = [0; 4096];
        while let Ok(events) = inotify.read_events(&mut buffer) {
            let found: Vec<ProjectPath> = events.filter_map(|e| names.get(&e.wd).cloned()).collect();
            if found.is_empty() {
                break;
            }
            let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
            for name in found {
                known.remove(&name);
                written.insert(name, Instant::now());
            }
        }
    }

    fn names_in(store: &Store, content: &Content) -> Vec<ProjectPath> {
        let mut digests = vec![content.digest];
        if content.kind == ContentKind::Folder {
            let listing = store.read(&content.digest).unwrap_or_default();
            let items = items_of_listing(store, &content.digest, &listing).unwrap_or_default();
            digests.extend(items.iter().filter_map(|i| i.digest));
        }
        let forms = [(false, false), (true, false), (false, true), (true, true)];
        digests.iter().flat_map(|d| forms.iter().filter_map(|(x, p)| name_of(d, *x, *p).ok())).collect()
    }

    /// Whether somebody has written into a content that is shared since a moment.
    pub fn was_written(&self, store: &Store, content: &Content, since: Instant) -> bool {
        self.take_in_written();
        let Some(watch) = &self.watch else { return false };
        let watch = watch.lock().unwrap_or_else(PoisonError::into_inner);
        !watch.written.is_empty()
            && Pool::names_in(store, content).iter().any(|n| watch.written.get(n).is_some_and(|at| *at >= since))
    }

    /// Forgets a content: the next who needs it gets it from the store.
    pub fn forget(&self, store: &Store, content: &Content) {
        let mut known = self.known.lock().unwrap_or_else(PoisonError::into_inner);
        for name in Pool::names_in(store, content) {
            known.remove(&name);
        }
    }

    /// Puts what stands at a path of one sandbox to the same path of another, sharing bytes as the pool does.
    pub fn share_tree(&self, from: &TreeDir, path: &ProjectPath, to: &TreeDir) -> Result<(), PutError> {
        to.create_parent(path)?;
        let Some(standing) = from.standing(path)? else { return Ok(()) };
        let one = |from: &TreeDir, path: &ProjectPath, to: &TreeDir| -> Result<(), PutError> {
            let executable =
                fs::metadata(from.full(path)).is_ok_and(|m| std::os::unix::fs::PermissionsExt::mode(&m.permissions()) & 0o100 != 0);
            let mode = if executable { 0o777 } else { 0o666 };
            let put = if self.clones { clone_file(from, path, to, path, mode) } else { from.share(path, to, path).is_ok() };
            if put { Ok(()) } else { Ok(fsio::copy_file(&from.full(path), &to.full(path))?) }
        };
        match standing {
            Standing::File => one(from, path, to),
            Standing::Link => Ok(to.create_link(&from.link_text(path)?.to_string_lossy(), path)?),
            Standing::Other => Ok(()),
            Standing::Folder => {
                to.create_folder(path)?;
                let (from, to) = (from.folder(path)?, to.folder(path)?);
                let refused = |e: crate::project::fingerprint::ScanError| {
                    IoError::of("share", from.path())(std::io::Error::other(e.to_string()))
                };
                for seen in crate::project::fingerprint::walk(from.path()).map_err(refused)? {
                    let Ok(below) = ProjectPath::listed(&seen.path) else { continue };
                    match seen.kind {
                        ItemKind::EmptyDir => to.create_folder(&below)?,
                        ItemKind::Link => {
                            to.create_parent(&below)?;
                            to.create_link(&from.link_text(&below)?.to_string_lossy(), &below)?;
                        }
                        ItemKind::File | ItemKind::Exec => {
                            to.create_parent(&below)?;
                            one(&from, &below, &to)?;
                        }
                    }
                }
                Ok(())
            }
        }
    }
}

impl Drop for Pool {
    fn drop(&mut self) {
        let _ = fsio::remove_any(self.folder.path());
        // Fails, as it should, while another process has a pool there.
        let _ = self.folder.path().parent().map(fsio::remove_empty_folder);
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
