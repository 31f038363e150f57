//! The list of runs: only what differs among them has a column, the rest is folded into one line.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use serde_json::{Value, json};
use textum_core::config::manifest::Better;
use textum_core::record::ledger::{Field, RunRow, metric_of, seconds_at_work};
use textum_core::record::receipt::Metric;
use textum_core::store::Digest;
use unicode_width::UnicodeWidthStr;

use super::data::Versions;
use super::table::{Cell, Look, markdown, table};
use super::text;
use crate::ui::Style;

/// A table of runs: its header, its rows, and what is the same in all of them.
pub struct Listed {
    header: Vec<String>,
    rows: Vec<Vec<Cell>>,
    same: Vec<String>,
    /// Columns that there was no room for.
    hidden: Vec<String>,
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

/// A line of the list.
pub enum Entry {
    /// A run.
    Run(Box<RunRow>),
    /// All runs of a sweep, newest first.
    Sweep {
        /// Its name.
        name: String,
        /// Its runs.
        runs: Vec<RunRow>,
    },
}

impl Entry {
    /// The runs in it.
    pub fn runs(&self) -> &[RunRow] {
        match self {
            Entry::Run(run) => std::slice::from_ref(&**run),
            Entry::Sweep { runs, .. } => runs,
        }
    }
}

/// How runs are to be listed.
pub struct Listing<'l> {
    /// The direction in which metrics get better.
    pub directions: &'l [(String, Better)],
    /// The versions of datasets.
    pub versions: &'l Versions,
    /// Now.
    pub now: Timestamp,
    /// The width of the terminal; `None` for all columns.
    pub width: Option<usize>,
    /// Just these columns, if some are asked for.
    pub columns: Option<&'l [(String, Field)]>,
    /// What the runs are sorted by: it has a column whatever there is room for.
    pub first: Option<&'l str>,
}

/// The columns of a list beside the fixed ones.
#[derive(Default)]
struct Columns {
    labels: bool,
    /// Who ran them, where not all are one's own.
    by: bool,
    params: Vec<String>,
    data: Vec<String>,
    metrics: Vec<String>,
}

/// Values of several runs in one cell: one value, a range, or how many there are.
fn together(values: &[Option<String>]) -> String {
    let distinct: BTreeSet<&String> = values.iter().flatten().collect();
    let numbers: Vec<f64> = distinct.iter().filter_map(|v| v.parse().ok()).collect();
    match distinct.len() {
        0 => "–".into(),
        1 => distinct.first().map(|v| (*v).clone()).unwrap_or_default(),
        n if numbers.len() == n => {
            let (low, high) = numbers.iter().fold((f64::MAX, f64::MIN), |(l, h), v| (l.min(*v), h.max(*v)));
            format!("{}–{}", text::figure(low), text::figure(high))
        }
        n => format!("{n} values"),
    }
}

impl Listing<'_> {
    /// Lays the runs out.
    pub fn list(&self, entries: &[Entry]) -> Listed {
        let runs: Vec<RunRow> = entries.iter().flat_map(Entry::runs).cloned().collect();
        let (param_columns, same_params) = split(&runs, params);
        let (data_columns, same_data) = split(&runs, |r| data(r, self.versions));
        if let Some(columns) = self.columns {
            return self.chosen(entries, columns);
        }
        let metric_names: BTreeSet<&String> = runs.iter().flat_map(|r| r.metrics.iter().map(|(n, _)| n)).collect();
        // Metrics with a direction first: somebody cares for them.
        let mut metrics: Vec<String> =
            self.directions.iter().map(|(n, _)| n.clone()).filter(|n| metric_names.contains(n)).collect();
        let mut others: Vec<String> = metric_names.into_iter().filter(|n| !metrics.contains(n)).cloned().collect();
        // What is said of the stages out of `each` is the first to go where there is no room.
        others.sort_by_key(|n| n.contains(".each.") || n.contains(':'));
        metrics.extend(others);
        let lead = |names: &mut Vec<String>| {
            if let Some(at) = names.iter().position(|n| Some(n.as_str()) == self.first) {
                let name = names.remove(at);
                names.insert(0, name);
            }
        };
        let labels = runs.iter().any(|r| r.label.is_some());
        let by = runs.iter().any(|r| r.by != runs[0].by);
        let mut columns = Columns { labels, by, params: param_columns, data: data_columns, metrics };
        lead(&mut columns.params);
        lead(&mut columns.metrics);
        let hidden = self.fit(&mut columns, entries);
        let best = best(&runs, self.directions);
        let rows = entries.iter().map(|entry| self.row(entry, &columns, &best, runs.len() == 1)).collect();
        let mut header: Vec<String> = ["run", "when", "state", "took"].map(String::from).to_vec();
        if labels {
            header.push("label".into());
        }
        if by {
            header.push("by".into());
        }
        header.extend(columns.params.into_iter().chain(columns.data).chain(columns.metrics));
        let said = |(n, v): (String, String)| if v.starts_with('@') { format!("{n}{v}") } else { format!("{n} {v}") };
        let mut same: Vec<String> = same_params.into_iter().chain(same_data).map(said).collect();
        if let Some(other) = runs.first().filter(|r| !by && r.by != textum_base::Identity::here().to_string()) {
            same.push(format!("by {}", other.by));
        }
        Listed { header, rows, same, hidden }
    }

    /// The least telling columns go first: metrics without a direction, all but one of the others, then data and
    /// parameters, since they tell why runs differ. What has no room is told by name.
    fn fit(&self, columns: &mut Columns, entries: &[Entry]) -> Vec<String> {
        let Some(width) = self.width else { return Vec::new() };
        let state = entries.iter().map(|e| self.state(e).text.width() + 2).max().unwrap_or(0).max(7);
        let name = entries.iter().map(|e| if matches!(e, Entry::Run(_)) { 21 } else { 15 }).max().unwrap_or(0);
        let fixed = name + 11 + state + 10 + if columns.labels { 14 } else { 0 } + if columns.by { 16 } else { 0 };
        let wide = |names: &[String]| names.iter().map(|n| n.width().max(8) + 2).sum::<usize>();
        let mut hidden = Vec::new();
        while fixed + wide(&columns.params) + wide(&columns.data) + wide(&columns.metrics) > width {
            let plain = columns
                .metrics
                .iter()
                .rposition(|m| !self.directions.iter().any(|(n, _)| n == m) && Some(m.as_str()) != self.first);
            let metrics = columns.metrics.len();
            let gone = match plain {
                Some(at) if metrics > 1 => Some(columns.metrics.remove(at)),
                _ if metrics > 1 => columns.metrics.pop(),
                _ if columns.data.len() > 1 => columns.data.pop(),
                _ => columns.params.pop().or_else(|| columns.data.pop()),
            };
            match gone {
                Some(name) => hidden.push(name),
                None => break,
            }
        }
        hidden.reverse();
        hidden
    }

    fn state(&self, entry: &Entry) -> Cell {
        match entry {
            Entry::Run(run) => Cell::new(&run.state, if run.state == "done" { Look::Plain } else { Look::Bad }),
            Entry::Sweep { runs, .. } => {
                let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
                runs.iter().for_each(|r| *counts.entry(&r.state).or_default() += 1);
                let done = counts.remove("done").map(|n| format!("{n} done"));
                let words: Vec<String> = done.into_iter().chain(counts.iter().map(|(s, n)| format!("{n} {s}"))).collect();
                Cell::new(words.join(", "), if counts.is_empty() { Look::Plain } else { Look::Bad })
            }
        }
    }

    fn row(&self, entry: &Entry, columns: &Columns, best: &BTreeMap<String, f64>, one: bool) -> Vec<Cell> {
        let runs = entry.runs();
        let name = match entry {
            Entry::Run(run) => &run.run,
            Entry::Sweep { name, .. } => name,
        };
        let newest = runs.iter().map(|r| r.started.as_str()).max().unwrap_or_default();
        let mut cells = vec![
            Cell::new(name, Look::Bold),
            Cell::new(text::ago(newest, self.now), Look::Dim),
            self.state(entry),
            Cell::new(text::seconds(seconds_at_work(runs.iter())), Look::Dim),
        ];
        if columns.labels {
            cells.push(runs.first().and_then(|r| r.label.clone()).unwrap_or_default().into());
        }
        if columns.by {
            let by = together(&runs.iter().map(|r| Some(r.by.clone())).collect::<Vec<_>>());
            cells.push(Cell::new(by, Look::Dim));
        }
        let shown = |pick: &dyn Fn(&RunRow) -> BTreeMap<String, String>, name: &String| {
            together(&runs.iter().map(|r| pick(r).get(name).cloned()).collect::<Vec<_>>())
        };
        cells.extend(columns.params.iter().map(|n| shown(&params, n).into()));
        cells.extend(columns.data.iter().map(|n| Cell::new(shown(&|r| data(r, self.versions), n), Look::Dim)));
        cells.extend(columns.metrics.iter().map(|name| self.metric(entry, name, best, one)));
        cells
    }

    /// A metric of a run, or the best of a sweep's.
    fn metric(&self, entry: &Entry, name: &str, best: &BTreeMap<String, f64>, one: bool) -> Cell {
        let found = match entry {
            Entry::Run(run) => metric_of(run, name).map(|v| (v, run.state == "done")),
            Entry::Sweep { runs, .. } => self::best(runs, self.directions).get(name).map(|v| (Metric(*v), true)),
        };
        let shown = found.as_ref().map_or("–".to_string(), |(v, _)| text::metric(v));
        let is_best = !one && found.is_some_and(|(v, done)| done && best.get(name) == Some(&v.0));
        if is_best { Cell::new(format!("{shown} *"), Look::Good) } else { shown.into() }
    }

    /// Just the columns that were asked for, in that order.
    fn chosen(&self, entries: &[Entry], columns: &[(String, Field)]) -> Listed {
        let runs: Vec<&RunRow> = entries.iter().flat_map(Entry::runs).collect();
        let all: Vec<RunRow> = runs.iter().map(|r| (*r).clone()).collect();
        let best = best(&all, self.directions);
        let cell = |run: &RunRow, field: &Field| -> Cell {
            let dash = |value: Option<&String>| value.cloned().unwrap_or_else(|| "–".to_string());
            match field {
                Field::Run => Cell::new(&run.run, Look::Bold),
                Field::Label => run.label.clone().unwrap_or_default().into(),
                Field::State => Cell::new(&run.state, if run.state == "done" { Look::Plain } else { Look::Bad }),
                Field::Started => {
                    Cell::new(if self.width.is_some() { text::ago(&run.started, self.now) } else { run.started.clone() }, Look::Dim)
                }
                Field::Took => Cell::new(text::seconds(run.seconds), Look::Dim),
                Field::Sweep => Cell::new(run.sweep.clone().unwrap_or_default(), Look::Dim),
                Field::By => Cell::new(&run.by, Look::Dim),
                Field::Param(name) => dash(params(run).get(name)).into(),
                Field::Used(_) | Field::Undeclared | Field::Place => dash(None).into(),
                Field::Data(name) => Cell::new(dash(data(run, self.versions).get(name)), Look::Dim),
                Field::Metric(name) => self.metric(&Entry::Run(Box::new(run.clone())), name, &best, all.len() == 1),
            }
        };
        let rows = runs
            .iter()
            .map(|run| std::iter::once(Cell::new(&run.run, Look::Bold)).chain(columns.iter().map(|(_, f)| cell(run, f))).collect());
        let header = std::iter::once("run".to_string()).chain(columns.iter().map(|(n, _)| n.clone())).collect();
        Listed { header, rows: rows.collect(), same: Vec::new(), hidden: Vec::new() }
    }
}

impl Listed {
    /// For people.
    pub fn text(&self, more: usize, sorted: bool, style: &Style) -> String {
        let header: Vec<&str> = self.header.iter().map(String::as_str).collect();
        let mut out = table(&header, &self.rows, "", style);
        if !self.same.is_empty() && self.rows.len() > 1 {
            out.push_str(&style.dim(&format!("same in all: {}", self.same.join(", "))));
            out.push('\n');
        }
        if !self.hidden.is_empty() {
            out.push_str(&style.dim(&format!("no room for {}: --columns\n", text::some(&self.hidden, 4))));
        }
        if self.rows.iter().flatten().any(|c| c.text.trim_end().ends_with('*')) {
            out.push_str(&style.dim("* the best of these\n"));
        }
        if more > 0 {
            let what = if sorted { "more run" } else { "older run" };
            out.push_str(&style.dim(&format!("{} not shown: use --last or --all\n", text::counted(more as u64, what))));
        }
        out
    }

    /// As a Markdown table.
    pub fn markdown(&self) -> String {
        markdown(&self.header.iter().map(String::as_str).collect::<Vec<_>>(), &self.rows)
    }
}

/// The runs as JSON.
pub fn json<'r>(runs: impl Iterator<Item = &'r RunRow>, versions: &Versions) -> Value {
    let value = |text: &String| serde_json::from_str::<Value>(text).unwrap_or_else(|_| Value::from(text.as_str()));
    runs.map(|r| {
            let params: serde_json::Map<String, Value> = r.params.iter().map(|(n, v)| (n.clone(), value(v))).collect();
            let metrics: BTreeMap<&String, Metric> = r.metrics.iter().map(|(n, v)| (n, *v)).collect();
            let data: BTreeMap<&String, String> = r.data.iter().map(|(n, d)| (n, d.to_string())).collect();
            let of_data: BTreeMap<&String, Option<u64>> =
                r.data.iter().map(|(n, d)| (n, versions.get(&(n.clone(), *d)).map(|v| v.number))).collect();
            json!({
                "versions": of_data, "run": r.run, "started": r.started, "seconds": r.seconds, "state": r.state, "label": r.label, "params": params,
                "metrics": metrics, "data": data, "sweep": r.sweep, "by": r.by, "sandbox": r.sandbox, "commit": r.commit, "receipt": r.receipt,
            })
        })
        .collect()
}
