//! Two classes and the probability of the positive one.

/// A bin of the calibration: the rows whose score lies in it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Bin {
    /// Where it begins.
    pub from: f64,
    /// Where it ends.
    pub to: f64,
    /// Rows in it.
    pub rows: u64,
    /// The mean of their scores.
    pub score: f64,
    /// The share of positive ones among them.
    pub positives: f64,
}

/// What there is to say of scores. A figure that is not defined is NaN: a share of nothing, or what needs
/// both classes when there is one.
#[derive(Clone, Debug, PartialEq)]
pub struct Score {
    /// Rows.
    pub rows: u64,
    /// Of them positive.
    pub positives: u64,
    /// True positives, false positives, false negatives, true negatives at the threshold.
    pub confusion: [u64; 4],
    /// (tp + tn) / rows.
    pub accuracy: f64,
    /// tp / (tp + fp).
    pub precision: f64,
    /// tp / (tp + fn).
    pub recall: f64,
    /// 2 tp / (2 tp + fp + fn).
    pub f1: f64,
    /// Mean of −ln of the probability given to the truth, which is kept from 0 by the distance of 1 to the next number.
    pub log_loss: f64,
    /// Mean of (score − truth)².
    pub brier: f64,
    /// The share of pairs of a positive and a negative row that stand in the right order; equal scores count half.
    pub auc: f64,
    /// Sum over thresholds of (recall gained) × (precision there).
    pub average_precision: f64,
    /// Mean over bins, weighted by rows, of |mean score − share of positives|.
    pub calibration_error: f64,
    /// The bins, those without rows left out.
    pub bins: Vec<Bin>,
    /// The ROC curve: false positive rate, true positive rate.
    pub roc: Vec<(f64, f64)>,
    /// The precision-recall curve: recall, precision.
    pub curve: Vec<(f64, f64)>,
}

/// Judges scores in [0, 1] against the truth.
pub fn judge_score(scores: &[f64], truth: &[bool], threshold: f64, bins: u32) -> Score {
    let rows = scores.len() as f64;
    let mut confusion = [0u64; 4];
    let (mut log_loss, mut brier) = (0.0, 0.0);
    for (p, t) in scores.iter().zip(truth) {
        let place = match (*p >= threshold, t) {
            (true, true) => 0,
            (true, false) => 1,
            (false, true) => 2,
            (false, false) => 3,
        };
        confusion[place] += 1;
        let given = if *t { *p } else { 1.0 - *p };
        log_loss -= given.max(f64::EPSILON).ln();
        brier += (p - f64::from(u8::from(*t))).powi(2);
    }
    let [tp, fp, fn_, tn] = confusion.map(|n| n as f64);
    let (positives, negatives) = (tp + fn_, fp + tn);
    // Rows in the order of their scores; those of equal ones in any, since they are one threshold.
    let mut order: Vec<u32> = (0..u32::try_from(scores.len()).unwrap_or(u32::MAX)).collect();
    order.sort_unstable_by(|a, b| scores[*b as usize].total_cmp(&scores[*a as usize]));
    // From the highest score down; equal scores are one threshold.
    let (mut hits, mut alarms, mut area, mut average) = (0.0, 0.0, 0.0, 0.0);
    let (mut roc, mut curve) = (vec![(0.0, 0.0)], Vec::new());
    let mut at = 0;
    while at < order.len() {
        let (before_hits, before_alarms) = (hits, alarms);
        let score = scores[order[at] as usize];
        while at < order.len() && scores[order[at] as usize] == score {
            if truth[order[at] as usize] {
                hits += 1.0
            } else {
                alarms += 1.0
            }
            at += 1;
        }
        area += (alarms - before_alarms) * (hits + before_hits) / 2.0;
        average += (hits - before_hits) / positives * hits / (hits + alarms);
        roc.push((alarms / negatives, hits / positives));
        curve.push((hits / positives, hits / (hits + alarms)));
    }
    let bins = calibration(scores, truth, bins);
    Score {
        rows: scores.len() as u64,
        positives: positives as u64,
        confusion,
        accuracy: (tp + tn) / rows,
        precision: tp / (tp + fp),
        recall: tp / positives,
        f1: 2.0 * tp / (2.0 * tp + fp + fn_),
        log_loss: log_loss / rows,
        brier: brier / rows,
        auc: area / (positives * negatives),
        average_precision: if positives > 0.0 { average } else { f64::NAN },
        calibration_error: bins.iter().map(|b| b.rows as f64 / rows * (b.score - b.positives).abs()).sum(),
        bins,
        roc,
        curve,
    }
}

/// Bins of equal width; a score on an edge belongs to the bin above, 1 to the last.
fn calibration(scores: &[f64], truth: &[bool], bins: u32) -> Vec<Bin> {
    let count = bins.max(1) as usize;
    let mut sums = vec![(0u64, 0.0, 0u64); count];
    for (p, t) in scores.iter().zip(truth) {
        let bin = ((p * count as f64).floor() as usize).min(count - 1);
        sums[bin].0 += 1;
        sums[bin].1 += p;
        sums[bin].2 += u64::from(*t);
    }
    let made = sums.into_iter().enumerate().map(|(i, (rows, score, positives))| Bin {
        from: i as f64 / count as f64,
        to: (i + 1) as f64 / count as f64,
        rows,
        score: score / rows as f64,
        positives: positives as f64 / rows as f64,
    });
    made.filter(|b| b.rows > 0).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn near(a: f64, b: f64) {
        assert!((a - b).abs() < 1e-9, "{a} {b}");
    }

    #[test]
    fn a_published_example_comes_out() {
        // Fawcett (2006), An introduction to ROC analysis, table of 20 instances in figure 3: area 0.68.
        let scores =
            [0.9, 0.8, 0.7, 0.6, 0.55, 0.54, 0.53, 0.52, 0.51, 0.505, 0.4, 0.39, 0.38, 0.37, 0.36, 0.35, 0.34, 0.33, 0.30, 0.1];
        let truth = [1, 1, 0, 1, 1, 1, 0, 0, 1, 0, 1, 0, 1, 0, 0, 0, 1, 0, 1, 0].map(|t| t == 1);
        let found = judge_score(&scores, &truth, 0.5, 10);
        near(found.auc, 0.68);
        assert_eq!(found.confusion, [6, 4, 4, 6]);
        near(found.accuracy, 0.6);
        near(found.f1, 0.6);
        // The example of scikit-learn's guide: y = [0, 0, 1, 1], scores = [0.1, 0.4, 0.35, 0.8].
        let small = judge_score(&[0.1, 0.4, 0.35, 0.8], &[false, false, true, true], 0.5, 10);
        near(small.auc, 0.75);
        near(small.average_precision, 0.833_333_333_333_333_3);
        // Its log loss, y = [1, 0, 0, 1] with p = [.9, .1, .2, .65].
        near(judge_score(&[0.9, 0.1, 0.2, 0.65], &[true, false, false, true], 0.5, 10).log_loss, 0.216_161_874_680_579_12);
        // Its Brier score, y = [0, 1, 1, 0] with p = [.1, .9, .8, .3].
        near(judge_score(&[0.1, 0.9, 0.8, 0.3], &[false, true, true, false], 0.5, 10).brier, 0.037_5);
    }

    #[test]
    fn what_is_not_defined_is_no_number() {
        let found = judge_score(&[0.1, 0.2], &[true, true], 0.5, 10);
        assert!(found.auc.is_nan() && found.precision.is_nan() && found.recall == 0.0 && found.f1 == 0.0);
        assert!(judge_score(&[0.1], &[false], 0.5, 10).average_precision.is_nan());
        assert!(judge_score(&[0.0], &[true], 0.5, 10).log_loss.is_finite());
    }

    proptest! {
        /// Against definitions taken literally: pairs for the area, thresholds for the average precision.
        #[test]
        fn areas_are_what_they_are_defined_as(rows in prop::collection::vec((0u8..20, any::<bool>()), 2..60)) {
            let scores: Vec<f64> = rows.iter().map(|(s, _)| f64::from(*s) / 19.0).collect();
            let truth: Vec<bool> = rows.iter().map(|(_, t)| *t).collect();
            let found = judge_score(&scores, &truth, 0.5, 7);
            let (mut pairs, mut right) = (0.0, 0.0);
            for (i, t) in truth.iter().enumerate().filter(|(_, t)| **t) {
                for (j, _) in truth.iter().enumerate().filter(|(_, u)| **u != *t) {
                    pairs += 1.0;
                    right += if scores[i] > scores[j] { 1.0 } else if scores[i] == scores[j] { 0.5 } else { 0.0 };
                }
            }
            prop_assert!(pairs == 0.0 && found.auc.is_nan() || (found.auc - right / pairs).abs() < 1e-9);
            let total = truth.iter().filter(|t| **t).count() as f64;
            let (mut before, mut average) = (0.0, 0.0);
            for at in (0..20u8).rev().map(|s| f64::from(s) / 19.0) {
                let chosen = || truth.iter().zip(&scores).filter(|(_, s)| **s >= at);
                let (all, hits) = (chosen().count() as f64, chosen().filter(|(t, _)| **t).count() as f64);
                if all > 0.0 {
                    average += (hits / total - before) * hits / all;
                    before = hits / total;
                }
            }
            prop_assert!(total == 0.0 || (found.average_precision - average).abs() < 1e-9);
            prop_assert_eq!(found.bins.iter().map(|b| b.rows).sum::<u64>(), rows.len() as u64);
        }
    }
}
