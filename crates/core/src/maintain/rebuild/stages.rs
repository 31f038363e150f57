//! The stages of a rebuild: each in a sandbox of its own, from recorded sources and rebuilt results.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex};

use textum_base::{ProjectPath, SourcePath};

use super::compare::{FirstDifference, difference, metrics_agree};
use super::sealing::Sealing;
use super::training::Keep;
use super::{RebuildError, RebuildOptions};
use crate::config::manifest::is_within;
use crate::event::{CancelToken, Event, EventSink};
use crate::fsio::{self, IoError, Standing, TreeDir};
use crate::pipeline::exec::{KeepCheckpoint, Observer, Seal, StageContext, Task, tail};
use crate::pipeline::executor::Executor;
use crate::project::fingerprint::{EnvironmentNow, Scanner, Standstill};
use crate::project::tree::write_new;
use crate::project::workspace::Project;
use crate::record::receipt::{
    CheckpointReceipt, Content, ObservedHow, ObservedInputs, PathContent, Read, RebuiltStage, RebuiltWrite, StageReceipt,
    StageState, StorageMode, Verdict,
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
            (stage.sealed, stage.unsealed) = (attempt.sealed, attempt.unsealed);
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
        self.put_observed(receipt, &tree)?;
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
        Ok(Attempt { rebuilt, log: folder.join("log"), scanner, sealed: None, unsealed: None })
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
            observe: receipt.observed.as_ref().is_some_and(|o| matches!(o.how, ObservedHow::Yes | ObservedHow::Away)),
            seal,
            folder,
        })
    }

    /// Why a reference cannot be read as it was, if it cannot: its bytes are only where they were.
    fn reference_changed(&self, read: &Read) -> Result<Option<String>, RebuildError> {
        let now = self.project.scanner.look(&read.at.path).map_err(crate::pipeline::exec::ExecError::from)?;
        Ok(match now {
            Some(now) if now == read.at.content => None,
            now => Some(reference_differs(&read.at, now.as_ref())),
        })
    }

    /// Puts a read where the stage will look for it: sources from the store, results as rebuilt.
    fn put_read(&self, receipt: &StageReceipt, read: &Read, tree: &TreeDir) -> Result<(), RebuildError> {
        let path = match read.at.path.in_project() {
            Some(path) if read.hold == StorageMode::Store => path,
            _ => return Ok(crate::project::sandbox::link_reference(self.project.workspace.root(), &read.at.path, tree)?),
        };
        let inside_another = receipt.reads.iter().any(|r| r.at.path != read.at.path && is_within(&read.at.path, &r.at.path));
        if inside_another && tree.standing(&path)?.is_some() {
            return Ok(());
        }
        let mut put = false;
        for by in &read.by {
            let Some(Some(made_in)) = self.done.get(by) else { continue };
            let made_in = TreeDir::open(made_in)?;
            let writer = StageReceipt::load(&self.project.store, by)?;
            for output in writer.outputs() {
                if is_within(&path, &output.path) {
                    copy_tree(&made_in, &path, tree)?;
                    put = true;
                } else if is_within(&output.path, &path) {
                    if !put {
                        write_new(&self.project.store, &read.at.content, tree, &path)?;
                        put = true;
                    }
                    tree.remove(&output.path)?;
                    copy_tree(&made_in, &output.path, tree)?;
                }
            }
        }
        if !put {
            write_new(&self.project.store, &read.at.content, tree, &path)?;
        }
        Ok(())
    }

    /// Puts files of the project that the stage was seen to read, without declaring them, where it will look for them.
    fn put_observed(&self, receipt: &StageReceipt, tree: &TreeDir) -> Result<(), RebuildError> {
        let Some(inputs) = receipt.observed.as_ref().and_then(|o| o.inputs) else { return Ok(()) };
        let inputs = ObservedInputs::load(&self.project.store, &inputs)?;
        for file in inputs.project_files(&self.project.store)? {
            // A name that is no path of a project leads nowhere.
            let Ok(path) = ProjectPath::new(&file.path) else { continue };
            if tree.standing(&path)?.is_none() {
                write_new(&self.project.store, &file.content(), tree, &path)?;
            }
        }
        Ok(())
    }

    /// Puts the checkpoint that a stage goes on from at its place: as it was made again, or as recorded.
    fn put_checkpoint(&self, receipt: &StageReceipt, tree: &TreeDir) -> Result<(), RebuildError> {
        let (Some(from), Some(path)) = (&receipt.from, &receipt.inputs.checkpoints) else { return Ok(()) };
        if self.options.from_scratch {
            let made = CheckpointReceipt::load(&self.project.store, &from.checkpoint)?;
            if let Some(at) = self.repeated.get(&(made.start, made.step)) {
                return copy_tree_to(&TreeDir::open(at)?, &made.path, tree, path);
            }
        }
        Ok(write_new(&self.project.store, &from.content, tree, path)?)
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

    fn judge(&mut self, digest: Digest, recorded: &StageReceipt, rebuilt: &StageReceipt, root: &Path) {
        let now: BTreeMap<&str, &PathContent> = rebuilt.outputs().map(|o| (o.path.as_str(), o)).collect();
        let stage = recorded.inputs.stage.clone();
        let mut identical = true;
        let mut writes = Vec::new();
        for output in recorded.outputs() {
            let found = now.get(output.path.as_str());
            writes.push(RebuiltWrite {
                path: output.path.clone(),
                recorded: output.content.digest,
                rebuilt: found.map(|f| f.content.digest),
            });
            if found.is_some_and(|f| f.content.digest == output.content.digest && f.content.kind == output.content.kind) {
                continue;
            }
            identical = false;
            if self.first.is_none() {
                let (below, how) = difference(&self.project.store, &output.content, &root.join(&output.path));
                let path = below.map_or(output.path.to_string(), |b| format!("{}/{b}", output.path));
                self.first = Some(FirstDifference { stage: stage.clone(), path, how });
            }
        }
        let verdict = if identical {
            Verdict::Identical
        } else if metrics_agree(&recorded.metrics, &rebuilt.metrics, self.options.tolerance) {
            Verdict::Equivalent
        } else {
            Verdict::Different
        };
        self.done.insert(digest, Some(root.to_path_buf()));
        self.events.event(Event::Rebuilt { stage: stage.clone(), verdict, seconds: rebuilt.seconds });
        self.stages.push(StageRebuild { verdict, writes, seconds: rebuilt.seconds, ..StageRebuild::of(stage, digest) });
    }

    /// The verdict on the outputs asked for: identical bytes decide; else the worst of their stages.
    pub fn verdict_on(&self, wanted: &[(Digest, Option<String>)]) -> Verdict {
        let of_one = |(receipt, path): &(Digest, Option<String>)| {
            let Some(stage) = self.stages.iter().find(|s| s.receipt == *receipt) else { return Verdict::Failed };
            let mut asked = stage.writes.iter().filter(|w| path.as_ref().is_none_or(|p| w.path == *p));
            if asked.all(|w| w.rebuilt == Some(w.recorded)) { Verdict::Identical } else { stage.verdict }
        };
        let worst = wanted.iter().map(of_one).max().unwrap_or(Verdict::Failed);
        // What cannot be rebuilt to the end is not rebuilt, even if nothing asked for hangs on it.
        self.stages.iter().map(|s| s.verdict).filter(|v| *v == Verdict::Failed).max().unwrap_or(worst)
    }

    /// A model has no metrics of its own: the later stages of its run that judge it are rebuilt too, and
    /// their metrics decide whether a model of other bytes is an equivalent one.
    pub fn judge_by_later_metrics(&mut self, run: &str, wanted: &[(Digest, Option<String>)]) -> Result<Verdict, RebuildError> {
        let Some(row) = self.project.ledger.run(run)? else { return Ok(Verdict::Different) };
        let receipt = crate::record::receipt::RunReceipt::load(&self.project.store, &row.receipt)?;
        let asked: Vec<Digest> = wanted.iter().map(|(d, _)| *d).collect();
        let mut verdicts = Vec::new();
        for digest in receipt.stages.iter().filter_map(|s| s.receipt) {
            if self.done.contains_key(&digest) {
                continue;
            }
            let later = StageReceipt::load(&self.project.store, &digest)?;
            let by: Vec<Digest> = later.reads.iter().flat_map(|r| r.by.iter().copied()).collect();
            let judges = !later.metrics.is_empty() && by.iter().any(|b| asked.contains(b));
            let can = by.iter().all(|b| matches!(self.done.get(b), Some(Some(_))));
            if judges && can && later.state == StageState::Done {
                self.stage(digest, &later)?;
                verdicts.extend(self.stages.last().map(|s| s.verdict));
            }
        }
        let agree = !verdicts.is_empty() && verdicts.iter().all(|v| matches!(v, Verdict::Identical | Verdict::Equivalent));
        Ok(if agree { Verdict::Equivalent } else { Verdict::Different })
    }
}

/// A stage as it was executed in a rebuild.
pub(super) struct Attempt {
    pub rebuilt: StageReceipt,
    pub log: PathBuf,
    pub scanner: Arc<Scanner>,
    /// Whether nothing but what is recorded could be read; none where Textum does it itself.
    pub sealed: Option<bool>,
    /// Why it was not sealed, if it was to be.
    pub unsealed: Option<String>,
}

/// What is said of a reference that is no longer what was recorded.
pub fn reference_differs(recorded: &PathContent<SourcePath>, now: Option<&Content>) -> String {
    let (path, then) = (&recorded.path, recorded.content.digest.short());
    match now {
        Some(now) => format!("the reference {path} no longer matches: {then} was recorded, {} is there now", now.digest.short()),
        None => format!("the reference {path} is not there any more: {then} was recorded"),
    }
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

/// Copies what stands at a path below one folder to the same path below another, where nothing stands.
pub(super) fn copy_tree(from: &TreeDir, path: &ProjectPath, to: &TreeDir) -> Result<(), RebuildError> {
    copy_tree_to(from, path, to, path)
}

/// Copies what stands at a path below one folder to a path below another, where nothing stands.
fn copy_tree_to(from: &TreeDir, path: &ProjectPath, to: &TreeDir, at: &ProjectPath) -> Result<(), RebuildError> {
    to.create_parent(at)?;
    match from.standing(path)? {
        None | Some(Standing::Other) => {}
        Some(Standing::File) => fsio::copy_file(&from.full(path), &to.full(at))?,
        Some(Standing::Link) => to.create_link(&from.link_text(path)?.to_string_lossy(), at)?,
        Some(Standing::Folder) => {
            to.create_folder(at)?;
            let folder = from.full(path);
            for entry in std::fs::read_dir(&folder).map_err(IoError::of("list the folder", &folder))? {
                let entry = entry.map_err(IoError::of("list the folder", &folder))?;
                // A name that cannot be recorded is nothing that a later stage was recorded to read.
                let below = |above: &ProjectPath| entry.file_name().to_str().and_then(|name| above.join(name).ok());
                if let (Some(from_below), Some(to_below)) = (below(path), below(at)) {
                    copy_tree_to(from, &from_below, to, &to_below)?;
                }
            }
        }
    }
    Ok(())
}
