//! Two models on the same rows.

use serde_json::{Value, json};
use textum_core::inspect::comparison::Pair;

use super::table::{self, Cell, Look, table};
use super::text;
use crate::ui::Style;

/// Everything that is told.
pub struct Told<'t> {
    /// What came of it.
    pub pair: &'t Pair,
    /// The runs.
    pub runs: [&'t str; 2],
}

/// So many groups are shown to people.
const GROUPS: usize = 8;

fn short(run: &str) -> &str {
    run.rsplit('-').next().unwrap_or(run)
}

fn p_text(p: Option<f64>) -> String {
    p.map_or(String::new(), |p| if p < 0.001 { "< 0.001".into() } else { format!("{p:.3}") })
}

const HEADER: [&str; 7] = ["metric", "", "", "difference", "from … to", "p", ""];

fn metric_rows(told: &Told<'_>) -> Vec<Vec<Cell>> {
    let row = |d: &textum_core::pipeline::evaluation::Difference| -> Vec<Cell> {
        let (word, look) = match (d.better, d.difference == 0.0 || d.difference.is_nan()) {
            (Some(true), _) => ("better", Look::Good),
            (Some(false), _) => ("worse", Look::Bad),
            (None, true) => ("the same", Look::Dim),
            (None, false) if d.interval.is_some_and(|(low, high)| low > 0.0 || high < 0.0) => ("differs", Look::Plain),
            (None, false) => ("may be luck", Look::Dim),
        };
        let sign = if d.difference > 0.0 { "+" } else { "" };
        let ends = d.interval.map_or(String::new(), |(low, high)| format!("{low:+.4} … {high:+.4}"));
        vec![
            Cell::new(&d.metric, Look::Bold),
            text::figure(d.a).into(),
            text::figure(d.b).into(),
            format!("{sign}{:.4}", d.difference).into(),
            Cell::new(ends, Look::Dim),
            p_text(d.p).into(),
            Cell::new(word, look),
        ]
    };
    told.pair.paired.metrics.iter().map(row).collect()
}

fn headline(told: &Told<'_>) -> String {
    let found = &told.pair.paired;
    let [a, b] = told.runs.map(short);
    let rows = text::counted(found.rows as u64, "row");
    let named = |is: bool| found.metrics.iter().filter(|d| d.better == Some(is)).map(|d| d.metric.clone()).collect::<Vec<_>>();
    let (better, worse) = (named(true), named(false));
    let what = match (better.is_empty(), worse.is_empty()) {
        (true, true) => "no difference that could not be luck".to_string(),
        (false, true) => format!("{b} is better in {}", text::some(&better, 4)),
        (true, false) => format!("{b} is worse in {}", text::some(&worse, 4)),
        (false, false) => format!("{b} is better in {}, worse in {}", text::some(&better, 3), text::some(&worse, 3)),
    };
    format!("{a} → {b} on the same {rows}: {what}")
}

fn notes(told: &Told<'_>) -> Vec<String> {
    let found = &told.pair.paired;
    let how = match told.pair.key.is_empty() {
        true => "rows are those in the same places".to_string(),
        false => format!("rows are told by {}", told.pair.key.join(", ")),
    };
    let wanted = &told.pair.intervals;
    let percent = wanted.level.parse::<f64>().map_or(wanted.level.clone(), |l| text::figure(l * 100.0));
    let mut lines = vec![format!("{how}; intervals of {percent} % by {} draws of these rows, the same for both", wanted.resamples)];
    if found.only_a + found.only_b > 0 {
        let [a, b] = told.runs.map(short);
        lines.push(format!("left out: {} that only {a} has judged, {} that only {b} has", found.only_a, found.only_b));
    }
    lines.extend(found.tests.iter().map(|(test, p)| format!("{test}: p {}", p_text(Some(*p)))));
    lines
}

fn segment_rows(told: &Told<'_>) -> Vec<Vec<Cell>> {
    let row = |s: &textum_core::pipeline::evaluation::Segment| -> Vec<Cell> {
        vec![
            Cell::new(format!("{} {}", s.by, s.group), Look::Bold),
            text::counted(s.rows as u64, "row").into(),
            text::figure(s.a).into(),
            text::figure(s.b).into(),
            format!("{:+.4}", s.b - s.a).into(),
        ]
    };
    told.pair.paired.segments.iter().take(GROUPS).map(row).collect()
}

fn disagreement_rows(told: &Told<'_>) -> Vec<Vec<Cell>> {
    let row = |d: &textum_core::pipeline::evaluation::Disagreement| -> Vec<Cell> {
        vec![Cell::new(&d.row, Look::Bold), d.truth.as_str().into(), d.a.as_str().into(), d.b.as_str().into()]
    };
    told.pair.paired.disagreements.iter().map(row).collect()
}

/// For people.
pub fn text(told: &Told<'_>, style: &Style) -> String {
    let [a, b] = told.runs.map(short);
    let mut out = format!("{}\n", style.bold(&headline(told)));
    notes(told).iter().for_each(|line| out.push_str(&format!("  {}\n", style.dim(line))));
    let mut header = HEADER;
    (header[1], header[2]) = (a, b);
    out.push_str(&format!("\n{}", table(&header, &metric_rows(told), "  ", style)));
    let groups = segment_rows(told);
    if !groups.is_empty() {
        let left = told.pair.paired.segments.len().saturating_sub(groups.len());
        out.push_str(&format!("\n{}", table(&["groups that differ most", "", a, b, ""], &groups, "  ", style)));
        if left > 0 {
            out.push_str(&style.dim(&format!("  and {left} more\n")));
        }
    }
    let rows = disagreement_rows(told);
    if !rows.is_empty() {
        out.push_str(&format!("\n{}", table(&["rows on which they disagree most", "truth", a, b], &rows, "  ", style)));
    }
    out
}

/// As Markdown.
pub fn markdown(told: &Told<'_>) -> String {
    let [a, b] = told.runs.map(short);
    let mut header = HEADER;
    (header[1], header[2]) = (a, b);
    let mut out = format!("{}\n\n{}", headline(told), table::markdown(&header, &metric_rows(told)));
    notes(told).iter().for_each(|line| out.push_str(&format!("\n{line}\n")));
    for (header, rows) in [
        (vec!["groups that differ most", "rows", a, b, "difference"], segment_rows(told)),
        (vec!["rows on which they disagree most", "truth", a, b], disagreement_rows(told)),
    ] {
        if !rows.is_empty() {
            out.push_str(&format!("\n{}", table::markdown(&header, &rows)));
        }
    }
    out
}

/// As CSV: a line for each metric.
pub fn csv(told: &Told<'_>) -> String {
    let number = |v: Option<f64>| v.filter(|v| v.is_finite()).map_or(String::new(), |v| v.to_string());
    let rows: Vec<Vec<Cell>> = told
        .pair
        .paired
        .metrics
        .iter()
        .map(|d| {
            let values = [Some(d.a), Some(d.b), Some(d.difference), d.interval.map(|i| i.0), d.interval.map(|i| i.1), d.p];
            std::iter::once(Cell::from(d.metric.as_str())).chain(values.map(|v| number(v).into())).collect()
        })
        .collect();
    table::csv(&["metric", "a", "b", "difference", "low", "high", "p"], &rows)
}

/// As JSON.
pub fn json(told: &Told<'_>) -> Value {
    let found = &told.pair.paired;
    json!({
        "runs": told.runs, "stage": told.pair.stage, "key": told.pair.key, "intervals": told.pair.intervals, "rows": found.rows,
        "only_a": found.only_a, "only_b": found.only_b, "metrics": found.metrics,
        "tests": found.tests.iter().map(|(test, p)| json!({"test": test, "p": p})).collect::<Vec<_>>(),
        "segments": found.segments, "disagreements": found.disagreements,
    })
}
