//! Plans: what would be done, and why.

use serde_json::{Value, json};
use textum_core::config::manifest::{Manifest, declared_name};
use textum_core::pipeline::plan::{Action, Decision, Plan, ReadDetail};
use textum_core::project::fingerprint::{Reason, ReasonKind};
use textum_core::publish::PublishedInput;
use textum_core::record::receipt::Unchecked;

use super::each::{self, Templates};
use super::table::{Cell, Look, table};
use super::text;
use crate::ui::{Style, escape};

/// A decision with the details of its reasons, in the same order.
pub type Detailed<'p> = (&'p Decision, Vec<Option<ReadDetail>>);

/// A reason as people read it.
pub fn reason(reason: &Reason, detail: Option<&ReadDetail>) -> String {
    let name = &reason.name;
    let side = |value: &Option<String>, none: &str| value.as_deref().map_or(none.to_string(), text::param);
    match reason.kind {
        ReasonKind::New => "never done before".to_string(),
        ReasonKind::NotHere => {
            format!(
                "done in run {name} with {}, by the committed receipt; its result is not in the store here",
                side(&reason.to, "inputs")
            )
        }
        ReasonKind::Param => match (&reason.from, &reason.to) {
            (None, Some(to)) => format!("{name} = {} is new", text::param(to)),
            (Some(from), None) => format!("{name} = {} is gone", text::param(from)),
            _ => format!("{name} {} → {}", side(&reason.from, "–"), side(&reason.to, "–")),
        },
        ReasonKind::Read => read_reason(reason, detail),
        ReasonKind::Command => format!("command `{}` → `{}`", side(&reason.from, ""), side(&reason.to, "")),
        ReasonKind::Writes if reason.from.is_none() => format!("now declares {name}"),
        ReasonKind::Writes => format!("no longer declares {name}"),
        ReasonKind::Checkpoint => match (&reason.from, &reason.to) {
            (None, Some(to)) => format!("goes on from a checkpoint, {to}"),
            (Some(from), None) => format!("went on from a checkpoint, {from}; now starts clean"),
            _ => format!("checkpoint {} → {}", side(&reason.from, "none"), side(&reason.to, "none")),
        },
        ReasonKind::Variable => format!("variable {name} {} → {}", side(&reason.from, "not set"), side(&reason.to, "not set")),
        ReasonKind::Python => format!("{} → {}", side(&reason.from, "no interpreter"), side(&reason.to, "no interpreter")),
        ReasonKind::Package => {
            format!("package {name} {} → {}", side(&reason.from, "not installed"), side(&reason.to, "not installed"))
        }
        ReasonKind::Observed => match (reason.from.as_deref(), reason.to.as_deref()) {
            (None, _) => format!("looked for and not there then, there now: {name}"),
            (Some(_), None) => format!("read without being declared: {name} is gone"),
            (Some(_), Some(_)) => format!("read without being declared: {name} changed"),
        },
        ReasonKind::LookedAt => {
            format!(
                "looked at without being declared: {name}, {} → {}",
                side(&reason.from, "not there"),
                side(&reason.to, "not there")
            )
        }
        ReasonKind::Kept => format!("read and changed by it without being declared: {name} is not as it left it"),
        ReasonKind::NotWhole => "what it read was not wholly observed, and the environment is another".to_string(),
        ReasonKind::NotSealed => "its result was not sealed".to_string(),
        ReasonKind::Unobserved => "what it read was never observed".to_string(),
        ReasonKind::NotReused => "it runs each time, as `reuse = false` says".to_string(),
        ReasonKind::Upstream => format!("reads {name}, which {} will write anew", side(&reason.to, "a stage")),
        ReasonKind::Missing => format!("{name} is not there"),
        ReasonKind::Edited => format!("{name} was edited since"),
        ReasonKind::Dropped => format!("{name} is no longer in the store"),
        ReasonKind::Forced => "asked for with --force".to_string(),
    }
}

fn read_reason(reason: &Reason, detail: Option<&ReadDetail>) -> String {
    let name = &reason.name;
    match (&reason.from, &reason.to, detail) {
        (None, _, _) => format!("{name} is now read"),
        (_, None, _) => format!("{name} is no longer read"),
        (_, _, Some(detail @ ReadDetail::Rows { .. })) => format!("{name}: {}", rows(detail)),
        (_, _, Some(ReadDetail::Executable { now })) => {
            format!("{name} may {} be executed, its bytes are the same", if *now { "now" } else { "no longer" })
        }
        (_, _, Some(ReadDetail::Lines { differing, of })) => {
            format!("{name}: {} of {} differ", text::count(*differing), text::counted(*of, "line"))
        }
        (_, _, Some(ReadDetail::LinesMoved { added, removed, of })) => {
            format!("{name}: +{} −{} lines, now {}", text::count(*added), text::count(*removed), text::count(*of))
        }
        (_, _, Some(ReadDetail::Files { added, removed, changed, of })) => format!(
            "{name}: +{} −{} files, {} changed, now {}",
            text::count(*added),
            text::count(*removed),
            text::count(*changed),
            text::count(*of)
        ),
        _ => format!("{name} edited"),
    }
}

fn rows(detail: &ReadDetail) -> String {
    let ReadDetail::Rows { added, removed, changed, of, columns, schema } = detail else { return String::new() };
    let mut parts = Vec::new();
    if *changed > 0 {
        let columns = if columns.is_empty() { String::new() } else { format!(" in {}", text::some(columns, 3)) };
        parts.push(format!("{} of {} changed{columns}", text::count(*changed), text::counted(*of, "row")));
    }
    if added + removed > 0 {
        parts.push(format!("+{} −{} rows, now {}", text::count(*added), text::count(*removed), text::count(*of)));
    }
    if *schema > 0 {
        parts.push(format!("{} came, went or changed type", text::counted(*schema, "column")));
    }
    if parts.is_empty() { "written otherwise, with the same rows".to_string() } else { parts.join("; ") }
}

/// A headline for a plan.
pub fn headline(plan: &Plan) -> String {
    let of = |action: Action| plan.decisions.iter().filter(|d| d.action == action).count();
    let (runs, reuses, all) = (of(Action::Run), of(Action::Reuse), plan.decisions.len());
    if runs + reuses == 0 {
        return format!(
            "nothing to do: {} up-to-date",
            if all == 1 { "the stage is".into() } else { format!("all {all} stages are") }
        );
    }
    let before: Vec<f64> = plan.decisions.iter().filter(|d| d.action == Action::Run).filter_map(|d| d.before).collect();
    let mut parts = Vec::new();
    if runs > 0 {
        let took =
            if before.len() == runs { format!(" (took {} before)", text::seconds(before.iter().sum())) } else { String::new() };
        parts.push(format!("{runs} of {} would run{took}", text::counted(all as u64, "stage")));
    }
    if reuses > 0 {
        parts.push(format!("{reuses} would be put in place from the store"));
    }
    parts.join(", ")
}

/// What is to be done, in a word.
pub fn word(action: Action) -> &'static str {
    match action {
        Action::Run => "run",
        Action::Reuse => "reuse",
        Action::UpToDate => "up-to-date",
    }
}

/// The reasons of decisions that stand in one line: paths as the manifest has them, and how many of them have a reason
/// where not all do.
fn reasons(decisions: &[&Detailed<'_>], templates: &Templates) -> Vec<String> {
    let mut found: Vec<(String, usize)> = Vec::new();
    for (decision, details) in decisions {
        let mut own: Vec<String> = Vec::new();
        for (told, detail) in decision.reasons.iter().zip(details) {
            let name = templates.path(&told.name).to_string();
            let to = match told.kind {
                ReasonKind::Upstream => told.to.as_deref().map(|to| declared_name(to).to_string()),
                _ => told.to.clone(),
            };
            let alone = decisions.len() == 1 && name == told.name;
            let text =
                if alone { reason(told, detail.as_ref()) } else { reason(&Reason { name, to, ..told.clone() }, detail.as_ref()) };
            if !own.contains(&text) {
                own.push(text);
            }
        }
        for text in own {
            match found.iter_mut().find(|(t, _)| *t == text) {
                Some((_, n)) => *n += 1,
                None => found.push((text, 1)),
            }
        }
    }
    let all = decisions.len();
    found.into_iter().map(|(text, n)| if n == all { text } else { format!("{text}  ({n} of {all})") }).collect()
}

/// A plan for people; `open` gives each stage out of `each` a line of its own.
pub fn text(plan: &Plan, detailed: &[Detailed<'_>], manifest: &Manifest, open: bool, style: &Style) -> String {
    let templates = Templates::of(manifest);
    let mut rows = Vec::new();
    let templates = if open { &Templates::default() } else { &templates };
    for line in each::lines(detailed, |(d, _)| &d.stage, open) {
        let decisions = || line.items.iter().map(|(d, _)| *d);
        let look = match decisions().map(|d| d.action).min() {
            Some(Action::Run) => Look::Accent,
            Some(Action::Reuse) | None => Look::Plain,
            Some(Action::UpToDate) => Look::Dim,
        };
        let run: Vec<Option<f64>> = decisions().filter(|d| d.action == Action::Run).map(|d| d.before).collect();
        let before: Option<f64> = run.iter().copied().sum::<Option<f64>>().filter(|_| !run.is_empty());
        let at = |d: &Decision| match manifest.stage(&d.stage).and_then(|s| s.place.as_ref()) {
            Some(place) if d.action == Action::Run => format!("run on {place}"),
            _ => word(d.action).to_string(),
        };
        let words = each::counted_words(decisions().map(at));
        let mut reasons = reasons(&line.items, templates).into_iter();
        let first = reasons.next().unwrap_or_default();
        let before = before.map(text::seconds).unwrap_or_default();
        rows.push(vec![line.title().into(), Cell::new(words, look), Cell::new(before, Look::Dim), first.into()]);
        rows.extend(reasons.map(|r| vec![Cell::default(), Cell::default(), Cell::default(), r.into()]));
    }
    let pending = plan.decisions.iter().any(|d| d.reasons.iter().any(|r| r.kind == ReasonKind::Upstream));
    let note = if pending {
        style.dim("a stage that reads what is written anew runs only if that comes out differently\n")
    } else {
        String::new()
    };
    format!("{}\n\n{}{}{note}", style.bold(&headline(plan)), table(&[], &rows, "  ", style), if pending { "\n" } else { "" })
}

/// What a published version is now that is not what stands there.
pub fn published(input: &PublishedInput) -> Option<String> {
    if input.stands {
        return None;
    }
    let number = |version: &str| version.rsplit('@').next().unwrap_or(version).to_string();
    let was = match &input.was {
        Some(was) if *was == input.version => "and its files are not as they were published".to_string(),
        Some(was) => format!("was {}", number(was)),
        None => "and nothing of it is here yet".to_string(),
    };
    Some(escape::line(&format!("{} is {} now, {was}", input.reference, number(&input.version))))
}

/// A plan as JSON.
pub fn json(detailed: &[Detailed<'_>], unchecked: &[(String, Unchecked)], manifest: &Manifest, inputs: &[PublishedInput]) -> Value {
    let of = |stage: &str| {
        let each = manifest.stage(stage)?.each.as_ref()?;
        let values: serde_json::Map<String, Value> = each.values.iter().cloned().collect();
        Some(json!({"of": each.of, "values": values}))
    };
    let unchecked_of = |stage: &str| unchecked.iter().find(|(name, _)| name == stage).map(|(_, what)| what);
    let stages: Vec<Value> = detailed
        .iter()
        .map(|(decision, details)| {
            let reasons: Vec<Value> = decision
                .reasons
                .iter()
                .zip(details)
                .map(|(r, d)| json!({"kind": r.kind, "name": r.name, "from": r.from, "to": r.to, "detail": d, "text": reason(r, d.as_ref())}))
                .collect();
            json!({"stage": decision.stage, "action": decision.action, "key": decision.key, "reasons": reasons, "seconds_before": decision.before, "each": of(&decision.stage), "unchecked": unchecked_of(&decision.stage), "place": manifest.stage(&decision.stage).and_then(|s| s.place.as_ref())})
        })
        .collect();
    let input = |i: &PublishedInput| json!({"dataset": i.dataset, "reference": i.reference, "version": i.version, "was": i.was, "stands": i.stands});
    json!({ "stages": stages, "published": inputs.iter().map(input).collect::<Vec<_>>() })
}
