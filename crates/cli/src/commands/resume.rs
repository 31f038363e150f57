//! `textum resume`.

use clap::Args;
use textum_core::config::manifest::SetError;
use textum_core::pipeline::exec::{RunOptions, UnattendedJob, standing_of, unattended_runs};
use textum_core::pipeline::executor::JobState;
use textum_core::pipeline::plan::select_stages;
use textum_core::project::workspace::Project;
use textum_core::record::ledger::NameError;
use textum_core::record::receipt::{Exit, RunReceipt, RunStageState, RunState, StageReceipt};

use super::background::{self, BackgroundArgs, InBackground};
use super::{by_whom, open_to_write};
use crate::args::Global;
use crate::failure::{Failure, USAGE};
use crate::render::text;
use crate::ui::Ui;

/// What `textum resume` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum resume            the last run that was stopped or interrupted\n  textum resume 7f3a       this one\n\nIt is a new run with the parameters of the old one; stages that were done are reused, the one that was cut\noff goes on from its last checkpoint, or begins anew if it has none. A job that a place still carries out is taken\nup as it is. What has changed since is said."
)]
pub struct ResumeArgs {
    /// The run; left out: the newest that was stopped or interrupted
    #[arg(value_name = "RUN", add = clap_complete::ArgValueCandidates::new(crate::complete::runs))]
    run: Option<String>,
    /// Show what stages print
    #[arg(long)]
    echo: bool,
    #[command(flatten)]
    background: BackgroundArgs,
}

/// Resumes.
pub fn run(global: &Global, args: &ResumeArgs, ui: &Ui) -> Result<u8, Failure> {
    if args.background.detach {
        return background::start(global, ui);
    }
    let background = InBackground::enter(&args.background);
    let mut project = open_to_write(global, ui)?;
    {
        let events = ui.events();
        textum_core::pipeline::exec::close_interrupted(&mut project, &*events)?;
    }
    let (old, jobs) = chosen(&project, args.run.as_deref())?;
    let short = old.run.rsplit('-').next().unwrap_or_default().to_string();
    if old.state == RunState::Done {
        let help = format!("`textum run` runs what has changed; `textum run --from {short}#last` trains longer from a checkpoint");
        return Err(Failure::new(USAGE, format!("the run {} is done: there is nothing to resume", old.run), help));
    }
    super::registry::bring_inputs(&mut project, ui)?;
    take_params(&mut project, &old, ui)?;
    let names: Vec<String> = old.stages.iter().map(|s| s.stage.clone()).filter(|s| project.manifest.stage(s).is_some()).collect();
    let gone: Vec<String> = old.stages.iter().map(|s| s.stage.clone()).filter(|s| !names.contains(s)).collect();
    if !gone.is_empty() {
        ui.say(&format!("  the manifest no longer has {}, which the run had", gone.join(", ")));
    }
    let mut options = RunOptions {
        stages: select_stages(&project, &names)?,
        echo: args.echo,
        sandbox: old.sandbox,
        resumes: Some(old.run.clone()),
        arguments: std::env::args().skip(1).collect(),
        by: by_whom(),
        ..RunOptions::default()
    };
    for (stage, place) in &old.places {
        options.places.extend(project.graph.index_of(stage).map(|index| (index, place.clone())));
    }
    take_up(&project, &jobs, &mut options, ui)?;
    for stage in old.stages.iter().filter(|s| matches!(s.state, RunStageState::Stopped | RunStageState::Failed)) {
        let Some(index) = project.graph.index_of(&stage.stage) else { continue };
        if project.manifest.stages[index].checkpoints.is_none() {
            continue;
        }
        match project.ledger.checkpoint(&old.run, Some(&stage.stage), "last", &project.manifest.metrics) {
            Ok(row) => drop(options.from.insert(index, row.to_start_from())),
            // It may itself have gone on from one and not have come to the next.
            Err(_) => match old.from.get(&stage.stage) {
                Some(from) => drop(options.from.insert(index, from.clone())),
                None => ui.say(&format!("  {} made no checkpoint in {short}: it begins anew", stage.stage)),
            },
        }
        if let Some(receipt) = &stage.receipt {
            say_changes(&project, &StageReceipt::load(&project.store, receipt)?, ui)?;
        }
    }
    super::run::carry_out(&mut project, &options, false, &background, ui)
}

/// The run, and jobs of it that nobody attends to.
fn chosen(project: &Project, name: Option<&str>) -> Result<(RunReceipt, Vec<UnattendedJob>), Failure> {
    let fits = |id: &str| name.is_none_or(|name| id == name || id.rsplit('-').next().is_some_and(|s| s.starts_with(name)));
    if let Some(run) = unattended_runs(project)?.into_iter().rev().find(|run| fits(&run.draft.run)) {
        return Ok((run.draft, run.jobs));
    }
    let id = match name {
        Some(name) => project.ledger.resolve_run(name, &project.manifest.metrics)?,
        None => {
            let found = project.ledger.newest_that(["stopped", "interrupted"], None)?;
            let help = "`textum runs` lists the runs and how they ended";
            found.ok_or_else(|| Failure::new(crate::failure::NOT_THERE, "no run was stopped or interrupted", help))?
        }
    };
    let row = project.ledger.run(&id)?.ok_or(NameError::NoRuns)?;
    Ok((RunReceipt::load(&project.store, &row.receipt)?, Vec::new()))
}

/// Jobs that are at work or have succeeded are taken up where they are; what was lost goes on from its last checkpoint.
fn take_up(project: &Project, jobs: &[UnattendedJob], options: &mut RunOptions, ui: &Ui) -> Result<(), Failure> {
    for (job, state) in jobs.iter().zip(standing_of(project, jobs)?) {
        let Some(index) = project.graph.index_of(&job.stage) else { continue };
        options.places.extend(job.place.clone().map(|place| (index, place)));
        if matches!(state, JobState::Waiting | JobState::Running | JobState::Ended(Exit::Code(0))) {
            continue;
        }
        let place = job.place.as_deref().unwrap_or_default();
        ui.say(&format!("  the job of {} at {place} did not succeed or is not known there any more", job.stage));
        if let Ok(row) = project.ledger.checkpoint(&job.run, Some(&job.stage), "last", &project.manifest.metrics) {
            options.from.insert(index, row.to_start_from());
        }
    }
    Ok(())
}

/// Gives the project the parameters of the run; what cannot be taken over is said.
fn take_params(project: &mut Project, old: &RunReceipt, ui: &Ui) -> Result<(), Failure> {
    for (name, value) in &old.params {
        let now = project.params.get(name).map(|v| v.to_string());
        if now.as_ref() == Some(value) {
            continue;
        }
        match project.params.set(&format!("{name}={}", text::param(value))) {
            Ok(()) => project.set.push(name.clone()),
            Err(SetError::Unknown { .. }) => {
                ui.say(&format!("  the manifest no longer has the parameter {name}, which was {value}"))
            }
            Err(e) => return Err(e.into()),
        }
    }
    Ok(())
}

/// Says what else than the checkpoint is another than when the stage was cut off.
fn say_changes(project: &Project, old: &StageReceipt, ui: &Ui) -> Result<(), Failure> {
    let mut changed: Vec<String> = Vec::new();
    for read in old.reads.iter().filter(|r| r.by.is_empty() && !r.params) {
        if project.scanner.look(&read.at.path)?.as_ref() != Some(&read.at.content) {
            changed.push(read.at.path.to_string());
        }
    }
    if !changed.is_empty() {
        let style = &ui.err_style;
        let stage = &old.inputs.stage;
        ui.say(&format!(
            "  {} {} changed since {stage} was cut off: it goes on with what is there now",
            style.bad("not the same:"),
            text::some(&changed, 6)
        ));
    }
    Ok(())
}
