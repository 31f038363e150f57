//! What becomes of a stage that has its result: recorded, put in its place, told of, held against gates.

use std::collections::BTreeMap;
use std::rc::Rc;
use std::sync::PoisonError;
use std::time::Instant;

use textum_base::{SourcePath, overlap};

use super::ExecError;
use super::active_run::{ActiveRun, declared_by};
use super::end::settled_by_record;
use super::outcome::{Execution, SettledStage};
use super::scheduler::Common;
use super::watch::undeclared;
use crate::config::graph::StageIndex;
use crate::event::Event;
use crate::pipeline::plan::{Decision, HowMade, Recorded, Settled};
use crate::record::receipt::{
    Content, DatasetState, ObservedHow, PathContent, RunStageState, StageReceipt, StageState, Unchecked, canonical,
};

impl ActiveRun<'_> {
    /// Takes down which state of a dataset a stage reads: the run's versions are those that its stages have read.
    pub(super) fn note_data(&mut self, stage: &str, reads: &BTreeMap<SourcePath, Content>) {
        for (path, content) in reads {
            let Some(decl) = self.project.manifest.data.iter().find(|d| overlap(path, &d.path)) else { continue };
            let content = match decl.path == *path {
                true => Some(content.clone()),
                // A part of the dataset: the whole is as it stands at this moment.
                false if self.apart.is_none() => self.project.scanner.look_lately(&decl.path).ok().flatten(),
                false => None,
            };
            let Some(content) = content else { continue };
            let state = DatasetState { path: decl.path.clone(), content, hold: decl.hold };
            let before = self.draft.data.insert(decl.name.clone(), state.clone());
            let first = self.read_data.insert(decl.name.clone());
            if let Some(before) = before.filter(|b| !first && b.content != state.content) {
                let also = self.draft.also.entry(decl.name.clone()).or_default();
                if !also.contains(&before) {
                    also.push(before);
                }
                self.events.event(Event::DataChanged { dataset: decl.name.clone(), stage: stage.to_string() });
            }
        }
    }

    /// Looks at the gates after a stage that has its result. One that does not hold ends the run.
    pub(super) fn look_at_gates(&mut self, index: StageIndex) -> Result<(), ExecError> {
        let stage = &self.project.manifest.stages[index].name;
        let settled: Vec<&SettledStage> = self.done.values().collect();
        let mut found = self.gates.after(stage, &settled, &self.draft)?;
        for gate in &mut found {
            if !gate.held {
                self.halted = true;
                let left = self.order.iter().filter(|s| !self.done.contains_key(s) && !self.running.contains(s));
                gate.kept_from = left.map(|s| self.project.manifest.stages[*s].name.clone()).collect();
            }
            self.events.event(Event::Gate { gate: gate.clone() });
        }
        self.draft.gates.extend(found);
        Ok(())
    }

    /// Settles a stage whose result is recorded.
    pub(super) fn reuse(&mut self, decision: Decision) -> Result<(), ExecError> {
        let clock = Instant::now();
        self.note_data(&decision.stage, &decision.reads);
        // Apart from the tree nothing is put in place before a stage reads it.
        if let (Some(recorded), None) = (&decision.result, &self.apart) {
            if self.can_be_left(&recorded.outputs)? {
                self.left.insert(decision.index, recorded.outputs.clone());
            } else {
                self.put(&recorded.outputs)?;
            }
        }
        let index = decision.index;
        if let (Some(recorded), Some(apart), false) = (&decision.result, &self.apart, self.of_sweep()) {
            apart.show(index, &recorded.outputs)?;
        }
        let mut stage = settled_by_record(self.project, decision, RunStageState::Reused)?;
        stage.seconds = clock.elapsed().as_secs_f64();
        self.settle(index, stage, None);
        self.look_at_gates(index)
    }

    /// Settles a stage that was executed.
    pub(super) fn take_in(
        &mut self,
        decision: Decision,
        mut receipt: StageReceipt,
        common: &mut Common<'_>,
    ) -> Result<(), ExecError> {
        // Others may decide by it before it can be read.
        for settled in std::mem::take(&mut *self.stage_context.settled.lock().unwrap_or_else(PoisonError::into_inner)) {
            let is_its = receipt.observed.as_ref().is_some_and(|o| o.inputs == Some(settled.digest));
            let what = settled.inputs.unchecked();
            if is_its && what != Unchecked::default() {
                self.events.event(Event::Unchecked { stages: vec![(decision.stage.clone(), what)] });
            }
            if common.shared {
                self.plan_context.documents.borrow_mut().insert(settled.digest, Rc::new(settled.inputs));
                self.plan_context.observed.know(settled.lists);
            }
        }
        self.report_undeclared(&decision, &mut receipt, common);
        let digest = common.writer.put_document(&canonical(&receipt)?)?;
        common.dirty = true;
        if self.is_sealed_off(decision.index) {
            let outputs: Vec<PathContent> = receipt.outputs().cloned().collect();
            self.bring_in(decision.index, &outputs, common)?;
        }
        match &self.apart {
            Some(apart) if receipt.state != StageState::Done => apart.may_be_spoiled(decision.index),
            Some(apart) if !self.of_sweep() => apart.show(decision.index, &receipt.outputs().cloned().collect::<Vec<_>>())?,
            _ => {}
        }
        if common.shared {
            common.unpublished.insert(digest);
            if receipt.state == StageState::Done {
                let mut outputs: Vec<PathContent> = receipt.outputs().cloned().collect();
                outputs.sort_by(|a, b| a.path.cmp(&b.path));
                let recorded = Recorded {
                    receipt: digest,
                    run: receipt.run.clone(),
                    outputs,
                    has_metrics: !receipt.metrics.is_empty(),
                    made: HowMade::of(&receipt),
                };
                common.fresh.borrow_mut().insert(receipt.key, recorded);
            } else if let Some(apart) = &self.apart {
                // What the stage may have written into must not reach another one.
                receipt.reads.iter().for_each(|r| apart.pool.forget(&self.project.store, &r.at.content));
            }
        }
        if let (Some(old), StageState::Done) = (&decision.result, receipt.state) {
            let came_out_so = |o: &PathContent| receipt.outputs().any(|n| n == o);
            let differing: Vec<String> = old.outputs.iter().filter(|o| !came_out_so(o)).map(|o| o.path.to_string()).collect();
            if !differing.is_empty() {
                let is_seen = |how: Option<&str>| matches!(how, Some("yes"));
                let both_seen = is_seen(old.made.observed.as_deref()) && is_seen(HowMade::of(&receipt).observed.as_deref());
                let other_environment = !both_seen && old.made.environment != receipt.environment;
                let stage = decision.stage.clone();
                self.events.event(Event::NotDeterministic { other_environment, stage, paths: differing });
            }
        }
        let state = match receipt.state {
            StageState::Done => RunStageState::Ran,
            StageState::Failed => RunStageState::Failed,
            StageState::Stopped => RunStageState::Stopped,
        };
        let (reason, seconds, key) = (receipt.reason.clone(), receipt.seconds, receipt.key);
        let stage =
            SettledStage { stage: decision.stage, state, key: Some(key), execution: Some(Execution::of(digest, receipt)), seconds };
        self.settle(decision.index, stage, reason);
        if state == RunStageState::Ran { self.look_at_gates(decision.index) } else { Ok(()) }
    }

    /// What was opened while the stage ran and nothing declares. With several stages at work it cannot
    /// be told whose it was: then only what none of the pipeline declares is told of, to each.
    fn report_undeclared(&self, decision: &Decision, receipt: &mut StageReceipt, common: &Common<'_>) {
        let not = receipt.observed.as_ref().filter(|o| matches!(o.how, ObservedHow::No | ObservedHow::Part));
        if let Some((part, why)) = not.and_then(|o| Some((o.how == ObservedHow::Part, o.because.clone()?)))
            && !receipt.inputs.run.is_own()
        {
            self.events.event(Event::NotObserved { stage: decision.stage.clone(), why, part });
        }
        // What a tracer saw is what was read.
        if receipt.observed.as_ref().is_some_and(|o| matches!(o.how, ObservedHow::Yes | ObservedHow::Part)) {
            if receipt.state == StageState::Done && !receipt.undeclared.is_empty() {
                let paths = receipt.undeclared.clone();
                self.events.event(Event::Undeclared { stage: decision.stage.clone(), paths });
            }
            return;
        }
        let Some(watcher) = &self.watcher else { return };
        let opened = watcher.opened();
        if opened.is_empty() || receipt.state != StageState::Done {
            return;
        }
        let alone = !common.shared && self.running.is_empty() && self.capacity_is_single();
        let found = match alone {
            true => undeclared(&opened, &declared_by(self.project, Some(&decision.stage))),
            false => undeclared(&opened, &self.declared),
        };
        if !found.is_empty() {
            receipt.undeclared.clone_from(&found);
            self.events.event(Event::Undeclared { stage: decision.stage.clone(), paths: found });
        }
    }

    /// Whether never more than one stage is at work, so that what is opened is surely that stage's.
    fn capacity_is_single(&self) -> bool {
        self.options.jobs == Some(1) || self.project.manifest.stages.len() == 1 || self.is_chain()
    }

    fn is_chain(&self) -> bool {
        let graph = &self.project.graph;
        let order = graph.order();
        order.windows(2).all(|pair| graph.upstream(pair[1]).contains(&pair[0]))
    }

    pub(super) fn settle(&mut self, index: StageIndex, stage: SettledStage, reason: Option<String>) {
        if stage.state.has_result()
            && let Some(done) = &stage.execution
        {
            self.with_result.insert(index);
            self.settled.insert(index, Settled::Result { outputs: done.outputs.clone(), in_place: true });
        } else if matches!(stage.state, RunStageState::Failed | RunStageState::Stopped) && !self.options.keep_going {
            self.halted = true;
        }
        self.events.event(Event::StageSettled { stage: stage.stage.clone(), state: stage.state, seconds: stage.seconds, reason });
        self.done.insert(index, stage);
    }
}
