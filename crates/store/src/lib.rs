//! All content by digest: cut into chunks, compressed where it helps, appended to immutable packs.
//!
//! Packs are the truth; indexes beside them are derived. A pack appears whole or not at all.
//!
//! ```
//! use textum_store::{Digest, Store};
//!
//! # let folder = tempfile::tempdir()?;
//! let store = Store::open(folder.path());
//! let writer = store.writer()?;
//! let stored = writer.put_bytes(b"yarn")?;
//! assert!(!store.contains(&stored.digest)?, "nobody sees it before it is published");
//! writer.publish()?;
//! assert_eq!(store.read(&Digest::of(b"yarn"))?, b"yarn");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

#![cfg_attr(test, allow(clippy::disallowed_methods))]

mod catalog;
mod compact;
mod exchange;
mod gc;
mod hash;
mod index;
mod ingest;
mod listing;
mod pack;
mod read;
mod salvage;
mod session;
mod source;
mod stream;
mod verify;
mod writer;

use std::collections::HashMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, OnceLock, PoisonError, RwLock};

pub use catalog::{Catalog, Found, list_packs};
pub use exchange::{Entry, Pack, PackBuilder, Salvage, entries_of_pack, salvage_pack};
pub use gc::{Freed, GcPlan, Journal, decode_journal};
pub use hash::hash_file;
pub use index::Record;
pub use ingest::{CUT_MAX, CUT_MEAN, CUT_MIN, LARGE, Stored};
pub use listing::{Item, ItemKind, ListingError, items_of_listing, parse_listing, write_listing_line};
pub use pack::{Coding, EntryHead, Kind, MAX_RAW, coding_from, kind_from};
pub use read::Part;
pub use salvage::Salvaged;
pub use session::{Alone, Steady};
pub use source::{OnlyHere, Source};
pub use stream::ContentReader;
pub use textum_base::{Digest, NotADigest};
pub use verify::{Damage, PackReport};
pub use writer::{Writer, Written};

use textum_base::fsio::IoError;

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
    /// Something has to be finished before anything may be added.
    #[error("nothing can be added to the store: {} says what has to be finished before", path.display())]
    Held {
        /// The word of it.
        path: PathBuf,
    },
    /// What could have it elsewhere could not be asked.
    #[error("{0}")]
    Source(String),
}

/// So often something is looked up anew that was written anew by others meanwhile.
const READ_AGAIN: usize = 4;

/// Where an entry stands: the numbers of packs are those of one catalog.
struct Located {
    catalog: Arc<Catalog>,
    pack: u32,
    record: index::Record,
}

/// A store in a folder. Cheap to open: indexes are read at the first look-up.
pub struct Store {
    folder: PathBuf,
    catalog: RwLock<Option<Arc<Catalog>>>,
    sessions: Arc<Mutex<session::Sessions>>,
    /// The generation of droppings that the catalog is of.
    generation: Mutex<String>,
    /// Where content comes from that is not here.
    source: OnceLock<Arc<dyn Source>>,
    /// How many keep it from being asked.
    unasked: AtomicUsize,
    /// Whether the records of what is stored stay in memory.
    keeps_records: AtomicBool,
}

impl Store {
    /// Opens the store in this folder, which need not exist until something is put.
    pub fn open(folder: &Path) -> Store {
        Store {
            folder: folder.to_path_buf(),
            catalog: RwLock::new(None),
            sessions: Arc::default(),
            generation: Mutex::default(),
            source: OnceLock::new(),
            unasked: AtomicUsize::new(0),
            keeps_records: AtomicBool::new(false),
        }
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
        textum_base::fsio::create_folder(&packs)?;
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
        // A mere look leaves no trace, and works where nothing may be written.
        let keep = self.keeps_records.load(Ordering::Relaxed);
        let catalog = Arc::new(if folder.exists() { Catalog::load(&folder, keep)? } else { Catalog::empty(&folder) });
        *slot = Some(catalog.clone());
        Ok(catalog)
    }

    /// From now on what the indexes say stays in memory, up to 48 MiB of it: for whoever goes through all that is stored.
    pub fn keep_records(&self) {
        if !self.keeps_records.swap(true, Ordering::Relaxed) {
            self.forget();
        }
    }

    /// Forgets what is known of the packs, so that the next look-up sees what others have published.
    pub fn reload(&self) -> Result<(), StoreError> {
        self.forget();
        Ok(())
    }

    fn forget(&self) {
        *self.catalog.write().unwrap_or_else(PoisonError::into_inner) = None;
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

    fn all_of(&self, digest: &Digest) -> Result<impl Iterator<Item = Located>, StoreError> {
        let (catalog, found) = self.asked(|catalog| catalog.find(digest))?;
        Ok(found.into_iter().map(move |f| Located { catalog: catalog.clone(), pack: f.pack, record: f.record }))
    }

    /// Asks the catalog something; once more, with what there is then, where a pack was written anew by another process
    /// since it was listed.
    fn asked<T>(&self, ask: impl Fn(&Catalog) -> Result<T, StoreError>) -> Result<(Arc<Catalog>, T), StoreError> {
        for _ in 0..READ_AGAIN {
            let catalog = self.catalog()?;
            match ask(&catalog) {
                Err(StoreError::Io(e)) if e.is_not_found() => self.reload()?,
                other => return other.map(|found| (catalog, found)),
            }
        }
        let catalog = self.catalog()?;
        ask(&catalog).map(|found| (catalog, found))
    }

    fn find(&self, digest: &Digest) -> Result<Vec<Located>, StoreError> {
        // An outline says what was in a folder; the folder's content is not there.
        Ok(self.all_of(digest)?.filter(|f| f.record.entry.kind != Kind::Outline).collect())
    }

    fn find_outline(&self, digest: &Digest) -> Result<Option<Located>, StoreError> {
        Ok(self.all_of(digest)?.find(|f| f.record.entry.kind == Kind::Outline))
    }

    /// Whether the listing of this folder is kept without its files.
    pub fn has_outline(&self, digest: &Digest) -> Result<bool, StoreError> {
        Ok(self.find_outline(digest)?.is_some())
    }

    /// Whether content with this digest is stored. A folder's listing is only there with its files: when
    /// those are dropped, an outline is what stays.
    pub fn contains(&self, digest: &Digest) -> Result<bool, StoreError> {
        Ok(self.all_of(digest)?.any(|f| f.record.entry.kind != Kind::Outline))
    }

    /// Whether a document with this digest is stored.
    pub fn contains_document(&self, digest: &Digest) -> Result<bool, StoreError> {
        Ok(self.find(digest)?.iter().any(|f| f.record.entry.kind == Kind::Document))
    }

    /// The digests that begin with these hex digits, at most `most`.
    pub fn begin_with(&self, hex: &str, most: usize) -> Result<Vec<Digest>, StoreError> {
        self.asked(|catalog| catalog.begin_with(hex, most)).map(|(_, found)| found)
    }

    /// The documents in one pack, by its name.
    pub fn documents_in(&self, pack: &Digest) -> Result<Vec<Digest>, StoreError> {
        let records = catalog::records_of(&self.packs_folder(), pack)?;
        Ok(records.iter().filter(|r| r.entry.kind == Kind::Document).map(|r| r.entry.digest).collect())
    }

    /// Something of all entries of all packs, pack by pack.
    fn of_all_packs<T: Default>(&self, take: impl Fn(&mut T, Vec<index::Record>)) -> Result<T, StoreError> {
        let folder = self.packs_folder();
        if !folder.exists() {
            return Ok(T::default());
        }
        catalog::with_packs(&folder, |packs| {
            let mut found = T::default();
            for (name, _) in packs {
                take(&mut found, catalog::records_of(&folder, name)?);
            }
            Ok(found)
        })
    }

    /// Every entry of every pack: its digest, what it holds, and the bytes that it takes.
    pub fn all_entries(&self) -> Result<Vec<(Digest, Kind, u64)>, StoreError> {
        let bytes = |r: &index::Record| u64::from(r.entry.stored_len) + pack::HEAD_LEN as u64;
        self.of_all_packs(|found: &mut Vec<_>, records| {
            found.extend(records.iter().map(|r| (r.entry.digest, r.entry.kind, bytes(r))));
        })
    }

    /// Bytes of all pieces of content before they were compressed, each counted once.
    pub fn piece_bytes(&self) -> Result<u64, StoreError> {
        let sizes = self.of_all_packs(|sizes: &mut HashMap<Digest, u64, foldhash::fast::RandomState>, records| {
            let pieces = records.iter().filter(|r| r.entry.kind == Kind::Chunk);
            sizes.extend(pieces.map(|r| (r.entry.digest, u64::from(r.entry.raw_len))));
        })?;
        Ok(sizes.values().sum())
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
