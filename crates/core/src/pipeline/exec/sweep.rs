//! A sweep: many settings of the parameters, each a run in a sandbox, side by side, sharing every result
//! whose key is equal.

use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::PathBuf;
use std::rc::Rc;
use std::sync::Mutex;
use std::time::Instant;

use rayon::prelude::*;
use textum_base::SourcePath;

use super::ExecError;
use super::active_run::ActiveRun;
use super::apart::Apart;
use super::end::end;
use super::gates::Gates;
use super::live::{LiveRun, Telling};
use super::observing::Observer;
use super::outcome::RunOutcome;
use super::run::{BegunRun, RunOptions, begin, draft, give_back, names_of, record_reads, record_settings, selected};
use super::scheduler::{Common, schedule};
use super::stage::StageContext;
use super::unattended::Unattended;
use crate::config::manifest::Params;
use crate::config::sweep::{Setting, Varied};
use crate::data::{none_is_erased, recorded_anew};
use crate::event::{CancelToken, Event, EventSink, Silent};
use crate::fsio;
use crate::pipeline::executor::{Capacity, Executor, Places};
use crate::pipeline::plan::{Plan, PlanContext, Recorded};
use crate::project::fingerprint::MayStart;
use crate::project::sandbox::Pool;
use crate::project::workspace::Project;
use crate::record::receipt::{Content, Metric, RunReceipt, RunState};
use crate::store::{Digest, Stored};

/// So many folders of runs that are over may be left for the end.
const MANY_FOLDERS: usize = 2000;

/// What became of a variant.
#[derive(Clone, Debug)]
pub struct VariantOutcome {
    /// What was varied.
    pub setting: Setting,
    /// Its run.
    pub run: Option<String>,
    /// `done`, `failed`, `stopped`, `there` (it was there already), or `not begun`.
    pub state: String,
    /// Its metrics.
    pub metrics: BTreeMap<String, Metric>,
    /// Why it was not done.
    pub reason: Option<String>,
    /// Seconds it took.
    pub seconds: f64,
}

/// What became of a sweep.
#[derive(Clone, Debug)]
pub struct SweepOutcome {
    /// Its name.
    pub sweep: String,
    /// Its variants, in their order.
    pub variants: Vec<VariantOutcome>,
    /// Seconds it took.
    pub seconds: f64,
    /// Whether it was stopped before all variants were begun.
    pub stopped: bool,
}

/// The name of a sweep: the same for the same parameters, values and stages, so that a second call of it
/// goes on with it.
pub fn sweep_name(varied: &[Varied], sample: Option<(usize, u64)>, stages: &[String]) -> String {
    let values: Vec<(&str, &[serde_json::Value])> = varied.iter().map(|v| (v.name.as_str(), v.values.as_slice())).collect();
    let text = serde_json::json!({"vary": values, "sample": sample, "stages": stages}).to_string();
    format!("sweep-{}", &Digest::of(text.as_bytes()).hex()[..6])
}

/// What a variant needs from beginning to end.
struct Part {
    project: Project,
    options: RunOptions,
    cancel: CancelToken,
}

fn with_setting(project: &Project, setting: &Setting) -> (Params, Vec<String>) {
    let mut params = project.params.clone();
    let mut set = project.set.clone();
    for (name, value) in setting {
        params.put(name, value.clone());
        if !set.contains(name) {
            set.push(name.clone());
        }
    }
    (params, set)
}

/// The run of this sweep that has just what a variant would have, if there is one.
fn there_already(
    view: &Project,
    plan_context: &PlanContext<'_>,
    chosen: &[bool],
    sweep: &str,
) -> Result<Option<String>, ExecError> {
    let plan = Plan::make(plan_context, chosen)?;
    let keys: Option<Vec<(String, Digest)>> =
        plan.decisions.iter().map(|d| Some((d.stage.clone(), d.key.filter(|_| d.result.is_some())?))).collect();
    let Some(keys) = keys else { return Ok(None) };
    Ok(view.ledger.run_with_keys(sweep, &keys)?)
}

/// Carries a sweep out. A variant that does not succeed does not end the others; one whose results are all
/// recorded as a run of this sweep is not made again.
pub fn run_sweep(
    project: &mut Project,
    sweep: &str,
    variants: &[Setting],
    options: &RunOptions,
    events: &dyn EventSink,
    cancel: &CancelToken,
) -> Result<SweepOutcome, ExecError> {
    let clock = Instant::now();
    project.may_start = MayStart::Anything;
    super::close_interrupted(project, events)?;
    let unattended = Unattended::take(project, |_| true, Some(false))?;
    let project = &*project;
    let chosen = selected(project, options)?;
    let gates = Gates::new(project)?;
    none_is_erased(project).map_err(Box::new)?;
    let writer = project.store.writer()?;
    let recorded = record_reads(project, &chosen, &writer)?;
    let versions = recorded_anew(project, &recorded, &writer, &options.by, None).map_err(Box::new)?;
    for v in versions.iter().filter(|v| v.new) {
        events.event(Event::NewVersion { dataset: v.name.clone(), number: v.number, rows: v.rows });
    }
    let manifest = writer.put_bytes(project.manifest.text.as_bytes())?;
    record_settings(project, &writer)?;
    let pool = Pool::open(&project.workspace.sandboxes_folder())?;
    let recorded = Rc::new(recorded);
    let mut base = PlanContext::new(project, &chosen, options.force.clone())?;
    base.trust_old = options.trust_old;
    let git = crate::project::git::git_state(project.workspace.root());
    let context = SweepContext {
        project,
        sweep,
        variants,
        recorded: &recorded,
        manifest,
        git,
        base: &base,
        chosen: &chosen,
        pool: &pool,
        gates: &gates,
        writer: &writer,
        events,
        place: Places::of(project),
        observer: Observer::of(project),
    };
    let mut outcomes: Vec<Option<VariantOutcome>> = vec![None; variants.len()];
    let parts = context.parts(options, &mut outcomes)?;
    if parts.is_empty() {
        writer.publish()?;
    } else {
        context.carry_out(&parts, &mut outcomes, options.jobs, unattended, cancel)?;
    }
    project.ledger.catch_up(&project.store)?;
    project.save_looks();
    project.store.fold_small_packs()?;
    let stopped = outcomes.iter().any(Option::is_none);
    let not_begun = |(number, outcome): (usize, Option<VariantOutcome>)| {
        outcome.unwrap_or_else(|| VariantOutcome {
            setting: variants[number].clone(),
            run: None,
            state: "not begun".into(),
            metrics: BTreeMap::new(),
            reason: None,
            seconds: 0.0,
        })
    };
    let variants = outcomes.into_iter().enumerate().map(not_begun).collect();
    Ok(SweepOutcome { sweep: sweep.to_string(), variants, seconds: clock.elapsed().as_secs_f64(), stopped })
}

/// What all variants of a sweep have in common.
struct SweepContext<'s> {
    project: &'s Project,
    sweep: &'s str,
    variants: &'s [Setting],
    recorded: &'s Rc<BTreeMap<SourcePath, Content>>,
    manifest: Stored,
    git: Option<crate::record::receipt::GitState>,
    base: &'s PlanContext<'s>,
    chosen: &'s [bool],
    pool: &'s Pool,
    gates: &'s Gates,
    writer: &'s crate::store::Writer<'s>,
    events: &'s dyn EventSink,
    place: Places,
    observer: Option<Observer>,
}

impl<'s> SweepContext<'s> {
    /// The variants that are to be made; of those that are there already, the outcome is known.
    fn parts(&self, options: &RunOptions, outcomes: &mut [Option<VariantOutcome>]) -> Result<Vec<(usize, Part)>, ExecError> {
        let mut parts = Vec::new();
        for (number, variant) in self.variants.iter().enumerate() {
            let (params, set) = with_setting(self.project, variant);
            let view = self.project.variant(params.clone(), set.clone());
            // A value that has no place in its file is told before anything is done.
            super::param_files::changed_files(&view)?;
            let mut plan_context = self.plan_context(&view);
            plan_context.from = options.from.clone();
            plan_context.sources = Some(self.recorded.clone());
            if options.force.is_empty()
                && let Some(run) = there_already(&view, &plan_context, self.chosen, self.sweep)?
            {
                let metrics = self.project.ledger.run(&run)?.map(|r| r.metrics.into_iter().collect()).unwrap_or_default();
                outcomes[number] = Some(VariantOutcome {
                    setting: variant.clone(),
                    run: Some(run),
                    state: "there".into(),
                    metrics,
                    reason: None,
                    seconds: 0.0,
                });
                continue;
            }
            for (_, value) in variant {
                self.writer.put_bytes(value.to_string().as_bytes())?;
            }
            let options = RunOptions { sandbox: true, ..options.clone() };
            parts.push((number, Part { project: self.project.variant(params, set), options, cancel: CancelToken::new() }));
        }
        Ok(parts)
    }

    fn plan_context<'v>(&self, view: &'v Project) -> PlanContext<'v> {
        PlanContext {
            project: view,
            environment: self.base.environment.clone(),
            tree: None,
            forced: self.base.forced.clone(),
            from: BTreeMap::new(),
            sources: None,
            fresh: None,
            observed: self.base.observed.clone(),
            documents: self.base.documents.clone(),
            learned: RefCell::default(),
            trust_old: self.base.trust_old,
        }
    }

    fn stage_context<'v>(&'v self, part: &'v Part, telling: &'v Lazy<'v>) -> StageContext<'v> {
        StageContext {
            observer: self.observer.as_ref(),
            pool: Some((self.pool, &*self.project.store)),
            store: &self.project.store,
            writer: Some(self.writer),
            keep: None,
            place: &self.place,
            variables: &part.project.variables,
            echo: part.options.echo,
            events: telling,
            cancel: &part.cancel,
            at_work: Mutex::default(),
            settled: Mutex::default(),
        }
    }

    fn carry_out(
        &self,
        parts: &[(usize, Part)],
        outcomes: &mut [Option<VariantOutcome>],
        jobs: Option<usize>,
        unattended: Unattended,
        cancel: &CancelToken,
    ) -> Result<(), ExecError> {
        let told = Mutex::default();
        let tellings: Vec<Lazy<'_>> =
            parts.iter().map(|_| Lazy { events: self.events, told: &told, to: Mutex::new(None) }).collect();
        let stage_contexts: Vec<StageContext<'_>> =
            parts.iter().zip(&tellings).map(|((_, part), telling)| self.stage_context(part, telling)).collect();
        let fresh = RefCell::default();
        let variants = Variants {
            context: self,
            parts,
            tellings: &tellings,
            stage_contexts: &stage_contexts,
            fresh: &fresh,
            given: RefCell::default(),
            first: RefCell::default(),
            next: Cell::new(0),
            begun: RefCell::default(),
            unsafe_yet: RefCell::default(),
            over: RefCell::default(),
            chain: RefCell::default(),
        };
        // Others see that a run is at work before they see content that no receipt speaks of yet, and nothing is
        // executed before what it reads is safe.
        let first = variants.begin(&parts[0].1)?;
        *variants.first.borrow_mut() = Some(first);
        self.writer.publish()?;
        let capacity = self.place.capacity(jobs);
        // A few more than there is room for, so that one that waits for another's result keeps nobody idle.
        let most = (capacity.most() * 2 + 2).min(Capacity::most_runs());
        let mut common = Common {
            unattended,
            writer: self.writer,
            capacity,
            fresh: &fresh,
            unpublished: HashSet::new(),
            in_flight: HashSet::new(),
            shared: true,
            recording: 0,
            unreleased: Vec::new(),
            dirty: false,
        };
        let ended = &mut |ended| variants.ended(ended, outcomes);
        schedule(&mut common, most, cancel, &mut || variants.coming(), ended, &mut || variants.let_go())?;
        self.writer.publish()?;
        give_back(&self.place, self.events);
        variants.let_go()?;
        self.project.ledger.catch_up(&self.project.store)?;
        std::mem::take(&mut common.unattended).finish(self.project, &self.place, false, self.sweep, self.events)?;
        remove(variants.over.take())?;
        // Stopped before the first variant began.
        variants.first.take().map_or(Ok(()), |(_, live)| live.end())
    }
}

fn remove(folders: Vec<PathBuf>) -> Result<(), ExecError> {
    Ok(folders.par_iter().try_for_each(|folder| fsio::remove_any(folder))?)
}

/// The variants at work.
struct Variants<'v> {
    context: &'v SweepContext<'v>,
    parts: &'v [(usize, Part)],
    tellings: &'v [Lazy<'v>],
    stage_contexts: &'v [StageContext<'v>],
    fresh: &'v RefCell<HashMap<Digest, Recorded>>,
    /// The last parts of the ids that were given out.
    given: RefCell<HashSet<String>>,
    /// The first one is begun before the others.
    first: RefCell<Option<(RunReceipt, LiveRun)>>,
    /// The next part to begin.
    next: Cell<usize>,
    /// Which part a run is.
    begun: RefCell<HashMap<String, usize>>,
    /// Runs whose receipts are not safe yet: until then their folders say that they are at work.
    unsafe_yet: RefCell<Vec<LiveRun>>,
    /// Folders are removed when all is over: file systems are slow to hand out anew what was just given back.
    over: RefCell<Vec<PathBuf>>,
    /// The receipt of the run that ended last.
    chain: RefCell<Option<Digest>>,
}

impl<'v> Variants<'v> {
    fn begin(&self, part: &Part) -> Result<(RunReceipt, LiveRun), ExecError> {
        let context = self.context;
        let begun = begin(context.project, &self.given.borrow(), |run| {
            let mut draft = draft(&part.project, run, &part.options, context.recorded, context.manifest, context.git.clone());
            draft.sweep = Some(context.sweep.to_string());
            draft
        })?;
        self.given.borrow_mut().extend(begun.0.run.rsplit('-').next().map(str::to_string));
        Ok(begun)
    }

    /// The next run, begun.
    fn coming(&self) -> Result<Option<ActiveRun<'v>>, ExecError> {
        let at = self.next.get();
        let Some((_, part)) = self.parts.get(at) else { return Ok(None) };
        self.next.set(at + 1);
        let first = self.first.take();
        let (draft, live) = first.map_or_else(|| self.begin(part), Ok)?;
        let run = draft.run.clone();
        self.begun.borrow_mut().insert(run.clone(), at);
        let telling = live.telling(&Silent);
        telling.event(Event::Begun { run: run.clone(), stages: names_of(&part.project, self.context.chosen) });
        self.tellings[at].begin(telling);
        let mut plan_context = self.context.plan_context(&part.project);
        plan_context.fresh = Some(self.fresh);
        let begun = BegunRun {
            project: &part.project,
            selected: self.context.chosen,
            options: &part.options,
            stage_context: &self.stage_contexts[at],
            draft,
            live,
            plan_context,
            apart: Some(Apart::new(&part.project, &run, self.context.recorded.clone(), self.context.pool, true)),
            gates: self.context.gates,
            clock: Instant::now(),
        };
        begun.activate().map(Some)
    }

    /// Keeps what came of a run.
    fn ended(&self, ended: ActiveRun<'v>, outcomes: &mut [Option<VariantOutcome>]) -> Result<(), ExecError> {
        let run = ended.draft.run.clone();
        let root = ended.project.workspace.sandboxes_folder().join(&run);
        let (outcome, _, live) = end(ended, self.context.writer, &self.chain)?;
        if outcome.state == RunState::Done {
            self.over.borrow_mut().push(root);
        }
        self.unsafe_yet.borrow_mut().push(live);
        if let Some(at) = self.begun.borrow().get(&run).copied() {
            let number = self.parts[at].0;
            self.tellings[at].end();
            let settled = settled(self.context.variants[number].clone(), outcome);
            self.context.events.event(Event::VariantSettled {
                number: number + 1,
                of: self.context.variants.len(),
                set: settled.setting.iter().map(|(n, v)| (n.clone(), v.to_string())).collect(),
                run: settled.run.clone(),
                state: settled.state.clone(),
                metrics: directed_first(self.context.project, &settled.metrics),
            });
            outcomes[number] = Some(settled);
        }
        Ok(())
    }

    /// Lets go of the runs whose receipts are safe by now.
    fn let_go(&self) -> Result<(), ExecError> {
        let mut over = self.over.borrow_mut();
        over.extend(self.unsafe_yet.borrow_mut().drain(..).map(LiveRun::release));
        if over.len() >= MANY_FOLDERS {
            // Who comes upon a folder must find its run in the ledger.
            self.context.project.ledger.catch_up(&self.context.project.store)?;
            remove(std::mem::take(&mut *over))?;
        }
        Ok(())
    }
}

/// Metrics, those with a direction first: somebody cares for them.
fn directed_first(project: &Project, metrics: &BTreeMap<String, Metric>) -> Vec<(String, Metric)> {
    let mut all: Vec<(String, Metric)> = metrics.iter().map(|(n, m)| (n.clone(), *m)).collect();
    all.sort_by_key(|(n, _)| project.manifest.metrics.iter().position(|(d, _)| d == n).unwrap_or(usize::MAX));
    all
}

fn settled(setting: Setting, outcome: RunOutcome) -> VariantOutcome {
    let state = match outcome.state {
        RunState::Done => "done",
        RunState::Failed => "failed",
        RunState::Stopped | RunState::Interrupted => "stopped",
    };
    VariantOutcome {
        setting,
        run: outcome.run,
        state: state.into(),
        metrics: outcome.metrics,
        reason: outcome.reason,
        seconds: outcome.seconds,
    }
}

/// The events of a variant: kept in its folder once it has begun. A sweep tells of variants, not of their
/// stages, but for what a person must hear.
struct Lazy<'e> {
    events: &'e dyn EventSink,
    /// The places whose want of room has been told: once for all variants.
    told: &'e Mutex<HashSet<String>>,
    to: Mutex<Option<Telling<'static>>>,
}

impl Lazy<'_> {
    /// Nothing more is to be kept: its file is closed.
    fn end(&self) {
        *self.to.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = None;
    }

    fn begin(&self, telling: Telling<'static>) {
        *self.to.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = Some(telling);
    }
}

impl EventSink for Lazy<'_> {
    fn event(&self, event: Event) {
        let no_room = |place: &String| self.told.lock().unwrap_or_else(std::sync::PoisonError::into_inner).insert(place.clone());
        let is_told = matches!(&event, Event::NoRoom { place, .. } if no_room(place))
            || matches!(
                event,
                Event::Aside { .. }
                    | Event::NotDeterministic { .. }
                    | Event::NotObserved { .. }
                    | Event::BadSignal { .. }
                    | Event::Output { .. }
            );
        if is_told {
            self.events.event(event.clone());
        }
        if let Some(to) = self.to.lock().unwrap_or_else(std::sync::PoisonError::into_inner).as_ref() {
            to.event(event);
        }
    }
}
