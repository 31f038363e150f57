//! What became of a run and of its stages.

use std::collections::BTreeMap;
use std::path::PathBuf;

use textum_base::ProjectPath;

use crate::record::receipt::{
    GateRecord, Metric, ObservedInputs, PathContent, RunStageState, RunState, StageReceipt, StageState, Unchecked,
};
use crate::store::{Digest, Store};

/// What became of a stage.
#[derive(Clone, Debug)]
pub struct SettledStage {
    /// Its name.
    pub stage: String,
    /// What became of it.
    pub state: RunStageState,
    /// Its key, if known.
    pub key: Option<Digest>,
    /// The execution whose result it has, or that failed; none for a stage that was not begun.
    pub execution: Option<Execution>,
    /// Seconds it took in this run.
    pub seconds: f64,
}

/// An execution of a stage, in this run or an earlier one.
#[derive(Clone, Debug)]
pub struct Execution {
    /// Its receipt.
    pub receipt: Digest,
    /// The run that it was part of.
    pub run: String,
    /// What it brought forth; nothing unless it was done.
    pub outputs: Vec<PathContent>,
    /// Its metrics.
    pub metrics: BTreeMap<String, Metric>,
    /// Why it was not done.
    pub reason: Option<String>,
    /// Files that it seems to have read without declaring them.
    pub undeclared: Vec<String>,
    /// What it printed, when it was executed in this run.
    pub log: Option<Digest>,
    /// Of a result that another machine made: who and where, and when.
    pub elsewhere: Option<(String, String)>,
}

impl Execution {
    pub(super) fn of(digest: Digest, receipt: StageReceipt) -> Execution {
        Execution {
            receipt: digest,
            run: receipt.run,
            outputs: receipt
                .writes
                .into_iter()
                .chain(receipt.metric_files.into_iter().filter(|_| receipt.state == StageState::Done))
                .collect(),
            metrics: receipt.metrics,
            reason: receipt.reason,
            undeclared: receipt.undeclared,
            log: Some(receipt.log.digest),
            elsewhere: None,
        }
    }
}

impl SettledStage {
    /// What its result had from where nothing can be checked. A record that is lost tells nothing.
    pub fn unchecked(&self, store: &Store) -> Option<Unchecked> {
        let receipt = StageReceipt::load(store, &self.execution.as_ref()?.receipt).ok()?;
        let inputs = ObservedInputs::load(store, &receipt.observed?.inputs?).ok()?;
        Some(inputs.unchecked()).filter(|unchecked| *unchecked != Unchecked::default())
    }
}

/// What became of a run.
#[derive(Debug)]
pub struct RunOutcome {
    /// Its id. When there was nothing to do: that of the run whose results stand there.
    pub run: Option<String>,
    /// Whether it was recorded: a run with nothing to do is not.
    pub recorded: bool,
    /// How it ended.
    pub state: RunState,
    /// Its stages, in the order of their dependencies.
    pub stages: Vec<SettledStage>,
    /// The metrics of all stages.
    pub metrics: BTreeMap<String, Metric>,
    /// The gates that were looked at.
    pub gates: Vec<GateRecord>,
    /// Why it was not done.
    pub reason: Option<String>,
    /// Seconds it took.
    pub seconds: f64,
    /// The run's sandbox, if it worked in one: its outputs are there.
    pub sandbox: Option<PathBuf>,
    /// Outputs that were not put into the tree, since no stage read them.
    pub left: Vec<ProjectPath>,
}
