//! A stage that its place has lost, or that had to make room, is tried again by itself: from its last checkpoint, if it has
//! made one. It stays one execution of the same inputs; its receipt tells of each attempt.

use std::collections::BTreeMap;

use super::ExecError;
use super::listen::{Heard, Made};
use super::stage::{At, StageContext};
use super::task::Task;
use crate::event::Event;
use crate::fsio::{IoError, TreeDir};
use crate::pipeline::executor::Cause;
use crate::project::tree::write_new;
use crate::record::receipt::{Attempt, CheckpointReceipt};

/// How often a job that its engine could not begin is handed over again by itself.
const TO_BEGIN: u32 = 3;

/// The attempts at one stage.
pub(super) struct Tries {
    left: u32,
    /// How often it is handed over again where it was never begun: that costs nothing, so no `retries` are wanted for it.
    left_to_begin: u32,
    /// The step that the next attempt goes on from.
    from: Option<u64>,
    /// Checkpoints that are recorded, by their steps.
    made: BTreeMap<u64, Made>,
    /// What became of the attempts before.
    pub(super) past: Vec<Attempt>,
}

impl Tries {
    pub(super) fn of(task: &Task) -> Tries {
        let taken = task.taken_up.iter().flat_map(|taken| &taken.checkpoints);
        let made = taken.map(|(step, row)| (*step, Made::ByOther(Box::new(row.clone())))).collect();
        Tries { left: task.retries, left_to_begin: TO_BEGIN, from: None, made, past: Vec::new() }
    }

    /// Whether this is the first.
    pub(super) fn is_first(&self) -> bool {
        self.past.is_empty()
    }

    /// The checkpoints that were recorded before, where something was said before this attempt.
    pub(super) fn before(&self, task: &Task) -> Option<BTreeMap<u64, Made>> {
        (task.taken_up.is_some() || !self.is_first()).then(|| self.made.clone())
    }

    /// The variables of this attempt.
    pub(super) fn variables(&self, task: &Task, variables: &[(String, String)]) -> Vec<(String, String)> {
        let mut all = variables.to_vec();
        if let (false, Some(path)) = (self.is_first(), &task.inputs.checkpoints) {
            all.retain(|(name, _)| !matches!(name.as_str(), "TEXTUM_FROM" | "TEXTUM_FROM_STEP"));
            if let Some(step) = self.from {
                all.push(("TEXTUM_FROM".to_string(), path.to_string()));
                all.push(("TEXTUM_FROM_STEP".to_string(), step.to_string()));
            }
        }
        all
    }
}

impl StageContext<'_> {
    /// Whether a stage that ended so is tried again; then all is ready for that.
    pub(super) fn is_tried_again(&self, task: &Task, tries: &mut Tries, heard: &Heard, at: &At) -> Result<bool, ExecError> {
        let Some((why, cause)) = at.why.as_ref().and_then(|why| Some((why, why.cause?))) else { return Ok(false) };
        let never_began = cause == Cause::NotBegun && tries.left_to_begin > 0;
        if (tries.left == 0 && !never_began) || self.cancel.asked() || heard.stopped.is_some() || self.writer.is_none() {
            return Ok(false);
        }
        let last = match heard.record.checkpoints.last() {
            Some(digest) => Some((digest, CheckpointReceipt::load(self.store, digest)?)),
            None => None,
        };
        let went_on = last.as_ref().is_some_and(|(_, made)| tries.from.is_none_or(|from| made.step > from));
        // One that comes to its time limit without having come further does so again.
        if !(cause.may_pass() || (cause == Cause::Time && went_on)) {
            return Ok(false);
        }
        self.clear(task)?;
        if let (Some((_, made)), Some(path)) = (&last, &task.inputs.checkpoints) {
            write_new(self.store, &made.content, &TreeDir::open(task.scanner.root())?, path)?;
        }
        for digest in &heard.record.checkpoints {
            let made = CheckpointReceipt::load(self.store, digest)?;
            tries.made.insert(made.step, Made::Here(*digest));
        }
        if never_began {
            tries.left_to_begin -= 1;
        } else {
            tries.left -= 1;
        }
        tries.from = last.as_ref().map(|(_, made)| made.step);
        tries.past.push(Attempt {
            place: at.record.clone(),
            seconds: at.worked.map_or(0.0, |worked| worked.as_secs_f64()),
            why: why.words.clone(),
            went_on_from: tries.from,
        });
        let stage = task.inputs.stage.clone();
        self.events.event(Event::TriesAgain { stage, why: why.words.clone(), step: tries.from, left: tries.left });
        Ok(true)
    }

    /// Removes what an attempt has left where the next one writes.
    fn clear(&self, task: &Task) -> Result<(), IoError> {
        let tree = TreeDir::open(task.scanner.root())?;
        let outputs = task.inputs.writes.iter().map(|w| &w.path).chain(&task.inputs.metrics).chain(&task.inputs.checkpoints);
        for path in outputs {
            if tree.standing(path)?.is_some() {
                tree.remove(path)?;
            }
        }
        Ok(())
    }
}
