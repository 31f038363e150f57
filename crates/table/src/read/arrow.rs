//! Apache Arrow's own format, through its public crate: a file, which begins with `ARROW1` (Feather of version 2 is one), or
//! a stream. Source: the columnar format's specification, "Serialization and Interprocess Communication".
//!
//! A file holds a stream between its first bytes and its footer, and is read as that one: what the footer says is not
//! needed. Before anything is read, all lengths that messages tell are held against the bytes that are there: the reader
//! believes them, and asks for as much memory.

use std::fs::File;
use std::io::{BufReader, Read, Seek, SeekFrom, Take};

use arrow_array::{Array, RecordBatch};
use arrow_ipc::reader::StreamReader;
use arrow_ipc::{MessageHeader, root_as_message};

use super::arrow_cell;
use super::columnar::guarded;
use super::source::{Opened, Table};
use crate::{Oddities, Row, Rows, TableError};

const MAGIC: &[u8] = b"ARROW1";
const OLD_MAGIC: &[u8] = b"FEA1";
/// So far from the beginning of a file messages begin at most.
const LONGEST_PADDING: u64 = 4096;
/// What stands in the place of a length that is behind it: the format since version 0.15.
const CONTINUES: u32 = u32::MAX;
/// A buffer that is unpacked to more bytes than this is taken for damage.
const MOST_BYTES: i64 = 1 << 32;
/// A row takes at least so many bits, but for columns without any content, of which there may be this many rows.
const ROWS_OF_NOTHING: i64 = 1 << 24;

type Messages = StreamReader<BufReader<Take<File>>>;

fn bad(table: &Table<'_>, what: impl Into<String>) -> TableError {
    TableError::Malformed { name: table.name.clone(), line: None, what: what.into() }
}

/// Where the messages are: from which byte, and how many bytes.
fn extent(table: &Table<'_>, file: &mut File) -> Result<(u64, u64), TableError> {
    let failed = |e| table.failed(e);
    let size = file.seek(SeekFrom::End(0)).map_err(failed)?;
    file.seek(SeekFrom::Start(0)).map_err(failed)?;
    let mut start = [0; 8];
    let read = file.take(8).read(&mut start).map_err(failed)?;
    if start[..read].starts_with(OLD_MAGIC) {
        return Err(bad(table, "it is Feather of version 1, which is no longer written: write it anew with version 2"));
    }
    if !start[..read].starts_with(MAGIC) {
        return Ok((0, size));
    }
    let mut end = [0; 10];
    file.seek(SeekFrom::End(-10)).map_err(failed)?;
    file.read_exact(&mut end).map_err(failed)?;
    let footer = u64::from(u32::from_le_bytes([end[0], end[1], end[2], end[3]]));
    match size.checked_sub(footer + 10).filter(|end| *end >= 8) {
        Some(until) if end[4..] == *MAGIC => {
            // Behind the magic are zeros, up to a boundary of eight bytes or of more.
            let mut from = 8;
            let mut word = [0; 8];
            while from + 8 <= until && from < LONGEST_PADDING {
                file.seek(SeekFrom::Start(from)).map_err(failed)?;
                file.read_exact(&mut word).map_err(failed)?;
                if word != [0; 8] {
                    break;
                }
                from += 8;
            }
            Ok((from, until - from))
        }
        _ => Err(bad(table, "it ends in the middle: the writer did not finish it, or it was cut off")),
    }
}

/// Holds all lengths against the bytes that are there, and counts the rows.
fn check(table: &Table<'_>, file: &mut File, (from, length): (u64, u64)) -> Result<u64, TableError> {
    let failed = |e| table.failed(e);
    let cut_off = || bad(table, "it ends in the middle of a message");
    let (mut at, end, mut rows) = (from, from + length, 0u64);
    let mut meta = Vec::new();
    loop {
        file.seek(SeekFrom::Start(at)).map_err(failed)?;
        let mut word = || -> Result<Option<u32>, TableError> {
            let mut bytes = [0; 4];
            if end - at < 4 {
                return Ok(None);
            }
            file.read_exact(&mut bytes).map_err(failed)?;
            at += 4;
            Ok(Some(u32::from_le_bytes(bytes)))
        };
        let size = match word()? {
            Some(CONTINUES) => word()?,
            other => other,
        };
        let size = match size {
            None | Some(0) => return Ok(rows),
            Some(size) => u64::from(size),
        };
        if size > end - at {
            return Err(cut_off());
        }
        meta.clear();
        (&mut *file).take(size).read_to_end(&mut meta).map_err(failed)?;
        let message = root_as_message(&meta).map_err(|e| bad(table, format!("a message of it cannot be read: {e}")))?;
        at += size;
        let body = u64::try_from(message.bodyLength()).ok().filter(|body| *body <= end - at).ok_or_else(cut_off)?;
        let batch = match message.header_type() {
            MessageHeader::RecordBatch => message.header_as_record_batch(),
            MessageHeader::DictionaryBatch => message.header_as_dictionary_batch().and_then(|d| d.data()),
            _ => None,
        };
        if let Some(batch) = batch {
            let mut unpacked = 0i64;
            for buffer in batch.buffers().into_iter().flatten() {
                let inside = u64::try_from(buffer.offset()).ok().zip(u64::try_from(buffer.length()).ok());
                let inside = inside.filter(|(offset, length)| offset.checked_add(*length).is_some_and(|end| end <= body));
                let (offset, length) = inside.ok_or_else(cut_off)?;
                let mut size = buffer.length();
                if batch.compression().is_some() && length >= 8 {
                    let mut bytes = [0; 8];
                    file.seek(SeekFrom::Start(at + offset)).map_err(failed)?;
                    file.read_exact(&mut bytes).map_err(failed)?;
                    size = i64::from_le_bytes(bytes).max(size);
                }
                unpacked = unpacked.saturating_add(size);
                if size > MOST_BYTES {
                    return Err(bad(
                        table,
                        "a part of it would have more than 4 GiB: it is damaged, or written in too large parts",
                    ));
                }
            }
            let most = unpacked.saturating_mul(8).saturating_add(ROWS_OF_NOTHING);
            if batch.length() < 0 || batch.length() > most {
                return Err(bad(table, "it tells more rows than it has bytes for"));
            }
            if message.header_type() == MessageHeader::RecordBatch {
                rows += batch.length().unsigned_abs();
            }
        }
        at += body;
    }
}

struct Batches<'t> {
    table: &'t Table<'t>,
    messages: Messages,
    batch: Option<RecordBatch>,
    /// The next row of the batch.
    at: usize,
    line: u64,
}

/// Opens an Arrow file or stream.
pub fn open<'t>(table: &'t Table<'_>, mut file: File) -> Result<Opened<'t>, TableError> {
    guarded(table, || {
        let extent = extent(table, &mut file)?;
        check(table, &mut file, extent)?;
        file.seek(SeekFrom::Start(extent.0)).map_err(|e| table.failed(e))?;
        let stream = BufReader::with_capacity(1 << 18, file.take(extent.1));
        let messages = StreamReader::try_new(stream, None).map_err(|e| bad(table, e.to_string()))?;
        let schema = messages.schema();
        for field in schema.fields() {
            if !arrow_cell::is_read(field.data_type()) {
                let what = format!("the column {} is {}, which is not read", field.name(), field.data_type());
                return Err(bad(table, what));
            }
        }
        let columns = schema.fields().iter().map(|f| f.name().clone()).collect();
        Ok(Opened { columns, rows: Box::new(Batches { table, messages, batch: None, at: 0, line: 0 }) })
    })
}

/// Number of rows, as its messages say.
pub fn count(table: &Table<'_>, mut file: File) -> Result<u64, TableError> {
    guarded(table, || {
        let extent = extent(table, &mut file)?;
        check(table, &mut file, extent)
    })
}

impl Rows for Batches<'_> {
    fn next(&mut self, row: &mut Row) -> Result<bool, TableError> {
        let table = self.table;
        guarded(table, || {
            while self.batch.as_ref().is_none_or(|batch| self.at >= batch.num_rows()) {
                match self.messages.next() {
                    Some(batch) => self.batch = Some(batch.map_err(|e| bad(table, e.to_string()))?),
                    None => return Ok(false),
                }
                self.at = 0;
            }
            let Some(batch) = &self.batch else { return Ok(false) };
            self.line += 1;
            row.clear();
            row.line = self.line;
            let mut text = String::new();
            for column in batch.columns() {
                text.clear();
                if column.is_valid(self.at) {
                    arrow_cell::write(column, self.at, &mut text);
                }
                row.push(text.as_bytes());
            }
            self.at += 1;
            Ok(true)
        })
    }

    fn oddities(&self) -> Oddities {
        Oddities::default()
    }
}
