//! Rows into parts by the hash of their keys: in memory as long as they fit, else in one nameless file.
//!
//! ```text
//! record := hash:u64 line:u64 length:u32 cells[length]      (little-endian)
//! cells  := (length:varint bytes)*                           the key's cells first
//! ```

use std::fs::File;
use std::hash::{BuildHasher, Hasher};
use std::io::{self, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use crate::{Row, TableError};

/// Number of parts.
pub const PARTS: usize = 256;
/// Tables that are together smaller than this are kept in memory. In bytes.
pub const IN_MEMORY: u64 = 48 << 20;
/// A part is written out when it has grown to this. In bytes.
const FLUSH: usize = 64 << 10;
/// Most bytes of both tables that are joined at once by one thread.
const AT_ONCE: u64 = 40 << 20;
/// Bytes of a record before its cells.
pub const HEAD: usize = 20;

struct Extent {
    offset: u64,
    length: usize,
}

/// Deals rows into parts.
pub struct Partitioner {
    folder: PathBuf,
    spill: bool,
    hasher: foldhash::quality::RandomState,
    buffers: Vec<Vec<u8>>,
    extents: Vec<Vec<Extent>>,
    file: Option<File>,
    written: u64,
    scratch: Vec<u8>,
}

/// How many goes a part of so many bytes is joined in.
pub fn goes(length: u64) -> u64 {
    length.div_ceil(AT_ONCE).max(1)
}

fn put_varint(out: &mut Vec<u8>, mut number: usize) {
    while number >= 0x80 {
        out.push(number as u8 | 0x80);
        number >>= 7;
    }
    out.push(number as u8);
}

/// Reads a cell at a place; gives it and the place after it.
pub fn cell_at(cells: &[u8], mut at: usize) -> (&[u8], usize) {
    let (mut length, mut shift) = (0usize, 0);
    while let Some(byte) = cells.get(at) {
        length |= ((byte & 0x7F) as usize) << shift;
        shift += 7;
        at += 1;
        if byte & 0x80 == 0 {
            break;
        }
    }
    let end = (at + length).min(cells.len());
    (&cells[at.min(end)..end], end)
}

impl Partitioner {
    /// Deals into memory, or (`spill`) into a file in `folder`.
    pub fn new(folder: &Path, spill: bool, hasher: foldhash::quality::RandomState) -> Partitioner {
        Partitioner {
            folder: folder.to_path_buf(),
            spill,
            hasher,
            buffers: (0..PARTS).map(|_| Vec::new()).collect(),
            extents: (0..PARTS).map(|_| Vec::new()).collect(),
            file: None,
            written: 0,
            scratch: Vec::new(),
        }
    }

    /// Deals a row: the cells at `places`, the first `keys` of which are the key, and those beyond `width`. Gives the hash by
    /// which it was dealt.
    pub fn partition(&mut self, row: &Row, places: &[usize], keys: usize, width: usize) -> Result<u64, TableError> {
        self.scratch.clear();
        let mut key_end = 0;
        for (i, at) in places.iter().enumerate() {
            let cell = row.cell(*at);
            put_varint(&mut self.scratch, cell.len());
            self.scratch.extend_from_slice(cell);
            if i + 1 == keys {
                key_end = self.scratch.len();
            }
        }
        for at in width..row.len() {
            // A field too many is part of the row.
            put_varint(&mut self.scratch, row.cell(at).len());
            self.scratch.extend_from_slice(row.cell(at));
        }
        let hashed = if keys > 0 { &self.scratch[..key_end] } else { &self.scratch[..] };
        let mut hasher = self.hasher.build_hasher();
        hasher.write(hashed);
        let hash = hasher.finish();
        let part = (hash >> 56) as usize % PARTS;
        let buffer = &mut self.buffers[part];
        buffer.extend_from_slice(&hash.to_le_bytes());
        buffer.extend_from_slice(&row.line.to_le_bytes());
        buffer.extend_from_slice(&(self.scratch.len() as u32).to_le_bytes());
        buffer.extend_from_slice(&self.scratch);
        if self.spill && buffer.len() >= FLUSH {
            self.flush(part)?;
        }
        Ok(hash)
    }

    fn flush(&mut self, part: usize) -> Result<(), TableError> {
        self.write_out(part).map_err(|source| TableError::NoRoom { folder: self.folder.clone(), source })
    }

    fn write_out(&mut self, part: usize) -> io::Result<()> {
        let buffer = &mut self.buffers[part];
        if buffer.is_empty() {
            return Ok(());
        }
        let file = match &mut self.file {
            Some(file) => file,
            None => self.file.insert(tempfile::tempfile_in(&self.folder)?),
        };
        file.write_all(buffer)?;
        self.extents[part].push(Extent { offset: self.written, length: buffer.len() });
        self.written += buffer.len() as u64;
        buffer.clear();
        Ok(())
    }

    /// Ends the dealing; memory is given back where there is a file.
    pub fn settle(&mut self) -> Result<(), TableError> {
        for part in 0..PARTS {
            if self.spill {
                self.flush(part)?;
                self.buffers[part] = Vec::new();
            }
        }
        Ok(())
    }

    /// Bytes of a part.
    pub fn length(&self, part: usize) -> u64 {
        self.buffers[part].len() as u64 + self.extents[part].iter().map(|e| e.length as u64).sum::<u64>()
    }

    /// The records of a part; of several goes only those that belong to this one.
    pub fn part(&self, part: usize, go: u64, goes: u64) -> io::Result<std::borrow::Cow<'_, [u8]>> {
        let Some(file) = &self.file else { return Ok((&self.buffers[part]).into()) };
        let mut all = Vec::with_capacity((self.length(part) / goes) as usize + FLUSH);
        for extent in &self.extents[part] {
            let from = all.len();
            all.resize(from + extent.length, 0);
            file.read_exact_at(&mut all[from..], extent.offset)?;
            if goes > 1 {
                keep(&mut all, from, |hash| (hash >> 20) % goes == go);
            }
        }
        Ok(all.into())
    }
}

/// Keeps, of the records from a place on, those whose hash is wanted.
fn keep(records: &mut Vec<u8>, from: usize, wanted: impl Fn(u64) -> bool) {
    let (mut read, mut write) = (from, from);
    while let Some(record) = Record::at(records, read) {
        let (hash, end) = (record.hash, record.end);
        if wanted(hash) {
            records.copy_within(read..end, write);
            write += end - read;
        }
        read = end;
    }
    records.truncate(write);
}

/// A dealt row.
#[derive(Clone, Copy)]
pub struct Record<'r> {
    /// Hash of its key.
    pub hash: u64,
    /// Its line.
    pub line: u64,
    /// Its cells.
    pub cells: &'r [u8],
    /// Where the next one begins.
    pub end: usize,
}

impl<'r> Record<'r> {
    /// The record that begins at a place; `None` at the end.
    pub fn at(records: &'r [u8], at: usize) -> Option<Record<'r>> {
        let head = records.get(at..at + HEAD)?;
        let eight = |from: usize| head[from..from + 8].try_into().map_or(0, u64::from_le_bytes);
        let length = head[16..20].try_into().map_or(0, u32::from_le_bytes) as usize;
        let end = at + HEAD + length;
        Some(Record { hash: eight(0), line: eight(8), cells: records.get(at + HEAD..end)?, end })
    }
}
