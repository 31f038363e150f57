//! The list of runs: only what differs among them has a column, the rest is folded into one line.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use serde_json::{Value, json};
use textum_core::ledger::RunRow;
use textum_core::manifest::Better;
use textum_core::receipt::Metric;
use textum_core::store::Digest;
use unicode_width::UnicodeWidthStr;

use super::data::Versions;
use super::table::{Cell, Look, csv, markdown, table};
use super::text;
use crate::ui::Style;

/// A table of runs: its header, its rows, and what is the same in all of them.
pub struct Listed {
    header: Vec<String>,
    rows: Vec<Vec<Cell>>,
    same: Vec<String>,
}

/// The value of a metric that is best among the rows, for each metric with a direction.
fn best(runs: &[RunRow], directions: &[(String, Better)]) -> BTreeMap<String, f64> {
    let mut found = BTreeMap::new();
    for (name, better) in directions {
        let values =
            runs.iter().filter(|r| r.state == "done").flat_map(|r| &r.metrics).filter(|(n, v)| n == name && v.0.is_finite());
        let values = values.map(|(_, v)| v.0);
        let best =
            if *better == Better::Higher { values.fold(None, max) } else { values.map(|v| -v).fold(None, max).map(|v: f64| -v) };
        if let Some(best) = best {
            found.insert(name.clone(), best);
        }
    }
    found
}

fn max(so_far: Option<f64>, value: f64) -> Option<f64> {
    Some(so_far.map_or(value, |s| s.max(value)))
}

/// Names whose values differ among the runs, and those with one value in all.
fn split(runs: &[RunRow], pick: impl Fn(&RunRow) -> BTreeMap<String, String>) -> (Vec<String>, Vec<(String, String)>) {
    let maps: Vec<BTreeMap<String, String>> = runs.iter().map(pick).collect();
    let names: BTreeSet<&String> = maps.iter().flat_map(|m| m.keys()).collect();
    let (mut differing, mut same) = (Vec::new(), Vec::new());
    for name in names {
        let values: BTreeSet<Option<&String>> = maps.iter().map(|m| m.get(name)).collect();
        match values.first() {
            Some(Some(value)) if values.len() == 1 => same.push((name.clone(), (*value).clone())),
            _ => differing.push(name.clone()),
        }
    }
    (differing, same)
}

fn params(run: &RunRow) -> BTreeMap<String, String> {
    run.params.iter().map(|(n, v)| (n.clone(), text::param(v))).collect()
}

fn data(run: &RunRow, versions: &Versions) -> BTreeMap<String, String> {
    let named = |name: &String, digest: &Digest| {
        versions.get(&(name.clone(), *digest)).map_or_else(|| digest.short(), |version| format!("@{}", version.number))
    };
    run.data.iter().map(|(n, d)| (n.clone(), named(n, d))).collect()
}

/// Lays the runs out; `width` is that of the terminal, `None` for all columns.
pub fn list(runs: &[RunRow], directions: &[(String, Better)], versions: &Versions, now: Timestamp, width: Option<usize>) -> Listed {
    let one = runs.len() == 1;
    let (mut param_columns, same_params) = split(runs, params);
    let (mut data_columns, same_data) = split(runs, |r| data(r, versions));
    let metric_names: BTreeSet<&String> = runs.iter().flat_map(|r| r.metrics.iter().map(|(n, _)| n)).collect();
    // Metrics with a direction first: somebody cares for them.
    let mut metrics: Vec<String> = directions.iter().map(|(n, _)| n.clone()).filter(|n| metric_names.contains(n)).collect();
    metrics.extend(metric_names.into_iter().filter(|n| !metrics.contains(n)).cloned().collect::<Vec<_>>());
    let labels = runs.iter().any(|r| r.label.is_some());
    let fixed = 22 + 14 + 13 + 10 + if labels { 14 } else { 0 };
    if let Some(width) = width {
        // The least telling go first: metrics without a direction, then data, then parameters.
        let room = |n: usize, p: &[String], d: &[String], m: &[String]| {
            let wide = |names: &[String]| names.iter().map(|n| n.width().max(7) + 2).sum::<usize>();
            fixed + wide(p) + wide(d) + wide(m) <= n
        };
        while !room(width, &param_columns, &data_columns, &metrics) {
            if metrics.len() > directions.len().max(1) {
                metrics.pop();
            } else if !data_columns.is_empty() && data_columns.len() >= param_columns.len() {
                data_columns.pop();
            } else if param_columns.pop().is_none() {
                break;
            }
        }
    }
    let best = best(runs, directions);
    let rows =
        runs.iter().map(|run| row(run, labels, &param_columns, &data_columns, &metrics, &best, versions, one, now)).collect();
    let mut header: Vec<String> = ["run", "when", "state", "took"].map(String::from).to_vec();
    if labels {
        header.push("label".into());
    }
    header.extend(param_columns.into_iter().chain(data_columns).chain(metrics));
    let said = |(n, v): (String, String)| if v.starts_with('@') { format!("{n}{v}") } else { format!("{n} {v}") };
    let same = same_params.into_iter().chain(same_data).map(said).collect();
    Listed { header, rows, same }
}

#[allow(clippy::too_many_arguments)]
fn row(
    run: &RunRow,
    labels: bool,
    params_shown: &[String],
    data_shown: &[String],
    metrics: &[String],
    best: &BTreeMap<String, f64>,
    versions: &Versions,
    one: bool,
    now: Timestamp,
) -> Vec<Cell> {
    let look = match run.state.as_str() {
        "done" => Look::Plain,
        _ => Look::Bad,
    };
    let mut cells = vec![
        Cell::new(&run.run, Look::Bold),
        Cell::new(text::ago(&run.started, now), Look::Dim),
        Cell::new(&run.state, look),
        Cell::new(text::seconds(run.seconds), Look::Dim),
    ];
    if labels {
        cells.push(run.label.clone().unwrap_or_default().into());
    }
    let dash = |value: Option<&String>| value.cloned().unwrap_or_else(|| "–".to_string());
    let (p, d) = (params(run), data(run, versions));
    cells.extend(params_shown.iter().map(|n| dash(p.get(n)).into()));
    cells.extend(data_shown.iter().map(|n| Cell::new(dash(d.get(n)), Look::Dim)));
    for name in metrics {
        let value = run.metrics.iter().find(|(n, _)| n == name).map(|(_, v)| *v);
        let is_best = !one && run.state == "done" && value.is_some_and(|v| best.get(name) == Some(&v.0));
        let shown = value.map_or("–".to_string(), |v: Metric| text::metric(&v));
        cells.push(if is_best { Cell::new(format!("{shown} *"), Look::Good) } else { shown.into() });
    }
    cells
}

impl Listed {
    /// For people.
    pub fn text(&self, more: usize, style: &Style) -> String {
        let header: Vec<&str> = self.header.iter().map(String::as_str).collect();
        let mut out = table(&header, &self.rows, "", style);
        if !self.same.is_empty() && self.rows.len() > 1 {
            out.push_str(&style.dim(&format!("same in all: {}", self.same.join(", "))));
            out.push('\n');
        }
        if self.rows.iter().flatten().any(|c| c.text.trim_end().ends_with('*')) {
            out.push_str(&style.dim("* the best of these\n"));
        }
        if more > 0 {
            out.push_str(&style.dim(&format!("{} not shown: use --last or --all\n", text::counted(more as u64, "older run"))));
        }
        out
    }

    /// As comma-separated values.
    pub fn csv(&self) -> String {
        csv(&self.header.iter().map(String::as_str).collect::<Vec<_>>(), &self.rows)
    }

    /// As a Markdown table.
    pub fn markdown(&self) -> String {
        markdown(&self.header.iter().map(String::as_str).collect::<Vec<_>>(), &self.rows)
    }
}

/// The runs as JSON.
pub fn json(runs: &[RunRow], versions: &Versions) -> Value {
    let value = |text: &String| serde_json::from_str::<Value>(text).unwrap_or_else(|_| Value::from(text.as_str()));
    runs.iter()
        .map(|r| {
            let params: serde_json::Map<String, Value> = r.params.iter().map(|(n, v)| (n.clone(), value(v))).collect();
            let metrics: BTreeMap<&String, Metric> = r.metrics.iter().map(|(n, v)| (n, *v)).collect();
            let data: BTreeMap<&String, String> = r.data.iter().map(|(n, d)| (n, d.to_string())).collect();
            let of_data: BTreeMap<&String, Option<u64>> =
                r.data.iter().map(|(n, d)| (n, versions.get(&(n.clone(), *d)).map(|v| v.number))).collect();
            json!({
                "versions": of_data, "run": r.run, "started": r.started, "seconds": r.seconds, "state": r.state, "label": r.label, "params": params,
                "metrics": metrics, "data": data, "sandbox": r.sandbox, "commit": r.commit, "receipt": r.receipt,
            })
        })
        .collect()
}
