//! `textum rebuild`.

use clap::Args;
use textum_core::inspect::lineage::find_target;
use textum_core::maintain::rebuild::{RebuildOptions, rebuild};
use textum_core::record::receipt::Verdict;

use super::{by_whom, here, open_to_bring};
use crate::args::{Format, Global};
use crate::failure::{Failure, UNSUCCESSFUL};
use crate::render;
use crate::ui::{Ui, catch_interrupts};

/// What `textum rebuild` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum rebuild build/model.json      this file, from its recorded sources on\n  textum rebuild 7f3a                  everything that a run made\n  textum rebuild 7f3a:build/model.json one file of a past run\n\nVerdicts: identical (byte for byte), equivalent (other bytes, metrics within the tolerance),\ndifferent, failed. The exit status is 0 for the first two. The working tree is not touched."
)]
pub struct RebuildArgs {
    /// A file, RUN, RUN:PATH or digest
    #[arg(value_name = "FILE|RUN|DIGEST", add = clap_complete::ArgValueCandidates::new(crate::complete::runs))]
    name: String,
    /// Metrics may differ by this much, relatively, and still be equivalent
    #[arg(long, value_name = "NUMBER", default_value_t = 1e-6)]
    tolerance: f64,
    /// Keep the sandboxes, to look at what came out
    #[arg(long)]
    keep: bool,
    /// The environment to rebuild in: the one that is here, or the recorded one, made again from kept files or versions
    #[arg(long, value_enum, value_name = "WHICH", default_value_t = Which::Here)]
    environment: Which,
    /// Repeat the training of checkpoints too, instead of going on from the stored ones
    #[arg(long)]
    from_scratch: bool,
    /// Show what stages print
    #[arg(long)]
    echo: bool,
}

/// The environment that a rebuild has.
#[derive(Clone, Copy, Debug, PartialEq, Eq, clap::ValueEnum)]
enum Which {
    /// The one that is here
    Here,
    /// The recorded one
    Recorded,
}

/// Rebuilds.
pub fn run(global: &Global, args: &RebuildArgs, ui: &Ui) -> Result<u8, Failure> {
    let mut project = open_to_bring(global, ui)?;
    let name = super::registry::as_of_run(&project, &args.name, global, ui)?;
    let target = find_target(&project, &name, &here(global))?;
    let options = RebuildOptions {
        tolerance: args.tolerance,
        keep: args.keep,
        echo: args.echo,
        from_scratch: args.from_scratch,
        recorded_environment: args.environment == Which::Recorded,
        by: by_whom(),
    };
    let outcome = {
        let events = ui.events();
        rebuild(&mut project, &target, &options, &*events, catch_interrupts())?
    };
    match ui.format {
        Format::Json => ui.json(&render::rebuild::json(&outcome)),
        _ => ui.result(&render::rebuild::text(&outcome, &ui.style)),
    }
    Ok(match outcome.verdict {
        Verdict::Identical | Verdict::Equivalent => 0,
        Verdict::Different | Verdict::Failed => UNSUCCESSFUL,
    })
}
