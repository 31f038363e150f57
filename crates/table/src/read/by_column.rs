//! Parquet column by column, for those who look at each column by itself. What a cell's text would be is what
//! [`super::columnar`] makes of it row by row; numbers come as they are.

use std::fs::File;
use std::io::Write;
use std::os::fd::AsRawFd;
use std::sync::Arc;

use indexmap::IndexSet;
use parquet::basic::{ConvertedType, LogicalType, Type as Physical};
use parquet::column::reader::{ColumnReader, ColumnReaderImpl};
use parquet::data_type::DataType;
use parquet::file::reader::{FileReader, RowGroupReader, SerializedFileReader};
use parquet::schema::types::Type;

use super::columnar::{Stamp, date_text, guarded, malformed, stamp_of, time_text};
use super::parts::{Part, cells_of};
use super::source::Table;
use crate::TableError;

/// A cell.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Value<'v> {
    /// Nothing.
    Missing,
    /// A number of double precision, finite.
    Double(f64),
    /// A whole number.
    Integer(i64),
    /// Anything else, as its text.
    Text(&'v [u8]),
}

/// How the values of a column become cells.
#[derive(Clone, Copy)]
pub(super) enum Sort {
    Boolean,
    Integer,
    Date,
    Stamp(Stamp),
    Float,
    Double,
    Text,
}

/// So many rows are read at once.
const TOGETHER: usize = 8192;

/// Of a table in more files rows are read, one file after another.
const MOST_OPEN: usize = 128;

/// A Parquet file whose columns can be read each by itself.
struct Columns<'t> {
    table: &'t Table<'t>,
    file: File,
    names: Vec<String>,
    sorts: Vec<Sort>,
    rows: u64,
}

/// Where a column's cells are in one file of a table.
enum Place {
    Column(usize),
    /// In the name of its folder.
    Fixed(String),
    Nowhere,
}

/// Parquet files whose columns can be read each by itself.
pub struct ByColumn<'t> {
    files: Vec<(Columns<'t>, Vec<Place>)>,
    /// The names of the columns.
    pub columns: Vec<String>,
    /// Number of rows, as the files say.
    pub rows: u64,
}

/// How the values of these columns become cells; `None` where one of them is not plain.
pub(super) fn sorts_of(fields: &[Arc<Type>]) -> Option<Vec<Sort>> {
    fields.iter().map(|f| sort_of(f)).collect()
}

fn sort_of(field: &Type) -> Option<Sort> {
    if !field.is_primitive() || field.get_basic_info().repetition() == parquet::basic::Repetition::REPEATED {
        return None;
    }
    let info = field.get_basic_info();
    if let Some(stamp) = stamp_of(field) {
        return (field.get_physical_type() == Physical::INT64).then_some(Sort::Stamp(stamp));
    }
    let (logical, converted) = (info.logical_type_ref(), info.converted_type());
    let signed = match (logical, converted) {
        (None, ConvertedType::NONE) => true,
        (Some(LogicalType::Integer(int)), _) => int.is_signed,
        (None, c) => [ConvertedType::INT_8, ConvertedType::INT_16, ConvertedType::INT_32, ConvertedType::INT_64].contains(&c),
        _ => false,
    };
    let plain = logical.is_none() && converted == ConvertedType::NONE;
    match field.get_physical_type() {
        Physical::BOOLEAN if plain => Some(Sort::Boolean),
        Physical::INT32 if matches!(logical, Some(LogicalType::Date)) || converted == ConvertedType::DATE => Some(Sort::Date),
        Physical::INT32 | Physical::INT64 if signed => Some(Sort::Integer),
        Physical::FLOAT if plain => Some(Sort::Float),
        Physical::DOUBLE if plain => Some(Sort::Double),
        Physical::BYTE_ARRAY if matches!(logical, Some(LogicalType::String)) || converted == ConvertedType::UTF8 => {
            Some(Sort::Text)
        }
        _ => None,
    }
}

/// A handle with a position of its own: others read the same file beside this one.
fn opened_again(file: &File) -> std::io::Result<File> {
    File::open(format!("/proc/self/fd/{}", file.as_raw_fd()))
}

/// Opens a Parquet file for reading by column; `None` where it cannot be opened anew for each column, or where a column holds lists, tables or other things that are
/// told row by row only.
pub(super) fn open<'t>(table: &'t Table<'_>, file: File) -> Result<Option<ByColumn<'t>>, TableError> {
    let Some(columns) = columns_of(table, file)? else { return Ok(None) };
    let (names, rows) = (columns.names.clone(), columns.rows);
    let places = (0..names.len()).map(Place::Column).collect();
    Ok(Some(ByColumn { files: vec![(columns, places)], columns: names, rows }))
}

/// The same of a table in many files.
pub(super) fn open_parts<'t>(parts: &'t [Part<'_>]) -> Result<Option<ByColumn<'t>>, TableError> {
    // Each stays open: a process may have so many files and no more.
    if parts.len() > MOST_OPEN {
        return Ok(None);
    }
    let mut files = Vec::new();
    for part in parts {
        let Some(columns) = columns_of(&part.table, part.table.file()?)? else { return Ok(None) };
        files.push((columns, cells_of(&part.path)));
    }
    let in_files = files.iter().flat_map(|(columns, _)| columns.names.iter());
    let in_names = files.iter().flat_map(|(_, cells)| cells.iter().map(|(column, _)| column));
    let columns: IndexSet<String> = in_files.chain(in_names).cloned().collect();
    let rows = files.iter().map(|(columns, _)| columns.rows).sum();
    let place = |file: &Columns<'_>, cells: &[(String, String)], name: &String| {
        let fixed = cells.iter().find(|(column, _)| column == name).map(|(_, value)| Place::Fixed(value.clone()));
        let there = || file.names.iter().position(|n| n == name).map(Place::Column);
        fixed.or_else(there).unwrap_or(Place::Nowhere)
    };
    let files = files.into_iter().map(|(file, cells)| {
        let places = columns.iter().map(|name| place(&file, &cells, name)).collect();
        (file, places)
    });
    Ok(Some(ByColumn { files: files.collect(), columns: columns.into_iter().collect(), rows }))
}

fn columns_of<'t>(table: &'t Table<'_>, file: File) -> Result<Option<Columns<'t>>, TableError> {
    let kept = file.try_clone().map_err(|e| table.failed(e))?;
    guarded(table, || {
        let reader = SerializedFileReader::new(file).map_err(|e| malformed(table, e))?;
        let about = reader.metadata().file_metadata();
        let fields = about.schema_descr().root_schema().get_fields();
        let names = fields.iter().map(|f| f.name().to_string()).collect();
        if opened_again(&kept).is_err() {
            return Ok(None);
        }
        let Some(sorts) = sorts_of(fields) else { return Ok(None) };
        let rows = u64::try_from(about.num_rows()).unwrap_or(0);
        Ok(Some(Columns { table, file: kept, names, sorts, rows }))
    })
}

impl ByColumn<'_> {
    /// Gives the cells of a column to `visit`, from the first row to the last. Columns may be read side by side.
    pub fn each(&self, column: usize, visit: &mut dyn FnMut(Value<'_>) -> Result<(), TableError>) -> Result<(), TableError> {
        self.files.iter().try_for_each(|(file, places)| match places.get(column) {
            Some(Place::Column(at)) => file.each(*at, visit),
            Some(Place::Fixed(cell)) => (0..file.rows).try_for_each(|_| visit(Value::Text(cell.as_bytes()))),
            Some(Place::Nowhere) | None => (0..file.rows).try_for_each(|_| visit(Value::Missing)),
        })
    }
}

impl Columns<'_> {
    fn each(&self, column: usize, visit: &mut dyn FnMut(Value<'_>) -> Result<(), TableError>) -> Result<(), TableError> {
        let Some(sort) = self.sorts.get(column).copied() else { return Ok(()) };
        let again = opened_again(&self.file).map_err(|e| self.table.failed(e))?;
        guarded(self.table, || {
            let reader = SerializedFileReader::new(again).map_err(|e| malformed(self.table, e))?;
            (0..reader.num_row_groups()).try_for_each(|group| {
                let group = reader.get_row_group(group).map_err(|e| malformed(self.table, e))?;
                self.group(&*group, column, sort, visit)
            })
        })
    }

    fn group(
        &self,
        group: &dyn RowGroupReader,
        column: usize,
        sort: Sort,
        visit: &mut dyn FnMut(Value<'_>) -> Result<(), TableError>,
    ) -> Result<(), TableError> {
        let mut text = Vec::new();
        let mut shown = |what: &dyn std::fmt::Debug, visit: &mut dyn FnMut(Value<'_>) -> Result<(), TableError>| {
            text.clear();
            // Into memory: nothing can fail.
            let _ = write!(text, "{what:?}");
            visit(Value::Text(&text))
        };
        match group.get_column_reader(column).map_err(|e| malformed(self.table, e))? {
            ColumnReader::BoolColumnReader(r) => {
                self.values(r, visit, |v, visit| visit(Value::Text(if *v { b"true" } else { b"false" })))
            }
            ColumnReader::Int32ColumnReader(r) => self.values(r, visit, |v, visit| match sort {
                Sort::Date => visit(Value::Text(date_text(*v).as_bytes())),
                _ => visit(Value::Integer(i64::from(*v))),
            }),
            ColumnReader::Int64ColumnReader(r) => self.values(r, visit, |v, visit| match sort {
                Sort::Stamp(stamp) => visit(Value::Text(time_text(*v, stamp).unwrap_or_else(|| v.to_string()).as_bytes())),
                _ => visit(Value::Integer(*v)),
            }),
            // Its shortest digits are not those of the double that it is.
            ColumnReader::FloatColumnReader(r) => self.values(r, visit, |v, visit| shown(v, visit)),
            ColumnReader::DoubleColumnReader(r) => self.values(r, visit, |v, visit| match v.is_finite() {
                true => visit(Value::Double(*v)),
                false => shown(v, visit),
            }),
            ColumnReader::ByteArrayColumnReader(r) => self.values(r, visit, |v, visit| match std::str::from_utf8(v.data()) {
                Ok(text) => visit(Value::Text(text.as_bytes())),
                Err(_) => visit(Value::Text(String::from_utf8_lossy(v.data()).as_bytes())),
            }),
            _ => Ok(()),
        }
    }

    fn values<T: DataType>(
        &self,
        mut reader: ColumnReaderImpl<T>,
        visit: &mut dyn FnMut(Value<'_>) -> Result<(), TableError>,
        mut cell: impl FnMut(&T::T, &mut dyn FnMut(Value<'_>) -> Result<(), TableError>) -> Result<(), TableError>,
    ) -> Result<(), TableError> {
        let (mut levels, mut values): (Vec<i16>, Vec<T::T>) = (Vec::new(), Vec::new());
        loop {
            levels.clear();
            values.clear();
            let read = reader.read_records(TOGETHER, Some(&mut levels), None, &mut values);
            let (records, _, _) = read.map_err(|e| malformed(self.table, e))?;
            if records == 0 {
                return Ok(());
            }
            // A column that must be there has no levels.
            if levels.is_empty() {
                values.iter().try_for_each(|v| cell(v, visit))?;
                continue;
            }
            let mut values = values.iter();
            for level in &levels {
                match (level, values.as_slice().first()) {
                    (1.., Some(value)) => {
                        values.next();
                        cell(value, visit)?;
                    }
                    _ => visit(Value::Missing)?,
                }
            }
        }
    }
}
