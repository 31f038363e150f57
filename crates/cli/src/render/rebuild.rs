//! The result of a rebuild.

use serde_json::{Value, json};
use textum_core::maintain::rebuild::{Beginning, Difference, FirstDifference, RebuildOutcome, StageRebuild};
use textum_core::project::fingerprint::in_words;
use textum_core::record::receipt::Verdict;

use super::events::verdict_word;
use super::table::{Cell, Look, table};
use super::text;
use crate::ui::Style;

fn how(first: &FirstDifference) -> String {
    let where_ = match &first.how {
        Difference::Bytes { at, line: Some(line), recorded, rebuilt } => {
            format!(
                "from line {} on (byte {}; {} recorded, {} now)",
                text::count(*line),
                text::count(*at),
                text::bytes(*recorded),
                text::bytes(*rebuilt)
            )
        }
        Difference::Bytes { at, line: None, recorded, rebuilt } => {
            format!("from byte {} on ({} recorded, {} now)", text::count(*at), text::bytes(*recorded), text::bytes(*rebuilt))
        }
        Difference::Unknown { recorded, rebuilt } => {
            format!("({} recorded, {} now)", text::bytes(*recorded), text::bytes(*rebuilt))
        }
        Difference::New => "was not there when it was recorded".to_string(),
        Difference::Gone => "was not brought forth again".to_string(),
    };
    format!("the first to differ is {}, by the stage {}: {where_}", first.path, first.stage)
}

/// Where the chain began.
fn began(beginning: &Beginning) -> String {
    match beginning {
        Beginning::Checkpoint { stage, run, step } => {
            format!(
                "{stage} went on from the checkpoint {run}#{step}: the training before it was not repeated (--from-scratch does)"
            )
        }
        Beginning::Reference { path } => format!("it began at the reference {path}, whose bytes are where they were"),
    }
}

/// Which stages were sealed; nothing where none could be.
fn sealed(outcome: &RebuildOutcome) -> Option<String> {
    let executed = outcome.stages.iter().filter(|s| s.sealed.is_some()).count();
    // Several are often open for one reason: it is told once.
    let mut open: Vec<(&str, Vec<&str>)> = Vec::new();
    for (stage, why) in outcome.stages.iter().filter_map(|s| Some((s.stage.as_str(), s.unsealed.as_deref()?))) {
        match open.iter_mut().find(|(known, _)| *known == why) {
            Some((_, stages)) => stages.push(stage),
            None => open.push((why, vec![stage])),
        }
    }
    let count = open.iter().map(|(_, stages)| stages.len()).sum();
    let why: Vec<String> = open.iter().map(|(why, stages)| format!("{}: {why}", stages.join(", "))).collect();
    match (executed, count) {
        (0, _) => None,
        (_, 0) => Some("sealed: nothing but what was recorded could be read".to_string()),
        (all, open) if all == open => Some(format!("not sealed: {}", why.join("; "))),
        (all, open) => Some(format!("{} of {all} stages sealed; not sealed: {}", all - open, why.join("; "))),
    }
}

/// What a row is called: the stage, with the steps of a training that was repeated.
fn title(stage: &StageRebuild) -> String {
    let steps: String = stage.steps.iter().map(|step| format!(" #{step}")).collect();
    format!("{}{steps}", stage.stage)
}

/// For people.
pub fn text(outcome: &RebuildOutcome, style: &Style) -> String {
    let count = outcome.stages.len() as u64;
    let meaning = match outcome.verdict {
        Verdict::Identical => "byte for byte what was recorded",
        Verdict::Equivalent => "other bytes, metrics within the tolerance",
        Verdict::Different => "not what was recorded",
        Verdict::Failed => "it could not be rebuilt",
    };
    let mut out = format!(
        "{}: {meaning}; {} of run {} executed again in {}\n\n",
        verdict_word(outcome.verdict, style),
        text::counted(count, "stage"),
        outcome.run,
        text::seconds(outcome.seconds)
    );
    if !outcome.stored.is_empty() {
        out.push_str(&format!("  back in the store, from which they had been dropped: {}\n\n", text::some(&outcome.stored, 6)));
    }
    let mut rows = Vec::new();
    for stage in &outcome.stages {
        for (i, write) in stage.writes.iter().enumerate() {
            let same = write.rebuilt == Some(write.recorded);
            let look = if same { Look::Good } else { Look::Bad };
            let rebuilt = write.rebuilt.map_or("not there".to_string(), |d| d.short());
            rows.push(vec![
                Cell::from(if i == 0 { title(stage) } else { String::new() }),
                write.path.as_str().into(),
                Cell::new(write.recorded.short(), Look::Dim),
                Cell::new(if same { "=" } else { "≠" }, look),
                Cell::new(if same { String::new() } else { rebuilt }, Look::Bad),
            ]);
        }
    }
    out.push_str(&table(&[], &rows, "  ", style));
    if let Some(first) = &outcome.first {
        out.push_str(&format!("\n  {}\n", how(first)));
    }
    for stage in &outcome.stages {
        if let Some((reason, lines)) = &stage.failure {
            out.push_str(&format!("\n  {} failed: {reason}\n", stage.stage));
            out.push_str(&lines.lines().map(|l| format!("    {}\n", style.dim(l))).collect::<String>());
        }
    }
    if let Some(line) = sealed(outcome) {
        out.push_str(&format!("\n  {}\n", style.dim(&line)));
    }
    for stage in outcome.stages.iter().filter(|s| !s.stand_ins.is_empty()) {
        let names = text::some(&stage.stand_ins, 3);
        out.push_str(&format!("\n  {} opened an empty stand-in for {names}: only its name was recorded\n", stage.stage));
    }
    for beginning in &outcome.began_at {
        out.push_str(&format!("\n  {}\n", style.dim(&began(beginning))));
    }
    if let Some(made) = &outcome.environment {
        let how = if made.kept { "out of the store" } else { "by the installer" };
        let packages = text::counted(made.packages.len() as u64, "package");
        out.push_str(&format!("\n  in the recorded environment: {}, {packages}, made again {how}\n", made.python));
    }
    if !outcome.differences.is_empty() {
        let list: Vec<String> = outcome.differences.iter().map(in_words).collect();
        out.push_str(&format!("\n  the environment is another than when it was recorded: {}\n", text::some(&list, 8)));
    }
    if let Some(kept) = &outcome.kept {
        out.push_str(&format!("\n  kept in {}\n", kept.display()));
    }
    out
}

/// As JSON.
pub fn json(outcome: &RebuildOutcome) -> Value {
    let stages: Vec<Value> = outcome
        .stages
        .iter()
        .map(|s| {
            let writes: Vec<Value> =
                s.writes.iter().map(|w| json!({"path": w.path, "recorded": w.recorded, "rebuilt": w.rebuilt})).collect();
            json!({"stage": s.stage, "checkpoints": s.steps, "sealed": s.sealed, "unsealed": s.unsealed, "stand_ins": s.stand_ins, "verdict": s.verdict, "writes": writes, "seconds": s.seconds, "reason": s.failure.as_ref().map(|(r, _)| r)})
        })
        .collect();
    let differences: Vec<Value> =
        outcome.differences.iter().map(|r| json!({"kind": r.kind, "name": r.name, "from": r.from, "to": r.to})).collect();
    json!({
        "began_at": outcome.began_at, "environment_made": outcome.environment,
        "verdict": outcome.verdict, "run": outcome.run, "stages": stages, "seconds": outcome.seconds, "receipt": outcome.receipt,
        "first_difference": outcome.first.as_ref().map(|f| json!({"stage": f.stage, "path": f.path, "how": how(f)})),
        "environment": {"same": outcome.differences.is_empty(), "differences": differences}, "kept": outcome.kept,
    })
}
