//! Erasing in depots: at once where they can be reached, else as soon as they can; and doing here what others have erased.

use std::collections::{BTreeMap, BTreeSet, HashSet};

use serde::Serialize;
use textum_base::Identity;
use textum_depot::{Depot, Erased};

use super::EraseError;
use super::forgotten::{Forgotten, Given};
use super::plan::Forgetting;
use crate::maintain::upkeep::Inventory;
use crate::project::erasures::Pending;
use crate::project::workspace::Project;
use crate::publish::{Other, Reached, others_of, reached};
use crate::record::ledger::Erasure;
use crate::record::receipt::{ContentKind, EraseReceipt, GivenUp, canonical, files_in};
use crate::share::{every_content, receive};
use crate::store::Digest;

/// What was done in a depot.
#[derive(Clone, Debug, Default, Serialize)]
pub struct DepotErased {
    /// The depot.
    pub depot: String,
    /// Entries that went.
    pub entries: u64,
    /// Bytes by which the depot is smaller.
    pub bytes: u64,
    /// Other projects that had something made of the rows: they are told.
    pub projects: Vec<String>,
    /// Projects that could not be looked through, and why: what they made of the rows is still there.
    pub unseen: Vec<(String, String)>,
}

/// Depots that have not heard of all that was erased, each with the receipts that it has not heard of.
pub fn pending(project: &Project) -> BTreeMap<String, Vec<Digest>> {
    let mut found: BTreeMap<String, Vec<Digest>> = BTreeMap::new();
    for (receipt, depots) in Pending::load(&project.workspace).depots {
        depots.into_iter().for_each(|depot| found.entry(depot).or_default().push(receipt));
    }
    found
}

/// What others have erased, some of whose content is here.
pub fn unfollowed(project: &Project) -> Result<Vec<Erasure>, EraseError> {
    let all = project.ledger.erasures()?;
    if all.is_empty() {
        return Ok(Vec::new());
    }
    let done = Pending::load(&project.workspace).done;
    let mut found = Vec::new();
    for erasure in all.into_iter().filter(|e| !done.contains(&e.receipt)) {
        let said = EraseReceipt::load(&project.store, &erasure.receipt)?;
        for digest in said.contents.keys() {
            if project.store.contains(digest)? {
                found.push(erasure);
                break;
            }
        }
    }
    Ok(found)
}

/// What a project of the depot gives up beside what is known.
fn more_in(
    other: &Other,
    reached: &Reached,
    forgotten: &mut Forgotten,
    forgetting: &Forgetting,
) -> Result<BTreeMap<Digest, u64>, EraseError> {
    let all = Inventory::load(&other.store, &other.ledger)?;
    let keeps = |_: &str| false;
    let keeps = forgetting.keep_models.then_some(&keeps as &dyn Fn(&str) -> bool);
    let mut own = Forgotten { models: forgetting.models.clone(), ..Forgotten::default() };
    own.sources.extend(&forgetting.sources);
    own.made.extend(&forgetting.made);
    own.add(&other.store, &all, &forgetting.seeds, reached, keeps)?;
    let mut found = BTreeMap::new();
    for Given { digest, kind, size, .. } in own.given_up_in(&all) {
        found.insert(digest, size);
        if kind == ContentKind::Folder {
            for file in files_in(&other.store, &digest) {
                found.entry(file).or_insert(0);
            }
        }
    }
    forgotten.models.extend(own.models);
    forgotten.sources.extend(own.sources);
    forgotten.documents.extend(own.documents);
    forgotten.made.extend(own.made);
    Ok(found)
}

/// Takes out of a depot what was erased here, and what other projects that share it have made of that. They are told by a
/// receipt of their own.
pub fn erase_in_depot(project: &Project, depot: &Depot, receipts: &[Digest], by: &Identity) -> Result<DepotErased, EraseError> {
    let store = &project.store;
    depot.refresh().map_err(crate::share::SyncError::from)?;
    receive(project, depot)?;
    let mut outcome = DepotErased { depot: depot.name().to_string(), ..DepotErased::default() };
    let others = others_of(project, depot, &mut outcome.unseen)?;
    let mut forgotten = Forgotten::default();
    let mut going: HashSet<Digest> = HashSet::new();
    let mut told: BTreeSet<String> = BTreeSet::new();
    for receipt in receipts {
        let said = EraseReceipt::load(store, receipt)?;
        let forgetting = Forgetting::of_receipt(&said);
        forgotten.models.extend(&forgetting.models);
        forgotten.sources.extend(&forgetting.sources);
        forgotten.made.extend(&forgetting.made);
        let reached = reached(project, &others, &forgetting.seeds)?;
        let mut reached = reached.iter();
        if let Some(own) = reached.next() {
            let keeps = |path: &str| super::plan::is_model(project, path);
            let keeps = forgetting.keep_models.then_some(&keeps as &dyn Fn(&str) -> bool);
            forgotten.add(store, &Inventory::load(store, &project.ledger)?, &forgetting.seeds, own, keeps)?;
        }
        going.extend(said.contents.keys());
        for (other, reached) in others.iter().zip(reached) {
            let mut more = more_in(other, reached, &mut forgotten, &forgetting)?;
            going.extend(more.keys());
            // What was erased there already needs no other word. What this receipt names does: that project has another.
            let mut known = HashSet::new();
            for digest in more.keys() {
                if other.ledger.erased(digest)?.is_some() {
                    known.insert(*digest);
                }
            }
            more.retain(|digest, _| !known.contains(digest));
            if !more.is_empty() {
                tell(other, &said, receipt, more, by)?;
                told.insert(other.name.clone());
            }
        }
    }
    outcome.projects = told.into_iter().collect();
    depot.send_documents(store, receipts).map_err(crate::share::SyncError::from)?;
    let mut documents = Vec::new();
    let every = depot.every_document(|digest, bytes| {
        documents.push((digest, bytes));
        Ok(())
    });
    every.map_err(crate::share::SyncError::from)?;
    let live = every_content(store, documents.into_iter(), &forgotten)?;
    going.retain(|digest| !live.contains(digest) || forgotten.never_stays(digest));
    let Erased { entries, bytes } = depot.erase(&going, &live).map_err(crate::share::SyncError::from)?;
    (outcome.entries, outcome.bytes) = (entries, bytes);
    Pending::heard(&project.workspace, receipts, depot.name())?;
    Ok(outcome)
}

/// Leaves a receipt for another project: what it has made of the rows is to go there too.
fn tell(
    other: &Other,
    said: &EraseReceipt,
    receipt: &Digest,
    contents: BTreeMap<Digest, u64>,
    by: &Identity,
) -> Result<(), EraseError> {
    let known = other.ledger.erasures()?;
    for erasure in known {
        let before = EraseReceipt::load(&other.store, &erasure.receipt)?;
        if before.follows == Some(*receipt) && contents.keys().all(|d| before.contents.contains_key(d)) {
            return Ok(());
        }
    }
    let own = EraseReceipt {
        erased: textum_base::clock::now().to_string(),
        by: by.to_string(),
        contents,
        next: None,
        published: Vec::new(),
        left: Vec::new(),
        follows: Some(*receipt),
        ..said.clone()
    };
    let document = canonical(&own)?;
    let writer = other.store.writer()?;
    let digest = writer.put_document(&document)?;
    writer.publish()?;
    other.depot.send_documents(&other.store, &[digest]).map_err(crate::share::SyncError::from)?;
    Ok(())
}
