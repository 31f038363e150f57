//! Making room, without losing anything of a person's.
//!
//! What stands in the way is first moved aside, and only then looked at: so nothing can change between the look
//! and the removal. What the store has, or a stage left behind, goes then; the rest stays aside and is told of.

use std::cell::OnceCell;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use textum_base::ProjectPath;

use crate::config::manifest::MANIFEST_NAME;
use crate::event::{Event, EventSink};
use crate::fsio::{self, IoError, Stamp, Standing, TreeDir};
use crate::project::fingerprint::{Scanner, walk};
use crate::record::ledger::Ledger;
use crate::record::receipt::TREE_RECEIPT_NAME;
use crate::store::{Digest, ItemKind, Store, StoreError, hash_file};

/// Clears paths: what is recorded, or was left by a stage, goes; anything else is moved aside.
pub struct TreeCleaner<'a> {
    /// The folder that is cleared.
    pub(super) tree: &'a TreeDir,
    /// Looks at the files below it.
    pub(super) scanner: &'a Scanner,
    /// The store: what it holds can be had back.
    pub(super) store: &'a Store,
    ledger: &'a Ledger,
    events: &'a dyn EventSink,
    /// Textum's own folder.
    state: PathBuf,
    /// The name of the folder below `aside` that things are moved to, made when it is needed.
    name: String,
    aside: OnceCell<TreeDir>,
}

/// Why a path could not be cleared.
#[derive(Debug, thiserror::Error)]
pub enum ClearError {
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// The store could not be asked.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The ledger could not be asked.
    #[error(transparent)]
    Ledger(#[from] crate::record::ledger::LedgerError),
    /// Textum's own document would be replaced.
    #[error("{0} is not content of a run: it is neither replaced nor removed")]
    Own(ProjectPath),
}

/// What was moved aside, and what was known of it before.
pub(super) struct Moved {
    path: ProjectPath,
    to: ProjectPath,
    /// The content of a single file, and the metadata under which it was that.
    before: Option<(Digest, Stamp)>,
}

impl<'a> TreeCleaner<'a> {
    /// Clears below `tree`; what is to be kept goes to a folder of this name.
    pub fn new(
        tree: &'a TreeDir,
        scanner: &'a Scanner,
        store: &'a Store,
        ledger: &'a Ledger,
        state: PathBuf,
        name: &str,
        events: &'a dyn EventSink,
    ) -> TreeCleaner<'a> {
        TreeCleaner { tree, scanner, store, ledger, events, state, name: name.to_string(), aside: OnceCell::new() }
    }

    pub(super) fn incoming(&self) -> Result<TreeDir, IoError> {
        TreeDir::create(&self.state.join("incoming"))
    }

    fn aside(&self) -> Result<&TreeDir, IoError> {
        match self.aside.get() {
            Some(dir) => Ok(dir),
            None => {
                let dir = TreeDir::create(&self.state.join("aside").join(&self.name))?;
                Ok(self.aside.get_or_init(|| dir))
            }
        }
    }

    fn is_known(&self, digest: &Digest) -> Result<bool, ClearError> {
        Ok(self.store.contains(digest)? || self.ledger.was_left(digest)?)
    }

    /// Clears a path. What goes aside is told of.
    pub fn clear(&self, path: &ProjectPath) -> Result<(), ClearError> {
        match self.move_away(path)? {
            Some(moved) => self.settle(&moved),
            None => Ok(()),
        }
    }

    /// Moves what stands at a path aside, to be settled or moved back. Where nothing stands, or where it cannot
    /// be moved and has been cleared in its place, there is nothing more to do.
    pub(super) fn move_away(&self, path: &ProjectPath) -> Result<Option<Moved>, ClearError> {
        if path == MANIFEST_NAME || path == TREE_RECEIPT_NAME {
            return Err(ClearError::Own(path.clone()));
        }
        let Some(standing) = self.tree.standing(path)? else { return Ok(None) };
        let stamp = self.tree.stamp(path)?;
        let before = stamp.and_then(|stamp| Some((self.scanner.look(path).ok()??.digest, stamp)));
        match self.tree.move_aside(path, self.aside()?) {
            Ok(to) => Ok(Some(Moved { path: path.clone(), to, before })),
            Err(e) if e.source.kind() == io::ErrorKind::CrossesDevices => self.clear_in_place(path, standing).map(|()| None),
            Err(e) => Err(e.into()),
        }
    }

    /// Moves back what was moved away; what cannot be stays aside, and that is told.
    pub(super) fn move_back(&self, moved: &Moved) {
        let back = self.aside().and_then(|aside| {
            self.tree.create_parent(&moved.path)?;
            aside.rename(&moved.to, self.tree, &moved.path)
        });
        match back {
            Ok(()) => self.tidy(&moved.to),
            Err(_) => self.tell(&moved.path, &moved.to),
        }
    }

    /// Removes of what was moved away all that is known, and tells of the rest.
    pub(super) fn settle(&self, moved: &Moved) -> Result<(), ClearError> {
        let aside = self.aside()?;
        let Some(standing) = aside.standing(&moved.to)? else { return Ok(()) };
        if standing == Standing::Folder {
            return self.settle_folder(moved);
        }
        // What cannot be looked at (a pipe, a link) is certainly not ours.
        let digest = match (&moved.before, aside.stamp(&moved.to)?) {
            (Some((digest, before)), Some(now)) if *before == now => Some(*digest),
            (_, Some(_)) => hash_file(&aside.full(&moved.to)).ok().map(|(digest, _)| digest),
            (_, None) => None,
        };
        let known = match digest {
            Some(digest) => self.is_known(&digest)?,
            None => false,
        };
        if known {
            aside.remove(&moved.to)?;
            self.tidy(&moved.to);
        } else {
            self.tell(&moved.path, &moved.to);
        }
        Ok(())
    }

    fn settle_folder(&self, moved: &Moved) -> Result<(), ClearError> {
        let aside = self.aside()?;
        let full = aside.full(&moved.to);
        // One that cannot be looked into stays as it is.
        let Ok(seen) = walk(&full) else {
            self.tell(&moved.path, &moved.to);
            return Ok(());
        };
        let mut unknown = 0;
        for item in seen.iter().filter(|i| i.kind != ItemKind::EmptyDir) {
            let below = full.join(&item.path);
            let digest = match item.kind {
                ItemKind::Link => fs::read_link(&below).ok().map(|t| Digest::of(t.as_os_str().as_encoded_bytes())),
                _ => hash_file(&below).ok().map(|(digest, _)| digest),
            };
            let known = match digest {
                Some(digest) => self.is_known(&digest)?,
                None => false,
            };
            let (Ok(path), Ok(to)) = (moved.path.join(&item.path), moved.to.join(&item.path)) else { continue };
            if known {
                aside.remove(&to)?;
            } else {
                unknown += 1;
                self.tell(&path, &to);
            }
        }
        if unknown == 0 {
            aside.remove(&moved.to)?;
            self.tidy(&moved.to);
            return Ok(());
        }
        let mut folders: Vec<&str> = seen.iter().flat_map(|i| i.path.match_indices('/').map(|(at, _)| &i.path[..at])).collect();
        folders.sort_unstable();
        folders.dedup();
        folders.iter().rev().filter_map(|f| moved.to.join(f).ok()).for_each(|f| aside.remove_if_empty(&f));
        Ok(())
    }

    fn tell(&self, path: &ProjectPath, to: &ProjectPath) {
        let to = self.aside.get().map(|aside| aside.full(to)).unwrap_or_default();
        self.events.event(Event::Aside { path: path.to_string(), to });
    }

    /// Removes the folders that only held what has gone.
    fn tidy(&self, gone: &ProjectPath) {
        let Some(aside) = self.aside.get() else { return };
        for (at, _) in gone.match_indices('/').collect::<Vec<_>>().into_iter().rev() {
            if let Ok(folder) = ProjectPath::listed(&gone[..at]) {
                aside.remove_if_empty(&folder);
            }
        }
    }

    /// What lies on another disk cannot be moved: known files are removed where they stand, others are copied
    /// aside first.
    fn clear_in_place(&self, path: &ProjectPath, standing: Standing) -> Result<(), ClearError> {
        let aside = self.aside()?;
        let full = self.tree.full(path);
        let single = |below: &ProjectPath| -> Result<(), ClearError> {
            let file = self.tree.full(below);
            let digest = self.tree.open_file(below).ok().and_then(|_| hash_file(&file).ok()).map(|(digest, _)| digest);
            if !digest.is_some_and(|d| self.is_known(&d).unwrap_or(false)) {
                let to = aside.free_path(below)?;
                fsio::copy_file(&file, &aside.full(&to))?;
                self.tell(below, &to);
            }
            Ok(self.tree.remove(below)?)
        };
        match standing {
            Standing::File => single(path),
            Standing::Folder => {
                let refused =
                    |e: crate::project::fingerprint::ScanError| IoError::of("clear", &full)(io::Error::other(e.to_string()));
                for item in walk(&full).map_err(refused)?.iter().filter(|i| i.kind != ItemKind::EmptyDir) {
                    let below = path.join(&item.path).map_err(|e| IoError::of("clear", &full)(io::Error::other(e)))?;
                    single(&below)?;
                }
                Ok(self.tree.remove(path)?)
            }
            Standing::Link | Standing::Other => {
                let source =
                    io::Error::other("it lies on another disk than Textum's own folder and is no plain file: move it away");
                Err(IoError { action: "move aside", path: full, source }.into())
            }
        }
    }
}

/// Removes of what was moved to the folder of this name all files that the store has by now: a stage may have
/// brought forth just what stood there before. Gives their paths.
pub fn drop_recorded_copies(state: &Path, name: &str, store: &Store) -> Result<Vec<String>, ClearError> {
    let folder = state.join("aside").join(name);
    if !folder.is_dir() {
        return Ok(Vec::new());
    }
    let aside = TreeDir::open(&folder)?;
    let mut gone = Vec::new();
    // What cannot be looked at stays.
    for item in walk(&folder).unwrap_or_default().iter().filter(|i| matches!(i.kind, ItemKind::File | ItemKind::Exec)) {
        let Ok((digest, _)) = hash_file(&folder.join(&item.path)) else { continue };
        if let (true, Ok(path)) = (store.contains(&digest)?, ProjectPath::listed(&item.path)) {
            aside.remove(&path)?;
            let folders: Vec<usize> = path.match_indices('/').map(|(at, _)| at).collect();
            folders.iter().rev().filter_map(|at| ProjectPath::listed(&path[..*at]).ok()).for_each(|f| aside.remove_if_empty(&f));
            gone.push(path.to_string());
        }
    }
    let _ = fsio::remove_empty_folder(&folder);
    Ok(gone)
}

impl Drop for TreeCleaner<'_> {
    fn drop(&mut self) {
        // Fails, as it should, where something of a person's is in it.
        if let Some(aside) = self.aside.get() {
            let _ = crate::fsio::remove_empty_folder(aside.path());
        }
    }
}
