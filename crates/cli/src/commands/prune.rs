//! `textum prune`.

use clap::Args;
use textum_core::depot::SweepOptions;
use textum_core::maintain::upkeep::{Inventory, PruneOptions, carry_out, plan_prune};
use textum_core::share::prune_depot;

use super::{by_whom, open};
use crate::args::{Format, Global};
use crate::failure::{Failure, USAGE};
use crate::render::{depot as depots, upkeep as render};
use crate::ui::Ui;

/// What is kept unless somebody says otherwise.
pub const DEFAULT: PruneOptions =
    PruneOptions { newest: 3, runs: Vec::new(), paths: Vec::new(), last_outputs: false, checkpoints: false };

/// What `textum prune` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Dropped are outputs of old runs that other stages read, if they can be rebuilt from what stays. Never dropped are datasets, code, settings, logs, metrics and receipts; the outputs of the newest runs, of the run in the working tree, of labelled runs and of those best by a metric; outputs of a model of the manifest, of stages that came out otherwise from the same inputs, or that hang on a reference. A dropped output is made again by `textum rebuild`.\n\nExamples:\n  textum prune --dry-run                  what would go, and what stays\n  textum prune --newest 10                keep all outputs of ten runs\n  textum prune --keep build/model.json    keep every run's model\n  textum prune --keep best:auc --yes      keep a run, and do not ask\n  textum prune --depot team               mark what nothing speaks of there, drop what was marked before"
)]
pub struct PruneArgs {
    /// Say what would be freed, and change nothing
    #[arg(long)]
    dry_run: bool,
    /// Keep all outputs of the newest N runs
    #[arg(long, value_name = "N", default_value_t = DEFAULT.newest)]
    newest: usize,
    /// Keep a run's outputs, or the outputs at a path of every run
    #[arg(long, value_name = "RUN|PATH")]
    keep: Vec<String>,
    /// Drop also outputs that no stage reads: the last ones of a pipeline
    #[arg(long)]
    last_outputs: bool,
    /// Drop also checkpoints of old runs, but for the last and the best ones of each run and those gone on from: they
    /// cannot be made again but by training again
    #[arg(long)]
    checkpoints: bool,
    /// Do not ask; needed where nobody can be asked
    #[arg(short, long)]
    yes: bool,
    /// Prune a depot instead: drop what no receipt of any project in it speaks of
    #[arg(long, value_name = "NAME", conflicts_with_all = ["newest", "keep", "last_outputs", "checkpoints"])]
    depot: Option<String>,
    /// With --depot: what is marked now goes after this time, such as 14d or 36h, if nothing speaks of it then; longer than
    /// any sync takes
    #[arg(long, value_name = "TIME", default_value = "14d", requires = "depot")]
    grace: String,
}

/// `14d`, `36h`, `90m`, `0s`.
fn duration(text: &str) -> Option<std::time::Duration> {
    let (number, unit) = text.split_at_checked(text.len().checked_sub(1)?)?;
    let seconds = match unit {
        "s" => 1,
        "m" => 60,
        "h" => 3600,
        "d" => 86_400,
        _ => return None,
    };
    Some(std::time::Duration::from_secs(number.parse::<u64>().ok()?.checked_mul(seconds)?))
}

fn of_depot(global: &Global, args: &PruneArgs, name: &str, ui: &Ui) -> Result<u8, Failure> {
    let grace = duration(&args.grace)
        .ok_or_else(|| Failure::new(USAGE, format!("`{}` is no time", args.grace), "write it as in 14d, 36h or 90m"))?;
    let project = super::open_to_share(global, ui)?;
    let depot = project.depots.open(Some(name))?;
    let dry = prune_depot(&project, &depot, SweepOptions { grace, dry_run: true })?;
    let goes = dry.dropped + dry.orphans > 0;
    if goes && !args.dry_run && !args.yes {
        if !ui.can_ask() {
            let help = "--dry-run says what would go; --yes drops it without being asked";
            return Err(Failure::new(USAGE, "nothing was dropped: there is nobody to be asked", help));
        }
        ui.insist(&depots::prune_text(name, &dry, &args.grace, true, &ui.err_style));
        if !ui.agreed("Drop them?") {
            ui.say("nothing was dropped");
            return Ok(0);
        }
    }
    let swept = if args.dry_run { dry } else { prune_depot(&project, &depot, SweepOptions { grace, dry_run: false })? };
    match ui.format {
        Format::Json => ui.json(&depots::prune_json(name, &swept, args.dry_run)),
        _ => ui.result(&depots::prune_text(name, &swept, &args.grace, args.dry_run, &ui.style)),
    }
    Ok(0)
}

/// Prunes.
pub fn run(global: &Global, args: &PruneArgs, ui: &Ui) -> Result<u8, Failure> {
    if let Some(name) = &args.depot {
        return of_depot(global, args, name, ui);
    }
    let mut project = open(global, ui)?;
    let outputs: Vec<String> = project.manifest.stages.iter().flat_map(|s| s.outputs()).map(ToString::to_string).collect();
    let is_path = |name: &String| {
        name.contains('/') || outputs.contains(name) || project.ledger.resolve_run(name, &project.manifest.metrics).is_err()
    };
    let (paths, runs): (Vec<String>, Vec<String>) = args.keep.iter().cloned().partition(is_path);
    let overlaps = |path: &String| outputs.iter().any(|o| textum_core::config::manifest::overlap(o, path.trim_end_matches('/')));
    if let Some(unknown) = paths.iter().find(|p| !p.contains('/') && !overlaps(p)) {
        // Neither a run nor an output: a slip of the pen must not cost a model.
        project.ledger.resolve_run(unknown, &project.manifest.metrics)?;
    }
    let paths = paths.iter().map(|p| p.trim_end_matches('/').to_string()).collect();
    let options = PruneOptions { newest: args.newest, runs, paths, last_outputs: args.last_outputs, checkpoints: args.checkpoints };
    let plan = {
        let _steady = project.store.steady()?;
        plan_prune(&project, &Inventory::load(&project.store, &project.ledger)?, &options)?
    };
    if args.dry_run || (plan.dropping.entries.is_empty() && plan.sandboxes.is_empty()) {
        match ui.format {
            Format::Json => ui.json(&render::prune_json(&plan, None)),
            _ => ui.result(&render::prune_text(&plan, None, &ui.style)),
        }
        return Ok(0);
    }
    if !args.yes {
        if !ui.can_ask() {
            let help = "--dry-run says what would go; --yes drops it without being asked";
            return Err(Failure::new(USAGE, "nothing was dropped: there is nobody to be asked", help));
        }
        ui.insist(&render::prune_text(&plan, None, &ui.err_style));
        if !ui.agreed("Drop them?") {
            ui.say("nothing was dropped");
            return Ok(0);
        }
    }
    let (plan, freed) = carry_out(&mut project, &options, &by_whom())?;
    match ui.format {
        Format::Json => ui.json(&render::prune_json(&plan, Some(&freed))),
        _ => ui.result(&render::prune_text(&plan, Some(&freed), &ui.style)),
    }
    Ok(0)
}
