//! Runs at work: how others see that one lives, and what is made of one that was cut off.

use std::fs::{self, File};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use crate::event::{Event, EventSink, LoggedEvent, read_log};
use crate::fsio::{self, FileLock, IoError, TryLock};
use crate::pipeline::exec::ExecError;
use crate::pipeline::exec::listen::last_values;
use crate::pipeline::exec::unattended::{TAKEN_UP, jobs_of};
use crate::pipeline::executor::{Cancel, Executor, JobId, Mark, Places, end_marked, end_submitted, submitted_name};
use crate::pipeline::signal::{Aggregate, SignalReader};
use crate::project::fingerprint::MayStart;
use crate::project::workspace::Project;
use crate::record::ledger::Ledger;
use crate::record::receipt::{Content, RunReceipt, RunStage, RunStageState, RunState, StageReceipt, StageState, canonical};
use crate::record::receipt::{SignalRecord, is_run_id};
use crate::store::Writer;

/// A run at work. Its folder is locked as long as this process lives.
pub struct LiveRun {
    /// Its folder: logs and parameters of its stages.
    pub folder: PathBuf,
    /// Its log so far, as it is in the file.
    log: Arc<Mutex<Vec<u8>>>,
    _lock: FileLock,
}

impl LiveRun {
    /// Makes the folder of a run, with the receipt that stands if it is cut off.
    pub fn begin(runs: &Path, draft: &RunReceipt) -> Result<LiveRun, ExecError> {
        // Made under another name, so that nobody finds it before it is locked.
        let unborn = runs.join(format!(".{}", draft.run));
        crate::fsio::create_folder(&unborn)?;
        let TryLock::Taken(mut lock) = FileLock::try_exclusive(&unborn.join(DRAFT))? else {
            return Err(ExecError::RunTaken(draft.run.clone()));
        };
        lock.describe(&String::from_utf8_lossy(&canonical(draft)?))?;
        // A machine that is lost leaves a run that was cut off, not one that nobody knows of.
        lock.sync()?;
        fsio::sync_folder(&unborn)?;
        let folder = runs.join(&draft.run);
        if folder.exists() {
            fsio::remove_any(&unborn)?;
            return Err(ExecError::RunTaken(draft.run.clone()));
        }
        fsio::rename(&unborn, &folder)?;
        fsio::sync_folder(runs)?;
        Ok(LiveRun { folder, log: Arc::default(), _lock: lock })
    }

    /// Passes events on and keeps them in the run's folder, for those who follow it from elsewhere.
    pub fn telling<'e>(&self, events: &'e dyn EventSink) -> Telling<'e> {
        let log = fsio::append(&self.folder.join(EVENTS)).ok();
        Telling { events, log: Mutex::new(log), kept: self.log.clone() }
    }

    /// Takes its log into the store; none where nothing has happened.
    pub(super) fn keep_log(&self, writer: &Writer<'_>) -> Result<Option<Content>, ExecError> {
        let log = self.log.lock().unwrap_or_else(PoisonError::into_inner);
        if log.is_empty() {
            return Ok(None);
        }
        let stored = writer.put_bytes(&log)?;
        Ok(Some(Content::file(stored.digest, stored.size)))
    }

    /// Whether somebody asks that the run stops: why, and whether at once.
    pub fn stop_asked(&self) -> Option<(String, bool)> {
        let text = fs::read_to_string(self.folder.join(STOP)).ok()?;
        let at_once = text.starts_with("now ");
        Some((text.split_once(' ').map_or(String::new(), |(_, why)| why.to_string()), at_once))
    }

    /// Removes the folder of a run whose receipt is in the store.
    pub fn end(self) -> Result<(), ExecError> {
        Ok(fsio::remove_any(&self.folder)?)
    }

    /// Says that the run is no longer at work, and gives its folder, which is to be removed. Who comes upon it
    /// before that finds the run's receipt in the store, and removes it.
    pub fn release(self) -> PathBuf {
        self.folder
    }
}

/// The receipt that stands if the run is cut off. It is locked as long as the run's process lives.
pub(super) const DRAFT: &str = "run.json";
/// What has happened so far.
pub(super) const EVENTS: &str = "events";
/// The file by which another process asks a run to stop.
const STOP: &str = "stop";

/// Passes events on and keeps them.
pub struct Telling<'e> {
    events: &'e dyn EventSink,
    log: Mutex<Option<File>>,
    kept: Arc<Mutex<Vec<u8>>>,
}

impl EventSink for Telling<'_> {
    fn event(&self, event: Event) {
        // What a stage prints is in its log, what it tells in its signals.
        if !matches!(event, Event::Output { .. } | Event::Told { .. })
            && let Ok(mut line) = serde_json::to_vec(&LoggedEvent::now(event.clone()))
        {
            line.push(b'\n');
            self.kept.lock().unwrap_or_else(PoisonError::into_inner).extend_from_slice(&line);
            if let Some(log) = self.log.lock().unwrap_or_else(PoisonError::into_inner).as_mut() {
                // Whoever follows misses a line then; the run itself does not depend on it.
                let _ = log.write_all(&line);
            }
        }
        self.events.event(event);
    }
}

/// Asks a run at work to stop; `at_once` does not let its stages end by themselves.
pub fn ask_to_stop(runs: &Path, run: &str, why: &str, at_once: bool) -> Result<(), IoError> {
    fsio::write_derived(&runs.join(run).join(STOP), format!("{} {why}", if at_once { "now" } else { "soon" }).as_bytes())
}

/// What can be seen of a run at work from elsewhere.
#[derive(Debug)]
pub struct LiveView {
    /// Its folder: a folder for each stage that was begun, with log and signals.
    pub folder: PathBuf,
    /// Its receipt as it stands if it is cut off.
    pub draft: RunReceipt,
    /// What has happened so far.
    pub events: Vec<Event>,
}

/// Looks at a run at work; `None` when there is none of this id.
pub fn live_view(runs: &Path, run: &str) -> Option<LiveView> {
    let folder = runs.join(run);
    let draft = serde_json::from_slice(&fs::read(folder.join(DRAFT)).ok()?).ok()?;
    let text = fs::read_to_string(folder.join(EVENTS)).unwrap_or_default();
    let events = read_log(&text).into_iter().map(|logged| logged.event).collect();
    Some(LiveView { folder, draft, events })
}

/// Closes runs whose Textum is gone: ends what they left running, keeps their logs, and records them as
/// interrupted. Returns their ids.
pub fn close_interrupted(project: &mut Project, events: &dyn EventSink) -> Result<Vec<String>, ExecError> {
    let runs = project.workspace.runs_folder();
    let Ok(entries) = fs::read_dir(&runs) else { return Ok(Vec::new()) };
    let mut closed = Vec::new();
    for entry in entries.flatten() {
        let Ok(name) = entry.file_name().into_string() else { continue };
        if name.starts_with('.') {
            sweep_unborn(&entry.path());
            continue;
        }
        // One that ends at this moment is nobody's to close.
        if let TryLock::Taken(_lock) = FileLock::try_existing(&entry.path().join(DRAFT))? {
            if !is_run_id(&name) {
                continue;
            }
            if !jobs_of(project, &name, &entry.path())?.is_empty() {
                // One with jobs at places is somebody's to take up; what it left at work here is not.
                end_own_jobs(project, &entry.path());
                continue;
            }
            if !end_jobs(project, &name, &entry.path())? {
                continue;
            }
            end_marked(&Mark::of_run(&name, &entry.path()));
            if close(project, &name, &entry.path())? {
                events.event(Event::Interrupted { run: name.clone() });
                closed.push(name);
            }
        }
    }
    Ok(closed)
}

/// What a run that was killed before it began has left: nobody finds it, and nobody is about to begin by that name any more.
fn sweep_unborn(folder: &Path) {
    const OLD: i64 = 3600;
    let modified = fs::metadata(folder).and_then(|m| m.modified()).ok().and_then(|m| jiff::Timestamp::try_from(m).ok());
    let is_old = modified.is_some_and(|m| textum_base::clock::now().as_second() - m.as_second() > OLD);
    if is_old && !FileLock::is_held(&folder.join(DRAFT)) {
        let _ = fsio::remove_any(folder);
    }
}

/// Ends the jobs that a run has left at work, whatever became of their environment. A place that does not answer may still
/// have them at work: nothing is done then that they could write into.
/// Whether all have ended: who only looks at a project executes none of its commands, so that the engines that it names are
/// not asked.
fn end_jobs(project: &Project, run: &str, folder: &Path) -> Result<bool, ExecError> {
    let place = Places::of(project);
    end_own_jobs(project, folder);
    let done = project.ledger.executed_in(run)?;
    for stage in fs::read_dir(folder).into_iter().flatten().flatten() {
        if submitted_name(&stage.path()).is_none() || stage.path().join(TAKEN_UP).exists() {
            continue;
        }
        let begun = fs::read(stage.path().join("begun.json")).ok();
        let begun = begun.and_then(|bytes| serde_json::from_slice::<StageReceipt>(&bytes).ok());
        let name = begun.as_ref().and_then(|receipt| receipt.place.name.clone());
        if begun.is_some_and(|receipt| done.iter().any(|row| row.stage == receipt.inputs.stage)) {
            continue;
        }
        if project.may_start != MayStart::Anything {
            return Ok(false);
        }
        end_submitted(&place, name.as_deref(), &stage.path()).map_err(ExecError::MayBeAtWork)?;
    }
    Ok(true)
}

/// Ends what a run has left at work on this machine.
fn end_own_jobs(project: &Project, run: &Path) {
    let place = Places::of(project);
    let text = fs::read_to_string(run.join(EVENTS)).unwrap_or_default();
    for logged in read_log(&text) {
        let Event::Submitted { job, .. } = logged.event else { continue };
        let job = JobId(job);
        if !Places::is_elsewhere(&job) && place.attach(&job).unwrap_or(false) {
            let _ = place.cancel(&job, Cancel::AtOnce);
        }
    }
}

/// Whether a run is at work.
pub fn is_at_work(runs: &Path, run: &str) -> bool {
    FileLock::is_held(&runs.join(run).join(DRAFT))
}

/// The runs at work now, by id.
pub fn live_runs(runs: &Path) -> Vec<String> {
    let names = fs::read_dir(runs).into_iter().flatten().flatten().filter_map(|e| e.file_name().into_string().ok());
    names.filter(|n| !n.starts_with('.') && is_at_work(runs, n)).collect()
}

/// Whether the run had to be recorded as interrupted; else it had ended, and only its folder was left.
pub(super) fn close(project: &Project, run: &str, folder: &Path) -> Result<bool, ExecError> {
    // A run says that it is over as soon as its receipt is in the store: it may have come there since we looked.
    project.ledger.catch_up(&project.store)?;
    let draft = fs::read(folder.join(DRAFT)).ok().and_then(|bytes| serde_json::from_slice::<RunReceipt>(&bytes).ok());
    let known = project.ledger.run(run)?.is_some();
    let interrupted = draft.filter(|_| !known);
    let is_interrupted = interrupted.is_some();
    if let Some(mut receipt) = interrupted {
        let writer = project.store.writer()?;
        for row in project.ledger.executed_in(run)? {
            let done = StageReceipt::load(&project.store, &row.receipt)?;
            receipt.metrics.extend(done.metrics.clone());
            receipt.stages.push(RunStage {
                stage: row.stage,
                state: match done.state {
                    StageState::Done => RunStageState::Ran,
                    StageState::Failed => RunStageState::Failed,
                    StageState::Stopped => RunStageState::Stopped,
                },
                key: Some(done.key),
                receipt: Some(row.receipt),
                seconds: row.seconds,
            });
        }
        for stage in fs::read_dir(folder).into_iter().flatten().flatten() {
            let finished = |name: &str| receipt.stages.iter().any(|s| s.stage == name);
            if let Some(cut) = cut_off(&stage.path(), &writer, &project.ledger)?
                && !finished(&cut.inputs.stage)
            {
                let digest = writer.put_document(&canonical(&cut)?)?;
                receipt.stages.push(RunStage {
                    stage: cut.inputs.stage,
                    state: RunStageState::Stopped,
                    key: Some(cut.key),
                    receipt: Some(digest),
                    seconds: 0.0,
                });
            }
        }
        receipt.log = kept_log(&folder.join(EVENTS), &writer)?;
        receipt.state = RunState::Interrupted;
        receipt.reason = Some(why_cut_off(folder));
        writer.put_document(&canonical(&receipt)?)?;
        writer.publish()?;
        drop(writer);
        project.ledger.catch_up(&project.store)?;
    }
    if is_interrupted {
        // What its stages had written there apart from the tree is nobody's: what was done is in the store.
        fsio::remove_any(&project.workspace.sandboxes_folder().join(run))?;
    }
    fsio::remove_any(folder)?;
    Ok(is_interrupted)
}

/// Takes the log of a run that was cut off into the store, if it has one.
fn kept_log(log: &Path, writer: &Writer<'_>) -> Result<Option<Content>, ExecError> {
    match log.is_file() {
        true => Ok(Some(writer.put_file(log)?).map(|stored| Content::file(stored.digest, stored.size))),
        false => Ok(None),
    }
}

/// The receipt of a stage that was begun and of whose end nothing is known.
fn cut_off(folder: &Path, writer: &Writer<'_>, ledger: &Ledger) -> Result<Option<StageReceipt>, ExecError> {
    let Ok(bytes) = fs::read(folder.join("begun.json")) else { return Ok(None) };
    let Ok(mut receipt) = serde_json::from_slice::<StageReceipt>(&bytes) else { return Ok(None) };
    let log = folder.join("log");
    if log.is_file() {
        let stored = writer.put_file(&log)?;
        receipt.log = Content::file(stored.digest, stored.size);
    }
    receipt.signals = heard_before(folder, writer, ledger, &receipt)?;
    receipt.metrics.extend(receipt.signals.iter().flat_map(last_values));
    // Results of the lost moments before, which it read, may not have become safe.
    receipt.reads.retain(|r| writer.contains(&r.at.content.digest).unwrap_or(false));
    receipt.state = StageState::Stopped;
    receipt.reason = Some(why_cut_off(folder));
    Ok(Some(receipt))
}

/// Why a run or a stage with this folder was cut off; and who went on with it, where somebody took a job up.
fn why_cut_off(folder: &Path) -> String {
    let inner = fs::read_dir(folder).into_iter().flatten().flatten().map(|e| e.path().join(TAKEN_UP));
    let by = std::iter::once(folder.join(TAKEN_UP)).chain(inner).find_map(|mark| fs::read_to_string(mark).ok());
    let lost = "Textum or the machine was lost while it ran";
    by.map_or(lost.to_string(), |by| format!("{lost}, and {} took up what was at work", by.trim()))
}

/// What a stage that was cut off had told until then, and the checkpoints that it had made.
fn heard_before(
    folder: &Path,
    writer: &Writer<'_>,
    ledger: &Ledger,
    receipt: &StageReceipt,
) -> Result<Option<SignalRecord>, ExecError> {
    let draft = folder.parent().and_then(|run| fs::read(run.join(DRAFT)).ok());
    let draft = draft.and_then(|bytes| serde_json::from_slice::<RunReceipt>(&bytes).ok());
    let better = draft.map(|d| d.better).unwrap_or_default();
    let mut aggregate = Aggregate::new(&folder.join("points.csv"), better);
    SignalReader::new(&folder.join("signals")).read(true, |line, signal| match signal {
        Ok(signal) => {
            // When each line came is not known any more: all count from the beginning on.
            aggregate.take(0.0, &signal);
        }
        Err(what) => aggregate.malformed(line, what),
    });
    for made in ledger.checkpoints_of(&receipt.run)?.into_iter().filter(|c| c.stage == receipt.inputs.stage) {
        aggregate.checkpoint(made.receipt);
    }
    let (mut record, points) = aggregate.end()?;
    if let Some(points) = points {
        let stored = writer.put_file(&points)?;
        record.points = Some(Content::file(stored.digest, stored.size));
    }
    Ok((record != SignalRecord::default()).then_some(record))
}
