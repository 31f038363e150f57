//! The stages of a rebuild: each in a sandbox of its own, from recorded sources and rebuilt results.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use super::compare::FirstDifference;
use super::sealing::Sealing;
use super::training::Keep;
use super::{RebuildError, RebuildOptions};
use crate::event::{CancelToken, Event, EventSink};
use crate::fsio::{self, TreeDir};
use crate::pipeline::exec::{KeepCheckpoint, Observer, Seal, StageContext, Task, tail};
use crate::pipeline::executor::Executor;
use crate::project::fingerprint::{EnvironmentNow, Scanner, Standstill};
use crate::project::workspace::Project;
use crate::record::receipt::{
    CheckpointReceipt, ObservedHow, PathContent, RebuiltStage, RebuiltWrite, StageReceipt, StageState, StorageMode, Verdict,
};
use crate::store::Digest;

/// A stage that was rebuilt.
#[derive(Clone, Debug)]
pub struct StageRebuild {
    /// Its name.
    pub stage: String,
    /// The receipt that it was held against.
    pub receipt: Digest,
    /// The verdict on it.
    pub verdict: Verdict,
    /// Its outputs.
    pub writes: Vec<RebuiltWrite>,
    /// Seconds it took now.
    pub seconds: f64,
    /// Why it failed, and the last lines that it printed.
    pub failure: Option<(String, String)>,
    /// Whether nothing but what is recorded could be read; none where it was not executed.
    pub sealed: Option<bool>,
    /// Why it was not sealed, if it was to be.
    pub unsealed: Option<String>,
    /// Files of which only the name was recorded, as it was only looked at or listed, and which it opened now.
    pub stand_ins: Vec<String>,
    /// Of a training that was repeated: the steps whose checkpoints were made again.
    pub steps: Vec<u64>,
}

impl StageRebuild {
    pub(super) fn of(stage: String, receipt: Digest) -> StageRebuild {
        StageRebuild {
            stage,
            receipt,
            verdict: Verdict::Identical,
            writes: Vec::new(),
            seconds: 0.0,
            failure: None,
            sealed: None,
            unsealed: None,
            stand_ins: Vec::new(),
            steps: Vec::new(),
        }
    }

    /// What the rebuild's receipt says of it.
    pub fn record(&self) -> RebuiltStage {
        RebuiltStage { stage: self.stage.clone(), receipt: self.receipt, verdict: self.verdict, writes: self.writes.clone() }
    }
}

/// Carries a rebuild out, stage by stage.
pub(super) struct Rebuilder<'a> {
    pub project: &'a Project,
    pub options: &'a RebuildOptions,
    pub place: &'a dyn Executor,
    pub events: &'a dyn EventSink,
    pub cancel: &'a CancelToken,
    pub observer: Option<Observer>,
    /// The environment as it is now, where it can be told.
    pub environment: Option<EnvironmentNow>,
    pub folder: &'a Path,
    /// The root that each receipt was rebuilt in; none where it failed.
    pub done: BTreeMap<Digest, Option<PathBuf>>,
    /// The checkpoints that were made again: the folder that each stands in, by training and step.
    pub repeated: BTreeMap<(Digest, u64), PathBuf>,
    pub stages: Vec<StageRebuild>,
    pub first: Option<FirstDifference>,
    /// Outputs that had been dropped from the store and came out as they were.
    pub stored: Vec<String>,
}

impl Rebuilder<'_> {
    /// Rebuilds one stage whose upstream has been rebuilt.
    pub fn stage(&mut self, digest: Digest, receipt: &StageReceipt) -> Result<(), RebuildError> {
        if self.cancel.asked() {
            return Err(RebuildError::Stopped);
        }
        let name = receipt.inputs.stage.clone();
        let root = self.folder.join(format!("{:02}-{name}", self.done.len()));
        if let Some(why) = self.cannot_begin(receipt)? {
            self.failed(digest, receipt, why, String::new());
            return Ok(());
        }
        self.events.event(Event::StageStarted { stage: name, before: Some(receipt.seconds) });
        let attempt = self.attempt_sealed(receipt, &root, None)?;
        match attempt.rebuilt.state {
            StageState::Stopped => return Err(RebuildError::Stopped),
            StageState::Failed => {
                self.failed(digest, receipt, attempt.rebuilt.reason.unwrap_or_default(), tail(&attempt.log, 4096))
            }
            StageState::Done => {
                self.store_again(receipt, &attempt.rebuilt, &attempt.scanner)?;
                self.judge(digest, receipt, &attempt.rebuilt, &root);
            }
        }
        if let Some(stage) = self.stages.last_mut() {
            (stage.sealed, stage.unsealed, stage.stand_ins) = (attempt.sealed, attempt.unsealed, attempt.stand_ins);
        }
        Ok(())
    }

    /// Why a stage cannot be executed again, if it cannot.
    pub(super) fn cannot_begin(&self, receipt: &StageReceipt) -> Result<Option<String>, RebuildError> {
        if receipt.reads.iter().flat_map(|r| &r.by).any(|by| !matches!(self.done.get(by), Some(Some(_)))) {
            return Ok(Some("a stage that it reads from could not be rebuilt".into()));
        }
        if let Some(from) = receipt.from.as_ref().filter(|_| self.options.from_scratch) {
            let made = CheckpointReceipt::load(&self.project.store, &from.checkpoint)?;
            if !self.repeated.contains_key(&(made.start, made.step)) {
                return Ok(Some(format!("the checkpoint {}#{} that it goes on from could not be made again", from.run, from.step)));
            }
        }
        for read in receipt.reads.iter().filter(|r| r.hold == StorageMode::Reference) {
            if let Some(why) = self.reference_changed(read)? {
                return Ok(Some(why));
            }
        }
        Ok(None)
    }

    /// Executes a stage, sealed if that can be. One that does not succeed under a seal that it did not have when it was
    /// recorded is executed once more without: a rebuild must not fail by what it adds.
    pub(super) fn attempt_sealed(
        &self,
        receipt: &StageReceipt,
        root: &Path,
        checkpoints: Option<&Keep<'_>>,
    ) -> Result<Attempt, RebuildError> {
        let folder = self.folder.join(format!("{:02}-{}.task", self.done.len(), receipt.inputs.stage));
        let seal = match self.sealing(receipt, root, &folder)? {
            Sealing::Sealed(seal) => seal,
            Sealing::NotNeeded => return self.attempt(receipt, root, &folder, None, checkpoints),
            Sealing::Open(why) => {
                let attempt = self.attempt(receipt, root, &folder, None, checkpoints)?;
                return Ok(Attempt { sealed: Some(false), unsealed: Some(why), ..attempt });
            }
        };
        let attempt = self.attempt(receipt, root, &folder, Some(seal), checkpoints)?;
        let was_sealed = receipt.observed.as_ref().is_some_and(|o| o.sealed);
        if attempt.rebuilt.state != StageState::Failed || was_sealed {
            return Ok(Attempt { sealed: Some(true), ..attempt });
        }
        for path in [root, &folder] {
            fsio::remove_any(path)?;
        }
        let open = self.attempt(receipt, root, &folder, None, checkpoints)?;
        Ok(Attempt { sealed: Some(false), unsealed: attempt.rebuilt.reason, ..open })
    }

    /// Puts everything that a stage reads into `root`, and executes it there.
    fn attempt(
        &self,
        receipt: &StageReceipt,
        root: &Path,
        folder: &Path,
        seal: Option<Seal>,
        checkpoints: Option<&Keep<'_>>,
    ) -> Result<Attempt, RebuildError> {
        let tree = TreeDir::create(root)?;
        for read in &receipt.reads {
            self.put_read(receipt, read, &tree)?;
        }
        let mut stand_ins = self.put_observed(receipt, &tree)?;
        self.put_checkpoint(receipt, &tree)?;
        let references = receipt.reads.iter().filter(|r| r.hold == StorageMode::Reference).map(|r| r.at.path.clone()).collect();
        let scanner = Arc::new(Scanner::open(root, None).with_references(references));
        let stage_context = StageContext {
            observer: self.observer.as_ref(),
            pool: None,
            store: &self.project.store,
            writer: None,
            keep: checkpoints.map(|keep| keep as &(dyn KeepCheckpoint + Sync)),
            place: self.place,
            variables: &self.project.variables,
            echo: self.options.echo,
            events: self.events,
            cancel: self.cancel,
            at_work: Mutex::default(),
            settled: Mutex::default(),
        };
        let task = self.task(receipt, &scanner, folder.to_path_buf(), seal)?;
        let rebuilt = execute_cancellable(&stage_context, task, self.cancel)?;
        stand_ins.retain(|path| rebuilt.undeclared.contains(path));
        Ok(Attempt { rebuilt, log: folder.join("log"), scanner, stand_ins, sealed: None, unsealed: None })
    }

    fn task(
        &self,
        receipt: &StageReceipt,
        scanner: &Arc<Scanner>,
        folder: PathBuf,
        seal: Option<Seal>,
    ) -> Result<Task, RebuildError> {
        let mut reads = receipt.reads.clone();
        let mut standing = BTreeMap::new();
        for read in &mut reads {
            let found = Standstill::look(scanner.root(), &read.at.path).map_err(crate::pipeline::exec::ExecError::from)?;
            standing.extend(found.map(|found| (read.at.path.clone(), found)));
            // What the stage finds now: where an earlier stage came out otherwise, not what was recorded.
            if let Some(content) = scanner.look(&read.at.path).map_err(crate::pipeline::exec::ExecError::from)? {
                read.at.content = content;
            }
        }
        Ok(Task {
            taken_up: None,
            is_sent: false,
            retries: 0,
            // What was made anywhere is made again here.
            place: None,
            inputs: receipt.inputs.clone(),
            key: receipt.key,
            reads,
            versions: receipt.versions.clone(),
            needs: crate::config::manifest::Needs { time: None, ..receipt.needs },
            // The stage is told the run that it was part of, so that nothing it is told differs.
            run: receipt.run.clone(),
            scanner: scanner.clone(),
            standing,
            own_reads: Default::default(),
            clock_behind: None,
            environment: None,
            from: receipt.from.clone(),
            // A rule that did not hold then must not end it now.
            stop_when: None,
            better: BTreeMap::new(),
            sandbox_of: Some(self.project.workspace.root().to_path_buf()),
            is_rebuild: true,
            observe: receipt
                .observed
                .as_ref()
                .is_some_and(|o| matches!(o.how, ObservedHow::Yes | ObservedHow::Part | ObservedHow::Away)),
            seal,
            folder,
        })
    }

    /// Takes outputs that had been dropped back into the store, where they came out byte for byte.
    fn store_again(&mut self, recorded: &StageReceipt, rebuilt: &StageReceipt, scanner: &Scanner) -> Result<(), RebuildError> {
        let store = &self.project.store;
        let gone = |output: &PathContent| Ok(rebuilt.outputs().any(|o| o == output) && !store.contains(&output.content.digest)?);
        let gone: Vec<Option<&PathContent>> =
            recorded.outputs().map(|o| gone(o).map(|gone| gone.then_some(o))).collect::<Result<_, crate::store::StoreError>>()?;
        if gone.iter().all(Option::is_none) {
            return Ok(());
        }
        let writer = store.writer()?;
        for output in gone.into_iter().flatten() {
            let taken = scanner.record(&output.path, &writer).map_err(crate::pipeline::exec::ExecError::from)?;
            self.stored.extend(taken.filter(|t| *t == output.content).map(|_| output.path.to_string()));
        }
        Ok(writer.publish()?)
    }

    pub(super) fn failed(&mut self, digest: Digest, receipt: &StageReceipt, reason: String, last_lines: String) {
        let writes =
            receipt.outputs().map(|o| RebuiltWrite { path: o.path.clone(), recorded: o.content.digest, rebuilt: None }).collect();
        self.done.insert(digest, None);
        let stage = receipt.inputs.stage.clone();
        self.events.event(Event::Rebuilt { stage: stage.clone(), verdict: Verdict::Failed, seconds: 0.0 });
        let failure = Some((reason, last_lines));
        self.stages.push(StageRebuild { verdict: Verdict::Failed, writes, failure, ..StageRebuild::of(stage, digest) });
    }
}

/// A stage as it was executed in a rebuild.
pub(super) struct Attempt {
    pub rebuilt: StageReceipt,
    pub log: PathBuf,
    pub scanner: Arc<Scanner>,
    /// Files of which only the name was recorded, and which it opened.
    pub stand_ins: Vec<String>,
    /// Whether nothing but what is recorded could be read; none where Textum does it itself.
    pub sealed: Option<bool>,
    /// Why it was not sealed, if it was to be.
    pub unsealed: Option<String>,
}

/// Executes while somebody watches whether it is to be stopped.
fn execute_cancellable(stage_context: &StageContext<'_>, task: Task, cancel: &CancelToken) -> Result<StageReceipt, RebuildError> {
    let ended = std::sync::atomic::AtomicBool::new(false);
    std::thread::scope(|scope| {
        scope.spawn(|| {
            let mut told = false;
            while !ended.load(std::sync::atomic::Ordering::SeqCst) {
                if cancel.asked() && (!told || cancel.at_once()) {
                    stage_context.end_all(told && cancel.at_once());
                    told = true;
                }
                std::thread::park_timeout(std::time::Duration::from_millis(30));
            }
        });
        let result = stage_context.execute(task);
        ended.store(true, std::sync::atomic::Ordering::SeqCst);
        Ok(result?)
    })
}
