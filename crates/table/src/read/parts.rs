//! A table in many files: a folder whose files hold rows of the same columns. The names of folders between may hold
//! cells too, as in `year=2026/part-0.parquet`, which is how Apache Hive and whatever came after it lay out tables.

use indexmap::IndexSet;

use super::source::{Opened, Origin, Table};
use crate::{Oddities, Row, Rows, TableError};

/// How a folder is named whose cell is missing.
const NOTHING: &str = "__HIVE_DEFAULT_PARTITION__";

/// A file of a table.
#[derive(Clone)]
pub struct Part<'s> {
    /// Its path below the folder.
    pub path: String,
    /// Its rows.
    pub table: Table<'s>,
}

/// `%2F` in a name stands for `/`, and so on (RFC 3986).
fn unescaped(text: &str) -> String {
    let (mut out, mut rest) = (Vec::new(), text.as_bytes());
    while let Some((&byte, after)) = rest.split_first() {
        let code = after.get(..2).and_then(|h| std::str::from_utf8(h).ok()).and_then(|h| u8::from_str_radix(h, 16).ok());
        match (byte, code) {
            (b'%', Some(code)) => {
                out.push(code);
                rest = &after[2..];
            }
            _ => {
                out.push(byte);
                rest = after;
            }
        }
    }
    String::from_utf8_lossy(&out).into_owned()
}

/// The cells that the names of the folders of a path hold: columns and values.
pub(super) fn cells_of(path: &str) -> Vec<(String, String)> {
    let folders = path.rsplit_once('/').map_or("", |(folders, _)| folders);
    let cell = |name: &str| {
        let (column, value) = name.split_once('=').filter(|(column, _)| !column.is_empty())?;
        Some((unescaped(column), if value == NOTHING { String::new() } else { unescaped(value) }))
    };
    folders.split('/').filter_map(cell).collect()
}

/// Whether a name marks a file beside the table's own, as programs leave them: `_SUCCESS`, `.part-0.crc`.
pub(super) fn is_aside(path: &str) -> bool {
    path.split('/').any(|name| name.starts_with(['_', '.']) && !name.contains('='))
}

struct PartRows<'t> {
    parts: &'t [Part<'t>],
    next: usize,
    current: Option<Opened<'t>>,
    /// Where each column of the current part stands in the whole.
    places: Vec<usize>,
    columns: IndexSet<String>,
    /// Cells that the folders' names hold.
    fixed: Vec<(usize, String)>,
    row: Row,
    cells: Vec<Option<usize>>,
    oddities: Oddities,
}

/// Opens a table of parts. Its columns are those of all parts in the order in which they are met, then those that
/// folders' names hold.
pub(super) fn open<'t>(parts: &'t [Part<'t>]) -> Result<Opened<'t>, TableError> {
    let mut columns: IndexSet<String> = IndexSet::new();
    for part in parts {
        columns.extend(part.table.open()?.columns);
    }
    for (column, _) in parts.iter().flat_map(|part| cells_of(&part.path)) {
        columns.insert(column);
    }
    let names = columns.iter().cloned().collect();
    let rows = PartRows {
        parts,
        next: 0,
        current: None,
        places: Vec::new(),
        columns,
        fixed: Vec::new(),
        row: Row::default(),
        cells: Vec::new(),
        oddities: Oddities::default(),
    };
    Ok(Opened { columns: names, rows: Box::new(rows) })
}

impl PartRows<'_> {
    /// Opens the next part; `false` at the end.
    fn go_on(&mut self) -> Result<bool, TableError> {
        if let Some(done) = self.current.take() {
            self.oddities.add(&done.rows.oddities());
        }
        let Some(part) = self.parts.get(self.next) else { return Ok(false) };
        self.next += 1;
        let opened = part.table.open()?;
        let place = |name: &String| self.columns.get_index_of(name);
        self.places = opened.columns.iter().map(|c| place(c).unwrap_or(usize::MAX)).collect();
        self.fixed = cells_of(&part.path).into_iter().filter_map(|(c, v)| Some((place(&c)?, v))).collect();
        self.cells = vec![None; self.columns.len()];
        for (at, place) in self.places.iter().enumerate() {
            if let Some(cell) = self.cells.get_mut(*place) {
                *cell = Some(at);
            }
        }
        self.current = Some(opened);
        Ok(true)
    }
}

impl Rows for PartRows<'_> {
    fn next(&mut self, row: &mut Row) -> Result<bool, TableError> {
        loop {
            let row = match &mut self.current {
                Some(current) => current.rows.next(&mut self.row)?,
                None => false,
            };
            if row {
                break;
            }
            if !self.go_on()? {
                return Ok(false);
            }
        }
        row.clear();
        (row.line, row.part) = (self.row.line, u32::try_from(self.next - 1).unwrap_or(u32::MAX));
        for (at, cell) in self.cells.iter().enumerate() {
            // What a folder's name says holds, as for whoever wrote it there.
            match (self.fixed.iter().find(|(place, _)| *place == at), cell) {
                (Some((_, value)), _) => row.push(value.as_bytes()),
                (None, Some(from)) => row.push(self.row.cell(*from)),
                (None, None) => row.push(b""),
            }
        }
        // Fields beyond the last column of their part.
        (self.places.len()..self.row.len()).for_each(|at| row.push(self.row.cell(at)));
        Ok(true)
    }

    fn oddities(&self) -> Oddities {
        let mut all = self.oddities.clone();
        if let Some(current) = &self.current {
            all.add(&current.rows.oddities());
        }
        all
    }
}

impl<'s> Table<'s> {
    /// A table in the files of a folder, each with its path below it and where its bytes are. `None` where they make
    /// none: there is no table among them, tables of several formats, or other files that are no remarks.
    pub fn of_parts(name: &str, files: Vec<(String, Origin<'s>)>, dialect: &super::Dialect) -> Option<Table<'s>> {
        let is_remark = |path: &str| {
            let name = path.rsplit('/').next().unwrap_or(path).to_ascii_lowercase();
            let stem = name.split('.').next().unwrap_or_default();
            ["readme", "license", "licence", "copying"].contains(&stem) || name.ends_with(".md")
        };
        let mut parts: Vec<Part<'s>> = Vec::new();
        for (path, origin) in files {
            if is_aside(&path) || is_remark(&path) {
                continue;
            }
            let table = Table::with(&format!("{name}:{path}"), &path, origin, dialect).ok()?;
            if parts.first().is_some_and(|first| first.table.format() != table.format()) {
                return None;
            }
            parts.push(Part { path, table });
        }
        let first = parts.first()?.table.clone();
        parts.sort_by(|a, b| a.path.cmp(&b.path));
        let mut whole = first.elsewhere(Origin::Parts(parts.into()));
        whole.name = name.to_string();
        Some(whole)
    }

    /// Of a format in which other documents are written too: the beginning of its first file.
    pub fn is_whole_document(&self) -> Option<Vec<u8>> {
        use std::io::Read;
        let first = match &self.origin {
            Origin::Parts(parts) => &parts.first()?.table,
            _ => self,
        };
        if first.format() != super::TableFormat::JsonArray {
            return None;
        }
        let mut start = Vec::new();
        // What cannot be read is told by whoever reads all of it.
        let stream = first.stream().ok()?;
        stream.take(4096).read_to_end(&mut start).ok().map(|_| start)
    }

    /// The paths of its parts; none when it is one file.
    pub fn part_paths(&self) -> Vec<String> {
        match &self.origin {
            Origin::Parts(parts) => parts.iter().map(|p| p.path.clone()).collect(),
            Origin::Listed(listed) => listed.files.clone(),
            _ => Vec::new(),
        }
    }
}
