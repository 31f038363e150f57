//! One file a command: its arguments, and `run`: open, ask the core, render.

pub mod data;
pub mod demo;
pub mod new;
pub mod plan;
pub mod prune;
pub mod rebuild;
pub mod restore;
pub mod run;
pub mod runs;
pub mod shell;
pub mod show;
pub mod stats;
pub mod trace;
pub mod verify;

use std::path::PathBuf;

use textum_core::exec::close_interrupted;
use textum_core::workspace::{Project, Workspace};

use crate::args::Global;
use crate::failure::Failure;
use crate::render::data::Versions;
use crate::ui::Ui;

/// The folder that the command works in.
pub fn here(global: &Global) -> PathBuf {
    global.directory.clone().unwrap_or_else(|| PathBuf::from("."))
}

/// This process's environment variables, those that are UTF-8.
pub fn variables() -> Vec<(String, String)> {
    std::env::vars_os().filter_map(|(k, v)| Some((k.into_string().ok()?, v.into_string().ok()?))).collect()
}

/// Who runs this, and where.
pub fn by_whom() -> String {
    let user = std::env::var("USER").or_else(|_| std::env::var("LOGNAME")).unwrap_or_else(|_| "somebody".into());
    format!("{user}@{}", textum_core::fingerprint::host())
}

/// Opens the project to look at it. A run that was cut off is closed on the way.
pub fn open(global: &Global, ui: &Ui) -> Result<Project, Failure> {
    let folder = here(global);
    let has_state = Workspace::find(&folder)?.state().is_dir();
    let mut project = Project::open(&folder, variables())?;
    if has_state {
        let events = ui.events();
        close_interrupted(&mut project, &*events)?;
    }
    Ok(project)
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
