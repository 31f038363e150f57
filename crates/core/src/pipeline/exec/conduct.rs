//! The scheduler: runs side by side, each with its stages side by side where graph and machine allow.

use std::cell::RefCell;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::time::{Duration, Instant};

use super::ExecError;
use super::conductor::Conductor;
use super::key_lock::KeyLock;
use super::schedule::Capacity;
use crate::config::graph::StageIndex;
use crate::event::CancelToken;
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
    /// Locks on keys whose results others cannot find yet.
    pub(super) unreleased: Vec<KeyLock>,
    /// Whether something that was put has not been published.
    pub(super) dirty: bool,
}

impl Common<'_> {
    pub(super) fn publish(&mut self) -> Result<(), ExecError> {
        self.writer.publish()?;
        self.unpublished.clear();
        self.unreleased.clear();
        self.dirty = false;
        Ok(())
    }
}

/// Gives runs to be begun, one after another; `None` at the end.
pub(super) type Coming<'a, 'f> = dyn FnMut() -> Result<Option<Conductor<'a>>, ExecError> + 'f;

/// The number of the run, the stage, what was decided for it, and what came of it.
type Report = (usize, StageIndex, Decision, Result<StageReceipt, ExecError>);

/// Carries out runs side by side, at most so many at once. Each is handed to `ended` when nothing of it is
/// left to do; what that hands out is safe with the next publishing, of which `published` hears.
pub(super) fn conduct<'a>(
    mut common: Common<'a>,
    most: usize,
    cancel: &CancelToken,
    coming: &mut Coming<'a, '_>,
    ended: &mut dyn FnMut(Conductor<'a>) -> Result<(), ExecError>,
    published: &mut dyn FnMut() -> Result<(), ExecError>,
) -> Result<(), ExecError> {
    let (send, receive) = crossbeam_channel::unbounded::<Report>();
    let mut active: BTreeMap<usize, Conductor<'a>> = BTreeMap::new();
    let (mut next, mut exhausted) = (0, false);
    let mut last_publish = Instant::now();
    let mut failure: Option<ExecError> = None;
    std::thread::scope(|scope| {
        loop {
            exhausted |= cancel.asked() || failure.is_some();
            while !exhausted && active.len() < most {
                match coming() {
                    Ok(Some(conductor)) => drop(active.insert(next, conductor)),
                    Ok(None) => exhausted = true,
                    Err(e) => {
                        failure.get_or_insert(e);
                        exhausted = true;
                    }
                }
                next += 1;
            }
            for (&number, conductor) in &mut active {
                conductor.end_if_asked(cancel, failure.is_some());
                let bench = conductor.bench;
                let begun = conductor.begin_what_can(&mut common, |index, decision, task| {
                    let send = send.clone();
                    scope.spawn(move || {
                        let result = bench.execute(task);
                        let _ = send.send((number, index, decision, result));
                    });
                });
                if let Err(e) = begun {
                    failure.get_or_insert(e);
                    conductor.halted = true;
                }
            }
            let over: Vec<usize> = active.iter().filter(|(_, c)| c.is_over()).map(|(n, _)| *n).collect();
            let any_over = !over.is_empty();
            for mut conductor in over.into_iter().filter_map(|n| active.remove(&n)) {
                if failure.is_none() {
                    conductor.skip_the_rest();
                    if let Err(e) = ended(conductor) {
                        failure.get_or_insert(e);
                    }
                }
            }
            if active.is_empty() && exhausted {
                break;
            }
            if !any_over && let Ok(first) = receive.recv_timeout(Duration::from_millis(50)) {
                for (number, index, decision, result) in std::iter::once(first).chain(receive.try_iter()) {
                    let Some(conductor) = active.get_mut(&number) else { continue };
                    conductor.running.remove(&index);
                    common.capacity.give_back(&conductor.project.manifest.stages[index].needs);
                    if let Some(key) = decision.key {
                        common.in_flight.remove(&key);
                    }
                    common.unreleased.extend(conductor.locks.remove(&index));
                    if let Err(e) = result.and_then(|receipt| conductor.take_in(decision, receipt, &mut common)) {
                        failure.get_or_insert(e);
                    }
                }
            }
            // Results become safe in batches: a sync a stage would cost more than many a stage takes.
            if last_publish.elapsed() >= PUBLISH_EVERY {
                if let Err(e) = common.publish().and_then(|()| published()) {
                    failure.get_or_insert(e);
                }
                last_publish = Instant::now();
            }
        }
    });
    match failure {
        Some(e) => Err(e),
        None => Ok(()),
    }
}

/// How long results may be unpublished.
const PUBLISH_EVERY: Duration = Duration::from_millis(1000);
