//! Bringing what is here and what is in a depot together.

use std::collections::HashSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};

use textum_depot::{Depot, DepotError, Fetched, Received, Sent, SentDocuments};

use super::closure::{Contents, contents_of};
use crate::data::{DataError, split_name};
use crate::project::depots::DepotsError;
use crate::project::workspace::Project;
use crate::record::ledger::{LedgerError, NameError};
use crate::record::receipt::{Content, ReceiptError, RunReceipt};
use crate::store::{Digest, Store, StoreError, items_of_listing};

/// Which way.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Direction {
    /// Both.
    Both,
    /// What is here goes there.
    Up,
    /// What is there comes here.
    Down,
}

/// What of the content travels.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Wanted {
    /// Up: all that is here. Down: none, it comes when it is needed.
    Usual,
    /// Only what is small and tells of runs.
    Receipts,
    /// That of these runs and versions of datasets, both ways.
    Of(Vec<String>),
    /// All, both ways.
    All,
}

/// How it is done.
#[derive(Clone, Debug)]
pub struct SyncOptions {
    /// Which way.
    pub direction: Direction,
    /// What of the content.
    pub wanted: Wanted,
    /// Whether it is only told what would travel.
    pub dry_run: bool,
}

/// What came of it.
#[derive(Clone, Debug, Default)]
pub struct SyncOutcome {
    /// Documents that came.
    pub received: Received,
    /// Runs among them that were not here.
    pub runs: Vec<String>,
    /// Content that came.
    pub fetched: Fetched,
    /// Content that went.
    pub sent: Sent,
    /// Documents that went.
    pub documents: SentDocuments,
    /// Content that would go, in bytes before it is compressed; of a dry run.
    pub would_send: u64,
    /// Contents that would come; of a dry run.
    pub would_fetch: u64,
    /// Packs of documents that are not what they were.
    pub damaged: Vec<String>,
}

/// Why it could not be done.
#[derive(Debug, thiserror::Error)]
pub enum SyncError {
    /// The depot.
    #[error(transparent)]
    Depots(#[from] DepotsError),
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// A receipt.
    #[error(transparent)]
    Receipt(#[from] ReceiptError),
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// No run has this name.
    #[error(transparent)]
    Name(#[from] NameError),
    /// No version has this name.
    #[error(transparent)]
    Data(#[from] DataError),
    /// Others have erased what is still here.
    #[error("nothing was sent: others have erased what is still here")]
    Forgotten,
}

impl From<DepotError> for SyncError {
    fn from(e: DepotError) -> SyncError {
        SyncError::Depots(DepotsError::Depot(Arc::new(e)))
    }
}

/// Hears how far it is: what is being done, bytes that have travelled, and all of them where that is known.
pub type Progress<'p> = &'p (dyn Fn(&str, u64, Option<u64>) + Sync);

/// Hears of bytes as they travel, and tells how many there are by now.
pub fn adding<'p>(progress: Progress<'p>, what: &'p str, total: Option<u64>) -> impl Fn(u64) + Sync + 'p {
    let moved = AtomicU64::new(0);
    move |bytes| progress(what, moved.fetch_add(bytes, Ordering::Relaxed) + bytes, total)
}

/// Takes in the documents of a depot that are not here; the runs that were not known.
pub fn receive(project: &Project, depot: &Depot) -> Result<(Received, Vec<String>, Vec<String>), SyncError> {
    let before: HashSet<String> = project.ledger.run_ids()?.into_iter().collect();
    let mut damaged = Vec::new();
    let received = depot.receive(&project.store, &mut |e| damaged.push(e.to_string()))?;
    if received.documents == 0 {
        return Ok((received, Vec::new(), damaged));
    }
    project.ledger.catch_up(&project.store)?;
    project.forget_erased()?;
    let runs = project.ledger.run_ids()?.into_iter().filter(|id| !before.contains(id)).collect();
    Ok((received, runs, damaged))
}

/// The content that is named: of runs, and of versions of datasets.
fn named(project: &Project, names: &[String]) -> Result<HashSet<Digest>, SyncError> {
    let mut found = HashSet::new();
    for name in names {
        if let Some((dataset, number)) = split_name(name)
            && project.ledger.dataset_names()?.iter().any(|d| d == dataset)
        {
            let version = crate::data::version_with(&project.ledger, dataset, number)?;
            add_content(&project.store, &version.content, &mut found)?;
            continue;
        }
        let run = project.ledger.resolve_run(name, &project.manifest.metrics)?;
        let Some(row) = project.ledger.run(&run)? else { continue };
        let receipt = RunReceipt::load(&project.store, &row.receipt)?;
        let stages = receipt.stages.iter().filter_map(|s| s.receipt);
        let mut documents = vec![row.receipt];
        for stage in stages {
            documents.push(stage);
            let stage = crate::record::receipt::StageReceipt::load(&project.store, &stage)?;
            documents.extend(stage.observed.iter().flat_map(|o| o.inputs.iter().chain(&o.environment)).copied());
        }
        found.extend(contents_of(&project.store, documents.into_iter(), Contents::All)?);
    }
    Ok(found)
}

fn add_content(store: &Store, content: &Content, found: &mut HashSet<Digest>) -> Result<(), SyncError> {
    found.insert(content.digest);
    if content.kind == crate::record::receipt::ContentKind::Folder {
        let listing = store.listing(&content.digest)?;
        found.extend(items_of_listing(store, &content.digest, &listing)?.iter().filter_map(|i| i.digest));
    }
    Ok(())
}

/// Brings them together. Whatever instant it ends at, the depot is whole, and the next time goes on from there.
pub fn sync(project: &Project, depot: &Depot, options: &SyncOptions, progress: Progress<'_>) -> Result<SyncOutcome, SyncError> {
    let mut outcome = SyncOutcome::default();
    progress("looking at what is there", 0, None);
    depot.refresh()?;
    // What is there has to be known in either direction.
    (outcome.received, outcome.runs, outcome.damaged) = receive(project, depot)?;
    if options.direction != Direction::Up {
        come(project, depot, options, progress, &mut outcome)?;
    }
    if options.direction != Direction::Down {
        go(project, depot, options, progress, &mut outcome)?;
    }
    Ok(outcome)
}

fn come(
    project: &Project,
    depot: &Depot,
    options: &SyncOptions,
    progress: Progress<'_>,
    outcome: &mut SyncOutcome,
) -> Result<(), SyncError> {
    let store = &project.store;
    let travelled = adding(progress, "fetching", None);
    // What a folder holds is known when its listing has come: then the rest is asked for.
    for _ in 0..3 {
        let wanted = match &options.wanted {
            Wanted::Usual => return Ok(()),
            Wanted::Receipts => contents_of(store, store.all_documents()?.into_iter(), Contents::Small)?,
            Wanted::Of(names) => named(project, names)?,
            Wanted::All => contents_of(store, store.all_documents()?.into_iter(), Contents::All)?,
        };
        let mut missing = Vec::new();
        for digest in wanted {
            if !store.contains(&digest)? && !project.depots.is_not_fetched(&digest) {
                missing.push(digest);
            }
        }
        let there = depot.has(&missing)?;
        if there.is_empty() {
            break;
        }
        if options.dry_run {
            outcome.would_fetch = there.len() as u64;
            break;
        }
        let missing: Vec<Digest> = there.into_keys().collect();
        let fetched = depot.fetch(store, &missing, &travelled)?;
        outcome.fetched.add(&fetched);
        if fetched.contents == 0 {
            break;
        }
    }
    Ok(())
}

fn go(
    project: &Project,
    depot: &Depot,
    options: &SyncOptions,
    progress: Progress<'_>,
    outcome: &mut SyncOutcome,
) -> Result<(), SyncError> {
    let store = &project.store;
    // What was made here of rows that others have erased would go there again.
    if project.depots.holds_what_is_forgotten(store)? {
        return Err(SyncError::Forgotten);
    }
    let documents = store.all_documents()?;
    let unsent = depot.unsent_documents(store)?;
    if options.wanted == Wanted::Usual && unsent.is_empty() && depot.is_complete(&documents)? {
        return Ok(());
    }
    let mut contents = match &options.wanted {
        Wanted::Receipts => contents_of(store, documents.iter().copied(), Contents::Small)?,
        Wanted::Of(names) => {
            let mut found = contents_of(store, documents.iter().copied(), Contents::Small)?;
            found.extend(named(project, names)?);
            found
        }
        Wanted::Usual | Wanted::All => contents_of(store, documents.iter().copied(), Contents::All)?,
    };
    contents.retain(|digest| !documents.contains(digest));
    let contents: Vec<Digest> = contents.into_iter().collect();
    let plan = depot.plan_to_send(store, &contents)?;
    if options.dry_run {
        (outcome.would_send, outcome.sent.contents) = (plan.bytes, plan.contents);
        outcome.documents.documents = unsent.len() as u64;
        return Ok(());
    }
    let tell = adding(progress, "sending", Some(plan.bytes));
    outcome.sent = depot.send(store, &plan, &tell)?;
    // What was relied on may have been marked meanwhile by somebody who drops content: it is looked at once more, right
    // before anything speaks of it.
    depot.refresh()?;
    let again = depot.plan_to_send(store, &contents)?;
    outcome.sent.bytes += depot.send(store, &again, &tell)?.bytes;
    outcome.documents = depot.send_documents(store, &unsent)?;
    if outcome.sent.bytes + outcome.documents.bytes > 0 {
        depot.tidy()?;
    }
    if matches!(options.wanted, Wanted::Usual | Wanted::All) {
        depot.set_complete(&documents)?;
    }
    Ok(())
}
