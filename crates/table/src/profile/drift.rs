//! How a column's values have drifted from those of another version.

use serde::Serialize;

use super::column::Settled;
use crate::sorted::Sorted;

/// Bins of the population stability index: tenths of the older values.
const BINS: usize = 10;
/// A share that stands for none, so that a logarithm exists. As is usual for the index.
const NEXT_TO_NONE: f64 = 1e-4;

/// How probable a difference may be by chance alone to be read as drift: a part of a table is no drift from it.
const CHANCE: f64 = 0.001;

/// What is measured.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum DriftMeasure {
    /// Numbers: the population stability index and Kolmogorov and Smirnov's distance.
    Numbers,
    /// Other values: the total variation.
    Categories,
    /// The column was of another type.
    Type,
}

/// How a column has drifted.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Drift {
    /// What is measured.
    pub measure: DriftMeasure,
    /// Population stability index, Σ (p − q) ln (p / q) over tenths of the older values and the missing ones.
    pub psi: Option<f64>,
    /// Kolmogorov and Smirnov's D: the greatest distance of the two distribution functions.
    pub ks: Option<f64>,
    /// How probable such a D would be if nothing had changed (the asymptotic formula).
    pub ks_p: Option<f64>,
    /// Total variation, ½ Σ |p − q|: the share of rows whose value would have to change.
    pub variation: Option<f64>,
    /// The mean before, for numbers.
    pub mean_before: Option<f64>,
    /// The usual reading: `none`, `some` or `strong`. What samples of this size have by chance once in 1000 times is none.
    pub reading: &'static str,
}

/// Compares a column with what it was.
pub fn between(old: &Settled, new: &Settled) -> Drift {
    let mean_before = old.profile.numbers.as_ref().map(|n| n.mean);
    let mut drift =
        Drift { measure: DriftMeasure::Type, psi: None, ks: None, ks_p: None, variation: None, mean_before, reading: "strong" };
    let empty = |s: &Settled| s.profile.count == 0;
    match (old.profile.numbers.is_some(), new.profile.numbers.is_some()) {
        (true, true) => {
            let (psi, bins) = psi(old, new);
            let distance = distance(&old.numbers, &new.numbers);
            drift.measure = DriftMeasure::Numbers;
            let p = probability(distance, old.numbers.len() as f64, new.numbers.len() as f64);
            (drift.psi, drift.ks, drift.ks_p) = (Some(psi), Some(distance), Some(p));
            // Without drift the index is about (1/n + 1/m) times χ² of its bins but one (Yurdakul and Naranjo,
            // "Statistical Properties of the Population Stability Index", 2020).
            let beyond = psi > (1.0 / rows(old) + 1.0 / rows(new)) * chi_squared_at(bins - 1.0);
            // Below 0.1 and from 0.25 on are the customary bounds of the index; of D, those of practice.
            let real = |value: f64, is_real: bool| if is_real { value } else { 0.0 };
            drift.reading = reading((real(psi, beyond), 0.1, 0.25), (real(distance, p < CHANCE), 0.1, 0.25));
        }
        _ if empty(old) && empty(new) => drift.reading = "none",
        (false, false) => {
            let (variation, chi_squared, categories) = variation(old, new);
            drift.measure = DriftMeasure::Categories;
            drift.variation = Some(variation);
            let real = if chi_squared > chi_squared_at(categories - 1.0) { variation } else { 0.0 };
            drift.reading = reading((real, 0.1, 0.25), (0.0, 1.0, 1.0));
        }
        _ => {}
    }
    drift
}

fn rows(column: &Settled) -> f64 {
    (column.profile.count + column.profile.missing).max(1) as f64
}

/// The value that χ² of so many degrees of freedom exceeds with the probability [`CHANCE`], by Wilson and Hilferty's
/// approximation ("The Distribution of Chi-square", 1931).
fn chi_squared_at(degrees: f64) -> f64 {
    /// The normal distribution exceeds this with that probability.
    const NORMAL: f64 = 3.090_232;
    let degrees = degrees.max(1.0);
    let part = 2.0 / (9.0 * degrees);
    degrees * (1.0 - part + NORMAL * part.sqrt()).powi(3)
}

fn reading(a: (f64, f64, f64), b: (f64, f64, f64)) -> &'static str {
    let above = |bound: fn((f64, f64, f64)) -> f64| a.0 >= bound(a) || b.0 >= bound(b);
    if above(|x| x.2) {
        "strong"
    } else if above(|x| x.1) {
        "some"
    } else {
        "none"
    }
}

/// The ends of the tenths of sorted numbers.
fn tenths(numbers: &Sorted) -> Vec<u64> {
    let count = numbers.len();
    let mut ends: Vec<u64> = Vec::new();
    let mut next = 1;
    for (at, value) in numbers.iter().enumerate() {
        while next < BINS as u64 && at as u64 + 1 >= (count * next).div_ceil(BINS as u64) {
            ends.push(value);
            next += 1;
        }
    }
    ends.dedup();
    ends
}

fn shares(column: &Settled, ends: &[u64]) -> Vec<f64> {
    let mut counts = vec![0u64; ends.len() + 1];
    let mut bin = 0;
    for value in column.numbers.iter() {
        while bin < ends.len() && value > ends[bin] {
            bin += 1;
        }
        counts[bin] += 1;
    }
    counts.push(column.profile.missing);
    let all = counts.iter().sum::<u64>().max(1) as f64;
    counts.iter().map(|c| (*c as f64 / all).max(NEXT_TO_NONE)).collect()
}

/// The index, and the number of its bins.
fn psi(old: &Settled, new: &Settled) -> (f64, f64) {
    let ends = tenths(&old.numbers);
    let (p, q) = (shares(new, &ends), shares(old, &ends));
    (p.iter().zip(&q).map(|(p, q)| (p - q) * (p / q).ln()).sum(), p.len() as f64)
}

fn distance(old: &Sorted, new: &Sorted) -> f64 {
    let (mut a, mut b) = (old.counted().peekable(), new.counted().peekable());
    let (n, m) = (old.len() as f64, new.len() as f64);
    let (mut below_a, mut below_b, mut most) = (0u64, 0u64, 0.0f64);
    while a.peek().is_some() || b.peek().is_some() {
        let next = a.peek().map_or(u64::MAX, |x| x.0).min(b.peek().map_or(u64::MAX, |x| x.0));
        below_a += a.next_if(|x| x.0 == next).map_or(0, |x| x.1);
        below_b += b.next_if(|x| x.0 == next).map_or(0, |x| x.1);
        most = most.max((below_a as f64 / n - below_b as f64 / m).abs());
    }
    most
}

/// Kolmogorov's distribution, as in Press et al., "Numerical Recipes", section 14.3.
fn probability(distance: f64, n: f64, m: f64) -> f64 {
    let root = (n * m / (n + m)).sqrt();
    let lambda = (root + 0.12 + 0.11 / root) * distance;
    if lambda < 0.2 {
        return 1.0;
    }
    let term = |j: i32| f64::from(if j % 2 == 1 { 2 } else { -2 }) * (-2.0 * f64::from(j * j) * lambda * lambda).exp();
    (1..=100).map(term).sum::<f64>().clamp(0.0, 1.0)
}

/// The total variation; χ² of the two samples as a table of two rows, and how many values it is of.
fn variation(old: &Settled, new: &Settled) -> (f64, f64, f64) {
    let (n, m) = (rows(old), rows(new));
    let (mut sum, mut chi_squared, mut categories) = (0.0, 0.0, 0.0);
    let mut value = |a: u64, b: u64| {
        if a + b > 0 {
            let (p, q) = (a as f64 / n, b as f64 / m);
            sum += (p - q).abs();
            chi_squared += n * m * (p - q).powi(2) / (a + b) as f64;
            categories += 1.0;
        }
    };
    value(old.profile.missing, new.profile.missing);
    for pair in [(&old.others, &new.others), (&old.numbers, &new.numbers)] {
        let (mut a, mut b) = (pair.0.counted().peekable(), pair.1.counted().peekable());
        while a.peek().is_some() || b.peek().is_some() {
            let next = a.peek().map_or(u64::MAX, |x| x.0).min(b.peek().map_or(u64::MAX, |x| x.0));
            value(a.next_if(|x| x.0 == next).map_or(0, |x| x.1), b.next_if(|x| x.0 == next).map_or(0, |x| x.1));
        }
    }
    (sum / 2.0, chi_squared, categories)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_bound_of_chi_squared_is_that_of_the_tables() {
        // Abramowitz and Stegun, "Handbook of Mathematical Functions", table 26.8, for 0.001.
        for (degrees, known) in [(1.0, 10.828), (2.0, 13.816), (5.0, 20.515), (9.0, 27.877), (30.0, 59.703), (100.0, 149.449)] {
            let found = chi_squared_at(degrees);
            assert!((found / known - 1.0).abs() < 0.04, "{degrees}: {found}, not {known}");
        }
    }
}
