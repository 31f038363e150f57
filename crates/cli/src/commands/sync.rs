//! `textum sync`.

use clap::Args;
use textum_core::share::{Direction, SyncOptions, Wanted, sync};

use super::open_to_share;
use crate::args::{Format, Global};
use crate::failure::{DAMAGE, Failure};
use crate::render::depot as render;
use crate::ui::Ui;

/// What `textum sync` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Receipts travel both ways: after it, the runs of others stand in `textum runs`. Content goes up; it comes down\nwhen it is needed, or as --content says. Only what is missing travels; what was cut off goes on the next time.\n\nExamples:\n  textum sync                           all that is here goes up, all receipts come down\n  textum sync team --dry-run            what would travel\n  textum sync --down --content last     a run's data, code and outputs, to work on a train\n  textum sync --receipts                runs, logs and metrics, neither data nor models"
)]
pub struct SyncArgs {
    /// The depot; needed where there are several
    depot: Option<String>,
    /// Only what is here goes there
    #[arg(long, conflicts_with = "down")]
    up: bool,
    /// Only what is there comes here
    #[arg(long)]
    down: bool,
    /// Of the content only what is small and tells of runs: logs, values, lists of what was read
    #[arg(long, conflicts_with = "content")]
    receipts: bool,
    /// Content of these runs and versions of datasets, or all, both ways
    #[arg(long, value_name = "RUN|NAME@V|all")]
    content: Vec<String>,
    /// Say what would travel, and move nothing but receipts
    #[arg(long)]
    dry_run: bool,
    /// So many requests side by side
    #[arg(short, long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=256))]
    jobs: Option<u16>,
}

/// Brings what is here and what is there together.
pub fn run(global: &Global, args: &SyncArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open_to_share(global, ui)?;
    if let Some(jobs) = args.jobs {
        project.depots.set_jobs(usize::from(jobs));
    }
    let depot = project.depots.open(args.depot.as_deref())?;
    let direction = match (args.up, args.down) {
        (true, _) => Direction::Up,
        (_, true) => Direction::Down,
        _ => Direction::Both,
    };
    let wanted = match args.content.as_slice() {
        [] if args.receipts => Wanted::Receipts,
        [] => Wanted::Usual,
        names if names.iter().any(|n| n == "all") => Wanted::All,
        names => Wanted::Of(names.to_vec()),
    };
    let options = SyncOptions { direction, wanted, dry_run: args.dry_run };
    let began = std::time::Instant::now();
    let outcome = {
        let transfer = ui.transfer();
        sync(&project, &depot, &options, &|what, bytes, total| transfer.tell(what, bytes, total))?
    };
    for what in &outcome.damaged {
        ui.insist(&format!("{} {what}: `textum verify --depot {}` tells more", ui.err_style.bad("note:"), depot.name()));
    }
    let seconds = began.elapsed().as_secs_f64();
    match ui.format {
        Format::Json => ui.json(&render::sync_json(depot.name(), &outcome, args.dry_run, seconds)),
        _ => ui.result(&render::sync_text(depot.name(), &outcome, args.dry_run, seconds, &ui.style)),
    }
    Ok(if outcome.damaged.is_empty() { 0 } else { DAMAGE })
}
