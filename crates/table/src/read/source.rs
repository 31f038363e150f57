//! Where a table's bytes are, and in which format.

use std::fs::File;
use std::io::{BufReader, Read, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;

#[cfg(feature = "arrow")]
use super::arrow;
use super::by_column::{self, ByColumn};
use super::dialect::{Delimiter, Dialect};
use super::encoded::{Decoded, decoded};
use super::json_array::Elements;
use super::listed::{self, Listed};
#[cfg(not(feature = "arrow"))]
use super::no_arrow as arrow;
use super::parts::{self, Part};
use super::{columnar, delimited, json_lines, nulls, only, stopping};
use crate::filter::{Condition, Named};
use crate::{Row, Rows, TableError};
use textum_base::fsio::IoError;

/// The format of a table, by its file's name.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum TableFormat {
    /// Fields with commas between (or whatever the first line is parted by).
    Csv,
    /// Fields with tabs between.
    Tsv,
    /// A JSON object a line.
    JsonLines,
    /// One JSON array of objects.
    JsonArray,
    /// Apache Parquet.
    Parquet,
    /// Apache Arrow's own format, as a file (Feather, version 2) or as a stream.
    Arrow,
}

/// How a file is packed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Packing {
    /// Not at all.
    None,
    /// RFC 1952.
    Gzip,
    /// RFC 8878.
    Zstd,
}

/// The format that a file's name tells of; `None` when it is no table.
pub fn format_of(path: &str) -> Option<(TableFormat, Packing)> {
    let (stem, packing) = parted(path);
    let format = match stem.rsplit_once('.')?.1 {
        "csv" => TableFormat::Csv,
        "tsv" | "tab" => TableFormat::Tsv,
        "jsonl" | "ndjson" => TableFormat::JsonLines,
        "json" => TableFormat::JsonArray,
        "parquet" if packing == Packing::None => TableFormat::Parquet,
        "arrow" | "arrows" | "feather" | "ipc" if packing == Packing::None => TableFormat::Arrow,
        _ => return None,
    };
    Some((format, packing))
}

/// A file's name without what tells how it is packed, and that.
fn parted(path: &str) -> (String, Packing) {
    let name = path.rsplit('/').next().unwrap_or(path).to_ascii_lowercase();
    match (name.strip_suffix(".gz"), name.strip_suffix(".zst")) {
        (Some(stem), _) => (stem.to_string(), Packing::Gzip),
        (_, Some(stem)) => (stem.to_string(), Packing::Zstd),
        _ => (name, Packing::None),
    }
}

/// Where bytes are.
#[derive(Clone)]
pub enum Origin<'s> {
    /// In a file.
    File(PathBuf),
    /// Somewhere else.
    Source(Arc<dyn Source + 's>),
    /// In many files, which are read one after another.
    Parts(Arc<[Part<'s>]>),
    /// Nowhere: its rows were made here.
    Listed(Arc<Listed>),
}

/// Where a table's bytes come from when it is no file.
pub trait Source: Send + Sync {
    /// About how many bytes there are; 0 where that is not known.
    fn size(&self) -> u64;

    /// The bytes from the first on; an error while they are read is the source's own.
    fn stream(&self) -> Result<Box<dyn Read + Send + '_>, SourceError>;

    /// A folder with room for all of them, for a format that is read from its end.
    fn scratch(&self) -> PathBuf;
}

/// Why a source could not give its bytes.
pub type SourceError = Box<dyn std::error::Error + Send + Sync>;

/// Marks an error as one of the source, wherever it comes to light.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
struct OfSource(SourceError);

struct Marked<R>(R);

impl<R: Read> Read for Marked<R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        self.0.read(buffer).map_err(|e| match e.kind() {
            std::io::ErrorKind::Interrupted => e,
            kind => std::io::Error::new(kind, OfSource(e.into_inner().unwrap_or_else(|| "it could not be read".into()))),
        })
    }
}

/// Asks again when a signal came between: not every reader does.
struct Patient<R>(R);

impl<R: Read> Read for Patient<R> {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        loop {
            match self.0.read(buffer) {
                Err(e) if e.kind() == std::io::ErrorKind::Interrupted => {}
                other => return other,
            }
        }
    }
}

/// A table that can be read any number of times.
#[derive(Clone)]
pub struct Table<'s> {
    /// What it is called, for messages.
    pub name: String,
    /// Where it is.
    pub origin: Origin<'s>,
    format: TableFormat,
    packing: Packing,
    dialect: Arc<Dialect>,
    stop: Option<&'s (dyn Fn() -> bool + Sync)>,
    /// What its rows must meet.
    pub(super) only: Option<Arc<Condition<Named>>>,
}

/// A table opened for reading: its columns, and its rows.
pub struct Opened<'t> {
    /// The names of the columns.
    pub columns: Vec<String>,
    /// The rows.
    pub rows: Box<dyn Rows + 't>,
}

impl<'s> Table<'s> {
    /// A table of this name; `path` tells the format.
    pub fn new(name: &str, path: &str, origin: Origin<'s>) -> Result<Table<'s>, TableError> {
        Table::with(name, path, origin, &Dialect::default())
    }

    /// The same of a table of which it is said how it is written.
    pub fn with(name: &str, path: &str, origin: Origin<'s>, dialect: &Dialect) -> Result<Table<'s>, TableError> {
        let (_, packing) = parted(path);
        let (format, packing) = match dialect.format {
            Some(format) => (format, packing),
            None => format_of(path).ok_or_else(|| TableError::NoTable { name: name.to_string() })?,
        };
        Ok(Table { name: name.to_string(), origin, format, packing, dialect: Arc::new(dialect.clone()), stop: None, only: None })
    }

    pub(super) fn in_memory(name: &str, origin: Origin<'s>) -> Table<'s> {
        let (format, packing) = (TableFormat::Csv, Packing::None);
        Table { name: name.to_string(), origin, format, packing, dialect: Arc::default(), stop: None, only: None }
    }

    /// About how many bytes it has, unpacked; for choosing a way of working.
    pub fn size_hint(&self) -> u64 {
        let size = match &self.origin {
            Origin::File(path) => std::fs::metadata(path).map_or(0, |m| m.len()),
            Origin::Source(source) => source.size(),
            Origin::Parts(parts) => return parts.iter().map(|part| part.table.size_hint()).sum(),
            Origin::Listed(listed) => return listed.rows.len() as u64 * 200,
        };
        if self.packing == Packing::None && !matches!(self.format, TableFormat::Parquet | TableFormat::Arrow) {
            size
        } else {
            size.saturating_mul(6)
        }
    }

    /// Its format.
    pub(crate) fn format(&self) -> TableFormat {
        self.format
    }

    /// How it is packed.
    pub(crate) fn packing(&self) -> Packing {
        self.packing
    }

    /// The same table, whose reading ends with an error when somebody asks to stop.
    pub fn stopped_by(self, stop: &'s (dyn Fn() -> bool + Sync)) -> Table<'s> {
        Table { stop: Some(stop), ..self }
    }

    /// How it is written, as far as that was said.
    pub(crate) fn dialect(&self) -> &Dialect {
        &self.dialect
    }

    /// A table of the same name and format, whose bytes are elsewhere.
    pub(crate) fn elsewhere(&self, origin: Origin<'s>) -> Table<'s> {
        Table { origin, ..self.clone() }
    }

    /// Its bytes, unpacked.
    pub(crate) fn stream(&self) -> Result<Box<dyn Read + Send + '_>, TableError> {
        let plain: Box<dyn Read + Send> = match &self.origin {
            Origin::File(path) => Box::new(Patient(File::open(path).map_err(IoError::of("open", path))?)),
            Origin::Source(source) => Box::new(Patient(Marked(source.stream().map_err(TableError::Source)?))),
            Origin::Parts(_) | Origin::Listed(_) => return Err(TableError::NoTable { name: self.name.clone() }),
        };
        Ok(match self.packing {
            Packing::None => plain,
            Packing::Gzip => Box::new(flate2::read::MultiGzDecoder::new(BufReader::with_capacity(1 << 16, plain))),
            Packing::Zstd => Box::new(zstd::stream::read::Decoder::new(plain).map_err(|e| self.failed(e))?),
        })
    }

    /// An error of reading this table.
    pub(crate) fn failed(&self, error: std::io::Error) -> TableError {
        let path = match &self.origin {
            Origin::File(path) => path.clone(),
            Origin::Source(_) | Origin::Parts(_) | Origin::Listed(_) => PathBuf::from(&self.name),
        };
        match error.downcast::<OfSource>() {
            Ok(OfSource(error)) => TableError::Source(error),
            // What is not as its format demands is no fault of the disk.
            Err(error) if error.kind() == std::io::ErrorKind::InvalidData && error.get_ref().is_some() => {
                TableError::Malformed { name: self.name.clone(), line: None, what: error.to_string() }
            }
            Err(error) => IoError { action: "read", path, source: error }.into(),
        }
    }

    /// Its text in UTF-8.
    fn text(&self) -> Result<Decoded<'_>, TableError> {
        let mut found = decoded(self.stream()?, self.dialect.encoding).map_err(|e| self.failed(e))?;
        if self.format == TableFormat::JsonArray {
            found.stream = Box::new(Elements::of(found.stream));
        }
        Ok(found)
    }

    /// What parts the fields of a line, if that is known.
    fn delimiter(&self) -> Option<Delimiter> {
        self.dialect.delimiter.or((self.format == TableFormat::Tsv).then_some(Delimiter::Byte(b'\t')))
    }

    /// Opens it for reading from its first row on.
    pub fn open(&self) -> Result<Opened<'_>, TableError> {
        let opened = match (&self.origin, self.format) {
            (Origin::Parts(parts), _) => parts::open(parts),
            (Origin::Listed(listed), _) => Ok(listed::open(listed)),
            (_, TableFormat::Csv | TableFormat::Tsv) => delimited::open(self, self.text()?, self.delimiter()),
            (_, TableFormat::JsonLines | TableFormat::JsonArray) => {
                // Which columns there are is known once every line has been seen.
                let columns = json_lines::columns(self, self.text()?.stream)?;
                json_lines::open(self, self.text()?, columns)
            }
            (_, TableFormat::Parquet) => columnar::open(self, self.file()?),
            (_, TableFormat::Arrow) => arrow::open(self, self.file()?),
        }?;
        // Parts have left out what stands for nothing themselves.
        let words: &[String] = if matches!(self.origin, Origin::Parts(_)) { &[] } else { &self.dialect.null };
        let opened = stopping::by(nulls::without(opened, words), self.stop);
        match &self.only {
            Some(condition) => only::only(self, opened, condition),
            None => Ok(opened),
        }
    }

    /// Whether it is of a format that is laid out by columns.
    pub fn is_by_column(&self) -> bool {
        self.format == TableFormat::Parquet && self.only.is_none()
    }

    /// Opens it for reading column by column; `None` where that cannot be.
    pub fn by_column(&self) -> Result<Option<ByColumn<'_>>, TableError> {
        match (&self.origin, self.format) {
            _ if !self.dialect.null.is_empty() || self.only.is_some() => Ok(None),
            (Origin::Parts(parts), TableFormat::Parquet) => by_column::open_parts(parts),
            (_, TableFormat::Parquet) => by_column::open(self, self.file()?),
            _ => Ok(None),
        }
    }

    /// Its bytes as a file, for a format that is read from its end.
    pub(crate) fn file(&self) -> Result<File, TableError> {
        match &self.origin {
            Origin::Parts(_) | Origin::Listed(_) => Err(TableError::NoTable { name: self.name.clone() }),
            Origin::File(path) => Ok(File::open(path).map_err(IoError::of("open", path))?),
            Origin::Source(source) => {
                let folder = source.scratch();
                let mut file =
                    tempfile::tempfile_in(&folder).map_err(|source| TableError::NoRoom { folder: folder.clone(), source })?;
                let mut stream = Marked(source.stream().map_err(TableError::Source)?);
                std::io::copy(&mut stream, &mut file).map_err(|e| match e.get_ref().is_some_and(|e| e.is::<OfSource>()) {
                    true => self.failed(e),
                    false => TableError::NoRoom { folder, source: e },
                })?;
                file.flush().map_err(|e| self.failed(e))?;
                Ok(file)
            }
        }
    }

    /// Number of rows, without looking at cells more than must be.
    pub fn count_rows(&self) -> Result<u64, TableError> {
        if self.only.is_some() {
            let (mut opened, mut row, mut count) = (self.open()?, Row::default(), 0);
            while opened.rows.next(&mut row)? {
                count += 1;
            }
            return Ok(count);
        }
        match (&self.origin, self.format) {
            (Origin::Parts(parts), _) => parts.iter().map(|part| part.table.count_rows()).sum(),
            (Origin::Listed(listed), _) => Ok(listed.rows.len() as u64),
            (_, TableFormat::Csv | TableFormat::Tsv) => delimited::count(self, || self.text(), self.delimiter()),
            (_, TableFormat::JsonLines | TableFormat::JsonArray) => json_lines::count(self, self.text()?.stream),
            (_, TableFormat::Parquet) => columnar::count(self, self.file()?),
            (_, TableFormat::Arrow) => arrow::count(self, self.file()?),
        }
    }
}

/// A folder on the disk of the store for what does not fit into memory.
pub fn scratch(store: &Path) -> PathBuf {
    if store.is_dir() { store.to_path_buf() } else { std::env::temp_dir() }
}
