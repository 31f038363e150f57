//! Content out of the store: nothing is handed out whose digest does not match.

use std::io::Write;

use super::ingest::PART_LEN;
use super::pack::{self, Kind};
use super::{Digest, Located, Store, StoreError};
use textum_base::fsio::IoError;

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
    Whole(Located),
    Parts(Located),
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
        let whole = found.iter().position(|f| f.record.entry.kind != Kind::Parts);
        match found.into_iter().nth(whole.unwrap_or(0)) {
            Some(found) if whole.is_some() => Ok(Shape::Whole(found)),
            Some(parts) => Ok(Shape::Parts(parts)),
            None => Err(StoreError::Missing { digest: *digest }),
        }
    }

    /// Looks a digest up and does something with what is found, once more if the pack has been written
    /// anew by another process since it was looked up.
    fn looked_up<T>(&self, look: impl Fn(&Store) -> Result<T, StoreError>) -> Result<T, StoreError> {
        match look(self) {
            Err(StoreError::Missing { .. }) => self.reload()?,
            Err(StoreError::Io(e)) if e.is_not_found() => self.reload()?,
            other => return other,
        }
        for _ in 0..super::READ_AGAIN {
            match look(self) {
                Err(StoreError::Io(e)) if e.is_not_found() => self.reload()?,
                Err(StoreError::Missing { digest }) if self.fetch(&[digest])? => break,
                other => return other,
            }
        }
        look(self)
    }

    fn entry(&self, found: &Located) -> Result<Vec<u8>, StoreError> {
        let path = found.catalog.pack_path(found.pack);
        let file = found.catalog.pack_file(found.pack)?;
        pack::read_entry(&file, &path, found.record.offset, &found.record.entry)
    }

    /// A content that is stored in one piece, or a piece of one that is not.
    pub(super) fn read_piece(&self, digest: &Digest) -> Result<Vec<u8>, StoreError> {
        self.looked_up(|store| match store.shape(digest)? {
            Shape::Whole(found) => store.entry(&found),
            Shape::Parts(_) => Err(StoreError::Missing { digest: *digest }),
        })
    }

    /// The listing of a folder, whether its files are stored or not.
    pub fn listing(&self, digest: &Digest) -> Result<Vec<u8>, StoreError> {
        match self.read(digest) {
            Err(StoreError::Missing { .. }) => {
                self.looked_up(|store| store.entry(&store.find_outline(digest)?.ok_or(StoreError::Missing { digest: *digest })?))
            }
            other => other,
        }
    }

    fn try_copy(&self, digest: &Digest, out: &mut dyn Write) -> Result<u64, StoreError> {
        let wrong = |e| StoreError::Io(IoError { action: "write", path: "the content".into(), source: e });
        let parts = self.parts_of(digest)?;
        if let [only] = parts[..]
            && only.digest == *digest
        {
            let bytes = self.read_piece(digest)?;
            out.write_all(&bytes).map_err(wrong)?;
            return Ok(bytes.len() as u64);
        }
        let mut whole = blake3::Hasher::new();
        let mut size = 0;
        for part in parts {
            let bytes = self.read_piece(&part.digest)?;
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

    fn parts(&self, digest: &Digest, found: &Located) -> Result<Vec<Part>, StoreError> {
        parse_parts(&self.entry(found)?).ok_or_else(|| StoreError::Damaged {
            path: self.folder().to_path_buf(),
            what: format!("the list of pieces of {digest} is not one"),
        })
    }

    /// The pieces that a content is stored in; a small content is its own only piece.
    pub fn parts_of(&self, digest: &Digest) -> Result<Vec<Part>, StoreError> {
        self.looked_up(|store| match store.shape(digest)? {
            Shape::Whole(found) => Ok(vec![Part { digest: *digest, length: found.record.entry.raw_len }]),
            Shape::Parts(found) => store.parts(digest, &found),
        })
    }

    /// The pieces of a content, if it is stored.
    pub fn pieces_of(&self, digest: &Digest) -> Result<Option<Vec<Part>>, StoreError> {
        match self.shape(digest) {
            Ok(Shape::Whole(found)) => Ok(Some(vec![Part { digest: *digest, length: found.record.entry.raw_len }])),
            Ok(Shape::Parts(found)) => self.parts(digest, &found).map(Some),
            Err(StoreError::Missing { .. }) => Ok(None),
            Err(other) => Err(other),
        }
    }

    /// Writes a content out, piece by piece, each checked. An error may come after some bytes have been
    /// written: the caller must not use what it got then.
    pub fn copy_to(&self, digest: &Digest, out: &mut dyn Write) -> Result<u64, StoreError> {
        self.try_copy(digest, out)
    }

    /// The end of a content, at most so many bytes of it: only the pieces that hold it are read.
    pub fn tail(&self, digest: &Digest, most: usize) -> Result<Vec<u8>, StoreError> {
        let mut pieces: Vec<Vec<u8>> = Vec::new();
        let mut length = 0;
        for part in self.parts_of(digest)?.iter().rev() {
            let piece = self.read_piece(&part.digest)?;
            length += piece.len();
            pieces.push(piece);
            if length >= most {
                break;
            }
        }
        pieces.reverse();
        let all = pieces.concat();
        Ok(all[all.len().saturating_sub(most)..].to_vec())
    }

    /// A whole content in memory; for documents, listings and other small things.
    pub fn read(&self, digest: &Digest) -> Result<Vec<u8>, StoreError> {
        let mut out = Vec::new();
        self.try_copy(digest, &mut out).map(|_| out)
    }

    /// Size in bytes of a content, without reading it.
    pub fn size_of(&self, digest: &Digest) -> Result<u64, StoreError> {
        Ok(self.parts_of(digest)?.iter().map(|p| u64::from(p.length)).sum())
    }
}
