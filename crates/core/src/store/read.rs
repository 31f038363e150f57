//! Content out of the store: nothing is handed out whose digest does not match.

use std::io::Write;

use super::ingest::PART_LEN;
use super::pack::{self, Kind};
use super::{Digest, Found, Store, StoreError};
use crate::fsio::IoError;

/// One piece of a large content.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Part {
    /// Digest of the piece.
    pub digest: Digest,
    /// Length of the piece in bytes.
    pub length: u32,
}

/// How a content is stored.
enum Shape {
    Whole(Found),
    Parts(Found),
}

pub(super) fn parse_parts(bytes: &[u8]) -> Option<Vec<Part>> {
    let (records, rest) = bytes.as_chunks::<PART_LEN>();
    if !rest.is_empty() {
        return None;
    }
    Some(
        records
            .iter()
            .map(|record| {
                let mut digest = [0; 32];
                digest.copy_from_slice(&record[..32]);
                let length = u32::from_le_bytes([record[32], record[33], record[34], record[35]]);
                Part { digest: Digest::from_bytes(digest), length }
            })
            .collect(),
    )
}

impl Store {
    fn shape(&self, digest: &Digest) -> Result<Shape, StoreError> {
        let found = self.find(digest)?;
        let whole = found.iter().find(|f| f.record.entry.kind != Kind::Parts);
        match (whole, found.first()) {
            (Some(whole), _) => Ok(Shape::Whole(*whole)),
            (None, Some(parts)) => Ok(Shape::Parts(*parts)),
            (None, None) => Err(StoreError::Missing { digest: *digest }),
        }
    }

    fn entry(&self, found: &Found) -> Result<Vec<u8>, StoreError> {
        let catalog = self.catalog()?;
        let path = catalog.pack_path(found.pack);
        let file = catalog.pack_file(found.pack)?;
        pack::read_entry(&file, &path, found.record.offset, &found.record.entry)
    }

    fn try_copy(&self, digest: &Digest, out: &mut dyn Write) -> Result<u64, StoreError> {
        let wrong = |e| StoreError::Io(IoError { action: "write", path: "the content".into(), source: e });
        let parts = match self.shape(digest)? {
            Shape::Whole(found) => {
                let bytes = self.entry(&found)?;
                out.write_all(&bytes).map_err(wrong)?;
                return Ok(bytes.len() as u64);
            }
            Shape::Parts(found) => self.parts(digest, &found)?,
        };
        let mut whole = blake3::Hasher::new();
        let mut size = 0;
        for part in parts {
            let Shape::Whole(found) = self.shape(&part.digest)? else {
                return Err(StoreError::Missing { digest: part.digest });
            };
            let bytes = self.entry(&found)?;
            whole.update_rayon(&bytes);
            out.write_all(&bytes).map_err(wrong)?;
            size += bytes.len() as u64;
        }
        if Digest::from(whole.finalize()) != *digest {
            return Err(StoreError::Damaged {
                path: self.folder().to_path_buf(),
                what: format!("the pieces of {digest} do not make it up"),
            });
        }
        Ok(size)
    }

    fn parts(&self, digest: &Digest, found: &Found) -> Result<Vec<Part>, StoreError> {
        parse_parts(&self.entry(found)?).ok_or_else(|| StoreError::Damaged {
            path: self.folder().to_path_buf(),
            what: format!("the list of pieces of {digest} is not one"),
        })
    }

    /// The pieces that a content is stored in; a small content is its own only piece.
    pub fn parts_of(&self, digest: &Digest) -> Result<Vec<Part>, StoreError> {
        match self.shape(digest)? {
            Shape::Whole(found) => Ok(vec![Part { digest: *digest, length: found.record.entry.raw_len }]),
            Shape::Parts(found) => self.parts(digest, &found),
        }
    }

    /// Writes a content out, piece by piece, each checked. An error may come after some bytes have been
    /// written: the caller must not use what it got then.
    pub fn copy_to(&self, digest: &Digest, out: &mut dyn Write) -> Result<u64, StoreError> {
        self.try_copy(digest, out)
    }

    /// A whole content in memory; for documents, listings and other small things.
    pub fn read(&self, digest: &Digest) -> Result<Vec<u8>, StoreError> {
        let mut out = Vec::new();
        match self.try_copy(digest, &mut out) {
            // The pack may have been folded into another one, or this one published, since we looked.
            Err(StoreError::Missing { .. }) => self.reload()?,
            Err(StoreError::Io(e)) if e.is_not_found() => self.reload()?,
            other => return other.map(|_| out),
        }
        out.clear();
        self.try_copy(digest, &mut out).map(|_| out)
    }

    /// Size in bytes of a content, without reading it.
    pub fn size_of(&self, digest: &Digest) -> Result<u64, StoreError> {
        Ok(self.parts_of(digest)?.iter().map(|p| u64::from(p.length)).sum())
    }
}
