//! A whole run, top to bottom.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Mutex;
use std::time::{Duration, Instant};

use super::git::git_state;
use super::live::LiveRun;
use super::schedule::Capacity;
use super::stage::{Bench, Task};
use super::watch::{Watcher, undeclared};
use super::{ExecError, LocalPlace};
use crate::event::{CancelToken, Event, EventSink};
use crate::graph::StageIndex;
use crate::ledger::new_run_id;
use crate::plan::{Action, Decision, Outlook, Plan, Settled};
use crate::receipt::{
    BetterWord, Content, ContentKind, DatasetState, Metric, PathContent, RUN_RECEIPT, Read, RunReceipt, RunStage,
    RunStageState, RunState, StageReceipt, StageState, TREE_RECEIPT, TreeReceipt, TreeStage, canonical,
};
use crate::restore::put_in_tree;
use crate::store::{Digest, Stored, Writer};
use crate::workspace::Project;

/// How a run is to go.
#[derive(Clone, Debug, Default)]
pub struct RunOptions {
    /// The stages asked for, with all they need; empty: all.
    pub stages: Vec<StageIndex>,
    /// Stages to be executed whatever is recorded.
    pub force: BTreeSet<StageIndex>,
    /// Stages at once at most.
    pub jobs: Option<usize>,
    /// Whether stages that do not depend on a failed one still run.
    pub keep_going: bool,
    /// Whether what stages print is told of.
    pub echo: bool,
    /// Whether to work in a fresh folder that holds only what is declared.
    pub sandbox: bool,
    /// A name for the run.
    pub label: Option<String>,
    /// Words about the run.
    pub note: Option<String>,
    /// The command line's words, for the receipt.
    pub arguments: Vec<String>,
    /// Who runs it, and where.
    pub by: String,
}

/// What became of a stage.
#[derive(Clone, Debug)]
pub struct SettledStage {
    /// Its name.
    pub stage: String,
    /// What became of it.
    pub state: RunStageState,
    /// Its key, if known.
    pub key: Option<Digest>,
    /// The receipt of the execution whose result it has, or that failed.
    pub receipt: Option<(Digest, StageReceipt)>,
    /// Seconds it took in this run.
    pub seconds: f64,
}

/// What became of a run.
#[derive(Debug)]
pub struct RunOutcome {
    /// Its id. When there was nothing to do: that of the run whose results stand there.
    pub run: Option<String>,
    /// Whether it was recorded: a run with nothing to do is not.
    pub recorded: bool,
    /// How it ended.
    pub state: RunState,
    /// Its stages, in the order of their dependencies.
    pub stages: Vec<SettledStage>,
    /// The metrics of all stages.
    pub metrics: BTreeMap<String, Metric>,
    /// Seconds it took.
    pub seconds: f64,
    /// The run's sandbox, if it worked in one: its outputs are there.
    pub sandbox: Option<std::path::PathBuf>,
}

/// Runs what the plan says and records it. The project must have been opened to write.
pub fn run(project: &mut Project, options: &RunOptions, events: &dyn EventSink, cancel: &CancelToken) -> Result<RunOutcome, ExecError> {
    let clock = Instant::now();
    let who = format!("process {}, by {}, since {}", std::process::id(), options.by, jiff::Timestamp::now().strftime("%H:%M:%S UTC"));
    let _tree = if options.sandbox { None } else { Some(project.workspace.lock_tree(&who)?) };
    super::close_interrupted(project, events)?;
    let selected = project.graph.select(&options.stages);
    crate::plan::missing_reads(project, &selected).map_err(crate::plan::PlanError::from)?;
    let (recorded, manifest) = {
        let project = &*project;
        let writer = project.store.writer()?;
        let reads = record_reads(project, &selected, &writer)?;
        if !options.sandbox && !has_work(project, &selected, options)? {
            project.scanner.save();
            return nothing_to_do(project, &selected, options, clock);
        }
        let manifest = writer.put_bytes(project.manifest.text.as_bytes())?;
        record_settings(project, &writer)?;
        // Nothing is executed before what it reads is safe.
        writer.publish()?;
        (reads, manifest)
    };
    let run = new_run_id(&project.ledger)?;
    if options.sandbox {
        let root = crate::sandbox::create(&project.workspace, &run, &project.store, &recorded)?;
        project.scanner = crate::fingerprint::Scanner::open(&root, None);
    }
    let draft = draft(project, &run, options, &recorded, manifest);
    let live = LiveRun::begin(&project.workspace.runs_folder(), &draft)?;
    events.event(Event::Begun { run: run.clone(), stages: selected.iter().filter(|s| **s).count() });
    let outcome = carry_out(project, &selected, options, &live, draft, events, cancel, clock)?;
    project.ledger.catch_up(&project.store)?;
    project.scanner.save();
    live.end()?;
    project.store.fold_small_packs()?;
    Ok(outcome)
}

/// Takes everything that no stage writes into the store: data and code that stages read, and all datasets.
fn record_reads(project: &Project, selected: &[bool], writer: &Writer<'_>) -> Result<BTreeMap<String, Content>, ExecError> {
    let stages = project.manifest.stages.iter().enumerate().filter(|(i, _)| selected[*i]);
    let mut paths: BTreeSet<&str> = stages.flat_map(|(_, s)| s.reads.iter().map(String::as_str)).collect();
    paths.extend(project.manifest.environment.files.iter().map(String::as_str));
    paths.extend(project.manifest.data.iter().map(|d| d.path.as_str()));
    paths.retain(|p| project.graph.writers_of(p).is_empty());
    let mut recorded = BTreeMap::new();
    for path in paths {
        if let Some(content) = project.scanner.record(path, writer)? {
            recorded.insert(path.to_string(), content);
        }
    }
    Ok(recorded)
}

/// Takes environment, parameters and variables into the store: what a trace names can be read back.
fn record_settings(project: &Project, writer: &Writer<'_>) -> Result<(), ExecError> {
    let environment = project.environment()?;
    writer.put_document(&canonical(&environment.record)?)?;
    if let Some(counted) = &environment.counted {
        writer.put_document(&canonical(counted)?)?;
    }
    let params = project.params.iter().map(|(_, value)| value.to_string());
    for text in params.chain(environment.variables.values().flatten().cloned()) {
        writer.put_bytes(text.as_bytes())?;
    }
    Ok(())
}

fn has_work(project: &Project, selected: &[bool], options: &RunOptions) -> Result<bool, ExecError> {
    if options.label.is_some() || options.note.is_some() {
        return Ok(true);
    }
    let outlook = Outlook::new(project, selected, options.force.clone())?;
    Ok(Plan::make(&outlook, selected)?.has_work())
}

fn nothing_to_do(project: &Project, selected: &[bool], options: &RunOptions, clock: Instant) -> Result<RunOutcome, ExecError> {
    let outlook = Outlook::new(project, selected, options.force.clone())?;
    let plan = Plan::make(&outlook, selected)?;
    let mut tree = outlook.tree.clone().unwrap_or_default();
    let stages: Vec<SettledStage> = plan.decisions.into_iter().map(|d| settled_by_record(d, RunStageState::UpToDate)).collect();
    // The tree may have come to this state by hand: then its receipt is brought up to it.
    let run = tree.run.clone().or_else(|| stages.iter().filter_map(|s| s.receipt.as_ref()).map(|(_, r)| r.run.clone()).max());
    tree.run.clone_from(&run);
    update_tree(project, &mut tree, &stages)?;
    let metrics = metrics_of(&stages);
    let seconds = clock.elapsed().as_secs_f64();
    Ok(RunOutcome { run, recorded: false, state: RunState::Done, stages, metrics, seconds, sandbox: None })
}

fn settled_by_record(decision: Decision, state: RunStageState) -> SettledStage {
    SettledStage { stage: decision.stage, state, key: decision.key, receipt: decision.result, seconds: 0.0 }
}

fn metrics_of(stages: &[SettledStage]) -> BTreeMap<String, Metric> {
    let mut all = BTreeMap::new();
    for (stage, receipt) in stages.iter().filter_map(|s| s.receipt.as_ref().map(|(_, r)| (&s.stage, r))) {
        for (name, value) in &receipt.metrics {
            // Two stages may both have an `auc`: the later one's is then known by its stage.
            let name = if all.contains_key(name) { format!("{stage}.{name}") } else { name.clone() };
            all.insert(name, *value);
        }
    }
    all
}

fn draft(project: &Project, run: &str, options: &RunOptions, recorded: &BTreeMap<String, Content>, stored: Stored) -> RunReceipt {
    let manifest = &project.manifest;
    let data = manifest.data.iter().filter_map(|d| {
        recorded.get(&d.path).map(|c| (d.name.clone(), DatasetState { path: d.path.clone(), content: c.clone() }))
    });
    RunReceipt {
        r#type: RUN_RECEIPT.to_string(),
        run: run.to_string(),
        project: manifest.name.clone(),
        state: RunState::Interrupted,
        reason: None,
        started: jiff::Timestamp::now().to_string(),
        seconds: 0.0,
        label: options.label.clone(),
        note: options.note.clone(),
        arguments: options.arguments.clone(),
        manifest: Content { kind: ContentKind::File, digest: stored.digest, size: stored.size, files: None },
        params: project.params.iter().map(|(n, v)| (n.to_string(), v.to_string())).collect(),
        set: project.set.clone(),
        data: data.collect(),
        stages: Vec::new(),
        metrics: BTreeMap::new(),
        better: manifest.metrics.iter().map(|(n, b)| (n.clone(), BetterWord::from(*b))).collect(),
        git: git_state(project.workspace.root()),
        by: options.by.clone(),
        sandbox: options.sandbox,
        textum: env!("CARGO_PKG_VERSION").to_string(),
    }
}

/// Everything the scheduler keeps account of while stages run.
struct Conductor<'a> {
    project: &'a Project,
    outlook: Outlook<'a>,
    options: &'a RunOptions,
    bench: &'a Bench<'a>,
    writer: &'a Writer<'a>,
    live: &'a LiveRun,
    watcher: Option<Watcher>,
    environment: Option<Digest>,
    events: &'a dyn EventSink,
    settled: BTreeMap<StageIndex, Settled>,
    done: BTreeMap<StageIndex, SettledStage>,
    /// Decided to be executed, waiting for room on the machine.
    waiting: Vec<Decision>,
    running: BTreeSet<StageIndex>,
    capacity: Capacity,
    /// Nothing new is begun.
    halted: bool,
}

#[allow(clippy::too_many_arguments)]
fn carry_out(
    project: &Project,
    selected: &[bool],
    options: &RunOptions,
    live: &LiveRun,
    mut draft: RunReceipt,
    events: &dyn EventSink,
    cancel: &CancelToken,
    clock: Instant,
) -> Result<RunOutcome, ExecError> {
    let writer = project.store.writer()?;
    let bench = Bench {
        scanner: &project.scanner,
        writer: Some(&writer),
        place: &LocalPlace,
        variables: &project.variables,
        echo: options.echo,
        events,
        cancel,
        at_work: Mutex::default(),
    };
    let outlook = Outlook::new(project, selected, options.force.clone())?;
    let environment = Digest::of(&canonical(&outlook.environment.record)?);
    let declared_whole = |path: &str| project.manifest.stages.iter().any(|s| s.reads.iter().any(|r| r == path));
    let watcher = (!options.sandbox).then(|| Watcher::start(project.workspace.root(), declared_whole)).flatten();
    let mut conductor = Conductor {
        project,
        outlook,
        options,
        bench: &bench,
        writer: &writer,
        live,
        watcher,
        environment: Some(environment),
        events,
        settled: BTreeMap::new(),
        done: BTreeMap::new(),
        waiting: Vec::new(),
        running: BTreeSet::new(),
        capacity: Capacity::of_machine(options.jobs),
        halted: false,
    };
    let result = conductor.conduct(selected, &draft.run, cancel);
    let order: Vec<StageIndex> = project.graph.order().iter().copied().filter(|s| selected[*s]).collect();
    let stages: Vec<SettledStage> = order.iter().filter_map(|s| conductor.done.remove(s)).collect();
    result?;
    let state = match () {
        () if cancel.asked() && stages.iter().any(|s| matches!(s.state, RunStageState::Stopped | RunStageState::Skipped)) => RunState::Stopped,
        () if stages.iter().any(|s| matches!(s.state, RunStageState::Failed | RunStageState::Skipped | RunStageState::Stopped)) => RunState::Failed,
        () => RunState::Done,
    };
    let metrics = metrics_of(&stages);
    let seconds = clock.elapsed().as_secs_f64();
    draft.state = state;
    draft.reason = stages.iter().find_map(|s| s.receipt.as_ref().and_then(|(_, r)| r.reason.as_ref().map(|why| format!("{}: {why}", s.stage))));
    draft.seconds = seconds;
    draft.metrics.clone_from(&metrics);
    draft.stages = stages
        .iter()
        .map(|s| RunStage { stage: s.stage.clone(), state: s.state, key: s.key, receipt: s.receipt.as_ref().map(|r| r.0), seconds: s.seconds })
        .collect();
    writer.put_document(&canonical(&draft)?)?;
    writer.publish()?;
    if !options.sandbox {
        let mut tree = TreeReceipt::load(project.workspace.root()).map_err(crate::plan::PlanError::from)?.unwrap_or_default();
        tree.run = Some(draft.run.clone());
        tree.data = draft.data.clone();
        update_tree(project, &mut tree, &stages)?;
    }
    let sandbox = options.sandbox.then(|| project.scanner.root().to_path_buf());
    Ok(RunOutcome { run: Some(draft.run), recorded: true, state, stages, metrics, seconds, sandbox })
}

/// Brings the tree's receipt to what stands there after these stages were settled.
fn update_tree(project: &Project, tree: &mut TreeReceipt, stages: &[SettledStage]) -> Result<(), ExecError> {
    tree.r#type = TREE_RECEIPT.to_string();
    tree.stages.retain(|name, _| project.manifest.stage(name).is_some());
    tree.data.retain(|name, _| project.manifest.data.iter().any(|d| d.name == *name));
    for stage in stages {
        match (&stage.receipt, stage.state) {
            (Some((digest, receipt)), RunStageState::Ran | RunStageState::Reused | RunStageState::UpToDate) => {
                tree.stages.insert(stage.stage.clone(), TreeStage::of(receipt, *digest));
            }
            (_, RunStageState::Failed | RunStageState::Stopped) => drop(tree.stages.remove(&stage.stage)),
            _ => {}
        }
    }
    Ok(tree.save(project.workspace.root())?)
}

type Report = (StageIndex, Decision, Result<StageReceipt, ExecError>);

impl Conductor<'_> {
    fn conduct(&mut self, selected: &[bool], run: &str, cancel: &CancelToken) -> Result<(), ExecError> {
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
                if cancel.asked() && !told.0 {
                    told.0 = true;
                    self.halted = true;
                    self.events.event(Event::Stopping);
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
                    self.halted = true;
                    bench.end_all(false);
                }
                if self.running.is_empty() {
                    break;
                }
                if let Ok((index, decision, result)) = receive.recv_timeout(Duration::from_millis(50)) {
                    self.running.remove(&index);
                    self.capacity.give_back(&self.project.manifest.stages[index].needs);
                    if let Err(e) = result.and_then(|receipt| self.take_in(decision, receipt)) {
                        failure.get_or_insert(e);
                        self.halted = true;
                        bench.end_all(false);
                    }
                }
                // Results become safe in batches: a sync a stage would cost more than many a stage takes.
                if last_publish.elapsed() >= PUBLISH_EVERY {
                    if let Err(e) = self.writer.publish() {
                        failure.get_or_insert(e.into());
                        self.halted = true;
                        bench.end_all(false);
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
            self.settle(stage, SettledStage { stage: decl.name.clone(), state: RunStageState::Skipped, key: None, receipt: None, seconds: 0.0 }, None);
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
                Action::UpToDate => self.settle(stage, settled_by_record(decision, RunStageState::UpToDate), None),
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
                    let stage = SettledStage { stage: decision.stage.clone(), state: RunStageState::Failed, key: None, receipt: None, seconds: 0.0 };
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
        if let Some((_, receipt)) = &decision.result {
            let clearer = self.clearer(run);
            for output in receipt.outputs() {
                put_in_tree(&clearer, &output.path, &output.content)?;
            }
        }
        let index = decision.index;
        let mut stage = settled_by_record(decision, RunStageState::Reused);
        stage.seconds = clock.elapsed().as_secs_f64();
        self.settle(index, stage, None);
        Ok(())
    }

    /// What is to be executed, its outputs cleared; or why it cannot be.
    fn task(&self, decision: &Decision, run: &str) -> Result<Result<Task, String>, ExecError> {
        let (Some(inputs), Some(key)) = (&decision.inputs, decision.key) else {
            let absent: Vec<&str> = decision.reasons.iter().filter(|r| r.kind == crate::fingerprint::ReasonKind::Missing).map(|r| r.name.as_str()).collect();
            return Ok(Err(format!("it reads {}, which is not there: the stage that should write it did not", absent.join(", "))));
        };
        let clearer = self.clearer(run);
        for output in inputs.writes.iter().chain(&inputs.metrics) {
            clearer.clear(output.trim_end_matches('/'))?;
        }
        let mut reads = Vec::new();
        for (path, content) in &decision.reads {
            let writers = self.project.graph.writers_of(path);
            let by = writers.iter().filter_map(|w| self.done.get(w)?.receipt.as_ref().map(|r| r.0)).collect();
            reads.push(Read {
                at: PathContent { path: path.clone(), content: content.clone() },
                by,
                dataset: if writers.is_empty() { self.project.dataset_of(path).map(str::to_string) } else { None },
                for_all: self.project.manifest.environment.files.contains(path),
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
        if let (Some((_, old)), StageState::Done) = (&decision.result, receipt.state) {
            let differing: Vec<String> = old.outputs().zip(receipt.outputs()).filter(|(a, b)| a != b).map(|(a, _)| a.path.clone()).collect();
            if !differing.is_empty() {
                self.events.event(Event::NotDeterministic { stage: decision.stage.clone(), paths: differing });
            }
        }
        let state = match receipt.state {
            StageState::Done => RunStageState::Ran,
            StageState::Failed => RunStageState::Failed,
            StageState::Stopped => RunStageState::Stopped,
        };
        let reason = receipt.reason.clone();
        let seconds = receipt.seconds;
        let stage = SettledStage {
            stage: decision.stage,
            state,
            key: Some(receipt.key),
            receipt: Some((digest, receipt)),
            seconds,
        };
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
        let mut declared: Vec<&str> = Vec::new();
        let all = &self.project.manifest.stages;
        let alone = self.running.is_empty() && self.capacity_is_single();
        for stage in all.iter().filter(|s| !alone || s.name == decision.stage) {
            declared.extend(stage.reads.iter().map(String::as_str).chain(stage.outputs()));
        }
        declared.extend(self.project.manifest.environment.files.iter().map(String::as_str));
        let found = undeclared(&opened, declared.iter().copied());
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
        if good && let Some((_, receipt)) = &stage.receipt {
            self.settled.insert(index, Settled::Result { outputs: receipt.outputs().cloned().collect(), in_place: true });
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

