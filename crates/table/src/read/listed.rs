//! A table that was made in memory: of the files of a folder, each a row.

use std::sync::Arc;

use super::source::{Opened, Origin, Table};
use crate::{Oddities, Row, Rows, TableError};

/// Rows in memory.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Listed {
    /// The names of the columns.
    pub columns: Vec<String>,
    /// The rows, each with a cell for each column; an empty one is missing.
    pub rows: Vec<Vec<String>>,
    /// The file that each row is about.
    pub files: Vec<String>,
}

struct ListedRows {
    listed: Arc<Listed>,
    at: usize,
}

/// Reads from the first row on.
pub(super) fn open(listed: &Arc<Listed>) -> Opened<'static> {
    Opened { columns: listed.columns.clone(), rows: Box::new(ListedRows { listed: listed.clone(), at: 0 }) }
}

impl Rows for ListedRows {
    fn next(&mut self, row: &mut Row) -> Result<bool, TableError> {
        let Some(cells) = self.listed.rows.get(self.at) else { return Ok(false) };
        row.clear();
        // A row is a file: there is no line in it.
        row.line = 0;
        row.part = u32::try_from(self.at).unwrap_or(u32::MAX);
        cells.iter().for_each(|cell| row.push(cell.as_bytes()));
        self.at += 1;
        Ok(true)
    }

    fn oddities(&self) -> Oddities {
        Oddities::default()
    }
}

impl Table<'static> {
    /// A table of rows in memory.
    pub fn listed(name: &str, listed: Listed) -> Table<'static> {
        Table::in_memory(name, Origin::Listed(Arc::new(listed)))
    }
}
