//! Apache Arrow's own format in a Textum that was built without it: said, not taken for something else.

use std::fs::File;

use super::source::{Opened, Table};
use crate::TableError;

fn left_out(table: &Table<'_>) -> TableError {
    let what = "it is in the format of Apache Arrow, which this Textum was built without: build it with `--features arrow`";
    TableError::Malformed { name: table.name.clone(), line: None, what: what.into() }
}

pub(super) fn open<'t>(table: &'t Table<'_>, _file: File) -> Result<Opened<'t>, TableError> {
    Err(left_out(table))
}

pub(super) fn count(table: &Table<'_>, _file: File) -> Result<u64, TableError> {
    Err(left_out(table))
}
