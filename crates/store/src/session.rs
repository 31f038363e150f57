//! Who may add to the store when: writers side by side, but never while content is being dropped.
//!
//! A writer relies on content that it finds in the store (it need not be put again) until the documents
//! that speak of it are published. Between its first look and its publishing it holds `use.lock` shared;
//! whoever drops content holds it alone. `gate.lock` lets the one who waits to be alone in before those
//! who come later. Both end with their process.

use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use super::{OnlyHere, Store, StoreError};
use textum_base::fsio::{self, FileLock, IoError};

/// The writers of one open store share one lock.
#[derive(Default)]
pub(super) struct Sessions {
    count: usize,
    /// None where nothing may be written: then nothing can be dropped there either.
    lock: Option<FileLock>,
}

/// Held by a writer while it relies on what it has found.
pub(super) struct Session {
    sessions: Arc<Mutex<Sessions>>,
}

impl Drop for Session {
    fn drop(&mut self) {
        let mut sessions = self.sessions.lock().unwrap_or_else(PoisonError::into_inner);
        sessions.count -= 1;
        if sessions.count == 0 {
            sessions.lock = None;
        }
    }
}

/// Held by somebody who looks at all packs as they are at one moment; others may add to them.
pub struct Steady {
    _session: Session,
    _fold: Option<FileLock>,
}

/// Held by the one who drops content: nobody adds anything meanwhile.
pub struct Alone<'s> {
    pub(super) store: &'s Store,
    // Fetching would wait for the one who is alone.
    _only_here: OnlyHere<'s>,
    _fold: FileLock,
    _use: FileLock,
}

impl Store {
    fn sessions(&self) -> MutexGuard<'_, Sessions> {
        self.sessions.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Where somebody who is alone with the store may leave word of what has to be finished before anything is added. It is
    /// theirs to read, and to remove.
    pub fn hold_path(&self) -> PathBuf {
        self.folder().join("hold.journal")
    }

    fn lock_path(&self, name: &str) -> PathBuf {
        self.folder().join(name)
    }

    /// Keeps packs from going away while they are looked at: nothing is dropped and none are folded meanwhile. `None` where
    /// there is no store yet: looking must not make one.
    ///
    /// # Errors
    ///
    /// When a dropping that was cut off cannot be finished.
    pub fn steady(&self) -> Result<Option<Steady>, StoreError> {
        if !self.folder().exists() {
            return Ok(None);
        }
        loop {
            // A dropping that was cut off is finished before: that takes the lock which is held here.
            drop(self.session()?);
            let fold = FileLock::shared(&self.lock_path("fold.lock"))?;
            if self.journal_path().exists() {
                continue;
            }
            let session = self.session()?;
            self.reload()?;
            return Ok(Some(Steady { _session: session, _fold: fold }));
        }
    }

    /// Begins to rely on what is found in the store. A dropping that was cut off is finished first.
    pub(super) fn session(&self) -> Result<Session, StoreError> {
        let mut sessions = self.sessions();
        if sessions.count == 0 {
            sessions.lock = self.enter()?;
        }
        sessions.count += 1;
        Ok(Session { sessions: self.sessions.clone() })
    }

    fn enter(&self) -> Result<Option<FileLock>, StoreError> {
        loop {
            let lock = {
                let _gate = FileLock::shared(&self.lock_path("gate.lock"))?;
                FileLock::shared(&self.lock_path("use.lock"))?
            };
            if !self.journal_path().exists() {
                // What is to go by another's journal must not be relied on before that is finished.
                let held = self.hold_path();
                if held.exists() {
                    return Err(StoreError::Held { path: held });
                }
                self.notice_droppings();
                return Ok(lock);
            }
            drop(lock);
            self.alone()?.finish_dropping()?;
        }
    }

    /// Waits until nobody relies on anything, and keeps it so.
    pub fn alone(&self) -> Result<Alone<'_>, StoreError> {
        let fold = FileLock::exclusive(&self.lock_path("fold.lock"))?;
        let _gate = FileLock::exclusive(&self.lock_path("gate.lock"))?;
        let lock = FileLock::exclusive(&self.lock_path("use.lock"))?;
        self.reload()?;
        Ok(Alone { store: self, _only_here: self.only_here(), _fold: fold, _use: lock })
    }

    fn generation_path(&self) -> PathBuf {
        self.lock_path("generation")
    }

    /// Forgets what is known of the packs if content has been dropped since it was learnt.
    fn notice_droppings(&self) {
        let now = std::fs::read_to_string(self.generation_path()).unwrap_or_default();
        let mut known = self.generation.lock().unwrap_or_else(PoisonError::into_inner);
        if *known != now {
            *known = now;
            self.forget();
        }
    }

    /// Tells everybody that content has been dropped.
    pub(super) fn new_generation(&self) -> Result<(), IoError> {
        fsio::write_derived(&self.generation_path(), format!("{:016x}\n", rand::random::<u64>()).as_bytes())?;
        self.forget();
        Ok(())
    }
}
