//! How a column's values have drifted from those of another version.

use serde::Serialize;

use super::column::Settled;
use crate::sorted::Sorted;

/// Bins of the population stability index: tenths of the older values.
const BINS: usize = 10;
/// A share that stands for none, so that a logarithm exists. As is usual for the index.
const NEXT_TO_NONE: f64 = 1e-4;

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
    /// The usual reading: `none`, `some` or `strong`.
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
            let psi = psi(old, new);
            let distance = distance(&old.numbers, &new.numbers);
            drift.measure = DriftMeasure::Numbers;
            (drift.psi, drift.ks, drift.ks_p) =
                (Some(psi), Some(distance), Some(probability(distance, old.numbers.len() as f64, new.numbers.len() as f64)));
            // Below 0.1 and from 0.25 on are the customary bounds of the index; of D, those of practice.
            drift.reading = reading((psi, 0.1, 0.25), (distance, 0.1, 0.25));
        }
        _ if empty(old) && empty(new) => drift.reading = "none",
        (false, false) => {
            let variation = variation(old, new);
            drift.measure = DriftMeasure::Categories;
            drift.variation = Some(variation);
            drift.reading = reading((variation, 0.1, 0.25), (0.0, 1.0, 1.0));
        }
        _ => {}
    }
    drift
}

fn reading(a: (f64, f64, f64), b: (f64, f64, f64)) -> &'static str {
    let above = |bound: fn((f64, f64, f64)) -> f64| a.0 >= bound(a) || b.0 >= bound(b);
    match () {
        () if above(|x| x.2) => "strong",
        () if above(|x| x.1) => "some",
        () => "none",
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

fn psi(old: &Settled, new: &Settled) -> f64 {
    let ends = tenths(&old.numbers);
    let (p, q) = (shares(new, &ends), shares(old, &ends));
    p.iter().zip(&q).map(|(p, q)| (p - q) * (p / q).ln()).sum()
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

fn variation(old: &Settled, new: &Settled) -> f64 {
    let all = |s: &Settled| (s.profile.count + s.profile.missing).max(1) as f64;
    let mut sum = (old.profile.missing as f64 / all(old) - new.profile.missing as f64 / all(new)).abs();
    for pair in [(&old.others, &new.others), (&old.numbers, &new.numbers)] {
        let (mut a, mut b) = (pair.0.counted().peekable(), pair.1.counted().peekable());
        while a.peek().is_some() || b.peek().is_some() {
            let next = a.peek().map_or(u64::MAX, |x| x.0).min(b.peek().map_or(u64::MAX, |x| x.0));
            let p = a.next_if(|x| x.0 == next).map_or(0, |x| x.1) as f64 / all(old);
            let q = b.next_if(|x| x.0 == next).map_or(0, |x| x.1) as f64 / all(new);
            sum += (p - q).abs();
        }
    }
    sum / 2.0
}
