//! Ending what is at work: because somebody asked for it, or since something has failed.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use super::GRACE;
use super::active_run::{ActiveRun, LOOK_FOR_STOP};
use crate::event::{CancelToken, Event};
use crate::pipeline::executor::{Cancel, Executor, JobId};

/// How far a run has been told to end.
#[derive(Default)]
pub(super) struct Ending {
    told: bool,
    killed: bool,
    since: Option<Instant>,
    looked: Option<Instant>,
}

/// Jobs of many runs that are to end: each place is told of all of its own together.
#[derive(Default)]
struct ToEnd {
    asked: Vec<JobId>,
    at_once: Vec<JobId>,
}

impl ToEnd {
    fn tell(&self, place: &dyn Executor) {
        for (jobs, how) in [(&self.asked, Cancel::Ask), (&self.at_once, Cancel::AtOnce)] {
            if !jobs.is_empty() {
                // A place that does not answer is asked again when patience ends.
                let _ = place.cancel_all(jobs, how);
            }
        }
    }
}

/// Ends what somebody, or a failure, wants ended; whether anything was.
pub(super) fn end_what_is_asked(active: &mut BTreeMap<usize, ActiveRun<'_>>, cancel: &CancelToken, failed: bool) -> bool {
    let (of, mut to_end, mut any) = (active.len(), ToEnd::default(), false);
    // What waits for room gives up in all runs before a job of any ends: the room that it had is nobody's then. Who asks from
    // here on is heard in the next pass.
    let asked = cancel.asked();
    if asked || failed {
        active.values().for_each(ActiveRun::give_up_waiting);
    }
    if asked || !cancel.asked() {
        for active_run in active.values_mut() {
            any |= active_run.end_if_asked(cancel, failed, of, &mut to_end);
        }
    }
    if let Some(active_run) = active.values().next() {
        to_end.tell(active_run.stage_context.place);
    }
    any
}

impl ActiveRun<'_> {
    /// Adds its commands at work to those to end when somebody asked for that, and once more when they do not.
    /// It is one of so many at work; whether anything came of it.
    fn end_if_asked(&mut self, cancel: &CancelToken, failed: bool, of: usize, to_end: &mut ToEnd) -> bool {
        let was_halted = self.halted;
        let own = self.stage_context.cancel;
        if cancel.asked() && !own.asked() {
            own.ask();
        }
        if cancel.at_once() && !own.at_once() {
            own.ask();
        }
        let now = Instant::now();
        let pause = LOOK_FOR_STOP.max(Duration::from_millis(of as u64 * 2));
        if self.ending.looked.is_none_or(|at| now - at >= pause) {
            self.ending.looked = Some(now);
            if let Some((reason, at_once)) = self.live.stop_asked() {
                if !own.asked() {
                    own.ask_because(reason);
                }
                if at_once && !own.at_once() {
                    own.ask();
                }
            }
        }
        if (own.asked() || failed) && !self.ending.told {
            self.ending.told = true;
            self.halted = true;
            if own.asked() {
                self.events.event(Event::Stopping);
            }
            to_end.asked.extend(self.stage_context.jobs_at_work());
            self.ending.since = Some(now);
        }
        let out_of_patience = own.at_once() || self.ending.since.is_some_and(|at| now - at >= GRACE);
        if self.ending.told && out_of_patience && !self.ending.killed {
            self.ending.killed = true;
            to_end.at_once.extend(self.stage_context.jobs_at_work());
        }
        self.halted != was_halted
    }

    /// What is to be handed over to another place, and was not, is not any more.
    fn give_up_waiting(&self) {
        for &index in self.running.iter().filter(|_| !self.ending.told) {
            let decl = &self.project.manifest.stages[index];
            if let Some(place) = self.options.place_of(decl, index) {
                self.stage_context.place.give_up(&self.live.folder.join(&decl.name), Some(&place));
            }
        }
    }
}
