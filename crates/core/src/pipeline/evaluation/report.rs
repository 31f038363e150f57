//! An evaluation from table to files: metrics, figures, groups, and a few lines for the log.

use std::collections::BTreeMap;
use std::io::Write;
use std::path::Path;

use serde_json::{Map, Value, json};

use super::bootstrap::{Stop, intervals};
use super::class_scores::ClassScores;
use super::classes::ClassLabels;
use super::figures::{self, OfScore};
use super::groups::{FEW_ROWS, Group, between, groups, json as number_of, said};
use super::judge::Judge;
use super::score::Scores;
use super::{Evaluation, EvaluationError, Judged, Predictions, judge_of, tables};
use crate::figure::{Figure, number};
use crate::fsio::{self, IoError};
use crate::table::TableError;
use textum_base::Better;

/// What goes into the folder of an evaluation.
#[derive(Default)]
struct Files {
    figures: Vec<(String, Figure)>,
    tables: Vec<(String, Result<Vec<u8>, std::io::Error>)>,
}

/// Names and values of figures as JSON: those of classes below the class.
fn metrics_of(names: &[String], values: &[f64]) -> Map<String, Value> {
    let mut out = Map::new();
    let mut classes: BTreeMap<&str, Map<String, Value>> = BTreeMap::new();
    for (name, value) in names.iter().zip(values) {
        match name.strip_prefix("class.").and_then(|rest| rest.rsplit_once('.')) {
            Some((class, what)) => drop(classes.entry(class).or_default().insert(what.to_string(), number_of(*value))),
            None => drop(out.insert(name.clone(), number_of(*value))),
        }
    }
    if !classes.is_empty() {
        out.insert("class".into(), json!(classes));
    }
    out
}

/// What is drawn and written of all rows.
fn files_of(evaluation: &Evaluation, rows: &Predictions, names: &[String], values: &[f64], weights: &[f64]) -> Files {
    let mut files = Files::default();
    let value = |name: &str| names.iter().position(|n| n == name).map_or(f64::NAN, |at| values[at]);
    let confusion = |files: &mut Files, classes: &[String], confusion: &[Vec<f64>]| {
        let mut figure = figures::matrix("Confusion", classes, confusion);
        figure.subtitle = format!("accuracy {}; shade: share of the true class", number(value("accuracy")));
        files.figures.push(("confusion".into(), figure));
        files.tables.push(("confusion.csv".into(), tables::of_confusion(classes, confusion)));
    };
    match &evaluation.judged {
        Judged::Score { positive, threshold, bins, cost, .. } => {
            let cost = cost.as_ref().map(|c| [&c.false_positive, &c.false_negative].map(|t| t.parse().unwrap_or(f64::NAN)));
            let cost = cost.map(|[a, b]| (a, b));
            let scores = Scores::new(&rows.numbers, rows.truth.are(positive), threshold.parse().unwrap_or(0.5), *bins, cost);
            let (curves, bins) = (scores.curves(weights), scores.calibration(weights));
            let at = scores.at(threshold.parse().unwrap_or(0.5), weights);
            let told = ["auc", "average_precision", "calibration_error"].map(value);
            let drawn = OfScore { curves: &curves, bins: &bins, at, told, positive: (positive, threshold) };
            files.figures.extend(figures::of_score(&drawn).into_iter().map(|(name, f)| (name.to_string(), f)));
            let tables = tables::of_score(&curves, &bins, &scores, weights, cost);
            files.tables.extend(tables.into_iter().map(|(name, t)| (name.to_string(), t)));
            let [tp, fp, fn_, tn] = at.counts;
            let classes = ["other".to_string(), positive.clone()];
            files.tables.push(("confusion.csv".into(), tables::of_confusion(&classes, &[vec![tn, fp], vec![fn_, tp]])));
        }
        Judged::Label { .. } => {
            let judge = ClassLabels::new(&rows.predicted, &rows.truth);
            confusion(&mut files, &judge.names, &judge.confusion(weights));
        }
        Judged::Scores { .. } => {
            let judge = ClassScores::new(&rows.classes, &rows.scores, &rows.truth);
            confusion(&mut files, &rows.classes, &judge.confusion(weights));
        }
        Judged::Value { .. } => {
            let drawn = figures::of_quantity(&rows.numbers, &rows.true_numbers);
            files.figures.extend(drawn.into_iter().map(|(name, f)| (name.to_string(), f)));
        }
        Judged::Rank { .. } => {}
    }
    files
}

/// A name of a file for a grouping.
fn file_name(grouping: &str, only: bool) -> String {
    let safe = |c: char| if c.is_alphanumeric() || matches!(c, '-' | '_') { c } else { '-' };
    match only {
        true => "groups".to_string(),
        false => format!("groups-{}", grouping.replace(" × ", "-").chars().map(safe).collect::<String>()),
    }
}

/// The weakest group so far: by what, which, its rows and its value.
type Weakest = Option<(String, String, usize, f64)>;

/// Each grouping: its table and figure, and the weakest group of all.
fn group_all(
    evaluation: &Evaluation,
    rows: &Predictions,
    judge: (&[String], &[f64]),
    files: &mut Files,
    out: &mut Map<String, Value>,
    stop: Stop<'_>,
) -> Result<Weakest, EvaluationError> {
    let (names, values) = judge;
    let (metric, better) = evaluation.headline();
    let at = names.iter().position(|n| n == metric).unwrap_or(0);
    let mut weakest: Weakest = None;
    let mut all = Map::new();
    for (by, labels) in &rows.by {
        let found = groups(evaluation, rows, labels, stop)?;
        let large = found.iter().filter(|g| g.rows >= FEW_ROWS && g.values[at].is_finite());
        for group in large {
            let worse = |than: f64| if better == Better::Higher { group.values[at] < than } else { group.values[at] > than };
            if weakest.as_ref().is_none_or(|w| worse(w.3)) {
                weakest = Some((by.clone(), group.name.clone(), group.rows, group.values[at]));
            }
        }
        let name = file_name(by, rows.by.len() == 1);
        files.figures.push((name.clone(), figures::of_groups(by, metric, at, values[at], &found)));
        files.tables.push((format!("{name}.csv"), tables::of_groups(by, names, &found)));
        let each = |g: &Group| (g.name.clone(), Value::Object(metrics_of(names, &g.values)));
        all.insert(by.clone(), Value::Object(found.iter().map(each).collect()));
    }
    // Without a folder the groups are told with the metrics.
    out.insert(
        "by".into(),
        if rows.by.len() == 1 { all.into_iter().next().map_or(Value::Null, |(_, v)| v) } else { Value::Object(all) },
    );
    Ok(weakest)
}

/// Groups held against one another, as JSON.
fn hold(evaluation: &Evaluation, rows: &Predictions, files: &mut Files, log: &mut dyn Write, stop: Stop<'_>) -> Map<String, Value> {
    let mut out = Map::new();
    for (column, labels) in &rows.between {
        let held = between(evaluation, rows, column, labels, stop);
        let mut own = Map::new();
        for rate in &held.rates {
            let mut told = Map::new();
            told.insert("difference".into(), number_of(rate.difference));
            told.insert("ratio".into(), number_of(rate.ratio));
            if let Some((low, high)) = rate.interval {
                told.insert("low".into(), number_of(low));
                told.insert("high".into(), number_of(high));
            }
            own.insert(rate.rate.to_string(), Value::Object(told));
        }
        if let Some(first) = held.rates.first() {
            let _ = writeln!(log, "between {column}: {} differs by {} at most", first.rate, number(first.difference));
        }
        let safe = |c: char| if c.is_alphanumeric() || matches!(c, '-' | '_') { c } else { '-' };
        let name = column.chars().map(safe).collect::<String>();
        files.tables.push((format!("between-{name}.csv"), tables::of_held(&held)));
        out.insert(column.clone(), Value::Object(own));
    }
    out
}

/// The interval of each figure, as JSON.
fn intervals_of(evaluation: &Evaluation, judge: &dyn Judge, weights: &[f64], stop: Stop<'_>) -> Option<Map<String, Value>> {
    let found = intervals(judge, weights, said(evaluation.intervals.as_ref()?, stop));
    let named = judge.names().into_iter().zip(found).filter(|(name, _)| !matches!(name.as_str(), "rows" | "queries"));
    let told = named.filter_map(|(name, ends)| ends.map(|(low, high)| (name, json!({"low": low, "high": high}))));
    Some(told.filter(|(name, _)| !name.starts_with("class.")).collect())
}

/// Judges the predictions below `root`, writes the metrics to one file and figures into a folder, and says
/// the essence to the log. Nothing is written where `stop` says that somebody has asked for that.
pub fn evaluate(
    root: &Path,
    evaluation: &Evaluation,
    metrics: &str,
    folder: Option<&str>,
    log: &mut dyn Write,
    stop: Stop<'_>,
) -> Result<(), EvaluationError> {
    let rows = Predictions::read(root, evaluation, stop)?;
    let weights = rows.weights();
    let judge = judge_of(evaluation, &rows)?;
    let (names, values) = (judge.names(), judge.values(&weights));
    let mut out = metrics_of(&names, &values);
    let ends = intervals_of(evaluation, &*judge, &weights, stop);
    let lead = names.iter().zip(&values).take(5).map(|(name, value)| {
        let interval = ends.as_ref().and_then(|e| e.get(name)).and_then(|e| Some((e["low"].as_f64()?, e["high"].as_f64()?)));
        let interval = interval.map_or(String::new(), |(low, high)| format!(" ({} to {})", number(low), number(high)));
        format!("{name} {}{interval}", number(*value))
    });
    let _ = writeln!(log, "{} rows: {}", rows.rows, lead.collect::<Vec<_>>().join(", "));
    if let Some(left_out) = names.iter().position(|n| n == "mape_left_out").map(|at| values[at]).filter(|n| *n > 0.0) {
        let _ = writeln!(
            log,
            "mape says nothing of {} rows whose truth is 0, and much of those whose truth is small",
            number(left_out)
        );
    }
    let mut files = files_of(evaluation, &rows, &names, &values, &weights);
    if !rows.by.is_empty() {
        let metric = evaluation.headline().0;
        let weakest = group_all(evaluation, &rows, (&names, &values), &mut files, &mut out, stop)?;
        if let Some((by, group, rows, value)) = weakest {
            out.insert("weakest".into(), json!({ metric: number_of(value) }));
            let _ = writeln!(log, "weakest by {by}: {group}, {metric} {} ({rows} rows)", number(value));
        }
        if folder.is_some() {
            out.remove("by");
        }
    }
    let held = hold(evaluation, &rows, &mut files, log, stop);
    if stop() {
        return Err(TableError::Stopped.into());
    }
    if !held.is_empty() {
        out.insert("between".into(), Value::Object(held));
    }
    if let Some(ends) = ends {
        out.insert("interval".into(), Value::Object(ends));
    }
    if let Some(folder) = folder {
        let folder = root.join(folder);
        for (name, figure) in files.figures {
            write(&folder.join(format!("{name}.svg")), figure.svg().as_bytes())?;
        }
        for (name, text) in files.tables {
            let path = folder.join(name);
            write(&path, &text.map_err(IoError::of("write", &path))?)?;
        }
    }
    let mut text = serde_json::to_vec_pretty(&out).map_err(|e| IoError::of("write", &root.join(metrics))(e.into()))?;
    text.push(b'\n');
    write(&root.join(metrics), &text)
}

fn write(path: &Path, bytes: &[u8]) -> Result<(), EvaluationError> {
    if let Some(parent) = path.parent() {
        crate::fsio::create_folder(parent)?;
    }
    Ok(fsio::write_derived(path, bytes)?)
}
