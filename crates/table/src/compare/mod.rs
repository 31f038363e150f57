//! Two tables row by row: exact, in one pass over each, in bounded memory.
//!
//! Both tables are dealt into parts by a hash of their keys, to disk once they outgrow memory (a hash join
//! after Kitsuregawa et al., "Application of Hash to Data Base Machine and Its Architecture", 1983), and
//! the parts are joined one by one, comparing the bytes themselves.

mod common;
mod join;
mod keyed;
mod partition;
mod pattern;
mod renamed;

use std::path::Path;

use rayon::prelude::*;
use serde::Serialize;

use super::kind::{KindCounts, kind_of};
use super::schema::{SchemaDiff, compare_schemas};
use super::{Oddities, Opened, Row, Table, TableError};
pub use common::Hint;
use join::Tally;
use partition::{PARTS, Partitioner};
pub use pattern::Pattern;
use renamed::Only;

/// How to compare.
#[derive(Clone, Debug, Default)]
pub struct CompareOptions {
    /// The columns that tell rows apart; empty: whole rows are compared.
    pub key: Vec<String>,
    /// Beside the key, only these columns count; empty: all that both have.
    pub columns: Vec<String>,
    /// So many examples of each kind of difference.
    pub examples: usize,
    /// Numbers that differ by no more than this, of the larger of them or of 1, are the same; 0: only equal ones are.
    pub within: f64,
    /// Tables that are together larger than this (in bytes) go to disk; 48 MiB unless said.
    pub memory: Option<u64>,
}

/// How rows were told apart.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "by", rename_all = "lowercase")]
pub enum Identity {
    /// By these columns.
    Key {
        /// The columns.
        columns: Vec<String>,
        /// Some rows have the same key: they are compared as whole rows.
        #[serde(skip_serializing_if = "Option::is_none")]
        but: Option<NoKey>,
    },
    /// As whole rows, of which there may be several alike.
    Rows {
        /// Why not by the key that there is.
        #[serde(skip_serializing_if = "Option::is_none")]
        because: Option<NoKey>,
    },
}

/// Why a key does not tell rows apart.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "why", rename_all = "lowercase")]
pub enum NoKey {
    /// A table does not have the column.
    Absent {
        /// The column.
        column: String,
        /// The table.
        table: String,
    },
    /// Several rows have the same key.
    Twice {
        /// The table.
        table: String,
        /// Rows whose key a row before them had.
        rows: u64,
        /// Some of the keys, each with the lines that have it first.
        examples: Vec<(String, u64, u64)>,
    },
}

/// A cell that differs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct CellChange {
    /// The column.
    pub column: String,
    /// What it was.
    pub from: String,
    /// What it is.
    pub to: String,
}

/// A row that differs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Example {
    /// The key's cells; of a row told apart as a whole, all its cells.
    pub key: Vec<String>,
    /// Line in the first table, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub old_line: Option<u64>,
    /// Line in the second table, from 1.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub new_line: Option<u64>,
    /// Of a table in several files: the file of the first table that has the line.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub old_file: Option<String>,
    /// The same of the second table.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub new_file: Option<String>,
    /// The cells that differ.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub cells: Vec<CellChange>,
}

/// The changed cells of one column.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ColumnChange {
    /// The column.
    pub column: String,
    /// Cells that differ.
    pub cells: u64,
    /// What nearly all of them have in common.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub pattern: Option<Pattern>,
}

/// How two tables differ.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct RowsDiff {
    /// How rows were told apart.
    pub identity: Identity,
    /// Rows of the first table.
    pub old_rows: u64,
    /// Rows of the second table.
    pub new_rows: u64,
    /// Rows that only the second has.
    pub added: u64,
    /// Rows that only the first has.
    pub removed: u64,
    /// Rows that both have, with other cells.
    pub changed: u64,
    /// Rows whose numbers differ by less than what counts.
    pub near: u64,
    /// Changed cells by column, most first.
    pub columns: Vec<ColumnChange>,
    /// How the columns differ.
    pub schema: SchemaDiff,
    /// What all changed rows have and others have not: columns and their value.
    pub common_changed: Vec<(String, String)>,
    /// The same of rows added.
    pub common_added: Vec<(String, String)>,
    /// The same of rows removed.
    pub common_removed: Vec<(String, String)>,
    /// What most changed rows have and few others: columns and values.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub hints_changed: Vec<Hint>,
    /// The same of rows added.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub hints_added: Vec<Hint>,
    /// The same of rows removed.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub hints_removed: Vec<Hint>,
    /// Some of the changed rows, by their line.
    pub examples_changed: Vec<Example>,
    /// Some of the rows added.
    pub examples_added: Vec<Example>,
    /// Some of the rows removed.
    pub examples_removed: Vec<Example>,
    /// What is odd about the first table.
    pub old_oddities: Oddities,
    /// What is odd about the second table.
    pub new_oddities: Oddities,
}

impl RowsDiff {
    /// Whether the tables hold the same rows and columns.
    pub fn is_same(&self) -> bool {
        self.added + self.removed + self.changed == 0 && self.schema.is_empty()
    }
}

/// One table read and dealt into parts.
struct Side {
    dealer: Partitioner,
    rows: u64,
    kinds: Vec<KindCounts>,
    oddities: Oddities,
    only: Only,
}

/// The columns that are compared: their names, and where they are in each table.
pub(crate) struct Layout {
    /// Names of the compared columns, those of the key first.
    names: Vec<String>,
    /// How many of them are the key.
    keys: usize,
    /// Numbers that are no further apart are the same.
    within: f64,
}

/// How rows of both tables find one another.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Joining {
    Key,
    /// But for those whose key is there twice.
    SingleKeys,
    Rows,
}

/// Keys that are there twice are a flaw in the data, not of the key, where no more rows than one in this many have one.
const FEW_DOUBLED: u64 = 10;

fn check_columns(table: &Table<'_>, columns: &[String], wanted: &[String]) -> Result<(), TableError> {
    match wanted.iter().find(|w| !columns.contains(w)) {
        None => Ok(()),
        Some(column) => Err(TableError::NoColumn {
            table: table.name.clone(),
            column: column.clone(),
            near: textum_base::nearest(column, columns.iter().map(String::as_str)).map(str::to_string),
            columns: columns.to_vec(),
        }),
    }
}

/// A file has fewer lines than two to the power of this: the number of the file stands above them until the end.
const LINE_BITS: u32 = 40;

/// Parts the numbers of files from those of lines.
fn name_files(examples: &mut [Example], [old, new]: [&[String]; 2]) {
    let part = |line: &mut Option<u64>, files: &[String]| {
        let whole = line.as_mut()?;
        let file = usize::try_from(*whole >> LINE_BITS).ok().and_then(|at| files.get(at)).cloned();
        *whole &= (1 << LINE_BITS) - 1;
        file
    };
    for example in examples {
        example.old_file = part(&mut example.old_line, old);
        example.new_file = part(&mut example.new_line, new);
    }
}

/// Reads a table to its end: the compared cells of each row go to the part of its key.
fn partition(mut opened: Opened<'_>, layout: &Layout, mut dealer: Partitioner, mut only: Only) -> Result<Side, TableError> {
    let width = opened.columns.len();
    let places: Vec<usize> = layout.names.iter().filter_map(|n| opened.columns.iter().position(|c| c == n)).collect();
    let mut kinds = vec![KindCounts::default(); width];
    let mut row = Row::default();
    let mut rows = 0;
    while opened.rows.next(&mut row)? {
        rows += 1;
        for (at, kind) in kinds.iter_mut().enumerate() {
            kind.add(kind_of(row.cell(at)));
        }
        row.line |= u64::from(row.part) << LINE_BITS;
        let hash = dealer.partition(&row, &places, layout.keys, width)?;
        // Without a key rows are the same by their places.
        only.take(&row, if layout.keys > 0 { hash } else { u64::wrapping_mul(rows, 0x9E37_79B9_7F4A_7C15) });
    }
    dealer.settle()?;
    Ok(Side { dealer, rows, kinds, oddities: opened.rows.oddities(), only })
}

/// Compares two tables. What does not fit into memory goes to nameless files in `scratch`.
pub fn compare(old: &Table<'_>, new: &Table<'_>, options: &CompareOptions, scratch: &Path) -> Result<RowsDiff, TableError> {
    let (a, b) = (old.open()?, new.open()?);
    let (old_columns, new_columns) = (a.columns.clone(), b.columns.clone());
    let absent = [(old, &old_columns), (new, &new_columns)].into_iter().find_map(|(table, columns)| {
        // A table without any row has no key to tell of.
        let column = options.key.iter().find(|k| !columns.is_empty() && !columns.contains(k))?;
        Some(NoKey::Absent { column: column.clone(), table: table.name.clone() })
    });
    let either: Vec<String> = old_columns.iter().chain(&new_columns).cloned().collect();
    check_columns(new, &either, &options.columns)?;
    let both = |name: &&String| old_columns.contains(name) && new_columns.contains(name);
    let key: Vec<String> = if absent.is_none() { options.key.clone() } else { Vec::new() };
    let counts = |name: &&String| options.columns.is_empty() || options.columns.contains(name);
    let others = old_columns.iter().filter(both).filter(|n| !key.contains(n)).filter(counts);
    let keys = key.len();
    let names: Vec<String> = key.iter().filter(both).cloned().chain(others.cloned()).collect();
    let layout = Layout { keys: keys.min(names.len()), names, within: options.within };
    let hasher = foldhash::quality::RandomState::default();
    let large = old.size_hint() + new.size_hint() > options.memory.unwrap_or(partition::IN_MEMORY);
    let [ours, theirs] = [(); 2].map(|()| Partitioner::new(scratch, large, hasher.clone()));
    let [mine, others] = [(&old_columns, &new_columns), (&new_columns, &old_columns)].map(|(x, y)| Only::of(x, y));
    let (a, b) = rayon::join(|| partition(a, &layout, ours, mine), || partition(b, &layout, theirs, others));
    let (a, b) = (a?, b?);
    let by_key = layout.keys > 0;
    let mut joining = if by_key { Joining::Key } else { Joining::Rows };
    let mut tally = join_all(&a, &b, &layout, options.examples, joining, scratch)?;
    let mut because = absent;
    let twice = tally.twice.iter().position(|t| t.rows > 0);
    if let (true, Some(side)) = (by_key, twice) {
        let table = [old, new][side].name.clone();
        let found = &tally.twice[side];
        because = Some(NoKey::Twice { table, rows: found.rows, examples: found.examples.clone() });
        let is_flaw = tally.twice[0].rows * FEW_DOUBLED <= a.rows && tally.twice[1].rows * FEW_DOUBLED <= b.rows;
        joining = if is_flaw { Joining::SingleKeys } else { Joining::Rows };
        tally = join_all(&a, &b, &layout, options.examples, joining, scratch)?;
    }
    if let Some(NoKey::Twice { examples, .. }) = &mut because {
        examples.iter_mut().for_each(|(_, a, b)| [a, b].into_iter().for_each(|line| *line &= (1 << LINE_BITS) - 1));
    }
    let identity = match joining {
        Joining::Key | Joining::SingleKeys => Identity::Key { columns: layout.names[..layout.keys].to_vec(), but: because },
        Joining::Rows => Identity::Rows { because },
    };
    let mut columns: Vec<ColumnChange> = tally.columns(&layout.names);
    columns.sort_by_key(|c| std::cmp::Reverse(c.cells));
    let common = |kind| tally.common(kind, &layout.names, if by_key { layout.keys } else { 0 });
    let [common_changed, common_added, common_removed] = [join::CHANGED, join::ADDED, join::REMOVED].map(common);
    // The rows that are met: those of the second table, and those that only the first has.
    let of = b.rows + tally.removed;
    let hints = |kind| tally.hints(kind, &layout.names, if by_key { layout.keys } else { 0 }, of);
    let [hints_changed, hints_added, hints_removed] = [join::CHANGED, join::ADDED, join::REMOVED].map(hints);
    let mut schema = compare_schemas((&old_columns, &a.kinds), (&new_columns, &b.kinds));
    schema.rename(renamed::renamed(&a.only, &b.only));
    let files = [old.part_paths(), new.part_paths()];
    let named = |examples: join::Examples| {
        let mut examples = examples.done();
        name_files(&mut examples, [&files[0], &files[1]]);
        examples
    };
    Ok(RowsDiff {
        identity,
        old_rows: a.rows,
        new_rows: b.rows,
        added: tally.added,
        removed: tally.removed,
        changed: tally.changed,
        near: tally.near,
        columns,
        schema,
        common_changed,
        common_added,
        common_removed,
        hints_changed,
        hints_added,
        hints_removed,
        examples_changed: named(tally.examples_changed),
        examples_added: named(tally.examples_added),
        examples_removed: named(tally.examples_removed),
        old_oddities: a.oddities,
        new_oddities: b.oddities,
    })
}

fn join_all(a: &Side, b: &Side, layout: &Layout, examples: usize, joining: Joining, scratch: &Path) -> Result<Tally, TableError> {
    let failed = |source| TableError::NoRoom { folder: scratch.to_path_buf(), source };
    (0..PARTS)
        .into_par_iter()
        .map(|part| {
            let mut tally = Tally::new(layout.names.len(), examples);
            // A part that is still large is joined in several goes over it.
            let goes = partition::goes(a.dealer.length(part) + b.dealer.length(part));
            for go in 0..goes {
                let old = a.dealer.part(part, go, goes).map_err(failed)?;
                let new = b.dealer.part(part, go, goes).map_err(failed)?;
                match joining {
                    Joining::Key => tally.join_by_key(&old, &new, layout),
                    Joining::SingleKeys => tally.join_by_single_keys(&old, &new, layout),
                    Joining::Rows => tally.join_rows(&old, &new, layout, layout.names.len()),
                }
            }
            Ok(tally)
        })
        .try_reduce(|| Tally::new(layout.names.len(), examples), |x, y| Ok(x.merge(y)))
}
