//! All content that documents speak of.

use std::collections::HashSet;

use crate::record::receipt::{
    ContentKind, GivenUp, KEPT, KeptEnvironment, Nothing, OBSERVED, ObservedInputs, ReceiptError, Reference, Role, StorageMode,
    Target, read_document, references_of, type_of,
};
use crate::store::{Digest, Store, items_of_listing};

/// Which content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Contents {
    /// All of it.
    All,
    /// What is small and tells of a run: what was printed, values, lists of what was read.
    Small,
}

/// Collects content by what documents speak of.
struct Collector<'s> {
    store: &'s Store,
    which: Contents,
    /// Whether listings that are not here are looked for elsewhere.
    bring: bool,
    given_up: &'s dyn GivenUp,
    found: HashSet<Digest>,
}

fn is_small(role: Role<'_>) -> bool {
    matches!(role, Role::Manifest | Role::RunLog | Role::Log | Role::Environment | Role::Value | Role::Observed | Role::Start)
}

impl Collector<'_> {
    fn can_read(&self, digest: &Digest) -> bool {
        self.bring || self.store.contains(digest).unwrap_or(false) || self.store.has_outline(digest).unwrap_or(false)
    }

    fn document(&mut self, digest: &Digest, bytes: &[u8]) -> Result<(), ReceiptError> {
        let mut folders = Vec::new();
        let (which, given_up) = (self.which, self.given_up);
        let found = &mut self.found;
        let told = references_of(digest, bytes, &mut |reference: Reference<'_>| {
            if (which == Contents::Small && !is_small(reference.role)) || given_up.reference(digest, &reference) {
                return;
            }
            match reference.target {
                Target::Bytes(digest) => drop(found.insert(digest)),
                Target::Content(content) => {
                    let is_folder = content.kind == ContentKind::Folder && reference.hold == StorageMode::Store;
                    if found.insert(content.digest) && is_folder {
                        folders.push(content.digest);
                    }
                }
            }
        });
        // One that cannot be read is left out of everything, and told of elsewhere.
        if told.is_err() {
            return Ok(());
        }
        for folder in folders {
            self.files_of(&folder)?;
        }
        match type_of(bytes).as_deref() {
            Some(OBSERVED) if which == Contents::All => self.observed(digest, bytes),
            Some(KEPT) if which == Contents::All => self.kept(digest, bytes),
            _ => Ok(()),
        }
    }

    fn files_of(&mut self, folder: &Digest) -> Result<(), ReceiptError> {
        if !self.can_read(folder) {
            return Ok(());
        }
        // A listing that nobody has any more names nothing that could be sent.
        let Ok(listing) = self.store.listing(folder) else { return Ok(()) };
        let items = items_of_listing(self.store, folder, &listing)?;
        self.found.extend(items.iter().filter_map(|item| item.digest));
        Ok(())
    }

    /// Files of the project that a stage was seen to read.
    fn observed(&mut self, digest: &Digest, bytes: &[u8]) -> Result<(), ReceiptError> {
        let Ok(inputs) = read_document::<ObservedInputs>(digest, bytes) else { return Ok(()) };
        if inputs.groups.iter().all(|group| self.can_read(&group.list)) {
            let files = inputs.project_files(self.store).unwrap_or_default();
            let stays = |d: &Digest| !self.given_up.file(digest, d);
            self.found.extend(files.iter().map(|file| file.digest).filter(stays));
        }
        Ok(())
    }

    /// The files of a kept environment.
    fn kept(&mut self, digest: &Digest, bytes: &[u8]) -> Result<(), ReceiptError> {
        let Ok(kept) = read_document::<KeptEnvironment>(digest, bytes) else { return Ok(()) };
        if kept.packages.iter().all(|package| self.can_read(&package.list)) {
            self.found.extend(kept.all_files(self.store).unwrap_or_default().iter().map(|file| file.digest));
        }
        Ok(())
    }
}

/// The content that these documents of the store speak of; of folders their files too, as far as their listings are here.
pub fn contents_of(
    store: &Store,
    documents: impl Iterator<Item = Digest>,
    which: Contents,
) -> Result<HashSet<Digest>, ReceiptError> {
    let mut collector = Collector { store, which, bring: false, given_up: &Nothing, found: HashSet::new() };
    for digest in documents {
        if store.contains_document(&digest)? {
            let bytes = store.read(&digest)?;
            collector.document(&digest, &bytes)?;
        }
    }
    Ok(collector.found)
}

/// The content that documents speak of which may not be here, but for what is given up: listings are fetched.
pub fn every_content(
    store: &Store,
    documents: impl Iterator<Item = (Digest, Vec<u8>)>,
    given_up: &dyn GivenUp,
) -> Result<HashSet<Digest>, ReceiptError> {
    let mut collector = Collector { store, which: Contents::All, bring: true, given_up, found: HashSet::new() };
    for (digest, bytes) in documents {
        collector.document(&digest, &bytes)?;
    }
    let mut found = collector.found;
    found.retain(|digest| !given_up.never_stays(digest));
    Ok(found)
}
