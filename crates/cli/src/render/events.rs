//! Events as lines.

use textum_core::event::Event;
use textum_core::receipt::{RunStageState, Verdict};

use super::text;
use crate::ui::Style;

/// A line for an event, if it deserves one.
pub fn line(event: &Event, style: &Style) -> Option<String> {
    Some(match event {
        Event::Begun { .. } => return None,
        Event::NewVersion { dataset, number, rows } => {
            let rows = rows.map(|n| style.dim(&format!("  {}", text::counted(n, "row")))).unwrap_or_default();
            format!("  {dataset}@{number}  {}{rows}", style.accent("new version"))
        }
        Event::StageStarted { stage, before } => started(stage, *before, style),
        Event::Output { stage, line } => format!("{} {line}", style.dim(&format!("{stage} │"))),
        Event::StageSettled { stage, state, seconds, reason } => settled(stage, *state, *seconds, reason.as_deref(), style),
        Event::Aside { path, to } => {
            format!("  {} {path}, which is not recorded, is now {}", style.accent("aside"), text::near(to))
        }
        Event::NotDeterministic { stage, paths } => format!(
            "  {} {stage} brought forth another result from the same inputs: {}",
            style.bad("not deterministic:"),
            text::some(paths, 5)
        ),
        Event::Undeclared { stage, paths } => format!(
            "  {} {stage} seems to read {}, which it does not declare: add to its reads what its result depends on",
            style.bad("undeclared:"),
            text::some(paths, 5)
        ),
        Event::Rebuilt { stage, verdict, seconds } => {
            format!("  {stage}  {}  {}", verdict_word(*verdict, style), style.dim(&text::seconds(*seconds)))
        }
        Event::EnvironmentDiffers { differences } => {
            let list: Vec<String> = differences.iter().map(|d| format!("    {d}")).collect();
            format!("  {} than when it was recorded:\n{}", style.bad("the environment is another"), list.join("\n"))
        }
        Event::Interrupted { run } => format!("  the run {run} was cut off; it is now recorded as interrupted"),
        Event::Stopping => "  stopping: stages are asked to end; once more ends them at once".to_string(),
    })
}

fn started(stage: &str, before: Option<f64>, style: &Style) -> String {
    let before = before.map(|s| format!(" ({} the last time)", text::seconds(s))).unwrap_or_default();
    format!("  {stage}  started{}", style.dim(&before))
}

fn settled(stage: &str, state: RunStageState, seconds: f64, reason: Option<&str>, style: &Style) -> String {
    let time = if seconds > 0.0 { format!("  {}", style.dim(&text::seconds(seconds))) } else { String::new() };
    let reason = reason.map(|r| format!(": {r}")).unwrap_or_default();
    format!("  {stage}  {}{time}{reason}", state_word(state, style))
}

/// A stage's state as a coloured word.
pub fn state_word(state: RunStageState, style: &Style) -> String {
    match state {
        RunStageState::Ran => style.accent("ran"),
        RunStageState::Reused => "reused".to_string(),
        RunStageState::UpToDate => style.dim("up-to-date"),
        RunStageState::Failed => style.bad("failed"),
        RunStageState::Stopped => style.bad("stopped"),
        RunStageState::Skipped => style.dim("skipped"),
    }
}

/// A verdict as a coloured word.
pub fn verdict_word(verdict: Verdict, style: &Style) -> String {
    match verdict {
        Verdict::Identical => style.good("identical"),
        Verdict::Equivalent => style.accent("equivalent"),
        Verdict::Different => style.bad("different"),
        Verdict::Failed => style.bad("failed"),
    }
}
