//! The variants of a sweep at work: begun one after the other as there is room, told of and let go as they end.

use std::cell::{Cell, RefCell};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::path::PathBuf;
use std::sync::Mutex;
use std::time::Instant;

use rayon::prelude::*;

use super::ExecError;
use super::active_run::ActiveRun;
use super::apart::Apart;
use super::end::end;
use super::live::{LiveRun, Telling};
use super::outcome::RunOutcome;
use super::run::{BegunRun, begin, draft, names_of};
use super::stage::StageContext;
use super::sweep::{Part, SweepContext, VariantOutcome};
use crate::config::sweep::Setting;
use crate::event::{Event, EventSink, Silent};
use crate::fsio;
use crate::pipeline::plan::Recorded;
use crate::project::workspace::Project;
use crate::record::receipt::{Metric, RunReceipt, RunState};
use crate::store::Digest;

/// So many folders of runs that are over may be left for the end.
const MANY_FOLDERS: usize = 2000;

pub(super) fn remove(folders: Vec<PathBuf>) -> Result<(), ExecError> {
    Ok(folders.par_iter().try_for_each(|folder| fsio::remove_any(folder))?)
}

/// The variants at work.
pub(super) struct Variants<'v> {
    pub(super) context: &'v SweepContext<'v>,
    pub(super) parts: &'v [(usize, Part)],
    pub(super) tellings: &'v [Lazy<'v>],
    pub(super) stage_contexts: &'v [StageContext<'v>],
    pub(super) fresh: &'v RefCell<HashMap<Digest, Recorded>>,
    /// The last parts of the ids that were given out.
    pub(super) given: RefCell<HashSet<String>>,
    /// The first one is begun before the others.
    pub(super) first: RefCell<Option<(RunReceipt, LiveRun)>>,
    /// The next part to begin.
    pub(super) next: Cell<usize>,
    /// Which part a run is.
    pub(super) begun: RefCell<HashMap<String, usize>>,
    /// Runs whose receipts are not safe yet: until then their folders say that they are at work.
    pub(super) unsafe_yet: RefCell<Vec<LiveRun>>,
    /// Folders are removed when all is over: file systems are slow to hand out anew what was just given back.
    pub(super) over: RefCell<Vec<PathBuf>>,
    /// The receipt of the run that ended last.
    pub(super) chain: RefCell<Option<Digest>>,
}

impl<'v> Variants<'v> {
    pub(super) fn begin(&self, part: &Part) -> Result<(RunReceipt, LiveRun), ExecError> {
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
    pub(super) fn coming(&self) -> Result<Option<ActiveRun<'v>>, ExecError> {
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
    pub(super) fn ended(&self, ended: ActiveRun<'v>, outcomes: &mut [Option<VariantOutcome>]) -> Result<(), ExecError> {
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
    pub(super) fn let_go(&self) -> Result<(), ExecError> {
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
pub(super) struct Lazy<'e> {
    pub(super) events: &'e dyn EventSink,
    /// The places whose want of room has been told: once for all variants.
    pub(super) told: &'e Mutex<HashSet<String>>,
    pub(super) to: Mutex<Option<Telling<'static>>>,
}

impl Lazy<'_> {
    /// Nothing more is to be kept: its file is closed.
    pub(super) fn end(&self) {
        *self.to.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = None;
    }

    pub(super) fn begin(&self, telling: Telling<'static>) {
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
