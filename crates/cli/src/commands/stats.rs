//! `textum stats`.

use clap::Args;
use textum_core::maintain::upkeep::{Inventory, plan_prune, stats};
use textum_core::share::RemoteFigures;

use super::open;
use super::prune::DEFAULT;
use crate::args::{Format, Global};
use crate::failure::Failure;
use crate::render::{depot as depots, upkeep as render};
use crate::ui::Ui;

/// What `textum stats` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum stats\n  textum stats --largest 30\n  textum stats --format json\n  textum stats --depot team"
)]
pub struct StatsArgs {
    /// So many of the largest contents
    #[arg(long, value_name = "N", default_value_t = 8)]
    largest: usize,
    /// Look at a depot instead
    #[arg(long, value_name = "NAME")]
    depot: Option<String>,
}

/// Tells what the store holds.
pub fn run(global: &Global, args: &StatsArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    if let Some(name) = &args.depot {
        let depot = project.depots.open(Some(name))?;
        let found = RemoteFigures::of(&depot)?;
        match ui.format {
            Format::Json => ui.json(&depots::stats_json(name, &found)),
            Format::Csv => ui.result(&depots::stats_csv(&found)),
            _ => ui.result(&depots::stats_text(name, &found, &ui.style)),
        }
        return Ok(0);
    }
    // Others may add to the store meanwhile; nothing of it goes away.
    let _steady = project.store.steady()?;
    let all = Inventory::load(&project.store, &project.ledger)?;
    let found = stats(&project, &all, args.largest)?;
    let plan = plan_prune(&project, &all, &DEFAULT)?;
    match ui.format {
        Format::Json => ui.json(&render::stats_json(&found, &plan)),
        Format::Csv => ui.result(&render::stats_csv(&found)),
        Format::Md => ui.result(&render::stats_markdown(&found)),
        _ if found.packs == 0 => ui.say("nothing is stored yet: `textum run` or `textum data record` stores something"),
        _ => ui.result(&render::stats_text(&found, &plan, &ui.style)),
    }
    Ok(0)
}
