//! The result of a run.

use serde_json::{Value, json};
use textum_core::config::manifest::Better;
use textum_core::pipeline::exec::{RunOutcome, SettledStage};
use textum_core::record::receipt::{RunStageState, RunState};

use super::events::state_word;
use super::table::{Cell, Look, table};
use super::text;
use crate::ui::Style;

/// What became of a run, for people.
pub fn text(outcome: &RunOutcome, directions: &[(String, Better)], style: &Style) -> String {
    let mut out = String::new();
    let run = outcome.run.as_deref().unwrap_or("–");
    if outcome.recorded {
        let word = outcome.state.word();
        let word = if outcome.state == RunState::Done { style.good(word) } else { style.bad(word) };
        out.push_str(&format!("{} {run}  {word} in {}\n\n", style.bold("run"), text::seconds(outcome.seconds)));
        let rows: Vec<Vec<Cell>> = outcome.stages.iter().map(|s| stage_row(s, style)).collect();
        out.push_str(&table(&[], &rows, "  ", style));
    } else {
        let n = outcome.stages.len();
        let what = if n == 1 { "the stage is".to_string() } else { format!("all {n} stages are") };
        out.push_str(&format!("{}: {what} as {run} left them\n", style.bold("nothing to do")));
    }
    if !outcome.metrics.is_empty() {
        let mut metrics: Vec<_> = outcome.metrics.iter().collect();
        // Metrics with a direction first: somebody cares for them.
        metrics.sort_by_key(|(n, _)| directions.iter().position(|(d, _)| d == *n).unwrap_or(usize::MAX));
        let shown: Vec<String> = metrics.iter().map(|(n, v)| format!("{n} {}", style.bold(&text::metric(v)))).collect();
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

fn stage_row(stage: &SettledStage, style: &Style) -> Vec<Cell> {
    let seconds = if stage.seconds > 0.0 { text::seconds(stage.seconds) } else { String::new() };
    let plain = state_word(stage.state, &Style::new(false));
    let look = match stage.state {
        RunStageState::Ran => Look::Accent,
        RunStageState::Failed | RunStageState::Stopped => Look::Bad,
        RunStageState::Reused => Look::Plain,
        _ => Look::Dim,
    };
    let good = matches!(stage.state, RunStageState::Ran | RunStageState::Reused | RunStageState::UpToDate);
    let writes: Vec<String> = match &stage.execution {
        Some(done) if good => {
            done.outputs.iter().map(|o| format!("{} {}", o.path, style.dim(&text::bytes(o.content.size)))).collect()
        }
        _ => Vec::new(),
    };
    let made = match stage.execution.as_ref().and_then(|e| e.elsewhere.as_ref()) {
        Some((by, started)) if stage.state == RunStageState::Reused => {
            format!("  made by {by} {}", text::ago(started, textum_base::clock::now()))
        }
        _ => String::new(),
    };
    let what = format!("{}{}", text::some(&writes, 4), style.dim(&made));
    vec![stage.stage.as_str().into(), Cell::new(plain, look), Cell::new(seconds, Look::Dim), what.into()]
}

/// What became of a run, as JSON.
pub fn json(outcome: &RunOutcome) -> Value {
    let stages: Vec<Value> = outcome
        .stages
        .iter()
        .map(|s| {
            let good = matches!(s.state, RunStageState::Ran | RunStageState::Reused | RunStageState::UpToDate);
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
            })
        })
        .collect();
    json!({
        "run": outcome.run, "state": outcome.state.word(), "recorded": outcome.recorded, "seconds": outcome.seconds,
        "stages": stages, "metrics": outcome.metrics, "sandbox": outcome.sandbox, "left": outcome.left, "gates": outcome.gates, "reason": outcome.reason,
    })
}
