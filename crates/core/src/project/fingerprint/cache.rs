//! The stat cache: digests of files by their metadata, so that a second look costs a stat a file.
//!
//! Derived; a file that is damaged or of another format is ignored. Records are sorted by path:
//!
//! ```text
//! cache  := "textum stats @1\0" boot:[32] folder:[32] files:u64 bytes:u64 count:u64 record* check:[32]
//! record := path_len:u32 path kind:u8 settled:u8 size:u64 mtime:i64 ctime:i64 inode:u64 digest:[32]
//! ```
//!
//! `boot` is the BLAKE3 of the boot's id: after a crash of the machine, records of content that may not
//! have reached the disk (`settled` = 0) are dropped. `folder` is the digest of the whole folder's
//! listing, or zero.

use std::path::Path;

use super::stat::{Stat, boot_id, now_nanos};
use crate::fsio;
use crate::store::{Digest, ItemKind};

const HEAD: [u8; 16] = *b"textum stats @1\0";
const START: usize = 16 + 32 + 32 + 8 + 8 + 8;
/// Length of a record's part after its path.
const TAIL: usize = 2 + 8 * 4 + 32;

/// What is remembered of one file.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Remembered<'m> {
    /// Path below the folder (or the project, for single files).
    pub path: &'m str,
    /// What it is.
    pub kind: ItemKind,
    /// Its metadata when it was hashed.
    pub stat: Stat,
    /// Its digest; of no meaning for an empty folder.
    pub digest: Digest,
}

/// What is remembered of a folder, or of the project's single files. Records are read where they lie.
#[derive(Debug, Default)]
pub struct Memory {
    bytes: Vec<u8>,
    same_boot: bool,
    count: usize,
    /// The folder's digest, its number of files and their bytes, if nothing of it was racy.
    pub folder: Option<(Digest, u64, u64)>,
}

fn boot_mark() -> [u8; 32] {
    *Digest::of(boot_id().as_bytes()).as_bytes()
}

const KINDS: [ItemKind; 4] = [ItemKind::File, ItemKind::Exec, ItemKind::Link, ItemKind::EmptyDir];

fn u64_at(bytes: &[u8], at: usize) -> u64 {
    let mut number = [0; 8];
    number.copy_from_slice(&bytes[at..at + 8]);
    u64::from_le_bytes(number)
}

fn digest_at(bytes: &[u8], at: usize) -> Digest {
    let mut digest = [0; 32];
    digest.copy_from_slice(&bytes[at..at + 32]);
    Digest::from_bytes(digest)
}

/// The record at a place, whether it is settled, and where the next one begins.
fn record_at(bytes: &[u8], at: usize) -> Option<(Remembered<'_>, bool, usize)> {
    let length = u32::from_le_bytes(bytes.get(at..at + 4)?.try_into().ok()?) as usize;
    let path = std::str::from_utf8(bytes.get(at + 4..at + 4 + length)?).ok()?;
    let tail = bytes.get(at + 4 + length..at + 4 + length + TAIL)?;
    let stat =
        Stat { size: u64_at(tail, 2), mtime: u64_at(tail, 10) as i64, ctime: u64_at(tail, 18) as i64, inode: u64_at(tail, 26) };
    let record = Remembered { path, kind: *KINDS.get(tail[0] as usize)?, stat, digest: digest_at(tail, 34) };
    Some((record, tail[1] == 1, at + 4 + length + TAIL))
}

impl Memory {
    /// Reads a cache file; anything wrong with it means: nothing is remembered.
    pub fn load(path: &Path) -> Memory {
        std::fs::read(path).ok().and_then(Memory::decode).unwrap_or_default()
    }

    fn decode(mut bytes: Vec<u8>) -> Option<Memory> {
        let body = bytes.len().checked_sub(32)?;
        if body < START || bytes[..16] != HEAD || Digest::of(&bytes[..body]) != digest_at(&bytes, body) {
            return None;
        }
        bytes.truncate(body);
        let same_boot = bytes[16..48] == boot_mark();
        let folder = digest_at(&bytes, 48);
        let (files, size, count) = (u64_at(&bytes, 80), u64_at(&bytes, 88), u64_at(&bytes, 96) as usize);
        let mut memory = Memory { bytes, same_boot, count, folder: None };
        // A record that was dropped takes the whole with it.
        let whole = *folder.as_bytes() != [0; 32] && (same_boot || memory.iter().count() == count);
        memory.folder = whole.then_some((folder, files, size));
        Some(memory)
    }

    /// Number of records in the file.
    pub fn len(&self) -> usize {
        self.count
    }

    /// The records that can be trusted, sorted by path.
    pub fn iter(&self) -> impl Iterator<Item = Remembered<'_>> {
        let mut at = START;
        std::iter::from_fn(move || {
            loop {
                let (record, settled, next) = record_at(&self.bytes, at)?;
                at = next;
                if settled || self.same_boot {
                    return Some(record);
                }
            }
        })
    }
}

/// Writes a cache file of records sorted by path. A failure to is no failure of anything else.
pub fn save<'r>(path: &Path, records: impl Iterator<Item = Remembered<'r>>, folder: Option<(Digest, u64, u64)>) {
    let now = now_nanos();
    let mut out = Vec::new();
    out.extend_from_slice(&HEAD);
    out.extend_from_slice(&boot_mark());
    let (digest, files, bytes) = folder.unwrap_or((Digest::from_bytes([0; 32]), 0, 0));
    out.extend_from_slice(digest.as_bytes());
    out.extend_from_slice(&files.to_le_bytes());
    out.extend_from_slice(&bytes.to_le_bytes());
    out.extend_from_slice(&[0; 8]);
    let mut count = 0u64;
    for file in records {
        count += 1;
        out.extend_from_slice(&(file.path.len() as u32).to_le_bytes());
        out.extend_from_slice(file.path.as_bytes());
        let kind = KINDS.iter().position(|k| *k == file.kind).unwrap_or(0) as u8;
        out.extend_from_slice(&[kind, u8::from(file.stat.is_settled(now))]);
        for number in [file.stat.size, file.stat.mtime as u64, file.stat.ctime as u64, file.stat.inode] {
            out.extend_from_slice(&number.to_le_bytes());
        }
        out.extend_from_slice(file.digest.as_bytes());
    }
    out[96..104].copy_from_slice(&count.to_le_bytes());
    let check = Digest::of(&out);
    out.extend_from_slice(check.as_bytes());
    let _ = fsio::write_derived(path, &out);
}
