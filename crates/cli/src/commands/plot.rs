//! `textum plot`.

use std::path::{Path, PathBuf};

use clap::{Args, ValueEnum};
use textum_core::fsio;
use textum_core::inspect::curve::{Curve, curves, metrics_by_step};
use textum_core::project::workspace::Project;
use textum_core::record::ledger::{Field, NameError, RunRow, Selection};
use textum_core::record::receipt::RunReceipt;

use super::open;
use crate::args::{Format, Global};
use crate::failure::{Failure, NOT_THERE, USAGE};
use crate::render;
use crate::render::plot::{Across, Spread};
use crate::ui::Ui;

/// What `textum plot` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum plot                               the last run's curves\n  textum plot 7f3a 91c0 --metric loss       two runs, one over the other\n  textum plot --metric loss --metric auc --by time -o curves.svg\n  textum plot sweep-3fa2c1 --metric auc --against fit.rate       a metric over a parameter\n  textum plot sweep-3fa2c1 --metric auc --against fit.rate --against fit.depth   a heat map\n  textum plot sweep-3fa2c1 --metric auc --against fit.rate --against fit.depth --against fit.rounds -o p.svg\n                                            three or more: parallel coordinates"
)]
pub struct PlotArgs {
    /// Runs or sweeps; left out: the last run
    #[arg(value_name = "RUN", add = clap_complete::ArgValueCandidates::new(crate::complete::runs_and_sweeps))]
    runs: Vec<String>,
    /// The metric; may be given several times
    #[arg(long, value_name = "NAME", add = clap_complete::ArgValueCandidates::new(crate::complete::fields))]
    metric: Vec<String>,
    /// What goes across
    #[arg(long, value_name = "WHAT", default_value = "step", conflicts_with = "against")]
    by: By,
    /// A parameter that goes across instead: the metric's last value of each run
    #[arg(long, value_name = "PARAM", add = clap_complete::ArgValueCandidates::new(crate::complete::fields))]
    against: Vec<String>,
    /// Draw the metric by its logarithm
    #[arg(long)]
    log: bool,
    /// Into a file: .svg, .png or .html
    #[arg(short, long, value_name = "FILE", value_hint = clap::ValueHint::FilePath)]
    output: Option<PathBuf>,
}

/// What goes across.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum By {
    /// The step.
    Step,
    /// Seconds since the stage began.
    Time,
}

/// Plots.
pub fn run(global: &Global, args: &PlotArgs, ui: &Ui) -> Result<u8, Failure> {
    if let Some(file) = &args.output {
        let ending = file.extension().and_then(|e| e.to_str()).unwrap_or_default();
        if !["svg", "png", "html"].contains(&ending) {
            let help = "end its name in .svg, .png or .html";
            return Err(Failure::new(USAGE, format!("{} says no form that can be drawn", file.display()), help));
        }
    }
    let project = open(global, ui)?;
    let runs = chosen(&project, &args.runs)?;
    if args.against.is_empty() { by_step(&project, args, &runs, ui) } else { against(&project, args, &runs, ui) }
}

/// The runs that names stand for; a sweep stands for all of its runs.
fn chosen(project: &Project, names: &[String]) -> Result<Vec<RunRow>, Failure> {
    let names = if names.is_empty() { vec!["last".to_string()] } else { names.to_vec() };
    let sweeps = project.ledger.sweeps()?;
    let mut found: Vec<RunRow> = Vec::new();
    for name in names {
        let sweep = sweeps.iter().find(|s| **s == name || name.starts_with("sweep-") && s.starts_with(&name));
        if let Some(sweep) = sweep {
            let asked = Selection { sweep: Some(sweep.clone()), ..Selection::default() };
            let mut runs = project.ledger.select(&asked, &Default::default())?.0;
            runs.reverse();
            found.extend(runs);
            continue;
        }
        let id = project.ledger.resolve_run(&name, &project.manifest.metrics)?;
        found.push(project.ledger.run(&id)?.ok_or(NameError::NoRuns)?);
    }
    let mut seen = std::collections::BTreeSet::new();
    found.retain(|r| seen.insert(r.run.clone()));
    Ok(found)
}

fn by_step(project: &Project, args: &PlotArgs, rows: &[RunRow], ui: &Ui) -> Result<u8, Failure> {
    let directions = &project.manifest.metrics;
    let receipts: Vec<RunReceipt> = rows.iter().map(|r| RunReceipt::load(&project.store, &r.receipt)).collect::<Result<_, _>>()?;
    let mut known: Vec<String> = Vec::new();
    for receipt in &receipts {
        known.extend(metrics_by_step(&project.store, receipt)?.into_iter().filter(|(_, n)| *n > 0).map(|(m, _)| m));
    }
    known.sort();
    known.dedup();
    let metrics = match args.metric.as_slice() {
        [] => {
            let first = directions.iter().map(|(n, _)| n).find(|n| known.contains(n)).or(known.first());
            first.cloned().into_iter().collect()
        }
        named => named.to_vec(),
    };
    let missing: Vec<&String> = metrics.iter().filter(|m| !known.contains(m)).collect();
    if known.is_empty() || !missing.is_empty() {
        let help = match known.is_empty() {
            true => "tell metrics by step with `textum emit` or a history among the stage's `metrics`; --against PARAM draws final values".to_string(),
            false => format!("there are {}", render::text::some(&known, 12)),
        };
        let what = missing.first().map_or("no metric by step".to_string(), |m| format!("no `{m}` by step"));
        return Err(Failure::new(NOT_THERE, format!("the runs have {what}"), help));
    }
    let mut all: Vec<Curve> = Vec::new();
    for receipt in &receipts {
        all.extend(curves(&project.store, receipt, &metrics, directions)?);
    }
    let drawn = render::plot::Drawn {
        curves: &all,
        metrics: &metrics,
        across: if args.by == By::Time { Across::Time } else { Across::Step },
        names: &render::plot::names(rows),
        log: args.log,
    };
    match ui.format {
        Format::Json => {
            ui.json(&render::plot::json(&drawn));
            return Ok(0);
        }
        Format::Csv => {
            ui.result(&render::csv::curves(&all));
            return Ok(0);
        }
        _ => {}
    }
    match &args.output {
        Some(file) => write(file, &render::plot::figures(&drawn), &render::plot::table(&drawn), ui),
        None => {
            ui.result(&render::chart::curves(&drawn, ui.width, &ui.style));
            Ok(0)
        }
    }
}

fn against(project: &Project, args: &PlotArgs, rows: &[RunRow], ui: &Ui) -> Result<u8, Failure> {
    for name in &args.against {
        if !matches!(project.ledger.field(name)?, Field::Param(_)) {
            let help = "--against takes a parameter; curves over steps are drawn without it";
            return Err(Failure::new(USAGE, format!("`{name}` is no parameter"), help));
        }
    }
    let metric = match args.metric.as_slice() {
        [one] => one.clone(),
        [] => {
            let has = |name: &String| rows.iter().any(|r| r.metrics.iter().any(|(n, _)| n == name));
            let first = project.manifest.metrics.iter().map(|(n, _)| n.clone()).find(has);
            let help = "name one with --metric, or declare one with [metric.NAME] better";
            first.ok_or_else(|| Failure::new(USAGE, "which metric?", help))?
        }
        _ => return Err(Failure::new(USAGE, "only one metric can be drawn against parameters", "give --metric once")),
    };
    if !rows.iter().any(|r| r.metrics.iter().any(|(n, _)| *n == metric)) {
        let help = "`textum runs` shows the metrics that runs have";
        return Err(Failure::new(NOT_THERE, format!("none of these runs has the metric `{metric}`"), help));
    }
    let better = project.manifest.metrics.iter().find(|(n, _)| *n == metric).map(|(_, b)| *b);
    let spread = Spread { rows, metric: &metric, params: &args.against, better, log: args.log };
    match ui.format {
        Format::Json => {
            ui.json(&render::spread::json(&spread));
            return Ok(0);
        }
        Format::Csv => {
            ui.result(&render::csv::against(rows, &args.against, &metric));
            return Ok(0);
        }
        _ => {}
    }
    match &args.output {
        Some(file) => write(file, &[render::spread::figure(&spread)], &render::spread::table(&spread), ui),
        None => {
            ui.result(&render::spread::text(&spread, ui.width, &ui.style));
            Ok(0)
        }
    }
}

/// Writes figures into one file, one below the other.
fn write(file: &Path, figures: &[textum_core::figure::Figure], table: &str, ui: &Ui) -> Result<u8, Failure> {
    let svg = render::plot::stacked(figures);
    let bytes = match file.extension().and_then(|e| e.to_str()) {
        Some("png") => textum_core::figure::png(&svg, 2.0)?,
        Some("html") => render::plot::page(figures, table).into_bytes(),
        _ => svg.into_bytes(),
    };
    if let Some(folder) = file.parent().filter(|f| !f.as_os_str().is_empty()) {
        fsio::create_folder(folder)?;
    }
    fsio::write_derived(file, &bytes)?;
    ui.result(&format!("{}", file.display()));
    Ok(0)
}
