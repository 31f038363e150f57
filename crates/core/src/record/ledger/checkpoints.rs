//! Questions about checkpoints and about what people said of runs.

use rusqlite::params;

use super::{Ledger, LedgerError};
use crate::config::manifest::Better;
use crate::record::receipt::{BranchedFrom, Content, Metric};
use crate::store::Digest;
use textum_base::ProjectPath;

/// A stored checkpoint.
#[derive(Clone, Debug)]
pub struct CheckpointRow {
    /// Its receipt.
    pub receipt: Digest,
    /// The run that made it.
    pub run: String,
    /// The stage.
    pub stage: String,
    /// The step.
    pub step: u64,
    /// The stage's path of checkpoints.
    pub path: ProjectPath,
    /// What stood there.
    pub content: Content,
    /// When, RFC 3339 in UTC.
    pub made: String,
    /// Seconds since the stage began.
    pub seconds: f64,
    /// The last value of each metric then.
    pub metrics: Vec<(String, Metric)>,
}

impl CheckpointRow {
    /// The checkpoint as something to start from.
    pub fn to_start_from(&self) -> BranchedFrom {
        BranchedFrom {
            run: self.run.clone(),
            stage: self.stage.clone(),
            step: self.step,
            checkpoint: self.receipt,
            content: self.content.clone(),
        }
    }
}

/// Words given to a run after it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Remark {
    /// A note.
    pub note: String,
    /// When, RFC 3339 in UTC.
    pub made: String,
    /// Who, and where.
    pub by: String,
}

/// Why a checkpoint could not be found.
#[derive(Debug, thiserror::Error)]
pub enum CheckpointError {
    /// The run made none.
    #[error("the run {run} has no checkpoints{}", stage.as_ref().map_or(String::new(), |s| format!(" of a stage `{s}`")))]
    None {
        /// The run.
        run: String,
        /// The stage that was named, if one was.
        stage: Option<String>,
    },
    /// It made none at that step.
    #[error("the run {run} has no checkpoint of {what}: there are {}", steps.join(", "))]
    NoStep {
        /// The run.
        run: String,
        /// What was asked for.
        what: String,
        /// Those that there are.
        steps: Vec<String>,
    },
    /// Several stages of it did.
    #[error("the run {run} has checkpoints of several stages: {}", stages.join(", "))]
    SeveralStages {
        /// The run.
        run: String,
        /// The stages.
        stages: Vec<String>,
    },
    /// It is not said which direction of the metric is better.
    #[error("`#best:{0}`: the manifest does not say whether higher or lower is better")]
    NoDirection(String),
    /// What follows the `#` means nothing.
    #[error("`#{0}` names no checkpoint: write a step, as in #4, or #last, or #best:METRIC")]
    Form(String),
    /// The ledger could not answer.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
}

impl Ledger {
    /// The checkpoints behind a run's results, in the order in which they were made: its own, and those of
    /// the earlier runs whose results it took over.
    pub fn checkpoints_of(&self, run: &str) -> Result<Vec<CheckpointRow>, LedgerError> {
        let sql = "SELECT receipt, run, stage, step, path, kind, digest, size, files, made, seconds, private FROM checkpoints c WHERE run = ?1 \
                   OR EXISTS (SELECT 1 FROM run_stages s JOIN stage_receipts r ON r.digest = s.receipt WHERE s.run = ?1 AND r.run = c.run \
                   AND r.stage = c.stage) ORDER BY made, step, receipt";
        self.checkpoint_rows(sql, params![run])
    }

    /// The newest checkpoint with this content.
    pub fn checkpoint_with(&self, content: &Digest) -> Result<Option<CheckpointRow>, LedgerError> {
        let sql = "SELECT receipt, run, stage, step, path, kind, digest, size, files, made, seconds, private FROM checkpoints WHERE digest = ?1 \
                   ORDER BY made DESC, receipt LIMIT 1";
        Ok(self.checkpoint_rows(sql, params![content.as_bytes()])?.pop())
    }

    fn checkpoint_rows(&self, sql: &str, args: &[&dyn rusqlite::ToSql]) -> Result<Vec<CheckpointRow>, LedgerError> {
        let mut found = self.rows(sql, args, |r| {
            Ok(CheckpointRow {
                receipt: Digest::from_bytes(r.get(0)?),
                run: r.get(1)?,
                stage: r.get(2)?,
                step: r.get::<_, i64>(3)? as u64,
                path: super::query::project_path(r, 4)?,
                content: Content {
                    kind: super::datasets::kind_of(r.get_ref(5)?.as_str()?),
                    digest: Digest::from_bytes(r.get(6)?),
                    size: r.get::<_, i64>(7)? as u64,
                    files: r.get::<_, Option<i64>>(8)?.map(|n| n as u64),
                    private: super::datasets::private_of(r.get(11)?),
                },
                made: r.get(9)?,
                seconds: r.get(10)?,
                metrics: Vec::new(),
            })
        })?;
        for row in &mut found {
            let sql = "SELECT name, value FROM checkpoint_metrics WHERE receipt = ?1 ORDER BY name";
            row.metrics = self.rows(sql, params![row.receipt.as_bytes()], |r| {
                Ok((r.get(0)?, Metric(r.get::<_, Option<f64>>(1)?.unwrap_or(f64::NAN))))
            })?;
        }
        Ok(found)
    }

    /// The checkpoint of a run that `which` names: a step, `last`, or `best:METRIC`; of one `stage` if given.
    pub fn checkpoint(
        &self,
        run: &str,
        stage: Option<&str>,
        which: &str,
        directions: &[(String, Better)],
    ) -> Result<CheckpointRow, CheckpointError> {
        let mut all = self.checkpoints_of(run)?;
        all.retain(|c| stage.is_none_or(|s| c.stage == s));
        let mut stages: Vec<String> = all.iter().map(|c| c.stage.clone()).collect();
        stages.sort();
        stages.dedup();
        match stages.len() {
            0 => return Err(CheckpointError::None { run: run.into(), stage: stage.map(str::to_string) }),
            1 => {}
            _ => return Err(CheckpointError::SeveralStages { run: run.into(), stages }),
        }
        let steps: Vec<String> = all.iter().map(|c| c.step.to_string()).collect();
        let none = |what: String| CheckpointError::NoStep { run: run.into(), what, steps: few(&steps) };
        if which == "last" {
            return all.into_iter().last().ok_or_else(|| none("any step".into()));
        }
        if let Some(metric) = which.strip_prefix("best:") {
            let direction = directions.iter().find(|(n, _)| n == metric).map(|(_, b)| *b);
            let direction = direction.ok_or_else(|| CheckpointError::NoDirection(metric.to_string()))?;
            let value = |c: &CheckpointRow| c.metrics.iter().find(|(n, _)| n == metric).map(|(_, m)| m.0).filter(|v| v.is_finite());
            let mut best: Option<(f64, CheckpointRow)> = None;
            for checkpoint in all {
                let Some(v) = value(&checkpoint) else { continue };
                let better = best.as_ref().is_none_or(|(b, _)| if direction == Better::Higher { v > *b } else { v < *b });
                if better {
                    best = Some((v, checkpoint));
                }
            }
            return best.map(|(_, c)| c).ok_or_else(|| none(format!("a step with the metric `{metric}`")));
        }
        let step: u64 = which.parse().map_err(|_| CheckpointError::Form(which.to_string()))?;
        // A step that was stored twice: the later one stands.
        all.into_iter().rfind(|c| c.step == step).ok_or_else(|| none(format!("step {step}")))
    }

    /// What people noted of a run after it, oldest first.
    pub fn remarks_on(&self, run: &str) -> Result<Vec<Remark>, LedgerError> {
        let sql = "SELECT note, made, by_whom FROM remarks WHERE run = ?1 AND note IS NOT NULL ORDER BY made, receipt";
        self.rows(sql, params![run], |r| Ok(Remark { note: r.get(0)?, made: r.get(1)?, by: r.get(2)? }))
    }

    /// The label of a run as it is now.
    pub fn label_of(&self, run: &str) -> Result<Option<String>, LedgerError> {
        Ok(self.rows("SELECT label FROM runs WHERE id = ?1", params![run], |r| r.get(0))?.pop().flatten())
    }
}

/// Steps by their numbers, the middle left out when there are many.
fn few(steps: &[String]) -> Vec<String> {
    if steps.len() <= 12 {
        return steps.to_vec();
    }
    let mut shown = steps[..6].to_vec();
    shown.push("…".into());
    shown.extend_from_slice(&steps[steps.len() - 5..]);
    shown
}
