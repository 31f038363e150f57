//! Any number of classes, and the predicted one.

use std::collections::HashMap;

use super::Labels;
use super::judge::Judge;

/// Predicted classes and the truth of rows.
pub struct ClassLabels {
    /// The classes met in truth or prediction, sorted.
    pub names: Vec<String>,
    truth: Vec<u32>,
    predicted: Vec<u32>,
}

/// Figures of classes out of a confusion. A figure that is not defined is NaN.
pub struct ClassFigures {
    /// Weight predicted right / weight.
    pub accuracy: f64,
    /// Precision, recall and F1 of each class.
    pub each: Vec<[f64; 3]>,
    /// Their means over the classes; one that is not defined counts as 0.
    pub macro_mean: [f64; 3],
    /// Mean recall of the classes that are there in the truth.
    pub balanced_accuracy: f64,
}

/// The figures of a confusion: weights by true class, then by predicted class.
pub fn figures_of(confusion: &[Vec<f64>]) -> ClassFigures {
    let count = confusion.len();
    let all: f64 = confusion.iter().flatten().sum();
    let right: f64 = (0..count).map(|i| confusion[i][i]).sum();
    let each: Vec<[f64; 3]> = (0..count)
        .map(|i| {
            let hits = confusion[i][i];
            let predicted = confusion.iter().map(|row| row[i]).sum::<f64>();
            let there = confusion[i].iter().sum::<f64>();
            [hits / predicted, hits / there, 2.0 * hits / (predicted + there)]
        })
        .collect();
    // A class that no row has any more, in truth or prediction, is none.
    let met: Vec<&[f64; 3]> = each.iter().filter(|e| !e[2].is_nan()).collect();
    let or_zero = |v: f64| if v.is_nan() { 0.0 } else { v };
    let recalls: Vec<f64> = each.iter().map(|e| e[1]).filter(|r| !r.is_nan()).collect();
    ClassFigures {
        accuracy: right / all,
        macro_mean: [0, 1, 2].map(|k| met.iter().map(|e| or_zero(e[k])).sum::<f64>() / met.len() as f64),
        balanced_accuracy: recalls.iter().sum::<f64>() / recalls.len() as f64,
        each,
    }
}

impl ClassLabels {
    /// Predicted classes and the truth.
    pub fn new(predicted: &Labels, truth: &Labels) -> ClassLabels {
        let names: Vec<&str> = predicted.distinct().union(&truth.distinct()).copied().collect();
        let place: HashMap<&str, usize> = names.iter().enumerate().map(|(i, name)| (*name, i)).collect();
        let of = |labels: &Labels| labels.places(&place).map(|p| p as u32).collect();
        ClassLabels { truth: of(truth), predicted: of(predicted), names: names.iter().map(|n| (*n).to_string()).collect() }
    }

    /// Weights by true class, then by predicted class.
    pub fn confusion(&self, weights: &[f64]) -> Vec<Vec<f64>> {
        let mut confusion = vec![vec![0.0; self.names.len()]; self.names.len()];
        for ((t, p), w) in self.truth.iter().zip(&self.predicted).zip(weights) {
            confusion[*t as usize][*p as usize] += w;
        }
        confusion
    }

    /// Whether each row is predicted right.
    pub fn right(&self) -> Vec<bool> {
        self.truth.iter().zip(&self.predicted).map(|(t, p)| t == p).collect()
    }
}

impl Judge for ClassLabels {
    fn names(&self) -> Vec<String> {
        let plain = ["accuracy", "f1", "precision", "recall", "balanced_accuracy", "rows"].map(String::from);
        let of = |name: &String| ["precision", "recall", "f1"].map(|what| format!("class.{name}.{what}"));
        plain.into_iter().chain(self.names.iter().flat_map(of)).collect()
    }

    fn values(&self, weights: &[f64]) -> Vec<f64> {
        let found = figures_of(&self.confusion(weights));
        let [precision, recall, f1] = found.macro_mean;
        let plain = [found.accuracy, f1, precision, recall, found.balanced_accuracy, weights.iter().sum()];
        plain.into_iter().chain(found.each.into_iter().flatten()).collect()
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
        // The example of scikit-learn's `precision_recall_fscore_support`: macro (0.22…, 0.33…, 0.26…).
        let words = |text: &str| text.split(' ').collect::<Labels>();
        let judge = ClassLabels::new(&words("cat pig dog cat cat dog"), &words("cat dog pig cat dog pig"));
        let confusion = judge.confusion(&[1.0; 6]);
        let found = figures_of(&confusion);
        for (a, b) in found.macro_mean.iter().zip([0.222_222_222_222_222_2, 0.333_333_333_333_333_3, 0.266_666_666_666_666_66]) {
            assert!((a - b).abs() < 1e-9, "{a} {b}");
        }
        assert_eq!(judge.names, ["cat", "dog", "pig"]);
        assert_eq!(confusion, [[2.0, 0.0, 0.0], [1.0, 0.0, 1.0], [0.0, 2.0, 0.0]]);
        assert!((found.accuracy - 1.0 / 3.0).abs() < 1e-12 && (found.balanced_accuracy - 1.0 / 3.0).abs() < 1e-12);
        // A row that counts for nothing is not there.
        let without = figures_of(&judge.confusion(&[1.0, 0.0, 1.0, 1.0, 0.0, 1.0]));
        assert_eq!(without.accuracy, 0.5);
    }
}
