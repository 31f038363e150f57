//! CSV and its relatives (RFC 4180, read generously).

use std::io::{Cursor, Read};

use csv::{ByteRecord, Reader, ReaderBuilder, Terminator};

use super::blanks;
use super::dialect::Delimiter;
use super::encoded::Decoded;
use super::lines::{Lines, Next};
use super::source::{Opened, Table};
use super::watched::Watched;
use crate::kind::{Kind, kind_of};
use crate::row::text;
use crate::{Oddities, Row, Rows, TableError};

/// How much is looked at to tell the delimiter and the header. In bytes.
const START: usize = 64 << 10;

struct Delimited<'t> {
    table: &'t Table<'t>,
    source: Source<'t>,
    delimiter: u8,
    quote: Option<u8>,
    /// A first line that is data.
    first: Option<Row>,
    width: usize,
    /// Where the last record of the general reader began.
    line: u64,
    oddities: Oddities,
}

enum Source<'t> {
    Plain(Lines<'t>),
    /// Lines before those of the reader, what goes by, and the reader.
    General(u64, Watched, Box<Reader<Box<dyn Read + Send + 't>>>, ByteRecord),
    /// While one becomes the other.
    Neither,
}

fn reader_of<R: Read>(delimiter: u8, quote: Option<u8>, stream: R) -> Reader<R> {
    ReaderBuilder::new()
        .delimiter(delimiter)
        .quoting(quote.is_some())
        .quote(quote.unwrap_or(b'"'))
        .has_headers(false)
        .flexible(true)
        .terminator(Terminator::CRLF)
        .buffer_capacity(1 << 17)
        .from_reader(stream)
}

/// The byte that parts the fields of the first line: the most frequent one outside quotes.
fn delimiter_of(start: &[u8], quote: Option<u8>) -> u8 {
    let mut quoted = false;
    let mut counts = [(b',', 0), (b';', 0), (b'\t', 0), (b'|', 0)];
    for byte in start {
        match byte {
            _ if Some(*byte) == quote => quoted = !quoted,
            b'\n' if !quoted => break,
            _ if quoted => {}
            _ => counts.iter_mut().filter(|(d, _)| d == byte).for_each(|(_, n)| *n += 1),
        }
    }
    // Of equals the comma, which stands first.
    counts.iter().rev().max_by_key(|(_, n)| *n).map_or(b',', |(d, n)| if *n > 0 { *d } else { b',' })
}

/// Whether a first line names columns: none of its fields is a number or a date, and none is empty but for
/// the first, which tables with an index leave so.
pub(super) fn is_header(row: &Row) -> bool {
    let names = |field: &[u8]| matches!(kind_of(field), Kind::Text | Kind::Boolean);
    (0..row.len()).all(|i| names(row.cell(i)) || (i == 0 && row.cell(i).is_empty() && row.len() > 1))
}

/// The names in a header; of equal ones all but the first get a number.
fn names_of(header: &Row) -> Vec<String> {
    let mut names: Vec<String> = Vec::new();
    for (i, field) in (0..header.len()).map(|i| header.cell(i)).enumerate() {
        let plain = if field.is_empty() { format!("column {}", i + 1) } else { text(field).trim().to_string() };
        let same = names.iter().filter(|n| **n == plain).count();
        names.push(if same == 0 { plain } else { format!("{plain} ({})", same + 1) });
    }
    names
}

/// The columns that a table has by its first row, and whether that row names them.
pub(super) fn columns_by(first: Option<&Row>, said: Option<bool>) -> (Vec<String>, bool) {
    match first {
        None => (Vec::new(), false),
        Some(row) if said.unwrap_or_else(|| is_header(row)) => (names_of(row), true),
        Some(row) => ((1..=row.len()).map(|n| format!("column {n}")).collect(), false),
    }
}

/// A stream, and what parts its fields.
type Begun<'t> = (Box<dyn Read + Send + 't>, u8);

/// Reads the beginning: it tells the delimiter.
fn begin<'t>(table: &Table<'_>, mut stream: Box<dyn Read + Send + 't>) -> Result<Begun<'t>, TableError> {
    let mut start = Vec::with_capacity(START);
    (&mut stream).take(START as u64).read_to_end(&mut start).map_err(|e| table.failed(e))?;
    let delimiter = delimiter_of(&start, table.dialect().quote());
    Ok((Box::new(Cursor::new(start).chain(stream)), delimiter))
}

fn malformed(table: &Table<'_>, error: csv::Error) -> TableError {
    let line = error.position().map(csv::Position::line);
    match error.into_kind() {
        csv::ErrorKind::Io(e) => table.failed(e),
        other => TableError::Malformed { name: table.name.clone(), line, what: format!("{other:?}") },
    }
}

/// Opens a table of fields with a delimiter between; told by the first line when not given.
pub fn open<'t>(table: &'t Table<'_>, text: Decoded<'t>, delimiter: Option<Delimiter>) -> Result<Opened<'t>, TableError> {
    let encoding = text.encoding.map(|e| e.name().to_string());
    let oddities = Oddities { byte_order_mark: text.byte_order_mark, encoding, ..Oddities::default() };
    let (stream, delimiter) = match delimiter {
        Some(Delimiter::Blanks) => return blanks::open(table, text.stream, oddities),
        Some(Delimiter::Byte(delimiter)) => (text.stream, delimiter),
        None => begin(table, text.stream)?,
    };
    let quote = table.dialect().quote();
    let source = Source::Plain(Lines::new(stream, delimiter, quote));
    let mut rows = Delimited { table, source, delimiter, quote, first: None, width: 0, line: 0, oddities };
    let mut first = Row::default();
    let some = rows.read(&mut first)?;
    let (columns, header) = columns_by(some.then_some(&first), table.dialect().header);
    rows.oddities.no_header = some && !header;
    rows.first = (some && !header).then_some(first);
    rows.width = columns.len();
    Ok(Opened { columns, rows: Box::new(rows) })
}

impl Delimited<'_> {
    fn read(&mut self, row: &mut Row) -> Result<bool, TableError> {
        if let Source::Plain(lines) = &mut self.source {
            match lines.next(row).map_err(|e| self.table.failed(e))? {
                Next::Row => return Ok(true),
                Next::End => return Ok(false),
                Next::NotPlain => {}
            }
            if let Source::Plain(lines) = std::mem::replace(&mut self.source, Source::Neither) {
                let before = lines.number;
                let (watched, stream) = Watched::over(lines.rest());
                let reader = reader_of(self.delimiter, self.quote, Box::new(stream) as Box<dyn Read + Send>);
                self.source = Source::General(before, watched, Box::new(reader), ByteRecord::new());
            }
        }
        let Source::General(before, watched, reader, record) = &mut self.source else { return Ok(false) };
        if !reader.read_byte_record(record).map_err(|e| malformed(self.table, e))? {
            // A last record that is still quoted at the end has swallowed what follows its first line.
            if self.quote.is_some_and(|quote| watched.ends_quoted(self.delimiter, quote)) {
                let what = "a quotation mark in the record that begins here is never closed".to_string();
                return Err(TableError::Malformed { name: self.table.name.clone(), line: Some(self.line), what });
            }
            return Ok(false);
        }
        self.line = *before + watched.line_of(record.position().map_or(0, csv::Position::byte));
        row.line = self.line;
        row.assign(record.as_slice(), (0..record.len()).filter_map(|i| record.range(i)).map(|r| r.end));
        Ok(true)
    }
}

impl Rows for Delimited<'_> {
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

/// Counts rows: lines, as long as nothing is quoted; else as the reader does.
pub fn count<'t>(
    table: &Table<'_>,
    text: impl Fn() -> Result<Decoded<'t>, TableError>,
    delimiter: Option<Delimiter>,
) -> Result<u64, TableError> {
    // Between blanks a line of blanks alone is no row, and only the reader sees which are.
    let by_lines = delimiter != Some(Delimiter::Blanks);
    let lines = match by_lines {
        true => count_lines(text()?.stream, table.dialect().quote()).map_err(|e| table.failed(e))?,
        false => None,
    };
    if let Some(lines) = lines {
        // The first record tells whether it is one of the rows.
        let opened = open(table, text()?, delimiter)?;
        let header = !opened.columns.is_empty() && !opened.rows.oddities().no_header;
        return Ok(lines - u64::from(header));
    }
    let mut opened = open(table, text()?, delimiter)?;
    let mut row = Row::default();
    let mut rows = 0;
    while opened.rows.next(&mut row)? {
        rows += 1;
    }
    Ok(rows)
}

/// Number of lines that are not empty; `None` as soon as something is quoted or ends in an odd way.
fn count_lines(mut stream: Box<dyn Read + Send + '_>, quote: Option<u8>) -> std::io::Result<Option<u64>> {
    let mut buffer = vec![0; 1 << 17];
    let (mut lines, mut last) = (0u64, b'\n');
    loop {
        let read = match stream.read(&mut buffer) {
            Ok(0) => break,
            Ok(read) => read,
            Err(e) if e.kind() == std::io::ErrorKind::Interrupted => continue,
            Err(e) => return Err(e),
        };
        let bytes = &buffer[..read];
        // A lone carriage return ends a line too, for the reader: let it count then.
        if memchr::memchr2(quote.unwrap_or(b'\r'), b'\r', bytes).is_some() {
            return Ok(None);
        }
        for at in memchr::memchr_iter(b'\n', bytes) {
            let before = if at == 0 { last } else { bytes[at - 1] };
            lines += u64::from(before != b'\n');
        }
        last = bytes[read - 1];
    }
    Ok(Some(lines + u64::from(last != b'\n')))
}
