//! The beginning of one stage of a run: what it reads is looked at and taken in, and its place is made.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use textum_base::{ProjectPath, SourcePath};

use super::ExecError;
use super::active_run::ActiveRun;
use super::scheduler::Common;
use super::task::{TakenUp, Task};
use crate::config::graph::StageIndex;
use crate::event::Event;
use crate::fsio::TreeDir;
use crate::pipeline::executor::Cancel;
use crate::pipeline::plan::Decision;
use crate::project::fingerprint::{ReasonKind, ScanError, Scanner, Standstill};
use crate::project::tree::{ClearError, Staged, TreeCleaner, write_new};
use crate::record::receipt::{BranchedFrom, Content, Inputs, PathContent, Read};
use crate::store::Digest;

/// What becomes of a stage that is to begin.
pub(super) enum Begin {
    Ready(Box<Task>),
    /// It is decided on anew.
    Again,
    /// It cannot be executed, and why.
    Impossible(String),
}

/// A stage whose reads have changed so often between decision and beginning does not begin.
const MOST_CHANGES: u32 = 20;

impl ActiveRun<'_> {
    /// What is to be executed, its reads taken in and its outputs cleared.
    pub(super) fn task(&mut self, decision: &Decision, common: &mut Common<'_>) -> Result<Begin, ExecError> {
        let (Some(inputs), Some(key)) = (&decision.inputs, decision.key) else {
            let missing = decision.reasons.iter().filter(|r| r.kind == ReasonKind::Missing);
            let absent: Vec<&str> = missing.map(|r| r.name.as_str()).collect();
            let why = format!("it reads {}, which is not there: the stage that should write it did not", absent.join(", "));
            return Ok(Begin::Impossible(why));
        };
        if let Some(why) = self.cannot_be_sent(decision.index) {
            return Ok(Begin::Impossible(why));
        }
        if let Some(task) = self.take_up(decision, inputs, key, common)? {
            return Ok(Begin::Ready(Box::new(task)));
        }
        let scanner = match &self.apart {
            Some(apart) => {
                let (sandbox, scanner) = apart.prepare(decision.index, &decision.reads, &self.done)?;
                apart.was_made(decision.index, sandbox);
                scanner
            }
            None => {
                self.put_left_for(decision)?;
                self.project.scanner.clone()
            }
        };
        let mut standing = match self.take_in_reads(decision, &scanner, common) {
            Ok(Ok(standing)) => standing,
            Ok(Err(begin)) => return Ok(begin),
            Err(e) if e.is_textums_own() => return Err(e.into()),
            Err(e) => return Ok(Begin::Impossible(format!("what it reads cannot be recorded: {e}"))),
        };
        let decl = &self.project.manifest.stages[decision.index];
        let (param_files, how) = match self.take_in_param_files(decl, &scanner, common)? {
            Ok(found) => found,
            Err(why) => return Ok(Begin::Impossible(why)),
        };
        standing.extend(how);
        let sealed_off = self.is_sealed_off(decision.index);
        let scanner = match sealed_off {
            true => {
                let (scanner, in_sandbox) = self.seal_off(decision, &param_files, common)?;
                standing = in_sandbox;
                scanner
            }
            false => scanner,
        };
        let folder = self.live.folder.join(&decision.stage);
        self.note_data(&decision.stage, &decision.reads);
        let from = self.plan_context.from.get(&decision.index).cloned();
        if let Err(e) = self.make_way(inputs, decision, from.as_ref(), &scanner) {
            return match e {
                ExecError::Clear(e @ (ClearError::Io(_) | ClearError::Own(_))) => Ok(Begin::Impossible(e.to_string())),
                other => Err(other),
            };
        }
        let root = scanner.root().to_path_buf();
        let own = decision.reads.iter().map(|(path, content)| self.read(path, content));
        Ok(Begin::Ready(Box::new(Task {
            taken_up: None,
            is_sent: self.is_sent(decision.index),
            retries: self.retries_of(decision.index),
            inputs: inputs.clone(),
            key,
            reads: own.chain(param_files).collect(),
            versions: decision.versions.clone(),
            needs: decl.needs,
            place: self.options.place_of(decl, decision.index),
            run: self.draft.run.clone(),
            scanner,
            own_reads: if sealed_off { decision.reads.keys().cloned().collect() } else { self.own_reads(decision) },
            standing,
            clock_behind: self.clock_behind,
            from,
            stop_when: decl.stop_when.clone(),
            better: self.project.manifest.metrics.iter().cloned().collect(),
            seal: self.seal(decision.index, &root, &folder),
            folder,
            environment: self.environment,
            observe: decl.observe,
            sandbox_of: (self.apart.is_some() || sealed_off).then(|| self.project.workspace.root().to_path_buf()),
            is_rebuild: false,
        })))
    }

    /// The stage as a job makes it that was left by a Textum that is gone, if there is one.
    fn take_up(
        &mut self,
        decision: &Decision,
        inputs: &Inputs,
        key: Digest,
        common: &mut Common<'_>,
    ) -> Result<Option<Task>, ExecError> {
        let (in_tree, place) = (self.apart.is_none(), self.stage_context.place);
        let claimed = match self.plan_context.forced.contains(&decision.index) {
            true => None,
            false => common.unattended.claim(place, &decision.stage, key, in_tree)?,
        };
        let Some((left, job)) = claimed else {
            self.end_left_in_tree(&decision.stage, common)?;
            return Ok(None);
        };
        let decl = &self.project.manifest.stages[decision.index];
        let sealed_off = self.is_sealed_off(decision.index);
        let apart = self.apart.is_some() || sealed_off;
        let scanner = match apart {
            true => {
                let references = self.project.scanner.references().to_vec();
                Arc::new(Scanner::open(&left.root, None).with_references(references))
            }
            false => self.project.scanner.clone(),
        };
        if let Some(apart) = &self.apart {
            apart.was_made(decision.index, TreeDir::open(&left.root)?);
        }
        let Ok((param_files, _)) = self.take_in_param_files(decl, &scanner, common)? else {
            // It cannot be recorded, and nobody may work beside it.
            place.cancel(&job, Cancel::AtOnce).map_err(ExecError::MayBeAtWork)?;
            let _ = place.wait(&job);
            return Ok(None);
        };
        self.note_data(&decision.stage, &decision.reads);
        let made = self.project.ledger.checkpoints_of(&left.run)?.into_iter().filter(|c| c.stage == decision.stage);
        let event = Event::TakesUp { stage: decision.stage.clone(), run: left.run.clone(), place: left.place.clone() };
        self.events.event(event);
        let own = decision.reads.iter().map(|(path, content)| self.read(path, content));
        Ok(Some(Task {
            inputs: inputs.clone(),
            key,
            reads: own.chain(param_files).collect(),
            versions: decision.versions.clone(),
            needs: decl.needs,
            place: left.place.clone(),
            run: self.draft.run.clone(),
            scanner,
            own_reads: if sealed_off { decision.reads.keys().cloned().collect() } else { self.own_reads(decision) },
            clock_behind: self.clock_behind,
            from: self.plan_context.from.get(&decision.index).cloned(),
            stop_when: decl.stop_when.clone(),
            better: self.project.manifest.metrics.iter().cloned().collect(),
            seal: self.seal(decision.index, &left.root, &left.folder),
            folder: left.folder.clone(),
            environment: self.environment,
            observe: decl.observe,
            sandbox_of: apart.then(|| self.project.workspace.root().to_path_buf()),
            is_rebuild: false,
            is_sent: self.is_sent(decision.index),
            retries: self.retries_of(decision.index),
            taken_up: Some(TakenUp {
                job,
                started: left.started.clone(),
                since: left.since(),
                checkpoints: made.map(|c| (c.step, c)).collect(),
            }),
            standing: left.standing,
        }))
    }

    /// Ends what a Textum that is gone has left at work in the tree for a stage, where that is not wanted any more.
    pub(super) fn end_left_in_tree(&self, stage: &str, common: &mut Common<'_>) -> Result<(), ExecError> {
        match self.apart {
            Some(_) => Ok(()),
            None => common.unattended.end_in_tree(self.stage_context.place, stage),
        }
    }

    /// What is put into the stage's sandbox and no other one.
    fn own_reads(&self, decision: &Decision) -> BTreeSet<SourcePath> {
        let Some(apart) = &self.apart else { return BTreeSet::new() };
        decision.reads.keys().filter(|path| apart.is_of_one(path)).cloned().collect()
    }

    /// Takes what a stage reads into the store at the moment when it starts, and notes how it stands. What is no
    /// longer what was decided on is decided anew.
    fn take_in_reads(
        &mut self,
        decision: &Decision,
        scanner: &Scanner,
        common: &Common<'_>,
    ) -> Result<Result<BTreeMap<SourcePath, Standstill>, Begin>, ScanError> {
        let mut standing = BTreeMap::new();
        for (path, content) in &decision.reads {
            let writers = self.project.graph.writers_of(path);
            let output = writers.iter().find(|w| {
                self.done.get(w).and_then(|d| d.execution.as_ref()).is_some_and(|e| e.outputs.iter().any(|o| o.path == *path))
            });
            let found = match writers.is_empty() && self.apart.is_none() {
                true => Standstill::look_trusted(scanner.root(), path)?,
                false => Standstill::look(scanner.root(), path)?,
            };
            let now = match (output, &self.apart, writers.is_empty()) {
                // Out of the store, or out of the sandbox in which it has just been taken in.
                (Some(_), Some(_), _) | (None, Some(_), true) => found.is_some().then(|| content.clone()),
                (Some(_), None, _) => scanner.look(path)?,
                (None, ..) => scanner.record(path, common.writer)?,
            };
            let (Some(found), true) = (found, now.as_ref() == Some(content)) else {
                return Ok(Err(self.has_changed(decision.index, path, output.copied())));
            };
            standing.insert(path.clone(), found);
        }
        self.changed.remove(&decision.index);
        Ok(Ok(standing))
    }

    fn has_changed(&mut self, stage: StageIndex, path: &SourcePath, writer: Option<StageIndex>) -> Begin {
        if let Some(writer) = writer {
            let writer = self.project.graph.name(writer);
            return Begin::Impossible(format!("it reads {path}, which somebody has changed since {writer} had written it"));
        }
        let tries = self.changed.entry(stage).or_default();
        *tries += 1;
        match *tries > MOST_CHANGES {
            true => Begin::Impossible(format!("it reads {path}, which changes all the time")),
            false => Begin::Again,
        }
    }

    fn read(&self, path: &SourcePath, content: &Content) -> Read {
        let writers = self.project.graph.writers_of(path);
        let by = writers.iter().filter_map(|w| self.done.get(w)?.execution.as_ref().map(|e| e.receipt)).collect();
        let dataset = self.project.dataset_of(path).filter(|_| writers.is_empty());
        Read {
            at: PathContent { path: path.clone(), content: content.clone() },
            by,
            dataset: dataset.map(str::to_string),
            published: dataset.and_then(|name| self.project.published.get(name).cloned()),
            for_all: self.project.manifest.environment.files.iter().any(|f| path == f),
            params: false,
            hold: self.project.hold_of(path),
        }
    }

    /// Clears room for a stage's outputs, and puts the checkpoint in place that it goes on from.
    fn make_way(
        &self,
        inputs: &Inputs,
        decision: &Decision,
        from: Option<&BranchedFrom>,
        scanner: &Scanner,
    ) -> Result<(), ExecError> {
        let stage = decision.stage.as_str();
        if self.apart.is_some() || self.is_sealed_off(decision.index) {
            // A sandbox is new.
            if let (Some(path), Some(from)) = (&inputs.checkpoints, from) {
                write_new(&self.project.store, &from.content, &TreeDir::open(scanner.root())?, path)?;
                self.events.event(Event::GoesOn { stage: stage.to_string(), run: from.run.clone(), step: from.step });
            }
            return Ok(());
        }
        let cleaner = self.cleaner();
        for output in inputs.writes.iter().map(|w| &w.path).chain(&inputs.metrics) {
            cleaner.clear(output)?;
        }
        match &inputs.checkpoints {
            Some(path) => self.prepare_checkpoints(&cleaner, stage, path, from),
            None => Ok(()),
        }
    }

    /// A stage starts clean unless it is told to go on from a checkpoint; then that lies there, and nothing else.
    fn prepare_checkpoints(
        &self,
        cleaner: &TreeCleaner<'_>,
        stage: &str,
        path: &ProjectPath,
        from: Option<&BranchedFrom>,
    ) -> Result<(), ExecError> {
        let stage = stage.to_string();
        let lay_there = self.tree.standing(path)?.is_some();
        cleaner.clear(path)?;
        match from {
            Some(from) => {
                let mut staged = Staged::new(cleaner);
                staged.add(path, &from.content)?;
                staged.apply()?;
                self.events.event(Event::GoesOn { stage, run: from.run.clone(), step: from.step });
            }
            None if lay_there => self.events.event(Event::StartsClean { stage, path: path.to_string() }),
            None => {}
        }
        Ok(())
    }
}
