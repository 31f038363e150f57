//! A quantity, and the predicted one.

use super::judge::{Judge, mean};

/// Predicted quantities and the true ones, with all that does not depend on how much each row counts.
pub struct Quantities<'p> {
    predicted: &'p [f64],
    truth: &'p [f64],
    quantile: Option<f64>,
    interval: Option<(&'p [f64], &'p [f64])>,
    /// Rows in the order of their errors' sizes, the smallest first.
    by_error: Vec<u32>,
}

impl<'p> Quantities<'p> {
    /// Predictions, the truth, the quantile that is predicted if it is one, and predicted intervals if there are.
    pub fn new(
        predicted: &'p [f64],
        truth: &'p [f64],
        quantile: Option<f64>,
        interval: Option<(&'p [f64], &'p [f64])>,
    ) -> Quantities<'p> {
        let size = |row: &u32| (predicted[*row as usize] - truth[*row as usize]).abs();
        let mut by_error: Vec<u32> = (0..truth.len() as u32).collect();
        by_error.sort_by(|a, b| size(a).total_cmp(&size(b)));
        Quantities { predicted, truth, quantile, interval, by_error }
    }

    fn error(&self, row: usize) -> f64 {
        self.predicted[row] - self.truth[row]
    }

    /// The median of the errors' sizes: the mean of the two in the middle where it lies between them.
    fn median_error(&self, weights: &[f64], all: f64) -> f64 {
        let (mut below, mut first) = (0.0, None);
        for row in &self.by_error {
            let row = *row as usize;
            if weights[row] <= 0.0 {
                continue;
            }
            if let Some(first) = first {
                return f64::midpoint(first, self.error(row).abs());
            }
            below += weights[row];
            if below > all / 2.0 {
                return self.error(row).abs();
            }
            if below == all / 2.0 {
                first = Some(self.error(row).abs());
            }
        }
        first.unwrap_or(f64::NAN)
    }

    /// The share of rows whose truth lies in the predicted interval, and its mean width.
    fn coverage(&self, (low, high): (&[f64], &[f64]), weights: &[f64], all: f64) -> [f64; 2] {
        let (mut inside, mut width) = (0.0, 0.0);
        for (row, w) in weights.iter().enumerate().filter(|(_, w)| **w > 0.0) {
            inside += if (low[row]..=high[row]).contains(&self.truth[row]) { *w } else { 0.0 };
            width += w * (high[row] - low[row]);
        }
        [mean(inside, all), mean(width, all)]
    }
}

impl Judge for Quantities<'_> {
    fn names(&self) -> Vec<String> {
        let plain = ["rmse", "mae", "r2", "bias", "max_error", "median_error", "mape", "mape_left_out", "rows"];
        let quantile: &[&str] = if self.quantile.is_some() { &["quantile_loss", "share_below"] } else { &[] };
        let interval: &[&str] = if self.interval.is_some() { &["coverage", "mean_width"] } else { &[] };
        plain.iter().chain(quantile).chain(interval).map(|n| (*n).to_string()).collect()
    }

    fn values(&self, weights: &[f64]) -> Vec<f64> {
        let (mut all, mut total, mut squares, mut sizes, mut sum, mut largest) = (0.0, 0.0, 0.0, 0.0, 0.0, 0.0f64);
        let (mut relative, mut told, mut left_out, mut pinball, mut below) = (0.0, 0.0, 0.0, 0.0, 0.0);
        for (row, w) in weights.iter().enumerate().filter(|(_, w)| **w > 0.0) {
            let (truth, error) = (self.truth[row], self.error(row));
            all += w;
            total += w * truth;
            squares += w * error * error;
            sizes += w * error.abs();
            sum += w * error;
            largest = largest.max(error.abs());
            // A share of nothing is none: such rows are left out and counted.
            match truth == 0.0 {
                true => left_out += w,
                false => (relative, told) = (relative + w * (error / truth).abs(), told + w),
            }
            if let Some(q) = self.quantile {
                pinball += w * if error < 0.0 { -q * error } else { (1.0 - q) * error };
                below += if truth <= self.predicted[row] { *w } else { 0.0 };
            }
        }
        let center = total / all;
        let spread: f64 = self.truth.iter().zip(weights).map(|(t, w)| w * (t - center).powi(2)).sum();
        let r2 = if spread > 0.0 { 1.0 - squares / spread } else { f64::NAN };
        let mut found = vec![mean(squares, all).sqrt(), mean(sizes, all), r2, mean(sum, all), largest];
        found.extend([self.median_error(weights, all), mean(relative, told), left_out, all]);
        found.extend(self.quantile.iter().flat_map(|_| [mean(pinball, all), mean(below, all)]));
        found.extend(self.interval.iter().flat_map(|i| self.coverage(*i, weights, all)));
        found
    }

    fn rows(&self) -> usize {
        self.truth.len()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_published_example_comes_out() {
        // The examples of scikit-learn's guide: true [3, −0.5, 2, 7], predicted [2.5, 0, 2, 8].
        let (predicted, truth) = ([2.5, 0.0, 2.0, 8.0], [3.0, -0.5, 2.0, 7.0]);
        let interval = ([2.0, -1.0, 2.5, 6.0], [3.0, 0.0, 3.0, 8.0]);
        let judge = Quantities::new(&predicted, &truth, Some(0.9), Some((&interval.0, &interval.1)));
        let values = judge.values(&[1.0; 4]);
        for (name, expected) in [
            ("rmse", 0.375f64.sqrt()),
            ("mae", 0.5),
            ("r2", 0.948_608_137_044_967_9),
            ("bias", 0.25),
            ("max_error", 1.0),
            ("median_error", 0.5),
            ("mape", 0.327_380_952_380_952_4),
            ("mape_left_out", 0.0),
            // mean_pinball_loss(y, p, alpha=0.9).
            ("quantile_loss", 0.15),
            ("share_below", 0.75),
            ("coverage", 0.75),
            ("mean_width", 1.125),
        ] {
            let found = values[judge.names().iter().position(|n| n == name).unwrap()];
            assert!((found - expected).abs() < 1e-9, "{name}: {found} {expected}");
        }
        let same = Quantities::new(&[1.0], &[1.0], None, None);
        assert!(same.values(&[1.0])[2].is_nan(), "nothing to explain");
    }
}
