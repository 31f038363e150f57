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

/// What is remembered of one file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Remembered {
    /// Path below the folder (or the project, for single files).
    pub path: String,
    /// What it is.
    pub kind: ItemKind,
    /// Its metadata when it was hashed.
    pub stat: Stat,
    /// Its digest; of no meaning for an empty folder.
    pub digest: Digest,
}

/// What is remembered of a folder, or of the project's single files.
#[derive(Clone, Debug, Default)]
pub struct Memory {
    /// Sorted by path.
    pub files: Vec<Remembered>,
    /// The folder's digest, its number of files and their bytes, if nothing of it was racy.
    pub folder: Option<(Digest, u64, u64)>,
}

fn boot_mark() -> [u8; 32] {
    *Digest::of(boot_id().as_bytes()).as_bytes()
}

fn kind_number(kind: ItemKind) -> u8 {
    match kind {
        ItemKind::File => 0,
        ItemKind::Exec => 1,
        ItemKind::Link => 2,
        ItemKind::EmptyDir => 3,
    }
}

struct Reader<'b>(&'b [u8]);

impl<'b> Reader<'b> {
    fn take(&mut self, length: usize) -> Option<&'b [u8]> {
        let (head, rest) = self.0.split_at_checked(length)?;
        self.0 = rest;
        Some(head)
    }

    fn number(&mut self) -> Option<u64> {
        Some(u64::from_le_bytes(self.take(8)?.try_into().ok()?))
    }

    fn digest(&mut self) -> Option<Digest> {
        Some(Digest::from_bytes(self.take(32)?.try_into().ok()?))
    }

    fn record(&mut self) -> Option<(Remembered, bool)> {
        let length = u32::from_le_bytes(self.take(4)?.try_into().ok()?);
        let path = std::str::from_utf8(self.take(length as usize)?).ok()?.to_string();
        let flags = self.take(2)?;
        let kind = [ItemKind::File, ItemKind::Exec, ItemKind::Link, ItemKind::EmptyDir].get(flags[0] as usize).copied()?;
        let stat = Stat {
            size: self.number()?,
            mtime: self.number()? as i64,
            ctime: self.number()? as i64,
            inode: self.number()?,
        };
        Some((Remembered { path, kind, stat, digest: self.digest()? }, flags[1] == 1))
    }
}

impl Memory {
    /// Reads a cache file; anything wrong with it means: nothing is remembered.
    pub fn load(path: &Path) -> Memory {
        std::fs::read(path).ok().and_then(|bytes| Memory::decode(&bytes)).unwrap_or_default()
    }

    fn decode(bytes: &[u8]) -> Option<Memory> {
        let (body, check) = bytes.split_at_checked(bytes.len().checked_sub(32)?)?;
        if body.len() < START || body[..16] != HEAD || Digest::of(body).as_bytes()[..] != *check {
            return None;
        }
        let mut reader = Reader(&body[16..]);
        let same_boot = reader.take(32)? == boot_mark();
        let folder = reader.digest()?;
        let (files, bytes_in_all) = (reader.number()?, reader.number()?);
        let count = reader.number()? as usize;
        let mut kept = Vec::with_capacity(count.min(body.len() / 70 + 1));
        for _ in 0..count {
            let (record, settled) = reader.record()?;
            if settled || same_boot {
                kept.push(record);
            }
        }
        let whole = kept.len() == count && *folder.as_bytes() != [0; 32];
        Some(Memory { files: kept, folder: whole.then_some((folder, files, bytes_in_all)) })
    }

    /// Writes the cache file. A failure to is no failure of anything else.
    pub fn save(&self, path: &Path) {
        let now = now_nanos();
        let mut out = Vec::with_capacity(START + self.files.len() * 110 + 32);
        out.extend_from_slice(&HEAD);
        out.extend_from_slice(&boot_mark());
        let (digest, files, bytes) = self.folder.unwrap_or((Digest::from_bytes([0; 32]), 0, 0));
        out.extend_from_slice(digest.as_bytes());
        for number in [files, bytes, self.files.len() as u64] {
            out.extend_from_slice(&number.to_le_bytes());
        }
        for file in &self.files {
            out.extend_from_slice(&(file.path.len() as u32).to_le_bytes());
            out.extend_from_slice(file.path.as_bytes());
            out.extend_from_slice(&[kind_number(file.kind), u8::from(file.stat.is_settled(now))]);
            for number in [file.stat.size, file.stat.mtime as u64, file.stat.ctime as u64, file.stat.inode] {
                out.extend_from_slice(&number.to_le_bytes());
            }
            out.extend_from_slice(file.digest.as_bytes());
        }
        let check = Digest::of(&out);
        out.extend_from_slice(check.as_bytes());
        let _ = fsio::write_derived(path, &out);
    }
}
