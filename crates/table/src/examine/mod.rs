//! Rules held against a table: how many rows break each, and the first of them.
//!
//! Each table is read twice at most for rules on its rows, in bounded memory: the first time rows are known by hashes
//! of 64 bits, sorted beyond memory; the second time those that have the same hash are told apart by their cells.

mod alike;
mod key;
mod pictures;
mod propose;
mod rows;
mod rule;
mod whole;

use std::collections::BTreeMap;
use std::path::Path;

use serde::Serialize;

pub use key::Key;
pub use propose::{CATEGORIES, propose};
pub use rule::{AGAINST, Bounds, Demand, Figure, Likeness, Rule, parse};

use crate::filter::FilterError;
use crate::{Oddities, Row, Table, TableError};

/// Why rules could not be held against a table.
#[derive(Debug, thiserror::Error)]
pub enum ExamineError {
    /// A table could not be read.
    #[error(transparent)]
    Table(#[from] TableError),
    /// A rule names what is not there.
    #[error("the rule `{rule}`: {source}")]
    Rule {
        /// The rule.
        rule: String,
        /// What is wrong with it.
        source: FilterError,
    },
    /// A rule names a table that was not given.
    #[error("the rule `{rule}` holds against `{table}`, which is not there")]
    NoTable {
        /// The rule.
        rule: String,
        /// The table.
        table: String,
    },
}

/// Where a row stands.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Place {
    /// The file, of a table in several.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// Its line, from 1; 0 where the row is the file.
    pub line: u64,
}

impl std::fmt::Display for Place {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let space = if self.line == 0 { "" } else { " " };
        self.file.iter().try_for_each(|file| write!(f, "{file}{space}"))?;
        match (&self.file, self.line) {
            // The row is the file.
            (Some(_), 0) => Ok(()),
            _ => write!(f, "line {}", self.line),
        }
    }
}

/// A row that breaks a rule.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Breaking {
    /// Where it stands.
    #[serde(flatten)]
    pub place: Place,
    /// The cells that the rule is about: columns and values.
    pub cells: Vec<(String, String)>,
    /// The row that it is like: in the table itself, or in the other one.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub like: Option<Place>,
}

/// What is amiss with a column as a whole.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(tag = "what", rename_all = "lowercase")]
pub enum ColumnFault {
    /// It is not there.
    Absent {
        /// The column.
        column: String,
    },
    /// It is there and should not be.
    Beyond {
        /// The column.
        column: String,
    },
    /// It is of another type.
    Type {
        /// The column.
        column: String,
        /// What it should be.
        from: String,
        /// What it is.
        to: String,
    },
    /// Its values have drifted.
    Drift {
        /// The column.
        column: String,
        /// The population stability index, or the total variation.
        effect: f64,
        /// How probable that is by chance alone, corrected for the number of columns.
        p: f64,
    },
}

/// What a rule is judged on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum On {
    /// Each row.
    Rows,
    /// Each column.
    Columns,
    /// One figure.
    Figure,
    /// One figure that is a share, 0 to 1.
    Share,
}

/// What came of a rule.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Found {
    /// The rule, as it was written.
    pub rule: String,
    /// What it was judged on.
    pub on: On,
    /// Whether it holds; nothing where that cannot be told, as of a mean without any number.
    pub holds: Option<bool>,
    /// How many rows (of rules on columns: columns) it was judged on.
    pub of: u64,
    /// How many of them break it.
    pub breaking: u64,
    /// Rows of which it cannot be told, since a cell is missing.
    pub unknown: u64,
    /// Which share of the rows must meet it, where that is not all.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub share: Option<f64>,
    /// The figure that it is about.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub value: Option<f64>,
    /// What is amiss with columns.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub columns: Vec<ColumnFault>,
    /// The first rows that break it.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub examples: Vec<Breaking>,
}

impl Found {
    fn of_rows(rule: &Rule, of: u64, breaking: u64, unknown: u64) -> Found {
        let holds = Some(breaking == 0);
        let on = On::Rows;
        Found {
            rule: rule.text.clone(),
            on,
            holds,
            of,
            breaking,
            unknown,
            share: None,
            value: None,
            columns: vec![],
            examples: vec![],
        }
    }
}

/// A table, and what came of its rules.
#[derive(Clone, Debug, Serialize)]
pub struct Examined {
    /// Its rows.
    pub rows: u64,
    /// What came of each rule, in their order.
    pub found: Vec<Found>,
    /// What is odd about the table.
    pub oddities: Oddities,
}

/// The tables that rules may hold against, by what they are called.
pub type Others<'t> = BTreeMap<String, Table<'t>>;

/// What is examined.
pub struct Examining<'e, 't> {
    /// The table.
    pub table: &'e Table<'t>,
    /// Those that rules name.
    pub others: &'e Others<'t>,
    /// So many breaking rows are shown of each rule.
    pub examples: usize,
    /// A folder for what does not fit into memory.
    pub scratch: &'e Path,
}

impl Examining<'_, '_> {
    fn no_room(&self) -> impl Fn(std::io::Error) -> TableError + '_ {
        |source| TableError::NoRoom { folder: self.scratch.to_path_buf(), source }
    }
}

/// Reads a table row by row; what is odd about it.
fn each_row(table: &Table<'_>, mut visit: impl FnMut(&Row) -> Result<(), ExamineError>) -> Result<Oddities, ExamineError> {
    let mut opened = table.open()?;
    let mut row = Row::default();
    while opened.rows.next(&mut row)? {
        visit(&row)?;
    }
    Ok(opened.rows.oddities())
}

fn place_of(row: &Row, files: &[String]) -> Place {
    Place { file: files.get(row.part as usize).cloned(), line: row.line }
}

/// Holds rules against a table.
pub fn examine(what: &Examining<'_, '_>, rules: &[Rule]) -> Result<Examined, ExamineError> {
    for rule in rules {
        if let Some(table) = rule.tables().into_iter().find(|table| !what.others.contains_key(*table)) {
            return Err(ExamineError::NoTable { rule: rule.text.clone(), table: table.to_string() });
        }
    }
    let columns = what.table.open()?.columns;
    let mut by_rows = rows::RowRules::new(rules, &columns, what)?;
    let mut alike = alike::AlikeRules::new(rules, &columns, what)?;
    let mut pictures = pictures::PictureRules::new(rules, &columns)?;
    let files = what.table.part_paths();
    let mut rows = 0;
    let oddities = each_row(what.table, |row| {
        rows += 1;
        by_rows.take(row, &files);
        pictures.take(row, &files);
        alike.take(row).map_err(what.no_room()).map_err(ExamineError::from)
    })?;
    let mut found: BTreeMap<usize, Found> = by_rows.found();
    found.extend(alike.found(what, &files)?);
    found.extend(pictures.found(what)?);
    found.extend(whole::found(rules, &columns, rows, what)?);
    Ok(Examined { rows, found: found.into_values().collect(), oddities })
}
