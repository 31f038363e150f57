//! `textum stop`.

use std::time::{Duration, Instant};

use clap::Args;
use textum_core::pipeline::exec::{ask_to_stop, end_unattended, is_at_work, live_runs, unattended_runs};
use textum_core::project::workspace::Project;
use textum_core::share::{remote_runs, stop_remote};

use super::{by_whom, here, variables};
use crate::args::{Format, Global};
use crate::failure::{Failure, NOT_THERE, UNSUCCESSFUL, USAGE};
use crate::ui::Ui;

/// What `textum stop` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum stop              the only run at work\n  textum stop 7f3a         this one, if several are\n  textum stop --now        end its stages at once, without letting them finish by themselves\n  textum stop 7f3a --depot team   a run on another machine\n\nSteps and checkpoints stay; `textum resume` goes on from the last checkpoint."
)]
pub struct StopArgs {
    /// The run; may be left out when only one is at work
    #[arg(value_name = "RUN", add = clap_complete::ArgValueCandidates::new(crate::complete::runs))]
    run: Option<String>,
    /// Do not let its stages end by themselves
    #[arg(long)]
    now: bool,
    /// Why, for the record
    #[arg(long, value_name = "TEXT")]
    because: Option<String>,
    /// A run at work elsewhere, by way of this depot
    #[arg(long, value_name = "NAME")]
    depot: Option<String>,
}

/// Stops.
pub fn run(global: &Global, args: &StopArgs, ui: &Ui) -> Result<u8, Failure> {
    if let Some(depot) = &args.depot {
        return elsewhere(global, args, depot, ui);
    }
    let project = Project::open(&here(global), variables())?;
    let runs = project.workspace.runs_folder();
    let at_work = live_runs(&runs);
    if let Some(run) = unattended(&project, args.run.as_deref(), &at_work)? {
        return end_jobs(global, &run, ui);
    }
    let run = match (&args.run, at_work.as_slice()) {
        (_, []) => return Err(Failure::new(NOT_THERE, "no run is at work", "`textum runs` lists those that have ended")),
        (None, [only]) => only.clone(),
        (None, several) => {
            let help = format!("name one: {}", several.join(", "));
            return Err(Failure::new(USAGE, format!("{} runs are at work", several.len()), help));
        }
        (Some(name), _) => super::live_run(&project, name).ok_or_else(|| {
            let help = format!("at work: {}", at_work.join(", "));
            Failure::new(NOT_THERE, format!("no run `{name}` is at work"), help)
        })?,
    };
    let because = args.because.as_ref().map(|b| format!(": {b}")).unwrap_or_default();
    ask_to_stop(&runs, &run, &format!("it was stopped by {}{because}", by_whom()), args.now)?;
    let begun = Instant::now();
    while is_at_work(&runs, &run) {
        if begun.elapsed() > Duration::from_secs(20) {
            let help = "`textum stop --now` ends its stages at once";
            return Err(Failure::new(UNSUCCESSFUL, format!("{run} was asked to stop, but is still at work"), help));
        }
        std::thread::sleep(Duration::from_millis(30));
    }
    match ui.format {
        Format::Json => ui.json(&serde_json::json!({"run": run, "stopped": true})),
        _ => ui.result(&format!("{run} is stopped: textum resume {} goes on with it", run.rsplit('-').next().unwrap_or_default())),
    }
    Ok(0)
}

/// The run that is meant, if it was cut off and left jobs at a place.
fn unattended(project: &Project, name: Option<&str>, at_work: &[String]) -> Result<Option<String>, Failure> {
    let fits = |id: &String| match name {
        Some(name) => id == name || id.rsplit('-').next().is_some_and(|s| s.starts_with(name)),
        None => at_work.is_empty(),
    };
    let mut fitting = unattended_runs(project)?.into_iter().map(|run| run.draft.run).filter(fits);
    match (fitting.next(), fitting.next()) {
        (Some(first), Some(second)) => {
            let help = format!("name one: {first}, {second} …");
            Err(Failure::new(USAGE, "several runs that were cut off have jobs at places", help))
        }
        (one, _) => Ok(one),
    }
}

/// Ends the jobs of a run whose Textum is gone.
fn end_jobs(global: &Global, run: &str, ui: &Ui) -> Result<u8, Failure> {
    let project = super::open_to_write(global, ui)?;
    let ended = {
        let events = ui.events();
        end_unattended(&project, run, &*events)?
    };
    match ui.format {
        Format::Json => ui.json(&serde_json::json!({"run": run, "stopped": ended})),
        _ => {
            let short = run.rsplit('-').next().unwrap_or_default();
            ui.result(&format!("{run} is stopped: textum resume {short} goes on with it"));
        }
    }
    Ok(if ended { 0 } else { UNSUCCESSFUL })
}

/// Asks a run on another machine to stop, and waits until nothing is told of it any more.
fn elsewhere(global: &Global, args: &StopArgs, name: &str, ui: &Ui) -> Result<u8, Failure> {
    let project = super::open_to_share(global, ui)?;
    let depot = project.depots.open(Some(name))?;
    let run = super::remote_run(&project, &depot, args.run.as_deref())?.state.run;
    let because = args.because.as_ref().map(|b| format!(": {b}")).unwrap_or_default();
    stop_remote(&depot, &run, &format!("it was stopped by {}{because}", by_whom()), args.now)?;
    let begun = Instant::now();
    while remote_runs(&depot, &project.manifest.name)?.iter().any(|r| r.state.run == run) {
        if begun.elapsed() > Duration::from_secs(60) {
            let help = "its machine may be gone, or its stages take their time: `textum stop --now` ends them at once";
            return Err(Failure::new(UNSUCCESSFUL, format!("{run} was asked to stop, and still tells of itself"), help));
        }
        std::thread::sleep(Duration::from_millis(500));
    }
    match ui.format {
        Format::Json => ui.json(&serde_json::json!({"run": run, "stopped": true})),
        _ => ui.result(&format!("{run} is stopped")),
    }
    Ok(0)
}
