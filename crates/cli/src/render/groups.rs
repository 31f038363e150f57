//! Runs by the values of something, each group in a line.

use serde_json::{Value, json};
use textum_core::config::manifest::Better;
use textum_core::record::ledger::Group;
use textum_core::record::receipt::Metric;

use super::table::{Cell, Look, table};
use super::text;
use crate::ui::Style;

type Judged<'m> = Option<(&'m str, Better)>;

fn rows(groups: &[Group], metric: Judged<'_>) -> Vec<Vec<Cell>> {
    let top = metric.and_then(|(_, better)| {
        let values = groups.iter().filter_map(|g| g.best.as_ref().map(|(_, v)| *v));
        if better == Better::Higher { values.reduce(f64::max) } else { values.reduce(f64::min) }
    });
    let number = |value: Option<f64>| value.map_or("–".to_string(), |v| text::metric(&Metric(v)));
    groups
        .iter()
        .map(|g| {
            let value = if g.value.is_empty() { "–" } else { &g.value };
            let mut cells: Vec<Cell> = vec![Cell::new(value, Look::Bold), g.runs.to_string().into(), g.done.to_string().into()];
            if metric.is_some() {
                let best = g.best.as_ref().map(|(_, v)| *v);
                let is_top = groups.len() > 1 && best.is_some() && best == top;
                let shown = number(best);
                cells.push(if is_top { Cell::new(format!("{shown} *"), Look::Good) } else { shown.into() });
                cells.push(number(g.median).into());
                cells.push(number(g.worst).into());
                cells.push(Cell::new(g.best.as_ref().map_or(String::new(), |(run, _)| run.clone()), Look::Dim));
            }
            cells
        })
        .collect()
}

fn header(name: &str, metric: Judged<'_>) -> Vec<String> {
    let mut header: Vec<String> = vec![name.to_string(), "runs".into(), "done".into()];
    if let Some((metric, _)) = metric {
        header.extend([format!("{metric} best"), "median".into(), "worst".into(), "best run".into()]);
    }
    header
}

/// For people.
pub fn text(name: &str, groups: &[Group], metric: Judged<'_>, style: &Style) -> String {
    let header = header(name, metric);
    let mut out = table(&header.iter().map(String::as_str).collect::<Vec<_>>(), &rows(groups, metric), "", style);
    if metric.is_none() {
        out.push_str(&style.dim("best and spread: name a metric with --by, or declare one with [metric.NAME] better\n"));
    }
    out
}

/// As a Markdown table.
pub fn markdown(name: &str, groups: &[Group], metric: Judged<'_>) -> String {
    let header = header(name, metric);
    super::table::markdown(&header.iter().map(String::as_str).collect::<Vec<_>>(), &rows(groups, metric))
}

/// As JSON.
pub fn json(groups: &[Group], metric: Judged<'_>) -> Value {
    let number = |value: Option<f64>| value.map(Metric);
    groups
        .iter()
        .map(|g| {
            json!({
                "value": g.value, "runs": g.runs, "done": g.done, "metric": metric.map(|(n, _)| n), "with_metric": g.with_metric,
                "best": number(g.best.as_ref().map(|(_, v)| *v)), "best_run": g.best.as_ref().map(|(r, _)| r),
                "median": number(g.median), "worst": number(g.worst),
            })
        })
        .collect()
}
