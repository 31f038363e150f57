//! Which stored entries are still spoken of, once some outputs are given up.

use std::collections::{HashMap, HashSet};

use rayon::prelude::*;

use super::UpkeepError;
use super::inventory::Inventory;
use crate::config::manifest::is_within;
use crate::record::receipt::{
    Content, ContentKind, Document, GivenUp, KeptEnvironment, Nothing, ObservedInputs, PathContent, Reference, StageReceipt,
    StorageMode, Target,
};
use crate::store::{Digest, Part, Store, StoreError, items_of_listing};

/// A set of digests.
pub type Digests = HashSet<Digest, foldhash::fast::RandomState>;

/// Collects the entries that must stay.
pub struct Live<'s> {
    store: &'s Store,
    given_up: &'s dyn GivenUp,
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
        Live { store, given_up, entries: Digests::default() }
    }

    /// A content of bytes, with its pieces. One that is not there is nobody's concern here.
    pub fn bytes(&mut self, digest: &Digest) -> Result<(), StoreError> {
        if self.entries.contains(digest) || self.given_up.never_stays(digest) {
            return Ok(());
        }
        if let Some(pieces) = self.store.pieces_of(digest)? {
            self.entries.insert(*digest);
            self.entries.extend(pieces.iter().map(|p| p.digest));
        }
        Ok(())
    }

    /// A content; of a folder its files too.
    pub fn content(&mut self, content: &Content) -> Result<(), StoreError> {
        let known = self.entries.contains(&content.digest);
        self.bytes(&content.digest)?;
        if known || content.kind != ContentKind::Folder || !self.store.contains(&content.digest)? {
            return Ok(());
        }
        let mut items = items_of(self.store, &content.digest)?;
        items.retain(|digest| !self.entries.contains(digest) && !self.given_up.never_stays(digest));
        let pieces: Vec<Option<Vec<Part>>> = items.par_iter().map(|d| self.store.pieces_of(d)).collect::<Result<_, _>>()?;
        for (digest, pieces) in items.into_iter().zip(pieces) {
            let Some(pieces) = pieces else { continue };
            self.entries.insert(digest);
            self.entries.extend(pieces.iter().map(|p| p.digest));
        }
        Ok(())
    }

    /// Everything that receipts speak of, but for what is given up.
    pub fn all(&mut self, all: &Inventory) -> Result<(), UpkeepError> {
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

/// All entries that an output is stored in.
pub fn entries_of(store: &Store, output: &PathContent) -> Result<Digests, StoreError> {
    let mut live = Live::new(store);
    live.content(&output.content)?;
    Ok(live.entries)
}
