//! `textum follow`.

use std::io::IsTerminal;
use std::time::{Duration, Instant};

use clap::Args;
use textum_core::event::Event;
use textum_core::inspect::follow::{Follower, ViewState};
use textum_core::pipeline::exec::{ask_to_stop, live_runs};
use textum_core::project::workspace::Project;
use textum_core::record::ledger::NameError;
use textum_core::record::receipt::{RunReceipt, StageReceipt};
use textum_core::share::{RemoteFollow, stop_remote};

use super::{by_whom, here, variables};
use crate::args::Global;
use crate::failure::{Failure, NOT_THERE, USAGE};
use crate::render;
use crate::ui::{Ui, watch};

/// How often it looks without a terminal.
const LOOK: Duration = Duration::from_millis(250);
/// How often a running stage has a line without a terminal.
const STILL: Duration = Duration::from_secs(10);

/// What `textum follow` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum follow            the run at work\n  textum follow 7f3a       this one, if several are\n  textum follow | tee f    without a terminal: a line for each thing that happens\n  textum follow --depot team   a run at work on another machine\n\nKeys: up and down choose a stage, m another metric, l the log alone, s stops the run (it asks first), q quits.\nQuitting never ends the run."
)]
pub struct FollowArgs {
    /// The run; may be left out when only one is at work
    #[arg(value_name = "RUN", add = clap_complete::ArgValueCandidates::new(crate::complete::runs))]
    run: Option<String>,
    /// Lines instead of a view, also on a terminal
    #[arg(long)]
    plain: bool,
    /// A run at work elsewhere, as this depot has heard of it
    #[arg(long, value_name = "NAME")]
    depot: Option<String>,
}

/// Follows.
pub fn run(global: &Global, args: &FollowArgs, ui: &Ui) -> Result<u8, Failure> {
    if let Some(depot) = &args.depot {
        return elsewhere(global, args, depot, ui);
    }
    let project = Project::open(&here(global), variables())?;
    let runs = project.workspace.runs_folder();
    let at_work = live_runs(&runs);
    let run = match (&args.run, at_work.as_slice()) {
        (None, [only]) => only.clone(),
        (None, []) => {
            let help = "`textum run` begins one; `textum show last` shows the last that ended";
            return Err(Failure::new(NOT_THERE, "no run is at work", help));
        }
        (None, several) => {
            let help = format!("name one: {}", several.join(", "));
            return Err(Failure::new(USAGE, format!("{} runs are at work", several.len()), help));
        }
        (Some(name), _) => match super::live_run(&project, name) {
            Some(run) => run,
            None => return ended(&project, name, ui),
        },
    };
    let Some(mut follower) = Follower::new(&runs, &run) else { return ended(&project, &run, ui) };
    if args.plain || !std::io::stdout().is_terminal() || !std::io::stdin().is_terminal() {
        let told = lines(&mut follower, ui);
        rest(&Project::open(&here(global), variables())?, &run, &told, ui)?;
    } else {
        let name = project.manifest.name.clone();
        let stop =
            |follower: &Follower| drop(ask_to_stop(&runs, &follower.run, &format!("it was stopped by {}", by_whom()), false));
        let ended = |follower: &Follower| {
            let project = Project::open(&here(global), variables()).ok()?;
            let row = project.ledger.run(&follower.run).ok()??;
            RunReceipt::load(&project.store, &row.receipt).ok()
        };
        watch::watch(&mut follower, &name, &project.manifest.metrics, &stop, &ended)
            .map_err(|e| Failure::new(crate::failure::DAMAGE, format!("the terminal cannot be used: {e}"), "use --plain"))?;
        if follower.at_work {
            ui.say(&format!("{run} goes on; textum follow {} looks again", run.rsplit('-').next().unwrap_or_default()));
            return Ok(0);
        }
    }
    ended(&Project::open(&here(global), variables())?, &run, ui)
}

/// Follows a run at work elsewhere.
fn elsewhere(global: &Global, args: &FollowArgs, name: &str, ui: &Ui) -> Result<u8, Failure> {
    let project = super::open_to_share(global, ui)?;
    let depot = project.depots.open(Some(name))?;
    let found = super::remote_run(&project, &depot, args.run.as_deref())?;
    let run = found.state.run.clone();
    let Some(mut followed) = RemoteFollow::begin(depot.clone(), &run)? else {
        return Err(Failure::new(
            NOT_THERE,
            format!("{name} tells nothing more of {run}"),
            "it has ended: `textum sync` brings its receipt",
        ));
    };
    let follower = &mut followed.follower;
    if args.plain || !std::io::stdout().is_terminal() || !std::io::stdin().is_terminal() {
        lines(follower, ui);
    } else {
        let why = format!("it was stopped by {}", by_whom());
        let stop = |follower: &Follower| drop(stop_remote(&depot, &follower.run, &why, false));
        watch::watch(follower, &project.manifest.name, &project.manifest.metrics, &stop, &|_| None)
            .map_err(|e| Failure::new(crate::failure::DAMAGE, format!("the terminal cannot be used: {e}"), "use --plain"))?;
    }
    match follower.at_work {
        true => ui.say(&format!(
            "{run} goes on; textum follow {} --depot {name} looks again",
            run.rsplit('-').next().unwrap_or_default()
        )),
        false => {
            ui.say(&format!("{run} has ended, or tells nothing more; `textum sync {name}` brings its receipt once it is sent"))
        }
    }
    Ok(0)
}

/// Says how a run ended that is not at work any more.
fn ended(project: &Project, name: &str, ui: &Ui) -> Result<u8, Failure> {
    let id = project.ledger.resolve_run(name, &project.manifest.metrics)?;
    let row = project.ledger.run(&id)?.ok_or(NameError::NoRuns)?;
    let metrics: Vec<String> = row.metrics.iter().map(|(n, v)| format!("{n} {}", render::text::metric(v))).collect();
    let word = if row.state == "done" { ui.style.good(&row.state) } else { ui.style.bad(&row.state) };
    ui.result(&format!(
        "{} {id}  {word} in {}  {}",
        ui.style.bold("run"),
        render::text::seconds(row.seconds),
        render::text::some(&metrics, 8)
    ));
    Ok(0)
}

/// The stages that ended between the last look and the end of the run.
fn rest(project: &Project, run: &str, told: &[String], ui: &Ui) -> Result<(), Failure> {
    let Some(row) = project.ledger.run(run)? else { return Ok(()) };
    for stage in RunReceipt::load(&project.store, &row.receipt)?.stages.iter().filter(|s| !told.contains(&s.stage)) {
        let reason = stage.receipt.map(|r| StageReceipt::load(&project.store, &r)).transpose()?.and_then(|r| r.reason);
        let settled = Event::StageSettled { stage: stage.stage.clone(), state: stage.state, seconds: stage.seconds, reason };
        ui.result(&render::events::line(&settled, &ui.style).unwrap_or_default());
    }
    Ok(())
}

/// A line for each thing that has happened and happens, until the run has ended; gives the stages that were
/// told to have ended.
fn lines(follower: &mut Follower, ui: &Ui) -> Vec<String> {
    let mut said: Option<Instant> = None;
    let mut told = Vec::new();
    let mut events = std::mem::take(&mut follower.earlier);
    loop {
        for event in &events {
            if let Event::StageSettled { stage, .. } = event {
                told.push(stage.clone());
            }
            if let Some(line) = render::events::line(event, &ui.style) {
                ui.result(&line);
            }
        }
        if !follower.at_work {
            return told;
        }
        if said.is_none_or(|t| t.elapsed() >= STILL) {
            said = Some(Instant::now());
            let now = textum_base::clock::now();
            for stage in follower.stages.iter().filter(|s| s.state == ViewState::Running) {
                ui.result(&render::follow::line(follower, stage, now));
            }
        }
        std::thread::sleep(LOOK);
        events = follower.look();
    }
}
