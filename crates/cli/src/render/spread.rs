//! A metric over one, two or more parameters.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Value, json};
use textum_core::config::manifest::Better;
use textum_core::figure::{Axis, COLORS, Figure, GREY, Mark, Scale};
use textum_core::record::ledger::{RunRow, metric_of};
use textum_core::record::receipt::Metric;

use super::chart::{Series, chart};
use super::plot::Spread;
use super::table::{Cell, Look, table as columns};
use super::text;
use crate::ui::Style;

fn param(run: &RunRow, name: &str) -> Option<String> {
    run.params.iter().find(|(n, _)| n == name).map(|(_, v)| text::param(v))
}

/// The values of a parameter among the runs, numbers by size, others by name; and whether they are numbers.
fn levels(spread: &Spread<'_>, name: &str) -> (Vec<String>, bool) {
    let set: BTreeSet<String> = spread.rows.iter().filter_map(|r| param(r, name)).collect();
    let mut values: Vec<String> = set.into_iter().collect();
    let numeric = values.iter().all(|v| v.parse::<f64>().is_ok_and(f64::is_finite));
    if numeric {
        values.sort_by(|a, b| a.parse::<f64>().unwrap_or(0.0).total_cmp(&b.parse().unwrap_or(0.0)));
    }
    (values, numeric)
}

/// Whether values are best told apart by their logarithm: each is about so many times the one before.
fn spans_decades(values: &[String]) -> bool {
    let numbers: Vec<f64> = values.iter().filter_map(|v| v.parse().ok()).collect();
    let (Some(first), Some(last)) = (numbers.first(), numbers.last()) else { return false };
    numbers.len() > 2 && *first > 0.0 && last / first >= 20.0
}

fn value(run: &RunRow, metric: &str) -> Option<f64> {
    metric_of(run, metric).map(|m| m.0).filter(|v| v.is_finite())
}

fn better_of(better: Option<Better>, a: f64, b: f64) -> f64 {
    if better == Some(Better::Lower) { a.min(b) } else { a.max(b) }
}

/// A parameter that varies beside those asked for, if there is just one: its values become lines.
fn other_varied(spread: &Spread<'_>) -> Option<String> {
    let names: BTreeSet<&String> = spread.rows.iter().flat_map(|r| r.params.iter().map(|(n, _)| n)).collect();
    let varied = names.into_iter().filter(|n| !spread.params.contains(n) && levels(spread, n).0.len() > 1);
    let varied: Vec<&String> = varied.collect();
    match varied.as_slice() {
        [one] if levels(spread, one).0.len() <= 8 => Some((*one).clone()),
        _ => None,
    }
}

/// Lines: the name of each, and its points sorted across; at one place the best value counts.
fn lines(spread: &Spread<'_>) -> Vec<(String, Vec<(f64, f64)>)> {
    let name = &spread.params[0];
    let (values, numeric) = levels(spread, name);
    let place = |text: &str| {
        if numeric { text.parse::<f64>().ok() } else { values.iter().position(|v| v == text).map(|i| i as f64) }
    };
    let group = other_varied(spread);
    let mut found: BTreeMap<(Sortable, String), BTreeMap<u64, (f64, f64)>> = BTreeMap::new();
    for run in spread.rows {
        let (Some(x), Some(y)) = (param(run, name).and_then(|p| place(&p)), value(run, spread.metric)) else { continue };
        let key = group.as_ref().and_then(|g| param(run, g)).unwrap_or_default();
        let line = found.entry((Sortable(key.parse().unwrap_or(0.0)), key)).or_default();
        let slot = line.entry(x.to_bits() ^ if x < 0.0 { u64::MAX } else { 1 << 63 }).or_insert((x, y));
        slot.1 = better_of(spread.better, slot.1, y);
    }
    let called = |key: String| group.as_ref().map_or(String::new(), |g| format!("{} {key}", g.rsplit('.').next().unwrap_or(g)));
    found.into_iter().map(|((_, key), points)| (called(key), points.into_values().collect())).collect()
}

/// A number that can be sorted.
#[derive(Clone, Copy, PartialEq)]
struct Sortable(f64);

impl Eq for Sortable {}

impl PartialOrd for Sortable {
    fn partial_cmp(&self, other: &Sortable) -> Option<std::cmp::Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Sortable {
    fn cmp(&self, other: &Sortable) -> std::cmp::Ordering {
        self.0.total_cmp(&other.0)
    }
}

/// The best run by the metric.
fn best<'s>(spread: &'s Spread<'_>) -> Option<(&'s RunRow, f64)> {
    let with = spread.rows.iter().filter_map(|r| Some((r, value(r, spread.metric)?)));
    with.reduce(|a, b| if better_of(spread.better, a.1, b.1) == a.1 { a } else { b })
}

/// The figure: a line over one parameter, a heat map over two, parallel coordinates over more.
pub fn figure(spread: &Spread<'_>) -> Figure {
    match spread.params {
        [_] => over_one(spread),
        [_, _] => heat_map(spread),
        _ => parallel(spread),
    }
}

fn over_one(spread: &Spread<'_>) -> Figure {
    let name = &spread.params[0];
    let (values, numeric) = levels(spread, name);
    let scale = if !numeric {
        Scale::Names(values)
    } else if spans_decades(&values) {
        Scale::Log
    } else {
        Scale::Even
    };
    let y = Axis { label: spread.metric.to_string(), scale: if spread.log { Scale::Log } else { Scale::Even }, range: None };
    let mut figure = Figure::new(&format!("{} over {name}", spread.metric), Axis { label: name.clone(), scale, range: None }, y);
    figure.subtitle = format!("{}; at one place the best value counts", text::counted(spread.rows.len() as u64, "run"));
    for (i, (called, points)) in lines(spread).into_iter().enumerate() {
        let color = COLORS[i % COLORS.len()].to_string();
        let dots = points.iter().map(|(x, y)| (*x, *y, format!("{called} {}", text::figure(*y)))).collect();
        let named = (!called.is_empty()).then_some(called);
        figure.marks.push(Mark::Line { points, name: named, color: color.clone(), dashed: false });
        figure.marks.push(Mark::Points { points: dots, color, radius: 3.5 });
    }
    figure
}

/// The cells of a heat map: the values of both parameters, and the best value of each pair.
#[allow(clippy::type_complexity)]
fn grid(spread: &Spread<'_>) -> (Vec<String>, Vec<String>, BTreeMap<(usize, usize), f64>) {
    let (across, up) = (levels(spread, &spread.params[0]).0, levels(spread, &spread.params[1]).0);
    let mut cells: BTreeMap<(usize, usize), f64> = BTreeMap::new();
    for run in spread.rows {
        let at = |name: &str, among: &[String]| param(run, name).and_then(|v| among.iter().position(|a| *a == v));
        let (Some(i), Some(j), Some(v)) = (at(&spread.params[0], &across), at(&spread.params[1], &up), value(run, spread.metric))
        else {
            continue;
        };
        let slot = cells.entry((i, j)).or_insert(v);
        *slot = better_of(spread.better, *slot, v);
    }
    (across, up, cells)
}

fn heat_map(spread: &Spread<'_>) -> Figure {
    let (across, up, cells) = grid(spread);
    let scaled = |v: f64| if spread.log { v.max(f64::MIN_POSITIVE).ln() } else { v };
    let (low, high) = cells.values().map(|v| scaled(*v)).fold((f64::MAX, f64::MIN), |(l, h), v| (l.min(v), h.max(v)));
    let shade = |v: f64| {
        let share = if high > low { (scaled(v) - low) / (high - low) } else { 0.5 };
        // Dark is good, whichever direction that is.
        if spread.better == Some(Better::Lower) { 1.0 - share } else { share }
    };
    let (columns, rows) = (across.len(), up.len());
    let axis = |label: &str, names: Vec<String>| Axis { label: label.into(), scale: Scale::Names(names), range: None };
    let title = format!("{} over {} and {}", spread.metric, spread.params[0], spread.params[1]);
    let mut figure = Figure::new(&title, axis(&spread.params[0], across), axis(&spread.params[1], up));
    figure.subtitle = "the darker the better; of several runs at one place the best".into();
    figure.size = ((160.0 + 84.0 * columns as f64).clamp(420.0, 1400.0), (140.0 + 46.0 * rows as f64).clamp(260.0, 1200.0));
    let cells = cells.into_iter().map(|((i, j), v)| (i as f64, j as f64, shade(v), text::figure(v))).collect();
    figure.with(Mark::Cells { cells })
}

/// Each run a line from axis to axis, the last being the metric; the best runs in colour.
fn parallel(spread: &Spread<'_>) -> Figure {
    let mut names: Vec<String> = spread.params.to_vec();
    names.push(spread.metric.to_string());
    let all: Vec<(Vec<String>, bool)> = spread.params.iter().map(|p| levels(spread, p)).collect();
    let (low, high) =
        spread.rows.iter().filter_map(|r| value(r, spread.metric)).fold((f64::MAX, f64::MIN), |(l, h), v| (l.min(v), h.max(v)));
    let share = |from: f64, to: f64, v: f64| if to > from { (v - from) / (to - from) } else { 0.5 };
    let level = |axis: usize, own: &String| -> Option<f64> {
        let (values, numeric) = all.get(axis)?;
        let number = |text: &String| text.parse::<f64>().unwrap_or(0.0);
        let log = |v: f64| if spans_decades(values) { v.ln() } else { v };
        Some(match numeric {
            true => share(log(number(values.first()?)), log(number(values.last()?)), log(number(own))),
            false => share(0.0, values.len() as f64 - 1.0, values.iter().position(|v| v == own)? as f64),
        })
    };
    let height = |run: &RunRow, axis: usize| match spread.params.get(axis) {
        Some(name) => level(axis, &param(run, name)?),
        None => Some(share(low, high, value(run, spread.metric)?)),
    };
    let x = Axis { label: String::new(), scale: Scale::Names(names), range: None };
    let y = Axis { label: String::new(), scale: Scale::Bare, range: Some((-0.08, 1.08)) };
    let mut figure = Figure::new(&format!("{} and what leads to it", spread.metric), x, y);
    figure.subtitle = "each line is a run; in colour: the best of them".into();
    let mut runs: Vec<&RunRow> = spread.rows.iter().filter(|r| value(r, spread.metric).is_some()).collect();
    let key =
        |r: &RunRow| value(r, spread.metric).unwrap_or(f64::NAN) * if spread.better == Some(Better::Lower) { 1.0 } else { -1.0 };
    runs.sort_by(|a, b| key(a).total_cmp(&key(b)));
    let shown = runs.len().div_ceil(5).clamp(1, 6);
    for (i, run) in runs.iter().enumerate().rev() {
        let points: Vec<(f64, f64)> = (0..=all.len()).filter_map(|a| Some((a as f64, height(run, a)?))).collect();
        let named = (i < shown).then(|| {
            format!(
                "{} {}",
                run.run.rsplit('-').next().unwrap_or_default(),
                text::figure(value(run, spread.metric).unwrap_or(f64::NAN))
            )
        });
        let color = if i < shown { COLORS[i % COLORS.len()] } else { GREY };
        figure.marks.push(Mark::Line { points, name: named, color: color.into(), dashed: false });
    }
    for axis in 0..=all.len() {
        figure.marks.push(Mark::Line {
            points: vec![(axis as f64, 0.0), (axis as f64, 1.0)],
            name: None,
            color: "#6b7078".into(),
            dashed: false,
        });
        let marks: Vec<(f64, String)> = match all.get(axis) {
            Some((values, _)) => shown_levels(values).map(|v| (level(axis, v).unwrap_or_default(), v.clone())).collect(),
            None => vec![(0.0, text::figure(low)), (1.0, text::figure(high))],
        };
        figure.marks.extend(marks.into_iter().map(|(at, text)| Mark::Text { at: (axis as f64, at), text, beside: true }));
    }
    figure
}

/// So many levels of a parameter are named on its axis; of more, some that lie evenly among them.
const MOST_LEVELS: usize = 12;

fn shown_levels(values: &[String]) -> impl Iterator<Item = &String> {
    let apart = values.len().div_ceil(MOST_LEVELS).max(1);
    let last = values.len().saturating_sub(1);
    values.iter().enumerate().filter(move |(i, _)| *i == last || (i % apart == 0 && last - i >= apart)).map(|(_, v)| v)
}

/// In the terminal.
pub fn text(spread: &Spread<'_>, width: usize, style: &Style) -> String {
    let mut out = String::new();
    let title = format!("{} over {}", spread.metric, spread.params.join(" and "));
    out.push_str(&format!("{}  {}\n\n", style.bold(&title), style.dim(&text::counted(spread.rows.len() as u64, "run"))));
    match spread.params {
        [name] => {
            let lines = lines(spread);
            let (values, numeric) = levels(spread, name);
            let log = numeric && spans_decades(&values);
            let series: Vec<Series> = lines
                .iter()
                .enumerate()
                .map(|(i, (called, points))| {
                    let drawable = points.iter().filter(|(_, y)| !spread.log || *y > 0.0);
                    let points = drawable
                        .map(|(x, y)| (if log { x.log10() } else { *x }, if spread.log { y.log10() } else { *y }))
                        .collect();
                    Series { name: called.clone(), points, color: i, note: String::new(), dots: true }
                })
                .collect();
            let label = if log { format!("{name} (by its logarithm)") } else { name.clone() };
            let names = (!numeric).then_some(values.as_slice());
            let measured = if spread.log { format!("log10 {}", spread.metric) } else { spread.metric.to_string() };
            out.push_str(&chart(&series, (&label, &measured), width, names, log, None, style));
        }
        [x, y] => {
            let (across, up, cells) = grid(spread);
            let top = cells.values().copied().reduce(|a, b| better_of(spread.better, a, b));
            let header: Vec<String> = std::iter::once(format!("{y} \\ {x}")).chain(across.iter().cloned()).collect();
            let rows: Vec<Vec<Cell>> = up
                .iter()
                .enumerate()
                .rev()
                .map(|(j, name)| {
                    let cell = |i: usize| match cells.get(&(i, j)) {
                        Some(v) if Some(*v) == top => Cell::new(format!("{} *", text::metric(&Metric(*v))), Look::Good),
                        Some(v) => text::metric(&Metric(*v)).into(),
                        None => Cell::new("–", Look::Dim),
                    };
                    std::iter::once(Cell::new(name, Look::Dim)).chain((0..across.len()).map(cell)).collect()
                })
                .collect();
            out.push_str(&columns(&header.iter().map(String::as_str).collect::<Vec<_>>(), &rows, "  ", style));
        }
        _ => {
            out.push_str(&table(spread));
            out.push_str(&style.dim("\nparallel coordinates are drawn into a file: -o FILE.svg\n"));
        }
    }
    if let Some((run, v)) = best(spread) {
        let told = spread.params.iter().cloned().chain(other_varied(spread));
        let values: Vec<String> = told.map(|p| format!("{p} {}", param(run, &p).unwrap_or_default())).collect();
        out.push_str(&format!(
            "\n  best: {} with {}  {}\n",
            style.good(&text::metric(&Metric(v))),
            values.join(", "),
            style.dim(&run.run)
        ));
    }
    out
}

/// The values behind the figure.
pub fn table(spread: &Spread<'_>) -> String {
    let mut rows: Vec<&RunRow> = spread.rows.iter().collect();
    let key =
        |r: &RunRow| value(r, spread.metric).unwrap_or(f64::NAN) * if spread.better == Some(Better::Lower) { 1.0 } else { -1.0 };
    rows.sort_by(|a, b| key(a).total_cmp(&key(b)));
    let header: Vec<&str> = std::iter::once("run").chain(spread.params.iter().map(String::as_str)).chain([spread.metric]).collect();
    let cells: Vec<Vec<Cell>> = rows
        .iter()
        .map(|r| {
            let mut row: Vec<Cell> = vec![r.run.as_str().into()];
            row.extend(spread.params.iter().map(|p| Cell::from(param(r, p).unwrap_or_else(|| "–".into()))));
            row.push(metric_of(r, spread.metric).map_or("–".to_string(), |m| text::metric(&m)).into());
            row
        })
        .collect();
    columns(&header, &cells, "", &Style::new(false))
}

/// As JSON.
pub fn json(spread: &Spread<'_>) -> Value {
    spread
        .rows
        .iter()
        .map(|r| {
            let params: BTreeMap<&String, Value> = spread
                .params
                .iter()
                .filter_map(|p| Some((p, serde_json::from_str(&r.params.iter().find(|(n, _)| n == p)?.1).ok()?)))
                .collect();
            json!({"run": r.run, "params": params, "metric": spread.metric, "value": metric_of(r, spread.metric)})
        })
        .collect()
}
