//! Intervals by the bootstrap (Efron, "Bootstrap Methods: Another Look at the Jackknife", 1979): as many rows as there are
//! are drawn with replacement, again and again, and judged each time.

use rayon::prelude::*;

use super::judge::Judge;

/// Steele, Lea and Flood, "Fast Splittable Pseudorandom Number Generators", 2014: the same numbers on every machine.
#[derive(Clone, Debug)]
pub struct SplitMix(u64);

impl SplitMix {
    /// The generator of one draw.
    pub fn of(seed: u64, draw: u64) -> SplitMix {
        let mut mixed = SplitMix(seed);
        let first = mixed.next();
        SplitMix(first ^ draw.wrapping_mul(0xD134_2543_DE82_EF95))
    }

    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9E37_79B9_7F4A_7C15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
        z ^ (z >> 31)
    }

    /// A number below `end`, each as probable but for one part in 2⁶⁴⁻ˡᵒᵍ ᵉⁿᵈ.
    pub fn below(&mut self, end: usize) -> usize {
        ((u128::from(self.next()) * end as u128) >> 64) as usize
    }
}

/// How much rows count in one draw.
fn drawn(weights: &[f64], seed: u64, draw: u64) -> Vec<f64> {
    let mut generator = SplitMix::of(seed, draw);
    let mut counts = vec![0.0; weights.len()];
    (0..weights.len()).for_each(|_| counts[generator.below(weights.len())] += 1.0);
    counts.iter_mut().zip(weights).for_each(|(count, weight)| *count *= weight);
    counts
}

/// The value of which a share of sorted ones is less, interpolated between the two around it.
pub fn quantile(sorted: &[f64], share: f64) -> f64 {
    let Some(last) = sorted.len().checked_sub(1) else { return f64::NAN };
    let at = share * last as f64;
    let (low, part) = (at.floor() as usize, at.fract());
    sorted[low] + part * (sorted[(low + 1).min(last)] - sorted[low])
}

/// The values of each draw, by what `value` makes of its weights.
pub fn draws<T: Send>(weights: &[f64], how: Draws<'_>, value: impl Fn(&[f64]) -> T + Sync) -> Vec<T> {
    let draw = |draw: u64| (!(how.stop)()).then(|| value(&drawn(weights, how.seed, draw)));
    (0..u64::from(how.count)).into_par_iter().filter_map(draw).collect()
}

/// How rows are drawn.
#[derive(Clone, Copy)]
pub struct Draws<'s> {
    /// The share of the values that an interval holds.
    pub level: f64,
    /// How often.
    pub count: u32,
    /// What draws begin with.
    pub seed: u64,
    /// Whether nothing more is to be drawn: what comes of it then is of no use.
    pub stop: Stop<'s>,
}

/// Whether somebody has asked to stop.
pub type Stop<'s> = &'s (dyn Fn() -> bool + Sync);

/// Of each figure the middle share `level` of its values; one that is not defined in any draw has none.
pub fn middles(values: &[Vec<f64>], level: f64) -> Vec<Option<(f64, f64)>> {
    let figures = values.first().map_or(0, Vec::len);
    let middle = |at: usize| {
        let mut sorted: Vec<f64> = values.iter().filter_map(|v| v.get(at)).copied().filter(|v| v.is_finite()).collect();
        sorted.sort_by(f64::total_cmp);
        let tail = (1.0 - level) / 2.0;
        // What most draws do not have is not told by the others.
        (sorted.len() * 2 > values.len()).then(|| (quantile(&sorted, tail), quantile(&sorted, 1.0 - tail)))
    };
    (0..figures).map(middle).collect()
}

/// The interval of each figure of a judge.
pub fn intervals(judge: &dyn Judge, weights: &[f64], how: Draws<'_>) -> Vec<Option<(f64, f64)>> {
    let found = middles(&draws(weights, how, |weights| judge.values(weights)), how.level);
    if found.is_empty() { vec![None; judge.names().len()] } else { found }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn draws_are_the_same_everywhere_and_even() {
        // The first numbers of the reference implementation for the seed 1234567.
        let mut generator = SplitMix(1_234_567);
        assert_eq!([generator.next(), generator.next()], [6_457_827_717_110_365_317, 3_203_168_211_198_807_973]);
        let weights = vec![1.0; 1000];
        let how = Draws { level: 0.9, count: 200, seed: 7, stop: &|| false };
        let all = draws(&weights, how, |w| (w.iter().sum::<f64>(), w[0], w.iter().filter(|c| **c == 0.0).count()));
        assert!(all.iter().all(|(sum, ..)| *sum == 1000.0));
        let first: f64 = all.iter().map(|a| a.1).sum::<f64>() / 200.0;
        let absent: f64 = all.iter().map(|a| a.2 as f64).sum::<f64>() / 200.0;
        // A row is in a draw once on average, and in none of it with the probability 1/e.
        assert!((first - 1.0).abs() < 0.3 && (absent - 1000.0 * (-1f64).exp()).abs() < 4.0, "{first} {absent}");
    }

    #[test]
    fn the_interval_of_a_mean_is_that_of_theory() {
        struct Mean(Vec<f64>);
        impl Judge for Mean {
            fn names(&self) -> Vec<String> {
                vec!["mean".into()]
            }
            fn values(&self, weights: &[f64]) -> Vec<f64> {
                vec![self.0.iter().zip(weights).map(|(v, w)| v * w).sum::<f64>() / weights.iter().sum::<f64>()]
            }
            fn rows(&self) -> usize {
                self.0.len()
            }
        }
        let judge = Mean((0..400).map(|i| f64::from(i % 20)).collect());
        let how = Draws { level: 0.95, count: 2000, seed: 1, stop: &|| false };
        let (low, high) = intervals(&judge, &[1.0; 400], how)[0].unwrap();
        assert_eq!(intervals(&judge, &[1.0; 400], Draws { stop: &|| true, ..how }), [None], "stopped");
        // Mean 9.5, deviation 5.766, so ± 1.96 × 5.766 / 20.
        assert!((low - 8.935).abs() < 0.06 && (high - 10.065).abs() < 0.06, "{low} {high}");
        assert!((quantile(&[1.0, 2.0, 4.0], 0.75) - 3.0).abs() < 1e-12, "as numpy's default");
    }
}
