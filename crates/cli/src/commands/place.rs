//! `textum place`: where stages execute.

use std::collections::BTreeMap;
use std::ffi::OsString;
use std::io::{Read, Write};
use std::path::Path;
use std::process::ExitCode;

use clap::{Args, Subcommand};
use textum_core::config::graph::StageIndex;
use textum_core::config::manifest::{THIS_MACHINE, nearest};
use textum_core::pipeline::executor::{PlaceCheck, Released, check_place, held_machines, release_machine};
use textum_core::pipeline::plan::select_stages;
use textum_core::project::observed::execute_observed;
use textum_core::project::workspace::Project;

use super::{here, variables};
use crate::args::{Format, Global};
use crate::failure::{Failure, NOT_THERE, UNSUCCESSFUL};
use crate::render;
use crate::ui::Ui;

/// On a machine where stages work: puts what one reads in its place, out of a depot, by an order on standard input. It is asked
/// by another Textum, which hears on standard error what failed.
pub fn put_what_a_stage_reads() -> ExitCode {
    let mut order = Vec::new();
    let read = std::io::stdin().read_to_end(&mut order).map_err(|e| e.to_string());
    match read.and_then(|_| textum_core::project::way::put_what_a_stage_reads(&order)) {
        Ok(()) => ExitCode::SUCCESS,
        Err(why) => {
            let _ = writeln!(std::io::stderr(), "{why}");
            ExitCode::from(UNSUCCESSFUL)
        }
    }
}

/// Exit status of a stage that could not be executed as it was ordered.
const NOT_EXECUTED: u8 = 125;

/// On a machine where stages work: executes one under the tracer that this program is, by an order in a file. What is wrong with
/// that goes where the stage's own words go.
pub fn execute_a_stage_observed() -> ExitCode {
    let words: Vec<OsString> = std::env::args_os().skip(2).collect();
    let ended = match words.as_slice() {
        [order, record, command @ ..] => execute_observed(Path::new(order), Path::new(record), command),
        _ => Err("an order, a record and a command are needed".to_string()),
    };
    ended.unwrap_or_else(|why| {
        let _ = writeln!(std::io::stderr(), "{why}");
        ExitCode::from(NOT_EXECUTED)
    })
}

/// What `textum place` takes.
#[derive(Debug, Args)]
pub struct PlaceArgs {
    #[command(subcommand)]
    command: Option<PlaceCommand>,
}

/// What can be asked of places.
#[derive(Debug, Subcommand)]
enum PlaceCommand {
    /// The places of the manifest, and the stages that are to execute there
    List,
    /// Whether a place can be used: its engine, the shared folder, its clock, and what a trivial job takes; a machine that is rented is rented for it
    #[command(after_help = "Examples:\n  textum place check            all places\n  textum place check cluster    one")]
    Check {
        /// A place of the manifest; without one, all
        #[arg(value_name = "PLACE")]
        name: Option<String>,
    },
    /// Give back machines that were rented and are still held
    #[command(
        after_help = "Examples:\n  textum place release        all that are held\n  textum place release box    that of one place"
    )]
    Release {
        /// A place of the manifest, or one that was; without one, all
        #[arg(value_name = "PLACE")]
        name: Option<String>,
    },
}

/// Where all stages execute and where single ones do, as it is said on the command line.
pub fn chosen(project: &Project, said: &[String]) -> Result<(Option<String>, BTreeMap<StageIndex, String>), Failure> {
    let (mut all, mut single) = (None, BTreeMap::new());
    for text in said {
        let (stage, place) = match text.split_once('=') {
            Some((stage, place)) => (Some(stage), place),
            None => (None, text.as_str()),
        };
        known(project, place)?;
        match stage {
            Some(stage) => {
                let stages = select_stages(project, &[stage.to_string()])?;
                single.extend(stages.into_iter().map(|index| (index, place.to_string())));
            }
            None => all = Some(place.to_string()),
        }
    }
    Ok((all, single))
}

fn known(project: &Project, name: &str) -> Result<(), Failure> {
    let names = || project.manifest.places.iter().map(|p| p.name.as_str()).chain([THIS_MACHINE]);
    if names().any(|n| n == name) {
        return Ok(());
    }
    let help = match nearest(name, names()) {
        Some(near) => format!("did you mean `{near}`?"),
        None => format!("declare it in textum.toml: [place.{name}] with `kind = \"slurm\"`; `local` is this machine"),
    };
    Err(Failure::new(NOT_THERE, format!("there is no place `{name}`"), help))
}

/// Gives machines back.
fn release(project: &Project, name: Option<&str>, ui: &Ui) -> Result<u8, Failure> {
    let state = project.workspace.state();
    let held = held_machines(&state);
    if let Some(name) = name.filter(|name| held.iter().all(|h| h.place != *name)) {
        known(project, name)?;
    }
    let wanted = held.iter().filter(|h| name.is_none_or(|n| n == h.place));
    let ends: Vec<_> = wanted.map(|h| (h.clone(), release_machine(&state, &h.place))).collect();
    match ui.format {
        Format::Json => ui.json(&render::place::release_json(&ends)),
        _ => ui.result(&render::place::release(&ends, &ui.style)),
    }
    Ok(if ends.iter().all(|(_, end)| matches!(end, Ok(Released::GivenBack(_)))) { 0 } else { UNSUCCESSFUL })
}

/// Looks at places.
pub fn run(global: &Global, args: &PlaceArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = Project::open(&here(global), variables())?;
    match args.command.as_ref().unwrap_or(&PlaceCommand::List) {
        PlaceCommand::List => {
            let held = held_machines(&project.workspace.state());
            match ui.format {
                Format::Json => ui.json(&render::place::list_json(&project.manifest, &held)),
                _ => ui.result(&render::place::list(&project.manifest, &held, &ui.style)),
            }
            Ok(0)
        }
        PlaceCommand::Release { name } => release(&project, name.as_deref(), ui),
        PlaceCommand::Check { name } => {
            if let Some(name) = name {
                known(&project, name)?;
            }
            let wanted = project.manifest.places.iter().filter(|p| name.as_ref().is_none_or(|n| *n == p.name));
            let checked: Vec<(String, PlaceCheck)> =
                wanted.map(|decl| Ok((decl.name.clone(), check_place(&project, decl)?))).collect::<Result<_, Failure>>()?;
            match ui.format {
                Format::Json => ui.json(&render::place::check_json(&checked)),
                _ => ui.result(&render::place::check(&checked, &ui.style)),
            }
            Ok(if checked.iter().all(|(_, check)| check.is_fine()) { 0 } else { UNSUCCESSFUL })
        }
    }
}
