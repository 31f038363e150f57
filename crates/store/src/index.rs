//! The sidecar index of a pack: where each digest's entry begins. Derived; made anew from its pack.
//!
//! ```text
//! index  := "textum index @1\0" pack:[32] pack_len:u64 count:u64 record* check:[32]
//! record := digest:[32] kind:u8 coding:u8 0:u16 stored_len:u32 raw_len:u32 0:u32 offset:u64   (56 bytes)
//! ```
//!
//! Records are sorted by digest, then kind. `check` is the BLAKE3 of everything before it.

use std::fs::File;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use super::pack::{self, EntryHead, coding_from, kind_from};
use super::{Digest, StoreError};
use textum_base::fsio::{self, IoError};

const INDEX_HEAD: [u8; 16] = *b"textum index @1\0";
const START: usize = 64;
/// Length of a record in bytes.
pub const RECORD_LEN: usize = 56;

/// One entry of a pack and where it begins.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Record {
    /// The entry's head.
    pub entry: EntryHead,
    /// Byte offset of the head in the pack.
    pub offset: u64,
}

fn encode_record(record: &Record) -> [u8; RECORD_LEN] {
    let mut out = [0; RECORD_LEN];
    out[..32].copy_from_slice(record.entry.digest.as_bytes());
    out[32] = record.entry.kind as u8;
    out[33] = record.entry.coding as u8;
    out[36..40].copy_from_slice(&record.entry.stored_len.to_le_bytes());
    out[40..44].copy_from_slice(&record.entry.raw_len.to_le_bytes());
    out[48..].copy_from_slice(&record.offset.to_le_bytes());
    out
}

fn decode_record(bytes: &[u8]) -> Option<Record> {
    let bytes: &[u8; RECORD_LEN] = bytes.try_into().ok()?;
    let mut digest = [0; 32];
    digest.copy_from_slice(&bytes[..32]);
    let number = |at: usize| u32::from_le_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]]);
    let mut offset = [0; 8];
    offset.copy_from_slice(&bytes[48..]);
    Some(Record {
        entry: EntryHead {
            kind: kind_from(bytes[32])?,
            coding: coding_from(bytes[33])?,
            stored_len: number(36),
            raw_len: number(40),
            digest: Digest::from_bytes(digest),
        },
        offset: u64::from_le_bytes(offset),
    })
}

/// Writes the index of a pack. Not synced: a lost index is made again.
pub fn write(path: &Path, pack: &Digest, pack_len: u64, records: &mut [Record]) -> Result<(), IoError> {
    records.sort_unstable_by_key(|r| (r.entry.digest, r.entry.kind));
    let mut out = Vec::with_capacity(START + records.len() * RECORD_LEN + 32);
    out.extend_from_slice(&INDEX_HEAD);
    out.extend_from_slice(pack.as_bytes());
    out.extend_from_slice(&pack_len.to_le_bytes());
    out.extend_from_slice(&(records.len() as u64).to_le_bytes());
    for record in records.iter() {
        out.extend_from_slice(&encode_record(record));
    }
    let check = blake3::hash(&out);
    out.extend_from_slice(check.as_bytes());
    fsio::write_derived(path, &out)
}

/// The length of an index of so many records, in bytes.
pub fn length_of(records: usize) -> u64 {
    (START + records * RECORD_LEN + 32) as u64
}

/// Reads an index if it is whole and speaks of this pack at this length; `None` means: make it anew.
pub fn read(path: &Path, pack: &Digest, pack_len: u64) -> Option<Vec<Record>> {
    let bytes = std::fs::read(path).ok()?;
    if bytes.len() < START + 32 || bytes[..16] != INDEX_HEAD || bytes[16..48] != *pack.as_bytes() {
        return None;
    }
    let (body, check) = bytes.split_at(bytes.len() - 32);
    let count = (body.len() - START) / RECORD_LEN;
    let whole = (body.len() - START).is_multiple_of(RECORD_LEN)
        && body[48..56] == pack_len.to_le_bytes()
        && body[56..64] == (count as u64).to_le_bytes()
        && blake3::hash(body).as_bytes()[..] == *check;
    whole.then(|| body[START..].chunks_exact(RECORD_LEN).map(decode_record).collect()).flatten()
}

/// The record at a position of an index that was found whole before.
pub fn record_at(file: &File, position: u32, path: impl Fn() -> PathBuf) -> Result<Record, StoreError> {
    let mut bytes = [0; RECORD_LEN];
    let at = (START + position as usize * RECORD_LEN) as u64;
    file.read_exact_at(&mut bytes, at).map_err(|e| IoError::of("read", &path())(e))?;
    decode_record(&bytes).ok_or_else(|| StoreError::Damaged { path: path(), what: "a record is not one".into() })
}

/// Makes the index of a pack from the pack itself, refusing one whose content does not make up its name.
pub fn rebuild(pack_path: &Path, index_path: &Path, pack: &Digest) -> Result<Vec<Record>, StoreError> {
    let mut records = Vec::new();
    let name = pack::scan(pack_path, false, |entry, offset| records.push(Record { entry, offset }))?;
    if name != *pack {
        return Err(StoreError::Damaged {
            path: pack_path.to_path_buf(),
            what: "its entries do not make up its name: some are missing or altered".into(),
        });
    }
    let length = std::fs::metadata(pack_path).map_err(IoError::of("look at", pack_path))?.len();
    // A store that cannot be written to is still readable: the index is then only in memory.
    let _ = write(index_path, pack, length, &mut records);
    records.sort_unstable_by_key(|r| (r.entry.digest, r.entry.kind));
    Ok(records)
}
