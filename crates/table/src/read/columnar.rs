//! Parquet, through its public crate; nested values are shown as that crate shows them.

use std::cell::Cell;
use std::fs::File;
use std::panic::{AssertUnwindSafe, catch_unwind};

use jiff::civil::DateTime;
use jiff::{SignedDuration, Timestamp};
use parquet::basic::{LogicalType, TimeUnit, Type as Physical};
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::record::Field;
use parquet::record::reader::RowIter;
use parquet::schema::types::Type;

use super::flat;
use super::source::{Opened, Table};
use crate::{Oddities, Row, Rows, TableError};

thread_local! {
    static GUARDED: Cell<bool> = const { Cell::new(false) };
}

/// Whether this thread is reading a file of a format whose reader may panic over damaged bytes. Such a panic is
/// caught and becomes an error, so that nothing need be printed of it.
pub fn is_guarded() -> bool {
    GUARDED.get()
}

/// Reads with a reader that panics over some damaged files: that is an error like any other.
pub(crate) fn guarded<T>(table: &Table<'_>, read: impl FnOnce() -> Result<T, TableError>) -> Result<T, TableError> {
    GUARDED.set(true);
    let result = catch_unwind(AssertUnwindSafe(read));
    GUARDED.set(false);
    result.unwrap_or_else(|_| {
        let what = "it is damaged: its reader gave up".to_string();
        Err(TableError::Malformed { name: table.name.clone(), line: None, what })
    })
}

/// How the time stamps of a column are meant.
#[derive(Clone, Copy)]
pub(super) struct Stamp {
    /// So many of its units are a second.
    pub units: i64,
    /// Whether it names instants; else it is a date and time of some clock, without a zone.
    pub instant: bool,
}

struct Columnar<'t> {
    table: &'t Table<'t>,
    rows: RowIter<'static>,
    /// By column; none where it is no time stamp.
    stamps: Vec<Option<Stamp>>,
    line: u64,
}

pub(crate) fn malformed(table: &Table<'_>, error: parquet::errors::ParquetError) -> TableError {
    TableError::Malformed { name: table.name.clone(), line: None, what: error.to_string() }
}

pub(super) fn stamp_of(field: &Type) -> Option<Stamp> {
    if !field.is_primitive() {
        return None;
    }
    match field.get_basic_info().logical_type_ref() {
        Some(LogicalType::Timestamp(time)) => {
            let units = match time.unit {
                TimeUnit::MILLIS => 1_000,
                TimeUnit::MICROS => 1_000_000,
                TimeUnit::NANOS => 1_000_000_000,
            };
            Some(Stamp { units, instant: time.is_adjusted_to_u_t_c })
        }
        // The older form names instants; that of 96 bits is given in milliseconds by the reader.
        None => match (field.get_basic_info().converted_type(), field.get_physical_type()) {
            (parquet::basic::ConvertedType::TIMESTAMP_MILLIS, _) => Some(Stamp { units: 1_000, instant: true }),
            (parquet::basic::ConvertedType::TIMESTAMP_MICROS, _) => Some(Stamp { units: 1_000_000, instant: true }),
            (_, Physical::INT96) => Some(Stamp { units: 1_000, instant: false }),
            _ => None,
        },
        _ => None,
    }
}

/// Opens a Parquet file.
pub fn open<'t>(table: &'t Table<'_>, file: File) -> Result<Opened<'t>, TableError> {
    guarded(table, || {
        let reader = SerializedFileReader::new(file).map_err(|e| malformed(table, e))?;
        let reader = match flat::open(table, reader)? {
            Ok(opened) => return Ok(opened),
            Err(reader) => reader,
        };
        let schema = reader.metadata().file_metadata().schema_descr().root_schema();
        let columns = schema.get_fields().iter().map(|f| f.name().to_string()).collect();
        let stamps = schema.get_fields().iter().map(|f| stamp_of(f)).collect();
        let rows = RowIter::from_file_into(Box::new(reader));
        Ok(Opened { columns, rows: Box::new(Columnar { table, rows, stamps, line: 0 }) })
    })
}

/// Number of rows, as the file says.
pub fn count(table: &Table<'_>, file: File) -> Result<u64, TableError> {
    guarded(table, || {
        let reader = SerializedFileReader::new(file).map_err(|e| malformed(table, e))?;
        Ok(u64::try_from(reader.metadata().file_metadata().num_rows()).unwrap_or(0))
    })
}

/// A time stamp as text: RFC 3339 for an instant, the same without a zone for one that has none.
pub(super) fn time_text(count: i64, stamp: Stamp) -> Option<String> {
    let nanos = count.rem_euclid(stamp.units) * (1_000_000_000 / stamp.units);
    let since = SignedDuration::new(count.div_euclid(stamp.units), i32::try_from(nanos).ok()?);
    if stamp.instant {
        return Timestamp::from_duration(since).ok().map(|t| t.to_string());
    }
    let epoch: DateTime = jiff::civil::date(1970, 1, 1).at(0, 0, 0, 0);
    epoch.checked_add(since).ok().map(|t| t.to_string())
}

/// A date as text.
pub(super) fn date_text(days: i32) -> String {
    let span = jiff::Span::new().try_days(days).unwrap_or_default();
    jiff::civil::date(1970, 1, 1).checked_add(span).map_or_else(|_| days.to_string(), |d| d.to_string())
}

fn cell(field: &Field, stamp: Option<Stamp>) -> String {
    match (field, stamp) {
        (Field::Null, _) => String::new(),
        (Field::Long(count) | Field::TimestampMillis(count) | Field::TimestampMicros(count), Some(stamp)) => {
            time_text(*count, stamp).unwrap_or_else(|| count.to_string())
        }
        (Field::Str(text), _) => text.clone(),
        (Field::Double(v), _) => format!("{v:?}"),
        (Field::Float(v), _) => format!("{v:?}"),
        (Field::Date(days), _) => date_text(*days),
        (other, _) => other.to_string(),
    }
}

impl Rows for Columnar<'_> {
    fn next(&mut self, row: &mut Row) -> Result<bool, TableError> {
        let table = self.table;
        guarded(table, || {
            let Some(read) = self.rows.next() else { return Ok(false) };
            let read = read.map_err(|e| malformed(table, e))?;
            self.line += 1;
            row.clear();
            row.line = self.line;
            for (at, (_, field)) in read.get_column_iter().enumerate() {
                row.push(cell(field, self.stamps.get(at).copied().flatten()).as_bytes());
            }
            Ok(true)
        })
    }

    fn oddities(&self) -> Oddities {
        Oddities::default()
    }
}
