//! A row's cells as bytes, in one buffer that is used again for the next row.

/// The cells of a row. A missing cell is an empty one.
#[derive(Clone, Debug, Default)]
pub struct Row {
    bytes: Vec<u8>,
    /// Where each cell begins and ends.
    cells: Vec<(usize, usize)>,
    /// Number of its first line (of its record, where lines mean nothing), from 1.
    pub line: u64,
    /// Of a table in several files: the number of its file, from 0.
    pub part: u32,
}

impl Row {
    /// Takes all cells out.
    pub fn clear(&mut self) {
        self.bytes.clear();
        self.cells.clear();
    }

    /// Adds a cell.
    pub fn push(&mut self, cell: &[u8]) {
        let from = self.bytes.len();
        self.bytes.extend_from_slice(cell);
        self.cells.push((from, self.bytes.len()));
    }

    /// Takes over all cells at once: their bytes one after another, and where each ends.
    pub fn assign<'e>(&mut self, bytes: &[u8], ends: impl Iterator<Item = usize> + 'e) {
        self.clear();
        self.bytes.extend_from_slice(bytes);
        let mut from = 0;
        self.cells.extend(ends.map(|end| (std::mem::replace(&mut from, end), end)));
    }

    /// Takes over a line's cells, which this byte parts.
    pub fn split(&mut self, line: &[u8], delimiter: u8) {
        self.clear();
        self.bytes.extend_from_slice(line);
        let mut from = 0;
        for end in memchr::memchr_iter(delimiter, line) {
            self.cells.push((from, end));
            from = end + 1;
        }
        self.cells.push((from, line.len()));
    }

    /// A hash of its cells.
    pub(crate) fn hash(&self) -> u64 {
        use std::hash::{BuildHasher, Hasher};
        let mut hasher = foldhash::quality::FixedState::with_seed(0x7E47).build_hasher();
        (0..self.len()).for_each(|at| {
            hasher.write(self.cell(at));
            hasher.write_u8(0xFF);
        });
        hasher.finish()
    }

    /// All its bytes.
    pub(crate) fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// Number of cells.
    pub fn len(&self) -> usize {
        self.cells.len()
    }

    /// Whether it has no cells.
    pub fn is_empty(&self) -> bool {
        self.cells.is_empty()
    }

    /// A cell; empty beyond the last.
    pub fn cell(&self, at: usize) -> &[u8] {
        self.cells.get(at).map_or(b"", |(from, to)| &self.bytes[*from..*to])
    }
}

/// Bytes of a cell as text for people.
pub fn text(cell: &[u8]) -> String {
    String::from_utf8_lossy(cell).into_owned()
}
