//! The room that a run's stages take on the machine, or at a place, and when it is another's.

use super::active_run::ActiveRun;
use super::scheduler::Common;
use crate::config::graph::StageIndex;
use crate::pipeline::plan::Decision;

impl ActiveRun<'_> {
    /// Gives back what was taken for a stage that does not begin after all.
    pub(super) fn does_not_begin(&mut self, decision: &Decision, common: &mut Common<'_>) {
        self.give_back(decision.index, common);
        if let Some(key) = decision.key {
            common.in_flight.remove(&key);
        }
        self.locks.remove(&decision.index);
    }

    pub(super) fn take_room(&self, index: StageIndex, common: &mut Common<'_>) -> bool {
        let decl = &self.project.manifest.stages[index];
        common.capacity.take_at(&decl.needs, self.options.place_of(decl, index).as_deref())
    }

    /// The command of a stage has ended well, and what it made is to be recorded: another may begin beside that, but no more than
    /// are at work at once otherwise. Where one at a time is asked for, or a gate looks at the result first, none begins before.
    pub(super) fn command_ended(&mut self, index: StageIndex, common: &mut Common<'_>) {
        let decl = &self.project.manifest.stages[index];
        let is_alone = self.options.jobs == Some(1) || self.options.place_of(decl, index).is_some();
        if is_alone || self.gates.come_after(&decl.name) || common.recording >= common.capacity.most_here() {
            return;
        }
        self.give_back(index, common);
        self.recording.insert(index);
        common.recording += 1;
    }

    /// What came of a stage is there: nothing is taken for it any more.
    pub(super) fn is_recorded(&mut self, index: StageIndex, common: &mut Common<'_>) {
        self.running.remove(&index);
        match self.recording.remove(&index) {
            true => common.recording -= 1,
            false => self.give_back(index, common),
        }
    }

    /// Gives back the room that a stage had taken where it executed.
    fn give_back(&self, index: StageIndex, common: &mut Common<'_>) {
        let decl = &self.project.manifest.stages[index];
        common.capacity.give_back_at(&decl.needs, self.options.place_of(decl, index).as_deref());
    }
}
