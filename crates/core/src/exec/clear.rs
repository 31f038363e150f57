//! Making room for a stage's outputs, without losing anything of a person's.

use std::fs;
use std::path::{Path, PathBuf};

use crate::event::{Event, EventSink};
use crate::fingerprint::{ScanError, Scanner, walk};
use crate::fsio::{self, IoError};
use crate::ledger::Ledger;
use crate::receipt::ContentKind;
use crate::store::{Digest, ItemKind, Store, StoreError, hash_file};

/// Clears paths: what is recorded, or was left by a stage, goes; anything else is moved aside.
pub struct Clearer<'a> {
    /// Looks at the files below the root that is cleared.
    pub scanner: &'a Scanner,
    /// The store: what it holds can be had back.
    pub store: &'a Store,
    /// Knows what unfinished stages left behind.
    pub ledger: &'a Ledger,
    /// The folder that things are moved to.
    pub aside: PathBuf,
    /// Hears of what is moved.
    pub events: &'a dyn EventSink,
}

/// Why a path could not be cleared.
#[derive(Debug, thiserror::Error)]
pub enum ClearError {
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// What stands there could not be looked at.
    #[error(transparent)]
    Scan(#[from] ScanError),
    /// The store could not be asked.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The ledger could not be asked.
    #[error(transparent)]
    Ledger(#[from] crate::ledger::LedgerError),
}

impl Clearer<'_> {
    fn is_known(&self, digest: &Digest) -> Result<bool, ClearError> {
        Ok(self.store.contains(digest)? || self.ledger.was_left(digest)?)
    }

    /// Clears a path below the root. What goes aside is told of.
    pub fn clear(&self, path: &str) -> Result<(), ClearError> {
        let full = self.scanner.root().join(path);
        let Ok(meta) = fs::symlink_metadata(&full) else { return Ok(()) };
        if meta.is_dir() && self.clear_folder(path, &full)? {
            return Ok(());
        }
        // What cannot be looked at (a strange name, a link that leaves) is certainly not ours.
        let known = match self.scanner.look(path) {
            Ok(Some(content)) => content.kind != ContentKind::Folder && !meta.is_symlink() && self.is_known(&content.digest)?,
            _ => false,
        };
        if known { Ok(fsio::remove_any(&full)?) } else { self.set_aside(path, &full) }
    }

    /// Clears a folder file by file; `false` when it cannot be looked into.
    fn clear_folder(&self, path: &str, full: &Path) -> Result<bool, ClearError> {
        let Ok(seen) = walk(full) else { return Ok(false) };
        for item in &seen {
            let below = full.join(&item.path);
            let digest = match item.kind {
                ItemKind::EmptyDir => continue,
                ItemKind::Link => fs::read_link(&below).ok().map(|t| Digest::of(t.as_os_str().as_encoded_bytes())),
                ItemKind::File | ItemKind::Exec => hash_file(&below).ok().map(|(digest, _)| digest),
            };
            let known = match digest {
                Some(digest) => self.is_known(&digest)?,
                None => false,
            };
            if !known {
                self.set_aside(&format!("{path}/{}", item.path), &below)?;
            }
        }
        fsio::remove_any(full)?;
        Ok(true)
    }

    fn set_aside(&self, path: &str, full: &Path) -> Result<(), ClearError> {
        let to = fsio::move_aside(full, &self.aside.join(path))?;
        self.events.event(Event::Aside { path: path.to_string(), to });
        Ok(())
    }
}
