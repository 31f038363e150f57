//! One run under way: settles or begins each stage as soon as what it reads is there.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::time::{Duration, Instant};

use super::ExecError;
use super::apart::Apart;
use super::begin::Begin;
use super::end::settled_by_record;
use super::gates::Gates;
use super::live::LiveRun;
use super::outcome::SettledStage;
use super::run::RunOptions;
use super::scheduler::Common;
use super::stage::StageContext;
use super::stage_set::StageSet;
use super::stopping::Ending;
use super::task::Task;
use super::watch::Watcher;
use crate::config::graph::StageIndex;
use crate::event::{Event, EventSink};
use crate::fsio::{NameLock, TreeDir, TryName};
use crate::pipeline::plan::{Action, Decision, HowMade, PlanContext, Settled};
use crate::project::tree::TreeCleaner;
use crate::project::workspace::Project;
use crate::record::receipt::{Observed, ObservedHow, PathContent, RunReceipt, RunStageState, StageReceipt, canonical};
use crate::store::Digest;

/// Everything the scheduler keeps account of while the stages of one run are carried out.
pub(super) struct ActiveRun<'a> {
    pub(super) project: &'a Project,
    pub(super) plan_context: PlanContext<'a>,
    pub(super) options: &'a RunOptions,
    pub(super) stage_context: &'a StageContext<'a>,
    pub(super) live: LiveRun,
    pub(super) draft: RunReceipt,
    pub(super) gates: &'a Gates,
    /// The sandboxes, for stages apart from the working tree; else the tree itself.
    pub(super) apart: Option<Apart<'a>>,
    pub(super) tree: TreeDir,
    /// By how much the clock is behind what was recorded before.
    pub(super) clock_behind: Option<jiff::SignedDuration>,
    /// The locks on the keys of stages at work.
    pub(super) locks: BTreeMap<StageIndex, NameLock>,
    /// Stages that wait for another process, by what was said of it.
    pub(super) waits: BTreeMap<StageIndex, String>,
    /// How often a stage's reads had changed again when it was to begin.
    pub(super) changed: BTreeMap<StageIndex, u32>,
    /// Datasets whose state in this run is what a stage has read.
    pub(super) read_data: BTreeSet<String>,
    pub(super) watcher: Option<Watcher>,
    /// Everything that any stage declares.
    pub(super) declared: HashSet<&'a str>,
    pub(super) environment: Option<Digest>,
    pub(super) events: &'a dyn EventSink,
    /// The stages of the run in the order of their dependencies, and those not yet decided on.
    pub(super) order: Vec<StageIndex>,
    pub(super) todo: StageSet,
    /// Those whose results are there.
    pub(super) with_result: StageSet,
    pub(super) settled: BTreeMap<StageIndex, Settled>,
    pub(super) done: BTreeMap<StageIndex, SettledStage>,
    /// Outputs that were left out of the tree, by their stages.
    pub(super) left: BTreeMap<StageIndex, Vec<PathContent>>,
    /// Decided to be executed, waiting for room on the machine.
    pub(super) waiting: Vec<Decision>,
    pub(super) running: BTreeSet<StageIndex>,
    /// Those of them whose command has ended well: what it made is being recorded, and its room is another's.
    pub(super) recording: BTreeSet<StageIndex>,
    /// Nothing new is begun.
    pub(super) halted: bool,
    pub(super) clock: Instant,
    pub(super) ending: Ending,
}

/// The paths that a stage declares, or all stages do.
pub(super) fn declared_by<'p>(project: &'p Project, stage: Option<&str>) -> HashSet<&'p str> {
    let stages = project.manifest.stages.iter().filter(|s| stage.is_none_or(|name| s.name == name));
    let params = stages.clone().flat_map(|s| super::param_files::used(project, s)).map(|f| &*f.path);
    let own = stages.flat_map(|s| s.reads.iter().map(|r| &**r).chain(s.outputs().map(|o| &**o))).chain(params);
    own.chain(project.manifest.stages.iter().filter_map(|s| s.checkpoints.as_deref()))
        .chain(project.manifest.environment.files.iter().map(|f| &**f))
        .collect()
}

impl ActiveRun<'_> {
    /// Whether nothing is at work and nothing can be begun any more.
    pub(super) fn is_over(&self) -> bool {
        self.running.is_empty() && self.waiting.is_empty() && (self.halted || self.todo.is_empty() || self.is_stuck())
    }

    /// Whether all that is left waits for what did not succeed.
    fn is_stuck(&self) -> bool {
        !self.todo.iter().any(|stage| self.is_ready(stage))
    }

    /// Whether all that it declares to need of other stages is there.
    fn is_ready(&self, stage: StageIndex) -> bool {
        self.project.graph.upstream(stage).iter().all(|u| self.with_result.contains(*u))
    }

    pub(super) fn skip_the_rest(&mut self) {
        for stage in std::mem::take(&mut self.todo).iter() {
            let name = self.project.manifest.stages[stage].name.clone();
            let skipped = SettledStage { stage: name, state: RunStageState::Skipped, key: None, execution: None, seconds: 0.0 };
            self.settle(stage, skipped, None);
        }
    }

    /// Settles or begins every stage whose upstream has its results, as far as the machine has room.
    pub(super) fn begin_what_can(
        &mut self,
        common: &mut Common<'_>,
        mut start: impl FnMut(StageIndex, Decision, Task),
    ) -> Result<(), ExecError> {
        if self.halted {
            for decision in self.waiting.drain(..) {
                self.todo.insert(decision.index);
                decision.key.iter().for_each(|k| {
                    common.in_flight.remove(k);
                });
            }
            return Ok(());
        }
        for at in 0..self.order.len() {
            let stage = self.order[at];
            if self.halted || !self.todo.contains(stage) || !self.is_ready(stage) {
                continue;
            }
            // What it was seen to read from others without declaring it is there before it is decided on.
            let unfinished = |u: &StageIndex| self.todo.contains(*u) || self.running.contains(u) || self.is_waiting(*u);
            if self.plan_context.learned_upstream(stage)?.iter().any(unfinished)
                && !self.running.is_empty() | self.others_can_begin(stage)?
            {
                continue;
            }
            if !self.left.is_empty() {
                let seen_to_read = self.plan_context.learned_upstream(stage)?;
                self.put_left_of(&seen_to_read)?;
            }
            let Some(mut decision) = self.decide(stage, common)? else { continue };
            self.take_on_trust(&mut decision, common)?;
            self.todo.remove(stage);
            if decision.action != Action::Run {
                self.end_left_in_tree(&decision.stage, common)?;
            }
            match decision.action {
                Action::UpToDate => {
                    self.note_data(&decision.stage, &decision.reads);
                    let settled = settled_by_record(self.project, decision, RunStageState::UpToDate)?;
                    self.settle(stage, settled, None);
                    self.look_at_gates(stage)?;
                }
                Action::Reuse => self.reuse(decision)?,
                Action::Run => {
                    common.in_flight.extend(decision.key.filter(|_| common.shared));
                    self.waiting.push(decision);
                }
            }
        }
        for decision in std::mem::take(&mut self.waiting) {
            let index = decision.index;
            if self.halted || !self.take_room(index, common) {
                self.waiting.push(decision);
                continue;
            }
            let decl = &self.project.manifest.stages[index];
            if common.dirty && self.options.place_of(decl, index).is_some() {
                // A job outlives this process, so what it reads must too.
                common.publish()?;
            }
            match self.task(&decision, common)? {
                Begin::Ready(task) => {
                    self.running.insert(decision.index);
                    self.events.event(Event::StageStarted { stage: decision.stage.clone(), before: decision.before });
                    start(decision.index, decision, *task);
                }
                Begin::Again => {
                    // What it reads has changed since it was decided on: that is decided anew.
                    self.does_not_begin(&decision, common);
                    self.project.scanner.forget_lately();
                    self.todo.insert(decision.index);
                }
                Begin::Impossible(reason) => {
                    self.does_not_begin(&decision, common);
                    let stage = SettledStage {
                        stage: decision.stage.clone(),
                        state: RunStageState::Failed,
                        key: None,
                        execution: None,
                        seconds: 0.0,
                    };
                    self.settle(decision.index, stage, Some(reason));
                }
            }
        }
        Ok(())
    }

    /// Tells a result from before stages were observed anew, as one that a person trusts.
    fn take_on_trust(&self, decision: &mut Decision, common: &mut Common<'_>) -> Result<(), ExecError> {
        let used = decision.action != Action::Run && self.plan_context.trust_old;
        let (Some(recorded), Some(inputs), Some(key)) = (&mut decision.result, &decision.inputs, decision.key) else {
            return Ok(());
        };
        let decl = &self.project.manifest.stages[decision.index];
        if !used || recorded.made.observed.is_some() || !decl.observe {
            return Ok(());
        }
        let old = StageReceipt::load(&self.project.store, &recorded.receipt)?;
        let observed = Observed { how: ObservedHow::Trusted, because: None, inputs: None, environment: None, sealed: false };
        let (taken_over, observed) = (Some(recorded.receipt), Some(observed));
        let told = StageReceipt { inputs: inputs.clone(), key, observed, taken_over, ..old };
        recorded.receipt = common.writer.put_document(&canonical(&told)?)?;
        recorded.made = HowMade::of(&told);
        // Its metrics are read in a moment.
        common.publish()
    }

    fn is_waiting(&self, stage: StageIndex) -> bool {
        self.waiting.iter().any(|d| d.index == stage)
    }

    /// Whether any other stage can begin before this one: those that read from one another in a circle do not wait
    /// for ever.
    fn others_can_begin(&self, stage: StageIndex) -> Result<bool, ExecError> {
        if !self.waiting.is_empty() {
            return Ok(true);
        }
        for other in self.todo.iter().filter(|o| *o != stage && self.is_ready(*o)) {
            if !self.plan_context.learned_upstream(other)?.iter().any(|u| self.todo.contains(*u)) {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// What is to be done for a stage whose upstream has its results; `None` while somebody else makes just what
    /// it would make.
    fn decide(&mut self, stage: StageIndex, common: &mut Common<'_>) -> Result<Option<Decision>, ExecError> {
        if self.apart.is_some() && common.dirty && self.reads_parts(stage) {
            // Only what is published can be read piece by piece.
            common.publish()?;
        }
        let mut decision = self.plan_context.decide(stage, &self.settled)?;
        if let Some(recorded) = &decision.result
            && common.unpublished.contains(&recorded.receipt)
        {
            // Only what is published can be put in place.
            common.publish()?;
            decision = self.plan_context.decide(stage, &self.settled)?;
        }
        let Some(key) = decision.key.filter(|_| decision.action == Action::Run) else { return Ok(Some(decision)) };
        // Somebody in this process is making just this result: it will be taken over.
        if common.in_flight.contains(&key) {
            return Ok(None);
        }
        if self.plan_context.forced.contains(&stage) {
            return Ok(Some(decision));
        }
        // One execution of a key at a time, whichever process begins it: the others wait for the result.
        match NameLock::take(&self.project.workspace.keys_lock(&key), key.as_bytes(), &self.draft.run)? {
            TryName::Held(by) => {
                let run: String = by.chars().filter(|c| c.is_ascii_alphanumeric() || *c == '-').take(40).collect();
                if self.waits.insert(stage, run.clone()) != Some(run.clone()) {
                    self.events.event(Event::Waits { stage: decision.stage, run });
                }
                Ok(None)
            }
            TryName::Taken(lock) => {
                // Another process may have made it since the ledger was looked at last, and may have told the ledger.
                self.project.ledger.catch_up(&self.project.store)?;
                if self.project.ledger.result_of(&key)?.is_some() {
                    self.project.store.reload()?;
                    decision = self.plan_context.decide(stage, &self.settled)?;
                }
                self.waits.remove(&stage);
                if decision.action == Action::Run {
                    self.locks.insert(stage, lock);
                }
                Ok(Some(decision))
            }
        }
    }

    /// Whether a stage reads a part of what another writes, or a folder around it.
    fn reads_parts(&self, stage: StageIndex) -> bool {
        let reads = self.project.manifest.stages[stage].reads.iter();
        let mut made = reads.filter(|r| !self.project.graph.writers_of(r).is_empty());
        made.any(|r| {
            r.ends_with(".ipynb")
                || !self.done.values().filter_map(|d| d.execution.as_ref()).any(|e| e.outputs.iter().any(|o| o.path == *r))
        })
    }

    /// Whether it is one of many runs, whose sandboxes go when they are done.
    pub(super) fn of_sweep(&self) -> bool {
        self.draft.sweep.is_some()
    }

    pub(super) fn cleaner(&self) -> TreeCleaner<'_> {
        let state = self.project.workspace.state();
        let project = self.project;
        TreeCleaner::new(&self.tree, &project.scanner, &project.store, &project.ledger, state, &self.draft.run, self.events)
    }
}

/// How often it is looked whether another terminal asks to stop.
pub(super) const LOOK_FOR_STOP: Duration = Duration::from_millis(100);
