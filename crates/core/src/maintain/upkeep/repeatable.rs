//! Whether executions can be relied on to come out the same again, so that their outputs need not be kept.

use std::collections::{HashMap, HashSet};

use serde::Serialize;

use super::inventory::Inventory;
use crate::config::manifest::is_within;
use crate::project::observed::ObservedCheck;
use crate::project::workspace::Project;
use crate::record::receipt::{
    ObservedFile, ObservedHow, ObservedInputs, ObservedKind, PathContent, StageReceipt, StageState, StorageMode, Verdict, canonical,
};
use crate::store::{Digest, StoreError};

/// Why an output of an old run stays all the same.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum WhyKept {
    /// No stage reads it: it is what the pipeline was run for.
    LastOutput,
    /// It was named.
    Named,
    /// It belongs to a model of the manifest.
    Model,
    /// Its stage, or one before it, came out otherwise from the same inputs.
    NotDeterministic,
    /// Nothing has proved that its stage, and those before it, come out the same: neither a rebuild nor a second
    /// execution.
    NotProved,
    /// Its stage, or one before it, seems to have read what it does not declare, and no rebuild has done without.
    Undeclared,
    /// Its stage, or one before it, was seen to read what is not in the store: files elsewhere, or over the network.
    Elsewhere,
    /// The interpreter and packages that it was made with are no longer there.
    EnvironmentGone,
    /// It hangs on a reference, whose bytes are not Textum's to keep.
    Reference,
    /// Something that it was made from is not in the store.
    NotRebuildable,
}

/// Finds out whether executions come out the same again.
pub(super) struct Judge<'a> {
    pub(super) project: &'a Project,
    pub(super) receipts: HashMap<Digest, &'a StageReceipt>,
    pub(super) evidence: Evidence,
    /// What counts of the environment as it is now, in each form; empty where it cannot be had.
    pub(super) environment: Vec<Digest>,
    pub(super) check: ObservedCheck,
    pub(super) known: HashMap<Digest, Option<WhyKept>>,
}

impl Judge<'_> {
    /// Why an execution cannot be relied on to come out the same again; `None` when it can.
    pub(super) fn obstacle(&mut self, digest: &Digest) -> Result<Option<WhyKept>, StoreError> {
        if let Some(known) = self.known.get(digest) {
            return Ok(*known);
        }
        // Until it is known otherwise: receipts form no circle.
        self.known.insert(*digest, Some(WhyKept::NotRebuildable));
        let found = self.look(digest)?;
        self.known.insert(*digest, found);
        Ok(found)
    }

    fn look(&mut self, digest: &Digest) -> Result<Option<WhyKept>, StoreError> {
        let Some(receipt) = self.receipts.get(digest).copied() else { return Ok(Some(WhyKept::NotRebuildable)) };
        // What cannot be helped comes before what could be shown.
        if receipt.reads.iter().any(|r| r.hold == StorageMode::Reference) {
            return Ok(Some(WhyKept::Reference));
        }
        let evidence = &self.evidence;
        if evidence.against.contains(digest) || evidence.against.contains(&same_inputs(receipt)) {
            return Ok(Some(WhyKept::NotDeterministic));
        }
        let observed = receipt.observed.as_ref().and_then(|o| o.inputs);
        if observed.is_none() && !receipt.undeclared.is_empty() && !evidence.rebuilt.contains(digest) {
            return Ok(Some(WhyKept::Undeclared));
        }
        if !evidence.rebuilt.contains(digest) && !evidence.repeated.contains(&same_inputs(receipt)) {
            return Ok(Some(WhyKept::NotProved));
        }
        if receipt.inputs.environment.is_some_and(|e| !self.environment.contains(&e)) {
            return Ok(Some(WhyKept::EnvironmentGone));
        }
        if let Some(observed) = observed
            && let Some(obstacle) = self.observed_obstacle(&observed)
        {
            return Ok(Some(obstacle));
        }
        if let Some(from) = &receipt.from
            && !self.project.store.contains(&from.content.digest)?
        {
            return Ok(Some(WhyKept::NotRebuildable));
        }
        for read in &receipt.reads {
            for by in &read.by {
                if let Some(obstacle) = self.obstacle(by)? {
                    return Ok(Some(obstacle));
                }
            }
            let written =
                |by: &Digest| self.receipts.get(by).is_some_and(|w| w.outputs().any(|o| is_within(&read.at.path, &o.path)));
            if !read.by.iter().any(written) && !self.project.store.contains(&read.at.content.digest)? {
                return Ok(Some(WhyKept::NotRebuildable));
            }
        }
        Ok(None)
    }

    /// Why what a stage was seen to read cannot be had again; `None` when it can.
    fn observed_obstacle(&self, digest: &Digest) -> Option<WhyKept> {
        let store = &self.project.store;
        let Ok(inputs) = ObservedInputs::load(store, digest) else { return Some(WhyKept::NotRebuildable) };
        // Files elsewhere are not Textum's to keep, but for those that are there as programs are: for everybody.
        let is_data = |file: &ObservedFile| {
            !file.exec && !file.path.contains(".so") && !file.path.ends_with("pyvenv.cfg") && !file.path.starts_with("/etc/")
        };
        let mut elsewhere = inputs.of_kind(ObservedKind::Elsewhere).map(|g| g.load_files(store));
        if elsewhere.any(|files| files.is_ok_and(|files| files.iter().any(is_data))) || !inputs.network.is_empty() {
            return Some(WhyKept::Elsewhere);
        }
        match self.check.changes_outside(store, &inputs, 1) {
            Ok(changes) if changes.is_empty() => None,
            _ => Some(WhyKept::EnvironmentGone),
        }
    }
}

/// What tells executions with the same inputs from others: the key, and what was seen to be read beside it.
fn same_inputs(receipt: &StageReceipt) -> Digest {
    let observed = receipt.observed.as_ref();
    // Where not all was seen, the environment as a whole tells.
    let environment = receipt.environment.filter(|_| observed.is_none_or(|o| o.how != ObservedHow::Yes));
    let parts = [Some(receipt.key), observed.and_then(|o| o.inputs), environment];
    Digest::of(&parts.iter().flatten().map(|digest| &digest.as_bytes()[..]).collect::<Vec<_>>().concat())
}

/// What is known of whether executions come out the same again.
#[derive(Default)]
pub(super) struct Evidence {
    /// Keys whose results differ, and receipts that a rebuild did not find identical.
    against: HashSet<Digest>,
    /// Receipts that a rebuild found identical, in a sandbox with nothing but what they declare.
    rebuilt: HashSet<Digest>,
    /// Keys that were executed more than once.
    repeated: HashSet<Digest>,
}

/// What runs and rebuilds say of whether executions come out the same again.
pub(super) fn evidence(all: &Inventory) -> Evidence {
    let mut found = Evidence::default();
    let mut results: HashMap<Digest, Vec<&PathContent>> = HashMap::new();
    for (_, receipt) in all.stages.iter().filter(|(_, r)| r.state == StageState::Done) {
        let outputs: Vec<&PathContent> = receipt.outputs().collect();
        let inputs = same_inputs(receipt);
        match results.get(&inputs) {
            Some(other) if *other != outputs => drop(found.against.insert(inputs)),
            Some(_) => drop(found.repeated.insert(inputs)),
            None => drop(results.insert(inputs, outputs)),
        }
    }
    for (stage, same) in all.rebuilds.iter().flat_map(|(_, r)| r.stages.iter().map(|s| (s, r.differences.is_empty()))) {
        match stage.verdict {
            Verdict::Identical => drop(found.rebuilt.insert(stage.receipt)),
            // In another environment it says nothing of the stage.
            Verdict::Different | Verdict::Equivalent if !same => {}
            Verdict::Different | Verdict::Equivalent => drop(found.against.insert(stage.receipt)),
            // One that failed says nothing of the stage: its machine may have lacked a package.
            Verdict::Failed => {}
        }
    }
    found
}

/// What counts of the environment as it is now. Without one, what was made with an interpreter cannot be made again.
pub(super) fn environment_now(project: &Project) -> Vec<Digest> {
    let Ok(now) = project.environment() else { return Vec::new() };
    let forms = now.counted.iter().chain(&now.interpreter);
    forms.filter_map(|counted| canonical(counted).ok()).map(|bytes| Digest::of(&bytes)).collect()
}
