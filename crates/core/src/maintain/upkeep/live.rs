//! Which stored entries are still spoken of, once some outputs are given up.

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use rayon::prelude::*;

use super::UpkeepError;
use super::inventory::Inventory;
use crate::config::manifest::is_within;
use crate::record::receipt::{
    Content, ContentKind, Document, GivenUp, KeptEnvironment, Nothing, ObservedInputs, Reference, StageReceipt, StorageMode, Target,
};
use crate::store::{Digest, Store, StoreError, items_of_listing};

/// A set of digests.
pub type Digests = HashSet<Digest, foldhash::fast::RandomState>;

/// What a content is stored in.
#[derive(Clone, Debug)]
pub enum Pieces {
    /// Nothing: it is not there.
    Missing,
    /// One entry that bears its digest.
    Whole,
    /// A list of pieces that bears its digest, and these.
    Of(Box<[Digest]>),
}

impl Pieces {
    fn load(store: &Store, digest: &Digest) -> Result<Pieces, StoreError> {
        Ok(match store.pieces_of(digest)? {
            None => Pieces::Missing,
            Some(parts) if matches!(&parts[..], [only] if only.digest == *digest) => Pieces::Whole,
            Some(parts) => Pieces::Of(parts.iter().map(|p| p.digest).collect()),
        })
    }

    /// The entries of the content with this digest.
    fn entries(&self, digest: Digest) -> impl Iterator<Item = Digest> {
        let (there, pieces): (_, &[Digest]) = match self {
            Pieces::Missing => (None, &[]),
            Pieces::Whole => (Some(digest), &[]),
            Pieces::Of(pieces) => (Some(digest), pieces),
        };
        there.into_iter().chain(pieces.iter().copied())
    }
}

/// The files of a folder, each with what it is stored in.
type Files = Arc<[(Digest, Pieces)]>;

/// What stored folders hold, so that a large listing is read once by whoever goes through all receipts more than once.
/// True as long as nothing is dropped.
#[derive(Debug, Default)]
pub struct Folders {
    known: Mutex<KnownFolders>,
}

#[derive(Debug, Default)]
struct KnownFolders {
    files: HashMap<Digest, Files>,
    /// How many files they have together.
    count: usize,
}

/// How many files of folders are kept in memory. One takes some 56 bytes.
const KEPT_FILES: usize = 1 << 20;

impl Folders {
    /// The files of a stored folder.
    fn files(&self, store: &Store, folder: &Digest) -> Result<Files, StoreError> {
        if let Some(files) = self.known().files.get(folder) {
            return Ok(files.clone());
        }
        let items = items_of(store, folder)?;
        let files: Files = items.par_iter().map(|d| Ok((*d, Pieces::load(store, d)?))).collect::<Result<_, StoreError>>()?;
        let mut known = self.known();
        if known.count + files.len() <= KEPT_FILES {
            known.count += files.len();
            known.files.insert(*folder, files.clone());
        }
        Ok(files)
    }

    fn known(&self) -> MutexGuard<'_, KnownFolders> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// All entries that a content is stored in, each once.
    pub fn entries_of(&self, store: &Store, content: &Content) -> Result<Vec<Digest>, StoreError> {
        let pieces = Pieces::load(store, &content.digest)?;
        let mut all: Vec<Digest> = pieces.entries(content.digest).collect();
        if content.kind == ContentKind::Folder && !all.is_empty() {
            for (digest, pieces) in self.files(store, &content.digest)?.iter() {
                all.extend(pieces.entries(*digest));
            }
            all.par_sort_unstable();
            all.dedup();
        }
        Ok(all)
    }
}

/// Collects the entries that must stay.
pub struct Live<'s> {
    store: &'s Store,
    given_up: &'s dyn GivenUp,
    folders: Option<&'s Folders>,
    /// Contents, lists of pieces and pieces.
    pub entries: Digests,
}

impl<'s> Live<'s> {
    /// Nothing yet.
    pub fn new(store: &'s Store) -> Live<'s> {
        Live::but(store, &Nothing)
    }

    /// Nothing yet; some of it is given up.
    pub fn but(store: &'s Store, given_up: &'s dyn GivenUp) -> Live<'s> {
        Live { store, given_up, folders: None, entries: Digests::default() }
    }

    /// A content of bytes, with its pieces. One that is not there is nobody's concern here.
    pub fn bytes(&mut self, digest: &Digest) -> Result<(), StoreError> {
        if self.entries.contains(digest) || self.given_up.never_stays(digest) {
            return Ok(());
        }
        self.entries.extend(Pieces::load(self.store, digest)?.entries(*digest));
        Ok(())
    }

    /// A content; of a folder its files too.
    pub fn content(&mut self, content: &Content) -> Result<(), StoreError> {
        let known = self.entries.contains(&content.digest);
        self.bytes(&content.digest)?;
        if known || content.kind != ContentKind::Folder || !self.store.contains(&content.digest)? {
            return Ok(());
        }
        let own = Folders::default();
        let files = self.folders.unwrap_or(&own).files(self.store, &content.digest)?;
        self.entries.reserve(files.len());
        for (digest, pieces) in files.iter().filter(|(digest, _)| !self.given_up.never_stays(digest)) {
            self.entries.extend(pieces.entries(*digest));
        }
        Ok(())
    }

    /// Everything that receipts speak of, but for what is given up.
    pub fn all(&mut self, all: &'s Inventory) -> Result<(), UpkeepError> {
        self.folders = Some(&all.folders);
        let given_up = self.given_up;
        let writers: HashMap<&Digest, &StageReceipt> = all.stages.iter().map(|(d, r)| (d, r)).collect();
        let mut keep = |document: &Digest, reference: Reference<'_>| -> Result<(), StoreError> {
            // What another stage wrote is that one's to keep; a folder of outputs and other files is a source.
            let writes = |by: &Digest| writers.get(by).is_some_and(|w| w.outputs().any(|o| is_within(reference.path, &o.path)));
            let is_given_up = given_up.reference(document, &reference);
            if reference.hold != StorageMode::Store || is_given_up || reference.by.iter().any(writes) {
                return Ok(());
            }
            match reference.target {
                Target::Bytes(digest) => self.bytes(&digest),
                Target::Content(content) => self.content(content),
            }
        };
        all.runs.iter().try_for_each(|(d, run)| each(run, &mut |r| keep(d, r)))?;
        all.data.iter().try_for_each(|(d, data)| each(data, &mut |r| keep(d, r)))?;
        all.checkpoints.iter().try_for_each(|(d, made)| each(made, &mut |r| keep(d, r)))?;
        all.stages.iter().try_for_each(|(d, stage)| each(stage, &mut |r| keep(d, r)))?;
        all.publications.iter().try_for_each(|(d, published)| each(published, &mut |r| keep(d, r)))?;
        let observed: HashSet<Digest> = all.stages.iter().filter_map(|(_, s)| s.observed.as_ref()?.inputs).collect();
        for digest in &observed {
            self.observed(digest)?;
        }
        let kept: HashSet<Digest> = all.stages.iter().filter_map(|(_, s)| s.observed.as_ref()?.environment).collect();
        for digest in &kept {
            let Ok(kept) = KeptEnvironment::load(self.store, digest) else { continue };
            kept.packages.iter().try_for_each(|p| self.bytes(&p.list))?;
            kept.all_files(self.store).unwrap_or_default().iter().try_for_each(|file| self.bytes(&file.digest))?;
        }
        Ok(())
    }

    /// What a document of observed inputs names: its lists, and files of the project. One that is not there, or is no
    /// such document, keeps nothing.
    fn observed(&mut self, digest: &Digest) -> Result<(), StoreError> {
        let Ok(inputs) = ObservedInputs::load(self.store, digest) else { return Ok(()) };
        let mut files = inputs.project_files(self.store).unwrap_or_default();
        files.retain(|file| !self.given_up.file(digest, &file.digest));
        each(&inputs, &mut |reference| match reference.target {
            Target::Bytes(digest) => self.bytes(&digest),
            Target::Content(content) => self.content(content),
        })?;
        files.iter().try_for_each(|file| self.content(&file.content()))
    }
}

/// Goes through all that a document speaks of, until something fails.
fn each(document: &impl Document, keep: &mut dyn FnMut(Reference<'_>) -> Result<(), StoreError>) -> Result<(), StoreError> {
    let mut result = Ok(());
    document.references(&mut |reference| {
        if result.is_ok() {
            result = keep(reference);
        }
    });
    result
}

/// The digests of the files in a stored folder.
pub fn items_of(store: &Store, folder: &Digest) -> Result<Vec<Digest>, StoreError> {
    let listing = store.read(folder)?;
    let items = items_of_listing(store, folder, &listing)?;
    Ok(items.iter().filter_map(|i| i.digest).collect())
}
