//! The rows of a table that meet a condition, as a table of their own.

use std::sync::Arc;

use super::source::{Opened, Table};
use crate::filter::{Condition, FilterError, Named};
use crate::{Oddities, Row, Rows, TableError};

struct Only<'t> {
    rows: Box<dyn Rows + 't>,
    condition: Condition<usize>,
}

impl Rows for Only<'_> {
    fn next(&mut self, row: &mut Row) -> Result<bool, TableError> {
        while self.rows.next(row)? {
            if self.condition.holds(row) {
                return Ok(true);
            }
        }
        Ok(false)
    }

    fn oddities(&self) -> Oddities {
        self.rows.oddities()
    }
}

/// The same rows, as far as they meet the condition.
pub(super) fn only<'t>(table: &Table<'_>, opened: Opened<'t>, condition: &Condition<Named>) -> Result<Opened<'t>, TableError> {
    let condition = condition.for_columns(&opened.columns).map_err(|e| TableError::Malformed {
        name: table.name.clone(),
        line: None,
        what: e.to_string(),
    })?;
    Ok(Opened { columns: opened.columns, rows: Box::new(Only { rows: opened.rows, condition }) })
}

impl<'s> Table<'s> {
    /// Its rows that meet a condition, whose columns it must have.
    pub fn only(self, condition: Condition<Named>) -> Result<Table<'s>, FilterOrTable> {
        condition.for_columns(&self.open()?.columns).map_err(FilterOrTable::Filter)?;
        let mut table = self;
        table.only = Some(Arc::new(condition));
        Ok(table)
    }
}

/// Why rows of a table could not be had.
#[derive(Debug, thiserror::Error)]
pub enum FilterOrTable {
    /// The condition names a column that the table does not have.
    #[error("{0}")]
    Filter(FilterError),
    /// The table could not be read.
    #[error(transparent)]
    Table(#[from] TableError),
}
