//! Any number of classes, and the predicted one.

use std::collections::HashMap;

use super::Labels;

/// What there is to say of predicted classes. A figure that is not defined is NaN.
#[derive(Clone, Debug, PartialEq)]
pub struct Classes {
    /// The classes met in truth or prediction, sorted.
    pub names: Vec<String>,
    /// Rows by true class, then by predicted class.
    pub confusion: Vec<Vec<u64>>,
    /// Rows predicted right / rows.
    pub accuracy: f64,
    /// Precision, recall and F1 of each class.
    pub each: Vec<[f64; 3]>,
    /// Their means over the classes; one that is not defined counts as 0.
    pub macro_mean: [f64; 3],
    /// Mean recall of the classes that are there in the truth.
    pub balanced_accuracy: f64,
}

/// Judges predicted classes against the truth.
pub fn judge_classes(predicted: &Labels, truth: &Labels) -> Classes {
    let names: Vec<&str> = predicted.distinct().union(&truth.distinct()).copied().collect();
    let place: HashMap<&str, usize> = names.iter().enumerate().map(|(i, name)| (*name, i)).collect();
    let count = names.len();
    let mut confusion = vec![vec![0u64; count]; count];
    for (p, t) in predicted.places(&place).zip(truth.places(&place)) {
        confusion[t][p] += 1;
    }
    let right: u64 = (0..count).map(|i| confusion[i][i]).sum();
    let each: Vec<[f64; 3]> = (0..count)
        .map(|i| {
            let hits = confusion[i][i] as f64;
            let predicted = confusion.iter().map(|row| row[i]).sum::<u64>() as f64;
            let there = confusion[i].iter().sum::<u64>() as f64;
            [hits / predicted, hits / there, 2.0 * hits / (predicted + there)]
        })
        .collect();
    let or_zero = |v: f64| if v.is_nan() { 0.0 } else { v };
    let recalls: Vec<f64> = each.iter().map(|e| e[1]).filter(|r| !r.is_nan()).collect();
    Classes {
        names: names.iter().map(|n| (*n).to_string()).collect(),
        accuracy: right as f64 / truth.len() as f64,
        macro_mean: [0, 1, 2].map(|k| each.iter().map(|e| or_zero(e[k])).sum::<f64>() / count as f64),
        balanced_accuracy: recalls.iter().sum::<f64>() / recalls.len() as f64,
        each,
        confusion,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_published_example_comes_out() {
        // The example of scikit-learn's `precision_recall_fscore_support`: macro (0.22…, 0.33…, 0.26…).
        let words = |text: &str| text.split(' ').collect::<Labels>();
        let found = judge_classes(&words("cat pig dog cat cat dog"), &words("cat dog pig cat dog pig"));
        for (a, b) in found.macro_mean.iter().zip([0.222_222_222_222_222_2, 0.333_333_333_333_333_3, 0.266_666_666_666_666_66]) {
            assert!((a - b).abs() < 1e-9, "{a} {b}");
        }
        assert_eq!(found.names, ["cat", "dog", "pig"]);
        assert_eq!(found.confusion, [[2, 0, 0], [1, 0, 1], [0, 2, 0]]);
        assert!((found.accuracy - 1.0 / 3.0).abs() < 1e-12 && (found.balanced_accuracy - 1.0 / 3.0).abs() < 1e-12);
    }
}
