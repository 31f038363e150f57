//! What the store holds and where: all packs' indexes as one sorted table of 16 bytes an entry.
//!
//! The table keeps the first eight bytes of each digest; a hit is confirmed in the index file itself,
//! so that memory stays small however many entries there are.

use std::collections::HashSet;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, OnceLock};

use super::index::{self, Record};
use super::{Digest, StoreError};
use textum_base::fsio::IoError;

/// Where an entry stands: its pack's number in the catalog, and its record.
#[derive(Clone, Copy, Debug)]
pub struct Found {
    /// Number of the pack in [`Catalog::pack_path`].
    pub pack: u32,
    /// Its record.
    pub record: Record,
}

#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
struct Slot {
    prefix: u64,
    pack: u32,
    position: u32,
}

enum Source {
    OnDisk,
    /// Whoever goes through all there is looks up each: then reading the index at each look-up is most of the work. Or
    /// the index could not be written (a read-only store).
    InMemory(Vec<Record>),
}

struct PackRef {
    name: Digest,
    source: Source,
    pack_file: OnceLock<Arc<File>>,
    index_file: OnceLock<Arc<File>>,
}

/// All packs of a store and what is in them, as of the last look.
pub struct Catalog {
    folder: PathBuf,
    packs: Vec<PackRef>,
    slots: Vec<Slot>,
    /// Where the slots of each value of the first [`Catalog::bits`] bits of a prefix begin, and a last entry with
    /// their number: digests are spread evenly, so that what is left to search is short.
    starts: Vec<u32>,
    bits: u32,
    /// How many files are kept open.
    kept_open: AtomicUsize,
    /// Of how many more entries the records may stay in memory.
    may_keep: usize,
}

/// Of so many entries at most the records stay in memory, where that is asked for: 48 MiB.
const MOST_KEPT: usize = (48 << 20) / size_of::<Record>();

/// Which file of a pack.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
enum Which {
    Pack,
    Index,
}

/// A table of starts has at most two to this many entries.
const MOST_BITS: u32 = 20;

/// So many files are kept open; each look-up in another one opens it anew.
const MOST_HANDLES: usize = 160;

fn prefix_of(digest: &Digest) -> u64 {
    let b = digest.as_bytes();
    u64::from_be_bytes([b[0], b[1], b[2], b[3], b[4], b[5], b[6], b[7]])
}

/// The packs in a folder, by name, with their lengths in bytes.
pub fn list_packs(folder: &Path) -> Result<Vec<(Digest, u64)>, StoreError> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).map_err(IoError::of("list", folder))? {
        let entry = entry.map_err(IoError::of("list", folder))?;
        let name = entry.file_name();
        let Some(hex) = name.to_str().and_then(|n| n.strip_suffix(".pack")) else { continue };
        let Some(digest) = Digest::from_hex(hex) else { continue };
        match entry.metadata() {
            Ok(meta) => found.push((digest, meta.len())),
            // Folded into another pack by another process since it was listed.
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => {}
            Err(e) => return Err(IoError::of("look at", &entry.path())(e).into()),
        }
    }
    found.sort_unstable();
    Ok(found)
}

/// Does something with the names of all packs in a folder; again, where one was folded into another by another process since
/// it was listed.
pub fn with_packs<T>(folder: &Path, look: impl Fn(&[(Digest, u64)]) -> Result<T, StoreError>) -> Result<T, StoreError> {
    loop {
        let packs = list_packs(folder)?;
        match look(&packs) {
            // One that is listed still cannot be read for another reason.
            Err(StoreError::Io(e)) if e.is_not_found() && list_packs(folder)? != packs => {}
            other => return other,
        }
    }
}

/// All records of one pack, from its index or, failing that, from the pack itself.
pub fn records_of(folder: &Path, name: &Digest) -> Result<Vec<Record>, StoreError> {
    let path = Catalog::path_of(folder, name);
    let length = fs::metadata(&path).map_err(IoError::of("look at", &path))?.len();
    let index_path = path.with_extension("index");
    match index::read(&index_path, name, length) {
        Some(records) => Ok(records),
        None => index::rebuild(&path, &index_path, name),
    }
}

impl Catalog {
    /// Of a folder that is not there yet.
    pub fn empty(folder: &Path) -> Catalog {
        Catalog {
            folder: folder.to_path_buf(),
            packs: Vec::new(),
            slots: Vec::new(),
            starts: vec![0, 0],
            bits: 0,
            kept_open: AtomicUsize::new(0),
            may_keep: 0,
        }
    }

    /// Reads the indexes of all packs in the folder; a missing or damaged index is made anew. With `keep` their records
    /// stay in memory, as far as there are not too many.
    pub fn load(folder: &Path, keep: bool) -> Result<Catalog, StoreError> {
        let mut catalog = Catalog::empty(folder);
        catalog.may_keep = if keep { MOST_KEPT } else { 0 };
        let mut known = HashSet::new();
        loop {
            let packs = list_packs(folder)?;
            let mut is_whole = true;
            for (name, length) in packs.iter().filter(|(name, _)| known.insert(*name)) {
                match catalog.take_in(*name, *length) {
                    Err(StoreError::Io(e)) if e.is_not_found() => is_whole = false,
                    other => other?,
                }
            }
            // What was in a pack that was folded since it was listed is in one that came since.
            if is_whole || list_packs(folder)? == packs {
                break;
            }
        }
        catalog.sort();
        Ok(catalog)
    }

    fn sort(&mut self) {
        self.slots.sort_unstable();
        // About eight slots an entry.
        self.bits = (self.slots.len() / 8).checked_ilog2().unwrap_or(0).min(MOST_BITS);
        self.starts.clear();
        for (at, slot) in self.slots.iter().enumerate() {
            let first = self.first_bits(slot.prefix);
            if self.starts.len() <= first {
                self.starts.resize(first + 1, at as u32);
            }
        }
        self.starts.resize((1 << self.bits) + 1, self.slots.len() as u32);
    }

    fn first_bits(&self, prefix: u64) -> usize {
        if self.bits == 0 { 0 } else { (prefix >> (64 - self.bits)) as usize }
    }

    /// The path of a pack by its name.
    pub fn path_of(folder: &Path, name: &Digest) -> PathBuf {
        folder.join(format!("{}.pack", name.hex()))
    }

    /// The path of a pack by its number.
    pub fn pack_path(&self, number: u32) -> PathBuf {
        Catalog::path_of(&self.folder, &self.packs[number as usize].name)
    }

    fn take_in(&mut self, name: Digest, length: u64) -> Result<(), StoreError> {
        let pack_path = Catalog::path_of(&self.folder, &name);
        let index_path = pack_path.with_extension("index");
        let (records, is_on_disk) = match index::read(&index_path, &name, length) {
            Some(records) => (records, true),
            None => (index::rebuild(&pack_path, &index_path, &name)?, index_path.exists()),
        };
        let number = self.packs.len() as u32;
        self.slots.extend(records.iter().enumerate().map(|(position, r)| Slot {
            prefix: prefix_of(&r.entry.digest),
            pack: number,
            position: position as u32,
        }));
        let source = match self.may_keep.checked_sub(records.len()) {
            Some(rest) => {
                self.may_keep = rest;
                Source::InMemory(records)
            }
            None if is_on_disk => Source::OnDisk,
            None => Source::InMemory(records),
        };
        self.packs.push(PackRef { name, source, pack_file: OnceLock::new(), index_file: OnceLock::new() });
        Ok(())
    }

    /// Adds a pack that has just been published.
    pub fn add(&mut self, name: Digest, length: u64) -> Result<(), StoreError> {
        if self.packs.iter().any(|p| p.name == name) {
            return Ok(());
        }
        self.take_in(name, length)?;
        self.sort();
        Ok(())
    }

    fn path(&self, number: u32, which: Which) -> PathBuf {
        let pack = self.pack_path(number);
        if which == Which::Pack { pack } else { pack.with_extension("index") }
    }

    fn handle(&self, number: u32, which: Which) -> Result<Arc<File>, StoreError> {
        let pack = &self.packs[number as usize];
        let kept = if which == Which::Pack { &pack.pack_file } else { &pack.index_file };
        if let Some(file) = kept.get() {
            return Ok(file.clone());
        }
        let path = self.path(number, which);
        let file = Arc::new(File::open(&path).map_err(IoError::of("open", &path))?);
        if self.kept_open.fetch_add(1, Ordering::Relaxed) < MOST_HANDLES {
            let _ = kept.set(file.clone());
        }
        Ok(file)
    }

    /// An open handle of a pack.
    pub fn pack_file(&self, number: u32) -> Result<Arc<File>, StoreError> {
        self.handle(number, Which::Pack)
    }

    fn record(&self, slot: Slot) -> Result<Record, StoreError> {
        let pack = &self.packs[slot.pack as usize];
        match &pack.source {
            Source::InMemory(records) => Ok(records[slot.position as usize]),
            Source::OnDisk => {
                let file = self.handle(slot.pack, Which::Index)?;
                index::record_at(&file, slot.position, || self.path(slot.pack, Which::Index))
            }
        }
    }

    fn candidates(&self, low: u64, high: u64) -> &[Slot] {
        let start = |prefix: u64, after: usize| self.starts[self.first_bits(prefix) + after] as usize;
        let near = &self.slots[start(low, 0)..start(high, 1)];
        let from = near.partition_point(|s| s.prefix < low);
        let to = from + near[from..].partition_point(|s| s.prefix <= high);
        &near[from..to]
    }

    /// All places of this digest's entries, of any kind.
    pub fn find(&self, digest: &Digest) -> Result<Vec<Found>, StoreError> {
        let prefix = prefix_of(digest);
        let mut found = Vec::new();
        for slot in self.candidates(prefix, prefix) {
            let record = self.record(*slot)?;
            if record.entry.digest == *digest {
                found.push(Found { pack: slot.pack, record });
            }
        }
        Ok(found)
    }

    /// The digests that begin with these hex digits (at most `most` of them).
    pub fn begin_with(&self, hex: &str, most: usize) -> Result<Vec<Digest>, StoreError> {
        let digits = &hex[..hex.len().min(16)];
        let Ok(number) = u64::from_str_radix(digits, 16) else { return Ok(Vec::new()) };
        let shift = 4 * (16 - digits.len() as u32);
        let low = number.checked_shl(shift).unwrap_or(0);
        let high = low | 1u64.checked_shl(shift).map_or(u64::MAX, |one| one.wrapping_sub(1));
        let mut found: Vec<Digest> = Vec::new();
        for slot in self.candidates(low, high) {
            let digest = self.record(*slot)?.entry.digest;
            if digest.hex().starts_with(hex) && !found.contains(&digest) {
                found.push(digest);
                if found.len() >= most {
                    break;
                }
            }
        }
        Ok(found)
    }

    /// Number of entries.
    pub fn len(&self) -> usize {
        self.slots.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.slots.is_empty()
    }
}
