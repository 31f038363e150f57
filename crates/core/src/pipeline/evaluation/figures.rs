//! What an evaluation draws.

use super::groups::Group;
use super::score::{AtThreshold, Bin, Curves};
use crate::figure::{Axis, COLORS, Figure, GREY, Mark, Scale, number};

fn unit(label: &str) -> Axis {
    Axis::even(label).within(0.0, 1.0)
}

/// What is drawn of scores.
pub struct OfScore<'f> {
    /// The curves.
    pub curves: &'f Curves,
    /// The bins of the calibration.
    pub bins: &'f [Bin],
    /// What is decided at the threshold.
    pub at: AtThreshold,
    /// The area under the ROC curve, the average precision, and the calibration error.
    pub told: [f64; 3],
    /// The positive class, and the threshold as it was written.
    pub positive: (&'f str, &'f str),
}

/// Of scores: ROC curve, precision and recall, gains, calibration, confusion.
pub fn of_score(found: &OfScore<'_>) -> Vec<(&'static str, Figure)> {
    let square = |mut figure: Figure, subtitle: String| {
        (figure.size, figure.subtitle) = ((520.0, 480.0), subtitle);
        figure
    };
    let [auc, average, calibration_error] = found.told;
    let [tp, fp, fn_, tn] = found.at.counts;
    let (rows, share) = (tp + fp + fn_ + tn, (tp + fn_) / (tp + fp + fn_ + tn));
    let diagonal = |figure: Figure| figure.line(vec![(0.0, 0.0), (1.0, 1.0)], GREY, true);
    let roc = diagonal(Figure::new("ROC curve", unit("false positive rate"), unit("true positive rate")));
    let curve =
        Figure::new("Precision and recall", unit("recall"), unit("precision")).line(vec![(0.0, share), (1.0, share)], GREY, true);
    let gains = diagonal(Figure::new("Gains", unit("share of rows, the highest scores first"), unit("share of positives found")))
        .line(vec![(0.0, 0.0), (share, 1.0), (1.0, 1.0)], GREY, true);
    let points = found
        .bins
        .iter()
        .map(|b| (b.score, b.positives, format!("{} rows, {} to {}", number(b.weight), number(b.from), number(b.to))));
    let calibration = diagonal(Figure::new("Calibration", unit("mean score of a bin"), unit("share of positives in it")))
        .line(found.bins.iter().map(|b| (b.score, b.positives)).collect(), COLORS[0], false)
        .with(Mark::Points { points: points.collect(), color: COLORS[0].into(), radius: 4.0 });
    let names = vec!["other".to_string(), found.positive.0.to_string()];
    let mut confusion = matrix("Confusion", &names, &[vec![tn, fp], vec![fn_, tp]]);
    confusion.subtitle = format!("positive from {} on", found.positive.1);
    let line = |figure: Figure, points: &[(f64, f64)]| figure.line(points.to_vec(), COLORS[0], false);
    let curves = found.curves;
    vec![
        ("roc", square(line(roc, &curves.roc), format!("area {} on {} rows", number(auc), number(rows)))),
        (
            "precision-recall",
            square(
                line(curve, &curves.precision_recall),
                format!("average precision {}; dashed: share of positives", number(average)),
            ),
        ),
        ("gains", square(line(gains, &curves.gains), "dashed: by chance, and at best".to_string())),
        ("calibration", square(calibration, format!("mean distance to the diagonal {}", number(calibration_error)))),
        ("confusion", confusion),
    ]
}

/// A confusion, shaded by the share of the true class.
pub fn matrix(title: &str, names: &[String], confusion: &[Vec<f64>]) -> Figure {
    let turned: Vec<String> = names.iter().rev().cloned().collect();
    let axis = |label: &str, names: Vec<String>| Axis { label: label.into(), scale: Scale::Names(names), range: None };
    let mut cells = Vec::new();
    for (i, row) in confusion.iter().enumerate() {
        let total = row.iter().sum::<f64>().max(f64::MIN_POSITIVE);
        for (j, count) in row.iter().enumerate() {
            cells.push((j as f64, (names.len() - 1 - i) as f64, *count / total, number(*count)));
        }
    }
    let mut figure = Figure::new(title, axis("predicted", names.to_vec()), axis("true", turned)).with(Mark::Cells { cells });
    let side = 200.0 + 70.0 * names.len().min(16) as f64;
    figure.size = (side + 80.0, side);
    figure
}

/// Of quantities: predicted over true, residuals over predicted.
pub fn of_quantity(predicted: &[f64], truth: &[f64]) -> Vec<(&'static str, Figure)> {
    const MOST: usize = 3000;
    let step = truth.len().div_ceil(MOST).max(1);
    let pairs = || truth.iter().zip(predicted).step_by(step);
    let (low, high) = truth.iter().chain(predicted).fold((f64::MAX, f64::MIN), |(l, h), v| (l.min(*v), h.max(*v)));
    let points = |points: Vec<(f64, f64, String)>| Mark::Points { points, color: COLORS[0].into(), radius: 2.4 };
    let near = pairs().map(|(t, p)| (*t, *p, String::new())).collect();
    let residuals = pairs().map(|(t, p)| (*p, p - t, String::new())).collect();
    vec![
        (
            "predicted",
            Figure::new("Predicted over true", Axis::even("true"), Axis::even("predicted"))
                .line(vec![(low, low), (high, high)], GREY, true)
                .with(points(near)),
        ),
        (
            "residuals",
            Figure::new("Residuals", Axis::even("predicted"), Axis::even("predicted − true"))
                .line(vec![(low, 0.0), (high, 0.0)], GREY, true)
                .with(points(residuals)),
        ),
    ]
}

/// Groups by their headline metric, with its interval where that is known; the whole as a dashed line.
pub fn of_groups(by: &str, metric: &str, at: usize, whole: f64, groups: &[Group]) -> Figure {
    // More than a page can show are left out, the ones in the middle.
    const MOST: usize = 60;
    let value = |g: &Group| g.values.get(at).copied().unwrap_or(f64::NAN);
    let mut order: Vec<&Group> = groups.iter().filter(|g| value(g).is_finite()).collect();
    order.sort_by(|a, b| value(a).total_cmp(&value(b)));
    let left_out = order.len().saturating_sub(MOST);
    if left_out > 0 {
        order.drain(MOST / 2..MOST / 2 + left_out);
    }
    let names: Vec<String> = order.iter().map(|g| g.name.clone()).collect();
    let told = |g: &Group| format!("{}: {} on {} rows", g.name, number(value(g)), g.rows);
    let points = order.iter().enumerate().map(|(i, g)| (value(g), i as f64, told(g))).collect();
    let mut figure = Figure::new(
        &format!("{metric} by {by}"),
        Axis::even(metric),
        Axis { label: by.to_string(), scale: Scale::Names(names.clone()), range: None },
    );
    figure.subtitle = format!("dashed: all rows, {}", number(whole));
    if left_out > 0 {
        figure.subtitle.push_str(&format!("; {left_out} groups in the middle are left out"));
    }
    figure.size = (640.0, 140.0 + 19.0 * names.len() as f64);
    figure = figure.line(vec![(whole, -0.5), (whole, names.len() as f64 - 0.5)], GREY, true);
    for (i, (low, high)) in order.iter().enumerate().filter_map(|(i, g)| Some((i, g.intervals.get(at).copied().flatten()?))) {
        figure = figure.line(vec![(low, i as f64), (high, i as f64)], COLORS[0], false);
    }
    figure.with(Mark::Points { points, color: COLORS[0].into(), radius: 4.0 })
}
