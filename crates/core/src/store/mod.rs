//! All content by digest: cut into chunks, compressed where it helps, appended to immutable packs.
//!
//! Packs are the truth; indexes beside them are derived. A pack appears whole or not at all.

mod catalog;
mod compact;
mod digest;
mod hash;
mod index;
mod ingest;
mod listing;
mod pack;
mod read;
mod verify;
mod writer;

use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError, RwLock};

pub use catalog::{Catalog, Found, list_packs};
pub use digest::{Digest, NotADigest};
pub use hash::hash_file;
pub use ingest::{CUT_MAX, CUT_MEAN, CUT_MIN, Stored};
pub use listing::{Item, ItemKind, ListingError, parse_listing, write_listing_line};
pub use pack::Kind;
pub use read::Part;
pub use verify::{Damage, PackReport};
pub use writer::{Writer, Written};

use crate::fsio::IoError;

/// Why the store could not do what was asked.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// Stored bytes are not those that were written.
    #[error("{} is damaged: {what}", path.display())]
    Damaged {
        /// The damaged file.
        path: PathBuf,
        /// What is wrong with it, and where.
        what: String,
    },
    /// Nothing with this digest is stored.
    #[error("{digest} is not in the store")]
    Missing {
        /// What was asked for.
        digest: Digest,
    },
}

/// A store in a folder. Cheap to open: indexes are read at the first look-up.
pub struct Store {
    folder: PathBuf,
    catalog: RwLock<Option<Arc<Catalog>>>,
}

impl Store {
    /// Opens the store in this folder, which need not exist until something is put.
    pub fn open(folder: &Path) -> Store {
        Store { folder: folder.to_path_buf(), catalog: RwLock::new(None) }
    }

    /// The store's folder.
    pub fn folder(&self) -> &Path {
        &self.folder
    }

    /// Where packs and their indexes are.
    pub fn packs_folder(&self) -> PathBuf {
        self.folder.join("packs")
    }

    fn scratch_folder(&self) -> PathBuf {
        self.folder.join("parts")
    }

    /// Begins to add content.
    pub fn writer(&self) -> Result<Writer<'_>, StoreError> {
        let packs = self.packs_folder();
        std::fs::create_dir_all(&packs).map_err(IoError::of("create the folder", &packs))?;
        Writer::new(self)
    }

    fn catalog(&self) -> Result<Arc<Catalog>, StoreError> {
        if let Some(catalog) = self.catalog.read().unwrap_or_else(PoisonError::into_inner).as_ref() {
            return Ok(catalog.clone());
        }
        let mut slot = self.catalog.write().unwrap_or_else(PoisonError::into_inner);
        if let Some(catalog) = slot.as_ref() {
            return Ok(catalog.clone());
        }
        let folder = self.packs_folder();
        std::fs::create_dir_all(&folder).map_err(IoError::of("create the folder", &folder))?;
        let catalog = Arc::new(Catalog::load(&folder)?);
        *slot = Some(catalog.clone());
        Ok(catalog)
    }

    /// Forgets what is known of the packs, so that the next look-up sees what others have published.
    pub fn reload(&self) -> Result<(), StoreError> {
        *self.catalog.write().unwrap_or_else(PoisonError::into_inner) = None;
        Ok(())
    }

    /// Takes a pack that was just published into the catalog.
    fn admit(&self, name: Digest, length: u64) -> Result<(), StoreError> {
        let mut slot = self.catalog.write().unwrap_or_else(PoisonError::into_inner);
        let Some(shared) = slot.as_mut() else { return Ok(()) };
        match Arc::get_mut(shared) {
            Some(catalog) => catalog.add(name, length),
            // Somebody is reading through the old one: the next look-up loads a new one.
            None => {
                *slot = None;
                Ok(())
            }
        }
    }

    fn find(&self, digest: &Digest) -> Result<Vec<Found>, StoreError> {
        self.catalog()?.find(digest)
    }

    /// Whether content with this digest is stored. For a folder this speaks of its listing.
    pub fn contains(&self, digest: &Digest) -> Result<bool, StoreError> {
        Ok(!self.find(digest)?.is_empty())
    }

    /// Whether a document with this digest is stored.
    pub fn contains_document(&self, digest: &Digest) -> Result<bool, StoreError> {
        Ok(self.find(digest)?.iter().any(|f| f.record.entry.kind == Kind::Document))
    }

    /// The digests that begin with these hex digits, at most `most`.
    pub fn begin_with(&self, hex: &str, most: usize) -> Result<Vec<Digest>, StoreError> {
        self.catalog()?.begin_with(hex, most)
    }

    /// The documents in one pack, by its name.
    pub fn documents_in(&self, pack: &Digest) -> Result<Vec<Digest>, StoreError> {
        let records = catalog::records_of(&self.packs_folder(), pack)?;
        Ok(records.iter().filter(|r| r.entry.kind == Kind::Document).map(|r| r.entry.digest).collect())
    }

    /// The names of all packs there are now.
    pub fn packs(&self) -> Result<Vec<Digest>, StoreError> {
        let folder = self.packs_folder();
        if !folder.exists() {
            return Ok(Vec::new());
        }
        Ok(list_packs(&folder)?.into_iter().map(|(name, _)| name).collect())
    }
}
