//! Looking whether everything that receipts promise is there: packs, indexes, receipts, ledger; and mending
//! what can be mended.

mod losses;
mod receipts;
mod repair;

use std::collections::{BTreeMap, BTreeSet, HashSet};
use textum_base::Identity;

use rayon::prelude::*;
use serde::Serialize;

use crate::fsio::IoError;
use crate::pipeline::exec::ExecError;
use crate::project::fingerprint::ScanError;
use crate::project::workspace::Workspace;
use crate::record::ledger::{Ledger, LedgerError, MadeAnew};
use crate::record::receipt::{type_if_canonical, type_of};
use crate::store::{Digest, Store, StoreError};
use losses::History;
use receipts::Checker;

/// Something that is not as it must be.
#[derive(Clone, Debug, Serialize)]
pub struct Problem {
    /// What is wrong, with the file or digest.
    pub what: String,
    /// The runs that it touches.
    pub runs: Vec<String>,
    /// The versions of datasets that it touches, such as `shifts@2`.
    pub datasets: Vec<String>,
    /// Whether it can be made anew from what is whole.
    pub derived: bool,
}

/// What was found.
#[derive(Clone, Debug, Default, Serialize)]
pub struct VerifyReport {
    /// Packs looked at.
    pub packs: usize,
    /// Entries in them.
    pub entries: usize,
    /// Bytes of the packs.
    pub bytes: u64,
    /// Runs looked at.
    pub runs: usize,
    /// Versions of datasets looked at.
    pub versions: usize,
    /// Outputs that were dropped to make room; they can be rebuilt.
    pub dropped: usize,
    /// Contents that were to be forgotten.
    pub erased: usize,
    /// Contents that are not here, and that depots have.
    pub elsewhere: usize,
    /// Receipts that were lost, and whose loss somebody has acknowledged.
    pub lost: usize,
    /// Whether every stored byte was read.
    pub deep: bool,
    /// What is wrong.
    pub problems: Vec<Problem>,
    /// What was mended, in words.
    pub repaired: Vec<String>,
}

/// Why it could not be looked at.
#[derive(Debug, thiserror::Error)]
pub enum VerifyError {
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// The working tree could not be looked at.
    #[error(transparent)]
    Scan(#[from] ScanError),
    /// A document could not be written.
    #[error(transparent)]
    Document(#[from] crate::record::receipt::DocumentError),
    /// A run that was cut off could not be closed.
    #[error(transparent)]
    Exec(#[from] Box<ExecError>),
}

/// Whether somebody else has a content that is not here, so that it can be had when it is needed.
pub type Elsewhere<'e> = &'e (dyn Fn(&Digest) -> bool + Sync);

/// Looks at a project's store and ledger; with `deep` at every stored byte.
pub fn verify(workspace: &Workspace, deep: bool, elsewhere: Elsewhere<'_>) -> Result<VerifyReport, VerifyError> {
    let store = Store::open(&workspace.store_folder());
    look(workspace, &store, deep, &[], elsewhere)
}

/// Mends what can be mended, and then looks. What is derived is made anew, of damaged packs what is whole is
/// kept, and content that was lost is taken anew from the working tree where it is still there.
pub fn repair(workspace: &Workspace, by: &Identity, elsewhere: Elsewhere<'_>) -> Result<VerifyReport, VerifyError> {
    let store = Store::open(&workspace.store_folder());
    let repaired = repair::repair(workspace, &store, by)?;
    look(workspace, &store, true, &repaired, elsewhere)
}

/// Takes the loss of receipts for known: it is not told of any more. Gives how many those are.
pub fn acknowledge(workspace: &Workspace, by: &Identity) -> Result<usize, VerifyError> {
    let store = Store::open(&workspace.store_folder());
    let at_work = losses::at_work(workspace);
    let documents = documents(&store, &mut VerifyReport::default());
    let ledger = Ledger::open(&workspace.ledger_path(), &store).ok();
    let history = History::load(&store, &documents);
    losses::find(&at_work, &store, &documents, &history, ledger.as_ref())?.record(&store, by, true)
}

fn look(
    workspace: &Workspace,
    store: &Store,
    deep: bool,
    repaired: &[String],
    elsewhere: Elsewhere<'_>,
) -> Result<VerifyReport, VerifyError> {
    let mut report = VerifyReport { deep, repaired: repaired.to_vec(), ..VerifyReport::default() };
    store.keep_records();
    // Others may add to the store meanwhile; nothing of it goes away.
    let _steady = match store.steady() {
        Ok(steady) => steady,
        Err(StoreError::Damaged { path, what }) => {
            report.problem(format!("{}: {what}", path.display()), true);
            None
        }
        Err(e) => return Err(e.into()),
    };
    let mut hurt = HashSet::new();
    for pack in store.verify_packs(deep)? {
        report.packs += 1;
        report.entries += pack.entries;
        report.bytes += pack.length;
        for damage in pack.damage {
            // Another copy may be whole.
            hurt.extend(damage.digest.filter(|d| store.read(d).is_err()));
            report.problem(format!("{}: {}", damage.path.display(), damage.what), damage.derived);
        }
    }
    // Making the ledger anew keeps one processor busy, and so does going through the receipts.
    let packs = store.packs()?;
    std::thread::scope(|scope| {
        let made_anew = scope.spawn(|| Ledger::made_anew(store, packs));
        let made_anew = || made_anew.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic));
        look_at_receipts(workspace, store, hurt, elsewhere, &mut report, made_anew)
    })?;
    Ok(report)
}

/// Looks at receipts, at what they speak of and at the ledger; it is asked for one that was made anew when all else is done.
fn look_at_receipts(
    workspace: &Workspace,
    store: &Store,
    hurt: HashSet<Digest>,
    elsewhere: Elsewhere<'_>,
    report: &mut VerifyReport,
    made_anew: impl FnOnce() -> Result<MadeAnew, LedgerError>,
) -> Result<(), VerifyError> {
    let at_work = losses::at_work(workspace);
    let documents = documents(store, report);
    let ledger = ledger_of(workspace, store, report)?;
    let mut checker = Checker::new(store, &documents, hurt, elsewhere);
    checker.all();
    (report.runs, report.versions, report.dropped) = (checker.runs, checker.versions.len(), checker.dropped_met);
    (report.elsewhere, report.erased) = (checker.elsewhere_met, checker.erased_met);
    let history = checker.finish(report);
    losses::find(&at_work, store, &documents, &history, ledger.as_ref())?.tell(report);
    let Some(ledger) = ledger else { return Ok(()) };
    // What is lost is told already; what others have added since the documents were listed is no difference.
    let listed: BTreeMap<Digest, String> = ledger.all_documents()?.into_iter().collect();
    store.reload()?;
    let lacks = documents.iter().any(|(digest, kind)| listed.get(digest) != Some(kind));
    let all_there = listed.keys().all(|d| documents.contains_key(d) || store.contains_document(d).unwrap_or(false));
    let agrees = || match made_anew().and_then(|anew| anew.agrees_with(&ledger, store)) {
        // A document that cannot be read is told already.
        Err(LedgerError::Store(_) | LedgerError::Receipt(_)) => Ok(true),
        other => other,
    };
    if lacks || (all_there && !agrees()?) {
        report.problem(format!("{} does not say what the receipts say", workspace.ledger_path().display()), true);
    }
    Ok(())
}

/// The ledger, if it is in order; what is wrong with it is told.
fn ledger_of(workspace: &Workspace, store: &Store, report: &mut VerifyReport) -> Result<Option<Ledger>, VerifyError> {
    let path = workspace.ledger_path();
    match Ledger::open(&path, store).and_then(|l| l.check().map(|complaint| (l, complaint))) {
        Ok((ledger, None)) => return Ok(Some(ledger)),
        Ok((_, Some(complaint))) => report.problem(format!("{}: {complaint}", path.display()), true),
        Err(e @ (LedgerError::Damaged { .. } | LedgerError::NotADatabase { .. })) => report.problem(e.to_string(), true),
        // The ledger is as good as the receipts it is made of: those are told of below.
        Err(LedgerError::Store(_) | LedgerError::Receipt(_)) => {}
        Err(e) => return Err(e.into()),
    }
    Ok(None)
}

/// All documents of the store that can be read, by digest, with their type.
fn documents(store: &Store, report: &mut VerifyReport) -> BTreeMap<Digest, String> {
    let mut found = BTreeMap::new();
    let look = |digest: Digest| {
        // One that is not canonical is told of, and listed by what it says it is.
        let of = |bytes: Vec<u8>| match type_if_canonical(&bytes) {
            Some(kind) => (kind.unwrap_or_default(), true),
            None => (type_of(&bytes).unwrap_or_default(), false),
        };
        (digest, store.read(&digest).map(of))
    };
    for pack in store.packs().unwrap_or_default() {
        let all: Vec<_> = store.documents_in(&pack).unwrap_or_default().into_par_iter().map(look).collect();
        for (digest, looked) in all {
            match looked {
                Ok((kind, canonical)) => {
                    if !canonical {
                        report.problem(format!("the document {digest} is not in canonical form"), false);
                    }
                    found.insert(digest, kind);
                }
                Err(e) => report.problem(format!("the document {digest} cannot be read: {e}"), false),
            }
        }
    }
    found
}

/// Whom a problem touches.
#[derive(Clone, Debug, Default)]
struct Touched {
    runs: BTreeSet<String>,
    datasets: BTreeSet<String>,
}

impl VerifyReport {
    fn problem(&mut self, what: String, derived: bool) {
        self.problems.push(Problem { what, runs: Vec::new(), datasets: Vec::new(), derived });
    }
}
