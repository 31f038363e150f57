//! Whether a place can be used: by a trivial job that does what stages need.

use std::path::Path;
use std::time::{Duration, Instant};

use serde::Serialize;

use super::batch::{BatchExecutor, SEEN_AWAY};
use super::places::way_of;
use super::{Cancel, Executor, Job, JobCommand};
use crate::config::manifest::{Needs, PlaceDecl};
use crate::fsio::{self, IoError};
use crate::project::observed::{AwayOrder, read_seen_away};
use crate::project::workspace::Project;
use crate::record::receipt::Exit;

/// A clock that is further off than this is a fault, in seconds: what was written when could not be told.
const SKEW: f64 = 30.0;
/// So long the trivial job may take, waiting for room among them.
const LONGEST: Duration = Duration::from_secs(120);

/// What was found of a place.
#[derive(Clone, Debug, Default, Serialize)]
pub struct PlaceCheck {
    /// Its engine and the version of it.
    pub engine: Option<String>,
    /// What it offers, a line for each partition.
    pub partitions: Vec<String>,
    /// Where the trivial job was.
    pub node: Option<String>,
    /// What it took from its submission to its known end, in seconds.
    pub seconds: Option<f64>,
    /// By how much the clock there is ahead of the one here, in seconds.
    pub skew: Option<f64>,
    /// The version of this program there, which observes and seals stages.
    pub textum: Option<String>,
    /// Of a place that shares no folder: whether stages are observed there.
    pub observes: Option<bool>,
    /// Why not, if they are not.
    pub because: Option<String>,
    /// Of such a place: whether stages can be sealed there.
    pub seals: Option<bool>,
    /// What is in the way.
    pub faults: Vec<String>,
}

impl PlaceCheck {
    /// Whether nothing is in the way.
    pub fn is_fine(&self) -> bool {
        self.faults.is_empty()
    }
}

/// Looks whether stages could execute at a place. An error is of this machine; what is amiss with the place is told.
pub fn check_place(project: &Project, decl: &PlaceDecl) -> Result<PlaceCheck, IoError> {
    let mut found = PlaceCheck::default();
    // A rented machine stands in the project's own files.
    let own_files = project.workspace.state();
    let place = match decl.shares_folder() {
        true => BatchExecutor::of(decl, None),
        false => BatchExecutor::with_way(decl, Some(&own_files), way_of(project, decl)),
    };
    match place.describe() {
        Ok((version, partitions)) => (found.engine, found.partitions) = (Some(version), partitions),
        Err(e) => {
            found.faults.push(format!("its engine cannot be asked: {e}"));
            return Ok(found);
        }
    }
    let state = project.workspace.state();
    fsio::create_folder(&state)?;
    let folder = fsio::part_folder(&state)?;
    let token = format!("{:016x}", rand::random::<u64>());
    fsio::write_derived(&folder.path().join("from-here"), token.as_bytes())?;
    let program = std::env::current_exe().map(|p| p.display().to_string()).unwrap_or_default();
    let text = format!(
        "cat from-here > from-there; date +%s.%N > clock; {} --version > program 2>/dev/null; true",
        crate::config::manifest::shell_word(&program)
    );
    let job = Job {
        command: JobCommand::Shell(text),
        folder: folder.path().to_path_buf(),
        variables: project.variables.iter().filter(|(name, _)| name == "PATH").cloned().collect(),
        log: folder.path().join("log"),
        needs: Needs { cpus: 1, memory: 0, gpus: 0, time: Some(60) },
        place: None,
        declared: Vec::new(),
        inputs: Vec::new(),
        outputs: ["from-there", "clock", "program"].map(String::from).to_vec(),
        checkpoints: None,
        away: (!decl.shares_folder()).then(AwayOrder::default),
    };
    let begun = Instant::now();
    let ended = place.submit(&job).and_then(|id| Ok((place.wait_at_most(&id, LONGEST)?, id)));
    let (exit, id) = match ended {
        Ok((Some(exit), id)) => (exit, id),
        Ok((None, id)) => {
            place.cancel(&id, Cancel::AtOnce)?;
            let says = place.engine_says(&id);
            found.faults.push(format!("a trivial job has not ended after {} s; the cluster says {says}", LONGEST.as_secs()));
            return Ok(found);
        }
        Err(e) => {
            found.faults.push(e.to_string());
            return Ok(found);
        }
    };
    let (record, why) = (place.record_of(&id), place.why(&id));
    found.seconds = Some(begun.elapsed().as_secs_f64());
    found.node = Some(record.host);
    let read = |name: &str| std::fs::read_to_string(folder.path().join(name)).unwrap_or_default().trim().to_string();
    if let Some(why) = why {
        found.faults.push(why.words);
    } else if exit != Exit::Code(0) {
        let names =
            std::fs::read_dir(folder.path()).into_iter().flatten().flatten().filter_map(|e| e.file_name().into_string().ok());
        let engine_says: Vec<String> = names.filter(|n| n.ends_with(".cluster.log")).map(|n| read(&n)).collect();
        let engine_says = engine_says.join("; ");
        found.faults.push(format!("a trivial job did not succeed there: {engine_says}"));
    }
    look_at_what_came_back(&mut found, decl, folder.path(), (&token, &program));
    Ok(found)
}

/// Holds what a trivial job left against what it was given.
fn look_at_what_came_back(found: &mut PlaceCheck, decl: &PlaceDecl, folder: &Path, (token, program): (&str, &str)) {
    let read = |name: &str| std::fs::read_to_string(folder.join(name)).unwrap_or_default().trim().to_string();
    if read("from-there") != token {
        let shown = folder.parent().unwrap_or(folder).display().to_string();
        found.faults.push(match decl.shares_folder() {
            true => format!("{shown} is not the same folder there: a place of this kind shares the project's folder"),
            false => "what was sent there is not what came back".to_string(),
        });
        return;
    }
    let modified = std::fs::metadata(folder.join("clock")).and_then(|m| m.modified()).ok();
    let here = modified.and_then(|m| m.duration_since(std::time::UNIX_EPOCH).ok()).map(|d| d.as_secs_f64());
    found.skew = read("clock").parse::<f64>().ok().zip(here).map(|(there, here)| there - here);
    if let Some(skew) = found.skew.filter(|s| s.abs() > SKEW) {
        found.faults.push(format!("its clock is {skew:+.0} s from the one here: set both by the same source"));
    }
    if !decl.shares_folder() {
        let seen = read_seen_away(&folder.join(SEEN_AWAY));
        let unknown = || "what it was seen to do did not come back".to_string();
        found.seals = seen.as_ref().map(|seen| seen.can_seal);
        found.because = seen.map_or_else(|| Some(unknown()), |seen| seen.not_observed);
        found.observes = Some(found.because.is_none());
        return;
    }
    let version = read("program");
    found.textum = (!version.is_empty()).then_some(version.clone());
    let own = format!("textum {}", env!("CARGO_PKG_VERSION"));
    if version.is_empty() {
        let fault = format!("{program} cannot be executed there: stages that are observed or sealed need it at the same path");
        found.faults.push(fault);
    } else if version != own {
        found.faults.push(format!("there it is {version}, here {own}: put the same version there"));
    }
}
