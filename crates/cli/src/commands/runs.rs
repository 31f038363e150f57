//! `textum runs`.

use clap::Args;

use super::{open, versions_by_content};
use crate::args::{Format, Global};
use crate::failure::Failure;
use crate::render;
use crate::ui::Ui;

/// What `textum runs` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum runs                  the newest 20\n  textum runs --all --format csv > runs.csv\n  textum runs --format json"
)]
pub struct RunsArgs {
    /// The newest N runs
    #[arg(long, value_name = "N", default_value_t = 20, conflicts_with = "all")]
    last: usize,
    /// All runs
    #[arg(long)]
    all: bool,
}

/// Lists the runs.
pub fn run(global: &Global, args: &RunsArgs, ui: &Ui) -> Result<u8, Failure> {
    ui.only(&[Format::Text, Format::Json, Format::Csv, Format::Md])?;
    let project = open(global, ui)?;
    let runs = project.ledger.runs((!args.all).then_some(args.last))?;
    let versions = versions_by_content(&project)?;
    if ui.format == Format::Json {
        ui.json(&render::runs::json(&runs, &versions));
        return Ok(0);
    }
    let width = (ui.format == Format::Text).then_some(ui.width);
    let listed = render::runs::list(&runs, &project.manifest.metrics, &versions, jiff::Timestamp::now(), width);
    match ui.format {
        Format::Csv => ui.result(&listed.csv()),
        Format::Md => ui.result(&listed.markdown()),
        _ if runs.is_empty() => ui.say("no runs yet: make one with `textum run`"),
        _ => {
            let more = project.ledger.run_ids()?.len() - runs.len();
            ui.result(&listed.text(more, &ui.style));
        }
    }
    for id in textum_core::exec::live_runs(&project.workspace.runs_folder()) {
        ui.say(&format!("{id} is at work now"));
    }
    Ok(0)
}
