//! The columns of a table in figures: exact, in two passes at most and bounded memory.

mod column;
mod drift;
mod relation;

use std::path::Path;

use rayon::prelude::*;
use serde::Serialize;

use super::{Oddities, Row, Table, TableError};
use column::Gathered;
pub use column::{ColumnProfile, Frequent, Histogram, Numbers};
pub use drift::{Drift, DriftMeasure};
use relation::Relating;
pub use relation::Relation;

/// Bytes of memory for the values of all columns before they go to disk.
const MEMORY: usize = 64 << 20;

/// What is to be said beside the columns' own figures.
#[derive(Clone, Debug, Default)]
pub struct ProfileOptions {
    /// The column that others are related to.
    pub target: Option<String>,
    /// How many of the most frequent values are told.
    pub frequent: usize,
}

/// A table in figures.
#[derive(Clone, Debug, Serialize)]
pub struct Profile {
    /// Number of rows.
    pub rows: u64,
    /// The columns, in their order.
    pub columns: Vec<ColumnProfile>,
    /// What is odd about the table.
    pub oddities: Oddities,
}

struct Read {
    rows: u64,
    columns: Vec<Gathered>,
    oddities: Oddities,
}

fn read(table: &Table<'_>, target: Option<&str>, scratch: &Path) -> Result<Read, TableError> {
    let mut opened = table.open()?;
    let names = opened.columns.clone();
    let target = match target {
        Some(target) => Some(names.iter().position(|n| n == target).ok_or_else(|| TableError::NoColumn {
            table: table.name.clone(),
            column: target.to_string(),
            near: textum_base::nearest(target, names.iter().map(String::as_str)).map(str::to_string),
            columns: names.clone(),
        })?),
        None => None,
    };
    let each = MEMORY / 16 / names.len().max(1);
    let mut columns: Vec<Gathered> = names.iter().map(|n| Gathered::new(n, scratch, each)).collect();
    if let Some(target) = target {
        columns.iter_mut().enumerate().filter(|(i, _)| *i != target).for_each(|(_, c)| c.relating = Some(Relating::default()));
    }
    let no_room = |source| TableError::NoRoom { folder: scratch.to_path_buf(), source };
    let mut row = Row::default();
    let mut rows = 0;
    while opened.rows.next(&mut row)? {
        rows += 1;
        for (at, column) in columns.iter_mut().enumerate() {
            column.add(row.cell(at), target.map(|t| row.cell(t))).map_err(no_room)?;
        }
    }
    Ok(Read { rows, columns, oddities: opened.rows.oddities() })
}

/// Makes the profile of a table; with `against`, how each column has drifted from that one.
pub fn profile(
    table: &Table<'_>,
    against: Option<&Table<'_>>,
    options: &ProfileOptions,
    scratch: &Path,
) -> Result<Profile, TableError> {
    let no_room = |source| TableError::NoRoom { folder: scratch.to_path_buf(), source };
    let (mine, theirs) = rayon::join(
        || read(table, options.target.as_deref(), scratch),
        || against.map(|against| read(against, None, scratch)).transpose(),
    );
    let (mine, theirs) = (mine?, theirs?);
    let settle = |columns: Vec<Gathered>| {
        columns.into_par_iter().map(|c| c.settle(options.frequent)).collect::<std::io::Result<Vec<_>>>().map_err(no_room)
    };
    let (mut settled, base) = (settle(mine.columns)?, settle(theirs.map_or(Vec::new(), |t| t.columns))?);
    // Values that are too many to be kept are told from their hashes, and read once more.
    if settled.iter().any(|c| !c.unnamed.is_empty()) {
        let mut opened = table.open()?;
        let mut row = Row::default();
        while opened.rows.next(&mut row)? {
            settled.iter_mut().enumerate().for_each(|(at, column)| column.name(row.cell(at)));
        }
        settled.iter_mut().for_each(|column| column::order(&mut column.profile.frequent, options.frequent));
    }
    let columns = settled
        .par_iter()
        .map(|column| {
            let mut profile = column.profile.clone();
            profile.drift = base.iter().find(|b| b.profile.name == profile.name).map(|base| drift::between(base, column));
            profile
        })
        .collect();
    Ok(Profile { rows: mine.rows, columns, oddities: mine.oddities })
}
