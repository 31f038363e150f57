//! Where a table's bytes are, and in which format.

use std::fs::File;
use std::io::{BufReader, Read, Write};
use std::path::{Path, PathBuf};

use super::{columnar, delimited, json_lines};
use crate::{Rows, TableError};
use textum_base::fsio::IoError;
use textum_store::{Digest, Store, StoreError};

/// The format of a table, by its file's name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TableFormat {
    /// Fields with commas between (or whatever the first line is parted by).
    Csv,
    /// Fields with tabs between.
    Tsv,
    /// A JSON object a line.
    JsonLines,
    /// Apache Parquet.
    Parquet,
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
    let name = path.rsplit('/').next().unwrap_or(path).to_ascii_lowercase();
    let (stem, packing) = match () {
        () if name.ends_with(".gz") => (name.trim_end_matches(".gz"), Packing::Gzip),
        () if name.ends_with(".zst") => (name.trim_end_matches(".zst"), Packing::Zstd),
        () => (name.as_str(), Packing::None),
    };
    let format = match stem.rsplit_once('.')?.1 {
        "csv" => TableFormat::Csv,
        "tsv" | "tab" => TableFormat::Tsv,
        "jsonl" | "ndjson" => TableFormat::JsonLines,
        "parquet" if packing == Packing::None => TableFormat::Parquet,
        _ => return None,
    };
    Some((format, packing))
}

/// Where bytes are.
#[derive(Clone)]
pub enum Origin<'s> {
    /// In a file.
    File(PathBuf),
    /// In the store.
    Stored(&'s Store, Digest),
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
        let (format, packing) = format_of(path).ok_or_else(|| TableError::NoTable { name: name.to_string() })?;
        Ok(Table { name: name.to_string(), origin, format, packing })
    }

    /// About how many bytes it has, unpacked; for choosing a way of working.
    pub fn size_hint(&self) -> u64 {
        let size = match &self.origin {
            Origin::File(path) => std::fs::metadata(path).map_or(0, |m| m.len()),
            Origin::Stored(store, digest) => store.size_of(digest).unwrap_or(0),
        };
        if self.packing == Packing::None && self.format != TableFormat::Parquet { size } else { size.saturating_mul(6) }
    }

    fn stream(&self) -> Result<Box<dyn Read + Send + '_>, TableError> {
        let plain: Box<dyn Read + Send> = match &self.origin {
            Origin::File(path) => Box::new(File::open(path).map_err(IoError::of("open", path))?),
            Origin::Stored(store, digest) => Box::new(store.reader(digest)?),
        };
        Ok(match self.packing {
            Packing::None => plain,
            Packing::Gzip => Box::new(flate2::read::MultiGzDecoder::new(BufReader::with_capacity(1 << 16, plain))),
            Packing::Zstd => Box::new(zstd::stream::read::Decoder::new(plain).map_err(|e| self.failed(e))?),
        })
    }

    /// An error of reading this table.
    pub(super) fn failed(&self, error: std::io::Error) -> TableError {
        let path = match &self.origin {
            Origin::File(path) => path.clone(),
            Origin::Stored(..) => PathBuf::from(&self.name),
        };
        match error.downcast::<StoreError>() {
            Ok(error) => error.into(),
            Err(error) => IoError { action: "read", path, source: error }.into(),
        }
    }

    /// Opens it for reading from its first row on.
    pub fn open(&self) -> Result<Opened<'_>, TableError> {
        match self.format {
            TableFormat::Csv => delimited::open(self, self.stream()?, None),
            TableFormat::Tsv => delimited::open(self, self.stream()?, Some(b'\t')),
            TableFormat::JsonLines => {
                // Which columns there are is known once every line has been seen.
                let columns = json_lines::columns(self, self.stream()?)?;
                json_lines::open(self, self.stream()?, columns)
            }
            TableFormat::Parquet => columnar::open(self, self.file()?),
        }
    }

    /// Its bytes as a file, for a format that is read from its end.
    fn file(&self) -> Result<File, TableError> {
        match &self.origin {
            Origin::File(path) => Ok(File::open(path).map_err(IoError::of("open", path))?),
            Origin::Stored(store, digest) => {
                let folder = scratch(store.folder());
                let mut file = tempfile::tempfile_in(&folder).map_err(|source| TableError::NoRoom { folder, source })?;
                store.copy_to(digest, &mut file)?;
                file.flush().map_err(|e| self.failed(e))?;
                Ok(file)
            }
        }
    }

    /// Number of rows, without looking at cells more than must be.
    pub fn count_rows(&self) -> Result<u64, TableError> {
        match self.format {
            TableFormat::Csv | TableFormat::Tsv => {
                let delimiter = (self.format == TableFormat::Tsv).then_some(b'\t');
                delimited::count(self, || self.stream(), delimiter)
            }
            TableFormat::JsonLines => json_lines::count(self, self.stream()?),
            TableFormat::Parquet => columnar::count(self, self.file()?),
        }
    }
}

/// A folder on the disk of the store for what does not fit into memory.
pub fn scratch(store: &Path) -> PathBuf {
    if store.is_dir() { store.to_path_buf() } else { std::env::temp_dir() }
}
