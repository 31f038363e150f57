//! Repeating the training that made a checkpoint, up to that checkpoint.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use textum_base::ProjectPath;

use super::RebuildError;
use super::put::copy_tree;
use super::stages::{Rebuilder, StageRebuild};
use crate::event::Event;
use crate::fsio::TreeDir;
use crate::pipeline::exec::{KeepCheckpoint, tail};
use crate::project::fingerprint::Scanner;
use crate::record::receipt::{CheckpointReceipt, RebuiltWrite, RunReceipt, StageReceipt, Verdict};
use crate::store::Digest;

/// Keeps a copy of each checkpoint that is wanted, as it is told of.
pub(super) struct Keep<'k> {
    root: &'k Path,
    folder: PathBuf,
    wanted: &'k BTreeSet<u64>,
    kept: Mutex<BTreeSet<u64>>,
}

impl Keep<'_> {
    fn at(&self, step: u64) -> PathBuf {
        self.folder.join(step.to_string())
    }
}

impl KeepCheckpoint for Keep<'_> {
    /// A step that is told of twice counts as it was the first time: the training is over once all are there.
    fn keep(&self, step: u64, path: &ProjectPath) -> Result<bool, String> {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        if self.wanted.contains(&step) && !kept.contains(&step) {
            let copied = TreeDir::create(&self.at(step))
                .map_err(RebuildError::from)
                .and_then(|to| copy_tree(&TreeDir::open(self.root)?, path, &to));
            copied.map_err(|e| format!("its checkpoint of step {step} cannot be kept: {e}"))?;
            kept.insert(step);
        }
        Ok(self.wanted.is_subset(&kept))
    }
}

impl Rebuilder<'_> {
    /// Repeats a training until it has made the checkpoints of these steps, which are held against the recorded ones.
    pub(super) fn training(&mut self, start: Digest, begun: &StageReceipt, steps: &BTreeSet<u64>) -> Result<(), RebuildError> {
        if self.cancel.asked() {
            return Err(RebuildError::Stopped);
        }
        // What it began with does not say what it was seen to read: its receipt does, if it came to have one.
        let recorded = self.receipt_of(begun)?;
        let receipt = StageReceipt { observed: recorded.and_then(|r| r.observed), ..begun.clone() };
        let name = receipt.inputs.stage.clone();
        let root = self.folder.join(format!("{:02}-{name}", self.done.len()));
        if let Some(why) = self.cannot_begin(&receipt)? {
            self.failed(start, &receipt, why, String::new());
            return Ok(());
        }
        self.events.event(Event::StageStarted { stage: name.clone(), before: Some(receipt.seconds) });
        let folder = self.folder.join(format!("{:02}-{name}.checkpoints", self.done.len()));
        let keep = Keep { root: &root, folder, wanted: steps, kept: Mutex::default() };
        let attempt = self.attempt_sealed(&receipt, &root, Some(&keep))?;
        let kept = keep.kept.lock().unwrap_or_else(PoisonError::into_inner).clone();
        if self.cancel.asked() {
            return Err(RebuildError::Stopped);
        }
        if kept != *steps {
            let missing: Vec<String> = steps.difference(&kept).map(|s| format!("#{s}")).collect();
            let why = attempt.rebuilt.reason.unwrap_or_else(|| "it ended".to_string());
            let reason = format!("{why}, before it had made the checkpoint {}", missing.join(", "));
            self.failed(start, &receipt, reason, tail(&attempt.log, 4096));
            return Ok(());
        }
        let mut stage = StageRebuild {
            sealed: attempt.sealed,
            unsealed: attempt.unsealed,
            seconds: attempt.rebuilt.seconds,
            ..StageRebuild::of(name, start)
        };
        for step in steps {
            stage.writes.push(self.checkpoint(start, begun, *step, &keep.at(*step))?);
            stage.steps.push(*step);
        }
        if stage.writes.iter().any(|w| w.rebuilt != Some(w.recorded)) {
            stage.verdict = Verdict::Different;
        }
        let (name, verdict, seconds) = (stage.stage.clone(), stage.verdict, stage.seconds);
        self.events.event(Event::Rebuilt { stage: name, verdict, seconds });
        self.stages.push(stage);
        self.done.insert(start, Some(root));
        Ok(())
    }

    /// A checkpoint that was made again, held against the recorded one.
    fn checkpoint(&mut self, start: Digest, begun: &StageReceipt, step: u64, at: &Path) -> Result<RebuiltWrite, RebuildError> {
        let recorded = self.recorded_checkpoint(start, begun, step)?;
        let found = Scanner::open(at, None).look(&recorded.0).map_err(crate::pipeline::exec::ExecError::from)?;
        self.repeated.insert((start, step), at.to_path_buf());
        Ok(RebuiltWrite { path: recorded.0, recorded: recorded.1, rebuilt: found.map(|c| c.digest) })
    }

    /// Where a checkpoint of a training stood, and its content.
    fn recorded_checkpoint(&self, start: Digest, begun: &StageReceipt, step: u64) -> Result<(ProjectPath, Digest), RebuildError> {
        let all = self.project.ledger.checkpoints_of(&begun.run)?;
        for row in all.iter().filter(|row| row.step == step && row.stage == begun.inputs.stage) {
            let made = CheckpointReceipt::load(&self.project.store, &row.receipt)?;
            if made.start == start {
                return Ok((made.path, made.content.digest));
            }
        }
        Err(RebuildError::NothingDone(begun.run.clone()))
    }

    /// The receipt that a training came to have, if its run was closed.
    fn receipt_of(&self, begun: &StageReceipt) -> Result<Option<StageReceipt>, RebuildError> {
        let Some(row) = self.project.ledger.run(&begun.run)? else { return Ok(None) };
        let run = RunReceipt::load(&self.project.store, &row.receipt)?;
        let named = run.stages.iter().find(|s| s.stage == begun.inputs.stage && s.key == Some(begun.key));
        let receipt = named.and_then(|s| s.receipt).map(|digest| StageReceipt::load(&self.project.store, &digest)).transpose()?;
        Ok(receipt.filter(|r| r.run == begun.run))
    }
}
