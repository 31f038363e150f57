//! The result of a run.

use serde_json::{Value, json};
use textum_core::config::manifest::Better;
use textum_core::pipeline::exec::{RunOutcome, SettledStage};
use textum_core::record::receipt::{RunStageState, RunState};
use textum_core::store::Store;

use super::each::{self, Line, Templates};
use super::events::state_word;
use super::table::{Cell, Look, table};
use super::text;
use crate::ui::Style;

/// What became of a run, for people.
pub fn text(outcome: &RunOutcome, directions: &[(String, Better)], templates: &Templates, open: bool, style: &Style) -> String {
    let templates = if open { &Templates::default() } else { templates };
    let mut out = String::new();
    let run = outcome.run.as_deref().unwrap_or("–");
    if outcome.recorded {
        let word = outcome.state.word();
        let word = if outcome.state == RunState::Done { style.good(word) } else { style.bad(word) };
        out.push_str(&format!("{} {run}  {word} in {}\n\n", style.bold("run"), text::seconds(outcome.seconds)));
        let rows: Vec<Vec<Cell>> =
            each::lines(&outcome.stages, |s| &s.stage, open).iter().map(|l| row(l, templates, style)).collect();
        out.push_str(&table(&[], &rows, "  ", style));
    } else {
        let n = outcome.stages.len();
        let what = if n == 1 { "the stage is".to_string() } else { format!("all {n} stages are") };
        out.push_str(&format!("{}: {what} as {run} left them\n", style.bold("nothing to do")));
    }
    if !outcome.metrics.is_empty() {
        let shown = each::metrics(&outcome.metrics, directions, false, style);
        out.push_str(&format!("\n  {}\n", text::some(&shown, 5)));
    }
    if !outcome.left.is_empty() {
        let left: Vec<String> = outcome.left.iter().map(ToString::to_string).collect();
        out.push_str(&format!(
            "\n  not in the tree, since nothing read them: {}; `textum restore` puts them there\n",
            text::some(&left, 4)
        ));
    }
    if let Some(sandbox) = &outcome.sandbox {
        out.push_str(&format!("\n  outputs are in {}; the working tree was not touched\n", sandbox.display()));
    }
    out
}

fn row(line: &Line<'_, SettledStage>, templates: &Templates, style: &Style) -> Vec<Cell> {
    let seconds: f64 = line.items.iter().map(|s| s.seconds).sum();
    let seconds = if seconds > 0.0 { text::seconds(seconds) } else { String::new() };
    let words = each::counted_words(line.items.iter().map(|s| state_word(s.state, &Style::new(false))));
    let any = |state| line.items.iter().any(|s| s.state == state);
    let look = if any(RunStageState::Failed) || any(RunStageState::Stopped) {
        Look::Bad
    } else if any(RunStageState::Ran) {
        Look::Accent
    } else if any(RunStageState::Reused) {
        Look::Plain
    } else {
        Look::Dim
    };
    let no_templates = Templates::default();
    let templates = if line.items.len() > 1 { templates } else { &no_templates };
    let done = line.items.iter().filter(|s| s.state.has_result()).filter_map(|s| s.execution.as_ref());
    let writes = each::outputs(done.flat_map(|e| &e.outputs).map(|o| (&*o.path, o.content.size)), templates, style);
    let elsewhere = line.items.iter().filter(|s| s.state == RunStageState::Reused);
    let made = match elsewhere.filter_map(|s| s.execution.as_ref()?.elsewhere.as_ref()).next() {
        Some((by, started)) => format!("  made by {by} {}", text::ago(started, textum_base::clock::now())),
        None => String::new(),
    };
    // Of many the ones that did not succeed are named.
    let bad =
        line.items.iter().filter(|s| line.items.len() > 1 && matches!(s.state, RunStageState::Failed | RunStageState::Stopped));
    let bad: Vec<String> = bad.map(|s| s.stage.clone()).collect();
    let bad = if bad.is_empty() { String::new() } else { format!("{}  ", style.bad(&text::some(&bad, 4))) };
    let what = format!("{bad}{}{}", text::some(&writes, 4), style.dim(&made));
    vec![line.title().into(), Cell::new(words, look), Cell::new(seconds, Look::Dim), what.into()]
}

/// What became of a run, as JSON.
pub fn json(outcome: &RunOutcome, store: &Store) -> Value {
    let stages: Vec<Value> = outcome
        .stages
        .iter()
        .map(|s| {
            let good = s.state.has_result();
            let execution = s.execution.as_ref();
            let writes: Vec<Value> = execution
                .filter(|_| good)
                .into_iter()
                .flat_map(|e| &e.outputs)
                .map(|o| json!({"path": o.path, "digest": o.content.digest, "size": o.content.size, "kind": o.content.kind}))
                .collect();
            json!({
                "stage": s.stage, "state": s.state, "key": s.key, "seconds": s.seconds, "writes": writes,
                "receipt": execution.map(|e| e.receipt), "run": execution.map(|e| &e.run),
                "reason": execution.and_then(|e| e.reason.as_ref()), "made_by": execution.and_then(|e| e.elsewhere.as_ref()).map(|(by, _)| by), "undeclared": execution.map(|e| &e.undeclared),
                "unchecked": s.unchecked(store),
            })
        })
        .collect();
    json!({
        "run": outcome.run, "state": outcome.state.word(), "recorded": outcome.recorded, "seconds": outcome.seconds,
        "stages": stages, "metrics": outcome.metrics, "sandbox": outcome.sandbox, "left": outcome.left, "gates": outcome.gates, "reason": outcome.reason,
    })
}
