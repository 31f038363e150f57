//! A whole run, top to bottom.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::rc::Rc;
use std::sync::Mutex;
use std::time::Instant;
use textum_base::Identity;

use textum_base::SourcePath;

use super::ExecError;
use super::active_run::{ActiveRun, declared_by};
use super::apart::Apart;
use super::end::{end, fill_tree, nothing_to_do};
use super::gates::Gates;
use super::live::LiveRun;
use super::observing::Observer;
use super::outcome::RunOutcome;
use super::scheduler::{Common, schedule};
use super::stage::StageContext;
use super::unattended::Unattended;
use super::watch::Watcher;
use crate::config::graph::StageIndex;
use crate::config::manifest::{StageDecl, THIS_MACHINE};
use crate::data::{none_is_erased, recorded_anew};
use crate::event::{CancelToken, Event, EventSink};
use crate::fsio::TreeDir;
use crate::pipeline::executor::{Executor, Places};
use crate::pipeline::plan::{Plan, PlanContext};
use crate::project::fingerprint::MayStart;
use crate::project::git::git_state;
use crate::project::sandbox::Pool;
use crate::project::tree::drop_recorded_copies;
use crate::project::workspace::Project;
use crate::record::ledger::new_run_id;
use crate::record::receipt::{
    BranchedFrom, Content, DatasetState, GitState, RUN_RECEIPT, RunReceipt, RunState, TreeReceipt, canonical,
};
use crate::store::{Digest, Stored, Writer};

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
    /// Whether all stages are sealed.
    pub sealed: bool,
    /// Whether results from before stages were observed are taken for right.
    pub trust_old: bool,
    /// Whether to work in a fresh folder that holds only what is declared.
    pub sandbox: bool,
    /// Whether outputs of results that are reused are put into the tree only if a stage that is executed reads them.
    pub lazy: bool,
    /// The checkpoints that stages go on from.
    pub from: BTreeMap<StageIndex, BranchedFrom>,
    /// Where all stages execute, whatever the manifest says; "local" is this machine.
    pub place: Option<String>,
    /// Where single stages execute, whatever else is said.
    pub places: BTreeMap<StageIndex, String>,
    /// The run that it goes on with.
    pub resumes: Option<String>,
    /// A name for the run.
    pub label: Option<String>,
    /// Words about the run.
    pub note: Option<String>,
    /// The command line's words, for the receipt.
    pub arguments: Vec<String>,
    /// Who runs it, and where.
    pub by: Identity,
}

impl RunOptions {
    /// Where stages are to execute, by their names and all others, as far as that was asked for.
    pub(super) fn places_by_name(&self, project: &Project) -> (BTreeMap<String, String>, Option<String>) {
        let of = |(index, place): (&StageIndex, &String)| (project.manifest.stages[*index].name.clone(), place.clone());
        (self.places.iter().map(of).collect(), self.place.clone())
    }

    /// Where a stage executes; none: on this machine. What Textum does itself it does here.
    pub fn place_of(&self, decl: &StageDecl, index: StageIndex) -> Option<String> {
        let said = self.places.get(&index).or(self.place.as_ref()).or(decl.place.as_ref());
        said.filter(|place| *place != THIS_MACHINE && !decl.run.is_own()).cloned()
    }
}

/// Runs what the plan says and records it. The project must have been opened to write.
pub fn run(
    project: &mut Project,
    options: &RunOptions,
    events: &dyn EventSink,
    cancel: &CancelToken,
) -> Result<RunOutcome, ExecError> {
    let clock = Instant::now();
    let changed = super::param_files::changed_files(project)?;
    let apart = RunOptions { sandbox: true, ..options.clone() };
    let options = if changed.is_empty() { options } else { &apart };
    if !changed.is_empty() {
        events.event(Event::SandboxForParams { files: changed });
    }
    let who =
        format!("process {}, by {}, since {}", std::process::id(), options.by, textum_base::clock::now().strftime("%H:%M:%S UTC"));
    let _tree = if options.sandbox { None } else { Some(project.workspace.lock_tree(&who)?) };
    project.may_start = MayStart::Anything;
    super::close_interrupted(project, events)?;
    let unattended = Unattended::take(project, |_| true, Some(!options.sandbox))?;
    if !options.sandbox {
        unattended.places_answer(&Places::of(project))?;
    }
    let selected = selected(project, options)?;
    let gates = Gates::new(project)?;
    none_is_erased(project).map_err(Box::new)?;
    let (recorded, draft, live) = {
        let project = &*project;
        let writer = project.store.writer()?;
        let reads = record_reads(project, &selected, &writer)?;
        let versions = recorded_anew(project, &reads, &writer, &options.by, None).map_err(Box::new)?;
        let tell = || {
            let new = versions.iter().filter(|v| v.new);
            new.for_each(|v| events.event(Event::NewVersion { dataset: v.name.clone(), number: v.number, rows: v.rows }));
        };
        if !options.sandbox && options.label.is_none() && options.note.is_none() {
            let mut plan_context = PlanContext::new(project, &selected, options.force.clone())?;
            plan_context.from.clone_from(&options.from);
            plan_context.trust_old = options.trust_old;
            plan_context.sealed = options.sealed;
            plan_context.places = options.places_by_name(project);
            plan_context.places = options.places_by_name(project);
            plan_context.sealed = options.sealed;
            plan_context.places = options.places_by_name(project);
            let plan = Plan::make(&plan_context, &selected)?;
            if !plan.has_work() && !options.trust_old {
                // Whatever a job that was left would write there is not wanted.
                unattended.finish(project, &Places::of(project), true, "", events)?;
                // A new state of a dataset is recorded, whether or not a stage reads it.
                writer.publish()?;
                tell();
                project.save_looks();
                let draft = draft(project, "", options, &reads, Stored { digest: Digest::of(b""), size: 0 }, None);
                return nothing_to_do(project, plan, plan_context.tree, &draft, &gates, events, clock);
            }
        }
        let manifest = writer.put_bytes(project.manifest.text.as_bytes())?;
        record_settings(project, &writer)?;
        let git = git_state(project.workspace.root());
        // Others see that a run is at work before they see content that no receipt speaks of yet.
        let (draft, live) = begin(project, &HashSet::new(), |run| draft(project, run, options, &reads, manifest, git.clone()))?;
        // Nothing is executed before what it reads is safe.
        if let Err(e) = writer.publish() {
            live.end()?;
            return Err(e.into());
        }
        tell();
        (reads, draft, live)
    };
    let pool = options.sandbox.then(|| Pool::open(&project.workspace.sandboxes_folder())).transpose()?;
    let sources = Rc::new(recorded);
    let ready = Ready { selected: &selected, options, sources, pool: pool.as_ref(), gates: &gates, clock };
    let outcome = carry_out(project, ready, (draft, live), unattended, events, cancel)?;
    project.ledger.catch_up(&project.store)?;
    project.save_looks();
    project.store.fold_small_packs()?;
    Ok(outcome)
}

/// Begins a run under an id that no other has, also none that another process is beginning just now;
/// its last part is none of those just `given`.
pub(super) fn begin(
    project: &Project,
    given: &HashSet<String>,
    draft: impl Fn(&str) -> RunReceipt,
) -> Result<(RunReceipt, LiveRun), ExecError> {
    const TRIES: usize = 20;
    let mut tries = 0;
    loop {
        let draft = draft(&new_run_id(&project.ledger, given, !project.manifest.depots.is_empty())?);
        match LiveRun::begin(&project.workspace.runs_folder(), &draft) {
            Err(ExecError::RunTaken(_)) if tries < TRIES => tries += 1,
            other => return other.map(|live| (draft, live)),
        }
    }
}

/// The stages that are to be dealt with; what cannot be carried out is told before anything is done.
pub(super) fn selected(project: &Project, options: &RunOptions) -> Result<Vec<bool>, ExecError> {
    let selected = project.graph.select(&options.stages);
    crate::pipeline::plan::missing_reads(project, &selected).map_err(crate::pipeline::plan::PlanError::from)?;
    for stage in options.from.keys() {
        let decl = &project.manifest.stages[*stage];
        if !selected[*stage] {
            return Err(ExecError::NotSelected { stage: decl.name.clone() });
        }
        if decl.checkpoints.is_none() {
            return Err(ExecError::NoCheckpoints { stage: decl.name.clone() });
        }
    }
    Ok(selected)
}

/// Takes everything that no stage writes into the store: data and code that stages read, and all datasets.
pub(super) fn record_reads(
    project: &Project,
    selected: &[bool],
    writer: &Writer<'_>,
) -> Result<BTreeMap<SourcePath, Content>, ExecError> {
    let _span = tracing::debug_span!("scan").entered();
    let stages = project.manifest.stages.iter().enumerate().filter(|(i, _)| selected[*i]);
    let mut paths: BTreeSet<SourcePath> = stages.flat_map(|(_, s)| s.reads.iter().cloned()).collect();
    paths.extend(project.manifest.environment.files.iter().map(SourcePath::from));
    paths.extend(project.manifest.data.iter().map(|d| d.path.clone()));
    paths.retain(|p| project.graph.writers_of(p).is_empty());
    let mut recorded = BTreeMap::new();
    for path in paths {
        if let Some(content) = project.scanner.record(&path, writer)? {
            recorded.insert(path, content);
        }
    }
    Ok(recorded)
}

/// Takes environment, parameters and variables into the store: what a trace names can be read back.
pub(super) fn record_settings(project: &Project, writer: &Writer<'_>) -> Result<(), ExecError> {
    let environment = project.environment()?;
    writer.put_document(&canonical(&environment.record)?)?;
    for counted in environment.counted.iter().chain(&environment.interpreter) {
        writer.put_document(&canonical(counted)?)?;
    }
    let params = project.params.iter().map(|(_, value)| value.to_string());
    let each = project.manifest.stages.iter().flat_map(|s| &s.each).flat_map(|each| &each.values);
    let params = params.chain(each.map(|(_, value)| value.to_string()));
    for text in super::param_files::texts(project)? {
        writer.put_bytes(text.as_bytes())?;
    }
    for text in params.chain(environment.variables.values().flatten().cloned()) {
        writer.put_bytes(text.as_bytes())?;
    }
    Ok(())
}

pub(super) fn draft(
    project: &Project,
    run: &str,
    options: &RunOptions,
    recorded: &BTreeMap<SourcePath, Content>,
    stored: Stored,
    git: Option<GitState>,
) -> RunReceipt {
    let manifest = &project.manifest;
    let data = manifest.data.iter().filter_map(|d| {
        let content = recorded.get(&d.path)?.clone();
        Some((d.name.clone(), DatasetState { path: d.path.clone(), content, hold: d.hold }))
    });
    RunReceipt {
        r#type: RUN_RECEIPT.to_string(),
        run: run.to_string(),
        project: manifest.name.clone(),
        state: RunState::Interrupted,
        reason: None,
        started: textum_base::clock::now().to_string(),
        ordered: None,
        after: None,
        seconds: 0.0,
        label: options.label.clone(),
        note: options.note.clone(),
        arguments: options.arguments.clone(),
        manifest: Content::file(stored.digest, stored.size),
        params: project.params.iter().map(|(n, v)| (n.to_string(), v.to_string())).collect(),
        set: project.set.clone(),
        sweep: None,
        resumes: options.resumes.clone(),
        from: options.from.iter().map(|(s, from)| (project.graph.name(*s).to_string(), from.clone())).collect(),
        gates: Vec::new(),
        data: data.collect(),
        also: BTreeMap::new(),
        stages: Vec::new(),
        metrics: BTreeMap::new(),
        better: manifest.metrics.iter().map(|(n, b)| (n.clone(), *b)).collect(),
        git,
        by: options.by.to_string(),
        places: said_places(project, options),
        sandbox: options.sandbox,
        log: None,
        textum: env!("CARGO_PKG_VERSION").to_string(),
    }
}

/// Where stages are to execute by word of the command line.
fn said_places(project: &Project, options: &RunOptions) -> BTreeMap<String, String> {
    let stages = project.manifest.stages.iter().enumerate();
    let said = stages.filter_map(|(index, stage)| {
        let place = options.place_of(stage, index);
        let declared = stage.place.as_ref().filter(|_| !stage.run.is_own());
        (place.as_ref() != declared).then(|| (stage.name.clone(), place.unwrap_or_else(|| THIS_MACHINE.to_string())))
    });
    said.collect()
}

/// The names of the stages to be dealt with, in their order.
pub(super) fn names_of(project: &Project, selected: &[bool]) -> Vec<String> {
    project.graph.order().iter().filter(|s| selected[**s]).map(|s| project.graph.name(*s).to_string()).collect()
}

/// By how much the clock, at the beginning of a run, is behind what was recorded before: then what is recorded now
/// would not sort as newest.
fn clock_behind(project: &Project, started: Option<jiff::Timestamp>) -> Result<Option<jiff::SignedDuration>, ExecError> {
    let newest = project.ledger.newest_times()?.and_then(|t| t.parse::<jiff::Timestamp>().ok());
    let behind = newest.zip(started).map(|(newest, started)| newest.duration_since(started));
    Ok(behind.filter(|d| d.is_positive()).map(|d| d.saturating_add(jiff::SignedDuration::from_micros(1))))
}

/// Gives back what was rented for stages that have ended; what could not be is told.
pub(super) fn give_back(place: &Places, events: &dyn EventSink) {
    for (place, why) in place.release() {
        events.event(Event::StillHeld { place, why });
    }
}

/// A run that has begun, and all that its stages need.
pub(super) struct BegunRun<'a, 'o> {
    pub project: &'a Project,
    pub selected: &'o [bool],
    pub options: &'a RunOptions,
    pub stage_context: &'a StageContext<'a>,
    pub draft: RunReceipt,
    pub live: LiveRun,
    pub plan_context: PlanContext<'a>,
    pub apart: Option<Apart<'a>>,
    pub gates: &'a Gates,
    pub clock: Instant,
}

impl<'a> BegunRun<'a, '_> {
    /// Ready for its first stage.
    pub fn activate(self) -> Result<ActiveRun<'a>, ExecError> {
        let BegunRun { project, selected, options, stage_context, mut draft, live, mut plan_context, apart, gates, clock } = self;
        plan_context.from.clone_from(&options.from);
        plan_context.sources = apart.as_ref().map(|a| a.sources.clone());
        let environment = Digest::of(&canonical(&plan_context.environment.record)?);
        let declared_whole = |path: &str| project.manifest.stages.iter().any(|s| s.reads.iter().any(|r| r == path));
        let order: Vec<StageIndex> = project.graph.order().iter().copied().filter(|s| selected[*s]).collect();
        let started = draft.started.parse::<jiff::Timestamp>().ok();
        let clock_behind = clock_behind(project, started)?;
        draft.ordered = clock_behind.and_then(|behind| started?.checked_add(behind).ok()).map(|t| t.to_string());
        Ok(ActiveRun {
            project,
            plan_context,
            options,
            stage_context,
            live,
            draft,
            gates,
            apart,
            tree: TreeDir::open(project.workspace.root())?,
            clock_behind,
            locks: BTreeMap::new(),
            waits: BTreeMap::new(),
            changed: BTreeMap::new(),
            read_data: BTreeSet::new(),
            watcher: (!options.sandbox && stage_context.observer.is_none())
                .then(|| Watcher::start(project.workspace.root(), declared_whole))
                .flatten(),
            declared: declared_by(project, None),
            environment: Some(environment),
            events: stage_context.events,
            todo: order.iter().copied().collect(),
            order,
            settled: BTreeMap::new(),
            done: BTreeMap::new(),
            left: BTreeMap::new(),
            waiting: Vec::new(),
            running: BTreeSet::new(),
            recording: BTreeSet::new(),
            with_result: Default::default(),
            halted: false,
            clock,
            ending: Default::default(),
        })
    }
}

/// A run whose reads are safe, to be carried out.
struct Ready<'r> {
    selected: &'r [bool],
    options: &'r RunOptions,
    sources: Rc<BTreeMap<SourcePath, Content>>,
    pool: Option<&'r Pool>,
    gates: &'r Gates,
    clock: Instant,
}

fn carry_out(
    project: &Project,
    ready: Ready<'_>,
    (draft, live): (RunReceipt, LiveRun),
    mut unattended: Unattended,
    events: &dyn EventSink,
    cancel: &CancelToken,
) -> Result<RunOutcome, ExecError> {
    let Ready { selected, options, sources, pool, gates, clock } = ready;
    let writer = project.store.writer()?;
    let own = CancelToken::new();
    let told = live.telling(events);
    let place = Places::of(project);
    let observer = Observer::of(project);
    let stage_context = StageContext {
        observer: observer.as_ref(),
        pool: pool.map(|pool| (pool, &*project.store)),
        store: &project.store,
        writer: Some(&writer),
        keep: None,
        place: &place,
        variables: &project.variables,
        echo: options.echo,
        events: &told,
        cancel: &own,
        at_work: Mutex::default(),
        settled: Mutex::default(),
    };
    told.event(Event::Begun { run: draft.run.clone(), stages: names_of(project, selected) });
    let fresh = RefCell::default();
    if !options.sandbox {
        unattended.end_others_in_tree(&place, &names_of(project, selected))?;
    }
    let mut common = Common {
        unattended,
        writer: &writer,
        capacity: place.capacity(options.jobs),
        fresh: &fresh,
        unpublished: HashSet::new(),
        in_flight: HashSet::new(),
        shared: false,
        recording: 0,
        unreleased: Vec::new(),
        dirty: false,
    };
    let mut plan_context = PlanContext::new(project, selected, options.force.clone())?;
    plan_context.trust_old = options.trust_old;
    plan_context.sealed = options.sealed;
    plan_context.places = options.places_by_name(project);
    let apart = pool.map(|pool| Apart::new(project, &draft.run, sources, pool, false));
    let chain = RefCell::default();
    let stage_context = &stage_context;
    let begun = BegunRun { project, selected, options, stage_context, draft, live, plan_context, apart, gates, clock };
    let mut only = Some(begun.activate()?);
    let mut outcome = None;
    schedule(
        &mut common,
        1,
        cancel,
        &mut || Ok(only.take()),
        &mut |ended| {
            outcome = Some(end(ended, &writer, &chain)?);
            Ok(())
        },
        &mut || Ok(()),
    )?;
    writer.publish()?;
    give_back(&place, events);
    let Some((outcome, draft, live)) = outcome else { return Err(ExecError::NotBegun) };
    if !options.sandbox {
        let mut tree =
            TreeReceipt::load(project.workspace.root()).map_err(crate::pipeline::plan::PlanError::from)?.unwrap_or_default();
        tree.run = Some(draft.run.clone());
        tree.data = draft.data;
        fill_tree(project, &mut tree, &outcome.stages);
        tree.save(project.workspace.root())?;
        let copies = drop_recorded_copies(&project.workspace.state(), &draft.run, &project.store)?;
        if !copies.is_empty() {
            events.event(Event::AsideRecorded { paths: copies });
        }
    }
    // What says that the run is at work goes once the ledger has it.
    project.ledger.catch_up(&project.store)?;
    std::mem::take(&mut common.unattended).finish(project, &place, !options.sandbox, &draft.run, events)?;
    live.end()?;
    Ok(outcome)
}
