//! A quantity, and the predicted one.

/// What there is to say of predicted quantities. A figure that is not defined is NaN.
#[derive(Clone, Debug, PartialEq)]
pub struct Quantity {
    /// Rows.
    pub rows: u64,
    /// Root of the mean of (predicted − true)².
    pub rmse: f64,
    /// Mean of |predicted − true|.
    pub mae: f64,
    /// 1 − sum of (true − predicted)² / sum of (true − mean of true)².
    pub r2: f64,
    /// Mean of predicted − true: above 0, too much is predicted.
    pub bias: f64,
    /// The largest |predicted − true|.
    pub max_error: f64,
}

/// Judges predicted quantities against the true ones.
pub fn judge_quantity(predicted: &[f64], truth: &[f64]) -> Quantity {
    let rows = truth.len() as f64;
    let mean = truth.iter().sum::<f64>() / rows;
    let errors: Vec<f64> = predicted.iter().zip(truth).map(|(p, t)| p - t).collect();
    let squares: f64 = errors.iter().map(|e| e * e).sum();
    let spread: f64 = truth.iter().map(|t| (t - mean).powi(2)).sum();
    Quantity {
        rows: truth.len() as u64,
        rmse: (squares / rows).sqrt(),
        mae: errors.iter().map(|e| e.abs()).sum::<f64>() / rows,
        r2: if spread > 0.0 { 1.0 - squares / spread } else { f64::NAN },
        bias: errors.iter().sum::<f64>() / rows,
        max_error: errors.iter().fold(0.0, |most, e| most.max(e.abs())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_published_example_comes_out() {
        // The examples of scikit-learn's guide: true [3, −0.5, 2, 7], predicted [2.5, 0, 2, 8].
        let found = judge_quantity(&[2.5, 0.0, 2.0, 8.0], &[3.0, -0.5, 2.0, 7.0]);
        for (a, b) in
            [(found.rmse, 0.612_372_435_695_794_5), (found.mae, 0.5), (found.r2, 0.948_608_137_044_967_8), (found.bias, 0.25)]
        {
            assert!((a - b).abs() < 1e-9, "{a} {b}");
        }
        assert_eq!(found.max_error, 1.0);
        assert!(judge_quantity(&[1.0], &[1.0]).r2.is_nan());
    }
}
