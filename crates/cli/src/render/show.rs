//! A run in full.

use serde_json::{Value, json};
use textum_core::config::manifest::Better;
use textum_core::event::{Event, LoggedEvent};
use textum_core::record::ledger::ErasedOf;
use textum_core::record::ledger::{RebuildRow, Remark};
use textum_core::record::receipt::{RunReceipt, RunState, StageReceipt};
use textum_core::store::Digest;

use super::data::Versions;
use super::events::{gate_values, line, state_word};
use super::table::{Cell, Look, table};
use super::text;
use crate::ui::Style;

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
        let mut metrics: Vec<_> = run.metrics.iter().collect();
        metrics.sort_by_key(|(n, _)| shown.directions.iter().position(|(d, _)| d == *n).unwrap_or(usize::MAX));
        let said: Vec<String> = metrics.iter().map(|(n, v)| format!("{n} {}", style.bold(&text::metric(v)))).collect();
        said.chunks(5).enumerate().for_each(|(i, part)| fact(if i == 0 { "metrics" } else { "" }, part.join(" · ")));
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
            "  {} {} of its signals: {}\n",
            style.bad("not understood:"),
            text::counted(signals.malformed, "line"),
            text::some(&lines, 5)
        ));
    }
    out
}

/// A run for people.
pub fn text(shown: &Shown<'_>, style: &Style) -> String {
    let run = shown.run;
    let mut out = format!("{} {}  {} in {}\n\n", style.bold("run"), run.run, state(run, style), text::seconds(run.seconds));
    out.push_str(&table(&[], &facts(shown, style), "  ", style));
    out.push('\n');
    let mut rows = Vec::new();
    for (stage, receipt) in run.stages.iter().zip(shown.stages) {
        let took = if stage.seconds > 0.0 { text::seconds(stage.seconds) } else { String::new() };
        let word = state_word(stage.state, &Style::new(false));
        let look = if matches!(word.as_str(), "failed" | "stopped") { Look::Bad } else { Look::Plain };
        let outputs: Vec<_> = receipt.iter().flat_map(|r| r.outputs()).collect();
        let first = outputs.first();
        let cell = |o: &textum_core::record::receipt::PathContent| -> Vec<Cell> {
            vec![
                o.path.as_str().into(),
                Cell::new(o.content.digest.short(), Look::Dim),
                Cell::new(text::bytes(o.content.size), Look::Dim),
            ]
        };
        let from = receipt.as_ref().filter(|r| r.run != run.run).map(|r| format!("from {}", r.run));
        let mut row: Vec<Cell> = vec![stage.stage.as_str().into(), Cell::new(word, look), Cell::new(took, Look::Dim)];
        row.extend(first.map_or_else(Vec::new, |o| cell(o)));
        if let Some(from) = from {
            row.push(Cell::new(from, Look::Dim));
        }
        rows.push(row);
        for output in outputs.iter().skip(1) {
            let mut row = vec![Cell::default(), Cell::default(), Cell::default()];
            row.extend(cell(output));
            rows.push(row);
        }
    }
    out.push_str(&table(&[], &rows, "  ", style));
    for (stage, receipt) in run.stages.iter().zip(shown.stages) {
        let Some(receipt) = receipt else { continue };
        out.push_str(&told(&stage.stage, receipt, style));
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
