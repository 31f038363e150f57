//! What came of an examination, written down.

use std::io::Write;
use std::path::Path;

use serde_json::{Map, Value, json};

use super::words::measure;
use super::{ExaminationError, Inspection, Judged};
use crate::figure::{Axis, COLORS, Figure, GREY, Mark, Scale};
use crate::fsio::{self, IoError};
use crate::record::receipt::Metric;

/// The file of a stage's folder that has a line for each rule.
pub const RULES: &str = "rules.csv";
const ROWS: &str = "broken.csv";
const FIGURE: &str = "rules.svg";

fn state(judged: &Judged) -> &'static str {
    match judged.found.holds {
        None => "unknown",
        Some(true) => "holds",
        Some(false) if judged.fails() => "broken",
        Some(false) => "warned",
    }
}

/// The lines for the log: broken rules with their first rows, then how many hold.
pub fn log(inspection: &Inspection, log: &mut dyn Write) {
    let broken = inspection.judged.iter().filter(|j| j.fails() || j.warns());
    for judged in broken {
        let word = if judged.fails() { "broken" } else { "warning" };
        let _ = writeln!(log, "{word}: {}: {}", judged.decl.rule, measure(&judged.found));
        for example in &judged.found.examples {
            let cells: Vec<String> = example.cells.iter().map(|(c, v)| format!("{c} {v}")).collect();
            let like = example.like.as_ref().map_or(String::new(), |at| format!(", as {at}"));
            let _ = writeln!(log, "  {}: {}{like}", example.place, cells.join(", "));
        }
    }
    for judged in inspection.judged.iter().filter(|j| j.found.holds.is_none()) {
        let _ = writeln!(log, "not judged: {}: {}", judged.decl.rule, measure(&judged.found));
    }
    let held = inspection.judged.iter().filter(|j| j.found.holds == Some(true)).count();
    let rows = inspection.examined.rows;
    let _ = writeln!(log, "{held} of {} rules hold for {} ({rows} rows)", inspection.judged.len(), inspection.table);
}

fn metrics_of(inspection: &Inspection) -> Map<String, Value> {
    let count = |is: fn(&Judged) -> bool| inspection.judged.iter().filter(|j| is(j)).count();
    let breaking: u64 = inspection.judged.iter().filter(|j| j.found.columns.is_empty()).map(|j| j.found.breaking).sum();
    let mut out = Map::new();
    out.insert("rows".into(), json!(inspection.examined.rows));
    out.insert("rules".into(), json!(inspection.judged.len()));
    out.insert("broken".into(), json!(count(Judged::fails)));
    out.insert("warned".into(), json!(count(Judged::warns)));
    out.insert("breaking_rows".into(), json!(breaking));
    for judged in &inspection.judged {
        let Some(name) = &judged.decl.name else { continue };
        let found = &judged.found;
        let mut own = Map::new();
        own.insert("breaking".into(), json!(found.breaking));
        let share = (found.of - found.breaking.min(found.of)) as f64 / found.of as f64;
        own.insert("share".into(), json!(Metric(share)));
        if let Some(value) = found.value {
            own.insert("value".into(), json!(Metric(value)));
        }
        out.insert(name.clone(), Value::Object(own));
    }
    out
}

fn csv_of(header: &[&str], rows: impl Iterator<Item = Vec<String>>) -> Result<Vec<u8>, std::io::Error> {
    let mut out = csv::Writer::from_writer(Vec::new());
    out.write_record(header).map_err(std::io::Error::other)?;
    for row in rows {
        out.write_record(row).map_err(std::io::Error::other)?;
    }
    out.into_inner().map_err(|e| std::io::Error::other(e.to_string()))
}

/// The rules as CSV.
pub fn rules_csv(inspection: &Inspection) -> Result<Vec<u8>, std::io::Error> {
    let header = ["rule", "state", "of", "breaking", "unknown", "value", "told"];
    let row = |j: &Judged| {
        let value = j.found.value.map_or(String::new(), |v| v.to_string());
        let numbers = [j.found.of, j.found.breaking, j.found.unknown].map(|n| n.to_string());
        let [of, breaking, unknown] = numbers;
        vec![j.decl.rule.clone(), state(j).to_string(), of, breaking, unknown, value, measure(&j.found)]
    };
    csv_of(&header, inspection.judged.iter().map(row))
}

/// The first rows that break a rule as CSV.
pub fn rows_csv(inspection: &Inspection) -> Result<Vec<u8>, std::io::Error> {
    let header = ["rule", "file", "line", "cells", "like_file", "like_line"];
    let rows = inspection.judged.iter().flat_map(|j| j.found.examples.iter().map(move |e| (j, e))).map(|(j, e)| {
        let cells: Map<String, Value> = e.cells.iter().map(|(c, v)| (c.clone(), json!(v))).collect();
        let like = e.like.as_ref();
        vec![
            j.decl.rule.clone(),
            e.place.file.clone().unwrap_or_default(),
            e.place.line.to_string(),
            Value::Object(cells).to_string(),
            like.and_then(|l| l.file.clone()).unwrap_or_default(),
            like.map_or(String::new(), |l| l.line.to_string()),
        ]
    });
    csv_of(&header, rows)
}

/// Rules are longer than a figure's margin: so many characters are shown.
const LONGEST: usize = 44;

/// Each rule with the share of rows (or columns) that meet it.
pub fn figure(inspection: &Inspection) -> Figure {
    let shown = |text: &str| match text.chars().count() > LONGEST {
        true => format!("{}…", text.chars().take(LONGEST - 1).collect::<String>()),
        false => text.to_string(),
    };
    // The first rule stands on top.
    let order: Vec<&Judged> = inspection.judged.iter().rev().collect();
    let mut names: Vec<String> = Vec::new();
    for judged in &order {
        let name = shown(&judged.decl.rule);
        let same = names.iter().filter(|n| **n == name).count();
        names.push(if same > 0 { format!("{name} ({})", same + 1) } else { name });
    }
    let mut figure = Figure::new(
        "Rules",
        Axis::even("share that meets the rule").within(0.0, 1.0),
        Axis { label: String::new(), scale: Scale::Names(names.clone()), range: None },
    );
    let held = inspection.judged.iter().filter(|j| j.found.holds == Some(true)).count();
    figure.subtitle = format!("{}: {held} of {} hold", inspection.table, inspection.judged.len());
    figure.size = (860.0, 130.0 + 22.0 * names.len() as f64);
    for (states, color, what) in
        [(&["holds"][..], COLORS[0], "holds"), (&["broken", "warned"], COLORS[1], "broken"), (&["unknown"], GREY, "not judged")]
    {
        let of_state = order.iter().enumerate().filter(|(_, j)| states.contains(&state(j)));
        let points: Vec<(f64, f64, String)> = of_state
            .map(|(at, j)| {
                let share = match j.found.holds {
                    Some(false) if j.found.breaking == 0 => 0.0,
                    _ => 1.0 - j.found.breaking as f64 / j.found.of.max(j.found.breaking).max(1) as f64,
                };
                (share, at as f64, format!("{}: {what}, {}", j.decl.rule, measure(&j.found)))
            })
            .collect();
        // A colour alone says nothing to everybody.
        for (x, y, _) in points.iter().filter(|_| what != "holds") {
            figure = figure.with(Mark::Text { at: (*x, *y), text: format!("  {what}"), beside: true });
        }
        if !points.is_empty() {
            figure = figure.with(Mark::Points { points, color: color.into(), radius: 4.5 });
        }
    }
    figure
}

/// Writes metrics, tables and the figure.
pub fn write(inspection: &Inspection, root: &Path, metrics: Option<&str>, folder: Option<&str>) -> Result<(), ExaminationError> {
    let put = |path: &Path, bytes: &[u8]| -> Result<(), ExaminationError> {
        if let Some(parent) = path.parent() {
            fsio::create_folder(parent)?;
        }
        Ok(fsio::write_derived(path, bytes)?)
    };
    if let Some(metrics) = metrics {
        let path = root.join(metrics);
        let mut text = serde_json::to_vec_pretty(&metrics_of(inspection)).map_err(|e| IoError::of("write", &path)(e.into()))?;
        text.push(b'\n');
        put(&path, &text)?;
    }
    if let Some(folder) = folder {
        let folder = root.join(folder);
        let failed = |name: &str| {
            let path = folder.join(name);
            move |e| IoError::of("write", &path)(e)
        };
        put(&folder.join(RULES), &rules_csv(inspection).map_err(failed(RULES))?)?;
        put(&folder.join(ROWS), &rows_csv(inspection).map_err(failed(ROWS))?)?;
        put(&folder.join(FIGURE), figure(inspection).svg().as_bytes())?;
    }
    Ok(())
}
