//! Conditions on metrics that must hold before later stages run.

use std::collections::BTreeMap;
use std::rc::Rc;
use std::sync::Arc;

use super::metrics::of_group;
use super::outcome::SettledStage;
use crate::config::manifest::{GateDecl, Manifest, declared_name};
use crate::project::git::git_show;
use crate::project::workspace::Project;
use crate::record::ledger::{Ledger, LedgerError, NameError};
use crate::record::receipt::{GateRecord, Metric, RunReceipt, TREE_RECEIPT_NAME, TreeReceipt};
use textum_expr::Known;

/// The run that gates compare with, and its metrics.
pub(super) struct Baseline {
    run: String,
    metrics: BTreeMap<String, Metric>,
}

/// Looks at the gates of a run. What they compare with is found before the run begins, since the run
/// itself changes what the committed receipt says.
pub(super) struct Gates {
    manifest: Arc<Manifest>,
    ledger: Rc<Ledger>,
    baselines: Vec<Option<Baseline>>,
}

/// The run of the receipt of the last commit; where git does not keep one, the newest run that was done.
fn usual(project: &Project) -> Result<Option<String>, LedgerError> {
    match git_show(project.workspace.root(), TREE_RECEIPT_NAME) {
        Some(text) => Ok(serde_json::from_str::<TreeReceipt>(&text).ok().and_then(|tree| tree.run)),
        None => project.ledger.last_done_run(),
    }
}

impl Gates {
    /// Finds what each gate of the manifest compares with.
    pub(super) fn new(project: &Project) -> Result<Gates, NameError> {
        let names_it = |gate: &GateDecl| gate.check.names().iter().any(|n| n.starts_with("baseline."));
        let mut baselines = Vec::new();
        for gate in &project.manifest.gates {
            let run = match &gate.baseline {
                _ if !names_it(gate) => None,
                Some(name) => match project.ledger.resolve_run(name, &project.manifest.metrics) {
                    // Nothing to compare with yet is no mistake; a name that means nothing is.
                    Err(NameError::NoRuns | NameError::NoMetric { .. }) => None,
                    found => Some(found?),
                },
                None => usual(project)?,
            };
            let row = run.map(|run| project.ledger.run(&run)).transpose()?.flatten();
            baselines.push(row.map(|row| Baseline { run: row.run, metrics: row.metrics.into_iter().collect() }));
        }
        Ok(Gates { manifest: project.manifest.clone(), ledger: project.ledger.clone(), baselines })
    }

    /// Whether any looks at the results of this stage, or of all that `each` makes as it does this one.
    pub(super) fn come_after(&self, stage: &str) -> bool {
        self.manifest.gates.iter().any(|g| g.after == stage || g.after == declared_name(stage))
    }

    /// Looks at the gates after a stage that has its result.
    pub(super) fn after(&self, stage: &str, settled: &[&SettledStage], draft: &RunReceipt) -> Result<Vec<GateRecord>, LedgerError> {
        // After a stage that is `each`: once all that come out of it have their results.
        let declared = declared_name(stage);
        let is_whole = || {
            let done = settled.iter().filter(|s| declared_name(&s.stage) == declared && s.state.has_result()).count();
            done == self.manifest.stages_of(declared).count()
        };
        let is_after = |g: &GateDecl| g.after == stage || (g.after == declared && declared != stage && is_whole());
        let gates = self.manifest.gates.iter().zip(&self.baselines).filter(|(g, _)| is_after(g));
        gates.map(|(gate, baseline)| self.judge(gate, baseline.as_ref(), settled, draft)).collect()
    }

    fn judge(
        &self,
        gate: &GateDecl,
        baseline: Option<&Baseline>,
        settled: &[&SettledStage],
        draft: &RunReceipt,
    ) -> Result<GateRecord, LedgerError> {
        let members: Vec<&SettledStage> = settled.iter().copied().filter(|s| declared_name(&s.stage) == gate.after).collect();
        let whole = (members.len() > 1).then(|| of_group(&members, members.len())).flatten();
        let metric = |name: &str| {
            let of = |stage: &&SettledStage| stage.execution.as_ref().and_then(|e| e.metrics.get(name).copied());
            // The stage that the gate follows counts first; then STAGE.METRIC; then any other stage.
            let own = settled.iter().find(|s| s.stage == gate.after).and_then(of);
            let own = own.or_else(|| whole.as_ref().and_then(|metrics| metrics.get(name).copied()));
            let named = settled.iter().find_map(|s| {
                let rest = name.strip_prefix(s.stage.as_str())?.strip_prefix('.')?;
                s.execution.as_ref()?.metrics.get(rest).copied()
            });
            own.or(named).or_else(|| settled.iter().find_map(of))
        };
        let mut known = BTreeMap::new();
        for name in gate.check.names() {
            let found = match (name.strip_prefix("baseline."), name.strip_prefix("data.")) {
                (Some(of), _) => match baseline {
                    Some(baseline) => baseline.metrics.get(of).map_or(Known::Unknown, |m| Known::Value(m.0)),
                    None => Known::NothingToCompare,
                },
                (None, Some(of)) => self.of_data(of, draft)?.map_or(Known::Unknown, Known::Value),
                (None, None) => metric(name).map_or(Known::Unknown, |m| Known::Value(m.0)),
            };
            known.insert(name.to_string(), found);
        }
        let held = gate.check.truth(&|name| known.get(name).copied().unwrap_or(Known::Unknown)).is_held();
        let value = |known: Known| match known {
            Known::Value(v) => Some(Metric(v)),
            _ => None,
        };
        Ok(GateRecord {
            after: gate.after.clone(),
            check: gate.check.text.clone(),
            held,
            values: known.into_iter().map(|(n, k)| (n, value(k))).collect(),
            baseline: baseline.map(|b| b.run.clone()),
            kept_from: Vec::new(),
        })
    }

    /// `NAME.rows` and `NAME.bytes` of a dataset as the run found it.
    fn of_data(&self, name: &str, draft: &RunReceipt) -> Result<Option<f64>, LedgerError> {
        let Some((dataset, what)) = name.rsplit_once('.') else { return Ok(None) };
        let Some(state) = draft.data.get(dataset) else { return Ok(None) };
        Ok(match what {
            "bytes" => Some(state.content.size as f64),
            "rows" => {
                let known = self.ledger.data_receipts(dataset)?;
                known.into_iter().find(|d| d.content.digest == state.content.digest).and_then(|d| d.rows).map(|n| n as f64)
            }
            _ => None,
        })
    }
}
