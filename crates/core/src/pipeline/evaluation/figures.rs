//! What an evaluation draws.

use super::report::Judgement;
use super::{Classes, Score};
use crate::figure::{Axis, COLORS, Figure, GREY, Mark, Scale, number};

fn unit(label: &str) -> Axis {
    Axis::even(label).within(0.0, 1.0)
}

/// A curve has at most so many points; one has more than a page can show.
fn thinned(points: &[(f64, f64)]) -> Vec<(f64, f64)> {
    const MOST: usize = 800;
    let step = points.len().div_ceil(MOST).max(1);
    let mut kept: Vec<(f64, f64)> = points.iter().step_by(step).copied().collect();
    kept.extend(points.last().filter(|last| kept.last() != Some(last)));
    kept
}

/// Of scores: ROC curve, precision and recall, calibration, confusion.
pub fn of_score(found: &Score, positive: &str, threshold: &str) -> Vec<(&'static str, Figure)> {
    let square = |mut figure: Figure| {
        figure.size = (520.0, 480.0);
        figure
    };
    let roc = Figure::new("ROC curve", unit("false positive rate"), unit("true positive rate"))
        .line(vec![(0.0, 0.0), (1.0, 1.0)], GREY, true)
        .line(thinned(&found.roc), COLORS[0], false);
    let share = found.positives as f64 / found.rows as f64;
    let curve = Figure::new("Precision and recall", unit("recall"), unit("precision"))
        .line(vec![(0.0, share), (1.0, share)], GREY, true)
        .line(thinned(&found.curve), COLORS[0], false);
    let points =
        found.bins.iter().map(|b| (b.score, b.positives, format!("{} rows, {} to {}", b.rows, number(b.from), number(b.to))));
    let calibration = Figure::new("Calibration", unit("mean score of a bin"), unit("share of positives in it"))
        .line(vec![(0.0, 0.0), (1.0, 1.0)], GREY, true)
        .line(found.bins.iter().map(|b| (b.score, b.positives)).collect(), COLORS[0], false)
        .with(Mark::Points { points: points.collect(), color: COLORS[0].into(), radius: 4.0 });
    let [tp, fp, fn_, tn] = found.confusion;
    let names = vec!["other".to_string(), positive.to_string()];
    let mut confusion = matrix("Confusion", &names, &[vec![tn, fp], vec![fn_, tp]]);
    confusion.subtitle = format!("positive from {threshold} on");
    let with = |mut figure: Figure, subtitle: String| {
        figure.subtitle = subtitle;
        square(figure)
    };
    let rows = found.rows;
    vec![
        ("roc", with(roc, format!("area {} on {rows} rows", number(found.auc)))),
        (
            "precision-recall",
            with(curve, format!("average precision {}; dashed: share of positives", number(found.average_precision))),
        ),
        ("calibration", with(calibration, format!("mean distance to the diagonal {}", number(found.calibration_error)))),
        ("confusion", confusion),
    ]
}

fn matrix(title: &str, names: &[String], confusion: &[Vec<u64>]) -> Figure {
    let turned: Vec<String> = names.iter().rev().cloned().collect();
    let axis = |label: &str, names: Vec<String>| Axis { label: label.into(), scale: Scale::Names(names), range: None };
    let mut cells = Vec::new();
    for (i, row) in confusion.iter().enumerate() {
        let total = row.iter().sum::<u64>().max(1) as f64;
        for (j, count) in row.iter().enumerate() {
            cells.push((j as f64, (names.len() - 1 - i) as f64, *count as f64 / total, count.to_string()));
        }
    }
    let mut figure = Figure::new(title, axis("predicted", names.to_vec()), axis("true", turned)).with(Mark::Cells { cells });
    let side = 200.0 + 70.0 * names.len().min(16) as f64;
    figure.size = (side + 80.0, side);
    figure
}

/// Of classes: the confusion matrix.
pub fn of_classes(found: &Classes) -> Vec<(&'static str, Figure)> {
    let mut figure = matrix("Confusion", &found.names, &found.confusion);
    figure.subtitle = format!("accuracy {}; shade: share of the true class", number(found.accuracy));
    vec![("confusion", figure)]
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

/// Groups by their headline metric, the whole as a dashed line.
pub fn of_groups(
    by: &str,
    metric: &str,
    whole: f64,
    groups: &[(String, usize, Judgement)],
    value: impl Fn(&Judgement) -> f64,
) -> Figure {
    let mut order: Vec<(&str, usize, f64)> = groups.iter().map(|(g, n, found)| (g.as_str(), *n, value(found))).collect();
    order.sort_by(|a, b| a.2.total_cmp(&b.2));
    let names: Vec<String> = order.iter().map(|(g, _, _)| (*g).to_string()).collect();
    let points =
        order.iter().enumerate().map(|(i, (g, n, v))| (*v, i as f64, format!("{g}: {} on {n} rows", number(*v)))).collect();
    let mut figure = Figure::new(
        &format!("{metric} by {by}"),
        Axis::even(metric),
        Axis { label: by.to_string(), scale: Scale::Names(names.clone()), range: None },
    );
    figure.subtitle = format!("dashed: all rows, {}", number(whole));
    figure.size = (640.0, 140.0 + 19.0 * names.len() as f64);
    figure.line(vec![(whole, -0.5), (whole, names.len() as f64 - 0.5)], GREY, true).with(Mark::Points {
        points,
        color: COLORS[0].into(),
        radius: 4.0,
    })
}
