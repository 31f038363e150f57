//! Runs at work: how others see that one lives, and what is made of one that was cut off.

use std::fs;
use std::path::{Path, PathBuf};

use crate::event::{Event, EventSink};
use crate::exec::ExecError;
use crate::exec::local::end_left_over;
use crate::fsio::{self, FileLock, IoError, TryLock};
use crate::receipt::{Content, ContentKind, RunReceipt, RunStage, RunStageState, RunState, StageReceipt, StageState, canonical};
use crate::store::Writer;
use crate::workspace::Project;

/// A run at work. Its folder is locked as long as this process lives.
pub struct LiveRun {
    /// Its folder: logs and parameters of its stages.
    pub folder: PathBuf,
    _lock: FileLock,
}

impl LiveRun {
    /// Makes the folder of a run, with the receipt that stands if it is cut off.
    pub fn begin(runs: &Path, draft: &RunReceipt) -> Result<LiveRun, ExecError> {
        // Made under another name, so that nobody finds it before it is locked.
        let unborn = runs.join(format!(".{}", draft.run));
        fs::create_dir_all(&unborn).map_err(IoError::of("create the folder", &unborn))?;
        let TryLock::Taken(mut lock) = FileLock::try_exclusive(&unborn.join("alive"))? else {
            return Err(ExecError::RunTaken(draft.run.clone()));
        };
        lock.describe(&format!("process {}", std::process::id()))?;
        let text = canonical(draft)?;
        fsio::write_derived(&unborn.join("run.json"), &text)?;
        let folder = runs.join(&draft.run);
        fs::rename(&unborn, &folder).map_err(IoError::of("create the folder", &folder))?;
        Ok(LiveRun { folder, _lock: lock })
    }

    /// Removes the folder of a run whose receipt is in the store.
    pub fn end(self) -> Result<(), ExecError> {
        Ok(fsio::remove_any(&self.folder)?)
    }
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
            continue;
        }
        if let TryLock::Taken(_lock) = FileLock::try_exclusive(&entry.path().join("alive"))? {
            end_left_over(&name);
            close(project, &name, &entry.path())?;
            events.event(Event::Interrupted { run: name.clone() });
            closed.push(name);
        }
    }
    Ok(closed)
}

/// The runs at work now, by id.
pub fn live_runs(runs: &Path) -> Vec<String> {
    let names = fs::read_dir(runs).into_iter().flatten().flatten().filter_map(|e| e.file_name().into_string().ok());
    names
        .filter(|n| !n.starts_with('.') && matches!(FileLock::try_exclusive(&runs.join(n).join("alive")), Ok(TryLock::Held)))
        .collect()
}

fn close(project: &mut Project, run: &str, folder: &Path) -> Result<(), ExecError> {
    let draft = fs::read(folder.join("run.json")).ok().and_then(|bytes| serde_json::from_slice::<RunReceipt>(&bytes).ok());
    let known = project.ledger.run(run)?.is_some();
    if let (Some(mut receipt), false) = (draft, known) {
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
            if let Some(cut) = cut_off(&stage.path(), &writer)?
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
        receipt.state = RunState::Interrupted;
        receipt.reason = Some("Textum or the machine was lost while it ran".into());
        writer.put_document(&canonical(&receipt)?)?;
        writer.publish()?;
        drop(writer);
        project.ledger.catch_up(&project.store)?;
    }
    fsio::remove_any(folder)?;
    Ok(())
}

/// The receipt of a stage that was begun and of whose end nothing is known.
fn cut_off(folder: &Path, writer: &Writer<'_>) -> Result<Option<StageReceipt>, ExecError> {
    let Ok(bytes) = fs::read(folder.join("begun.json")) else { return Ok(None) };
    let Ok(mut receipt) = serde_json::from_slice::<StageReceipt>(&bytes) else { return Ok(None) };
    let log = folder.join("log");
    if log.is_file() {
        let stored = writer.put_file(&log)?;
        receipt.log = Content { kind: ContentKind::File, digest: stored.digest, size: stored.size, files: None };
    }
    // Results of the lost moments before, which it read, may not have become safe.
    receipt.reads.retain(|r| writer.contains(&r.at.content.digest).unwrap_or(false));
    receipt.state = StageState::Stopped;
    receipt.reason = Some("Textum or the machine was lost while it ran".into());
    Ok(Some(receipt))
}
