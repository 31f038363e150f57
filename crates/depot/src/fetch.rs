//! Fetching content from a depot: only what is missing, neighbours together, every byte checked before it is taken in.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Mutex;

use textum_store::{Digest, Entry, Kind, Store, Writer};

use super::depot::{Depot, DepotError};
use super::index::EntryAt;
use super::layout::PackName;
use super::parallel::parallel;
use super::send::Progress;

/// What lies between two entries that are wanted is read too if it is no longer.
const GAP: u64 = 128 << 10;
/// A request asks for this much at most.
const MOST: u64 = 8 << 20;
/// So many pieces are read back side by side, by so many.
const READ_TOGETHER: usize = 8;
const READERS: usize = 4;
/// Length of an entry's head in a pack.
const HEAD_LEN: u64 = 64;

/// What was fetched.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Fetched {
    /// Contents that came.
    pub contents: u64,
    /// Bytes that travelled.
    pub bytes: u64,
    /// Requests that were made.
    pub requests: u64,
}

impl Fetched {
    /// Adds what came besides.
    pub fn add(&mut self, other: &Fetched) {
        self.contents += other.contents;
        self.bytes += other.bytes;
        self.requests += other.requests;
    }
}

/// Bytes of a pack that are asked for together.
struct Request {
    pack: PackName,
    from: u64,
    to: u64,
    entries: Vec<EntryAt>,
}

pub(crate) fn end_of(entry: &EntryAt) -> u64 {
    entry.record.offset + HEAD_LEN + u64::from(entry.record.entry.stored_len)
}

/// Neighbours together.
fn requests(entries: impl Iterator<Item = EntryAt>) -> Vec<Request> {
    let mut by_pack: BTreeMap<PackName, Vec<EntryAt>> = BTreeMap::new();
    for entry in entries {
        by_pack.entry(entry.pack.name).or_default().push(entry);
    }
    let mut all: Vec<Request> = Vec::new();
    for (pack, mut entries) in by_pack {
        entries.sort_unstable_by_key(|e| e.record.offset);
        for entry in entries {
            let (from, to) = (entry.record.offset, end_of(&entry));
            match all.last_mut().filter(|r| r.pack == pack && from <= r.to + GAP && to - r.from <= MOST) {
                Some(request) => {
                    request.to = request.to.max(to);
                    request.entries.push(entry);
                }
                None => all.push(Request { pack, from, to, entries: vec![entry] }),
            }
        }
    }
    all
}

impl Depot {
    /// Fetches what the depot has of these contents and the store has not, with their pieces.
    pub fn fetch(&self, store: &Store, contents: &[Digest], progress: Progress<'_>) -> Result<Fetched, DepotError> {
        let mut fetched = Fetched::default();
        for some in contents.chunks(1 << 16) {
            let mut missing = Vec::new();
            for digest in some {
                if !store.contains(digest)? {
                    missing.push(*digest);
                }
            }
            fetched.add(&self.fetch_some(store, &missing, progress)?);
        }
        Ok(fetched)
    }

    fn fetch_some(&self, store: &Store, missing: &[Digest], progress: Progress<'_>) -> Result<Fetched, DepotError> {
        let mut fetched = Fetched::default();
        if missing.is_empty() {
            return Ok(fetched);
        }
        let found = self.find(missing)?;
        let writer = store.writer()?;
        let (lists, wholes): (Vec<EntryAt>, Vec<EntryAt>) =
            found.into_values().partition(|entry| entry.record.entry.kind == Kind::Parts);
        fetched.contents = (lists.len() + wholes.len()) as u64;
        self.take_in(wholes, &writer, &mut fetched, progress)?;
        let lists = self.entries(lists, &mut fetched, progress)?;
        let mut wanted = HashSet::new();
        for list in &lists {
            for piece in list.pieces().unwrap_or_default() {
                if !writer.contains(&piece.digest)? {
                    wanted.insert(piece.digest);
                }
            }
        }
        let wanted: Vec<Digest> = wanted.into_iter().collect();
        let pieces: Vec<EntryAt> = self.find(&wanted)?.into_values().filter(|e| e.record.entry.kind == Kind::Chunk).collect();
        self.take_in(pieces, &writer, &mut fetched, progress)?;
        if !lists.is_empty() {
            // Pieces are read back to see whether they make up the content: only then it is there.
            writer.publish()?;
            for list in &lists {
                self.go_on()?;
                if self.makes_up(store, list)? {
                    writer.put_entry(list)?;
                } else {
                    fetched.contents -= 1;
                }
            }
        }
        writer.publish()?;
        Ok(fetched)
    }

    /// Whether the pieces of a list make up its content. An error where they make up another.
    fn makes_up(&self, store: &Store, list: &Entry) -> Result<bool, DepotError> {
        let mut whole = blake3::Hasher::new();
        for some in list.pieces().unwrap_or_default().chunks(READ_TOGETHER) {
            let read = parallel(READERS, some, |piece| match store.contains(&piece.digest)? {
                true => Ok::<_, DepotError>(Some(store.read(&piece.digest)?)),
                false => Ok(None),
            })?;
            for bytes in read {
                // A depot that has lost a piece does not have the content.
                let Some(bytes) = bytes else { return Ok(false) };
                whole.update_rayon(&bytes);
            }
        }
        match Digest::from(whole.finalize()) == list.digest() {
            true => Ok(true),
            false => Err(self.damaged(&list.digest().to_string(), "its pieces make up something else")),
        }
    }

    fn take_in(
        &self,
        entries: Vec<EntryAt>,
        writer: &Writer<'_>,
        fetched: &mut Fetched,
        progress: Progress<'_>,
    ) -> Result<(), DepotError> {
        let figures = Mutex::new(Fetched::default());
        let requests = requests(entries.into_iter());
        parallel(self.jobs(), &requests, |request| {
            let (entries, came) = self.request(request, progress)?;
            entries.iter().try_for_each(|entry| writer.put_entry(entry))?;
            figures.lock().unwrap_or_else(std::sync::PoisonError::into_inner).add(&came);
            Ok::<(), DepotError>(())
        })?;
        fetched.add(&figures.into_inner().unwrap_or_else(std::sync::PoisonError::into_inner));
        Ok(())
    }

    /// Entries, checked.
    pub(crate) fn entries(
        &self,
        entries: Vec<EntryAt>,
        fetched: &mut Fetched,
        progress: Progress<'_>,
    ) -> Result<Vec<Entry>, DepotError> {
        let requests = requests(entries.into_iter());
        let mut all = Vec::new();
        for (entries, came) in parallel(self.jobs(), &requests, |request| self.request(request, progress))? {
            all.extend(entries);
            fetched.add(&came);
        }
        Ok(all)
    }

    fn request(&self, request: &Request, progress: Progress<'_>) -> Result<(Vec<Entry>, Fetched), DepotError> {
        self.go_on()?;
        let path = request.pack.content_path();
        let mut came = Fetched::default();
        // Wrong bytes may be the network's doing: they are asked for once more.
        for again in [true, false] {
            let bytes = self.storage.read_range(&path, request.from, request.to - request.from)?;
            came.requests += 1;
            came.bytes += bytes.len() as u64;
            match self.cut(request, &bytes) {
                Err(_) if again => {}
                other => {
                    let entries = other.map_err(|what| self.damaged(&path, what))?;
                    progress(request.entries.iter().map(|e| u64::from(e.record.entry.raw_len)).sum());
                    return Ok((entries, came));
                }
            }
        }
        Ok((Vec::new(), came))
    }

    fn cut(&self, request: &Request, bytes: &[u8]) -> Result<Vec<Entry>, String> {
        let cut = |at: &EntryAt| {
            let wrong = |what: &str| format!("at byte {}: {what}", at.record.offset);
            let (from, to) = ((at.record.offset - request.from) as usize, (end_of(at) - request.from) as usize);
            let bytes = bytes.get(from..to).ok_or_else(|| wrong("the pack ends too early"))?;
            let entry = Entry::of(bytes.to_vec()).map_err(wrong)?;
            let is_meant = entry.digest() == at.record.entry.digest && entry.kind() == at.record.entry.kind;
            if is_meant { Ok(entry) } else { Err(wrong("another entry stands there")) }
        };
        request.entries.iter().map(cut).collect()
    }

    /// How large these contents are where they are in the depot, in bytes; of a large one, the list of its pieces is read.
    pub fn has(&self, digests: &[Digest]) -> Result<HashMap<Digest, EntryAt>, DepotError> {
        let mut found = self.find(digests)?;
        found.retain(|_, entry| matches!(entry.record.entry.kind, Kind::Chunk | Kind::Parts));
        Ok(found)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::index::PackAt;
    use textum_store::{Coding, EntryHead, Record};

    #[test]
    fn neighbours_are_asked_for_together_and_others_are_not() {
        let entry = |pack: u8, offset: u64, length: u32| {
            let name = PackName { name: Digest::of(&[pack]), salt: 0 };
            let digest = Digest::of(&offset.to_le_bytes());
            let head = EntryHead { kind: Kind::Chunk, coding: Coding::Raw, stored_len: length, raw_len: length, digest };
            EntryAt { pack: PackAt { name, length: 1 << 40 }, record: Record { entry: head, offset } }
        };
        let asked = |entries: Vec<EntryAt>| -> Vec<(u64, u64, usize)> {
            let mut all: Vec<_> = requests(entries.into_iter()).iter().map(|r| (r.from, r.to, r.entries.len())).collect();
            all.sort_unstable();
            all
        };
        assert_eq!(asked(vec![entry(1, 500, 36), entry(1, 0, 36)]), [(0, 600, 2)]);
        assert_eq!(asked(vec![entry(1, 0, 36), entry(1, 100 + GAP + 1, 36)]).len(), 2, "too far");
        assert_eq!(asked(vec![entry(1, 0, 36), entry(2, 100, 36)]).len(), 2, "another pack");
        assert_eq!(asked(vec![entry(1, 0, MOST as u32), entry(1, MOST + 64, 36)]).len(), 2, "too much");
        assert_eq!(asked(vec![]), []);
    }
}
