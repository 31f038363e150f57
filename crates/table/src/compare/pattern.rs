//! What the changed cells of a column have in common: a factor, a shift, gone missing.

use std::cmp::Ordering;

use serde::Serialize;

use crate::decimal::compare_numbers;
use crate::kind::{is_missing, number};

/// So many changed cells of a column are kept to find what they have in common.
const SAMPLE: usize = 512;
/// This share of them must agree.
const NEARLY_ALL: f64 = 0.9;

/// What nearly all changed cells of a column have in common.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(tag = "what", content = "by", rename_all = "lowercase")]
pub enum Pattern {
    /// The new number is about so many times the old one.
    Factor(f64),
    /// The new number is about so much more than the old one.
    Shift(f64),
    /// There is nothing any more.
    Missing,
    /// There was nothing before.
    Filled,
    /// The same number, written otherwise.
    Spelling,
}

/// Collects changed cells.
#[derive(Clone, Debug, Default)]
pub struct Sample {
    /// The hash of the row, both numbers, and whether they are exactly the same one.
    pairs: Vec<(u64, f64, f64, bool)>,
    seen: u64,
    emptied: u64,
    filled: u64,
}

impl Sample {
    /// Takes a changed cell in; of many, an even choice by the hash of its row.
    pub fn add(&mut self, hash: u64, old: &[u8], new: &[u8]) {
        self.seen += 1;
        self.emptied += u64::from(is_missing(new) && !is_missing(old));
        self.filled += u64::from(is_missing(old) && !is_missing(new));
        if let (Some(a), Some(b)) = (number(old), number(new)) {
            self.pairs.push((hash, a, b, compare_numbers(old, new) == Some(Ordering::Equal)));
            if self.pairs.len() >= 4 * SAMPLE {
                self.shrink();
            }
        }
    }

    fn shrink(&mut self) {
        // Which rows have the smallest hashes does not depend on the order in which they are met.
        self.pairs.sort_unstable_by_key(|p| p.0);
        self.pairs.truncate(SAMPLE);
    }

    /// Puts two collections together.
    pub fn merge(&mut self, other: Sample) {
        self.pairs.extend(other.pairs);
        self.seen += other.seen;
        self.emptied += other.emptied;
        self.filled += other.filled;
        if self.pairs.len() > SAMPLE {
            self.shrink();
        }
    }

    /// What nearly all have in common.
    pub fn pattern(&self) -> Option<Pattern> {
        let nearly_all = |count: u64| self.seen >= 3 && count as f64 >= NEARLY_ALL * self.seen as f64;
        if nearly_all(self.emptied) {
            return Some(Pattern::Missing);
        }
        if nearly_all(self.filled) {
            return Some(Pattern::Filled);
        }
        let numbers = self.seen.saturating_sub(self.emptied + self.filled);
        if self.pairs.len() < 3 || (numbers as f64) < NEARLY_ALL * self.seen as f64 {
            return None;
        }
        let nearly_all_of = |count: usize| count as f64 >= NEARLY_ALL * self.pairs.len() as f64;
        let agree = |test: &dyn Fn(f64, f64) -> bool| nearly_all_of(self.pairs.iter().filter(|p| test(p.1, p.2)).count());
        if nearly_all_of(self.pairs.iter().filter(|p| p.3).count()) {
            return Some(Pattern::Spelling);
        }
        let factor = median(self.pairs.iter().filter(|p| p.1 != 0.0).map(|p| p.2 / p.1));
        let close = |a: f64, b: f64, by: f64| (a - b).abs() <= by * a.abs().max(b.abs()).max(1e-12);
        if factor.is_finite() && !close(factor, 1.0, 0.02) && agree(&|a, b| close(b, a * factor, 0.02)) {
            return Some(Pattern::Factor(tidy(factor)));
        }
        let shift = median(self.pairs.iter().map(|p| p.2 - p.1));
        if shift.is_finite() && shift != 0.0 && agree(&|a, b| close(b - a, shift, 0.02)) {
            return Some(Pattern::Shift(tidy(shift)));
        }
        None
    }
}

fn median(values: impl Iterator<Item = f64>) -> f64 {
    let mut values: Vec<f64> = values.filter(|v| v.is_finite()).collect();
    if values.is_empty() {
        return f64::NAN;
    }
    values.sort_unstable_by(f64::total_cmp);
    values[values.len() / 2]
}

/// To three digits: a pattern is a rough thing.
fn tidy(value: f64) -> f64 {
    format!("{value:.2e}").parse().unwrap_or(value)
}
