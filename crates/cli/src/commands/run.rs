//! `textum run`.

use std::collections::BTreeSet;

use clap::Args;
use textum_core::exec::{RunOptions, RunOutcome, run as execute};
use textum_core::plan::select_stages;
use textum_core::receipt::{RunStageState, RunState};
use textum_core::workspace::Project;

use super::{by_whom, here, variables};
use crate::args::{Format, Global};
use crate::failure::{Failure, INTERRUPTED, UNSUCCESSFUL};
use crate::render;
use crate::ui::{Ui, catch_interrupts};

/// Lines of a failed stage's log that are shown.
const LAST_LINES: usize = 20;

/// What `textum run` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum run                      what the plan says\n  textum run fit                  only fit and what it needs\n  textum run --set fit.rate=0.1   with one parameter changed, this once\n  textum run --force fit          execute fit although its result is recorded\n  textum run --sandbox            in a fresh folder that holds only what is declared"
)]
pub struct RunArgs {
    /// Only these stages and what they need
    #[arg(value_name = "STAGE", add = clap_complete::ArgValueCandidates::new(crate::complete::stages))]
    stages: Vec<String>,
    /// Give a parameter another value, this once; typed like the one in the manifest
    #[arg(long, value_name = "NAME=VALUE", add = clap_complete::ArgValueCandidates::new(crate::complete::params))]
    set: Vec<String>,
    /// Execute this stage although its result is recorded, and say whether it comes out the same
    #[arg(long, value_name = "STAGE", add = clap_complete::ArgValueCandidates::new(crate::complete::stages))]
    force: Vec<String>,
    /// Stages at once at most
    #[arg(short, long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..))]
    jobs: Option<u16>,
    /// Go on with stages that do not depend on a failed one
    #[arg(long)]
    keep_going: bool,
    /// Show what stages print
    #[arg(long)]
    echo: bool,
    /// Work in a fresh folder that holds only what stages declare
    #[arg(long)]
    sandbox: bool,
    /// A name for the run
    #[arg(long, value_name = "TEXT")]
    label: Option<String>,
    /// Words about the run
    #[arg(long, value_name = "TEXT")]
    note: Option<String>,
}

/// Runs.
pub fn run(global: &Global, args: &RunArgs, ui: &Ui) -> Result<u8, Failure> {
    ui.only(&[Format::Text, Format::Json])?;
    let mut project = Project::open_to_write(&here(global), variables())?;
    for set in &args.set {
        project.params.set(set)?;
        project.set.extend(set.split('=').next().map(str::to_string));
    }
    let options = RunOptions {
        stages: select_stages(&project, &args.stages)?,
        force: select_stages(&project, &args.force)?.into_iter().collect::<BTreeSet<_>>(),
        jobs: args.jobs.map(usize::from),
        keep_going: args.keep_going,
        echo: args.echo,
        sandbox: args.sandbox,
        label: args.label.clone(),
        note: args.note.clone(),
        arguments: std::env::args().skip(1).collect(),
        by: by_whom(),
    };
    let cancel = catch_interrupts();
    let outcome = {
        let events = ui.events();
        execute(&mut project, &options, &*events, cancel)?
    };
    for stage in &outcome.stages {
        let shown = |digest: Option<textum_core::store::Digest>| digest.map_or("–".to_string(), |d| d.to_string());
        let receipt = stage.execution.as_ref().map(|e| e.receipt);
        ui.say_more(&format!("  {}  key {}  receipt {}", stage.stage, shown(stage.key), shown(receipt)));
    }
    if ui.format == Format::Json {
        ui.json(&render::run::json(&outcome));
    } else {
        show_failures(&project, &outcome, ui);
        ui.result(&render::run::text(&outcome, &ui.style));
    }
    Ok(match outcome.state {
        RunState::Done => 0,
        RunState::Stopped => INTERRUPTED,
        RunState::Failed | RunState::Interrupted => UNSUCCESSFUL,
    })
}

/// The last lines of failed stages, with why and how they ended.
fn show_failures(project: &Project, outcome: &RunOutcome, ui: &Ui) {
    for stage in outcome.stages.iter().filter(|s| s.state == RunStageState::Failed) {
        let Some(execution) = &stage.execution else { continue };
        let log = execution.log.and_then(|d| project.store.read(&d).ok()).unwrap_or_default();
        let text = String::from_utf8_lossy(&log).into_owned();
        let lines: Vec<&str> = text.lines().collect();
        let from = lines.len().saturating_sub(LAST_LINES);
        let style = &ui.err_style;
        let reason = execution.reason.as_deref().unwrap_or_default();
        ui.say(&format!("\n{} {reason}", style.bad(&format!("{} failed:", stage.stage))));
        for line in &lines[from..] {
            ui.say(&format!("  {} {line}", style.dim("│")));
        }
        let run = outcome.run.as_deref().and_then(|r| r.rsplit('-').next()).unwrap_or("last");
        ui.say(&format!("{} textum show {run} --log {} shows all it printed\n", style.accent("next:"), stage.stage));
    }
}
