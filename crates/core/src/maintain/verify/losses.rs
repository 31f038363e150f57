//! Receipts that were there and are no more. The loss of content is told as long as a receipt speaks of it; that
//! of a receipt would be forgotten with it, were it not for what still names it.

use std::collections::{BTreeMap, BTreeSet};

use rayon::prelude::*;
use textum_base::Identity;

use super::{VerifyError, VerifyReport};
use crate::project::workspace::Workspace;
use crate::record::ledger::Ledger;
use crate::record::receipt::{
    LOSS_RECEIPT, LossReceipt, LostDocument, RUN_RECEIPT, RunReceipt, STAGE_RECEIPT, StageReceipt, canonical, read_document,
};
use crate::store::{Digest, Store};

/// What is known of lost receipts.
#[derive(Debug, Default)]
pub(super) struct Losses {
    /// Lost, and not acknowledged by anybody.
    pub open: BTreeSet<LostDocument>,
    /// Lost and acknowledged.
    pub acknowledged: usize,
}

/// The runs that documents tell of.
#[derive(Debug, Default)]
pub(super) struct History {
    /// The runs that have a receipt.
    runs: BTreeSet<String>,
    /// The receipts that they name as the ones before them.
    before: BTreeSet<Digest>,
    /// The runs that have executions.
    executed: BTreeSet<String>,
}

impl History {
    /// Of the documents of a store that can be read.
    pub(super) fn load(store: &Store, documents: &BTreeMap<Digest, String>) -> History {
        let of_kind =
            |wanted: &'static str| documents.par_iter().filter(move |(_, kind)| *kind == wanted).map(|(digest, _)| digest);
        let mut history = History::default();
        let runs: Vec<_> = of_kind(RUN_RECEIPT).filter_map(|d| RunReceipt::load(store, d).ok()).collect();
        runs.iter().for_each(|run| history.take_run(run));
        let executions: Vec<_> = of_kind(STAGE_RECEIPT).filter_map(|d| StageReceipt::load(store, d).ok()).collect();
        executions.iter().for_each(|execution| history.take_execution(execution));
        history
    }

    pub(super) fn take_run(&mut self, run: &RunReceipt) {
        self.runs.insert(run.run.clone());
        self.before.extend(run.after);
    }

    pub(super) fn take_execution(&mut self, execution: &StageReceipt) {
        if !self.executed.contains(&execution.run) {
            self.executed.insert(execution.run.clone());
        }
    }
}

impl LostDocument {
    fn words(&self) -> String {
        let kind = match self.kind.split('@').next().unwrap_or_default() {
            "textum/run-receipt" => "the receipt of a run",
            "textum/stage-receipt" => "the receipt of an execution",
            "textum/data-receipt" => "the receipt of a dataset's state",
            "textum/checkpoint-receipt" => "the receipt of a checkpoint",
            _ => "a document",
        };
        let of = self.run.as_ref().map_or(String::new(), |run| format!(" of {run}"));
        match &self.digest {
            Some(digest) => format!("{kind}{of} ({}) was lost", digest.short()),
            None => format!("{kind}{of} was lost"),
        }
    }
}

/// The runs that are at work, or were cut off and are not closed yet: to be asked before documents are listed, since
/// one that ends meanwhile has its receipt then.
pub(super) fn at_work(workspace: &Workspace) -> BTreeSet<String> {
    let entries = std::fs::read_dir(workspace.runs_folder()).into_iter().flatten().flatten();
    entries.filter_map(|e| e.file_name().into_string().ok()).collect()
}

/// Finds lost receipts: those that loss receipts tell of, those that the ledger still lists, those that a later
/// run names as the one before it, and runs of which only the executions are left.
pub(super) fn find(
    at_work: &BTreeSet<String>,
    store: &Store,
    documents: &BTreeMap<Digest, String>,
    history: &History,
    ledger: Option<&Ledger>,
) -> Result<Losses, VerifyError> {
    let mut open: BTreeSet<LostDocument> = BTreeSet::new();
    let mut known: BTreeSet<LostDocument> = BTreeSet::new();
    for digest in documents.iter().filter(|(_, kind)| *kind == LOSS_RECEIPT).map(|(digest, _)| *digest) {
        let Ok(loss) = store.read(&digest).map_err(drop).and_then(|b| read_document::<LossReceipt>(&digest, &b).map_err(drop))
        else {
            continue;
        };
        if loss.acknowledged { known.extend(loss.lost) } else { open.extend(loss.lost) }
    }
    if let Some(ledger) = ledger {
        let listed = ledger.all_documents()?;
        // Others may have added to both since: what the ledger lists can be seen in the store by now.
        store.reload()?;
        for (digest, kind) in listed {
            if !documents.contains_key(&digest) && !store.contains_document(&digest)? {
                let run = ledger.run_of_document(&digest)?;
                open.insert(LostDocument { digest: Some(digest), kind, run });
            }
        }
    }
    for after in history.before.iter().copied() {
        if !documents.contains_key(&after) && !store.contains_document(&after)? {
            let told = open.iter().chain(&known).any(|l| l.digest == Some(after));
            if !told {
                open.insert(LostDocument { digest: Some(after), kind: RUN_RECEIPT.to_string(), run: None });
            }
        }
    }
    for run in &history.executed {
        let told = open.iter().chain(&known).any(|l| l.run.as_ref() == Some(run) && l.kind == RUN_RECEIPT);
        if !history.runs.contains(run) && !told && !at_work.contains(run) {
            open.insert(LostDocument { digest: None, kind: RUN_RECEIPT.to_string(), run: Some(run.clone()) });
        }
    }
    // What has come back, from another copy of a pack for example, is lost no more.
    open.retain(|lost| lost.digest.is_none_or(|d| !documents.contains_key(&d)));
    open.retain(|lost| lost.digest.is_some() || lost.run.as_ref().is_none_or(|run| !history.runs.contains(run)));
    let acknowledged = open.iter().filter(|l| known.contains(l)).count();
    open.retain(|lost| !known.contains(lost));
    Ok(Losses { open, acknowledged: acknowledged.max(known.len()) })
}

impl Losses {
    pub(super) fn tell(&self, report: &mut VerifyReport) {
        report.lost = self.acknowledged;
        for lost in &self.open {
            report.problem(lost.words(), false);
            if let (Some(problem), Some(run)) = (report.problems.last_mut(), &lost.run) {
                problem.runs.push(run.clone());
            }
        }
    }

    /// Writes down what was lost, so that it stays in sight whatever becomes of the ledger.
    pub(super) fn record(&self, store: &Store, by: &Identity, acknowledged: bool) -> Result<usize, VerifyError> {
        if self.open.is_empty() {
            return Ok(0);
        }
        let receipt = LossReceipt {
            r#type: LOSS_RECEIPT.to_string(),
            lost: self.open.iter().cloned().collect(),
            found: textum_base::clock::now().to_string(),
            by: by.to_string(),
            acknowledged,
        };
        let writer = store.writer()?;
        writer.put_document(&canonical(&receipt)?)?;
        writer.publish()?;
        Ok(self.open.len())
    }
}
