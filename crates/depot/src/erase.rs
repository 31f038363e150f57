//! Taking content out of a depot at once: rows that are to be forgotten wait for no grace.

use std::collections::{BTreeMap, HashSet};

use textum_store::{Digest, Kind};

use super::depot::{Depot, DepotError};
use super::fetch::Fetched;
use super::index::{EntryAt, PackAt};
use super::layout::{CONTENT, PackName};

/// What was taken out.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Erased {
    /// Entries that went.
    pub entries: u64,
    /// Bytes by which the depot is smaller.
    pub bytes: u64,
}

impl Depot {
    /// The pieces of large contents among these, as far as their lists can be read.
    fn pieces_of(&self, all: &[EntryAt], contents: &HashSet<Digest>) -> Result<HashSet<Digest>, DepotError> {
        let wanted = |e: &&EntryAt| e.record.entry.kind == Kind::Parts && contents.contains(&e.record.entry.digest);
        let mut pieces = HashSet::new();
        for list in all.iter().filter(wanted) {
            match self.entries(vec![*list], &mut Fetched::default(), &|_| ()) {
                Ok(found) => pieces.extend(found.iter().flat_map(|e| e.pieces().unwrap_or_default()).map(|p| p.digest)),
                // A list that is damaged says nothing; what it listed goes with a later sweep.
                Err(DepotError::Damaged { .. }) => {}
                Err(other) => return Err(other),
            }
        }
        Ok(pieces)
    }

    /// Takes these contents out, with the pieces that nothing else needs; `live` is all content that stays. Packs that were
    /// told of as gone and are still there go too, and halves of objects that nobody writes any more: they may hold anything. Whatever instant it ends at, what stays can
    /// be found, and the next time goes on.
    pub fn erase(&self, going: &HashSet<Digest>, live: &HashSet<Digest>) -> Result<Erased, DepotError> {
        self.refresh()?;
        let all = self.all_entries()?;
        let needed = self.pieces_of(&all, live)?;
        let mut goes = self.pieces_of(&all, going)?;
        goes.extend(going);
        goes.retain(|digest| !needed.contains(digest) && (going.contains(digest) || !live.contains(digest)));
        let mut erased = Erased::default();
        let mut by_pack: BTreeMap<PackAt, Vec<EntryAt>> = BTreeMap::new();
        all.iter().for_each(|e| by_pack.entry(e.pack).or_default().push(*e));
        by_pack.retain(|_, entries| entries.iter().any(|e| goes.contains(&e.record.entry.digest)));
        let (mut old, mut kept) = (Vec::new(), Vec::new());
        for (pack, entries) in by_pack {
            old.push(pack.name);
            for entry in entries {
                match goes.contains(&entry.record.entry.digest) {
                    true => {
                        erased.entries += 1;
                        erased.bytes += u64::from(entry.record.entry.stored_len) + 64;
                    }
                    false => kept.push(entry),
                }
            }
        }
        self.replace(&old, kept)?;
        // What an erasing that was cut off had told of as gone and not yet removed.
        self.refresh()?;
        let gone = self.catalog()?.gone.clone();
        for object in self.storage.list(CONTENT)? {
            if PackName::of_path(&object.path).is_some_and(|name| gone.contains(&name)) {
                self.storage.delete(&object.path)?;
            }
        }
        // One that somebody may still be writing is theirs.
        let now = self.storage_now()?;
        let is_old = |at: jiff::Timestamp| now.duration_since(at) >= jiff::SignedDuration::from_hours(24);
        for leftover in self.storage.leftovers()?.into_iter().filter(|o| o.modified.is_some_and(is_old)) {
            self.storage.delete(&leftover.path)?;
        }
        self.forget();
        Ok(erased)
    }
}
