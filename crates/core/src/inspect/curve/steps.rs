//! The steps of a run, each with its metrics and its checkpoint.

use std::collections::BTreeMap;

use super::{CurveError, curves};
use crate::config::manifest::Better;
use crate::record::ledger::CheckpointRow;
use crate::record::receipt::{Metric, RunReceipt, SignalRecord, StageReceipt};
use crate::store::Store;

/// A step of a stage.
#[derive(Clone, Debug)]
pub struct Step {
    /// Its number.
    pub step: u64,
    /// Seconds since the stage began.
    pub seconds: f64,
    /// The values of the stage's metrics, in their order.
    pub values: Vec<Option<Metric>>,
    /// Its checkpoint; of a step stored twice the later one.
    pub checkpoint: Option<CheckpointRow>,
}

/// The steps of a stage.
#[derive(Clone, Debug)]
pub struct StageSteps {
    /// The stage.
    pub stage: String,
    /// Its metrics: those with a direction first.
    pub metrics: Vec<String>,
    /// Its steps in their order.
    pub steps: Vec<Step>,
    /// What it told, in short.
    pub signals: SignalRecord,
    /// The run and step that it went on from.
    pub from: Option<(String, u64)>,
}

/// The steps of all stages of a run that told of any. `checkpoints` are the run's own.
pub fn steps_of(
    store: &Store,
    run: &RunReceipt,
    checkpoints: &[CheckpointRow],
    better: &[(String, Better)],
) -> Result<Vec<StageSteps>, CurveError> {
    let mut found = Vec::new();
    for stage in &run.stages {
        let Some(digest) = stage.receipt else { continue };
        let receipt = StageReceipt::load(store, &digest)?;
        let Some(signals) = receipt.signals else { continue };
        let mut metrics: Vec<String> = signals.metrics.keys().cloned().collect();
        metrics.sort_by_key(|m| !better.iter().any(|(n, _)| n == m));
        let only = RunReceipt { stages: vec![stage.clone()], ..run.clone() };
        let curves = curves(store, &only, &metrics, better)?;
        let mut steps: BTreeMap<u64, Step> = BTreeMap::new();
        let nothing = |step: u64, seconds: f64| Step { step, seconds, values: vec![None; metrics.len()], checkpoint: None };
        for curve in &curves {
            let Some(at) = metrics.iter().position(|m| *m == curve.metric) else { continue };
            for point in &curve.points {
                let slot = steps.entry(point.step).or_insert_with(|| nothing(point.step, point.seconds));
                slot.values[at] = Some(Metric(point.value));
            }
        }
        for made in checkpoints.iter().filter(|c| c.stage == stage.stage && c.run == receipt.run) {
            let slot = steps.entry(made.step).or_insert_with(|| nothing(made.step, made.seconds));
            slot.checkpoint = Some(made.clone());
        }
        found.push(StageSteps {
            stage: stage.stage.clone(),
            metrics,
            steps: steps.into_values().collect(),
            signals,
            from: receipt.from.map(|f| (f.run, f.step)),
        });
    }
    Ok(found)
}
