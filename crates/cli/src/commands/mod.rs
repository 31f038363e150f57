//! One file a command: its arguments, and `run`: open, ask the core, render.

pub mod adopt;
pub mod alias;
pub mod background;
pub mod card;
pub mod compare;
pub mod data;
pub mod demo;
pub mod depot;
pub mod draft;
pub mod emit;
pub mod fetch;
pub mod follow;
pub mod impact;
pub mod new;
pub mod place;
pub mod plan;
pub mod plot;
pub mod prune;
pub mod publish;
pub mod rebuild;
pub mod registry;
pub mod remark;
pub mod report;
mod repository;
pub mod restore;
pub mod resume;
pub mod run;
pub mod runs;
pub mod shell;
pub mod show;
pub mod stats;
pub mod stop;
pub mod sweep;
pub mod sync;
pub mod trace;
pub mod verify;

use std::collections::BTreeSet;
use std::path::PathBuf;

use textum_base::Identity;
use textum_core::depot::Depot;
use textum_core::erase::{finish, pending, unfollowed};
use textum_core::pipeline::exec::{close_interrupted, live_runs, unattended_runs};
use textum_core::pipeline::executor::held_machines;
use textum_core::project::workspace::{Project, Workspace};
use textum_core::record::ledger::{CheckpointRow, Erasure, run_and_stage};
use textum_core::record::receipt::TreeReceipt;
use textum_core::share::{RemoteRun, remote_runs};

use crate::args::Global;
use crate::failure::{Failure, USAGE};
use crate::render::data::Versions;
use crate::ui::Ui;

/// The folder that the command works in.
pub fn here(global: &Global) -> PathBuf {
    global.directory.clone().unwrap_or_else(|| PathBuf::from("."))
}

/// This process's environment variables, those that are UTF-8.
pub fn variables() -> Vec<(String, String)> {
    textum_base::environment::variables()
}

/// Who runs this, and where.
pub fn by_whom() -> Identity {
    Identity::here()
}

/// Opens the project to look at it. A run that was cut off is closed on the way.
pub fn open(global: &Global, ui: &Ui) -> Result<Project, Failure> {
    let folder = here(global);
    let has_state = Workspace::find(&folder)?.state().is_dir();
    let mut project = Project::open(&folder, variables())?;
    ui.remember(&project.depots);
    if has_state {
        finish_erasing(&mut project, ui)?;
        receive_what_is_committed(&project, ui)?;
        let events = ui.events();
        let style = &ui.err_style;
        match close_interrupted(&mut project, &*events) {
            // To look is no matter of room, nor of a cluster; whoever comes when there is some closes it.
            Err(e) if e.is_circumstance() => {
                ui.say(&format!("{} a run that was cut off could not be recorded as that yet: {e}", style.bad("note:")));
            }
            other => drop(other?),
        }
        let unreadable = project.ledger.unreadable()?.len() as u64;
        if unreadable > 0 {
            let count = crate::render::text::counted(unreadable, "document");
            ui.say(&format!(
                "{} {count} of the store cannot be read and are left out: `textum verify` names them",
                style.bad("note:")
            ));
        }
    }
    Ok(project)
}

/// Opens the project for work that is recorded: makes Textum's folder if there is none.
pub fn open_to_write(global: &Global, ui: &Ui) -> Result<Project, Failure> {
    let mut project = Project::open_to_write(&here(global), variables())?;
    finish_erasing(&mut project, ui)?;
    Ok(project)
}

/// Finishes an erasing that was cut off, and tells of what is not erased everywhere yet.
pub fn finish_erasing(project: &mut Project, ui: &Ui) -> Result<(), Failure> {
    let style = &ui.err_style;
    match finish(project) {
        Ok(false) => {}
        Ok(true) => ui.insist(&format!("{} an erasing that was cut off was finished", style.bad("note:"))),
        // Whoever comes when there is room, or has the right, finishes it.
        Err(e) if e.is_circumstance() => {
            ui.insist(&format!("{} an erasing was cut off and is not finished yet: {e}", style.bad("note:")));
        }
        Err(e) => return Err(e.into()),
    }
    for depot in pending(project).keys() {
        let what = format!("the depot {depot} still has what was erased here: `textum data erase --pending`");
        ui.say(&format!("{} {what}", style.bad("note:")));
    }
    let theirs = unfollowed(project)?;
    if !theirs.is_empty() {
        let what = format!("others have erased {}, and it is still here", erasures(&theirs));
        ui.say(&format!("{} {what}: `textum data erase --pending`", style.bad("note:")));
    }
    Ok(())
}

fn erasures(all: &[Erasure]) -> String {
    let mut datasets: Vec<String> = all.iter().map(|e| format!("rows of {}", e.dataset)).collect();
    datasets.sort();
    datasets.dedup();
    crate::ui::escape::line(&crate::render::text::some(&datasets, 4))
}

/// Opens the project for an exchange with depots: makes Textum's folder if there is none, and lets Ctrl-C end the exchange
/// in good order.
pub fn open_to_share(global: &Global, ui: &Ui) -> Result<Project, Failure> {
    drop(Project::open_to_write(&here(global), variables())?);
    let project = open(global, ui)?;
    crate::ui::interrupt_too(project.depots.interrupt());
    Ok(project)
}

/// The run at work elsewhere that a name stands for, of those that a depot has heard of.
pub fn remote_run(project: &Project, depot: &Depot, name: Option<&str>) -> Result<RemoteRun, Failure> {
    let mut found = remote_runs(depot, &project.manifest.name)?;
    let fits = |run: &RemoteRun| {
        name.is_none_or(|n| run.state.run == n || run.state.run.rsplit('-').next().is_some_and(|s| s.starts_with(n)))
    };
    found.retain(fits);
    match found.len() {
        1 => Ok(found.remove(0)),
        0 => {
            let what = match name {
                Some(name) => format!("{} has heard of no run `{name}` at work", depot.name()),
                None => format!("{} has heard of no run at work", depot.name()),
            };
            let help = "`textum runs --live` lists them; runs tell a depot of themselves where it has `live = true`";
            Err(Failure::new(crate::failure::NOT_THERE, what, help))
        }
        n => {
            let names: Vec<String> = found.iter().map(|r| r.state.run.clone()).collect();
            Err(Failure::new(USAGE, format!("{n} runs are at work: {}", names.join(", ")), "name one"))
        }
    }
}

/// In a clone the committed receipt speaks of runs of others: their receipts are taken in before anything is asked of them.
fn receive_what_is_committed(project: &Project, ui: &Ui) -> Result<(), Failure> {
    if project.manifest.depots.is_empty() {
        return Ok(());
    }
    let Ok(Some(tree)) = TreeReceipt::load(project.workspace.root()) else { return Ok(()) };
    let runs = tree.run.iter().chain(tree.stages.values().map(|s| &s.run));
    for run in runs {
        if project.ledger.run(run)?.is_none() {
            receive_receipts(project, ui);
            break;
        }
    }
    Ok(())
}

/// Opens the project to bring content into it, which may come from depots: makes Textum's folder if there is none and depots
/// are declared.
pub fn open_to_bring(global: &Global, ui: &Ui) -> Result<Project, Failure> {
    let project = Project::open(&here(global), variables())?;
    if !project.manifest.depots.is_empty() {
        project.workspace.create_state()?;
    }
    drop(project);
    open(global, ui)
}

/// Takes in what depots know that is not known here, before it is decided what to execute. One that cannot be asked now is
/// told of, and work goes on without.
pub fn receive_receipts(project: &Project, ui: &Ui) {
    ui.remember(&project.depots);
    for decl in &project.manifest.depots {
        let received = project.depots.open(Some(&decl.name)).map_err(Failure::from).and_then(|depot| {
            depot.refresh().map_err(Failure::from)?;
            Ok(textum_core::share::receive(project, &depot)?)
        });
        match received {
            Ok((_, runs, _)) if !runs.is_empty() => {
                let count = crate::render::text::counted(runs.len() as u64, "run");
                ui.say(&ui.err_style.dim(&format!("{count} of others came from {}", decl.name)));
            }
            Ok(_) => {}
            Err(e) => {
                let note = ui.err_style.bad("note:");
                ui.say(&format!("{note} the depot {} was not asked for results: {}", decl.name, e.message));
            }
        }
    }
}

/// The checkpoint that `RUN#STEP`, `RUN#last`, `RUN#best:METRIC` or `RUN:STAGE#STEP` names.
pub fn checkpoint(project: &Project, name: &str) -> Result<CheckpointRow, Failure> {
    let Some((run, which)) = name.split_once('#') else {
        let help = "write RUN#STEP, as in 7f3a#4, or 7f3a#last; `textum runs --steps RUN` lists the checkpoints of a run";
        return Err(Failure::new(USAGE, format!("`{name}` names no checkpoint"), help));
    };
    let (run, stage) = run_and_stage(run);
    let directions = &project.manifest.metrics;
    // A run at work has made checkpoints before it is in the ledger.
    let id = match project.ledger.resolve_run(run, directions) {
        Ok(id) => id,
        Err(e) => live_run(project, run).ok_or(e)?,
    };
    Ok(project.ledger.checkpoint(&id, stage, which, directions)?)
}

/// Tells of jobs at places that nobody attends to, and what can be done about them.
pub fn tell_unattended(project: &Project, ui: &Ui) -> Result<(), Failure> {
    let state = project.workspace.state();
    if live_runs(&project.workspace.runs_folder()).is_empty() {
        for machine in held_machines(&state) {
            let long = crate::render::text::seconds(machine.held_for().as_secs_f64());
            ui.say(&format!("the machine of {} is held, for {long} now: textum place release gives it back", machine.place));
        }
    }
    for run in unattended_runs(project)? {
        let stages: Vec<String> = run.jobs.iter().map(|job| job.stage.clone()).collect();
        let places: BTreeSet<String> = run.jobs.iter().filter_map(|job| job.place.clone()).collect();
        let places: Vec<String> = places.into_iter().collect();
        let short = run.draft.run.rsplit('-').next().unwrap_or_default();
        ui.say(&format!(
            "{} was cut off and left {} at {}: textum resume {short} takes it up, textum stop {short} ends it",
            run.draft.run,
            crate::render::text::some(&stages, 4),
            crate::render::text::some(&places, 4),
        ));
    }
    Ok(())
}

/// The run at work whose id ends so.
pub fn live_run(project: &Project, name: &str) -> Option<String> {
    let all = textum_core::pipeline::exec::live_runs(&project.workspace.runs_folder());
    let mut fitting = all.into_iter().filter(|id| id == name || id.rsplit('-').next().is_some_and(|s| s.starts_with(name)));
    fitting.next().filter(|_| fitting.next().is_none())
}

/// All versions of all datasets, by name and content.
pub fn versions_by_content(project: &Project) -> Result<Versions, Failure> {
    let mut found = Versions::new();
    for name in project.ledger.dataset_names()? {
        for version in textum_core::data::versions(&project.ledger, &name)? {
            found.insert((name.clone(), version.content.digest), version);
        }
    }
    Ok(found)
}
