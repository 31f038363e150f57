//! Looking whether everything that receipts promise is there: packs, indexes, receipts, ledger.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::Path;

use serde::Serialize;

use crate::ledger::{Ledger, LedgerError};
use crate::receipt::{ContentKind, PathContent, RUN_RECEIPT, ReceiptError, RunReceipt, STAGE_RECEIPT, StageReceipt, canonical};
use crate::store::{Digest, Store, StoreError, parse_listing};

/// Something that is not as it must be.
#[derive(Clone, Debug, Serialize)]
pub struct Problem {
    /// What is wrong, with the file or digest.
    pub what: String,
    /// The runs that it touches.
    pub runs: Vec<String>,
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
    /// Whether every stored byte was read.
    pub deep: bool,
    /// What is wrong.
    pub problems: Vec<Problem>,
    /// What was made anew.
    pub repaired: Vec<String>,
}

/// Why it could not be looked at.
#[derive(Debug, thiserror::Error)]
pub enum VerifyError {
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
}

struct Checker<'a> {
    store: &'a Store,
    report: VerifyReport,
    /// Contents found whole already, or already complained of.
    met: HashSet<Digest>,
    missing: BTreeMap<String, BTreeSet<String>>,
}

/// Looks at a project's store and ledger. With `repair`, what is derived is made anew.
pub fn verify(store: &Store, ledger_path: &Path, deep: bool, repair: bool) -> Result<VerifyReport, VerifyError> {
    let mut checker =
        Checker { store, report: VerifyReport { deep, ..VerifyReport::default() }, met: HashSet::new(), missing: BTreeMap::new() };
    checker.packs(deep, repair)?;
    let ledger = checker.ledger(ledger_path, repair)?;
    let documents = checker.documents();
    checker.runs(&documents);
    if let Some(ledger) = ledger {
        checker.hold_ledger_against(&ledger, &documents, ledger_path, repair)?;
    }
    for (what, runs) in std::mem::take(&mut checker.missing) {
        checker.report.problems.push(Problem { what, runs: runs.into_iter().collect(), derived: false });
    }
    Ok(checker.report)
}

impl Checker<'_> {
    fn problem(&mut self, what: String, derived: bool) {
        self.report.problems.push(Problem { what, runs: Vec::new(), derived });
    }

    fn packs(&mut self, deep: bool, repair: bool) -> Result<(), VerifyError> {
        for pack in self.store.verify_packs(deep)? {
            self.report.packs += 1;
            self.report.entries += pack.entries;
            self.report.bytes += pack.length;
            for damage in pack.damage {
                if damage.derived && repair {
                    self.store.rebuild_index(&pack.name)?;
                    self.report.repaired.push(damage.path.display().to_string());
                } else {
                    self.problem(format!("{}: {}", damage.path.display(), damage.what), damage.derived);
                }
            }
        }
        Ok(())
    }

    fn ledger(&mut self, path: &Path, repair: bool) -> Result<Option<Ledger>, VerifyError> {
        let opened = Ledger::open(path, self.store).and_then(|l| l.check().map(|complaint| (l, complaint)));
        let what = match opened {
            Ok((ledger, None)) => return Ok(Some(ledger)),
            Ok((_, Some(complaint))) => format!("{}: {complaint}", path.display()),
            Err(e @ LedgerError::Damaged { .. }) => e.to_string(),
            // The ledger is as good as the receipts it is made of: those are told of below.
            Err(LedgerError::Store(_) | LedgerError::Receipt(_)) => return Ok(None),
            Err(e) => return Err(e.into()),
        };
        if !repair {
            self.problem(what, true);
            return Ok(None);
        }
        match Ledger::rebuild(path, self.store) {
            Ok(ledger) => {
                self.report.repaired.push(path.display().to_string());
                Ok(Some(ledger))
            }
            Err(LedgerError::Store(_) | LedgerError::Receipt(_)) => Ok(None),
            Err(e) => Err(e.into()),
        }
    }

    /// All documents of the store that can be read, by digest, with their type.
    fn documents(&mut self) -> BTreeMap<Digest, String> {
        let mut found = BTreeMap::new();
        for pack in self.store.packs().unwrap_or_default() {
            for digest in self.store.documents_in(&pack).unwrap_or_default() {
                match self.store.read(&digest) {
                    Ok(bytes) => {
                        let kind = crate::receipt::type_of(&bytes).unwrap_or_default();
                        let value: Option<serde_json::Value> = serde_json::from_slice(&bytes).ok();
                        if value.and_then(|v| canonical(&v).ok()).as_deref() != Some(&bytes) {
                            self.problem(format!("the document {digest} is not in canonical form"), false);
                        }
                        found.insert(digest, kind);
                    }
                    Err(e) => self.problem(format!("the document {digest} cannot be read: {e}"), false),
                }
            }
        }
        found
    }

    fn runs(&mut self, documents: &BTreeMap<Digest, String>) {
        for digest in documents.iter().filter(|(_, kind)| *kind == RUN_RECEIPT).map(|(d, _)| d) {
            match RunReceipt::load(self.store, digest) {
                Ok(run) => self.run(&run),
                Err(e) => self.problem(e.to_string(), false),
            }
        }
        // Executions of runs whose receipt never came about are history too.
        for digest in documents.iter().filter(|(_, kind)| *kind == STAGE_RECEIPT).map(|(d, _)| d) {
            match StageReceipt::load(self.store, digest) {
                Ok(receipt) => self.stage(&receipt, digest, &receipt.run.clone()),
                Err(e) => self.problem(e.to_string(), false),
            }
        }
    }

    fn run(&mut self, run: &RunReceipt) {
        self.report.runs += 1;
        self.needs(&run.manifest.digest, "the manifest", &run.run);
        for (name, data) in &run.data {
            let at = PathContent { path: data.path.clone(), content: data.content.clone() };
            self.content(&at, &format!("the dataset {name}"), &run.run);
        }
        for stage in &run.stages {
            let Some(digest) = stage.receipt else { continue };
            match StageReceipt::load(self.store, &digest) {
                Ok(receipt) => self.stage(&receipt, &digest, &run.run),
                Err(ReceiptError::Store(StoreError::Missing { .. })) => {
                    self.lacks(format!("the receipt {digest} of the stage {} is not in the store", stage.stage), &run.run);
                }
                Err(e) => self.lacks(e.to_string(), &run.run),
            }
        }
    }

    fn stage(&mut self, receipt: &StageReceipt, digest: &Digest, run: &str) {
        let name = &receipt.inputs.stage;
        if receipt.inputs.key().ok() != Some(receipt.key) {
            self.lacks(format!("the receipt {digest} of the stage {name} bears a key that its inputs do not have"), run);
        }
        for read in &receipt.reads {
            self.content(&read.at, &format!("`{}`, which {name} read,", read.at.path), run);
        }
        for output in receipt.outputs() {
            self.content(output, &format!("`{}`, which {name} wrote,", output.path), run);
        }
        self.needs(&receipt.log.digest, &format!("the log of {name}"), run);
        for digest in receipt.environment.iter().chain(&receipt.inputs.environment) {
            self.needs(digest, &format!("the environment of {name}"), run);
        }
    }

    fn lacks(&mut self, what: String, run: &str) {
        self.missing.entry(what).or_default().insert(run.to_string());
    }

    fn needs(&mut self, digest: &Digest, what: &str, run: &str) -> bool {
        if self.met.contains(digest) {
            return true;
        }
        let whole = self
            .store
            .parts_of(digest)
            .is_ok_and(|parts| parts.len() == 1 || parts.iter().all(|p| self.store.contains(&p.digest).unwrap_or(false)));
        if whole {
            self.met.insert(*digest);
        } else {
            self.lacks(format!("{what} ({}) is not in the store", digest.short()), run);
        }
        whole
    }

    fn content(&mut self, at: &PathContent, what: &str, run: &str) {
        if self.met.contains(&at.content.digest)
            || !self.needs(&at.content.digest, what, run)
            || at.content.kind != ContentKind::Folder
        {
            return;
        }
        let listing = match self.store.read(&at.content.digest) {
            Ok(listing) => listing,
            Err(e) => return self.lacks(format!("{what} cannot be read: {e}"), run),
        };
        match parse_listing(&listing) {
            Ok(items) => {
                for item in items {
                    if let Some(digest) = &item.digest {
                        self.needs(digest, &format!("`{}/{}`", at.path, item.path), run);
                    }
                }
            }
            Err(e) => self.lacks(format!("{what} cannot be read: {e}"), run),
        }
    }

    fn hold_ledger_against(
        &mut self,
        ledger: &Ledger,
        documents: &BTreeMap<Digest, String>,
        path: &Path,
        repair: bool,
    ) -> Result<(), VerifyError> {
        let listed: BTreeMap<Digest, String> = ledger.all_documents()?.into_iter().collect();
        let agrees = listed == *documents && ledger.agrees_with_a_new_one(self.store)?;
        if agrees {
            return Ok(());
        }
        if repair && Ledger::rebuild(path, self.store).is_ok() {
            self.report.repaired.push(path.display().to_string());
        } else {
            self.problem(format!("{} does not say what the receipts say", path.display()), true);
        }
        Ok(())
    }
}
