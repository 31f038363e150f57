//! `textum compare`.

use clap::Args;
use textum_core::inspect::comparison::{PairOptions, Side, compare, pair};
use textum_core::project::workspace::Project;
use textum_core::publish::{Place, differences, find_version};
use textum_core::record::ledger::NameError;
use textum_core::record::receipt::RunReceipt;
use textum_core::registry::{Version, split_reference};

use super::open;
use super::registry::{WhichRegistry, WhoSigns, nothing_of_a_registry};
use crate::args::{Format, Global};
use crate::failure::{Failure, USAGE};
use crate::render;
use crate::ui::Ui;

/// What `textum compare` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum compare last~1 last        the last two runs\n  textum compare 7f3a best:auc      a run with the best one\n  textum compare 7f3a 91c0 be12     several side by side\n  textum compare 7f3a 91c0 --paired      is it better, or luck? on the same rows\n  textum compare 7f3a 91c0 --format md   for a review comment\n  textum compare stop-predictor@2 stop-predictor@3   why published versions differ"
)]
pub struct CompareArgs {
    /// The runs, or published versions; what changed is told from the first on. Left out: the last two runs
    #[arg(value_name = "RUN", num_args = 0.., add = clap_complete::ArgValueCandidates::new(crate::complete::runs))]
    runs: Vec<String>,
    /// All changed lines of code, however many
    #[arg(long)]
    all: bool,
    /// Hold two models against one another on the rows that both have judged: is one better, or is it luck?
    #[arg(long)]
    paired: bool,
    /// With --paired: the columns that tell rows apart; left out, the key of a dataset if both tables have it, else their places
    #[arg(long, value_name = "COL", value_delimiter = ',', requires = "paired")]
    key: Vec<String>,
    /// With --paired: the stage that evaluates, if there are several
    #[arg(long, value_name = "STAGE", requires = "paired")]
    stage: Option<String>,
    #[command(flatten)]
    which: WhichRegistry,
}

/// Compares.
pub fn run(global: &Global, args: &CompareArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    let names = match args.runs.as_slice() {
        [] => vec!["last~1".to_string(), "last".to_string()],
        [one] => return Err(Failure::new(USAGE, format!("`{one}` alone cannot be compared"), "name two runs or more")),
        several => several.to_vec(),
    };
    if args.paired && (args.all || names.iter().any(|name| is_published(name))) {
        return Err(Failure::new(
            USAGE,
            "--paired holds runs against one another, and shows no code",
            "name two runs, without --all",
        ));
    }
    if names.iter().any(|name| is_published(name)) {
        return versions(&project, args, &names, ui);
    }
    nothing_of_a_registry(&args.which, &WhoSigns::default(), "runs that are compared")?;
    let mut sides: Vec<Side> = Vec::new();
    for name in &names {
        sides.push(side(&project, name)?);
    }
    if ui.format == Format::Text && sides.iter().all(|s| s.run.run == sides[0].run.run) {
        ui.result(&format!("{} name the same run, {}: there is nothing to compare", names.join(" and "), sides[0].run.run));
        return Ok(0);
    }
    if args.paired {
        return paired(&project, args, &sides, ui);
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

/// Two models on the rows that both have judged.
fn paired(project: &Project, args: &CompareArgs, sides: &[Side], ui: &Ui) -> Result<u8, Failure> {
    let [a, b] = sides else {
        return Err(Failure::new(USAGE, "--paired holds two runs against one another", "name two runs"));
    };
    let options = PairOptions { stage: args.stage.clone(), key: args.key.clone() };
    let found = pair(project, a, b, &options)?;
    let told = render::pair::Told { pair: &found, runs: [&a.run.run, &b.run.run] };
    match ui.format {
        Format::Json => ui.json(&render::pair::json(&told)),
        Format::Csv => ui.result(&render::pair::csv(&told)),
        Format::Md => ui.result(&render::pair::markdown(&told)),
        _ => ui.result(&render::pair::text(&told, &ui.style)),
    }
    Ok(0)
}

/// Whether a name is that of a published version.
fn is_published(name: &str) -> bool {
    split_reference(name).is_some_and(|(_, which)| which.is_some())
}

/// Why published versions differ: as the runs that they come from, and in how they are used.
fn versions(project: &Project, args: &CompareArgs, names: &[String], ui: &Ui) -> Result<u8, Failure> {
    if let Some(run) = names.iter().find(|name| !is_published(name)) {
        let help = "name published versions only, or runs only: `textum registry show NAME@V` tells the run of a version";
        return Err(Failure::new(USAGE, format!("`{run}` is no published version"), help));
    }
    let place = Place::of_project(project, args.which.depot.as_deref())?;
    let registry = place.registry()?;
    let found: Vec<&Version> =
        names.iter().map(|name| Ok::<_, Failure>(find_version(&registry, name)?.0)).collect::<Result<_, _>>()?;
    let told = render::versions::Told {
        names: found.iter().map(|v| format!("{}@{}", v.publication.name, v.publication.version)).collect(),
        differences: found[1..].iter().map(|v| differences(&found[0].publication.bundle, &v.publication.bundle)).collect(),
        versions: &found,
    };
    // The runs tell more: rows of data, lines of code. Those of others may have to be asked for.
    let run_of = |v: &&Version| v.publication.bundle.run.as_ref().map(|r| r.run.clone());
    let runs: Option<Vec<String>> = found.iter().map(run_of).collect();
    let is_here = |runs: &[String]| runs.iter().all(|run| project.ledger.run(run).is_ok_and(|row| row.is_some()));
    if runs.as_deref().is_some_and(|runs| !is_here(runs)) {
        super::receive_receipts(project, ui);
    }
    let sides: Vec<Side> = match runs.filter(|runs| is_here(runs)) {
        Some(runs) => runs.iter().map(|run| side(project, run)).collect::<Result<_, _>>()?,
        None => Vec::new(),
    };
    let comparison = if sides.is_empty() { None } else { Some(compare(project, &sides)?) };
    let runs = comparison.as_ref().map(|comparison| render::compare::Told { comparison, sides: &sides, all: args.all });
    match ui.format {
        Format::Json => ui.json(&render::versions::json(&told, runs.as_ref())),
        Format::Csv => ui.result(&render::versions::csv(&told)),
        Format::Md => ui.result(&render::versions::markdown(&told, runs.as_ref())),
        _ => ui.result(&render::versions::text(&told, runs.as_ref(), &ui.style)),
    }
    Ok(0)
}

/// A run by its name, with the receipts of its stages.
pub fn side(project: &Project, name: &str) -> Result<Side, Failure> {
    let id = project.ledger.resolve_run(name, &project.manifest.metrics)?;
    let row = project.ledger.run(&id)?.ok_or(NameError::NoRuns)?;
    Ok(Side::load(project, RunReceipt::load(&project.store, &row.receipt)?)?)
}
