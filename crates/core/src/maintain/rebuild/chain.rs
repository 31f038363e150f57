//! Which executions a rebuild repeats, and where their chain begins.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use super::RebuildError;
use crate::inspect::lineage::{Origin, Target, TraceError};
use crate::record::receipt::{CheckpointReceipt, StageReceipt, StageState, StorageMode};
use crate::store::{Digest, Store};

/// An output that the verdict is on: its stage receipt and its path, all of its paths when `None`.
pub(super) type Wanted = (Digest, Option<String>);

/// The trainings that are repeated up to a checkpoint, each with the steps that are wanted of it; by what they began
/// with.
pub(super) type Trainings = BTreeMap<Digest, BTreeSet<u64>>;

/// Where a chain of stages began, other than at sources in the store.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase", tag = "kind")]
pub enum Beginning {
    /// A checkpoint: the training that made it was not repeated.
    Checkpoint {
        /// The stage that went on from it.
        stage: String,
        /// The checkpoint's run.
        run: String,
        /// Its step.
        step: u64,
    },
    /// A reference, whose bytes are where they were.
    Reference {
        /// Its path.
        path: String,
    },
}

/// The beginnings of a chain. From scratch, no checkpoint is one: its training is part of the chain.
pub(super) fn beginnings(chain: &[(Digest, StageReceipt)], from_scratch: bool) -> Vec<Beginning> {
    let mut found = BTreeSet::new();
    for (_, receipt) in chain {
        if let Some(from) = receipt.from.as_ref().filter(|_| !from_scratch) {
            found.insert(Beginning::Checkpoint { stage: receipt.inputs.stage.clone(), run: from.run.clone(), step: from.step });
        }
        let references = receipt.reads.iter().filter(|r| r.hold == StorageMode::Reference);
        found.extend(references.map(|r| Beginning::Reference { path: r.at.path.to_string() }));
    }
    found.into_iter().collect()
}

/// The outputs that the verdict is on: stage receipt and path (all of its paths when `None`).
pub(super) fn wanted_of(target: &Target, chain: &[(Digest, StageReceipt)]) -> Result<Vec<Wanted>, RebuildError> {
    match &target.origin {
        Origin::Source { .. } | Origin::Checkpoint(_) => Err(RebuildError::Source(target.name.clone())),
        Origin::Written { receipt, output } => Ok(vec![(*receipt, Some(output.clone()))]),
        Origin::Run(run) => {
            let of_run: Vec<Digest> = run.stages.iter().filter_map(|s| s.receipt).collect();
            Ok(chain.iter().filter(|(d, r)| of_run.contains(d) && r.state == StageState::Done).map(|(d, _)| (*d, None)).collect())
        }
    }
}

/// Of everything upstream, in its order: what the wanted outputs come from. A checkpoint is where a chain begins, unless
/// its training is to be repeated: then that is part of it, known by what it began with.
pub(super) fn needed(
    store: &Store,
    traced: Vec<(Digest, StageReceipt)>,
    wanted: &[Wanted],
    from_scratch: bool,
) -> Result<(Vec<(Digest, StageReceipt)>, Trainings), RebuildError> {
    let by_digest: BTreeMap<Digest, &StageReceipt> = traced.iter().map(|(d, r)| (*d, r)).collect();
    let mut trainings = Trainings::new();
    let mut needed = BTreeSet::new();
    let mut next: Vec<Digest> = wanted.iter().map(|(digest, _)| *digest).collect();
    while let Some(digest) = next.pop() {
        let Some(receipt) = by_digest.get(&digest) else { continue };
        if !needed.insert(digest) {
            continue;
        }
        next.extend(receipt.reads.iter().flat_map(|read| read.by.iter().copied()));
        if let Some(from) = receipt.from.as_ref().filter(|_| from_scratch) {
            let made = CheckpointReceipt::load(store, &from.checkpoint).map_err(TraceError::from)?;
            trainings.entry(made.start).or_default().insert(made.step);
            next.push(made.start);
        }
    }
    let is_part = |(digest, receipt): &(Digest, StageReceipt)| {
        needed.contains(digest) && (receipt.state == StageState::Done || trainings.contains_key(digest))
    };
    Ok((traced.into_iter().filter(is_part).collect(), trainings))
}
