//! `textum compare`.

use clap::Args;
use textum_core::inspect::comparison::{Side, compare};
use textum_core::project::workspace::Project;
use textum_core::record::ledger::NameError;
use textum_core::record::receipt::RunReceipt;

use super::open;
use crate::args::{Format, Global};
use crate::failure::{Failure, USAGE};
use crate::render;
use crate::ui::Ui;

/// What `textum compare` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum compare last~1 last        the last two runs\n  textum compare 7f3a best:auc      a run with the best one\n  textum compare 7f3a 91c0 be12     several side by side\n  textum compare 7f3a 91c0 --format md   for a review comment"
)]
pub struct CompareArgs {
    /// The runs; what changed is told from the first on. Left out: the last two
    #[arg(value_name = "RUN", num_args = 0.., add = clap_complete::ArgValueCandidates::new(crate::complete::runs))]
    runs: Vec<String>,
    /// All changed lines of code, however many
    #[arg(long)]
    all: bool,
}

/// Compares.
pub fn run(global: &Global, args: &CompareArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    let names = match args.runs.as_slice() {
        [] => vec!["last~1".to_string(), "last".to_string()],
        [one] => return Err(Failure::new(USAGE, format!("`{one}` alone cannot be compared"), "name two runs or more")),
        several => several.to_vec(),
    };
    let mut sides: Vec<Side> = Vec::new();
    for name in &names {
        sides.push(side(&project, name)?);
    }
    if ui.format == Format::Text && sides.iter().all(|s| s.run.run == sides[0].run.run) {
        ui.result(&format!("{} name the same run, {}: there is nothing to compare", names.join(" and "), sides[0].run.run));
        return Ok(0);
    }
    let found = compare(&project, &sides)?;
    let told = render::compare::Told { comparison: &found, sides: &sides, all: args.all };
    match ui.format {
        Format::Json => ui.json(&render::compare::json(&told)),
        Format::Csv => ui.result(&render::csv::comparison(&found)),
        Format::Md => ui.result(&render::compare::markdown(&told)),
        _ => ui.result(&render::compare::text(&told, &ui.style)),
    }
    Ok(0)
}

/// A run by its name, with the receipts of its stages.
pub fn side(project: &Project, name: &str) -> Result<Side, Failure> {
    let id = project.ledger.resolve_run(name, &project.manifest.metrics)?;
    let row = project.ledger.run(&id)?.ok_or(NameError::NoRuns)?;
    Ok(Side::load(project, RunReceipt::load(&project.store, &row.receipt)?)?)
}
