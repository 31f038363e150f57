//! A stored content as a reader, piece by piece, each checked: for whoever need not hold all of it.

use std::io::{self, Read};

use super::{Digest, Part, Store, StoreError};

/// Reads a stored content. Bytes that are not those that were recorded are an error.
pub struct ContentReader<'s> {
    store: &'s Store,
    parts: std::vec::IntoIter<Part>,
    piece: Vec<u8>,
    at: usize,
}

impl Store {
    /// A reader of the content with this digest.
    pub fn reader(&self, digest: &Digest) -> Result<ContentReader<'_>, StoreError> {
        let parts = self.parts_of(digest)?.into_iter();
        Ok(ContentReader { store: self, parts, piece: Vec::new(), at: 0 })
    }
}

impl Read for ContentReader<'_> {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        while self.at == self.piece.len() {
            let Some(part) = self.parts.next() else { return Ok(0) };
            self.piece = self.store.read_piece(&part.digest).map_err(io::Error::other)?;
            self.at = 0;
        }
        let length = out.len().min(self.piece.len() - self.at);
        out[..length].copy_from_slice(&self.piece[self.at..self.at + length]);
        self.at += length;
        Ok(length)
    }
}
