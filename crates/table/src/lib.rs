//! Tables in files: read row by row in bounded memory, compared, searched, summed up.
//!
//! - `read`: where a table's bytes are, and a reader for each format: CSV, TSV, JSON Lines, Parquet, plain or
//!   packed with gzip or Zstandard.
//! - [`row`], [`kind`], [`schema`]: a row's cells as bytes; what a cell is; columns beside each other.
//! - [`compare`]: two tables row by row. [`filter`]: conditions on rows. [`profile`]: columns in figures.
//! - [`examine`]: rules held against a table.
//! - [`sorted`]: numbers in order beyond memory. [`mod@without`]: a table written without some of its rows.
//!
//! ```
//! use textum_table::{Origin, Row, Table, filter};
//!
//! # let folder = tempfile::tempdir()?;
//! let path = folder.path().join("shifts.csv");
//! std::fs::write(&path, "loom,humidity\nL01,61.5\nL02,0.6\n")?;
//! let table = Table::new("shifts.csv", "shifts.csv", Origin::File(path))?;
//! let mut opened = table.open()?;
//! let damp = filter::parse("humidity > 1")?.for_columns(&opened.columns)?;
//! let (mut row, mut found) = (Row::default(), 0);
//! while opened.rows.next(&mut row)? {
//!     found += usize::from(damp.holds(&row));
//! }
//! assert_eq!((found, table.count_rows()?), (1, 2));
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

#![cfg_attr(test, allow(clippy::disallowed_methods))]

pub mod compare;
pub mod decimal;
pub mod examine;
pub mod filter;
pub mod kind;
pub mod profile;
mod read;
pub mod row;
pub mod schema;
pub mod sorted;
pub mod without;

use std::path::PathBuf;

pub use read::scratch;
pub use read::{
    ByColumn, Delimiter, Dialect, FilterOrTable, Listed, Opened, Origin, Packing, Part, Quote, Source, SourceError, Table,
    TableFormat, Value, encoding_of, format_of, is_guarded as is_reading_guarded, looks_like_array,
};
pub use row::Row;

use textum_base::fsio::IoError;

/// Why a table could not be read.
#[derive(Debug, thiserror::Error)]
pub enum TableError {
    /// The operating system refused, or packed bytes are not what they must be.
    #[error(transparent)]
    Io(#[from] IoError),
    /// What its bytes come from could not give them.
    #[error("{0}")]
    Source(SourceError),
    /// It is no table by its name.
    #[error("{name} is no table that can be read row by row")]
    NoTable {
        /// What was named.
        name: String,
    },
    /// Its content is not what its name says.
    #[error("{name}{}: {what}", line.map_or(String::new(), |l| format!(", line {l}")))]
    Malformed {
        /// The table.
        name: String,
        /// The line, from 1; none where lines mean nothing.
        line: Option<u64>,
        /// What is wrong.
        what: String,
    },
    /// A column was named that it does not have.
    #[error("{table} has no column `{column}`{}", near.as_ref().map_or(String::new(), |n| format!(": did you mean `{n}`?")))]
    NoColumn {
        /// The table.
        table: String,
        /// The column named.
        column: String,
        /// The most similar column.
        near: Option<String>,
        /// All columns.
        columns: Vec<String>,
    },
    /// Somebody has asked to stop while it was read.
    #[error("it was stopped")]
    Stopped,
    /// There is no room for what does not fit into memory.
    #[error("a table does not fit into memory, and {} has no room for it: {source}", folder.display())]
    NoRoom {
        /// Where it was to be written.
        folder: PathBuf,
        /// What the operating system said.
        source: std::io::Error,
    },
}

/// Something about a table that a reader should know, beside its content.
#[derive(Clone, Debug, Default, PartialEq, Eq, serde::Serialize)]
pub struct Oddities {
    /// Rows with more or fewer fields than the header: how many, and the lines of the first few.
    pub ragged: u64,
    /// Lines of the first ragged rows.
    pub ragged_lines: Vec<u64>,
    /// The first line looked like data: columns are numbered.
    pub no_header: bool,
    /// It began with a byte-order mark, which was left out.
    pub byte_order_mark: bool,
    /// The encoding of its text, if that is not UTF-8.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub encoding: Option<String>,
}

impl Oddities {
    /// Takes those of another part of the same table in.
    fn add(&mut self, other: &Oddities) {
        self.ragged += other.ragged;
        self.ragged_lines.extend(&other.ragged_lines);
        self.ragged_lines.truncate(3);
        self.no_header |= other.no_header;
        self.byte_order_mark |= other.byte_order_mark;
        self.encoding = self.encoding.take().or_else(|| other.encoding.clone());
    }

    fn ragged_at(&mut self, line: u64) {
        self.ragged += 1;
        if self.ragged_lines.len() < 3 {
            self.ragged_lines.push(line);
        }
    }
}

/// Gives rows one after another.
pub trait Rows: Send {
    /// Reads the next row into `row`; `false` at the end.
    fn next(&mut self, row: &mut Row) -> Result<bool, TableError>;
    /// What was met so far.
    fn oddities(&self) -> Oddities;
}
