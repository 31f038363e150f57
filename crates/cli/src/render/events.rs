//! Events as lines.

use textum_core::event::Event;
use textum_core::record::receipt::{GateRecord, Metric, RunStageState, Verdict};

use super::text;
use crate::ui::Style;

/// A line for an event, if it deserves one.
pub fn line(event: &Event, style: &Style) -> Option<String> {
    Some(match event {
        Event::Begun { .. } | Event::Submitted { .. } => return None,
        Event::NewVersion { dataset, number, rows } => {
            let rows = rows.map(|n| style.dim(&format!("  {}", text::counted(n, "row")))).unwrap_or_default();
            format!("  {dataset}@{number}  {}{rows}", style.accent("new version"))
        }
        Event::SandboxForParams { files } => {
            let (files, they) = (text::some(files, 4), if files.len() == 1 { "stays" } else { "stay" });
            format!(
                "  {} {files} {they} as in the tree; the stages work in sandboxes that hold the changed file",
                style.accent("sandbox")
            )
        }
        Event::StageStarted { stage, before } => started(stage, *before, style),
        Event::Waits { stage, run } => {
            let who = if run.is_empty() { "another process".to_string() } else { format!("the run {run}") };
            format!("  {stage}  {} for {who}, which is executing just this", style.accent("waits"))
        }
        Event::DataChanged { dataset, stage } => format!(
            "  {} {dataset} changed while the run went on: {stage} reads another state than the stages before it",
            style.bad("mixed data:")
        ),
        Event::Output { stage, line } => format!("{} {line}", style.dim(&format!("{stage} │"))),
        Event::StageSettled { stage, state, seconds, reason } => settled(stage, *state, *seconds, reason.as_deref(), style),
        Event::Aside { path, to } => {
            format!("  {} {path}, which is not recorded, is now {}", style.accent("aside"), text::near(to))
        }
        Event::AsideRecorded { paths } => {
            format!(
                "  {} {} came out as what stood there before: the copy is not kept",
                style.accent("aside"),
                text::some(paths, 5)
            )
        }
        Event::NotDeterministic { stage, paths, other_environment: true } => {
            format!("  {stage} brought forth another result in {}: {}", style.bad("another environment"), text::some(paths, 5))
        }
        Event::NotDeterministic { stage, paths, .. } => format!(
            "  {} {stage} brought forth another result from the same inputs: {}",
            style.bad("not deterministic:"),
            text::some(paths, 5)
        ),
        Event::OtherInterpreter { stage, started, declared } => format!(
            "  {} {stage} started {started}, and [environment] declares {declared}: what is recorded is what was started",
            style.bad("another interpreter:")
        ),
        Event::Undeclared { stage, paths } => format!(
            "  {} {stage} reads {} without declaring it: `textum adopt {stage}` writes it down",
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
        Event::Told { .. } => return None,
        Event::Note { stage, text } => format!("  {} {text}", style.dim(&format!("{stage} │"))),
        Event::Checkpoint { stage, step, size } => {
            format!("  {stage}  {} of step {step}  {}", style.accent("checkpoint"), style.dim(&text::bytes(*size)))
        }
        Event::BadSignal { stage, line, what } => {
            format!("  {} {stage}, line {line} of its signals: {what}", style.bad("not understood:"))
        }
        Event::StartsClean { stage, path } => {
            format!("  {stage} starts clean: the checkpoints that lay in {path} are not used (run --from starts from one)")
        }
        Event::GoesOn { stage, run, step } => {
            format!("  {stage}  {} {run}#{step}", style.accent("goes on from"))
        }
        Event::Gate { gate } => self::gate(gate, style),
        Event::VariantSettled { number, of, set, state, metrics, run } => {
            variant(*number, *of, set, state, metrics, run.as_deref(), style)
        }
        Event::Stopping => "  stopping: stages are asked to end; once more ends them at once".to_string(),
        other => return of_place(other, style),
    })
}

/// What happens at another place, or cannot be seen at one.
fn of_place(event: &Event, style: &Style) -> Option<String> {
    Some(match event {
        Event::TakesUp { stage, run, place } => {
            let place = place.as_deref().unwrap_or_default();
            format!("  {stage}  {} by {run}, whose Textum is gone, at {place}", style.accent("takes up the job submitted"))
        }
        Event::AtPlace { stage, place, waits: true, says } => {
            format!("  {stage}  {} at {place}: {says}", style.accent("waits"))
        }
        Event::NoRoom { stage, place, says } => {
            format!("  {stage}  {} at {place}, which takes no more jobs for now: {says}", style.accent("waits"))
        }
        Event::AtPlace { stage, place, .. } => format!("  {stage}  is at work at {place}"),
        Event::NotObserved { stage, why, part: false } => {
            format!("  {} {stage}: {why}; only what it declares counts", style.accent("not observed:"))
        }
        Event::NotObserved { stage, why, .. } => {
            format!("  {} {stage}: {why}; all installed packages count", style.accent("not wholly observed:"))
        }
        Event::Unchecked { stages } => return super::observed::unchecked(stages, style),
        Event::OtherEnvironment { stage, differences } => {
            format!("  {} {stage}: {}", style.accent("executed in another environment:"), text::some(differences, 4))
        }
        Event::TriesAgain { stage, why, step, left } => {
            let from = step.map_or("from its beginning".to_string(), |step| format!("from its checkpoint of step {step}"));
            let more = if *left > 0 { format!(", {left} more times at most") } else { String::new() };
            format!("  {stage}  {} {from}{more}: {why}", style.accent("is tried again"))
        }
        Event::StillHeld { place, why } => {
            format!("  {} the machine of {place}: {why}; `textum place release` tries again", style.bad("still held:"))
        }
        _ => return None,
    })
}

/// A gate as it was found: the condition, and what its names stood for.
pub fn gate(gate: &GateRecord, style: &Style) -> String {
    let values = gate_values(gate);
    let word = if gate.held { style.good("holds") } else { style.bad("does not hold") };
    let mut out = format!("  gate after {}  {word}: {}  {}", gate.after, gate.check, style.dim(&values.join(", ")));
    if !gate.held {
        let kept = match gate.kept_from.is_empty() {
            true => "nothing comes after it; the run does not count as done".to_string(),
            false => format!("it keeps {} from running", text::some(&gate.kept_from, 6)),
        };
        out.push_str(&format!("\n    {kept}"));
    }
    out
}

/// What each name in a gate's condition stood for.
pub fn gate_values(gate: &GateRecord) -> Vec<String> {
    gate.values
        .iter()
        .map(|(name, value)| match (value, name.starts_with("baseline.")) {
            (Some(value), true) => format!("{name} {} ({})", text::metric(value), gate.baseline.as_deref().unwrap_or_default()),
            (Some(value), false) => format!("{name} {}", text::metric(value)),
            (None, true) if gate.baseline.is_none() => format!("{name}: nothing to compare with yet"),
            (None, _) => format!("{name} is not there"),
        })
        .collect()
}

fn variant(
    number: usize,
    of: usize,
    set: &[(String, String)],
    state: &str,
    metrics: &[(String, Metric)],
    run: Option<&str>,
    style: &Style,
) -> String {
    let set: Vec<String> = set.iter().map(|(n, v)| format!("{n} {}", text::param(v))).collect();
    let word = if state == "done" { style.accent(state) } else { style.bad(state) };
    let metrics: Vec<String> = metrics.iter().take(3).map(|(n, v)| format!("{n} {}", text::metric(v))).collect();
    let run = run.and_then(|r| r.rsplit('-').next()).unwrap_or("–");
    let width = of.to_string().len();
    format!("  {number:>width$}/{of}  {run}  {}  {word}  {}", set.join(", "), style.dim(&metrics.join(", ")))
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
