//! Parquet, through its public crate; nested values are shown as that crate shows them.

use std::fs::File;

use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::record::Field;
use parquet::record::reader::RowIter;

use super::source::{Opened, Table};
use crate::table::{Oddities, Row, Rows, TableError};

struct Columnar<'t> {
    table: &'t Table<'t>,
    rows: RowIter<'static>,
    line: u64,
}

fn malformed(table: &Table<'_>, error: parquet::errors::ParquetError) -> TableError {
    TableError::Malformed { name: table.name.clone(), line: None, what: error.to_string() }
}

/// Opens a Parquet file.
pub fn open<'t>(table: &'t Table<'_>, file: File) -> Result<Opened<'t>, TableError> {
    let reader = SerializedFileReader::new(file).map_err(|e| malformed(table, e))?;
    let schema = reader.metadata().file_metadata().schema_descr().root_schema();
    let columns = schema.get_fields().iter().map(|f| f.name().to_string()).collect();
    let rows = RowIter::from_file_into(Box::new(reader));
    Ok(Opened { columns, rows: Box::new(Columnar { table, rows, line: 0 }) })
}

/// Number of rows, as the file says.
pub fn count(table: &Table<'_>, file: File) -> Result<u64, TableError> {
    let reader = SerializedFileReader::new(file).map_err(|e| malformed(table, e))?;
    Ok(u64::try_from(reader.metadata().file_metadata().num_rows()).unwrap_or(0))
}

fn cell(field: &Field) -> String {
    match field {
        Field::Null => String::new(),
        Field::Str(text) => text.clone(),
        Field::Double(v) => format!("{v:?}"),
        Field::Float(v) => format!("{v:?}"),
        Field::Date(days) => jiff::civil::date(1970, 1, 1)
            .checked_add(jiff::Span::new().try_days(*days).unwrap_or_default())
            .map_or_else(|_| days.to_string(), |d| d.to_string()),
        other => other.to_string(),
    }
}

impl Rows for Columnar<'_> {
    fn next(&mut self, row: &mut Row) -> Result<bool, TableError> {
        let Some(read) = self.rows.next() else { return Ok(false) };
        let read = read.map_err(|e| malformed(self.table, e))?;
        self.line += 1;
        row.clear();
        row.line = self.line;
        for (_, field) in read.get_column_iter() {
            row.push(cell(field).as_bytes());
        }
        Ok(true)
    }

    fn oddities(&self) -> Oddities {
        Oddities::default()
    }
}
