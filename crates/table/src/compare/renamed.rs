//! Columns that only one of two tables has, with the same values under another name.
//!
//! Of both tables the same rows are looked at: those with the smallest hashes of their keys, or of their places where there is
//! no key.

use std::collections::BTreeMap;

use crate::kind::{is_missing, number};
use crate::row::Row;
use crate::schema::Renamed;

/// So many rows are looked at.
const SAMPLE: usize = 512;
/// Fewer rows in common tell nothing.
const FEW: usize = 8;
/// Of so many rows in a hundred the cells must be the same.
const SAME: usize = 98;

/// Cells of a row.
type Cells = Vec<Box<[u8]>>;

/// The cells of some rows in the columns that only this table has.
#[derive(Default)]
pub struct Only {
    /// Where these columns are.
    places: Vec<usize>,
    names: Vec<String>,
    rows: BTreeMap<u64, Cells>,
}

impl Only {
    /// The columns of a table that another does not have.
    pub fn of(columns: &[String], others: &[String]) -> Only {
        let places: Vec<usize> = (0..columns.len()).filter(|at| !others.contains(&columns[*at])).collect();
        let names = places.iter().map(|at| columns[*at].clone()).collect();
        Only { places, names, rows: BTreeMap::new() }
    }

    /// Takes a row in, known by this mark.
    pub fn take(&mut self, row: &Row, mark: u64) {
        if self.places.is_empty() || (self.rows.len() == SAMPLE && self.rows.keys().next_back().is_some_and(|last| mark >= *last)) {
            return;
        }
        self.rows.insert(mark, self.places.iter().map(|at| row.cell(*at).into()).collect());
        if self.rows.len() > SAMPLE {
            self.rows.pop_last();
        }
    }
}

fn is_same(a: &[u8], b: &[u8]) -> bool {
    a == b || matches!((number(a), number(b)), (Some(x), Some(y)) if x == y)
}

/// The columns of both that are the same, each with one of the other table.
pub fn renamed(old: &Only, new: &Only) -> Vec<Renamed> {
    let common: Vec<(&Cells, &Cells)> = old.rows.iter().filter_map(|(mark, cells)| Some((cells, new.rows.get(mark)?))).collect();
    if common.len() < FEW.min(old.rows.len().max(2)) {
        return Vec::new();
    }
    let mut found: Vec<Renamed> = Vec::new();
    for (i, from) in old.names.iter().enumerate() {
        // A column that says nothing is like any other one that does.
        let told: std::collections::BTreeSet<&[u8]> = common.iter().map(|(a, _)| &*a[i]).filter(|c| !is_missing(c)).collect();
        if told.len() < 2 {
            continue;
        }
        let same = |j: usize| common.iter().filter(|(a, b)| is_same(&a[i], &b[j])).count();
        let taken = |name: &String| found.iter().any(|r| r.to == *name);
        let best = new.names.iter().enumerate().filter(|(_, to)| !taken(to)).max_by_key(|(j, _)| same(*j));
        if let Some((j, to)) = best
            && same(j) * 100 >= common.len() * SAME
        {
            found.push(Renamed { from: from.clone(), to: to.clone() });
        }
    }
    found
}
