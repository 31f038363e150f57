//! An evaluation from table to files: metrics, figures, groups, and a few lines for the log.

use std::collections::BTreeMap;
use std::io::Write;
use std::path::Path;

use serde_json::{Map, Value, json};

use super::figures;
use super::{Evaluation, EvaluationError, Judged, Predictions, judge_classes, judge_quantity, judge_score};
use crate::figure::{Figure, number};
use crate::fsio::{self, IoError};
use crate::record::receipt::Metric;

/// A group with fewer rows is not looked at for the weakest.
const FEW_ROWS: usize = 10;

/// The figures of one set of rows: all, or those of a group.
pub(super) struct Judgement {
    /// Metrics by name, the most telling first.
    pub metrics: Vec<(String, f64)>,
    /// Files: name and figure.
    pub figures: Vec<(&'static str, Figure)>,
}

fn judge(evaluation: &Evaluation, rows: &Predictions) -> Judgement {
    let named = |pairs: &[(&str, f64)]| pairs.iter().map(|(n, v)| ((*n).to_string(), *v)).collect::<Vec<_>>();
    match &evaluation.judged {
        Judged::Score { positive, threshold, bins, .. } => {
            let found = judge_score(&rows.numbers, &rows.truth.are(positive), threshold.parse().unwrap_or(0.5), *bins);
            let [tp, fp, fn_, tn] = found.confusion.map(|n| n as f64);
            let metrics = named(&[
                ("auc", found.auc),
                ("average_precision", found.average_precision),
                ("log_loss", found.log_loss),
                ("brier", found.brier),
                ("accuracy", found.accuracy),
                ("precision", found.precision),
                ("recall", found.recall),
                ("f1", found.f1),
                ("calibration_error", found.calibration_error),
                ("true_positives", tp),
                ("false_positives", fp),
                ("false_negatives", fn_),
                ("true_negatives", tn),
                ("rows", found.rows as f64),
            ]);
            Judgement { metrics, figures: figures::of_score(&found, positive, threshold) }
        }
        Judged::Label { .. } => {
            let found = judge_classes(&rows.predicted, &rows.truth);
            let [precision, recall, f1] = found.macro_mean;
            let mut metrics = named(&[
                ("accuracy", found.accuracy),
                ("f1", f1),
                ("precision", precision),
                ("recall", recall),
                ("balanced_accuracy", found.balanced_accuracy),
                ("rows", rows.rows as f64),
            ]);
            for (name, [p, r, f]) in found.names.iter().zip(&found.each) {
                let of = |what: &str, v: &f64| (format!("class.{name}.{what}"), *v);
                metrics.extend([of("precision", p), of("recall", r), of("f1", f)]);
            }
            Judgement { metrics, figures: figures::of_classes(&found) }
        }
        Judged::Value { .. } => {
            let found = judge_quantity(&rows.numbers, &rows.true_numbers);
            let metrics = named(&[
                ("rmse", found.rmse),
                ("mae", found.mae),
                ("r2", found.r2),
                ("bias", found.bias),
                ("max_error", found.max_error),
                ("rows", found.rows as f64),
            ]);
            Judgement { metrics, figures: figures::of_quantity(&rows.numbers, &rows.true_numbers) }
        }
    }
}

/// The metric by which groups are compared, and whether more of it is better.
fn headline(evaluation: &Evaluation) -> (&'static str, bool) {
    match evaluation.judged {
        Judged::Score { .. } => ("auc", true),
        Judged::Label { .. } => ("accuracy", true),
        Judged::Value { .. } => ("rmse", false),
    }
}

fn subset(rows: &Predictions, members: &[u32]) -> Predictions {
    let numbers = |from: &Vec<f64>| members.iter().filter_map(|i| from.get(*i as usize).copied()).collect();
    Predictions {
        truth: rows.truth.rows(members),
        predicted: rows.predicted.rows(members),
        numbers: numbers(&rows.numbers),
        true_numbers: numbers(&rows.true_numbers),
        groups: Default::default(),
        rows: members.len(),
    }
}

/// Judges the predictions below `root`, writes the metrics to one file and figures into a folder, and says
/// the essence to the log.
pub fn evaluate(
    root: &Path,
    evaluation: &Evaluation,
    metrics: &str,
    folder: Option<&str>,
    log: &mut dyn Write,
) -> Result<(), EvaluationError> {
    let rows = Predictions::read(root, evaluation)?;
    let whole = judge(evaluation, &rows);
    let mut out: Map<String, Value> =
        whole.metrics.iter().filter(|(n, _)| !n.starts_with("class.")).map(|(n, v)| (n.clone(), json!(Metric(*v)))).collect();
    let mut classes: BTreeMap<&str, Map<String, Value>> = BTreeMap::new();
    for (name, value) in &whole.metrics {
        if let Some((class, what)) = name.strip_prefix("class.").and_then(|rest| rest.rsplit_once('.')) {
            classes.entry(class).or_default().insert(what.to_string(), json!(Metric(*value)));
        }
    }
    if !classes.is_empty() {
        out.insert("class".into(), json!(classes));
    }
    let lead: Vec<String> = whole.metrics.iter().take(5).map(|(n, v)| format!("{n} {}", number(*v))).collect();
    let _ = writeln!(log, "{} rows: {}", rows.rows, lead.join(", "));
    let mut figures = whole.figures;
    if let Some(by) = &evaluation.by {
        let groups = groups(evaluation, &rows);
        let (name, higher) = headline(evaluation);
        let value = |found: &Judgement| found.metrics.iter().find(|(n, _)| n == name).map_or(f64::NAN, |(_, v)| *v);
        let large = groups.iter().filter(|(_, n, found)| *n >= FEW_ROWS && value(found).is_finite());
        let order = |a: &f64, b: &f64| if higher { a.total_cmp(b) } else { b.total_cmp(a) };
        if let Some((group, rows, found)) = large.min_by(|a, b| order(&value(&a.2), &value(&b.2))) {
            out.insert("weakest".into(), json!({ name: Metric(value(found)) }));
            let _ = writeln!(log, "weakest by {by}: {group}, {name} {} ({rows} rows)", number(value(found)));
        }
        figures.push((
            "groups",
            figures::of_groups(by, name, value(&Judgement { metrics: whole.metrics.clone(), figures: vec![] }), &groups, value),
        ));
        match folder {
            Some(folder) => write(&root.join(folder).join("groups.csv"), &table_of(by, &groups)?)?,
            None => {
                let each =
                    |found: &Judgement| found.metrics.iter().map(|(n, v)| (n.clone(), json!(Metric(*v)))).collect::<Map<_, _>>();
                let all: Map<String, Value> = groups.iter().map(|(g, _, found)| (g.clone(), Value::Object(each(found)))).collect();
                out.insert("by".into(), Value::Object(all));
            }
        }
    }
    if let Some(folder) = folder {
        for (name, figure) in figures {
            write(&root.join(folder).join(format!("{name}.svg")), figure.svg().as_bytes())?;
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

fn groups(evaluation: &Evaluation, rows: &Predictions) -> Vec<(String, usize, Judgement)> {
    let mut members: BTreeMap<&str, Vec<u32>> = BTreeMap::new();
    for (i, group) in rows.groups.iter().enumerate() {
        members.entry(group).or_default().push(i as u32);
    }
    members.into_iter().map(|(g, m)| (g.to_string(), m.len(), judge(evaluation, &subset(rows, &m)))).collect()
}

fn table_of(by: &str, groups: &[(String, usize, Judgement)]) -> Result<Vec<u8>, EvaluationError> {
    let names: Vec<&String> =
        groups.first().map(|(_, _, found)| found.metrics.iter().map(|(n, _)| n).collect()).unwrap_or_default();
    let plain: Vec<&&String> = names.iter().filter(|n| !n.starts_with("class.")).collect();
    let mut out = csv::Writer::from_writer(Vec::new());
    let failed = |e: csv::Error| EvaluationError::Io(IoError::of("write", Path::new("groups.csv"))(e.into()));
    out.write_record(std::iter::once(by).chain(plain.iter().map(|n| n.as_str()))).map_err(failed)?;
    for (group, _, found) in groups {
        let cell = |name: &str| found.metrics.iter().find(|(n, _)| n == name).map_or(String::new(), |(_, v)| v.to_string());
        out.write_record(std::iter::once(group.clone()).chain(plain.iter().map(|n| cell(n)))).map_err(failed)?;
    }
    out.into_inner().map_err(|e| EvaluationError::Io(IoError::of("write", Path::new("groups.csv"))(e.into_error())))
}
