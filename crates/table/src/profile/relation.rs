//! How strongly a column goes with another.

use std::collections::HashMap;

use serde::Serialize;

use super::column::Moments;
use crate::kind::{Kind, is_missing, kind_of, number};

/// With more different values than this, a column is no set of groups.
const MOST_GROUPS: usize = 500;

/// How strongly a column goes with the target: with numbers on both sides Pearson's r (−1 to 1), with groups
/// on one side the correlation ratio η, with groups on both Cramér's V (both 0 to 1).
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Relation {
    /// `r`, `eta` or `v`.
    pub measure: &'static str,
    /// Its value.
    pub value: f64,
    /// Rows in which both are there.
    pub rows: u64,
}

#[derive(Clone, Debug, Default)]
struct Groups {
    each: HashMap<Vec<u8>, Moments>,
    all: Moments,
    too_many: bool,
}

/// What is gathered row by row.
#[derive(Clone, Debug, Default)]
pub struct Relating {
    x: Moments,
    y: Moments,
    products: f64,
    by_cell: Groups,
    by_target: Groups,
    pairs: HashMap<(Vec<u8>, Vec<u8>), u64>,
    too_many: bool,
    /// Whether the values of the target are names, though they be numbers.
    classes: bool,
}

impl Groups {
    fn add(&mut self, group: &[u8], value: f64) {
        if self.too_many {
            return;
        }
        self.all.add(value);
        match self.each.get_mut(group) {
            Some(moments) => moments.add(value),
            None => self.each.entry(group.to_vec()).or_default().add(value),
        }
        if self.each.len() > MOST_GROUPS {
            self.too_many = true;
            self.each.clear();
        }
    }

    /// The correlation ratio: how much of the spread is between the groups.
    fn ratio(&self) -> Option<f64> {
        if self.too_many || self.all.count < 2.0 || self.all.squares <= 0.0 {
            return None;
        }
        let between: f64 = self.each.values().map(|g| g.count * (g.mean - self.all.mean).powi(2)).sum();
        Some((between / self.all.squares).clamp(0.0, 1.0).sqrt())
    }
}

/// A cell as a number: also `true` and `false`.
fn value(cell: &[u8], kind: Kind) -> Option<f64> {
    match kind {
        Kind::Boolean => Some(f64::from(cell.first().is_some_and(|c| c.eq_ignore_ascii_case(&b't')))),
        Kind::Integer | Kind::Number => number(cell).filter(|v| v.is_finite()),
        _ => None,
    }
}

impl Relating {
    /// Relates to a target whose values are names of classes, or what they are by themselves.
    pub fn to(classes: bool) -> Relating {
        Relating { classes, ..Relating::default() }
    }

    /// Takes a row in.
    pub fn add(&mut self, cell: &[u8], kind: Kind, target: &[u8]) {
        if is_missing(cell) || is_missing(target) {
            return;
        }
        let of_target = if self.classes { None } else { value(target, kind_of(target)) };
        match (value(cell, kind), of_target) {
            (Some(x), Some(y)) => {
                let distance = x - self.x.mean;
                self.x.add(x);
                self.y.add(y);
                self.products += distance * (y - self.y.mean);
            }
            (None, Some(y)) => self.by_cell.add(cell, y),
            (Some(x), None) => self.by_target.add(target, x),
            (None, None) if !self.too_many => {
                *self.pairs.entry((cell.to_vec(), target.to_vec())).or_default() += 1;
                if self.pairs.len() > MOST_GROUPS * 20 {
                    self.too_many = true;
                    self.pairs.clear();
                }
            }
            (None, None) => {}
        }
    }

    /// What most of the rows come to.
    pub fn relation(&self) -> Option<Relation> {
        let pairs = self.pairs.values().sum::<u64>();
        let sorts = [self.x.count as u64, self.by_cell.all.count as u64, self.by_target.all.count as u64, pairs];
        let most = (0..4).max_by_key(|i| sorts[*i])?;
        let (measure, value) = match most {
            0 => ("r", Some(self.products / (self.x.squares * self.y.squares).sqrt())),
            1 => ("eta", self.by_cell.ratio()),
            2 => ("eta", self.by_target.ratio()),
            _ => ("v", self.cramers_v()),
        };
        let value = value.filter(|v| v.is_finite())?;
        Some(Relation { measure, value: value.clamp(-1.0, 1.0), rows: sorts[most] })
    }

    fn cramers_v(&self) -> Option<f64> {
        let mut rows: HashMap<&[u8], f64> = HashMap::new();
        let mut columns: HashMap<&[u8], f64> = HashMap::new();
        for ((a, b), count) in &self.pairs {
            *rows.entry(a).or_default() += *count as f64;
            *columns.entry(b).or_default() += *count as f64;
        }
        let fewer = rows.len().min(columns.len());
        if self.too_many || fewer < 2 {
            return None;
        }
        // χ² = N (Σ n²/(r·c) − 1), cells without any row included.
        let sum: f64 = self.pairs.iter().map(|((a, b), n)| (*n as f64).powi(2) / (rows[&a[..]] * columns[&b[..]])).sum();
        Some(((sum - 1.0).max(0.0) / (fewer - 1) as f64).sqrt())
    }
}
