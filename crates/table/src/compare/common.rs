//! What all of some rows have in one column and not all rows have: where a difference comes from.

use super::deal::cell_at;
use crate::row::text;

/// Values longer than this are no name for a group of rows. In bytes.
const LONGEST: usize = 64;

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
    pub fn apart_from(&self, all: &Common) -> Vec<(usize, String)> {
        let each = self.columns.iter().zip(&all.columns).enumerate();
        let told = each.filter_map(|(at, (mine, all))| match (mine, all) {
            (Shared::One(value), Shared::Several) if !value.is_empty() => Some((at, text(value))),
            _ => None,
        });
        told.collect()
    }
}
