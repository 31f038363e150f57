//! Several classes and the probability of each.

use super::Labels;
use super::classes::{ClassFigures, figures_of};
use super::judge::{Judge, areas, descending, mean};

/// The probabilities of classes, row by row.
pub struct ClassScores<'p> {
    classes: &'p [String],
    scores: &'p [Vec<f64>],
    truth: Vec<u32>,
    predicted: Vec<u32>,
    /// How many classes are more probable than the true one.
    above: Vec<u32>,
    orders: Vec<Vec<u32>>,
}

/// So many of the most probable classes are looked at.
const TOP: [u32; 2] = [2, 3];

impl<'p> ClassScores<'p> {
    /// For each class its rows' probabilities; the truth of each row is one of the classes.
    pub fn new(classes: &'p [String], scores: &'p [Vec<f64>], truth: &Labels) -> ClassScores<'p> {
        let place = classes.iter().enumerate().map(|(i, c)| (c.as_str(), i)).collect();
        let truth: Vec<u32> = truth.places(&place).map(|p| p as u32).collect();
        let rows = truth.len();
        let best = |row: usize| {
            let mut best = 0;
            (1..classes.len()).for_each(|c| best = if scores[c][row] > scores[best][row] { c } else { best });
            best as u32
        };
        // Of classes that are as probable, the true one stands last: nothing is told in its favour.
        let above = |row: usize| {
            let own = truth[row] as usize;
            (0..classes.len()).filter(|c| *c != own && scores[*c][row] >= scores[own][row]).count() as u32
        };
        ClassScores {
            predicted: (0..rows).map(best).collect(),
            above: (0..rows).map(above).collect(),
            orders: scores.iter().map(|s| descending(s)).collect(),
            classes,
            scores,
            truth,
        }
    }

    /// Weights by true class, then by the most probable one.
    pub fn confusion(&self, weights: &[f64]) -> Vec<Vec<f64>> {
        let mut confusion = vec![vec![0.0; self.classes.len()]; self.classes.len()];
        for ((t, p), w) in self.truth.iter().zip(&self.predicted).zip(weights) {
            confusion[*t as usize][*p as usize] += w;
        }
        confusion
    }

    /// The share of pairs of rows of two classes that stand in the right order by the probability of the first.
    fn pair_auc(&self, a: usize, b: usize, weights: &[f64]) -> f64 {
        let of = |row: &&u32| [a, b].contains(&(self.truth[**row as usize] as usize));
        let order: Vec<u32> = self.orders[a].iter().filter(of).copied().collect();
        areas(&order, &self.scores[a], |row| self.truth[row] as usize == a, weights).0
    }

    /// Mean over all pairs of classes (Hand and Till, "A Simple Generalisation of the Area Under the ROC Curve", 2001).
    fn pairwise(&self, weights: &[f64]) -> f64 {
        let (mut sum, mut count) = (0.0, 0.0);
        for a in 0..self.classes.len() {
            for b in 0..self.classes.len() {
                let found = if a == b { f64::NAN } else { self.pair_auc(a, b, weights) };
                if !found.is_nan() {
                    sum += found;
                    count += 1.0;
                }
            }
        }
        mean(sum, count)
    }
}

fn mean_of(values: impl Iterator<Item = f64>) -> f64 {
    let (sum, count) = values.filter(|v| !v.is_nan()).fold((0.0, 0.0), |(s, n), v| (s + v, n + 1.0));
    mean(sum, count)
}

impl Judge for ClassScores<'_> {
    fn names(&self) -> Vec<String> {
        let plain = ["auc", "log_loss", "accuracy", "balanced_accuracy", "f1", "precision", "recall", "pairwise_auc"];
        let more = ["average_precision", "brier", "top_2", "top_3", "rows"];
        let of = |c: &String| ["auc", "average_precision", "precision", "recall", "f1"].map(|what| format!("class.{c}.{what}"));
        plain.iter().chain(&more).map(|n| (*n).to_string()).chain(self.classes.iter().flat_map(of)).collect()
    }

    fn values(&self, weights: &[f64]) -> Vec<f64> {
        let each: Vec<(f64, f64)> = (0..self.classes.len())
            .map(|c| areas(&self.orders[c], &self.scores[c], |row| self.truth[row] as usize == c, weights))
            .collect();
        let (mut all, mut log_loss, mut brier, mut top) = (0.0, 0.0, 0.0, [0.0; 2]);
        for (row, w) in weights.iter().enumerate().filter(|(_, w)| **w > 0.0) {
            let own = self.truth[row] as usize;
            all += w;
            log_loss -= w * self.scores[own][row].max(f64::EPSILON).ln();
            let off = |c: usize| (self.scores[c][row] - f64::from(u8::from(c == own))).powi(2);
            brier += w * (0..self.classes.len()).map(off).sum::<f64>();
            top.iter_mut().zip(TOP).for_each(|(sum, k)| *sum += if self.above[row] < k { *w } else { 0.0 });
        }
        let ClassFigures { accuracy, each: figures, macro_mean: [precision, recall, f1], balanced_accuracy } =
            figures_of(&self.confusion(weights));
        let auc = mean_of(each.iter().map(|e| e.0));
        let mut found = vec![auc, mean(log_loss, all), accuracy, balanced_accuracy, f1, precision, recall, self.pairwise(weights)];
        found.extend([mean_of(each.iter().map(|e| e.1)), mean(brier, all), mean(top[0], all), mean(top[1], all), all]);
        for ((auc, average), [precision, recall, f1]) in each.into_iter().zip(figures) {
            found.extend([auc, average, precision, recall, f1]);
        }
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
    fn the_figures_are_those_of_an_independent_library() {
        let classes = ["drive", "warp", "weft"].map(String::from);
        let scores = [vec![0.7, 0.2, 0.1, 0.3, 0.5, 0.1], vec![0.2, 0.5, 0.3, 0.3, 0.4, 0.8], vec![0.1, 0.3, 0.6, 0.4, 0.1, 0.1]];
        let truth: Labels = ["drive", "warp", "weft", "drive", "warp", "warp"].into_iter().collect();
        let judge = ClassScores::new(&classes, &scores, &truth);
        let values = judge.values(&[1.0; 6]);
        let of = |name: &str| values[judge.names().iter().position(|n| n == name).unwrap()];
        // scikit-learn 1.9: roc_auc_score (ovr and ovo, macro), log_loss, average_precision_score (macro), accuracy_score.
        for (name, expected) in [
            ("auc", 0.958_333_333_333_333_4),
            ("pairwise_auc", 0.972_222_222_222_222_2),
            ("log_loss", 0.650_675_805_963_161_5),
            ("average_precision", 0.944_444_444_444_444_4),
            ("accuracy", 4.0 / 6.0),
            ("top_2", 5.0 / 6.0),
            ("top_3", 1.0),
        ] {
            assert!((of(name) - expected).abs() < 1e-9, "{name}: {} {expected}", of(name));
        }
    }
}
