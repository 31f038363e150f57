//! What all of some rows have in one column and not all rows have: where a difference comes from.
//!
//! Few rows have much in common by chance. How frequent a value is among all rows is told by a sample of them: the
//! rows with the smallest marks, so that samples of parts can be put together.

use std::collections::HashMap;

use serde::Serialize;
use statrs::distribution::{Binomial, DiscreteCDF};

use super::partition::cell_at;
use crate::row::text;

/// Values longer than this are no name for a group of rows. In bytes.
const LONGEST: usize = 64;

/// So many rows of all are kept. A table of fewer is its own sample.
const SAMPLE: usize = 512;

/// A value is a hint where at least this share of the rows has it, and so many times that of the others.
const MOST_OF: f64 = 0.5;
/// So many times as frequent as among all rows.
const LIFT: f64 = 2.0;

/// A value that many of some rows have, and few of the others.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Hint {
    /// The column.
    pub column: String,
    /// The value.
    pub value: String,
    /// Which share of these rows has it, by a sample of them where they are many.
    pub share: f64,
    /// Which share of the other rows.
    pub of_others: f64,
    /// How probable it is that chance alone gives any value of any column so many of these rows.
    pub p: f64,
}

/// How probable it may be that chance alone gives any of the columns such a value in common.
const CHANCE: f64 = 0.01;

/// Rows taken at random: those with the smallest marks.
#[derive(Clone, Debug)]
pub struct RowSample {
    below: u64,
    kept: Vec<(u64, Box<[u8]>)>,
}

impl Default for RowSample {
    fn default() -> RowSample {
        RowSample { below: u64::MAX, kept: Vec::new() }
    }
}

impl RowSample {
    /// Takes a row in, told from others by its hash and line.
    pub fn add(&mut self, hash: u64, line: u64, cells: &[u8]) {
        let mark = (hash ^ line.wrapping_mul(0x9E37_79B9_7F4A_7C15)).wrapping_mul(0xD6E8_FEB8_6659_FD93).rotate_left(32);
        let mark = mark.wrapping_mul(0xD6E8_FEB8_6659_FD93);
        if mark < self.below {
            self.kept.push((mark, cells.into()));
            if self.kept.len() >= 2 * SAMPLE {
                self.shrink();
            }
        }
    }

    fn shrink(&mut self) {
        if self.kept.len() > SAMPLE {
            self.kept.sort_unstable();
            self.kept.truncate(SAMPLE);
            self.below = self.kept.last().map_or(u64::MAX, |(mark, _)| *mark);
        }
    }

    /// Puts two together.
    pub fn merge(&mut self, other: RowSample) {
        self.kept.extend(other.kept);
        self.shrink();
    }

    /// How often each value of a column is among the rows kept.
    fn counts(&self, column: usize) -> HashMap<&[u8], u32> {
        let mut counts = HashMap::new();
        for (_, cells) in &self.kept {
            let at = (0..column).fold(0, |at, _| cell_at(cells, at).1);
            *counts.entry(cell_at(cells, at).0).or_default() += 1;
        }
        counts
    }

    /// Values that most of these rows have and few of all rows: `rows` of `all` rows are these, and `columns` by place and name
    /// are looked at.
    pub fn hints(&self, all: &RowSample, rows: u64, of: u64, columns: &[(usize, &String)]) -> Vec<Hint> {
        let few = 2 * (LIFT as u64);
        if rows < few || rows >= of || self.kept.is_empty() {
            return Vec::new();
        }
        let (kept, looked) = (self.kept.len() as f64, all.kept.len() as f64);
        let mut found = Vec::new();
        let mut tried = 0.0;
        for (at, name) in columns {
            let (mine, theirs) = (self.counts(*at), all.counts(*at));
            for (value, count) in mine.into_iter().filter(|(v, _)| !v.is_empty() && v.len() <= LONGEST) {
                tried += 1.0;
                let (share, met) = (f64::from(count) / kept, f64::from(theirs.get(value).copied().unwrap_or(0)));
                // Laplace's rule: a value that the sample has not may be there still.
                let of_all = (met + 1.0) / (looked + 2.0);
                if share < MOST_OF || share < LIFT * of_all {
                    continue;
                }
                let Ok(chance) = Binomial::new(of_all, kept as u64) else { continue };
                let others = (met / looked * of as f64 - share * rows as f64) / (of - rows) as f64;
                let (column, value) = ((*name).clone(), text(value));
                found.push(Hint { column, value, share, of_others: others.clamp(0.0, 1.0), p: chance.sf(u64::from(count) - 1) });
            }
        }
        found.iter_mut().for_each(|hint| hint.p = (hint.p * tried).min(1.0));
        found.retain(|hint| hint.p < CHANCE);
        found.sort_by(|a, b| (b.share - b.of_others).total_cmp(&(a.share - a.of_others)));
        found
    }

    /// Whether more rows than chance would give have this value in a column, given that all of `rows` have it and
    /// that `columns` were looked at: the share of the value to the power of `rows`, times the columns.
    pub fn is_beyond_chance(&self, column: usize, value: &[u8], rows: u64, columns: usize) -> bool {
        let has = |cells: &[u8]| {
            let at = (0..column).fold(0, |at, _| cell_at(cells, at).1);
            cell_at(cells, at).0 == value
        };
        let with = self.kept.iter().filter(|(_, cells)| has(cells)).count() as f64;
        // Laplace's rule: a value that the sample has not may be there still.
        let share = (with + 1.0) / (self.kept.len() as f64 + 2.0);
        share.powf(rows as f64) * (columns as f64) < CHANCE
    }
}

#[derive(Clone, Debug, Default, PartialEq, Eq)]
enum Shared {
    #[default]
    NoRow,
    One(Vec<u8>),
    Several,
}

/// For each column, whether all rows met have the same cell.
#[derive(Clone, Debug, Default)]
pub struct Common {
    columns: Vec<Shared>,
    open: usize,
}

impl Common {
    /// No row yet, of so many columns.
    pub fn new(columns: usize) -> Common {
        Common { columns: vec![Shared::NoRow; columns], open: columns }
    }

    /// Takes a row's cells in.
    pub fn add(&mut self, cells: &[u8]) {
        if self.open == 0 {
            return;
        }
        let mut at = 0;
        for column in &mut self.columns {
            let (cell, next) = cell_at(cells, at);
            at = next;
            match column {
                Shared::Several => {}
                Shared::One(value) if value == cell => {}
                Shared::NoRow if cell.len() <= LONGEST => *column = Shared::One(cell.to_vec()),
                _ => {
                    *column = Shared::Several;
                    self.open -= 1;
                }
            }
        }
    }

    /// Puts two together.
    pub fn merge(&mut self, other: Common) {
        for (mine, theirs) in self.columns.iter_mut().zip(other.columns) {
            match (&*mine, theirs) {
                (_, Shared::NoRow) => {}
                (Shared::NoRow, theirs) => *mine = theirs,
                (Shared::One(a), Shared::One(b)) if *a == b => {}
                _ => *mine = Shared::Several,
            }
        }
        self.open = self.columns.iter().filter(|c| **c != Shared::Several).count();
    }

    /// The columns, by place, in which these rows have one value and all rows together have several.
    pub fn apart_from(&self, all: &Common) -> Vec<(usize, &[u8])> {
        let each = self.columns.iter().zip(&all.columns).enumerate();
        let told = each.filter_map(|(at, (mine, all))| match (mine, all) {
            (Shared::One(value), Shared::Several) if !value.is_empty() => Some((at, value.as_slice())),
            _ => None,
        });
        told.collect()
    }
}
