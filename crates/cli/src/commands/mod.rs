//! One file a command: its arguments, and `run`: open, ask the core, render.

pub mod adopt;
pub mod compare;
pub mod data;
pub mod demo;
pub mod draft;
pub mod emit;
pub mod follow;
pub mod new;
pub mod plan;
pub mod plot;
pub mod prune;
pub mod rebuild;
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
pub mod trace;
pub mod verify;

use std::path::PathBuf;

use textum_base::Identity;
use textum_core::pipeline::exec::close_interrupted;
use textum_core::project::workspace::{Project, Workspace};
use textum_core::record::ledger::CheckpointRow;

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
    if has_state {
        let events = ui.events();
        let style = &ui.err_style;
        match close_interrupted(&mut project, &*events) {
            // To look is no matter of room; whoever comes when there is some closes it.
            Err(e) if e.is_full() => {
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

/// The checkpoint that `RUN#STEP`, `RUN#last`, `RUN#best:METRIC` or `RUN:STAGE#STEP` names.
pub fn checkpoint(project: &Project, name: &str) -> Result<CheckpointRow, Failure> {
    let Some((run, which)) = name.split_once('#') else {
        let help = "write RUN#STEP, as in 7f3a#4, or 7f3a#last; `textum runs --steps RUN` lists the checkpoints of a run";
        return Err(Failure::new(USAGE, format!("`{name}` names no checkpoint"), help));
    };
    let (run, stage) = match run.rsplit_once(':') {
        // `best:auc` has a colon of its own.
        Some(("best", _)) | None => (run, None),
        Some((run, stage)) => (run, Some(stage)),
    };
    let directions = &project.manifest.metrics;
    // A run at work has made checkpoints before it is in the ledger.
    let id = match project.ledger.resolve_run(run, directions) {
        Ok(id) => id,
        Err(e) => live_run(project, run).ok_or(e)?,
    };
    Ok(project.ledger.checkpoint(&id, stage, which, directions)?)
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
