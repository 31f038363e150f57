//! A sweep: many settings of the parameters, each a run in a sandbox, side by side, sharing every result
//! whose key is equal.

use std::cell::{Cell, OnceCell, RefCell};
use std::collections::{BTreeMap, HashSet};
use std::rc::Rc;
use std::sync::Mutex;
use std::time::Instant;

use textum_base::SourcePath;

use super::ExecError;
use super::gates::Gates;
use super::observing::Observer;
use super::run::{RunOptions, give_back, record_reads, record_settings, selected};
use super::scheduler::{Common, schedule};
use super::stage::StageContext;
use super::unattended::Unattended;
use super::variants::{Lazy, Variants, remove};
use crate::config::manifest::Params;
use crate::config::sweep::{Setting, Varied};
use crate::data::{none_is_erased, recorded_anew};
use crate::event::{CancelToken, Event, EventSink};
use crate::pipeline::executor::{Capacity, Executor, Places};
use crate::pipeline::plan::{Plan, PlanContext};
use crate::project::fingerprint::MayStart;
use crate::project::sandbox::Pool;
use crate::project::workspace::Project;
use crate::record::receipt::{Content, Metric};
use crate::store::{Digest, Stored};

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
pub(super) struct Part {
    pub(super) project: Project,
    pub(super) options: RunOptions,
    pub(super) cancel: CancelToken,
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
    base.sealed = options.sealed;
    base.places = options.places_by_name(project);
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
pub(super) struct SweepContext<'s> {
    pub(super) project: &'s Project,
    pub(super) sweep: &'s str,
    pub(super) variants: &'s [Setting],
    pub(super) recorded: &'s Rc<BTreeMap<SourcePath, Content>>,
    pub(super) manifest: Stored,
    pub(super) git: Option<crate::record::receipt::GitState>,
    pub(super) base: &'s PlanContext<'s>,
    pub(super) chosen: &'s [bool],
    pub(super) pool: &'s Pool,
    pub(super) gates: &'s Gates,
    pub(super) writer: &'s crate::store::Writer<'s>,
    pub(super) events: &'s dyn EventSink,
    pub(super) place: Places,
    pub(super) observer: Option<Observer>,
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

    pub(super) fn plan_context<'v>(&self, view: &'v Project) -> PlanContext<'v> {
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
            has_undeclared: OnceCell::new(),
            trust_old: self.base.trust_old,
            sealed: self.base.sealed,
            places: self.base.places.clone(),
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
