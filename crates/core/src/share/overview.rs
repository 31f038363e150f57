//! Looking after a depot: is everything there, what does it hold, what can go.

use std::collections::HashSet;

use textum_depot::{Depot, DepotError, DepotFigures, DepotReport, SweepOptions, Swept, VerifyOptions};

use super::closure::every_content;
use super::sync::SyncError;
use crate::project::depots::DepotsError;
use crate::project::workspace::Project;
use crate::record::receipt::{ERASE_RECEIPT, EraseReceipt, Nothing, PRUNE_RECEIPT, PruneReceipt, read_document, type_of};
use crate::store::Digest;

/// What a depot holds.
#[derive(Clone, Debug)]
pub struct RemoteFigures {
    /// Figures of its objects.
    pub figures: DepotFigures,
    /// The projects whose receipts it has.
    pub projects: Vec<String>,
}

/// Everything that documents of any project in the depot speak of; and what was dropped by prunes or erased.
fn spoken_of(project: &Project, depot: &Depot) -> Result<(HashSet<Digest>, HashSet<Digest>), SyncError> {
    let (mut documents, mut dropped) = (Vec::new(), HashSet::new());
    depot.every_document(|digest, bytes| {
        if type_of(&bytes).as_deref() == Some(PRUNE_RECEIPT)
            && let Ok(prune) = read_document::<PruneReceipt>(&digest, &bytes)
        {
            dropped.extend(prune.dropped.keys().copied());
        }
        if type_of(&bytes).as_deref() == Some(ERASE_RECEIPT)
            && let Ok(said) = read_document::<EraseReceipt>(&digest, &bytes)
        {
            dropped.extend(said.contents.keys().copied());
        }
        documents.push((digest, bytes));
        Ok(())
    })?;
    let own: HashSet<Digest> = documents.iter().map(|(digest, _)| *digest).collect();
    let mut spoken_of = every_content(&project.store, documents.into_iter(), &Nothing)?;
    // Documents are found by themselves.
    spoken_of.retain(|digest| !own.contains(digest));
    Ok((spoken_of, dropped))
}

/// Looks whether a depot has what its documents speak of. What no machine ever sent, as values that were never stored, or
/// what a prune dropped, is not missed.
pub fn verify_depot(project: &Project, depot: &Depot, options: VerifyOptions) -> Result<DepotReport, SyncError> {
    depot.refresh()?;
    let (spoken_of, dropped) = match spoken_of(project, depot) {
        // Damage to documents is for the look below to tell of. Whatever else is in the way must not pass for a depot of which
        // nothing is missing.
        Err(SyncError::Depots(DepotsError::Depot(e))) if matches!(*e, DepotError::Damaged { .. }) => Default::default(),
        other => other?,
    };
    let mut report = depot.verify(&project.store, &spoken_of, options)?;
    let mut missed = Vec::new();
    for digest in report.missing {
        // What is here and not there was not sent; what is nowhere else may never have been anywhere.
        if !dropped.contains(&digest) && project.store.contains(&digest)? {
            missed.push(digest);
        }
    }
    report.missing = missed;
    Ok(report)
}

/// Drops what no document of any project speaks of, in two steps with a time of grace between.
pub fn prune_depot(project: &Project, depot: &Depot, options: SweepOptions) -> Result<Swept, SyncError> {
    depot.refresh()?;
    let (spoken_of, _) = spoken_of(project, depot)?;
    Ok(depot.sweep(&spoken_of, options)?)
}

impl RemoteFigures {
    /// What a depot holds.
    pub fn of(depot: &Depot) -> Result<RemoteFigures, SyncError> {
        Ok(RemoteFigures { figures: depot.figures()?, projects: depot.projects()? })
    }
}
