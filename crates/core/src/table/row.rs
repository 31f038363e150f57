//! A row's cells as bytes, in one buffer that is used again for the next row.

/// The cells of a row. A missing cell is an empty one.
#[derive(Clone, Debug, Default)]
pub struct Row {
    bytes: Vec<u8>,
    ends: Vec<usize>,
    /// Number of its first line (of its record, where lines mean nothing), from 1.
    pub line: u64,
}

impl Row {
    /// Takes all cells out.
    pub fn clear(&mut self) {
        self.bytes.clear();
        self.ends.clear();
    }

    /// Adds a cell.
    pub fn push(&mut self, cell: &[u8]) {
        self.bytes.extend_from_slice(cell);
        self.ends.push(self.bytes.len());
    }

    /// Takes over all cells at once: their bytes one after another, and where each ends.
    pub fn assign<'e>(&mut self, bytes: &[u8], ends: impl Iterator<Item = usize> + 'e) {
        self.clear();
        self.bytes.extend_from_slice(bytes);
        self.ends.extend(ends);
    }

    /// Number of cells.
    pub fn len(&self) -> usize {
        self.ends.len()
    }

    /// Whether it has no cells.
    pub fn is_empty(&self) -> bool {
        self.ends.is_empty()
    }

    /// A cell; empty beyond the last.
    pub fn cell(&self, at: usize) -> &[u8] {
        match self.ends.get(at) {
            Some(&end) => &self.bytes[if at == 0 { 0 } else { self.ends[at - 1] }..end],
            None => b"",
        }
    }
}

/// Bytes of a cell as text for people.
pub fn text(cell: &[u8]) -> String {
    String::from_utf8_lossy(cell).into_owned()
}
