//! The pack file: a fixed head, then entries one after another, each able to be read on its own.
//!
//! Format (all numbers little-endian; described for other readers in `docs/formats.md`):
//!
//! ```text
//! pack   := "textum pack @1\n\0" entry*
//! entry  := head(64 bytes) payload(stored_len bytes)
//! head   := "ENTR" kind:u8 coding:u8 0:u16 stored_len:u32 raw_len:u32 digest:[32] check:[16]
//! ```
//!
//! `check` is the first half of the BLAKE3 of the head before it and of the payload; the payload is
//! left out where `digest` itself is the digest of the stored bytes. The name of a pack is the BLAKE3
//! of all its heads in order, so that a shortened pack cannot pass for a whole one.

use std::fs::File;
use std::io::{BufReader, Read};
use std::os::unix::fs::FileExt;
use std::path::Path;

use super::{Digest, StoreError};
use textum_base::fsio::IoError;

/// First bytes of every pack.
pub const PACK_HEAD: [u8; 16] = *b"textum pack @1\n\0";
/// Length of an entry's head in bytes.
pub const HEAD_LEN: usize = 64;
const ENTRY_MARK: [u8; 4] = *b"ENTR";
/// No payload is longer than this, decoded; a head that says otherwise is damage.
pub const MAX_RAW: u32 = 1 << 30;

/// What an entry holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
#[repr(u8)]
pub enum Kind {
    /// Bytes whose digest is the entry's digest: a small content, or a piece of a large one.
    Chunk = 1,
    /// The list of pieces that make up the content with the entry's digest.
    Parts = 2,
    /// A receipt or another document of Textum's own, in canonical JSON.
    Document = 3,
    /// The listing of a folder whose files are not stored: of a reference, or of an output that was dropped.
    Outline = 4,
}

/// How the payload is stored.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum Coding {
    /// As it is.
    Raw = 0,
    /// One Zstandard frame.
    Zstd = 1,
}

/// The head of one entry.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct EntryHead {
    /// What it holds.
    pub kind: Kind,
    /// How it is stored.
    pub coding: Coding,
    /// Length of the payload in the pack, in bytes.
    pub stored_len: u32,
    /// Length of the payload decoded, in bytes.
    pub raw_len: u32,
    /// What it is looked up by.
    pub digest: Digest,
}

impl EntryHead {
    fn digest_covers_payload(&self) -> bool {
        self.coding == Coding::Raw && self.kind != Kind::Parts
    }

    fn check(&self, start: &[u8], payload: &[u8]) -> [u8; 16] {
        let mut hasher = blake3::Hasher::new();
        hasher.update(start);
        if !self.digest_covers_payload() {
            hasher.update(payload);
        }
        let mut check = [0; 16];
        check.copy_from_slice(&hasher.finalize().as_bytes()[..16]);
        check
    }

    /// The 64 bytes of this head, for this stored payload.
    pub fn encode(&self, payload: &[u8]) -> [u8; HEAD_LEN] {
        let mut head = [0; HEAD_LEN];
        head[..4].copy_from_slice(&ENTRY_MARK);
        head[4] = self.kind as u8;
        head[5] = self.coding as u8;
        head[8..12].copy_from_slice(&self.stored_len.to_le_bytes());
        head[12..16].copy_from_slice(&self.raw_len.to_le_bytes());
        head[16..48].copy_from_slice(self.digest.as_bytes());
        let check = self.check(&head[..48], payload);
        head[48..].copy_from_slice(&check);
        head
    }

    /// Reads a head's fields; its check is looked at by [`EntryHead::verify`].
    pub fn decode(head: &[u8; HEAD_LEN]) -> Option<EntryHead> {
        let number = |at: usize| u32::from_le_bytes([head[at], head[at + 1], head[at + 2], head[at + 3]]);
        if head[..4] != ENTRY_MARK || head[6..8] != [0, 0] {
            return None;
        }
        let kind = kind_from(head[4])?;
        let coding = coding_from(head[5])?;
        let mut digest = [0; 32];
        digest.copy_from_slice(&head[16..48]);
        let found = EntryHead { kind, coding, stored_len: number(8), raw_len: number(12), digest: Digest::from_bytes(digest) };
        (found.raw_len <= MAX_RAW && found.stored_len <= MAX_RAW).then_some(found)
    }

    /// Whether head and payload are what was written.
    pub fn verify(&self, head: &[u8; HEAD_LEN], payload: &[u8]) -> bool {
        head[48..] == self.check(&head[..48], payload) && (!self.digest_covers_payload() || Digest::of(payload) == self.digest)
    }
}

/// The kind with this number.
pub fn kind_from(number: u8) -> Option<Kind> {
    match number {
        1 => Some(Kind::Chunk),
        2 => Some(Kind::Parts),
        3 => Some(Kind::Document),
        4 => Some(Kind::Outline),
        _ => None,
    }
}

/// The coding with this number.
pub fn coding_from(number: u8) -> Option<Coding> {
    match number {
        0 => Some(Coding::Raw),
        1 => Some(Coding::Zstd),
        _ => None,
    }
}

/// Decodes a Zstandard frame of at most `most` bytes; each thread keeps its context.
fn decompress(payload: &[u8], most: usize) -> Option<Vec<u8>> {
    thread_local! {
        static CONTEXT: std::cell::RefCell<Option<zstd::bulk::Decompressor<'static>>> = const { std::cell::RefCell::new(None) };
    }
    CONTEXT.with_borrow_mut(|slot| {
        if slot.is_none() {
            *slot = zstd::bulk::Decompressor::new().ok();
        }
        slot.as_mut()?.decompress(payload, most).ok()
    })
}

fn damage_at(path: &Path, offset: u64, what: &str) -> StoreError {
    StoreError::Damaged { path: path.to_path_buf(), what: format!("at byte {offset}: {what}") }
}

/// Reads the bytes of one entry, head and payload, checked against each other.
pub(super) fn read_checked(file: &File, path: &Path, offset: u64, expected: &EntryHead) -> Result<Vec<u8>, StoreError> {
    let damaged = |what: &str| damage_at(path, offset, what);
    let mut bytes = vec![0; HEAD_LEN + expected.stored_len as usize];
    match file.read_exact_at(&mut bytes, offset) {
        Err(e) if e.kind() == std::io::ErrorKind::UnexpectedEof => return Err(damaged("the pack ends too early")),
        other => other.map_err(IoError::of("read", path))?,
    }
    let mut head = [0; HEAD_LEN];
    head.copy_from_slice(&bytes[..HEAD_LEN]);
    let found = EntryHead::decode(&head).ok_or_else(|| damaged("the entry's head is not one"))?;
    let payload = &bytes[HEAD_LEN..];
    if found != *expected || !found.verify(&head, payload) {
        return Err(damaged("the stored bytes are not those that were written"));
    }
    Ok(bytes)
}

/// The decoded payload of an entry that has been checked; nothing where it does not decode.
pub(super) fn decoded(head: &EntryHead, payload: &[u8]) -> Option<Vec<u8>> {
    let raw = match head.coding {
        Coding::Raw => payload.to_vec(),
        Coding::Zstd => decompress(payload, head.raw_len as usize)?,
    };
    (raw.len() == head.raw_len as usize).then_some(raw)
}

/// Reads one entry as it is stored, for another pack; its payload is checked and decodes.
pub(super) fn read_coded<'a>(
    file: &File,
    path: &Path,
    offset: u64,
    expected: &EntryHead,
) -> Result<super::writer::Coded<'a>, StoreError> {
    let mut bytes = read_checked(file, path, offset, expected)?;
    Ok(super::writer::Coded { head: *expected, payload: bytes.split_off(HEAD_LEN).into() })
}

/// Reads one entry at its place, checks it, and returns the decoded payload.
pub fn read_entry(file: &File, path: &Path, offset: u64, expected: &EntryHead) -> Result<Vec<u8>, StoreError> {
    let damaged = |what: &str| damage_at(path, offset, what);
    let mut bytes = read_checked(file, path, offset, expected)?;
    let found = *expected;
    let raw = match found.coding {
        Coding::Raw => bytes.split_off(HEAD_LEN),
        Coding::Zstd => decompress(&bytes[HEAD_LEN..], found.raw_len as usize)
            .ok_or_else(|| damaged("the compressed bytes cannot be decoded"))?,
    };
    // What is stored as it is has been held against its digest already.
    let unchecked = found.coding == Coding::Zstd && found.kind != Kind::Parts;
    if raw.len() != found.raw_len as usize || (unchecked && Digest::of(&raw) != found.digest) {
        return Err(damaged("the content does not match its digest"));
    }
    Ok(raw)
}

/// Walks a pack from its first entry to its last, giving each head and where it begins, and returns
/// the name that the pack must have. With `deep`, every payload is read and checked too.
pub fn scan(path: &Path, deep: bool, mut each: impl FnMut(EntryHead, u64)) -> Result<Digest, StoreError> {
    let damaged = |at: u64, what: &str| StoreError::Damaged { path: path.to_path_buf(), what: format!("at byte {at}: {what}") };
    let file = File::open(path).map_err(IoError::of("open", path))?;
    let length = file.metadata().map_err(IoError::of("look at", path))?.len();
    let mut reader = BufReader::with_capacity(1 << 16, &file);
    let mut start = [0; 16];
    if length < 16 || reader.read_exact(&mut start).is_err() || start != PACK_HEAD {
        return Err(damaged(0, "this is not a pack, or one of a newer format"));
    }
    let mut name = blake3::Hasher::new();
    let mut at = 16;
    let mut head = [0; HEAD_LEN];
    while at < length {
        reader.read_exact(&mut head).map_err(|_| damaged(at, "the pack ends too early"))?;
        let entry = EntryHead::decode(&head).ok_or_else(|| damaged(at, "the entry's head is not one"))?;
        let end = at + HEAD_LEN as u64 + u64::from(entry.stored_len);
        if end > length {
            return Err(damaged(at, "the pack ends too early"));
        }
        if deep {
            read_entry(&file, path, at, &entry)?;
        }
        name.update(&head);
        each(entry, at);
        reader.seek_relative(i64::from(entry.stored_len)).map_err(IoError::of("read", path))?;
        at = end;
    }
    Ok(name.finalize().into())
}
