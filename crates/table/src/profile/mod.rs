//! The columns of a table in figures: exact, in two passes at most and bounded memory.

mod column;
mod drift;
mod relation;

use std::collections::HashSet;
use std::path::Path;

use rayon::prelude::*;
use serde::Serialize;

use super::kind::{Kind, kind_of};
use super::read::ByColumn;
use super::sorted::Gather;
use super::{Oddities, Row, Rows, Table, TableError};
pub use column::{ColumnProfile, Frequent, Histogram, Numbers};
use column::{Gathered, Settled};
pub use drift::{CHANCE, Drift, DriftMeasure};
use relation::Relating;
pub use relation::Relation;

/// Bytes of memory for the values of all columns before they go to disk.
const MEMORY: usize = 64 << 20;

/// What is to be said beside the columns' own figures.
#[derive(Clone, Debug, Default)]
pub struct ProfileOptions {
    /// The column that others are related to.
    pub target: Option<String>,
    /// What the target's values are; told from them unless said.
    pub target_kind: Option<TargetKind>,
    /// How many of the most frequent values are told.
    pub frequent: usize,
    /// Whether each column is related to each other one.
    pub pairs: bool,
    /// Whether rows that are there more than once are counted.
    pub duplicates: bool,
}

/// What the values of a target are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum TargetKind {
    /// Quantities.
    Number,
    /// Names of classes, though they be written as numbers.
    Classes,
}

/// How strongly two columns go with one another.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Pair {
    /// One of them.
    pub a: String,
    /// The other.
    pub b: String,
    /// How strongly.
    #[serde(flatten)]
    pub relation: Relation,
}

/// A table in figures.
#[derive(Clone, Debug, Serialize)]
pub struct Profile {
    /// Number of rows.
    pub rows: u64,
    /// Rows that are the same as one before them; not known of a table that was read by columns only.
    pub duplicates: Option<u64>,
    /// What the target's values were taken for.
    pub target_kind: Option<TargetKind>,
    /// The columns, in their order.
    pub columns: Vec<ColumnProfile>,
    /// How each two columns go with one another, the strongest first, if that was asked for.
    pub pairs: Vec<Pair>,
    /// What is odd about the table.
    pub oddities: Oddities,
}

struct Read {
    rows: u64,
    columns: Vec<Gathered>,
    pairs: Vec<(usize, usize, Relating)>,
    duplicates: Option<u64>,
    target_kind: Option<TargetKind>,
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
    let (pairs, duplicates, target_kind) = (Vec::new(), None, None);
    Ok(Read { rows: table.rows, columns, pairs, duplicates, target_kind, oddities: Oddities::default() })
}

/// So many rows tell what a target's values are.
const FIRST_ROWS: usize = 10_000;
/// Numbers are names of classes where there are no more of them, and each is there several times.
const MOST_CLASSES: usize = 20;

/// What the values of a column are: few whole numbers, again and again, are names.
fn kind_of_target(table: &Table<'_>, at: usize) -> Result<TargetKind, TableError> {
    let mut opened = table.open()?;
    let (mut row, mut met, mut rows) = (Row::default(), HashSet::new(), 0);
    while rows < FIRST_ROWS && opened.rows.next(&mut row)? {
        let cell = row.cell(at);
        match kind_of(cell) {
            Kind::Missing => continue,
            Kind::Number => return Ok(TargetKind::Number),
            _ => {}
        }
        rows += 1;
        if met.len() <= MOST_CLASSES {
            met.insert(cell.to_vec());
        }
    }
    // Of two classes it makes no difference; the sign of r tells more.
    let are_numbers = met.iter().all(|cell| kind_of(cell) == Kind::Integer);
    let few = met.len() <= MOST_CLASSES && rows >= 5 * met.len();
    Ok(if are_numbers && (!few || met.len() <= 2) { TargetKind::Number } else { TargetKind::Classes })
}

fn read(table: &Table<'_>, options: &ProfileOptions, scratch: &Path) -> Result<Read, TableError> {
    let by_rows = options.target.is_some() || options.pairs || options.duplicates;
    if let (false, Some(by_column)) = (by_rows, table.by_column()?) {
        return read_by_column(&by_column, scratch);
    }
    let mut opened = table.open()?;
    let names = opened.columns.clone();
    let target = match options.target.as_deref() {
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
    let target_kind = match (target, options.target_kind) {
        (None, _) => None,
        (_, Some(said)) => Some(said),
        (Some(at), None) => Some(kind_of_target(table, at)?),
    };
    if let Some(target) = target {
        let relating = || Relating::to(target_kind == Some(TargetKind::Classes));
        columns.iter_mut().enumerate().filter(|(i, _)| *i != target).for_each(|(_, c)| c.relating = Some(relating()));
    }
    let each_two = (0..if options.pairs { names.len() } else { 0 }).flat_map(|a| (a + 1..names.len()).map(move |b| (a, b)));
    let mut pairs: Vec<(usize, usize, Relating)> = each_two.map(|(a, b)| (a, b, Relating::default())).collect();
    let mut whole = options.duplicates.then(|| Gather::new(scratch, MEMORY / 16));
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
                })?;
                pairs.par_iter_mut().for_each(|(a, b, pair)| {
                    current.rows().for_each(|row| pair.add(row.cell(*a), kind_of(row.cell(*a)), row.cell(*b)));
                });
                match &mut whole {
                    Some(whole) => current.rows().try_for_each(|row| whole.push(row.hash())),
                    None => Ok(()),
                }
            },
        );
        taken.map_err(no_room)?;
        filled?;
        std::mem::swap(&mut current, &mut next);
    }
    let again = |whole: Gather| whole.finish().map(|sorted| sorted.counted().map(|(_, count)| count - 1).sum());
    let duplicates = whole.map(again).transpose().map_err(no_room)?;
    Ok(Read { rows, columns, pairs, duplicates, target_kind, oddities: opened.rows.oddities() })
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
        || read(table, options, scratch),
        || against.map(|against| read(against, &ProfileOptions::default(), scratch)).transpose(),
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
    let name = |at: usize| settled.get(at).map(|c| c.profile.name.clone()).unwrap_or_default();
    let related = mine.pairs.iter().filter_map(|(a, b, pair)| Some(Pair { a: name(*a), b: name(*b), relation: pair.relation()? }));
    let mut pairs: Vec<Pair> = related.collect();
    pairs.sort_by(|a, b| b.relation.value.abs().total_cmp(&a.relation.value.abs()));
    let mut columns: Vec<ColumnProfile> = settled
        .par_iter()
        .map(|column| {
            let mut profile = column.profile.clone();
            let base = base.iter().find(|b| b.profile.name == profile.name && !(b.profile.identifier && profile.identifier));
            profile.drift = base.map(|base| drift::between(base, column));
            profile
        })
        .collect();
    drift::correct(&mut columns.iter_mut().filter_map(|c| c.drift.as_mut()).collect::<Vec<_>>());
    let (rows, duplicates, target_kind, oddities) = (mine.rows, mine.duplicates, mine.target_kind, mine.oddities);
    Ok(Profile { rows, duplicates, target_kind, columns, pairs, oddities })
}
