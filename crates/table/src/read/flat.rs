//! Rows of a Parquet file whose columns are plain: many cells of each column at a time, which is several times as fast
//! as asking for one row after another.

use std::fs::File;
use std::io::Write;

use parquet::column::reader::{ColumnReader, ColumnReaderImpl};
use parquet::data_type::DataType;
use parquet::file::reader::{FileReader, SerializedFileReader};

use super::by_column::{Sort, sorts_of};
use super::columnar::{date_text, guarded, malformed, time_text};
use super::source::{Opened, Table};
use crate::{Oddities, Row, Rows, TableError};

/// So many rows are read at once.
const TOGETHER: usize = 1024;

/// The cells of a column that were read last.
#[derive(Default)]
struct Cells {
    bytes: Vec<u8>,
    ends: Vec<usize>,
    levels: Vec<i16>,
}

struct FlatRows<'t> {
    table: &'t Table<'t>,
    reader: SerializedFileReader<File>,
    sorts: Vec<Sort>,
    /// The group that is read next.
    group: usize,
    readers: Vec<ColumnReader>,
    cells: Vec<Cells>,
    /// Rows that were read, and how many of them were given.
    have: usize,
    given: usize,
    line: u64,
}

/// Opens a file for reading by rows; the file again where a column is not plain.
pub(super) fn open<'t>(
    table: &'t Table<'_>,
    reader: SerializedFileReader<File>,
) -> Result<Result<Opened<'t>, SerializedFileReader<File>>, TableError> {
    let schema = reader.metadata().file_metadata().schema_descr().root_schema();
    let Some(sorts) = sorts_of(schema.get_fields()) else { return Ok(Err(reader)) };
    let columns = schema.get_fields().iter().map(|f| f.name().to_string()).collect();
    let cells = sorts.iter().map(|_| Cells::default()).collect();
    let rows = FlatRows { table, reader, sorts, group: 0, readers: Vec::new(), cells, have: 0, given: 0, line: 0 };
    Ok(Ok(Opened { columns, rows: Box::new(rows) }))
}

impl Cells {
    /// Reads the next cells; how many there were.
    fn read<T: DataType>(
        &mut self,
        table: &Table<'_>,
        reader: &mut ColumnReaderImpl<T>,
        mut put: impl FnMut(&mut Vec<u8>, &T::T) -> std::io::Result<()>,
    ) -> Result<usize, TableError> {
        let mut values: Vec<T::T> = Vec::with_capacity(TOGETHER);
        self.levels.clear();
        let read = reader.read_records(TOGETHER, Some(&mut self.levels), None, &mut values);
        let (records, _, _) = read.map_err(|e| malformed(table, e))?;
        self.bytes.clear();
        self.ends.clear();
        let mut values = values.iter();
        // A column that must be there has no levels.
        for at in 0..records {
            if self.levels.get(at).is_none_or(|level| *level > 0)
                && let Some(value) = values.next()
            {
                // Into memory: nothing can fail.
                let _ = put(&mut self.bytes, value);
            }
            self.ends.push(self.bytes.len());
        }
        Ok(records)
    }

    fn fill(&mut self, table: &Table<'_>, reader: &mut ColumnReader, sort: Sort) -> Result<usize, TableError> {
        match reader {
            ColumnReader::BoolColumnReader(r) => self.read(table, r, |out, v| write!(out, "{v}")),
            ColumnReader::Int32ColumnReader(r) => self.read(table, r, |out, v| match sort {
                Sort::Date => out.write_all(date_text(*v).as_bytes()),
                _ => write!(out, "{v}"),
            }),
            ColumnReader::Int64ColumnReader(r) => self.read(table, r, |out, v| match sort {
                Sort::Stamp(stamp) => out.write_all(time_text(*v, stamp).unwrap_or_else(|| v.to_string()).as_bytes()),
                _ => write!(out, "{v}"),
            }),
            ColumnReader::FloatColumnReader(r) => self.read(table, r, |out, v| write!(out, "{v:?}")),
            ColumnReader::DoubleColumnReader(r) => self.read(table, r, |out, v| write!(out, "{v:?}")),
            ColumnReader::ByteArrayColumnReader(r) => {
                self.read(table, r, |out, v| out.write_all(String::from_utf8_lossy(v.data()).as_bytes()))
            }
            _ => Ok(0),
        }
    }
}

impl FlatRows<'_> {
    /// Reads the next rows; `false` at the end.
    fn more(&mut self) -> Result<bool, TableError> {
        loop {
            let mut least = usize::MAX;
            for ((reader, cells), sort) in self.readers.iter_mut().zip(&mut self.cells).zip(&self.sorts) {
                let read = cells.fill(self.table, reader, *sort)?;
                if least != usize::MAX && least != read {
                    let what = "its columns have different numbers of rows".to_string();
                    return Err(TableError::Malformed { name: self.table.name.clone(), line: None, what });
                }
                least = read;
            }
            if least != usize::MAX && least > 0 {
                (self.have, self.given) = (least, 0);
                return Ok(true);
            }
            if self.group >= self.reader.num_row_groups() {
                return Ok(false);
            }
            let group = self.reader.get_row_group(self.group).map_err(|e| malformed(self.table, e))?;
            self.group += 1;
            let readers = (0..self.sorts.len()).map(|at| group.get_column_reader(at));
            self.readers = readers.collect::<Result<_, _>>().map_err(|e| malformed(self.table, e))?;
        }
    }
}

impl Rows for FlatRows<'_> {
    fn next(&mut self, row: &mut Row) -> Result<bool, TableError> {
        if self.given == self.have {
            let table = self.table;
            if !guarded(table, || self.more())? {
                return Ok(false);
            }
        }
        row.clear();
        self.line += 1;
        row.line = self.line;
        let at = self.given;
        for cells in &self.cells {
            let from = at.checked_sub(1).map_or(0, |before| cells.ends[before]);
            row.push(&cells.bytes[from..cells.ends[at]]);
        }
        self.given += 1;
        Ok(true)
    }

    fn oddities(&self) -> Oddities {
        Oddities::default()
    }
}
