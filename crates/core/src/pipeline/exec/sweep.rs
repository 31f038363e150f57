//! A sweep: many settings of the parameters, each a run in a sandbox, side by side, sharing every result
//! whose key is equal.

use std::cell::RefCell;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::PathBuf;
use std::rc::Rc;
use std::sync::Mutex;
use std::time::Instant;

use rayon::prelude::*;
use textum_base::SourcePath;

use super::apart::Apart;
use super::conduct::{Common, conduct};
use super::end::end;
use super::gates::Gates;
use super::live::{LiveRun, Telling};
use super::outcome::RunOutcome;
use super::run::{RunOptions, begin, conductor, draft, names_of, record_reads, record_settings, selected};
use super::schedule::Capacity;
use super::stage::Bench;
use super::{ExecError, LocalPlace};
use crate::config::manifest::Params;
use crate::config::sweep::{Setting, Varied};
use crate::data::recorded_anew;
use crate::event::{CancelToken, Event, EventSink, Silent};
use crate::fsio;
use crate::pipeline::plan::{Outlook, Plan};
use crate::project::fingerprint::MayStart;
use crate::project::sandbox::Pool;
use crate::project::workspace::Project;
use crate::record::receipt::{Content, Metric, RunState};
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
fn there_already(view: &Project, outlook: &Outlook<'_>, chosen: &[bool], sweep: &str) -> Result<Option<String>, ExecError> {
    let plan = Plan::make(outlook, chosen)?;
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
    super::close_interrupted(project, events)?;
    project.may_start = MayStart::Anything;
    let project = &*project;
    let chosen = selected(project, options)?;
    let gates = Gates::new(project)?;
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
    let base = Outlook::new(project, &chosen, options.force.clone())?;
    let git = crate::project::git::git_state(project.workspace.root());
    let total = variants.len();
    let mut outcomes: Vec<Option<VariantOutcome>> = vec![None; total];
    let mut parts = Vec::new();
    for (number, variant) in variants.iter().enumerate() {
        let (params, set) = with_setting(project, variant);
        let view = project.variant(params.clone(), set.clone());
        let outlook = Outlook {
            project: &view,
            environment: base.environment.clone(),
            tree: None,
            forced: options.force.clone(),
            from: options.from.clone(),
            sources: Some(recorded.clone()),
            fresh: None,
        };
        if options.force.is_empty()
            && let Some(run) = there_already(&view, &outlook, &chosen, sweep)?
        {
            let metrics = project.ledger.run(&run)?.map(|r| r.metrics.into_iter().collect()).unwrap_or_default();
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
            writer.put_bytes(value.to_string().as_bytes())?;
        }
        let options = RunOptions { sandbox: true, ..options.clone() };
        parts.push((number, Part { project: project.variant(params, set), options, cancel: CancelToken::new() }));
    }
    let made = Made { sweep, total };
    if !parts.is_empty() {
        let shared = Shared {
            recorded: &recorded,
            manifest,
            git,
            base: &base,
            chosen: &chosen,
            pool: &pool,
            gates: &gates,
            writer: &writer,
        };
        carry_out(project, &parts, variants, &shared, &mut outcomes, &made, options.jobs, events, cancel)?;
    } else {
        writer.publish()?;
    }
    project.ledger.catch_up(&project.store)?;
    project.scanner.save();
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

struct Made<'m> {
    sweep: &'m str,
    total: usize,
}

struct Shared<'s> {
    recorded: &'s Rc<BTreeMap<SourcePath, Content>>,
    manifest: Stored,
    git: Option<crate::record::receipt::GitState>,
    base: &'s Outlook<'s>,
    chosen: &'s [bool],
    pool: &'s Pool,
    gates: &'s Gates,
    writer: &'s crate::store::Writer<'s>,
}

#[allow(clippy::too_many_arguments)]
fn carry_out(
    project: &Project,
    parts: &[(usize, Part)],
    variants: &[Setting],
    shared: &Shared<'_>,
    outcomes: &mut [Option<VariantOutcome>],
    made: &Made<'_>,
    jobs: Option<usize>,
    events: &dyn EventSink,
    cancel: &CancelToken,
) -> Result<(), ExecError> {
    // Nothing is executed before what it reads is safe.
    let mut given = HashSet::new();
    let mut begin_part = |part: &Part| {
        let begun = begin(project, &given, |run| {
            let (options, git) = (&part.options, shared.git.clone());
            let mut draft = draft(&part.project, run, options, shared.recorded, shared.manifest, git);
            draft.sweep = Some(made.sweep.to_string());
            draft
        })?;
        given.extend(begun.0.run.rsplit('-').next().map(str::to_string));
        Ok::<_, ExecError>(begun)
    };
    let guard = begin_part(&parts[0].1)?;
    shared.writer.publish()?;
    let mut first = Some(guard);
    let tellings: Vec<Lazy<'_>> = parts.iter().map(|_| Lazy { events, to: Mutex::new(None) }).collect();
    let benches: Vec<Bench<'_>> = parts
        .iter()
        .zip(&tellings)
        .map(|((_, part), telling)| Bench {
            pool: Some((shared.pool, &*project.store)),
            writer: Some(shared.writer),
            place: &LocalPlace,
            variables: &part.project.variables,
            echo: part.options.echo,
            events: telling,
            cancel: &part.cancel,
            at_work: Mutex::default(),
        })
        .collect();
    let fresh = RefCell::default();
    let capacity = Capacity::of_machine(jobs);
    // A few more than there is room for, so that one that waits for another's result keeps nobody idle.
    let most = capacity.most() * 2 + 2;
    let common = Common {
        writer: shared.writer,
        capacity,
        fresh: &fresh,
        unpublished: HashSet::new(),
        in_flight: HashSet::new(),
        shared: true,
        unreleased: Vec::new(),
        dirty: false,
    };
    let chain = RefCell::default();
    // Which part a run is.
    let place: RefCell<HashMap<String, (usize, usize)>> = RefCell::default();
    let mut next = 0;
    // Runs whose receipts are not safe yet: until then their folders say that they are at work.
    let unsafe_yet: RefCell<Vec<LiveRun>> = RefCell::default();
    // Folders are removed when all is over: file systems are slow to hand out anew what was just given back.
    let over: RefCell<Vec<PathBuf>> = RefCell::default();
    let remove = |folders: Vec<PathBuf>| folders.par_iter().try_for_each(|folder| fsio::remove_any(folder));
    let let_go = || -> Result<(), ExecError> {
        let mut over = over.borrow_mut();
        over.extend(unsafe_yet.borrow_mut().drain(..).map(LiveRun::release));
        if over.len() >= MANY_FOLDERS {
            // Who comes upon a folder must find its run in the ledger.
            project.ledger.catch_up(&project.store)?;
            remove(std::mem::take(&mut *over))?;
        }
        Ok(())
    };
    conduct(
        common,
        most,
        cancel,
        &mut || {
            let Some((number, part)) = parts.get(next) else { return Ok(None) };
            let at = next;
            next += 1;
            let (begun, live) = match first.take() {
                Some(begun) => begun,
                None => begin_part(part)?,
            };
            let run = begun.run.clone();
            place.borrow_mut().insert(run.clone(), (at, *number));
            let telling = live.telling(&Silent);
            telling.event(Event::Begun { run: run.clone(), stages: names_of(&part.project, shared.chosen) });
            tellings[at].begin(telling);
            let outlook = Outlook {
                project: &part.project,
                environment: shared.base.environment.clone(),
                tree: None,
                forced: shared.base.forced.clone(),
                from: BTreeMap::new(),
                sources: None,
                fresh: Some(&fresh),
            };
            let clock = Instant::now();
            let apart = Some(Apart::new(&part.project, &run, shared.recorded.clone(), shared.pool));
            conductor(&part.project, shared.chosen, &part.options, &benches[at], live, begun, outlook, apart, shared.gates, clock)
                .map(Some)
        },
        &mut |ended| {
            let run = ended.draft.run.clone();
            let root = ended.project.workspace.sandboxes_folder().join(&run);
            let (outcome, _, live) = end(ended, shared.writer, &chain)?;
            if outcome.state == RunState::Done {
                over.borrow_mut().push(root);
            }
            unsafe_yet.borrow_mut().push(live);
            if let Some((at, number)) = place.borrow().get(&run).copied() {
                tellings[at].end();
                let settled = settled(variants[number].clone(), outcome);
                events.event(Event::VariantSettled {
                    number: number + 1,
                    of: made.total,
                    set: settled.setting.iter().map(|(n, v)| (n.clone(), v.to_string())).collect(),
                    run: settled.run.clone(),
                    state: settled.state.clone(),
                    metrics: directed_first(project, &settled.metrics),
                });
                outcomes[number] = Some(settled);
            }
            Ok(())
        },
        &mut || let_go(),
    )?;
    shared.writer.publish()?;
    let_go()?;
    project.ledger.catch_up(&project.store)?;
    remove(over.take())?;
    // Stopped before the first variant began.
    first.take().map_or(Ok(()), |(_, live)| live.end())
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
        if matches!(event, Event::Aside { .. } | Event::NotDeterministic { .. } | Event::BadSignal { .. } | Event::Output { .. }) {
            self.events.event(event.clone());
        }
        if let Some(to) = self.to.lock().unwrap_or_else(std::sync::PoisonError::into_inner).as_ref() {
            to.event(event);
        }
    }
}
