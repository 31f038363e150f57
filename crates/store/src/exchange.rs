//! Entries as they travel between stores: head and payload as they stand in a pack, checked and not coded anew.

use std::collections::HashSet;

use super::index::Record;
use super::pack::{self, EntryHead, HEAD_LEN, Kind, PACK_HEAD};
use super::read::{Part, parse_parts};
use super::writer::{Coded, Writer};
use super::{Digest, Located, Store, StoreError};

/// An entry of a pack: its bytes are those that were written.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Entry {
    head: EntryHead,
    bytes: Vec<u8>,
}

impl Entry {
    /// An entry out of its bytes, if they are one, and whole. What it holds is held against its digest, but for a list of
    /// pieces: whether the pieces make up the content shows only when they are there.
    pub fn of(bytes: Vec<u8>) -> Result<Entry, &'static str> {
        let head: [u8; HEAD_LEN] = bytes.get(..HEAD_LEN).and_then(|h| h.try_into().ok()).ok_or("it ends before its head does")?;
        let found = EntryHead::decode(&head).ok_or("its head is none")?;
        if bytes.len() != HEAD_LEN + found.stored_len as usize {
            return Err("it has another length than its head says");
        }
        if !found.verify(&head, &bytes[HEAD_LEN..]) {
            return Err("its bytes are not those that were written");
        }
        let entry = Entry { head: found, bytes };
        match entry.head.kind {
            Kind::Parts => drop(entry.pieces().ok_or("its list of pieces is none")?),
            _ if Digest::of(&entry.content().ok_or("it cannot be decoded")?) != entry.head.digest => {
                return Err("its content does not match its digest");
            }
            _ => {}
        }
        Ok(entry)
    }

    /// What it is looked up by.
    pub fn digest(&self) -> Digest {
        self.head.digest
    }

    /// What it holds.
    pub fn kind(&self) -> Kind {
        self.head.kind
    }

    /// Its length in a pack, in bytes.
    pub fn length(&self) -> u64 {
        self.bytes.len() as u64
    }

    /// Its content, decoded.
    pub fn content(&self) -> Option<Vec<u8>> {
        pack::decoded(&self.head, &self.bytes[HEAD_LEN..])
    }

    /// The pieces that it lists, if it is a list of pieces.
    pub fn pieces(&self) -> Option<Vec<Part>> {
        if self.head.kind != Kind::Parts { None } else { parse_parts(&self.content()?) }
    }
}

/// A pack that is made in memory.
pub struct PackBuilder {
    bytes: Vec<u8>,
    name: blake3::Hasher,
    records: Vec<Record>,
}

impl Default for PackBuilder {
    fn default() -> PackBuilder {
        PackBuilder { bytes: PACK_HEAD.to_vec(), name: blake3::Hasher::new(), records: Vec::new() }
    }
}

/// A pack in memory: its name, its bytes, and what is where in it.
pub struct Pack {
    /// Its name: the digest of its heads.
    pub name: Digest,
    /// Its bytes.
    pub bytes: Vec<u8>,
    /// Its entries, in the order in which they stand.
    pub records: Vec<Record>,
}

impl PackBuilder {
    /// Adds an entry at the end.
    pub fn push(&mut self, entry: &Entry) {
        self.name.update(&entry.bytes[..HEAD_LEN]);
        self.records.push(Record { entry: entry.head, offset: self.bytes.len() as u64 });
        self.bytes.extend_from_slice(&entry.bytes);
    }

    /// Its length so far, in bytes.
    pub fn length(&self) -> u64 {
        self.bytes.len() as u64
    }

    /// Whether nothing has been added.
    pub fn is_empty(&self) -> bool {
        self.records.is_empty()
    }

    /// The pack.
    pub fn finish(self) -> Pack {
        Pack { name: Digest::from(self.name.finalize()), bytes: self.bytes, records: self.records }
    }
}

/// The entries of a pack that came as bytes, each checked; its name must be this one.
pub fn entries_of_pack(bytes: &[u8], name: &Digest) -> Result<Vec<Entry>, String> {
    if !bytes.starts_with(&PACK_HEAD) {
        return Err("it is not a pack, or one of a newer format".to_string());
    }
    let (mut entries, mut heads, mut at) = (Vec::new(), blake3::Hasher::new(), PACK_HEAD.len());
    while at < bytes.len() {
        let wrong = |what: &str| format!("at byte {at}: {what}");
        let head: [u8; HEAD_LEN] =
            bytes.get(at..at + HEAD_LEN).and_then(|h| h.try_into().ok()).ok_or_else(|| wrong("the pack ends too early"))?;
        let found = EntryHead::decode(&head).ok_or_else(|| wrong("the entry's head is not one"))?;
        let end = at + HEAD_LEN + found.stored_len as usize;
        let entry = bytes.get(at..end).ok_or_else(|| wrong("the pack ends too early"))?;
        heads.update(&head);
        entries.push(Entry::of(entry.to_vec()).map_err(wrong)?);
        at = end;
    }
    match Digest::from(heads.finalize()) == *name {
        true => Ok(entries),
        false => Err("its entries do not make up its name: some are missing or altered".to_string()),
    }
}

/// What is left of a pack that is not what it was.
#[derive(Debug, Default)]
pub struct Salvage {
    /// Entries that are what they were.
    pub sound: Vec<Entry>,
    /// Entries whose bytes are not.
    pub lost: Vec<Digest>,
    /// Whether its heads tell of all that it held.
    pub is_told_of: bool,
}

/// What can still be read of a pack that is damaged.
pub fn salvage_pack(bytes: &[u8], name: &Digest) -> Salvage {
    let (mut found, mut heads, mut at) = (Salvage::default(), blake3::Hasher::new(), PACK_HEAD.len());
    let head_at = |at: usize| -> Option<([u8; HEAD_LEN], EntryHead)> {
        let head: [u8; HEAD_LEN] = bytes.get(at..at.checked_add(HEAD_LEN)?)?.try_into().ok()?;
        Some((head, EntryHead::decode(&head)?))
    };
    while let Some((head, entry)) = head_at(at) {
        heads.update(&head);
        let end = at + HEAD_LEN + entry.stored_len as usize;
        match bytes.get(at..end).and_then(|bytes| Entry::of(bytes.to_vec()).ok()) {
            Some(sound) => found.sound.push(sound),
            None => found.lost.push(entry.digest),
        }
        at = end;
    }
    found.is_told_of = Digest::from(heads.finalize()) == *name;
    found
}

impl Store {
    fn entry_as_stored(&self, found: &Located) -> Result<Entry, StoreError> {
        let path = found.catalog.pack_path(found.pack);
        let file = found.catalog.pack_file(found.pack)?;
        let bytes = pack::read_checked(&file, &path, found.record.offset, &found.record.entry)?;
        Ok(Entry { head: found.record.entry, bytes })
    }

    /// The entry that a content is looked up by: its bytes, or the list of its pieces. Nothing where it is not here.
    pub fn content_entry(&self, digest: &Digest) -> Result<Option<Entry>, StoreError> {
        self.entry_of(digest, |kind| matches!(kind, Kind::Chunk | Kind::Parts))
    }

    /// The document with this digest.
    pub fn document_entry(&self, digest: &Digest) -> Result<Option<Entry>, StoreError> {
        self.entry_of(digest, |kind| kind == Kind::Document)
    }

    /// The listing of a folder whose files are not here.
    pub fn outline_entry(&self, digest: &Digest) -> Result<Option<Entry>, StoreError> {
        self.entry_of(digest, |kind| kind == Kind::Outline)
    }

    fn entry_of(&self, digest: &Digest, wanted: impl Fn(Kind) -> bool) -> Result<Option<Entry>, StoreError> {
        for again in [true, true, true, false] {
            // What is whole is better than pieces of it.
            let found = self.all_of(digest)?.filter(|f| wanted(f.record.entry.kind)).min_by_key(|f| f.record.entry.kind);
            match found.map(|found| self.entry_as_stored(&found)).transpose() {
                // Written anew by another process since it was looked up.
                Err(StoreError::Io(e)) if again && e.is_not_found() => self.reload()?,
                other => return other,
            }
        }
        Ok(None)
    }

    /// The digests of all documents that are here.
    pub fn all_documents(&self) -> Result<HashSet<Digest>, StoreError> {
        let mut found = HashSet::new();
        for name in self.packs()? {
            found.extend(self.documents_in(&name)?);
        }
        Ok(found)
    }
}

impl Writer<'_> {
    /// Takes in an entry as it is, unless it is there. A list of pieces must not be given before its pieces, nor before
    /// they have been found to make up the content.
    pub fn put_entry(&self, entry: &Entry) -> Result<(), StoreError> {
        let known = match entry.head.kind {
            Kind::Document => self.contains_document(&entry.head.digest)?,
            Kind::Outline => self.has_outline(&entry.head.digest)?,
            Kind::Chunk | Kind::Parts => self.contains(&entry.head.digest)?,
        };
        if known {
            return Ok(());
        }
        self.append(Coded { head: entry.head, payload: entry.bytes[HEAD_LEN..].into() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn entries_travel_as_they_are_and_altered_ones_are_refused() {
        let (here, there) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        let (here, there) = (Store::open(here.path()), Store::open(there.path()));
        let writer = here.writer().unwrap();
        let texts: [&[u8]; 3] = [b"yarn", &[b'w'; 5000], b"{}"];
        let digests = texts.map(|text| writer.put_bytes(text).unwrap().digest);
        writer.publish().unwrap();
        let mut builder = PackBuilder::default();
        for digest in &digests {
            builder.push(&here.content_entry(digest).unwrap().unwrap());
        }
        let made = builder.finish();
        let entries = entries_of_pack(&made.bytes, &made.name).unwrap();
        let writer = there.writer().unwrap();
        entries.iter().for_each(|entry| writer.put_entry(entry).unwrap());
        writer.publish().unwrap();
        for (digest, text) in digests.iter().zip(texts) {
            assert_eq!(there.read(digest).unwrap(), text);
        }
        // Every byte of a pack is held against something.
        for at in 0..made.bytes.len() {
            let mut altered = made.bytes.clone();
            altered[at] ^= 0x20;
            assert!(entries_of_pack(&altered, &made.name).is_err(), "byte {at}");
        }
        for shorter in 0..made.bytes.len() {
            assert!(entries_of_pack(&made.bytes[..shorter], &made.name).is_err(), "{shorter} bytes");
        }
        assert!(entries_of_pack(&made.bytes, &Digest::of(b"another")).is_err());
        assert_eq!(here.content_entry(&Digest::of(b"not there")).unwrap(), None);
    }
}
