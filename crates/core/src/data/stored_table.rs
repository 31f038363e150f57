//! A table whose bytes are in the store.

use std::io::Read;
use std::path::PathBuf;

use crate::store::{Digest, Store};
use crate::table::{Source, SourceError};

/// Content of the store as what a table is read from.
pub(super) struct StoredTable<'s> {
    pub(super) store: &'s Store,
    pub(super) digest: Digest,
}

impl Source for StoredTable<'_> {
    fn size(&self) -> u64 {
        self.store.size_of(&self.digest).unwrap_or(0)
    }

    fn stream(&self) -> Result<Box<dyn Read + Send + '_>, SourceError> {
        Ok(Box::new(self.store.reader(&self.digest)?))
    }

    fn scratch(&self) -> PathBuf {
        crate::table::scratch(self.store.folder())
    }
}
