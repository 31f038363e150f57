//! The scheduler: runs side by side, each with its stages side by side where graph and machine allow.

use std::cell::RefCell;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::time::{Duration, Instant};

use crossbeam_channel::Receiver;

use super::ExecError;
use super::active_run::ActiveRun;
use super::stage::no_thread;
use super::stopping::end_what_is_asked;
use super::unattended::Unattended;
use crate::config::graph::StageIndex;
use crate::event::CancelToken;
use crate::fsio::NameLock;
use crate::pipeline::executor::Capacity;
use crate::pipeline::plan::{Decision, Recorded};
use crate::record::receipt::StageReceipt;
use crate::store::{Digest, Writer};

/// What the runs that are carried out together have in common.
pub(super) struct Common<'a> {
    pub(super) writer: &'a Writer<'a>,
    pub(super) capacity: Capacity,
    /// Results that the ledger does not know of yet, by key.
    pub(super) fresh: &'a RefCell<HashMap<Digest, Recorded>>,
    /// Those of them whose content cannot be read yet.
    pub(super) unpublished: HashSet<Digest>,
    /// Keys that are being executed: nobody else begins them.
    pub(super) in_flight: HashSet<Digest>,
    /// Whether others may want the same keys.
    pub(super) shared: bool,
    /// So many stages are being recorded whose room is another's by now.
    pub(super) recording: usize,
    /// Locks on keys whose results others cannot find yet.
    pub(super) unreleased: Vec<NameLock>,
    /// Jobs of runs that were cut off, to be taken up.
    pub(super) unattended: Unattended,
    /// Whether something that was put has not been published.
    pub(super) dirty: bool,
}

impl Common<'_> {
    pub(super) fn publish(&mut self) -> Result<(), ExecError> {
        let _span = tracing::debug_span!("publish").entered();
        self.writer.publish()?;
        self.unpublished.clear();
        self.unreleased.clear();
        self.dirty = false;
        Ok(())
    }
}

/// Gives runs to be begun, one after another; `None` at the end.
pub(super) type Coming<'a, 'f> = dyn FnMut() -> Result<Option<ActiveRun<'a>>, ExecError> + 'f;

/// What a stage at work says; of the run with this number.
enum Report {
    /// Its command has ended well: what it made is being recorded.
    CommandEnded(usize, StageIndex),
    /// What was decided for it, and what came of it.
    Done(usize, StageIndex, Box<Decision>, Box<Result<StageReceipt, ExecError>>),
}

/// Carries out runs side by side, at most so many at once. Each is handed to `ended` when nothing of it is
/// left to do; what that hands out is safe with the next publishing, of which `published` hears.
pub(super) fn schedule<'a>(
    common: &mut Common<'a>,
    most: usize,
    cancel: &CancelToken,
    coming: &mut Coming<'a, '_>,
    ended: &mut dyn FnMut(ActiveRun<'a>) -> Result<(), ExecError>,
    published: &mut dyn FnMut() -> Result<(), ExecError>,
) -> Result<(), ExecError> {
    let (send, receive) = crossbeam_channel::unbounded::<Report>();
    let mut active: BTreeMap<usize, ActiveRun<'a>> = BTreeMap::new();
    let (mut next, mut exhausted) = (0, false);
    let (mut last_publish, mut last_pass) = (Instant::now(), Instant::now());
    let mut news = true;
    let mut failure: Option<ExecError> = None;
    std::thread::scope(|scope| {
        loop {
            exhausted |= cancel.asked() || failure.is_some();
            while !exhausted && active.len() < most {
                match coming() {
                    Ok(Some(active_run)) => {
                        active.insert(next, active_run);
                        news = true;
                    }
                    Ok(None) => exhausted = true,
                    Err(e) => {
                        failure.get_or_insert(e);
                        exhausted = true;
                    }
                }
                next += 1;
            }
            let of = active.len();
            news |= end_what_is_asked(&mut active, cancel, failure.is_some());
            // Thousands that wait for room are not gone through where nothing has changed.
            let pass = news || of < MANY || last_pass.elapsed() >= PASS_EVERY;
            (news, last_pass) = (false, if pass { Instant::now() } else { last_pass });
            for (&number, active_run) in active.iter_mut().filter(|_| pass) {
                let stage_context = active_run.stage_context;
                let begun = active_run.begin_what_can(common, |index, decision, task| {
                    let (sender, decided) = (send.clone(), decision.clone());
                    let work = move || {
                        let ended = || drop(sender.send(Report::CommandEnded(number, index)));
                        let result = stage_context.execute_telling(task, &ended);
                        drop(sender.send(Report::Done(number, index, Box::new(decision), Box::new(result))));
                    };
                    if let Err(e) = std::thread::Builder::new().spawn_scoped(scope, work) {
                        let why = no_thread(&decided.stage)(e).into();
                        let _ = send.send(Report::Done(number, index, Box::new(decided), Box::new(Err(why))));
                    }
                });
                if let Err(e) = begun {
                    failure.get_or_insert(e);
                    active_run.halted = true;
                }
            }
            let over: Vec<usize> = active.iter().filter(|(_, c)| c.is_over()).map(|(n, _)| *n).collect();
            let any_over = !over.is_empty();
            news |= any_over;
            for mut active_run in over.into_iter().filter_map(|n| active.remove(&n)) {
                if failure.is_none() {
                    active_run.skip_the_rest();
                    if let Err(e) = ended(active_run) {
                        failure.get_or_insert(e);
                    }
                }
            }
            if active.is_empty() && exhausted {
                break;
            }
            news |= !any_over && take_reports(&receive, &mut active, common, &mut failure);
            // Results become safe in batches: a sync a stage would cost more than many a stage takes.
            if last_publish.elapsed() >= PUBLISH_EVERY {
                if let Err(e) = common.publish().and_then(|()| published()) {
                    failure.get_or_insert(e);
                }
                last_publish = Instant::now();
            }
        }
    });
    // With this the locks on keys go: whoever takes one then must find the result.
    let found_by_others = common.publish();
    match failure {
        Some(e) => Err(e),
        None => found_by_others,
    }
}

/// Takes in what stages at work say, waiting a little for it; whether there was anything.
fn take_reports<'a>(
    reports: &Receiver<Report>,
    active: &mut BTreeMap<usize, ActiveRun<'a>>,
    common: &mut Common<'a>,
    failure: &mut Option<ExecError>,
) -> bool {
    let Ok(first) = reports.recv_timeout(Duration::from_millis(50)) else { return false };
    for report in std::iter::once(first).chain(reports.try_iter()) {
        if let Err(e) = take_report(report, active, common) {
            failure.get_or_insert(e);
        }
    }
    true
}

/// Takes in what came of a stage.
fn take_report<'a>(report: Report, active: &mut BTreeMap<usize, ActiveRun<'a>>, common: &mut Common<'a>) -> Result<(), ExecError> {
    let (number, index, decision, result) = match report {
        Report::CommandEnded(number, index) => {
            if let Some(active_run) = active.get_mut(&number) {
                active_run.command_ended(index, common);
            }
            return Ok(());
        }
        Report::Done(number, index, decision, result) => (number, index, *decision, *result),
    };
    let Some(active_run) = active.get_mut(&number) else { return Ok(()) };
    active_run.is_recorded(index, common);
    if let Some(key) = decision.key {
        common.in_flight.remove(&key);
    }
    common.unreleased.extend(active_run.locks.remove(&index));
    active_run.take_in(decision, result?, common)
}

/// From so many runs at work on they are gone through only when something has changed, or this long after.
const MANY: usize = 64;
const PASS_EVERY: Duration = Duration::from_millis(500);
/// How long results may be unpublished.
const PUBLISH_EVERY: Duration = Duration::from_millis(1000);
