//! Why published versions differ.

use serde_json::{Value, json};
use textum_core::publish::{Difference, Line};
use textum_core::registry::Version;
use textum_core::store::Digest;

use super::compare;
use super::csv::Data;
use super::table::{Cell, Look, markdown as markdown_table, table};
use super::version::metrics_table;
use crate::ui::{Style, escape};

/// What is to be told.
pub struct Told<'t> {
    /// Their names.
    pub names: Vec<String>,
    /// In what each later one differs from the first.
    pub differences: Vec<Difference>,
    /// The versions.
    pub versions: &'t [&'t Version],
}

/// The kinds of things that can differ, with what they are called.
fn parts(found: &Difference) -> [(&'static str, &[Line]); 6] {
    [
        ("data", &found.data),
        ("parameters", &found.params),
        ("packages", &found.packages),
        ("files", &found.files),
        ("use", &found.use_of),
        ("stages", &found.stages),
    ]
}

/// A digest is told by its beginning.
fn shown(value: Option<&String>) -> String {
    match value {
        None => "–".to_string(),
        Some(text) => text.parse::<Digest>().map_or_else(|_| super::text::param(text), |digest| digest.short()),
    }
}

fn rows(found: &Difference, with_runs: bool) -> Vec<Vec<Cell>> {
    let mut rows = Vec::new();
    // What the runs tell, they tell better.
    let told = |name: &&(&str, &[Line])| !(with_runs && matches!(name.0, "data" | "parameters" | "stages"));
    for (kind, lines) in parts(found).iter().filter(told) {
        for (at, line) in lines.iter().enumerate() {
            rows.push(vec![
                Cell::new(if at == 0 { *kind } else { "" }, Look::Accent),
                Cell::from(line.name.clone()),
                Cell::from(shown(line.from.as_ref())),
                Cell::new("→", Look::Dim),
                Cell::from(shown(line.to.as_ref())),
            ]);
        }
    }
    rows
}

/// What is the same, in words.
fn same(found: &Difference) -> String {
    let same: Vec<&str> = parts(found).iter().filter(|(_, lines)| lines.is_empty()).map(|(kind, _)| *kind).collect();
    match same.len() {
        0 => String::new(),
        6 => "nothing that decides what they are differs".to_string(),
        _ => format!("the same: {}; nothing else differs", same.join(", ")),
    }
}

/// For people: the runs, then what is published beside them.
pub fn text(told: &Told<'_>, runs: Option<&compare::Told<'_>>, style: &Style) -> String {
    let mut out = String::new();
    for (name, version) in told.names.iter().zip(told.versions) {
        let run = version.publication.bundle.run.as_ref();
        let run = run.map_or("no run".to_string(), |r| format!("run {} of {}", r.run, r.project));
        out.push_str(&format!("{}  {}\n", style.bold(name), style.dim(&escape::line(&run))));
    }
    for (name, found) in told.names[1..].iter().zip(&told.differences) {
        let rows = rows(found, runs.is_some());
        if told.differences.len() > 1 || !rows.is_empty() {
            out.push_str(&format!("\n{} → {}\n", told.names[0], style.bold(name)));
        }
        out.push_str(&table(&[], &rows, "  ", style));
        out.push_str(&format!("  {}\n", style.dim(&same(found))));
    }
    match runs {
        Some(runs) => out.push_str(&format!("\n{}", compare::text(runs, style))),
        None => {
            let beside: Vec<(String, &Version)> = told.names.iter().cloned().zip(told.versions.iter().copied()).collect();
            out.push_str(&format!("\n{}", metrics_table(&beside, style)));
            out.push_str(
                &style.dim("\n  the receipts of their runs are not here: rows of data and lines of code are not compared\n"),
            );
        }
    }
    out
}

/// The same in Markdown.
pub fn markdown(told: &Told<'_>, runs: Option<&compare::Told<'_>>) -> String {
    let mut out = String::new();
    for (name, found) in told.names[1..].iter().zip(&told.differences) {
        let rows: Vec<Vec<Cell>> = rows(found, runs.is_some());
        out.push_str(&markdown_table(&["", "name", &told.names[0], "", name], &rows));
        out.push_str(&format!("\n{}\n\n", escape::markdown(&same(found))));
    }
    out.push_str(&runs.map(compare::markdown).unwrap_or_default());
    out
}

/// The same as CSV.
pub fn csv(told: &Told<'_>) -> String {
    let mut data = Data::new(["version", "what", "name", "from", "to"]);
    for (name, found) in told.names[1..].iter().zip(&told.differences) {
        let metrics = [("metrics", found.metrics.as_slice())];
        for (kind, lines) in parts(found).iter().chain(&metrics) {
            for line in *lines {
                let (from, to) = (line.from.clone().unwrap_or_default(), line.to.clone().unwrap_or_default());
                data.add([name.clone(), (*kind).to_string(), line.name.clone(), from, to]);
            }
        }
    }
    data.text()
}

/// The same as JSON.
pub fn json(told: &Told<'_>, runs: Option<&compare::Told<'_>>) -> Value {
    json!({"versions": told.names, "differences": told.differences, "runs": runs.map(compare::json)})
}
