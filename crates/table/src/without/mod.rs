//! A table without the rows that meet a condition.
//!
//! Text keeps every other byte as it was: quotes, line ends, the order of keys. Parquet is written anew with the same schema,
//! key-value metadata and compression. What was written is read once more and held against the table that it comes from, row
//! by row, before anybody may rely on it.

mod columnar;
mod lines;

use std::path::Path;

use crate::filter::{Condition, FilterError, Named};
use crate::read::{Origin, Packing, TableFormat};
use crate::{Row, Table, TableError};
use textum_base::fsio::OutFile;

/// How many rows went, and how many stayed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Parted {
    /// Rows that met the condition.
    pub removed: u64,
    /// Rows that did not.
    pub kept: u64,
}

/// Why a table could not be written without some rows.
#[derive(Debug, thiserror::Error)]
pub enum WithoutError {
    /// The table could not be read or written.
    #[error(transparent)]
    Table(#[from] TableError),
    /// The condition names a column that the table does not have.
    #[error("{0}")]
    Filter(FilterError),
    /// Rows cannot be taken out of a table that is written like this one.
    #[error("{name} cannot be written without some rows: {what}")]
    Form {
        /// The table.
        name: String,
        /// How it is written.
        what: &'static str,
    },
    /// What was written does not read back as it must.
    #[error("{name} cannot be written without those rows: what was written does not read back as the rest of it")]
    NotTheSame {
        /// The table.
        name: String,
    },
}

/// A row that meets the condition, of a text its bytes without the line end.
type Away<'a> = &'a mut dyn FnMut(&[u8]);

/// The rows of a table that meet a condition: where they stand.
pub struct Going {
    condition: Condition<usize>,
    /// By their place among all rows, from 0, in order.
    rows: Vec<u64>,
    /// In which lines, from 1: the first and the one after the last.
    lines: Vec<(u64, u64)>,
    /// How many there are, and how many others.
    pub parted: Parted,
}

impl Going {
    /// Looks for them.
    pub fn find(table: &Table<'_>, condition: &Condition<Named>) -> Result<Going, WithoutError> {
        let mut opened = table.open()?;
        let in_units = opened.rows.oddities().encoding.is_some_and(|e| e.starts_with("UTF-16"));
        let what = match (&table.origin, table.format()) {
            (Origin::Parts(_) | Origin::Listed(_), _) => Some("it is a folder of many files"),
            (_, TableFormat::Arrow) => Some("it is an Arrow file; Parquet is what can be"),
            (_, TableFormat::JsonArray) => Some("it is one JSON array; a JSON object a line is what can be"),
            _ if in_units || !table.dialect().is_plain() => Some("its text is UTF-16"),
            _ => None,
        };
        if let Some(what) = what {
            return Err(WithoutError::Form { name: table.name.clone(), what });
        }
        let condition = condition.for_columns(&opened.columns).map_err(WithoutError::Filter)?;
        let mut found = Going { condition, rows: Vec::new(), lines: Vec::new(), parted: Parted::default() };
        let (mut row, mut at, mut open) = (Row::default(), 0, None);
        while opened.rows.next(&mut row)? {
            if let Some(first) = open.take() {
                found.lines.push((first, row.line));
            }
            if found.condition.holds(&row) {
                found.rows.push(at);
                open = Some(row.line);
            }
            at += 1;
        }
        found.lines.extend(open.map(|first| (first, u64::MAX)));
        found.parted = Parted { removed: found.rows.len() as u64, kept: at - found.rows.len() as u64 };
        Ok(found)
    }

    /// Gives each of them as it stands in a text; none of another table. It is the table that they were looked for in.
    pub fn each(&self, table: &Table<'_>, away: Away<'_>) -> Result<(), WithoutError> {
        match table.format() != TableFormat::Parquet && self.parted.removed > 0 {
            true => Ok(lines::write(table, &self.lines, Path::new(""), std::io::sink(), away)?),
            false => Ok(()),
        }
    }

    /// Writes the table without them into a new file; each of them is given to `away`, where the table is a text.
    pub fn write(&self, table: &Table<'_>, to: &Path, away: Away<'_>) -> Result<(), WithoutError> {
        let file = OutFile::create_new(to).map_err(TableError::from)?;
        match table.format() {
            TableFormat::Parquet => columnar::write(table, &self.rows, file)?,
            _ => lines::write(table, &self.lines, to, packed(table.packing(), file), away)?,
        }
        let written = table.elsewhere(Origin::File(to.to_path_buf()));
        match is_the_rest(table, &written, &self.condition, self.parted.kept)? {
            true => Ok(()),
            false => Err(WithoutError::NotTheSame { name: table.name.clone() }),
        }
    }
}

/// Something that is packed while it is written.
enum Packed<W: std::io::Write> {
    Plain(W),
    Gzip(flate2::write::GzEncoder<W>),
    Zstd(Option<zstd::stream::write::Encoder<'static, W>>),
}

fn packed(packing: Packing, file: OutFile) -> Packed<OutFile> {
    match packing {
        Packing::None => Packed::Plain(file),
        Packing::Gzip => Packed::Gzip(flate2::write::GzEncoder::new(file, flate2::Compression::default())),
        Packing::Zstd => Packed::Zstd(zstd::stream::write::Encoder::new(file, 0).ok()),
    }
}

impl<W: std::io::Write> std::io::Write for Packed<W> {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        match self {
            Packed::Plain(to) => to.write(bytes),
            Packed::Gzip(to) => to.write(bytes),
            Packed::Zstd(Some(to)) => to.write(bytes),
            Packed::Zstd(None) => Err(std::io::ErrorKind::OutOfMemory.into()),
        }
    }

    /// Ends what is packed: nothing may be written after it.
    fn flush(&mut self) -> std::io::Result<()> {
        match self {
            Packed::Plain(to) => to.flush(),
            Packed::Gzip(to) => to.try_finish(),
            Packed::Zstd(to) => match to.take() {
                Some(to) => to.finish()?.flush(),
                None => Ok(()),
            },
        }
    }
}

/// Whether what was written is the table but for the rows that meet the condition.
fn is_the_rest(table: &Table<'_>, written: &Table<'_>, condition: &Condition<usize>, kept: u64) -> Result<bool, TableError> {
    let mut before = table.open()?;
    let mut after = written.open()?;
    // In JSON Lines a column may have gone with the rows; a text without a header may be empty by now.
    let same_columns = before.columns == after.columns;
    let (mut row, mut now, mut count) = (Row::default(), Row::default(), 0);
    while before.rows.next(&mut row)? {
        if condition.holds(&row) {
            continue;
        }
        if !after.rows.next(&mut now)? {
            return Ok(false);
        }
        count += 1;
        let is_same = || row.len() == now.len() && (0..row.len()).all(|at| row.cell(at) == now.cell(at));
        if same_columns && !is_same() {
            return Ok(false);
        }
    }
    Ok(count == kept && !after.rows.next(&mut now)?)
}
