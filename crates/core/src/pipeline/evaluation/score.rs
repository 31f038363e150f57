//! Two classes and the probability of the positive one.

use super::judge::{Judge, areas, descending, mean};

/// A bin of the calibration: the rows whose score lies in it.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Bin {
    /// Where it begins.
    pub from: f64,
    /// Where it ends.
    pub to: f64,
    /// The weight of the rows in it.
    pub weight: f64,
    /// The mean of their scores.
    pub score: f64,
    /// The share of positive ones among them.
    pub positives: f64,
}

/// What is decided at a threshold.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct AtThreshold {
    /// From this score on the positive class is predicted.
    pub threshold: f64,
    /// True positives, false positives, false negatives, true negatives.
    pub counts: [f64; 4],
}

impl AtThreshold {
    /// The mean cost of a row.
    pub fn cost(&self, (false_positive, false_negative): (f64, f64)) -> f64 {
        let [tp, fp, fn_, tn] = self.counts;
        mean(fp * false_positive + fn_ * false_negative, tp + fp + fn_ + tn)
    }
}

/// The scores of rows, with all that does not depend on how much each counts.
pub struct Scores<'p> {
    scores: &'p [f64],
    truth: Vec<bool>,
    threshold: f64,
    bins: u32,
    cost: Option<(f64, f64)>,
    order: Vec<u32>,
}

/// Curves of scores, thinned to at most so many points.
pub struct Curves {
    /// False positive rate, true positive rate.
    pub roc: Vec<(f64, f64)>,
    /// Recall, precision.
    pub precision_recall: Vec<(f64, f64)>,
    /// Share of rows looked at, the highest scores first; share of positives found among them.
    pub gains: Vec<(f64, f64)>,
}

const NAMES: [&str; 16] = [
    "auc",
    "average_precision",
    "log_loss",
    "brier",
    "accuracy",
    "precision",
    "recall",
    "f1",
    "specificity",
    "mcc",
    "calibration_error",
    "true_positives",
    "false_positives",
    "false_negatives",
    "true_negatives",
    "rows",
];

impl<'p> Scores<'p> {
    /// Scores in [0, 1] and the truth. `cost`: of a false positive and of a false negative.
    pub fn new(scores: &'p [f64], truth: Vec<bool>, threshold: f64, bins: u32, cost: Option<(f64, f64)>) -> Scores<'p> {
        Scores { order: descending(scores), scores, truth, threshold, bins, cost }
    }

    /// What is decided at a threshold.
    pub fn at(&self, threshold: f64, weights: &[f64]) -> AtThreshold {
        let mut counts = [0.0; 4];
        for ((p, t), w) in self.scores.iter().zip(&self.truth).zip(weights) {
            counts[place(*p >= threshold, *t)] += w;
        }
        AtThreshold { threshold, counts }
    }

    /// Visits what is decided at each score that occurs, from the highest down; first at one above all.
    fn each_threshold(&self, weights: &[f64], visit: &mut dyn FnMut(AtThreshold)) {
        let [mut tp, mut fp] = [0.0; 2];
        let (mut positives, mut negatives) = (0.0, 0.0);
        self.truth.iter().zip(weights).for_each(|(t, w)| *(if *t { &mut positives } else { &mut negatives }) += w);
        visit(AtThreshold { threshold: f64::INFINITY, counts: [0.0, 0.0, positives, negatives] });
        let mut at = 0;
        while at < self.order.len() {
            let score = self.scores[self.order[at] as usize];
            while at < self.order.len() && self.scores[self.order[at] as usize] == score {
                let row = self.order[at] as usize;
                if self.truth[row] {
                    tp += weights[row]
                } else {
                    fp += weights[row]
                }
                at += 1;
            }
            visit(AtThreshold { threshold: score, counts: [tp, fp, positives - tp, negatives - fp] });
        }
    }

    /// The threshold at which decisions cost least; of several the highest.
    pub fn cheapest(&self, weights: &[f64], cost: (f64, f64)) -> (AtThreshold, f64) {
        let mut best = (AtThreshold::default(), f64::INFINITY);
        self.each_threshold(weights, &mut |at| {
            let now = at.cost(cost);
            if now < best.1 {
                best = (at, now);
            }
        });
        best
    }

    /// The curves.
    pub fn curves(&self, weights: &[f64]) -> Curves {
        // As many as a page can show.
        const MOST: usize = 800;
        let mut distinct = 0usize;
        self.each_threshold(weights, &mut |_| distinct += 1);
        let (step, mut at) = (distinct.div_ceil(MOST).max(1), 0usize);
        let mut curves = Curves { roc: Vec::new(), precision_recall: Vec::new(), gains: Vec::new() };
        self.each_threshold(weights, &mut |found| {
            at += 1;
            // The first and the last are where curves begin and end.
            if at != 1 && at != distinct && !at.is_multiple_of(step) {
                return;
            }
            let [tp, fp, fn_, tn] = found.counts;
            curves.roc.push((fp / (fp + tn), tp / (tp + fn_)));
            curves.gains.push(((tp + fp) / (tp + fp + fn_ + tn), tp / (tp + fn_)));
            if tp + fp > 0.0 {
                curves.precision_recall.push((tp / (tp + fn_), tp / (tp + fp)));
            }
        });
        curves
    }

    /// Bins of equal width, those without rows left out; a score on an edge belongs to the bin above, 1 to the last.
    pub fn calibration(&self, weights: &[f64]) -> Vec<Bin> {
        let count = self.bins.max(1) as usize;
        let mut sums = vec![(0.0, 0.0, 0.0); count];
        for ((p, t), w) in self.scores.iter().zip(&self.truth).zip(weights) {
            let bin = &mut sums[((p * count as f64).floor() as usize).min(count - 1)];
            bin.0 += w;
            bin.1 += w * p;
            bin.2 += if *t { *w } else { 0.0 };
        }
        let made = sums.into_iter().enumerate().map(|(i, (weight, score, positives))| Bin {
            from: i as f64 / count as f64,
            to: (i + 1) as f64 / count as f64,
            weight,
            score: score / weight,
            positives: positives / weight,
        });
        made.filter(|b| b.weight > 0.0).collect()
    }
}

fn place(predicted: bool, truth: bool) -> usize {
    match (predicted, truth) {
        (true, true) => 0,
        (true, false) => 1,
        (false, true) => 2,
        (false, false) => 3,
    }
}

impl Judge for Scores<'_> {
    fn names(&self) -> Vec<String> {
        let cost: &[&str] = if self.cost.is_some() { &["cost", "lowest_cost", "cheapest_threshold"] } else { &[] };
        NAMES.iter().chain(cost).map(|n| (*n).to_string()).collect()
    }

    fn values(&self, weights: &[f64]) -> Vec<f64> {
        let (mut all, mut log_loss, mut brier) = (0.0, 0.0, 0.0);
        for ((p, t), w) in self.scores.iter().zip(&self.truth).zip(weights).filter(|(_, w)| **w > 0.0) {
            let given = if *t { *p } else { 1.0 - p };
            all += w;
            log_loss -= w * given.max(f64::EPSILON).ln();
            brier += w * (p - f64::from(u8::from(*t))).powi(2);
        }
        let at = self.at(self.threshold, weights);
        let [tp, fp, fn_, tn] = at.counts;
        let (auc, average) = areas(&self.order, self.scores, |row| self.truth[row], weights);
        let off = |b: Bin| b.weight / all * (b.score - b.positives).abs();
        let calibration = self.calibration(weights).into_iter().map(off).sum::<f64>();
        // Matthews, "Comparison of the Predicted and Observed Secondary Structure of T4 Phage Lysozyme", 1975.
        let mcc = (tp * tn - fp * fn_) / ((tp + fp) * (tp + fn_) * (tn + fp) * (tn + fn_)).sqrt();
        let mut found = vec![auc, average, mean(log_loss, all), mean(brier, all), (tp + tn) / all, tp / (tp + fp), tp / (tp + fn_)];
        found.extend([2.0 * tp / (2.0 * tp + fp + fn_), tn / (tn + fp), mcc, calibration, tp, fp, fn_, tn, all]);
        if let Some(cost) = self.cost {
            let (cheapest, lowest) = self.cheapest(weights, cost);
            // Above all scores nothing is predicted positive: that is what a threshold beyond 1 says.
            found.extend([at.cost(cost), lowest, if cheapest.threshold.is_finite() { cheapest.threshold } else { 1.01 }]);
        }
        found
    }

    fn rows(&self) -> usize {
        self.scores.len()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn near(a: f64, b: f64) {
        assert!((a - b).abs() < 1e-9, "{a} {b}");
    }

    /// A figure of rows that all count once.
    fn of(name: &str, scores: &[f64], truth: &[bool]) -> f64 {
        let judge = Scores::new(scores, truth.to_vec(), 0.5, 10, None);
        let at = judge.names().iter().position(|n| n == name).unwrap();
        judge.values(&vec![1.0; scores.len()])[at]
    }

    #[test]
    fn a_published_example_comes_out() {
        // Fawcett (2006), An introduction to ROC analysis, table of 20 instances in figure 3: area 0.68.
        let scores =
            [0.9, 0.8, 0.7, 0.6, 0.55, 0.54, 0.53, 0.52, 0.51, 0.505, 0.4, 0.39, 0.38, 0.37, 0.36, 0.35, 0.34, 0.33, 0.30, 0.1];
        let truth = [1, 1, 0, 1, 1, 1, 0, 0, 1, 0, 1, 0, 1, 0, 0, 0, 1, 0, 1, 0].map(|t| t == 1);
        near(of("auc", &scores, &truth), 0.68);
        for (name, count) in [("true_positives", 6.0), ("false_positives", 4.0), ("false_negatives", 4.0), ("true_negatives", 6.0)]
        {
            near(of(name, &scores, &truth), count);
        }
        near(of("accuracy", &scores, &truth), 0.6);
        near(of("f1", &scores, &truth), 0.6);
        // (6·6 − 4·4) / √(10·10·10·10).
        near(of("mcc", &scores, &truth), 0.2);
        // The example of scikit-learn's guide: y = [0, 0, 1, 1], scores = [0.1, 0.4, 0.35, 0.8].
        let (scores, truth) = ([0.1, 0.4, 0.35, 0.8], [false, false, true, true]);
        near(of("auc", &scores, &truth), 0.75);
        near(of("average_precision", &scores, &truth), 0.833_333_333_333_333_3);
        // Its log loss, y = [1, 0, 0, 1] with p = [.9, .1, .2, .65].
        near(of("log_loss", &[0.9, 0.1, 0.2, 0.65], &[true, false, false, true]), 0.216_161_874_680_579_12);
        // Its Brier score, y = [0, 1, 1, 0] with p = [.1, .9, .8, .3].
        near(of("brier", &[0.1, 0.9, 0.8, 0.3], &[false, true, true, false]), 0.037_5);
    }

    #[test]
    fn what_is_not_defined_is_no_number() {
        let of = |name, scores: &[f64], truth: &[bool]| of(name, scores, truth);
        assert!(of("auc", &[0.1, 0.2], &[true, true]).is_nan() && of("precision", &[0.1, 0.2], &[true, true]).is_nan());
        assert!(of("recall", &[0.1, 0.2], &[true, true]) == 0.0 && of("f1", &[0.1, 0.2], &[true, true]) == 0.0);
        assert!(of("average_precision", &[0.1], &[false]).is_nan());
        assert!(of("log_loss", &[0.0], &[true]).is_finite());
    }

    #[test]
    fn the_cheapest_threshold_is_the_one_that_costs_least() {
        let (scores, truth) = ([0.9, 0.6, 0.4, 0.2], vec![true, false, true, false]);
        let judge = Scores::new(&scores, truth, 0.5, 10, Some((1.0, 20.0)));
        let (at, cost) = judge.cheapest(&[1.0; 4], (1.0, 20.0));
        assert_eq!((at.threshold, at.counts, cost), (0.4, [2.0, 1.0, 0.0, 1.0], 0.25));
        let (none, cost) = judge.cheapest(&[1.0; 4], (20.0, 0.0));
        assert_eq!((none.threshold, cost), (f64::INFINITY, 0.0));
        let values = judge.values(&[1.0; 4]);
        assert_eq!(&values[16..], [(1.0 + 20.0) / 4.0, 0.25, 0.4]);
    }

    proptest! {
        /// Against definitions taken literally: pairs for the area, thresholds for the average precision; a weight of two is
        /// the row twice.
        #[test]
        fn areas_are_what_they_are_defined_as(rows in prop::collection::vec((0u8..20, any::<bool>(), 0u8..3), 2..60)) {
            let mut repeated: Vec<(f64, bool)> = Vec::new();
            rows.iter().for_each(|(s, t, w)| (0..*w).for_each(|_| repeated.push((f64::from(*s) / 19.0, *t))));
            prop_assume!(repeated.len() > 1);
            let scores: Vec<f64> = rows.iter().map(|(s, ..)| f64::from(*s) / 19.0).collect();
            let weights: Vec<f64> = rows.iter().map(|r| f64::from(r.2)).collect();
            let judge = Scores::new(&scores, rows.iter().map(|r| r.1).collect(), 0.5, 7, Some((1.0, 3.0)));
            let found = judge.values(&weights);
            let (scores, truth): (Vec<f64>, Vec<bool>) = repeated.iter().copied().unzip();
            let plain = Scores::new(&scores, truth.clone(), 0.5, 7, Some((1.0, 3.0))).values(&vec![1.0; scores.len()]);
            for (name, (a, b)) in judge.names().iter().zip(found.iter().zip(&plain)) {
                prop_assert!((a - b).abs() < 1e-9 || (a.is_nan() && b.is_nan()), "{}: {} {}", name, a, b);
            }
            let (mut pairs, mut right) = (0.0, 0.0);
            for (i, _) in truth.iter().enumerate().filter(|(_, t)| **t) {
                for (j, _) in truth.iter().enumerate().filter(|(_, t)| !**t) {
                    pairs += 1.0;
                    right += if scores[i] > scores[j] { 1.0 } else if scores[i] == scores[j] { 0.5 } else { 0.0 };
                }
            }
            prop_assert!(pairs == 0.0 && found[0].is_nan() || (found[0] - right / pairs).abs() < 1e-9);
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
            prop_assert!(total == 0.0 || (found[1] - average).abs() < 1e-9);
        }
    }
}
