//! Dropping content that nothing speaks of any more, beside writers that know nothing of it.
//!
//! In two steps with a time of grace between them. What nothing speaks of is *marked*: who sends content sends marked entries
//! anew, and does not rely on them. After the grace, what is still marked and still not spoken of goes: packs are written
//! anew without it, a list tells that the old ones are *gone*, and they are removed. A pack that is younger than the grace
//! stays: somebody may be about to speak of what is in it.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::time::Duration;

use jiff::Timestamp;
use textum_store::{Digest, Entry, Kind, PackBuilder};

use super::catalog::is_list;
use super::depot::{Depot, DepotError};
use super::fetch::Fetched;
use super::index::{EntryAt, PackAt, encode_list, is_content, pack_item};
use super::layout::{CONTENT, GONE, INDEX, MARKS, PackName};
use super::storage::Object;

/// A pack is written when it has grown to this many bytes.
const FULL: u64 = 32 << 20;

/// How content is dropped.
#[derive(Clone, Copy, Debug)]
pub struct SweepOptions {
    /// The time between marking and dropping: longer than any sync takes.
    pub grace: Duration,
    /// Whether it is only told what would be done.
    pub dry_run: bool,
}

/// What was done, or would be.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Swept {
    /// Entries that were marked: they go after the grace, if nothing speaks of them then.
    pub marked: u64,
    /// Their bytes.
    pub marked_bytes: u64,
    /// Entries that wait for the end of the grace.
    pub waiting: u64,
    /// Entries that had been marked and are spoken of again.
    pub spared: u64,
    /// Entries that went.
    pub dropped: u64,
    /// Bytes by which the depot is smaller.
    pub freed: u64,
    /// Packs among them that no index told of, and halves of objects: what a sync left that was cut off.
    pub orphans: u64,
}

/// Marks as they lie in the depot.
struct Mark {
    path: String,
    digests: Vec<Digest>,
    made: Timestamp,
}

impl Depot {
    /// The time by the storage's clock, by which its objects are dated; by this machine's, where it does not date them.
    pub(crate) fn storage_now(&self) -> Result<Timestamp, DepotError> {
        let path = format!("probe/now-{:016x}", rand::random::<u64>());
        self.storage.put(&path, &Vec::new().into())?;
        let now = self.storage.list("probe")?.into_iter().find(|o| o.path == path).and_then(|o| o.modified);
        self.storage.delete(&path)?;
        Ok(now.unwrap_or_else(textum_base::clock::now))
    }

    /// All entries of content that the indexes tell of, but for those in packs that are gone.
    pub(crate) fn all_entries(&self) -> Result<Vec<EntryAt>, DepotError> {
        // What an index told that was merged meanwhile is told by another: without it packs would be taken for nobody's.
        for _ in 0..4 {
            if let Some(all) = self.entries_told()? {
                return Ok(all);
            }
            self.refresh()?;
        }
        Err(self.damaged(INDEX, "its indexes go away while they are read"))
    }

    /// The same, as of the last look; nothing where an index has gone since.
    fn entries_told(&self) -> Result<Option<Vec<EntryAt>>, DepotError> {
        let catalog = self.catalog()?;
        let mut all = Vec::new();
        for file in &catalog.files {
            self.go_on()?;
            let Some(index) = self.index(file)? else { return Ok(None) };
            all.extend((0..index.len()).filter_map(|at| index.entry(at)));
        }
        all.retain(|e| is_content(e.record.entry.kind) && !catalog.gone.contains(&e.pack.name));
        let key = |e: &EntryAt| (e.record.entry.digest, e.record.entry.kind, e.pack.name, e.record.offset);
        all.sort_unstable_by_key(key);
        all.dedup_by_key(|e| key(e));
        Ok(Some(all))
    }

    /// Every entry that must stay for these contents: themselves, and the pieces that they are made of.
    fn with_pieces(&self, all: &[EntryAt], live: &HashSet<Digest>) -> Result<HashSet<Digest>, DepotError> {
        let lists: Vec<EntryAt> =
            all.iter().filter(|e| e.record.entry.kind == Kind::Parts && live.contains(&e.record.entry.digest)).copied().collect();
        let mut live = live.clone();
        for list in self.entries(lists, &mut Fetched::default(), &|_| ())? {
            live.extend(list.pieces().unwrap_or_default().iter().map(|piece| piece.digest));
        }
        Ok(live)
    }

    /// Marks what nothing speaks of, and drops what was marked before the grace. `live` are all contents that any document
    /// of the depot speaks of: whoever calls has taken in all of them before.
    pub fn sweep(&self, live: &HashSet<Digest>, options: SweepOptions) -> Result<Swept, DepotError> {
        self.refresh()?;
        let now = self.storage_now()?;
        let grace = jiff::SignedDuration::try_from(options.grace).unwrap_or(jiff::SignedDuration::MAX);
        let is_old = |at: Option<Timestamp>| at.is_some_and(|at| now.duration_since(at) >= grace);
        let all = self.all_entries()?;
        let live = self.with_pieces(&all, live)?;
        let packs: HashMap<PackName, (u64, bool)> = self
            .storage
            .list(CONTENT)?
            .into_iter()
            .filter_map(|o| Some((PackName::of_path(&o.path)?, (o.size, is_old(o.modified)))))
            .collect();
        let is_in_old_pack = |e: &EntryAt| packs.get(&e.pack.name).is_some_and(|(_, old)| *old);
        let mut swept = Swept::default();
        let marks = self.marks(now)?;
        let expired: Vec<&Mark> = marks.iter().filter(|m| is_old(Some(m.made))).collect();
        let due: HashSet<Digest> = expired.iter().flat_map(|m| &m.digests).copied().collect();
        let marked: HashSet<Digest> = marks.iter().flat_map(|m| &m.digests).copied().collect();
        let goes =
            |e: &EntryAt| due.contains(&e.record.entry.digest) && !live.contains(&e.record.entry.digest) && is_in_old_pack(e);
        swept.spared = marked.iter().filter(|d| live.contains(*d)).count() as u64;
        // Those that were due and lie in a young pack are marked anew.
        let mut anew: Vec<Digest> = Vec::new();
        for entry in &all {
            let digest = entry.record.entry.digest;
            if live.contains(&digest) {
                continue;
            }
            let length = u64::from(entry.record.entry.stored_len) + 64;
            if goes(entry) {
                swept.dropped += 1;
                swept.freed += length;
            } else if marked.contains(&digest) && !due.contains(&digest) {
                swept.waiting += 1;
            } else if is_in_old_pack(entry) || !marked.contains(&digest) {
                swept.marked += 1;
                swept.marked_bytes += length;
                anew.push(digest);
            }
        }
        let told: HashSet<PackName> = all.iter().map(|e| e.pack.name).collect();
        let orphans: Vec<PackName> =
            packs.iter().filter(|(name, (_, old))| *old && !told.contains(name)).map(|(n, _)| *n).collect();
        let leftovers: Vec<Object> = self.storage.leftovers()?.into_iter().filter(|o| is_old(o.modified)).collect();
        swept.freed += leftovers.iter().map(|o| o.size).sum::<u64>();
        swept.orphans = (orphans.len() + leftovers.len()) as u64;
        swept.freed += orphans.iter().filter_map(|name| packs.get(name)).map(|(size, _)| size).sum::<u64>();
        if options.dry_run {
            return Ok(swept);
        }
        let mut by_pack: BTreeMap<PackAt, Vec<EntryAt>> = BTreeMap::new();
        all.iter().for_each(|e| by_pack.entry(e.pack).or_default().push(*e));
        by_pack.retain(|_, entries| entries.iter().any(goes));
        let (mut old, mut kept) = (Vec::new(), Vec::new());
        for (pack, entries) in by_pack {
            old.push(pack.name);
            kept.extend(entries.into_iter().filter(|e| !goes(e)));
        }
        self.replace(&old, kept)?;
        for name in &orphans {
            self.storage.delete(&name.content_path())?;
        }
        for leftover in &leftovers {
            self.storage.delete(&leftover.path)?;
        }
        // What was due has gone, or is spoken of again.
        for mark in expired {
            self.storage.delete(&mark.path)?;
        }
        anew.sort_unstable();
        anew.dedup();
        if !anew.is_empty() {
            let items: Vec<[u8; 32]> = anew.iter().map(|d| *d.as_bytes()).collect();
            self.storage.put(&format!("{MARKS}/{:016x}", rand::random::<u64>()), &encode_list(&items).into())?;
        }
        self.forget();
        Ok(swept)
    }

    fn marks(&self, now: Timestamp) -> Result<Vec<Mark>, DepotError> {
        let mut marks = Vec::new();
        for object in self.storage.list(MARKS)?.into_iter().filter(|o| is_list(&o.path)) {
            let Some(items) = self.list_of::<32>(&object.path)? else { continue };
            let digests = items.into_iter().map(Digest::from_bytes).collect();
            marks.push(Mark { path: object.path, digests, made: object.modified.unwrap_or(now) });
        }
        Ok(marks)
    }

    /// Puts these entries into packs of their own, and takes away the packs that they and others were in. Whatever instant it
    /// ends at, what is kept can be found.
    pub(crate) fn replace(&self, old: &[PackName], kept: Vec<EntryAt>) -> Result<(), DepotError> {
        let mut some: Vec<EntryAt> = Vec::new();
        let mut length = 0;
        for entry in kept {
            length += u64::from(entry.record.entry.stored_len) + 64;
            some.push(entry);
            if length >= FULL {
                let entries = self.entries(std::mem::take(&mut some), &mut Fetched::default(), &|_| ())?;
                self.write_pack(&entries)?;
                length = 0;
            }
        }
        let entries = self.entries(some, &mut Fetched::default(), &|_| ())?;
        self.write_pack(&entries)?;
        self.remove_packs(old)
    }

    /// Writes a pack of these entries and an index that tells of it.
    pub(crate) fn write_pack(&self, entries: &[Entry]) -> Result<(), DepotError> {
        if entries.is_empty() {
            return Ok(());
        }
        let mut builder = PackBuilder::default();
        entries.iter().for_each(|entry| builder.push(entry));
        let pack = builder.finish();
        let at = PackAt { name: PackName::new(pack.name), length: pack.bytes.len() as u64 };
        self.storage.put(&at.name.content_path(), &pack.bytes.into())?;
        self.write_index(pack.records.into_iter().map(|record| EntryAt { pack: at, record }).collect())
    }

    /// Tells that packs are gone, and removes them.
    pub(crate) fn remove_packs(&self, packs: &[PackName]) -> Result<(), DepotError> {
        if packs.is_empty() {
            return Ok(());
        }
        let items: Vec<[u8; 36]> = packs.iter().map(pack_item).collect();
        self.storage.put(&format!("{GONE}/{:016x}", rand::random::<u64>()), &encode_list(&items).into())?;
        for pack in packs {
            self.storage.delete(&pack.content_path())?;
        }
        self.forget();
        Ok(())
    }
}
