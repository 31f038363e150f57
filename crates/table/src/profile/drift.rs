//! How a column's values have drifted from those of another version.

use serde::Serialize;

use statrs::distribution::{ChiSquared, ContinuousCDF};

use super::column::Settled;
use crate::sorted::Sorted;

/// Bins of the population stability index: tenths of the older values.
const BINS: usize = 10;
/// A share that stands for none, so that a logarithm exists. As is usual for the index.
const NEXT_TO_NONE: f64 = 1e-4;

/// How probable it may be that chance alone lets any column of a table be read as drifted: a part of a table is no drift
/// from it.
pub const CHANCE: f64 = 0.001;

/// Values of which chance would give fewer rows than this are counted together (Cochran, "Some Methods for
/// Strengthening the Common χ² Tests", 1954).
const FEW: f64 = 5.0;

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
    /// How probable it would be if nothing had changed, corrected for the number of columns (Holm).
    pub p: f64,
    /// The usual reading: `none`, `some` or `strong`. What samples of this size have by chance once in 1000 times is none.
    pub reading: &'static str,
}

impl Drift {
    /// How large it is: the population stability index, or the total variation. Another type is the largest.
    pub fn effect(&self) -> f64 {
        self.psi.or(self.variation).unwrap_or(if self.measure == DriftMeasure::Type { 1.0 } else { 0.0 })
    }

    /// Reads it, once `p` is known: effect and significance both must speak.
    fn read(&mut self) {
        let at_least = |bound: f64| self.effect() >= bound || self.ks.is_some_and(|ks| ks >= bound);
        // Below 0.1 and from 0.25 on are the customary bounds of the index; of the others, those of practice.
        self.reading = match () {
            () if self.p >= CHANCE => "none",
            () if at_least(0.25) => "strong",
            () if at_least(0.1) => "some",
            () => "none",
        };
    }
}

/// Corrects for the number of columns, so that none of them is read as drifted by chance (Holm, "A Simple Sequentially
/// Rejective Multiple Test Procedure", 1979), and reads each.
pub fn correct(drifts: &mut [&mut Drift]) {
    drifts.sort_by(|a, b| a.p.total_cmp(&b.p));
    let (count, mut least) = (drifts.len(), 0.0f64);
    for (at, drift) in drifts.iter_mut().enumerate() {
        least = least.max(drift.p * (count - at) as f64).min(1.0);
        drift.p = least;
        drift.read();
    }
}

/// Compares a column with what it was. Its `p` is that of this column alone.
pub fn between(old: &Settled, new: &Settled) -> Drift {
    let mean_before = old.profile.numbers.as_ref().map(|n| n.mean);
    let mut drift = Drift {
        measure: DriftMeasure::Type,
        psi: None,
        ks: None,
        ks_p: None,
        variation: None,
        mean_before,
        p: 0.0,
        reading: "none",
    };
    let empty = |s: &Settled| s.profile.count == 0;
    match (old.profile.numbers.is_some(), new.profile.numbers.is_some()) {
        (true, true) => {
            let (index, counts) = index(old, new);
            let distance = distance(&old.numbers, &new.numbers);
            let p = probability(distance, old.numbers.len() as f64, new.numbers.len() as f64);
            drift.measure = DriftMeasure::Numbers;
            (drift.psi, drift.ks, drift.ks_p) = (Some(index), Some(distance), Some(p));
            // Two tests of the same: of either, half as much is demanded.
            drift.p = (2.0 * p.min(homogeneity(&counts))).min(1.0);
        }
        _ if empty(old) && empty(new) => (drift.measure, drift.p) = (DriftMeasure::Categories, 1.0),
        (false, false) => {
            let (variation, counts) = variation(old, new);
            drift.measure = DriftMeasure::Categories;
            drift.variation = Some(variation);
            drift.p = homogeneity(&counts);
        }
        _ => {}
    }
    drift
}

fn rows(column: &Settled) -> f64 {
    (column.profile.count + column.profile.missing).max(1) as f64
}

/// How probable counts this far apart are if both samples are of the same: Pearson's χ² of a table of two rows.
fn homogeneity(counts: &[(u64, u64)]) -> f64 {
    let (n, m) = counts.iter().fold((0.0, 0.0), |(n, m), (a, b)| (n + *a as f64, m + *b as f64));
    if n == 0.0 || m == 0.0 {
        return 1.0;
    }
    let is_few = |(a, b): &&(u64, u64)| (a + b) as f64 * n.min(m) / (n + m) < FEW;
    let few = counts.iter().filter(is_few).fold((0, 0), |(x, y), (a, b)| (x + a, y + b));
    let kept: Vec<(u64, u64)> = counts.iter().filter(|c| !is_few(c)).copied().chain([few]).filter(|(a, b)| a + b > 0).collect();
    let part = |(a, b): &(u64, u64)| n * m * (*a as f64 / n - *b as f64 / m).powi(2) / (a + b) as f64;
    let chi_squared: f64 = kept.iter().map(part).sum();
    match ChiSquared::new(kept.len() as f64 - 1.0) {
        Ok(distribution) => distribution.sf(chi_squared),
        Err(_) => 1.0,
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

fn counts(column: &Settled, ends: &[u64]) -> Vec<u64> {
    let mut counts = vec![0u64; ends.len() + 1];
    let mut bin = 0;
    for value in column.numbers.iter() {
        while bin < ends.len() && value > ends[bin] {
            bin += 1;
        }
        counts[bin] += 1;
    }
    counts.push(column.profile.missing);
    counts
}

/// The index, and how many rows there are in each of its bins, before and now.
fn index(old: &Settled, new: &Settled) -> (f64, Vec<(u64, u64)>) {
    let ends = tenths(&old.numbers);
    let (before, now) = (counts(old, &ends), counts(new, &ends));
    let share = |count: &u64, all: &[u64]| (*count as f64 / all.iter().sum::<u64>().max(1) as f64).max(NEXT_TO_NONE);
    let pairs = now.iter().zip(&before).map(|(p, q)| (share(p, &now), share(q, &before)));
    (pairs.map(|(p, q)| (p - q) * (p / q).ln()).sum(), before.into_iter().zip(now).collect())
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

/// The total variation, and how many rows there are of each value, before and now.
fn variation(old: &Settled, new: &Settled) -> (f64, Vec<(u64, u64)>) {
    let (n, m) = (rows(old), rows(new));
    let (mut sum, mut counts) = (0.0, Vec::new());
    // Values that are there once or so are counted together at once: there may be millions of them.
    let mut few = (0, 0);
    let mut value = |a: u64, b: u64| {
        sum += (a as f64 / n - b as f64 / m).abs();
        match a + b < FEW as u64 {
            true => few = (few.0 + a, few.1 + b),
            false => counts.push((a, b)),
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
    counts.push(few);
    (sum / 2.0, counts)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_far_apart_are_improbable() {
        // scipy.stats.chi2_contingency([[10, 20, 30], [6, 9, 17]], correction=False): p = 0.8730282…
        let found = homogeneity(&[(10, 6), (20, 9), (30, 17)]);
        assert!((found - 0.873_028_283_380_073).abs() < 1e-9, "{found}");
        assert_eq!(homogeneity(&[(1, 2), (3, 0)]), 1.0, "too few for anything to be told");
        assert_eq!(homogeneity(&[(100, 0)]), 1.0);
        assert!(homogeneity(&[(100, 0), (0, 100)]) < 1e-40);
    }

    #[test]
    fn many_columns_make_each_less_telling() {
        let of = |p| Drift {
            measure: DriftMeasure::Numbers,
            psi: Some(1.0),
            ks: None,
            ks_p: None,
            variation: None,
            mean_before: None,
            p,
            reading: "none",
        };
        let mut drifts = [of(0.0004), of(0.5), of(0.00001)];
        let [a, b, c] = &mut drifts;
        correct(&mut [a, b, c]);
        for (drift, (p, reading)) in drifts.iter().zip([(0.0008, "strong"), (0.5, "none"), (0.00003, "strong")]) {
            assert!((drift.p - p).abs() < 1e-12 && drift.reading == reading, "{drift:?}");
        }
    }
}
