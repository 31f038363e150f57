//! `textum draft`.

use clap::Args;
use textum_core::pipeline::draft::{Draft, draft, with_stage, write_stage};

use super::open_to_write;
use crate::args::{Format, Global};
use crate::failure::Failure;
use crate::render::text;
use crate::ui::{Style, Ui};

/// What `textum draft` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum draft fit -- python3 steps/fit.py --rate 0.2\n  textum draft fit --dry-run -- make model      only tell what would be written"
)]
pub struct DraftArgs {
    /// The name of the stage
    name: String,
    /// Write nothing into the manifest
    #[arg(long)]
    dry_run: bool,
    /// The command, as it is typed
    #[arg(required = true, last = true, value_name = "COMMAND")]
    command: Vec<String>,
}

/// Drafts a stage.
pub fn run(global: &Global, args: &DraftArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open_to_write(global, ui)?;
    let drafted = draft(&project, &args.name, &args.command)?;
    match args.dry_run {
        true => drop(with_stage(&project, &drafted)?),
        false => write_stage(&project, &drafted)?,
    }
    match ui.format {
        Format::Json => ui.json(&serde_json::json!({"written": !args.dry_run, "draft": drafted})),
        _ => ui.result(&told(&drafted, args.dry_run, &ui.style)),
    }
    Ok(0)
}

fn told(drafted: &Draft, dry_run: bool, style: &Style) -> String {
    let verb = if dry_run { "would be added to" } else { "added to" };
    let mut out = format!("the stage {} {verb} textum.toml\n\n  run     {}", style.bold(&drafted.stage), drafted.run);
    for (what, paths) in [("reads", &drafted.reads), ("params", &drafted.params), ("writes", &drafted.writes)] {
        if !paths.is_empty() {
            out.push_str(&format!("\n  {what:<6}  {}", text::some(paths, 12)));
        }
    }
    if !drafted.elsewhere.is_empty() {
        let note = "read, and counts though it cannot be declared here";
        out.push_str(&format!("\n\n  {} {}", style.dim(note), text::some(&drafted.elsewhere, 5)));
    }
    if !drafted.state.is_empty() {
        let note = "left out: it was there before, and the command reads and changes it (let it write a file of its own, or keep it as state):";
        out.push_str(&format!("\n\n  {} {}", style.bad(note), text::some(&drafted.state, 5)));
    }
    out
}
