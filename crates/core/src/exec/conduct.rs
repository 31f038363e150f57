//! The scheduler of a run: settles or begins each stage as soon as what it reads is there.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::time::{Duration, Instant};

use super::ExecError;
use super::live::LiveRun;
use super::run::{Execution, RunOptions, SettledStage, settled_by_record};
use super::schedule::Capacity;
use super::stage::{Bench, Task};
use super::watch::{Watcher, undeclared};
use crate::event::{CancelToken, Event, EventSink};
use crate::graph::StageIndex;
use crate::plan::{Action, Decision, Outlook, Settled};
use crate::receipt::{PathContent, Read, RunStageState, StageReceipt, StageState, canonical};
use crate::restore::put_in_tree;
use crate::store::{Digest, Writer};
use crate::workspace::Project;

/// Everything the scheduler keeps account of while stages run.
pub(super) struct Conductor<'a> {
    pub(super) project: &'a Project,
    pub(super) outlook: Outlook<'a>,
    pub(super) options: &'a RunOptions,
    pub(super) bench: &'a Bench<'a>,
    pub(super) writer: &'a Writer<'a>,
    pub(super) live: &'a LiveRun,
    pub(super) watcher: Option<Watcher>,
    /// Everything that any stage declares.
    pub(super) declared: HashSet<&'a str>,
    pub(super) environment: Option<Digest>,
    pub(super) events: &'a dyn EventSink,
    pub(super) settled: BTreeMap<StageIndex, Settled>,
    pub(super) done: BTreeMap<StageIndex, SettledStage>,
    /// Decided to be executed, waiting for room on the machine.
    pub(super) waiting: Vec<Decision>,
    pub(super) running: BTreeSet<StageIndex>,
    pub(super) capacity: Capacity,
    /// Nothing new is begun.
    pub(super) halted: bool,
}

type Report = (StageIndex, Decision, Result<StageReceipt, ExecError>);

/// The paths that a stage declares, or all stages do.
pub(super) fn declared_by<'p>(project: &'p Project, stage: Option<&str>) -> HashSet<&'p str> {
    let stages = project.manifest.stages.iter().filter(|s| stage.is_none_or(|name| s.name == name));
    let own = stages.flat_map(|s| s.reads.iter().map(String::as_str).chain(s.outputs()));
    own.chain(project.manifest.environment.files.iter().map(String::as_str)).collect()
}

impl Conductor<'_> {
    /// Carries out what is to be done for the selected stages.
    pub(super) fn conduct(&mut self, selected: &[bool], run: &str, cancel: &CancelToken) -> Result<(), ExecError> {
        let order: Vec<StageIndex> = self.project.graph.order().iter().copied().filter(|s| selected[*s]).collect();
        let (send, receive) = crossbeam_channel::unbounded::<Report>();
        let bench = self.bench;
        let mut last_publish = Instant::now();
        let mut told = (false, false);
        let mut stop_at: Option<Instant> = None;
        let mut todo: BTreeSet<StageIndex> = order.iter().copied().collect();
        let mut failure = None;
        std::thread::scope(|scope| {
            loop {
                if (cancel.asked() || failure.is_some()) && !told.0 {
                    told.0 = true;
                    self.halted = true;
                    if cancel.asked() {
                        self.events.event(Event::Stopping);
                    }
                    bench.end_all(false);
                    stop_at = Some(Instant::now() + GRACE);
                }
                let out_of_patience = cancel.at_once() || stop_at.is_some_and(|at| Instant::now() >= at);
                if out_of_patience && !told.1 && told.0 {
                    told.1 = true;
                    bench.end_all(true);
                }
                if failure.is_none()
                    && let Err(e) = self.begin_what_can(&order, &mut todo, run, |index, decision, task| {
                        let send = send.clone();
                        scope.spawn(move || {
                            let result = bench.execute(task);
                            let _ = send.send((index, decision, result));
                        });
                    })
                {
                    failure = Some(e);
                }
                if self.running.is_empty() {
                    break;
                }
                if let Ok((index, decision, result)) = receive.recv_timeout(Duration::from_millis(50)) {
                    self.running.remove(&index);
                    self.capacity.give_back(&self.project.manifest.stages[index].needs);
                    if let Err(e) = result.and_then(|receipt| self.take_in(decision, receipt)) {
                        failure.get_or_insert(e);
                    }
                }
                // Results become safe in batches: a sync a stage would cost more than many a stage takes.
                if last_publish.elapsed() >= PUBLISH_EVERY {
                    if let Err(e) = self.writer.publish() {
                        failure.get_or_insert(e.into());
                    }
                    last_publish = Instant::now();
                }
            }
        });
        if let Some(e) = failure {
            return Err(e);
        }
        for stage in todo {
            let decl = &self.project.manifest.stages[stage];
            self.settle(
                stage,
                SettledStage { stage: decl.name.clone(), state: RunStageState::Skipped, key: None, execution: None, seconds: 0.0 },
                None,
            );
        }
        Ok(())
    }

    /// Settles or begins every stage whose upstream has its results, as far as the machine has room.
    fn begin_what_can(
        &mut self,
        order: &[StageIndex],
        todo: &mut BTreeSet<StageIndex>,
        run: &str,
        mut start: impl FnMut(StageIndex, Decision, Task),
    ) -> Result<(), ExecError> {
        if self.halted {
            todo.extend(self.waiting.drain(..).map(|d| d.index));
            return Ok(());
        }
        for &stage in order.iter().filter(|s| todo.contains(s)).copied().collect::<Vec<_>>().iter() {
            let upstream = self.project.graph.upstream(stage);
            if !upstream.iter().all(|u| matches!(self.settled.get(u), Some(Settled::Result { .. }))) {
                continue;
            }
            todo.remove(&stage);
            let decision = self.outlook.decide(stage, &self.settled)?;
            match decision.action {
                Action::UpToDate => self.settle(stage, settled_by_record(self.project, decision, RunStageState::UpToDate)?, None),
                Action::Reuse => self.reuse(decision, run)?,
                Action::Run => self.waiting.push(decision),
            }
        }
        for decision in std::mem::take(&mut self.waiting) {
            let needs = self.project.manifest.stages[decision.index].needs;
            if self.halted || !self.capacity.take(&needs) {
                self.waiting.push(decision);
                continue;
            }
            let task = self.task(&decision, run)?;
            match task {
                Ok(task) => {
                    self.running.insert(decision.index);
                    self.events.event(Event::StageStarted { stage: decision.stage.clone(), before: decision.before });
                    start(decision.index, decision, task);
                }
                Err(reason) => {
                    self.capacity.give_back(&needs);
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

    fn clearer(&self, run: &str) -> super::Clearer<'_> {
        super::Clearer {
            scanner: &self.project.scanner,
            store: &self.project.store,
            ledger: &self.project.ledger,
            aside: self.project.workspace.aside_folder().join(run),
            events: self.events,
        }
    }

    fn reuse(&mut self, decision: Decision, run: &str) -> Result<(), ExecError> {
        let clock = Instant::now();
        if let Some(recorded) = &decision.result {
            let clearer = self.clearer(run);
            for output in &recorded.outputs {
                put_in_tree(&clearer, &output.path, &output.content)?;
            }
        }
        let index = decision.index;
        let mut stage = settled_by_record(self.project, decision, RunStageState::Reused)?;
        stage.seconds = clock.elapsed().as_secs_f64();
        self.settle(index, stage, None);
        Ok(())
    }

    /// What is to be executed, its outputs cleared; or why it cannot be.
    fn task(&self, decision: &Decision, run: &str) -> Result<Result<Task, String>, ExecError> {
        let (Some(inputs), Some(key)) = (&decision.inputs, decision.key) else {
            let absent: Vec<&str> = decision
                .reasons
                .iter()
                .filter(|r| r.kind == crate::fingerprint::ReasonKind::Missing)
                .map(|r| r.name.as_str())
                .collect();
            return Ok(Err(format!("it reads {}, which is not there: the stage that should write it did not", absent.join(", "))));
        };
        let clearer = self.clearer(run);
        for output in inputs.writes.iter().chain(&inputs.metrics) {
            clearer.clear(output.trim_end_matches('/'))?;
        }
        let mut reads = Vec::new();
        for (path, content) in &decision.reads {
            let writers = self.project.graph.writers_of(path);
            // A folder with outputs and other files in it, or a part of an output, was not taken in by itself.
            let is_output = |w: &StageIndex| {
                self.done.get(w).and_then(|d| d.execution.as_ref()).is_some_and(|e| e.outputs.iter().any(|o| o.path == *path))
            };
            if !writers.is_empty()
                && !writers.iter().any(is_output)
                && self.project.scanner.record(path, self.writer)?.as_ref() != Some(content)
            {
                return Ok(Err(format!("it reads {path}, which has changed just now")));
            }
            let by = writers.iter().filter_map(|w| self.done.get(w)?.execution.as_ref().map(|e| e.receipt)).collect();
            reads.push(Read {
                at: PathContent { path: path.clone(), content: content.clone() },
                by,
                dataset: if writers.is_empty() { self.project.dataset_of(path).map(str::to_string) } else { None },
                for_all: self.project.manifest.environment.files.contains(path),
                hold: self.project.hold_of(path),
            });
        }
        Ok(Ok(Task {
            inputs: inputs.clone(),
            key,
            reads,
            needs: self.project.manifest.stages[decision.index].needs,
            run: run.to_string(),
            folder: self.live.folder.join(&decision.stage),
            environment: self.environment,
            sandbox_of: self.options.sandbox.then(|| self.project.workspace.root().to_path_buf()),
        }))
    }

    fn take_in(&mut self, decision: Decision, mut receipt: StageReceipt) -> Result<(), ExecError> {
        self.report_undeclared(&decision, &mut receipt);
        let digest = self.writer.put_document(&canonical(&receipt)?)?;
        if let (Some(old), StageState::Done) = (&decision.result, receipt.state) {
            let came_out_so = |o: &PathContent| receipt.outputs().any(|n| n == o);
            let differing: Vec<String> = old.outputs.iter().filter(|o| !came_out_so(o)).map(|o| o.path.clone()).collect();
            if !differing.is_empty() {
                self.events.event(Event::NotDeterministic { stage: decision.stage.clone(), paths: differing });
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
        Ok(())
    }

    /// What was opened while the stage ran and nothing declares. With several stages at work it cannot
    /// be told whose it was: then only what none of the pipeline declares is told of, to each.
    fn report_undeclared(&self, decision: &Decision, receipt: &mut StageReceipt) {
        let Some(watcher) = &self.watcher else { return };
        let opened = watcher.opened();
        if opened.is_empty() || receipt.state != StageState::Done {
            return;
        }
        let alone = self.running.is_empty() && self.capacity_is_single();
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

    fn settle(&mut self, index: StageIndex, stage: SettledStage, reason: Option<String>) {
        let good = matches!(stage.state, RunStageState::Ran | RunStageState::Reused | RunStageState::UpToDate);
        if good && let Some(done) = &stage.execution {
            self.settled.insert(index, Settled::Result { outputs: done.outputs.clone(), in_place: true });
        } else if stage.state == RunStageState::Failed && !self.options.keep_going {
            self.halted = true;
        }
        self.events.event(Event::StageSettled { stage: stage.stage.clone(), state: stage.state, seconds: stage.seconds, reason });
        self.done.insert(index, stage);
    }
}

/// How long stages have to end after they were asked to.
const GRACE: Duration = Duration::from_secs(10);
/// How long results may be unpublished.
const PUBLISH_EVERY: Duration = Duration::from_millis(1000);
