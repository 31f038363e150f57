//! The columns of a table in figures: exact, in two passes at most and bounded memory.

mod column;
mod drift;
mod relation;

use std::path::Path;

use rayon::prelude::*;
use serde::Serialize;

use super::read::ByColumn;
use super::{Oddities, Row, Rows, Table, TableError};
pub use column::{ColumnProfile, Frequent, Histogram, Numbers};
use column::{Gathered, Settled};
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

/// So many rows are taken in at once, at most.
const TOGETHER: usize = 2048;
/// Once it holds so many bytes a batch takes no more rows.
const FULL: usize = 2 << 20;

/// Some rows, whose memory is used again.
#[derive(Default)]
struct Batch {
    rows: Vec<Row>,
    filled: usize,
}

impl Batch {
    fn fill(&mut self, from: &mut dyn Rows) -> Result<(), TableError> {
        self.filled = 0;
        let mut bytes = 0;
        while self.filled < TOGETHER && bytes < FULL {
            if self.rows.len() == self.filled {
                self.rows.push(Row::default());
            }
            let row = &mut self.rows[self.filled];
            if !from.next(row)? {
                break;
            }
            bytes += row.bytes().len();
            self.filled += 1;
        }
        Ok(())
    }

    fn rows(&self) -> impl Iterator<Item = &Row> {
        self.rows[..self.filled].iter()
    }
}

/// So much as fits into memory of each of so many columns.
fn share(columns: usize) -> usize {
    MEMORY / 16 / columns.max(1)
}

/// Reads each column by itself, side by side.
fn read_by_column(table: &ByColumn<'_>, scratch: &Path) -> Result<Read, TableError> {
    let no_room = |source| TableError::NoRoom { folder: scratch.to_path_buf(), source };
    let each = share(table.columns.len());
    let gather = |(at, name): (usize, &String)| {
        let mut column = Gathered::new(name, scratch, each);
        table.each(at, &mut |value| column.add_value(value).map_err(no_room))?;
        Ok(column)
    };
    let columns = table.columns.par_iter().enumerate().map(gather).collect::<Result<_, TableError>>()?;
    Ok(Read { rows: table.rows, columns, oddities: Oddities::default() })
}

fn read(table: &Table<'_>, target: Option<&str>, scratch: &Path) -> Result<Read, TableError> {
    if let (None, Some(by_column)) = (target, table.by_column()?) {
        return read_by_column(&by_column, scratch);
    }
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
    let each = share(names.len());
    let mut columns: Vec<Gathered> = names.iter().map(|n| Gathered::new(n, scratch, each)).collect();
    if let Some(target) = target {
        columns.iter_mut().enumerate().filter(|(i, _)| *i != target).for_each(|(_, c)| c.relating = Some(Relating::default()));
    }
    let no_room = |source| TableError::NoRoom { folder: scratch.to_path_buf(), source };
    let (mut current, mut next) = (Batch::default(), Batch::default());
    let mut rows = 0;
    current.fill(&mut *opened.rows)?;
    while current.filled > 0 {
        rows += current.filled as u64;
        // The next rows are read while those of now are taken in, column beside column.
        let (filled, taken) = rayon::join(
            || next.fill(&mut *opened.rows),
            || {
                columns.par_iter_mut().enumerate().try_for_each(|(at, column)| {
                    current.rows().try_for_each(|row| column.add(row.cell(at), target.map(|t| row.cell(t))))
                })
            },
        );
        taken.map_err(no_room)?;
        filled?;
        std::mem::swap(&mut current, &mut next);
    }
    Ok(Read { rows, columns, oddities: opened.rows.oddities() })
}

/// Finds the texts of frequent values that are known by their hashes.
fn name_frequent(table: &Table<'_>, settled: &mut [Settled]) -> Result<(), TableError> {
    if let Some(by_column) = table.by_column()? {
        return settled.par_iter_mut().enumerate().filter(|(_, c)| !c.unnamed.is_empty()).try_for_each(|(at, column)| {
            by_column.each(at, &mut |value| {
                column.name_value(value);
                Ok(())
            })
        });
    }
    let mut opened = table.open()?;
    let mut row = Row::default();
    while opened.rows.next(&mut row)? {
        settled.iter_mut().enumerate().for_each(|(at, column)| column.name(row.cell(at)));
    }
    Ok(())
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
        name_frequent(table, &mut settled)?;
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
