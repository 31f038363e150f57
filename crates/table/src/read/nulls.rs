//! Words that stand for a missing cell in one table only.

use super::source::Opened;
use crate::{Oddities, Row, Rows, TableError};

struct Nulls<'t> {
    rows: Box<dyn Rows + 't>,
    words: &'t [String],
    row: Row,
}

/// The same rows with cells that are one of the words left empty.
pub(super) fn without<'t>(opened: Opened<'t>, words: &'t [String]) -> Opened<'t> {
    match words.is_empty() {
        true => opened,
        false => Opened { columns: opened.columns, rows: Box::new(Nulls { rows: opened.rows, words, row: Row::default() }) },
    }
}

impl Rows for Nulls<'_> {
    fn next(&mut self, row: &mut Row) -> Result<bool, TableError> {
        if !self.rows.next(&mut self.row)? {
            return Ok(false);
        }
        row.clear();
        (row.line, row.part) = (self.row.line, self.row.part);
        for at in 0..self.row.len() {
            let cell = self.row.cell(at);
            row.push(if self.words.iter().any(|w| w.as_bytes() == cell) { b"" } else { cell });
        }
        Ok(true)
    }

    fn oddities(&self) -> Oddities {
        self.rows.oddities()
    }
}
