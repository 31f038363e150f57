//! Which stored entries are still spoken of, once some outputs are given up.

use std::collections::HashSet;

use rayon::prelude::*;

use super::UpkeepError;
use super::inventory::Inventory;
use textum_base::ProjectPath;

use crate::config::manifest::is_within;
use crate::record::receipt::{Content, ContentKind, PathContent, StageReceipt, StorageMode};
use crate::store::{Digest, Part, Store, StoreError, items_of_listing};

/// A set of digests.
pub type Digests = HashSet<Digest, foldhash::fast::RandomState>;

/// Collects the entries that must stay.
pub struct Live<'s> {
    store: &'s Store,
    /// Contents, lists of pieces and pieces.
    pub entries: Digests,
}

impl<'s> Live<'s> {
    /// Nothing yet.
    pub fn new(store: &'s Store) -> Live<'s> {
        Live { store, entries: Digests::default() }
    }

    /// A content of bytes, with its pieces. One that is not there is nobody's concern here.
    pub fn bytes(&mut self, digest: &Digest) -> Result<(), StoreError> {
        if self.entries.contains(digest) {
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
        items.retain(|digest| !self.entries.contains(digest));
        let pieces: Vec<Option<Vec<Part>>> = items.par_iter().map(|d| self.store.pieces_of(d)).collect::<Result<_, _>>()?;
        for (digest, pieces) in items.into_iter().zip(pieces) {
            let Some(pieces) = pieces else { continue };
            self.entries.insert(digest);
            self.entries.extend(pieces.iter().map(|p| p.digest));
        }
        Ok(())
    }

    /// Everything that receipts speak of, but for the outputs that are given up.
    pub fn all_but(&mut self, all: &Inventory, given_up: &HashSet<(Digest, ProjectPath)>) -> Result<(), UpkeepError> {
        for (_, run) in &all.runs {
            self.bytes(&run.manifest.digest)?;
            run.log.iter().try_for_each(|log| self.bytes(&log.digest))?;
            run.params.values().try_for_each(|text| self.bytes(&Digest::of(text.as_bytes())))?;
            for state in run.data.values().filter(|s| s.hold == StorageMode::Store) {
                self.content(&state.content)?;
            }
        }
        for (_, data) in all.data.iter().filter(|(_, d)| d.hold == StorageMode::Store) {
            self.content(&data.content)?;
        }
        for (_, made) in all.checkpoints.iter().filter(|(d, m)| !given_up.contains(&(*d, m.path.clone()))) {
            self.content(&made.content)?;
        }
        let by_digest: std::collections::HashMap<&Digest, &StageReceipt> = all.stages.iter().map(|(d, r)| (d, r)).collect();
        for (digest, receipt) in &all.stages {
            self.bytes(&receipt.log.digest)?;
            if let Some(points) = receipt.signals.as_ref().and_then(|s| s.points.as_ref()) {
                self.bytes(&points.digest)?;
            }
            if let Some(from) = &receipt.from {
                self.content(&from.content)?;
            }
            let values = receipt.inputs.params.values().chain(receipt.inputs.vars.values().flatten());
            values.map(|text| Digest::of(text.as_bytes())).try_for_each(|d| self.bytes(&d))?;
            for output in receipt.outputs().filter(|o| !given_up.contains(&(*digest, o.path.clone()))) {
                self.content(&output.content)?;
            }
            for read in receipt.reads.iter().filter(|r| r.hold == StorageMode::Store) {
                // What another stage wrote is that one's to keep; a folder of outputs and other files is a source.
                let written =
                    |by: &Digest| by_digest.get(by).is_some_and(|w| w.outputs().any(|o| is_within(&read.at.path, &o.path)));
                if !read.by.iter().any(written) {
                    self.content(&read.at.content)?;
                }
            }
        }
        Ok(())
    }
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
