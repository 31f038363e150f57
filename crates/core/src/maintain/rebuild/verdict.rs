//! Whether rebuilt stages came out as they are recorded.

use std::collections::BTreeMap;
use std::path::Path;

use super::RebuildError;
use super::compare::{FirstDifference, difference, metrics_agree};
use super::stages::{Rebuilder, StageRebuild};
use crate::event::Event;
use crate::record::receipt::{PathContent, RebuiltWrite, StageReceipt, StageState, Verdict};
use crate::store::Digest;

impl Rebuilder<'_> {
    /// Holds what came out against what is recorded.
    pub(super) fn judge(&mut self, digest: Digest, recorded: &StageReceipt, rebuilt: &StageReceipt, root: &Path) {
        let now: BTreeMap<&str, &PathContent> = rebuilt.outputs().map(|o| (o.path.as_str(), o)).collect();
        let stage = recorded.inputs.stage.clone();
        let mut identical = true;
        let mut writes = Vec::new();
        for output in recorded.outputs() {
            let found = now.get(output.path.as_str());
            writes.push(RebuiltWrite {
                path: output.path.clone(),
                recorded: output.content.digest,
                rebuilt: found.map(|f| f.content.digest),
            });
            if found.is_some_and(|f| f.content.digest == output.content.digest && f.content.kind == output.content.kind) {
                continue;
            }
            identical = false;
            if self.first.is_none() {
                let (below, how) = difference(&self.project.store, &output.content, &root.join(&output.path));
                let path = below.map_or(output.path.to_string(), |b| format!("{}/{b}", output.path));
                self.first = Some(FirstDifference { stage: stage.clone(), path, how });
            }
        }
        let verdict = if identical {
            Verdict::Identical
        } else if metrics_agree(&recorded.metrics, &rebuilt.metrics, self.options.tolerance) {
            Verdict::Equivalent
        } else {
            Verdict::Different
        };
        self.done.insert(digest, Some(root.to_path_buf()));
        self.events.event(Event::Rebuilt { stage: stage.clone(), verdict, seconds: rebuilt.seconds });
        self.stages.push(StageRebuild { verdict, writes, seconds: rebuilt.seconds, ..StageRebuild::of(stage, digest) });
    }

    /// The verdict on the outputs asked for: identical bytes decide; else the worst of their stages.
    pub fn verdict_on(&self, wanted: &[(Digest, Option<String>)]) -> Verdict {
        let of_one = |(receipt, path): &(Digest, Option<String>)| {
            let Some(stage) = self.stages.iter().find(|s| s.receipt == *receipt) else { return Verdict::Failed };
            let mut asked = stage.writes.iter().filter(|w| path.as_ref().is_none_or(|p| w.path == *p));
            if asked.all(|w| w.rebuilt == Some(w.recorded)) { Verdict::Identical } else { stage.verdict }
        };
        let worst = wanted.iter().map(of_one).max().unwrap_or(Verdict::Failed);
        // What cannot be rebuilt to the end is not rebuilt, even if nothing asked for hangs on it.
        self.stages.iter().map(|s| s.verdict).filter(|v| *v == Verdict::Failed).max().unwrap_or(worst)
    }

    /// A model has no metrics of its own: the later stages of its run that judge it are rebuilt too, and
    /// their metrics decide whether a model of other bytes is an equivalent one.
    pub fn judge_by_later_metrics(&mut self, run: &str, wanted: &[(Digest, Option<String>)]) -> Result<Verdict, RebuildError> {
        let Some(row) = self.project.ledger.run(run)? else { return Ok(Verdict::Different) };
        let receipt = crate::record::receipt::RunReceipt::load(&self.project.store, &row.receipt)?;
        let asked: Vec<Digest> = wanted.iter().map(|(d, _)| *d).collect();
        let mut verdicts = Vec::new();
        for digest in receipt.stages.iter().filter_map(|s| s.receipt) {
            if self.done.contains_key(&digest) {
                continue;
            }
            let later = StageReceipt::load(&self.project.store, &digest)?;
            let by: Vec<Digest> = later.reads.iter().flat_map(|r| r.by.iter().copied()).collect();
            let judges = !later.metrics.is_empty() && by.iter().any(|b| asked.contains(b));
            let can = by.iter().all(|b| matches!(self.done.get(b), Some(Some(_))));
            if judges && can && later.state == StageState::Done {
                self.stage(digest, &later)?;
                verdicts.extend(self.stages.last().map(|s| s.verdict));
            }
        }
        let agree = !verdicts.is_empty() && verdicts.iter().all(|v| matches!(v, Verdict::Identical | Verdict::Equivalent));
        Ok(if agree { Verdict::Equivalent } else { Verdict::Different })
    }
}
