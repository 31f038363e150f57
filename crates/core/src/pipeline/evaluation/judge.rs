//! What all judges have in common: figures of rows that count more or less. The whole, a group, and each draw of a
//! bootstrap are the same rows with other weights.

use super::class_scores::ClassScores;
use super::classes::ClassLabels;
use super::quantity::Quantities;
use super::ranking::Ranked;
use super::score::Scores;
use super::{Evaluation, EvaluationError, Judged, Predictions};

/// Judges rows, each of which counts by its weight. A figure that is not defined is NaN.
pub trait Judge: Sync {
    /// What the figures are called, the most telling first.
    fn names(&self) -> Vec<String>;

    /// The figures.
    fn values(&self, weights: &[f64]) -> Vec<f64>;

    /// Rows, of which each has a weight.
    fn rows(&self) -> usize;
}

/// The judge of predictions.
pub fn judge_of<'p>(evaluation: &Evaluation, rows: &'p Predictions) -> Result<Box<dyn Judge + 'p>, EvaluationError> {
    Ok(match &evaluation.judged {
        Judged::Score { positive, threshold, bins, cost, .. } => {
            let number = |text: &str| text.parse().unwrap_or(f64::NAN);
            let cost = cost.as_ref().map(|c| (number(&c.false_positive), number(&c.false_negative)));
            Box::new(Scores::new(&rows.numbers, rows.truth.are(positive), threshold.parse().unwrap_or(0.5), *bins, cost))
        }
        Judged::Scores { .. } => Box::new(ClassScores::new(&rows.classes, &rows.scores, &rows.truth)),
        Judged::Label { .. } => Box::new(ClassLabels::new(&rows.predicted, &rows.truth)),
        Judged::Rank { at, .. } => Box::new(Ranked::new(&rows.numbers, &rows.true_numbers, &rows.query, *at)),
        Judged::Value { quantile, .. } => {
            let quantile = quantile.as_ref().and_then(|q| q.parse().ok());
            let interval = (!rows.low.is_empty()).then_some((&rows.low[..], &rows.high[..]));
            Box::new(Quantities::new(&rows.numbers, &rows.true_numbers, quantile, interval))
        }
    })
}

/// Rows in the order of these numbers, the highest first; of equal ones in the order in which they stand.
pub fn descending(numbers: &[f64]) -> Vec<u32> {
    let mut order: Vec<u32> = (0..numbers.len() as u32).collect();
    order.sort_by(|a, b| numbers[*b as usize].total_cmp(&numbers[*a as usize]));
    order
}

/// The area under the ROC curve and the average precision, of rows in descending order of their scores.
pub fn areas(order: &[u32], scores: &[f64], is_positive: impl Fn(usize) -> bool, weights: &[f64]) -> (f64, f64) {
    let (mut hits, mut alarms, mut area, mut average) = (0.0f64, 0.0f64, 0.0, 0.0);
    let mut at = 0;
    while at < order.len() {
        let (before_hits, before_alarms) = (hits, alarms);
        let score = scores[order[at] as usize];
        while at < order.len() && scores[order[at] as usize] == score {
            let row = order[at] as usize;
            if is_positive(row) {
                hits += weights[row]
            } else {
                alarms += weights[row]
            }
            at += 1;
        }
        area += (alarms - before_alarms) * (hits + before_hits) / 2.0;
        if hits > before_hits {
            average += (hits - before_hits) * hits / (hits + alarms);
        }
    }
    let average = if hits > 0.0 { average / hits } else { f64::NAN };
    (area / (hits * alarms), average)
}

/// The mean, or NaN of nothing.
pub fn mean(sum: f64, weight: f64) -> f64 {
    if weight > 0.0 { sum / weight } else { f64::NAN }
}
