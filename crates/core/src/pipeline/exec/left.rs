//! Outputs of results that are there already and stay where they are, in the store or a depot, until a stage reads them.

use std::collections::BTreeSet;

use super::ExecError;
use super::active_run::ActiveRun;
use crate::config::graph::StageIndex;
use crate::config::manifest::overlap;
use crate::pipeline::plan::Decision;
use crate::project::tree::Staged;
use crate::record::receipt::PathContent;

impl ActiveRun<'_> {
    /// Whether these outputs can be left out of the tree: only where nothing stands in their places.
    pub(super) fn can_be_left(&self, outputs: &[PathContent]) -> Result<bool, ExecError> {
        if !self.options.lazy || self.apart.is_some() {
            return Ok(false);
        }
        for output in outputs {
            if self.tree.standing(&output.path)?.is_some() {
                return Ok(false);
            }
        }
        Ok(true)
    }

    /// Puts outputs in their places in the tree.
    pub(super) fn put(&self, outputs: &[PathContent]) -> Result<(), ExecError> {
        let cleaner = self.cleaner();
        let mut staged = Staged::new(&cleaner);
        for output in outputs {
            staged.add(&output.path, &output.content)?;
        }
        staged.apply()?;
        Ok(())
    }

    /// Puts what was left of these stages.
    pub(super) fn put_left_of(&mut self, stages: &BTreeSet<StageIndex>) -> Result<(), ExecError> {
        for stage in stages {
            if let Some(outputs) = self.left.remove(stage) {
                self.put(&outputs)?;
            }
        }
        Ok(())
    }

    /// Puts what was left and a stage is about to read.
    pub(super) fn put_left_for(&mut self, decision: &Decision) -> Result<(), ExecError> {
        let is_read = |output: &PathContent| decision.reads.keys().any(|read| overlap(&output.path, read));
        let read = self.left.iter().filter(|(_, outputs)| outputs.iter().any(is_read)).map(|(stage, _)| *stage).collect();
        self.put_left_of(&read)
    }
}
