//! Rows whose reading ends when somebody asks to stop.

use super::source::Opened;
use crate::{Oddities, Row, Rows, TableError};

/// So often it is looked whether somebody has: after so many rows.
const EVERY: u32 = 4096;

struct Stopping<'t> {
    rows: Box<dyn Rows + 't>,
    stop: &'t (dyn Fn() -> bool + Sync),
    count: u32,
}

/// The same rows, as long as nobody has.
pub(super) fn by<'t>(opened: Opened<'t>, stop: Option<&'t (dyn Fn() -> bool + Sync)>) -> Opened<'t> {
    match stop {
        None => opened,
        Some(stop) => Opened { columns: opened.columns, rows: Box::new(Stopping { rows: opened.rows, stop, count: 0 }) },
    }
}

impl Rows for Stopping<'_> {
    fn next(&mut self, row: &mut Row) -> Result<bool, TableError> {
        self.count += 1;
        if self.count == EVERY {
            self.count = 0;
            if (self.stop)() {
                return Err(TableError::Stopped);
            }
        }
        self.rows.next(row)
    }

    fn oddities(&self) -> Oddities {
        self.rows.oddities()
    }
}
