//! Results as data: comma-separated values with full precision, times by RFC 3339, seconds and sizes as numbers, and an
//! empty cell for what is not there. Nothing is folded, rounded or marked.

use std::collections::{BTreeMap, BTreeSet};

use textum_core::data::{DatasetState, DatasetStatus};
use textum_core::inspect::comparison::Comparison;
use textum_core::inspect::curve::Curve;
use textum_core::record::ledger::{Field, Group, RunRow, metric_of};
use textum_core::record::receipt::{Metric, StorageMode};
use textum_core::table::profile::Profile;

use super::data::{Versions, change};
use crate::commands::data::History;

/// A table of texts: a header, and rows as long as it.
pub struct Data {
    header: Vec<String>,
    rows: Vec<Vec<String>>,
}

impl Data {
    /// With these columns.
    pub fn new<T: Into<String>>(header: impl IntoIterator<Item = T>) -> Data {
        Data { header: header.into_iter().map(Into::into).collect(), rows: Vec::new() }
    }

    /// Adds a row.
    pub fn add(&mut self, row: impl IntoIterator<Item = String>) {
        self.rows.push(row.into_iter().collect());
    }

    /// By RFC 4180, with line feeds.
    pub fn text(&self) -> String {
        let mut writer = csv::Writer::from_writer(Vec::new());
        // Writing into memory cannot fail, and all rows are as long as the header.
        let _ = writer.write_record(&self.header);
        for row in &self.rows {
            let _ = writer.write_record(row);
        }
        writer.into_inner().map(|bytes| String::from_utf8_lossy(&bytes).into_owned()).unwrap_or_default()
    }
}

fn or_empty<T: ToString>(value: Option<T>) -> String {
    value.map_or(String::new(), |v| v.to_string())
}

/// A parameter as it is, a text without its quotation marks.
fn param(json: &str) -> String {
    serde_json::from_str::<String>(json).unwrap_or_else(|_| json.to_string())
}

fn state_of(run: &RunRow, name: &str, versions: &Versions) -> String {
    run.data.iter().find(|(n, _)| n == name).map_or(String::new(), |(n, digest)| {
        versions.get(&(n.clone(), *digest)).map_or_else(|| digest.to_string(), |v| format!("{n}@{}", v.number))
    })
}

/// A line for each run, those of sweeps too; `columns` beside the run, or all that there are.
pub fn runs<'r>(runs: impl Iterator<Item = &'r RunRow>, versions: &Versions, columns: Option<&[(String, Field)]>) -> String {
    let runs: Vec<&RunRow> = runs.collect();
    let all;
    let columns = match columns {
        Some(columns) => columns,
        None => {
            all = every_column(&runs);
            &all
        }
    };
    let mut data = Data::new(std::iter::once("run").chain(columns.iter().map(|(name, _)| name.as_str())));
    for run in &runs {
        let cell = |field: &Field| match field {
            Field::Run => run.run.clone(),
            Field::Label => or_empty(run.label.as_ref()),
            Field::State => run.state.clone(),
            Field::Started => run.started.clone(),
            Field::Took => run.seconds.to_string(),
            Field::Sweep => or_empty(run.sweep.as_ref()),
            Field::By => run.by.clone(),
            Field::Param(name) => run.params.iter().find(|(n, _)| n == name).map_or(String::new(), |(_, v)| param(v)),
            Field::Data(name) => state_of(run, name, versions),
            Field::Used(_) | Field::Undeclared | Field::Place => String::new(),
            Field::Metric(name) => or_empty(metric_of(run, name)),
        };
        data.add(std::iter::once(run.run.clone()).chain(columns.iter().map(|(_, field)| cell(field))));
    }
    data.text()
}

fn every_column(runs: &[&RunRow]) -> Vec<(String, Field)> {
    let fixed = [
        ("started", Field::Started),
        ("state", Field::State),
        ("seconds", Field::Took),
        ("label", Field::Label),
        ("sweep", Field::Sweep),
        ("by", Field::By),
    ];
    let mut columns: Vec<(String, Field)> = fixed.into_iter().map(|(n, f)| (n.to_string(), f)).collect();
    let names = |pick: fn(&RunRow) -> Vec<&String>| -> BTreeSet<String> { runs.iter().flat_map(|r| pick(r)).cloned().collect() };
    columns.extend(names(|r| r.params.iter().map(|(n, _)| n).collect()).into_iter().map(|n| (n.clone(), Field::Param(n))));
    columns.extend(names(|r| r.data.iter().map(|(n, _)| n).collect()).into_iter().map(|n| (format!("data.{n}"), Field::Data(n))));
    columns.extend(names(|r| r.metrics.iter().map(|(n, _)| n).collect()).into_iter().map(|n| (n.clone(), Field::Metric(n))));
    columns
}

/// A line for each group of runs.
pub fn groups(name: &str, groups: &[Group], metric: Option<&str>) -> String {
    let mut data = Data::new([name, "runs", "done", "metric", "best", "median", "worst", "best_run"]);
    for g in groups {
        let (best, run) = g.best.as_ref().map_or((None, None), |(run, value)| (Some(Metric(*value)), Some(run)));
        data.add([
            param(&g.value),
            g.runs.to_string(),
            g.done.to_string(),
            or_empty(metric),
            or_empty(best),
            or_empty(g.median.map(Metric)),
            or_empty(g.worst.map(Metric)),
            or_empty(run),
        ]);
    }
    data.text()
}

/// A line for each version of a dataset.
pub fn versions(history: &History) -> String {
    let mut data =
        Data::new(["version", "digest", "recorded", "by", "path", "rows", "files", "bytes", "in_tree", "change", "notes", "runs"]);
    for (v, changed) in history.versions.iter().rev() {
        let runs: Vec<&str> = history.uses.iter().filter(|u| u.digest == v.content.digest).map(|u| u.run.as_str()).collect();
        data.add([
            v.name(),
            v.content.digest.to_string(),
            v.recorded.clone(),
            v.by.clone(),
            v.path.to_string(),
            or_empty(v.rows),
            v.content.files.unwrap_or(1).to_string(),
            v.content.size.to_string(),
            super::data::versions::in_tree(history, v).to_string(),
            changed.as_ref().map_or(String::new(), change),
            v.notes.join("; "),
            runs.join(" "),
        ]);
    }
    data.text()
}

/// A line for each dataset.
pub fn datasets(found: &[DatasetStatus]) -> String {
    let mut data = Data::new(["dataset", "version", "state", "reference", "path", "files", "rows", "bytes"]);
    for one in found {
        let state = match one.state {
            DatasetState::Recorded => "recorded",
            DatasetState::Edited => "edited",
            DatasetState::New => "new",
            DatasetState::Missing => "missing",
        };
        let rows = one.version.as_ref().filter(|_| one.state == DatasetState::Recorded).and_then(|v| v.rows);
        data.add([
            one.decl.name.clone(),
            or_empty(one.version.as_ref().map(|v| v.name())),
            state.to_string(),
            (one.decl.hold == StorageMode::Reference).to_string(),
            one.decl.path.to_string(),
            or_empty(one.content.as_ref().map(|c| c.files.unwrap_or(1))),
            or_empty(rows),
            or_empty(one.content.as_ref().map(|c| c.size)),
        ]);
    }
    data.text()
}

/// A line for each thing in which runs differ; metrics and stages that are the same in all are there too.
pub fn comparison(found: &Comparison) -> String {
    let mut data = Data::new(["what", "name"].into_iter().chain(found.runs.iter().map(String::as_str)));
    let mut add =
        |what: &str, name: &str, values: Vec<String>| data.add([what.to_string(), name.to_string()].into_iter().chain(values));
    for row in &found.params {
        add("parameter", &row.name, row.values.iter().map(|v| v.as_deref().map_or(String::new(), param)).collect());
    }
    for row in &found.data {
        add("dataset", &row.name, row.values.iter().map(or_empty_ref).collect());
    }
    for (what, rows) in [("command", &found.commands), ("environment", &found.environment), ("checkpoint", &found.from)] {
        for row in rows {
            add(what, &row.name, row.values.iter().map(or_empty_ref).collect());
        }
    }
    for change in &found.code {
        let digests = change.digests.iter().map(|d| or_empty(d.as_ref())).collect();
        add("code", &change.path, digests);
    }
    for row in &found.metrics {
        add("metric", &row.name, row.values.iter().map(|v| or_empty(*v)).collect());
    }
    for row in &found.stages {
        add("seconds", &row.name, row.seconds.iter().map(|s| or_empty(*s)).collect());
    }
    data.text()
}

fn or_empty_ref(value: &Option<String>) -> String {
    or_empty(value.as_ref())
}

/// A line for each point of each curve.
pub fn curves(curves: &[Curve]) -> String {
    let mut data = Data::new(["run", "stage", "metric", "step", "seconds", "value"]);
    for curve in curves {
        for point in &curve.points {
            data.add([
                curve.run.clone(),
                curve.stage.clone(),
                curve.metric.clone(),
                point.step.to_string(),
                point.seconds.to_string(),
                Metric(point.value).to_string(),
            ]);
        }
    }
    data.text()
}

/// A line for each run: some parameters, and one metric.
pub fn against(rows: &[RunRow], params: &[String], metric: &str) -> String {
    let columns = std::iter::once("run").chain(params.iter().map(String::as_str)).chain([metric]);
    let mut data = Data::new(columns);
    for run in rows {
        let of: BTreeMap<&String, &String> = run.params.iter().map(|(n, v)| (n, v)).collect();
        let values = params.iter().map(|p| of.get(p).map_or(String::new(), |v| param(v)));
        data.add(std::iter::once(run.run.clone()).chain(values).chain([or_empty(metric_of(run, metric))]));
    }
    data.text()
}

/// A line for each column of a table.
pub fn profile(found: &Profile) -> String {
    let mut data = Data::new([
        "column",
        "kind",
        "rows",
        "missing",
        "distinct",
        "min",
        "lower_quartile",
        "median",
        "upper_quartile",
        "max",
        "mean",
        "deviation",
        "skew",
        "outliers",
        "identifier",
        "from",
        "to",
        "most_frequent",
        "most_frequent_count",
        "psi",
        "ks",
        "ks_p",
        "variation",
        "p",
        "drift",
    ]);
    for c in &found.columns {
        let figure = |pick: fn(&textum_core::table::profile::Numbers) -> f64| or_empty(c.numbers.as_ref().map(pick));
        let drift = |pick: fn(&textum_core::table::profile::Drift) -> Option<f64>| or_empty(c.drift.as_ref().and_then(pick));
        let range = c.range.as_ref();
        let first = c.frequent.first();
        data.add([
            c.name.clone(),
            c.r#type.clone(),
            c.count.to_string(),
            c.missing.to_string(),
            c.distinct.to_string(),
            figure(|n| n.min),
            figure(|n| n.lower_quartile),
            figure(|n| n.median),
            figure(|n| n.upper_quartile),
            figure(|n| n.max),
            figure(|n| n.mean),
            figure(|n| n.deviation),
            or_empty(c.numbers.as_ref().and_then(|n| n.skew)),
            or_empty(c.numbers.as_ref().map(|n| n.outliers)),
            c.identifier.to_string(),
            or_empty(range.map(|(from, _)| from)),
            or_empty(range.map(|(_, to)| to)),
            or_empty(first.map(|f| &f.value)),
            or_empty(first.map(|f| f.count)),
            drift(|d| d.psi),
            drift(|d| d.ks),
            drift(|d| d.ks_p),
            drift(|d| d.variation),
            drift(|d| Some(d.p)),
            or_empty(c.drift.as_ref().map(|d| d.reading)),
        ]);
    }
    data.text()
}
