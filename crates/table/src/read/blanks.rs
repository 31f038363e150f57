//! Tables whose fields stand apart by blanks, as in columns that are printed for people.

use std::io::{BufRead, BufReader, Read};

use super::delimited::columns_by;
use super::source::{Opened, Table};
use crate::{Oddities, Row, Rows, TableError};

/// No line of a table is longer. In bytes.
const LONGEST: u64 = 64 << 20;

struct Blanks<'t> {
    table: &'t Table<'t>,
    stream: BufReader<Box<dyn Read + Send + 't>>,
    line: Vec<u8>,
    number: u64,
    first: Option<Row>,
    width: usize,
    oddities: Oddities,
}

/// Opens one.
pub(super) fn open<'t>(
    table: &'t Table<'_>,
    stream: Box<dyn Read + Send + 't>,
    oddities: Oddities,
) -> Result<Opened<'t>, TableError> {
    let stream = BufReader::with_capacity(1 << 17, stream);
    let mut rows = Blanks { table, stream, line: Vec::new(), number: 0, first: None, width: 0, oddities };
    let mut first = Row::default();
    let some = rows.read(&mut first)?;
    let (columns, header) = columns_by(some.then_some(&first), table.dialect().header);
    rows.oddities.no_header = some && !header;
    rows.first = (some && !header).then_some(first);
    rows.width = columns.len();
    Ok(Opened { columns, rows: Box::new(rows) })
}

impl Blanks<'_> {
    fn read(&mut self, row: &mut Row) -> Result<bool, TableError> {
        loop {
            self.line.clear();
            let read = (&mut self.stream).take(LONGEST).read_until(b'\n', &mut self.line).map_err(|e| self.table.failed(e))?;
            if read == 0 {
                return Ok(false);
            }
            self.number += 1;
            let mut fields = self.line.split(u8::is_ascii_whitespace).filter(|field| !field.is_empty()).peekable();
            if fields.peek().is_none() {
                continue;
            }
            row.clear();
            row.line = self.number;
            fields.for_each(|field| row.push(field));
            return Ok(true);
        }
    }
}

impl Rows for Blanks<'_> {
    fn next(&mut self, row: &mut Row) -> Result<bool, TableError> {
        if let Some(first) = self.first.take() {
            *row = first;
        } else if !self.read(row)? {
            return Ok(false);
        }
        if row.len() != self.width {
            self.oddities.ragged_at(row.line);
        }
        Ok(true)
    }

    fn oddities(&self) -> Oddities {
        self.oddities.clone()
    }
}
