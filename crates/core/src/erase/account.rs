//! The account of what was erased: what receipts say of it, and where each content had stood.

use serde::Serialize;

use super::EraseError;
use crate::project::erasures::Pending;
use crate::project::workspace::Project;
use crate::record::receipt::EraseReceipt;
use crate::store::Digest;

/// A content that was erased.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct Gone {
    /// Where it had stood, or what it had been: a path, a version of a dataset. Empty where receipts do not say.
    pub what: String,
    /// The run that it was of.
    pub run: Option<String>,
    /// What it was.
    pub digest: Digest,
    /// Its size in bytes; 0 where that is not known.
    pub size: u64,
}

/// The account of an erasing.
#[derive(Clone, Debug, Serialize)]
pub struct Account {
    /// Its receipt.
    pub receipt: Digest,
    /// What it says.
    pub said: EraseReceipt,
    /// What went.
    pub gone: Vec<Gone>,
    /// Depots that have not heard of it yet.
    pub pending: Vec<String>,
    /// Whether any of it is here again, or still.
    pub here: Vec<Digest>,
}

/// The account of an erasing, by its receipt.
pub fn account(project: &Project, receipt: &Digest) -> Result<Account, EraseError> {
    let said = EraseReceipt::load(&project.store, receipt)?;
    let ledger = &project.ledger;
    let (mut gone, mut here) = (Vec::new(), Vec::new());
    for (digest, size) in &said.contents {
        if project.store.contains(digest)? {
            here.push(*digest);
        }
        let version = said.versions.iter().find(|(_, v)| v.digest == *digest).map(|(n, _)| format!("{}@{n}", said.dataset));
        // Who wrote it tells more than who read it.
        let place = ledger.places_of(digest)?.into_iter().min_by_key(|p| p.role != "write");
        let run = match &place {
            Some(place) => ledger.execution(&place.receipt)?.map(|e| e.run),
            None => None,
        };
        let is_version = version.is_some();
        let what = version.or(place.map(|p| p.path)).unwrap_or_default();
        gone.push(Gone { what, run: run.filter(|_| !is_version), digest: *digest, size: *size });
    }
    gone.sort();
    let pending = Pending::load(&project.workspace).depots.remove(receipt).into_iter().flatten().collect();
    Ok(Account { receipt: *receipt, said, gone, pending, here })
}

/// The accounts of all that was erased of a dataset, the first first.
pub fn accounts(project: &Project, dataset: &str) -> Result<Vec<Account>, EraseError> {
    let all = project.ledger.erasures()?;
    all.iter().filter(|e| e.dataset == dataset).map(|e| account(project, &e.receipt)).collect()
}
