//! Content that is not here and comes from elsewhere when it is needed.

use std::sync::Arc;
use std::sync::atomic::Ordering;

use super::{Digest, Store, StoreError};

/// Where content comes from that a store does not have: other machines' stores, by whatever way they are reached.
pub trait Source: Send + Sync {
    /// Brings what it can of these contents into the store, whole and checked; of a folder its listing only. An error is
    /// for what could not be asked: what is not there is none.
    fn fetch(&self, store: &Store, wanted: &[Digest]) -> Result<(), StoreError>;

    /// Whether it has a content.
    fn has(&self, digest: &Digest) -> Result<bool, StoreError>;
}

/// As long as it lives nothing is fetched from elsewhere.
pub struct OnlyHere<'s>(&'s Store);

impl Drop for OnlyHere<'_> {
    fn drop(&mut self) {
        self.0.unasked.fetch_sub(1, Ordering::SeqCst);
    }
}

impl Store {
    /// Looks at what is here alone, as long as what is returned lives.
    pub fn only_here(&self) -> OnlyHere<'_> {
        self.unasked.fetch_add(1, Ordering::SeqCst);
        OnlyHere(self)
    }

    /// From now on content that is not here is looked for there. The first that is set stays.
    pub fn set_source(&self, source: Arc<dyn Source>) {
        let _ = self.source.set(source);
    }

    /// Whether there is somewhere else to look.
    pub fn has_source(&self) -> bool {
        self.source.get().is_some()
    }

    /// Whether a content is here, or can be had when it is needed.
    pub fn can_have(&self, digest: &Digest) -> Result<bool, StoreError> {
        if self.contains(digest)? {
            return Ok(true);
        }
        self.source.get().map_or(Ok(false), |source| source.has(digest))
    }

    /// Brings those of these contents that are not here, together: one by one would take a request for each.
    pub fn bring(&self, digests: &[Digest]) -> Result<(), StoreError> {
        if !self.has_source() {
            return Ok(());
        }
        let mut missing = Vec::new();
        for digest in digests {
            if !self.contains(digest)? {
                missing.push(*digest);
            }
        }
        self.fetch(&missing).map(drop)
    }

    /// Asks for what is missing; whether anybody could be asked.
    pub(super) fn fetch(&self, missing: &[Digest]) -> Result<bool, StoreError> {
        let is_asked = !missing.is_empty() && self.unasked.load(Ordering::SeqCst) == 0;
        let Some(source) = self.source.get().filter(|_| is_asked) else { return Ok(false) };
        source.fetch(self, missing)?;
        Ok(true)
    }
}
