//! A run in full.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Value, json};
use textum_core::config::manifest::{Better, declared_name};
use textum_core::event::{Event, LoggedEvent};
use textum_core::record::ledger::ErasedOf;
use textum_core::record::ledger::{RebuildRow, Remark};
use textum_core::record::receipt::{
    Metric, PlaceRecord, RunReceipt, RunStage, RunStageState, RunState, SignalRecord, StageReceipt,
};
use textum_core::store::Digest;

use super::data::Versions;
use super::each::{self, Line, Templates};
use super::events::{gate_values, line, state_word};
use super::table::{Cell, Look, table};
use super::text;
use crate::ui::Style;
use crate::ui::escape::width;

/// A run with the receipts of its stages and its rebuilds.
pub struct Shown<'r> {
    /// What of its data and outputs was erased.
    pub erased: &'r [ErasedOf],
    /// The run's receipt.
    pub run: &'r RunReceipt,
    /// Its digest.
    pub digest: Digest,
    /// The receipt of each stage that has one, in the run's order.
    pub stages: &'r [Option<StageReceipt>],
    /// When it was rebuilt, and with which verdict.
    pub rebuilds: &'r [RebuildRow],
    /// The versions of datasets.
    pub versions: &'r Versions,
    /// Its label as it is now.
    pub label: Option<String>,
    /// What people noted of it afterwards.
    pub remarks: &'r [Remark],
    /// The direction in which metrics get better.
    pub directions: &'r [(String, Better)],
    /// Paths as the manifest has them.
    pub templates: &'r Templates,
    /// Whether each stage out of `each` has a line of its own.
    pub open: bool,
}

/// What happened in a run, and how long after its beginning.
pub fn log(run: &RunReceipt, logged: &[LoggedEvent], style: &Style) -> String {
    let began = logged.first().and_then(|l| l.at.parse::<jiff::Timestamp>().ok());
    let mut out = format!("log of {}, which began at {}\n\n", style.bold(&run.run), text::moment(&run.started));
    for entry in logged {
        let after = entry.at.parse::<jiff::Timestamp>().ok().zip(began).map(|(at, began)| at.duration_since(began));
        let time = after.map_or("–".to_string(), |after| format!("{:.3} s", after.as_secs_f64()));
        let line = match &entry.event {
            Event::Begun { stages, .. } => Some(format!("begun: {}", text::some(stages, 8))),
            other => line(other, style),
        };
        let Some(line) = line else { continue };
        let line = line.trim_start().replace('\n', &format!("\n{:14}", ""));
        out.push_str(&format!("{}  {line}\n", style.dim(&format!("{time:>12}"))));
    }
    out
}

fn state(run: &RunReceipt, style: &Style) -> String {
    let word = run.state.word();
    if run.state == RunState::Done { style.good(word) } else { style.bad(word) }
}

fn facts(shown: &Shown<'_>, style: &Style) -> Vec<Vec<Cell>> {
    let run = shown.run;
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    let mut fact = |name: &str, value: String| rows.push(vec![Cell::new(name, Look::Dim), value.into()]);
    if let Some(reason) = &run.reason {
        fact("why", style.bad(reason));
    }
    if let Some(label) = &shown.label {
        fact("label", label.clone());
    }
    if let Some(note) = &run.note {
        fact("note", note.clone());
    }
    for remark in shown.remarks {
        fact("note", format!("{}  {}", remark.note, style.dim(&format!("{}, {}", text::moment(&remark.made), remark.by))));
    }
    if let Some(sweep) = &run.sweep {
        fact("sweep", sweep.clone());
    }
    if let Some(old) = &run.resumes {
        fact("resumes", old.clone());
    }
    fact("began", format!("{}, by {}", text::moment(&run.started), run.by));
    if let Some(git) = &run.git {
        let branch = git.branch.as_deref().map(|b| format!(" on {b}")).unwrap_or_default();
        let dirty = if git.dirty { ", with changes not committed" } else { "" };
        fact("commit", format!("{}{branch}{dirty}", text::commit(&git.commit)));
    }
    if !run.params.is_empty() {
        let params: Vec<String> = run
            .params
            .iter()
            .map(|(n, v)| format!("{n} {}{}", text::param(v), if run.set.contains(n) { " (set)" } else { "" }))
            .collect();
        fact("params", params.join(" · "));
    }
    for (name, data) in &run.data {
        let size = text::bytes(data.content.size);
        let version = shown.versions.get(&(name.clone(), data.content.digest));
        let name = version.map_or(name.clone(), |v| v.name());
        let notes = version.filter(|v| !v.notes.is_empty()).map(|v| format!("  {}", style.accent(&v.notes.join("; "))));
        let size = format!("{size}{}", notes.unwrap_or_default());
        fact("data", format!("{name}  {}  {}  {size}", data.path, style.dim(&data.content.digest.short())));
    }
    if !run.metrics.is_empty() {
        let said = each::metrics(&run.metrics, shown.directions, true, style);
        let lines = in_lines(&said);
        lines.into_iter().enumerate().for_each(|(i, line)| fact(if i == 0 { "metrics" } else { "" }, line));
    }
    for gate in &run.gates {
        let word = if gate.held { style.good("holds") } else { style.bad("does not hold") };
        fact("gate", format!("{word}: {} after {}  {}", gate.check, gate.after, style.dim(&gate_values(gate).join(", "))));
    }
    for erased in shown.erased {
        fact("erased", style.bad(&erased.to_string()));
    }
    if run.sandbox {
        fact("worked", "in a sandbox".into());
    }
    for rebuild in shown.rebuilds {
        let verdict = if rebuild.verdict == "identical" { style.good(&rebuild.verdict) } else { style.bad(&rebuild.verdict) };
        fact("rebuilt", format!("{verdict}  {}, by {} ({})", text::moment(&rebuild.started), rebuild.by, rebuild.target));
    }
    if shown.rebuilds.is_empty() {
        fact("rebuilt", style.dim("not yet"));
    }
    fact("receipt", style.dim(&shown.digest.short()));
    rows
}

/// What a stage told while it ran, and where it began.
fn told(stage: &str, receipt: &StageReceipt, style: &Style) -> String {
    let mut out = String::new();
    if let Some(from) = &receipt.from {
        out.push_str(&format!("\n  {stage} went on from {}#{}\n", from.run, from.step));
    }
    for (at, attempt) in receipt.attempts.iter().enumerate() {
        let next = attempt.went_on_from.map_or("began anew".to_string(), |step| format!("went on from step {step}"));
        // One that never began was on no node; and where the node told nothing more, nobody knows how long it was at work.
        let began = attempt.place.processor.is_some() || attempt.seconds > 0.0;
        let on = if began { format!(" on {}", attempt.place.host) } else { String::new() };
        let long = if attempt.seconds > 0.0 { format!(" after {}", text::seconds(attempt.seconds)) } else { String::new() };
        out.push_str(&format!("\n  {stage} was lost{on}{long} ({}), attempt {} {next}\n", attempt.why, at + 2));
    }
    let Some(signals) = &receipt.signals else { return out };
    let series: Vec<String> = signals
        .metrics
        .iter()
        .map(|(name, s)| {
            let best = s.best.zip(s.best_step).map(|(v, step)| format!(", best {} at step {step}", text::metric(&v)));
            format!("{name} to step {}{}", s.last_step, best.unwrap_or_default())
        })
        .collect();
    if !series.is_empty() {
        let stored = signals.checkpoints.len() as u64;
        let stored = if stored > 0 { format!("; {}", text::counted(stored, "checkpoint")) } else { String::new() };
        out.push_str(&format!("\n  {stage} told {}{stored}\n", text::some(&series, 4)));
    }
    for note in signals.notes.iter().take(10) {
        out.push_str(&format!("  {} {}\n", style.dim(&format!("after {}:", text::seconds(note.seconds))), note.text));
    }
    if signals.malformed > 0 {
        let lines: Vec<String> = signals.first_malformed.iter().map(|(line, what)| format!("line {line}: {what}")).collect();
        out.push_str(&format!(
            "  {} {} of the signals of {stage}: {}\n",
            style.bad("not understood:"),
            text::counted(signals.malformed, "line"),
            text::some(&lines, 5)
        ));
    }
    out
}

/// Where a stage was executed, and how long it waited there.
fn elsewhere(name: &str, place: &PlaceRecord) -> String {
    let waited = place.waited_ms.filter(|ms| *ms >= 1000);
    let waited = waited.map(|ms| format!(", waited {}", text::seconds(ms as f64 / 1000.0))).unwrap_or_default();
    let held = place.held_ms.map(|ms| format!(", held for {}", text::seconds(ms as f64 / 1000.0))).unwrap_or_default();
    format!("on {name}, {}{waited}{held}", place.host)
}

type WithReceipt<'r> = (&'r RunStage, &'r Option<StageReceipt>);

/// A line for each stage, and for each of its outputs.
fn stage_rows(shown: &Shown<'_>, style: &Style) -> Vec<Vec<Cell>> {
    let mut rows = Vec::new();
    let stages: Vec<WithReceipt<'_>> = shown.run.stages.iter().zip(shown.stages).collect();
    for line in each::lines(&stages, |(s, _)| &s.stage, shown.open) {
        let seconds: f64 = line.items.iter().map(|(s, _)| s.seconds).sum();
        let took = if seconds > 0.0 { text::seconds(seconds) } else { String::new() };
        let words = each::counted_words(line.items.iter().map(|(s, _)| state_word(s.state, &Style::new(false))));
        let bad = line.items.iter().any(|(s, _)| matches!(s.state, RunStageState::Failed | RunStageState::Stopped));
        let look = if bad { Look::Bad } else { Look::Plain };
        let mut row: Vec<Cell> = vec![line.title().into(), Cell::new(words, look), Cell::new(took, Look::Dim)];
        let receipts: Vec<&StageReceipt> = line.items.iter().filter_map(|(_, r)| r.as_ref()).collect();
        if line.items.len() > 1 {
            let all = receipts.iter().flat_map(|r| r.outputs()).map(|o| (&*o.path, o.content.size));
            let mut written = each::outputs(all, shown.templates, style).into_iter();
            row.extend(written.next().map(Cell::from));
            rows.push(row);
            rows.extend(written.map(|o| vec![Cell::default(), Cell::default(), Cell::default(), o.into()]));
            continue;
        }
        let cell = |o: &textum_core::record::receipt::PathContent| -> Vec<Cell> {
            vec![
                o.path.as_str().into(),
                Cell::new(o.content.digest.short(), Look::Dim),
                Cell::new(text::bytes(o.content.size), Look::Dim),
            ]
        };
        let mut outputs = receipts.iter().flat_map(|r| r.outputs());
        row.extend(outputs.next().map_or_else(Vec::new, cell));
        if let Some(place) = receipts.first().and_then(|r| r.place.name.as_ref().map(|name| (name, &r.place))) {
            row.push(Cell::new(elsewhere(place.0, place.1), Look::Dim));
        }
        if let Some(from) = receipts.iter().find(|r| r.run != shown.run.run) {
            row.push(Cell::new(format!("from {}", from.run), Look::Dim));
        }
        rows.push(row);
        for output in outputs {
            let mut row = vec![Cell::default(), Cell::default(), Cell::default()];
            row.extend(cell(output));
            rows.push(row);
        }
    }
    rows
}

/// At most five to a line, and no more than fit beside the name of a fact in 100 columns.
fn in_lines(said: &[String]) -> Vec<String> {
    let mut lines: Vec<Vec<&str>> = Vec::new();
    for one in said {
        let room = |line: &[&str]| line.len() < 5 && width(&line.join(" · ")) + 3 + width(one) <= 88;
        match lines.last_mut().filter(|line| room(line)) {
            Some(line) => line.push(one),
            None => lines.push(vec![one]),
        }
    }
    lines.into_iter().map(|line| line.join(" · ")).collect()
}

/// So many metrics of stages out of `each` are shown.
const EACH_METRICS: usize = 6;

/// The metrics of stages out of `each`, one beside the other.
fn each_metrics(shown: &Shown<'_>, style: &Style) -> String {
    if !shown.open {
        let closed = shown.run.stages.iter().any(|s| declared_name(&s.stage) != s.stage);
        let short = shown.run.run.rsplit('-').next().unwrap_or_default();
        let hint = format!("\n  textum show {short} --each has each of them with its metrics\n");
        return if closed { style.dim(&hint) } else { String::new() };
    }
    let mut out = String::new();
    let stages: Vec<WithReceipt<'_>> = shown.run.stages.iter().zip(shown.stages).collect();
    for line in each::lines(&stages, |(s, _)| &s.stage, false).iter().filter(|l| l.items.len() > 1) {
        let told = line.items.iter().filter_map(|(s, r)| Some((s.stage.clone(), &r.as_ref()?.metrics)));
        let told: Vec<_> = told.collect();
        let names: BTreeSet<&String> = told.iter().flat_map(|(_, m)| m.keys()).collect();
        let mut names: Vec<&String> = names.into_iter().collect();
        names.sort_by_key(|name| shown.directions.iter().position(|(d, _)| d == *name).unwrap_or(usize::MAX));
        let left = names.len().saturating_sub(EACH_METRICS);
        names.truncate(EACH_METRICS);
        if names.is_empty() {
            continue;
        }
        let header: Vec<&str> = std::iter::once("").chain(names.iter().map(|n| n.as_str())).collect();
        let cells = |(stage, metrics): &(String, &BTreeMap<String, Metric>)| {
            let values = names.iter().map(|n| metrics.get(*n).map_or("–".to_string(), text::metric));
            std::iter::once(Cell::from(stage.as_str())).chain(values.map(Cell::from)).collect()
        };
        let rows: Vec<Vec<Cell>> = told.iter().map(cells).collect();
        out.push_str(&format!("\n{}", table(&header, &rows, "  ", style)));
        if left > 0 {
            out.push_str(&style.dim(&format!("  and {}: --format json has all\n", text::counted(left as u64, "metric"))));
        }
    }
    out
}

/// What the stages out of one told, in short.
fn told_by_all(line: &Line<'_, WithReceipt<'_>>, style: &Style) -> String {
    let signals: Vec<&SignalRecord> = line.items.iter().filter_map(|(_, r)| r.as_ref()?.signals.as_ref()).collect();
    let names: BTreeSet<&str> = signals.iter().flat_map(|s| s.metrics.keys()).map(String::as_str).collect();
    let names: Vec<String> = names.into_iter().map(str::to_string).collect();
    let stored: usize = signals.iter().map(|s| s.checkpoints.len()).sum();
    let stored = if stored > 0 { format!("; {}", text::counted(stored as u64, "checkpoint")) } else { String::new() };
    let mut out = String::new();
    if !names.is_empty() {
        out.push_str(&format!("\n  {} told {}{stored}\n", line.title(), text::some(&names, 8)));
    }
    let malformed: u64 = signals.iter().map(|s| s.malformed).sum();
    if malformed > 0 {
        let what = signals.iter().find_map(|s| s.first_malformed.first()).map(|(_, what)| what.as_str()).unwrap_or_default();
        let lines = text::counted(malformed, "line");
        out.push_str(&format!("  {} {lines} of the signals of {}: {what}\n", style.bad("not understood:"), line.title()));
    }
    out
}

/// A run for people.
pub fn text(shown: &Shown<'_>, style: &Style) -> String {
    let run = shown.run;
    let mut out = format!("{} {}  {} in {}\n\n", style.bold("run"), run.run, state(run, style), text::seconds(run.seconds));
    out.push_str(&table(&[], &facts(shown, style), "  ", style));
    out.push('\n');
    out.push_str(&table(&[], &stage_rows(shown, style), "  ", style));
    out.push_str(&each_metrics(shown, style));
    let stages: Vec<WithReceipt<'_>> = run.stages.iter().zip(shown.stages).collect();
    for line in each::lines(&stages, |(s, _)| &s.stage, shown.open).iter().filter(|l| l.items.len() > 1) {
        out.push_str(&told_by_all(line, style));
    }
    for (stage, receipt) in stages {
        let Some(receipt) = receipt else { continue };
        if shown.open || declared_name(&stage.stage) == stage.stage {
            out.push_str(&told(&stage.stage, receipt, style));
        }
        if !receipt.undeclared.is_empty() {
            out.push_str(&format!(
                "\n  {} {} read {}\n",
                style.bad("undeclared:"),
                stage.stage,
                text::some(&receipt.undeclared, 8)
            ));
        }
    }
    out
}

/// A run as JSON: its receipt, those of its stages, and its rebuilds.
pub fn json(shown: &Shown<'_>) -> Value {
    let rebuilds: Vec<Value> = shown
        .rebuilds
        .iter()
        .map(|r| json!({"receipt": r.receipt, "target": r.target, "started": r.started, "verdict": r.verdict, "by": r.by}))
        .collect();
    json!({"run": shown.run.run, "erased": shown.erased, "digest": shown.digest, "receipt": shown.run, "stages": shown.stages, "rebuilds": rebuilds,
        "label": shown.label, "remarks": shown.remarks.iter().map(|r| json!({"note": r.note, "made": r.made, "by": r.by})).collect::<Vec<_>>()})
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn metrics_are_broken_by_their_width_and_none_is_left_out() {
        let said: Vec<String> =
            (0..13).map(|i| format!("{} 0.{i}", "m".repeat(3 + 7 * (i % 4)))).chain(["long".repeat(40)]).collect();
        let lines = in_lines(&said);
        assert_eq!(lines.join(" · "), said.join(" · "));
        for line in &lines[..lines.len() - 1] {
            assert!(width(line) <= 88 && line.split(" · ").count() <= 5, "{line}");
        }
        // One that fits nowhere has a line of its own.
        assert_eq!(lines.last(), said.last());
    }
}
