//! JSON Lines: an object a line. Cells keep the spelling of their numbers; a text that would read like
//! something else keeps its quotes; `null` and absence are both a missing cell.

use std::collections::HashMap;
use std::io::{BufRead, BufReader, Read};

use indexmap::IndexMap;
use serde_json::value::RawValue;

use super::encoded::Decoded;
use super::source::{Opened, Table};
use crate::kind::{Kind, kind_of};
use crate::{Oddities, Row, Rows, TableError};

type Line = IndexMap<String, Box<RawValue>>;

struct JsonLines<'t> {
    table: &'t Table<'t>,
    lines: Lines<'t>,
    places: HashMap<String, usize>,
    cells: Vec<Vec<u8>>,
    encoding: Option<String>,
}

struct Lines<'t> {
    reader: BufReader<Box<dyn Read + Send + 't>>,
    buffer: Vec<u8>,
    number: u64,
}

impl<'t> Lines<'t> {
    fn new(stream: Box<dyn Read + Send + 't>) -> Lines<'t> {
        Lines { reader: BufReader::with_capacity(1 << 17, stream), buffer: Vec::new(), number: 0 }
    }

    /// The next line that is not blank.
    fn next(&mut self, table: &Table<'_>) -> Result<Option<&[u8]>, TableError> {
        loop {
            self.buffer.clear();
            if self.reader.read_until(b'\n', &mut self.buffer).map_err(|e| table.failed(e))? == 0 {
                return Ok(None);
            }
            self.number += 1;
            if !self.buffer.trim_ascii().is_empty() {
                return Ok(Some(self.buffer.trim_ascii()));
            }
        }
    }

    fn object(&mut self, table: &Table<'_>) -> Result<Option<Line>, TableError> {
        let Some(line) = self.next(table)? else { return Ok(None) };
        let read = serde_json::from_slice::<Line>(line).or_else(|e| match with_bare_words(line) {
            // Python writes NaN and infinities so, which JSON does not know.
            Some(line) => serde_json::from_slice::<Line>(&line),
            None => Err(e),
        });
        match read {
            Ok(object) => Ok(Some(object)),
            Err(e) => Err(TableError::Malformed {
                name: table.name.clone(),
                line: Some(self.number),
                what: format!("this is no JSON object ({e})"),
            }),
        }
    }
}

/// The names of all columns, in the order in which they are met.
pub fn columns<'t>(table: &'t Table<'_>, stream: Box<dyn Read + Send + 't>) -> Result<Vec<String>, TableError> {
    let mut lines = Lines::new(stream);
    let mut found: IndexMap<String, ()> = IndexMap::new();
    while let Some(object) = lines.object(table)? {
        for name in object.keys().filter(|n| !found.contains_key(*n)).cloned().collect::<Vec<_>>() {
            found.insert(name, ());
        }
    }
    Ok(found.into_keys().collect())
}

/// Opens a table of JSON Lines whose columns are known.
pub fn open<'t>(table: &'t Table<'_>, text: Decoded<'t>, columns: Vec<String>) -> Result<Opened<'t>, TableError> {
    let places = columns.iter().enumerate().map(|(i, n)| (n.clone(), i)).collect();
    let cells = vec![Vec::new(); columns.len()];
    let encoding = text.encoding.map(|e| e.name().to_string());
    let lines = Lines::new(text.stream);
    Ok(Opened { rows: Box::new(JsonLines { table, lines, places, cells, encoding }), columns })
}

/// Counts lines that are not blank.
pub fn count<'t>(table: &'t Table<'_>, stream: Box<dyn Read + Send + 't>) -> Result<u64, TableError> {
    let mut lines = Lines::new(stream);
    let mut rows = 0;
    while lines.next(table)?.is_some() {
        rows += 1;
    }
    Ok(rows)
}

/// Words for values that are no finite numbers, and numbers of JSON that nobody writes to stand for them.
const BARE: [(&str, &str); 3] = [("-Infinity", "-9e-99999999"), ("Infinity", "9e-99999999"), ("NaN", "8e-99999999")];

/// A line with bare `NaN`, `Infinity` and `-Infinity` outside of texts replaced; `None` when there are none.
fn with_bare_words(line: &[u8]) -> Option<Vec<u8>> {
    let mut out = Vec::with_capacity(line.len());
    let (mut in_text, mut at, mut any) = (false, 0, false);
    while at < line.len() {
        if in_text && line[at] == b'\\' {
            out.extend_from_slice(&line[at..(at + 2).min(line.len())]);
            at += 2;
            continue;
        }
        in_text ^= line[at] == b'"';
        match BARE.iter().find(|(word, _)| !in_text && line[at..].starts_with(word.as_bytes())) {
            Some((word, stands_for)) => {
                out.extend_from_slice(stands_for.as_bytes());
                at += word.len();
                any = true;
            }
            None => {
                out.push(line[at]);
                at += 1;
            }
        }
    }
    any.then_some(out)
}

/// A value as a cell.
fn put_cell(value: &RawValue, cell: &mut Vec<u8>) {
    let raw = value.get();
    let plain = raw.starts_with('"').then(|| serde_json::from_str::<String>(raw).ok()).flatten();
    match plain {
        Some(text) if matches!(kind_of(text.as_bytes()), Kind::Text | Kind::Date) => cell.extend_from_slice(text.as_bytes()),
        _ if raw == "null" => {}
        _ if BARE.iter().any(|(_, stands_for)| raw == *stands_for) => {
            let word = BARE.iter().find(|(_, stands_for)| raw == *stands_for).map_or("", |(word, _)| word);
            cell.extend_from_slice(word.as_bytes());
        }
        _ => cell.extend_from_slice(raw.as_bytes()),
    }
}

impl Rows for JsonLines<'_> {
    fn next(&mut self, row: &mut Row) -> Result<bool, TableError> {
        let Some(object) = self.lines.object(self.table)? else { return Ok(false) };
        self.cells.iter_mut().for_each(Vec::clear);
        for (name, value) in &object {
            if let Some(cell) = self.places.get(name).and_then(|at| self.cells.get_mut(*at)) {
                put_cell(value, cell);
            }
        }
        row.clear();
        row.line = self.lines.number;
        self.cells.iter().for_each(|cell| row.push(cell));
        Ok(true)
    }

    fn oddities(&self) -> Oddities {
        Oddities { encoding: self.encoding.clone(), ..Oddities::default() }
    }
}
