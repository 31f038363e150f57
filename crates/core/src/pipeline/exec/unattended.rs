//! Jobs at places whose Textum is gone. Whoever comes for the same result takes them up; nobody executes it a second time.
//!
//! A run that was cut off is not closed as long as it has such a job: what the job writes and says still counts. Who deals
//! with it holds the lock on its receipt, so that two never take up the same job.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::{Deserialize, Serialize};
use textum_base::SourcePath;

use super::ExecError;
use super::live::{DRAFT, EVENTS, close};
use crate::event::{Event, EventSink, read_log};
use crate::fsio::{self, FileLock, IoError, TryLock};
use crate::pipeline::executor::{Cause, Executor, JobId, JobState, Places, end_submitted, submitted_name};
use crate::project::fingerprint::Standstill;
use crate::project::workspace::{Project, WorkspaceError};
use crate::record::receipt::{RunReceipt, RunStage, RunStageState, StageReceipt, is_run_id};
use crate::store::Digest;

/// In the folder of a stage: what whoever takes its job up must know beside the receipt that was begun.
const TASK: &str = "task.json";
/// In the folder of a stage whose job was taken up: the run that has its result.
pub(super) const TAKEN_UP: &str = "taken-up";

/// Where a stage works, and how what it reads stood when it began.
#[derive(Serialize, Deserialize)]
struct TaskNote {
    root: PathBuf,
    standing: BTreeMap<SourcePath, Standstill>,
}

/// Notes what whoever takes a job up must know, before it is submitted.
pub(super) fn note_task(folder: &Path, root: &Path, standing: &BTreeMap<SourcePath, Standstill>) -> Result<(), IoError> {
    let path = folder.join(TASK);
    let note = TaskNote { root: root.to_path_buf(), standing: standing.clone() };
    let text = serde_json::to_vec(&note).map_err(|e| IoError::of("write", &path)(e.into()))?;
    fsio::write_derived(&path, &text)
}

/// A job whose Textum is gone.
#[derive(Clone, Debug)]
pub struct UnattendedJob {
    /// The run that was cut off.
    pub run: String,
    /// The stage.
    pub stage: String,
    /// The place where it is.
    pub place: Option<String>,
    /// The key of what it makes.
    pub key: Digest,
    /// When it was begun.
    pub started: String,
    /// The folder of its log and signals.
    pub(super) folder: PathBuf,
    /// Where it works.
    pub(super) root: PathBuf,
    /// How what it reads stood then.
    pub(super) standing: BTreeMap<SourcePath, Standstill>,
    /// Whether its run works in the tree, which it writes into or whose receipt tells of it.
    in_tree: bool,
}

impl UnattendedJob {
    /// How long ago it was begun.
    pub(super) fn since(&self) -> Duration {
        let began = self.started.parse::<jiff::Timestamp>().ok();
        let since = began.map(|began| textum_base::clock::now().duration_since(began));
        since.and_then(|d| Duration::try_from(d).ok()).unwrap_or_default()
    }
}

/// A run that was cut off while jobs of it were at a place.
#[derive(Debug)]
pub struct UnattendedRun {
    /// Its receipt as far as it goes, with the stages that it was to deal with.
    pub draft: RunReceipt,
    /// Its jobs.
    pub jobs: Vec<UnattendedJob>,
}

/// The jobs in the folder of a run whose results are in no receipt yet.
pub(super) fn jobs_of(project: &Project, run: &str, folder: &Path) -> Result<Vec<UnattendedJob>, ExecError> {
    let draft = fs::read(folder.join(DRAFT)).ok().and_then(|bytes| serde_json::from_slice::<RunReceipt>(&bytes).ok());
    let Some(draft) = draft else { return Ok(Vec::new()) };
    let mut jobs = Vec::new();
    for stage in fs::read_dir(folder).into_iter().flatten().flatten() {
        let folder = stage.path();
        if submitted_name(&folder).is_none() || folder.join(TAKEN_UP).exists() {
            continue;
        }
        let read = |name: &str| fs::read(folder.join(name)).ok();
        let begun = read("begun.json").and_then(|b| serde_json::from_slice::<StageReceipt>(&b).ok());
        let note = read(TASK).and_then(|b| serde_json::from_slice::<TaskNote>(&b).ok());
        let (Some(begun), Some(note)) = (begun, note) else { continue };
        jobs.push(UnattendedJob {
            run: run.to_string(),
            stage: begun.inputs.stage,
            place: begun.place.name,
            key: begun.key,
            started: begun.started,
            folder,
            root: note.root,
            standing: note.standing,
            in_tree: !draft.sandbox,
        });
    }
    if !jobs.is_empty() {
        project.ledger.catch_up(&project.store)?;
        if project.ledger.run(run)?.is_some() {
            return Ok(Vec::new());
        }
        let done = project.ledger.executed_in(run)?;
        jobs.retain(|job| !done.iter().any(|row| row.stage == job.stage));
    }
    jobs.sort_by(|a, b| a.stage.cmp(&b.stage));
    Ok(jobs)
}

fn not_said(run: &str, e: IoError) -> ExecError {
    let what = format!("a job of a run that was cut off may still be at work, and its place does not say: {e}");
    ExecError::MayBeAtWork(IoError::of("take up", Path::new(run))(std::io::Error::other(what)))
}

/// The folders of runs, by their ids.
fn run_folders(project: &Project) -> Vec<(String, PathBuf)> {
    let entries = fs::read_dir(project.workspace.runs_folder()).into_iter().flatten().flatten();
    let mut found: Vec<(String, PathBuf)> =
        entries.filter_map(|e| Some((e.file_name().into_string().ok()?, e.path()))).filter(|(name, _)| is_run_id(name)).collect();
    found.sort();
    found
}

/// The runs that were cut off and have jobs at places, oldest first.
pub fn unattended_runs(project: &Project) -> Result<Vec<UnattendedRun>, ExecError> {
    let mut runs = Vec::new();
    for (run, folder) in run_folders(project) {
        if FileLock::is_held(&folder.join(DRAFT)) {
            continue;
        }
        let jobs = jobs_of(project, &run, &folder)?;
        let draft = fs::read(folder.join(DRAFT)).ok().and_then(|bytes| serde_json::from_slice::<RunReceipt>(&bytes).ok());
        let Some(mut draft) = draft.filter(|_| !jobs.is_empty()) else { continue };
        let events = read_log(&fs::read_to_string(folder.join(EVENTS)).unwrap_or_default());
        let stages = events.into_iter().rev().find_map(|logged| match logged.event {
            Event::Begun { stages, .. } => Some(stages),
            _ => None,
        });
        draft.stages = stages.unwrap_or_default().into_iter().map(unknown).collect();
        runs.push(UnattendedRun { draft, jobs });
    }
    Ok(runs)
}

/// A stage of which nothing is settled.
fn unknown(stage: String) -> RunStage {
    RunStage { stage, state: RunStageState::Skipped, key: None, receipt: None, seconds: 0.0 }
}

/// How jobs stand whose Textum is gone, by the word of their places; `Lost` where the place knows none.
pub fn standing_of(project: &Project, jobs: &[UnattendedJob]) -> Result<Vec<JobState>, ExecError> {
    let place = Places::of(project);
    let of = |job: &UnattendedJob| {
        let Some(id) = place.take_up(&job.folder, job.place.as_deref())? else { return Ok(JobState::Lost) };
        Ok(place.poll(std::slice::from_ref(&id))?.pop().unwrap_or(JobState::Lost))
    };
    jobs.iter().map(|job| of(job).map_err(|e| not_said(&job.run, e))).collect()
}

/// Refuses where a job whose Textum is gone may write into the tree.
pub fn tree_is_free(project: &Project) -> Result<(), WorkspaceError> {
    let runs = unattended_runs(project).unwrap_or_default();
    let Some(job) = runs.iter().flat_map(|r| &r.jobs).find(|j| j.in_tree) else { return Ok(()) };
    let short = job.run.rsplit('-').next().unwrap_or_default();
    let place = job.place.as_deref().unwrap_or_default();
    let who = format!("{} of {}, which was cut off, has a job at {place}: textum resume {short}", job.stage, job.run);
    Err(WorkspaceError::Busy { who })
}

/// Ends the jobs of a run whose Textum is gone and records it as interrupted; whether there was such a run.
pub fn end_unattended(project: &Project, run: &str, events: &dyn EventSink) -> Result<bool, ExecError> {
    let mut unattended = Unattended::take(project, |name| name == run, None)?;
    let found = !unattended.jobs.is_empty();
    let place = Places::of(project);
    unattended.end(&place, |_| true)?;
    unattended.finish(project, &place, false, "", events)?;
    Ok(found)
}

/// Jobs that one run may take up.
#[derive(Default)]
pub struct Unattended {
    jobs: Vec<UnattendedJob>,
    /// Jobs that were taken up.
    taken: Vec<UnattendedJob>,
    /// The runs that they are of, so that nobody else deals with them.
    runs: BTreeMap<String, FileLock>,
}

impl Unattended {
    /// Takes jobs of these runs, those in the tree or those apart from it, of which nobody has them yet.
    pub(super) fn take(project: &Project, wanted: impl Fn(&str) -> bool, in_tree: Option<bool>) -> Result<Unattended, ExecError> {
        let mut unattended = Unattended::default();
        for (run, folder) in run_folders(project).into_iter().filter(|(run, _)| wanted(run)) {
            let TryLock::Taken(lock) = FileLock::try_existing(&folder.join(DRAFT))? else { continue };
            let jobs = jobs_of(project, &run, &folder)?;
            if jobs.iter().any(|job| in_tree.is_none_or(|wanted| job.in_tree == wanted)) {
                unattended.jobs.extend(jobs);
                unattended.runs.insert(run, lock);
            }
        }
        Ok(unattended)
    }

    /// Refuses where a place does not say whether it has them: nothing may be begun then.
    pub(super) fn places_answer(&self, place: &dyn Executor) -> Result<(), ExecError> {
        let mut asked = BTreeSet::new();
        for job in self.jobs.iter().filter(|job| asked.insert(job.place.clone())) {
            place.take_up(&job.folder, job.place.as_deref()).map_err(|e| not_said(&job.run, e))?;
        }
        Ok(())
    }

    /// A job that makes just this, if its place still knows of one. Of several runs that were cut off each may have left one,
    /// most of which were never begun.
    pub(super) fn claim(
        &mut self,
        place: &dyn Executor,
        stage: &str,
        key: Digest,
        in_tree: bool,
    ) -> Result<Option<(UnattendedJob, JobId)>, ExecError> {
        let wanted = |j: &UnattendedJob| j.key == key && j.stage == stage && j.in_tree == in_tree;
        while let Some(at) = self.jobs.iter().position(wanted) {
            if let Some(id) = take_up_one(place, &self.jobs[at])? {
                let job = self.jobs.remove(at);
                self.taken.push(job.clone());
                return Ok(Some((job, id)));
            }
            self.jobs.remove(at);
        }
        Ok(None)
    }

    /// Ends those jobs, and waits until they have ended.
    pub(super) fn end(&mut self, place: &dyn Executor, which: impl Fn(&UnattendedJob) -> bool) -> Result<(), ExecError> {
        for job in self.jobs.iter().filter(|job| which(job)) {
            end_submitted(place, job.place.as_deref(), &job.folder).map_err(ExecError::MayBeAtWork)?;
        }
        self.jobs.retain(|job| !which(job));
        Ok(())
    }

    /// Ends what works in the tree for a stage and makes something else than what is wanted of it now.
    pub(super) fn end_in_tree(&mut self, place: &dyn Executor, stage: &str) -> Result<(), ExecError> {
        self.end(place, |job| job.in_tree && job.stage == stage)
    }

    /// Ends what works in the tree for stages that are none of these: they could write into it while others work there.
    pub(super) fn end_others_in_tree(&mut self, place: &dyn Executor, stages: &[String]) -> Result<(), ExecError> {
        self.end(place, |job| job.in_tree && !stages.contains(&job.stage))
    }

    /// At the end of a run `by` this id, whose receipts are safe: what is left `in_tree` is ended, and runs that have no job
    /// any more are closed.
    pub(super) fn finish(
        mut self,
        project: &Project,
        place: &dyn Executor,
        in_tree: bool,
        by: &str,
        events: &dyn EventSink,
    ) -> Result<(), ExecError> {
        if in_tree {
            self.end(place, |job| job.in_tree)?;
        }
        for job in &self.taken {
            fsio::write_derived(&job.folder.join(TAKEN_UP), by.as_bytes())?;
        }
        for (run, _lock) in std::mem::take(&mut self.runs) {
            let folder = project.workspace.runs_folder().join(&run);
            if self.jobs.iter().all(|job| job.run != run) && close(project, &run, &folder)? {
                events.event(Event::Interrupted { run });
            }
        }
        Ok(())
    }
}

/// Takes one job up. One that its place does not know, or has lost, is taken back.
fn take_up_one(place: &dyn Executor, job: &UnattendedJob) -> Result<Option<JobId>, ExecError> {
    let id = place.take_up(&job.folder, job.place.as_deref()).map_err(ExecError::MayBeAtWork)?;
    let states = match &id {
        Some(id) => place.poll(std::slice::from_ref(id)).map_err(ExecError::MayBeAtWork)?,
        None => Vec::new(),
    };
    // What its place has lost is no result of the stage's.
    let is_lost = |id: &JobId| place.why(id).and_then(|why| why.cause).is_some_and(Cause::may_pass);
    let id = id.filter(|id| !states.contains(&JobState::Lost) && !is_lost(id));
    if id.is_none() {
        // The order to carry it out may still be on its way.
        end_submitted(place, job.place.as_deref(), &job.folder).map_err(ExecError::MayBeAtWork)?;
    }
    Ok(id)
}
