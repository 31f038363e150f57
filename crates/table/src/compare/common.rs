//! What all of some rows have in one column and not all rows have: where a difference comes from.
//!
//! Few rows have much in common by chance. How frequent a value is among all rows is told by a sample of them: the
//! rows with the smallest marks, so that samples of parts can be put together.

use super::partition::cell_at;

/// Values longer than this are no name for a group of rows. In bytes.
const LONGEST: usize = 64;

/// So many rows of all are kept. A table of fewer is its own sample.
const SAMPLE: usize = 512;

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
