//! Texts: whole lines go, the others stay byte for byte.

use std::io::{BufRead, BufReader, Write};
use std::path::Path;

use textum_base::fsio::IoError;

use super::Away;
use crate::{Table, TableError};

/// Copies a table's bytes but for these lines; `path` is what is written to, for messages.
pub fn write(table: &Table<'_>, lines: &[(u64, u64)], path: &Path, mut to: impl Write, away: Away<'_>) -> Result<(), TableError> {
    let full = |e| TableError::from(IoError::of("write", path)(e));
    let mut from = BufReader::with_capacity(1 << 17, table.stream()?);
    let mut out = Vec::with_capacity(1 << 17);
    let (mut line, mut number, mut next, mut row) = (Vec::new(), 0u64, 0, Vec::new());
    loop {
        line.clear();
        if from.read_until(b'\n', &mut line).map_err(|e| table.failed(e))? == 0 {
            break;
        }
        number += 1;
        while lines.get(next).is_some_and(|(_, end)| number >= *end) {
            away(trimmed(&row));
            row.clear();
            next += 1;
        }
        if lines.get(next).is_some_and(|(first, _)| number >= *first) {
            row.extend_from_slice(&line);
            continue;
        }
        out.extend_from_slice(&line);
        if out.len() >= 1 << 17 {
            to.write_all(&out).map_err(full)?;
            out.clear();
        }
    }
    if !row.is_empty() {
        away(trimmed(&row));
    }
    to.write_all(&out).map_err(full)?;
    to.flush().map_err(full)
}

fn trimmed(row: &[u8]) -> &[u8] {
    let end = row.iter().rposition(|b| !matches!(b, b'\n' | b'\r')).map_or(0, |at| at + 1);
    &row[..end]
}
