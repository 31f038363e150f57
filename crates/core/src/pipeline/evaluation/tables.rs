//! What an evaluation tells beside its metrics, as CSV.

use super::groups::{Group, Held};
use super::score::{AtThreshold, Bin, Curves, Scores};

type Text = Result<Vec<u8>, std::io::Error>;

fn csv_of(header: &[&str], rows: impl Iterator<Item = Vec<String>>) -> Text {
    let mut out = csv::Writer::from_writer(Vec::new());
    out.write_record(header).map_err(std::io::Error::other)?;
    for row in rows {
        out.write_record(row).map_err(std::io::Error::other)?;
    }
    out.into_inner().map_err(|e| std::io::Error::other(e.to_string()))
}

fn texts(values: &[f64]) -> Vec<String> {
    values.iter().map(ToString::to_string).collect()
}

fn points(header: [&str; 2], points: &[(f64, f64)]) -> Text {
    csv_of(&header, points.iter().map(|(x, y)| texts(&[*x, *y])))
}

/// The curves and what is told at thresholds: names of files and their text.
pub fn of_score(
    curves: &Curves,
    bins: &[Bin],
    scores: &Scores<'_>,
    weights: &[f64],
    cost: Option<(f64, f64)>,
) -> Vec<(&'static str, Text)> {
    let grid = (0..=100).map(|i| scores.at(f64::from(i) / 100.0, weights));
    let row = |at: AtThreshold| {
        let [tp, fp, fn_, tn] = at.counts;
        let all = tp + fp + fn_ + tn;
        let shares = [tp / (tp + fp), tp / (tp + fn_), tn / (tn + fp), 2.0 * tp / (2.0 * tp + fp + fn_), (tp + fp) / all];
        let mut cells = texts(&[at.threshold, tp, fp, fn_, tn]);
        cells.extend(texts(&shares));
        cells.extend(cost.map(|cost| at.cost(cost).to_string()));
        cells
    };
    let mut header = vec!["threshold", "true_positives", "false_positives", "false_negatives", "true_negatives"];
    header.extend(["precision", "recall", "specificity", "f1", "selection"]);
    header.extend(cost.map(|_| "cost"));
    let bin = |b: &Bin| texts(&[b.from, b.to, b.weight, b.score, b.positives]);
    vec![
        ("thresholds.csv", csv_of(&header, grid.map(row))),
        ("roc.csv", points(["false_positive_rate", "true_positive_rate"], &curves.roc)),
        ("precision-recall.csv", points(["recall", "precision"], &curves.precision_recall)),
        ("gains.csv", csv_of(&["rows", "found", "lift"], curves.gains.iter().map(|(x, y)| texts(&[*x, *y, y / x])))),
        ("calibration.csv", csv_of(&["from", "to", "rows", "mean_score", "positives"], bins.iter().map(bin))),
    ]
}

/// A confusion: a line for each true class, a column for each predicted one.
pub fn of_confusion(names: &[String], confusion: &[Vec<f64>]) -> Text {
    let header: Vec<&str> = std::iter::once("truth").chain(names.iter().map(String::as_str)).collect();
    csv_of(&header, names.iter().zip(confusion).map(|(name, row)| std::iter::once(name.clone()).chain(texts(row)).collect()))
}

/// Groups: a line for each, a column for each figure, with its interval where that is known.
pub fn of_groups(by: &str, names: &[String], groups: &[Group]) -> Text {
    let plain: Vec<usize> = (0..names.len()).filter(|at| !names[*at].starts_with("class.")).collect();
    let with_intervals = groups.iter().any(|g| !g.intervals.is_empty());
    let mut header = vec![by.to_string()];
    for at in &plain {
        header.push(names[*at].clone());
        if with_intervals {
            header.extend([format!("{}_low", names[*at]), format!("{}_high", names[*at])]);
        }
    }
    let header: Vec<&str> = header.iter().map(String::as_str).collect();
    let row = |group: &Group| {
        let mut cells = vec![group.name.clone()];
        for at in &plain {
            cells.push(group.values.get(*at).map_or(String::new(), ToString::to_string));
            if with_intervals {
                let ends = group.intervals.get(*at).copied().flatten();
                cells.extend([ends.map_or(String::new(), |e| e.0.to_string()), ends.map_or(String::new(), |e| e.1.to_string())]);
            }
        }
        cells
    };
    csv_of(&header, groups.iter().map(row))
}

/// Groups held against one another: a line for each, a column for each rate.
pub fn of_held(held: &Held) -> Text {
    let header: Vec<&str> = [held.column.as_str(), "rows"].into_iter().chain(held.rates.iter().map(|r| r.rate)).collect();
    let row = |(at, (group, rows)): (usize, &(String, usize))| {
        let rates = held.rates.iter().map(|r| r.each[at].to_string());
        [group.clone(), rows.to_string()].into_iter().chain(rates).collect()
    };
    csv_of(&header, held.groups.iter().enumerate().map(row))
}
