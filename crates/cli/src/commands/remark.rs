//! `textum note` and `textum label`.

use clap::Args;
use textum_core::record::ledger::is_label;
use textum_core::record::receipt::{REMARK_RECEIPT, RemarkReceipt, canonical};

use super::registry::{WhichRegistry, WhoSigns, nothing_of_a_registry};
use super::{by_whom, open};
use crate::args::{Format, Global};
use crate::failure::{Failure, USAGE};
use crate::ui::Ui;

/// What `textum note` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum note 7f3a 'trained while the sensor in shed C was broken'\n  textum note stop-predictor@3 'runs in the shed since Monday'"
)]
pub struct NoteArgs {
    /// The run, or a published version: NAME@3
    #[arg(value_name = "RUN", add = clap_complete::ArgValueCandidates::new(crate::complete::runs))]
    run: String,
    /// The words
    #[arg(value_name = "TEXT")]
    text: String,
    #[command(flatten)]
    which: WhichRegistry,
    #[command(flatten)]
    who: WhoSigns,
}

/// What `textum label` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum label 7f3a first-good\n  textum label 7f3a ''           takes the name away\n\nA label is a name by which the run is found: textum show first-good."
)]
pub struct LabelArgs {
    /// The run
    #[arg(value_name = "RUN", add = clap_complete::ArgValueCandidates::new(crate::complete::runs))]
    run: String,
    /// The name; empty to take it away
    #[arg(value_name = "TEXT")]
    text: String,
}

/// Notes something of a run.
pub fn note(global: &Global, args: &NoteArgs, ui: &Ui) -> Result<u8, Failure> {
    if args.text.trim().is_empty() {
        return Err(Failure::new(USAGE, "the note is empty", "write what there is to say"));
    }
    if let Some(code) = super::alias::note(global, &args.run, &args.text, &args.which, &args.who, ui)? {
        return Ok(code);
    }
    nothing_of_a_registry(&args.which, &args.who, "a note of a run")?;
    remark(global, &args.run, Some(args.text.clone()), None, ui)
}

/// Refuses what cannot be the name of a run.
pub fn check_label(text: &str) -> Result<(), Failure> {
    if is_label(text) {
        return Ok(());
    }
    let help = "a name is one line; names with #, : or @, and those that begin with last, best: or b3:, mean something else";
    Err(Failure::new(USAGE, format!("`{}` cannot be the name of a run", text.escape_debug()), help))
}

/// Names a run.
pub fn label(global: &Global, args: &LabelArgs, ui: &Ui) -> Result<u8, Failure> {
    let text = args.text.trim();
    check_label(text)?;
    remark(global, &args.run, None, Some(text.to_string()), ui)
}

fn remark(global: &Global, name: &str, note: Option<String>, label: Option<String>, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    let run = project.ledger.resolve_run(name, &project.manifest.metrics)?;
    if let Some(label) = label.as_deref().filter(|l| !l.is_empty())
        && let Ok(other) = project.ledger.resolve_run(label, &project.manifest.metrics)
        && other != run
    {
        let help = format!("choose another name, or take it away first: textum label {other} ''");
        return Err(Failure::new(USAGE, format!("`{label}` already means the run {other}"), help));
    }
    let receipt = RemarkReceipt {
        r#type: REMARK_RECEIPT.to_string(),
        run: run.clone(),
        note,
        label,
        made: textum_base::clock::now().to_string(),
        by: by_whom().to_string(),
    };
    let writer = project.store.writer()?;
    writer.put_document(&canonical(&receipt)?)?;
    writer.publish()?;
    project.ledger.catch_up(&project.store)?;
    match ui.format {
        Format::Json => ui.json(&serde_json::json!({"run": run, "note": receipt.note, "label": receipt.label})),
        _ => ui.result(&match (&receipt.note, receipt.label.as_deref()) {
            (Some(note), _) => format!("noted of {run}: {note}"),
            (None, Some("")) => format!("{run} has no label any more"),
            (None, label) => format!("{run} is now called {}", label.unwrap_or_default()),
        }),
    }
    Ok(0)
}
