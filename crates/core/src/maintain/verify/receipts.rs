//! Whether everything that receipts speak of is in the store.

use std::collections::{BTreeMap, HashMap, HashSet};

use rayon::prelude::*;

use super::Elsewhere;
use super::losses::History;
use super::{Problem, Touched, VerifyReport};
use crate::record::receipt::{
    CHECKPOINT_RECEIPT, CheckpointReceipt, Content, ContentKind, DATA_RECEIPT, DataReceipt, Document, ERASE_RECEIPT, EraseReceipt,
    KeptEnvironment, ObservedInputs, PRUNE_RECEIPT, PUBLISH_RECEIPT, PruneReceipt, PublishReceipt, RUN_RECEIPT, ReceiptError,
    Reference, Role, RunReceipt, STAGE_RECEIPT, StageReceipt, StageStart, StorageMode, Target, read_document,
};
use crate::store::{Digest, Store, StoreError, parse_listing};

/// So many receipts are read side by side.
const TOGETHER: usize = 1024;

/// A content that is not whole, where it was met, and whether it is a folder.
pub(super) struct Lacking {
    pub path: String,
    pub digest: Digest,
}

/// A stage receipt, and whether it bears the key of its inputs.
struct Execution {
    receipt: StageReceipt,
    keyed: bool,
}

/// Goes through receipts and what they speak of.
pub(super) struct Checker<'a> {
    store: &'a Store,
    documents: &'a BTreeMap<Digest, String>,
    /// Contents found whole already.
    met: HashSet<Digest>,
    /// Entries of the store whose bytes are not what they were, and of which there is no other copy.
    hurt: HashSet<Digest>,
    /// What was dropped to make room.
    dropped: HashSet<Digest>,
    /// What was to be forgotten.
    erased: HashSet<Digest>,
    /// The names of versions, by content.
    names: HashMap<Digest, String>,
    /// Executions that a run speaks of.
    executions: HashSet<Digest>,
    problems: BTreeMap<String, Touched>,
    /// The folders met.
    folders: HashSet<Digest>,
    /// The documents of observed inputs met.
    observed: HashSet<Digest>,
    /// The runs met, and the runs whose executions were met.
    history: History,
    pub lacking: Vec<Lacking>,
    pub runs: usize,
    /// Datasets and the contents of their versions: a version that got a note has several receipts.
    pub versions: HashSet<(String, Digest)>,
    pub dropped_met: usize,
    /// Contents that were to be forgotten, and are.
    pub erased_met: usize,
    /// Contents that are not here, and that somebody else has.
    pub elsewhere_met: usize,
    elsewhere: Elsewhere<'a>,
}

impl<'a> Checker<'a> {
    /// A checker of these documents; `hurt` is what of the store is known to be damaged.
    pub fn new(
        store: &'a Store,
        documents: &'a BTreeMap<Digest, String>,
        hurt: HashSet<Digest>,
        elsewhere: Elsewhere<'a>,
    ) -> Checker<'a> {
        Checker {
            store,
            documents,
            met: HashSet::new(),
            hurt,
            dropped: HashSet::new(),
            erased: HashSet::new(),
            names: HashMap::new(),
            executions: HashSet::new(),
            problems: BTreeMap::new(),
            folders: HashSet::new(),
            observed: HashSet::new(),
            history: History::default(),
            lacking: Vec::new(),
            runs: 0,
            versions: HashSet::new(),
            dropped_met: 0,
            erased_met: 0,
            elsewhere_met: 0,
            elsewhere,
        }
    }

    fn of_type(&self, wanted: &str) -> Vec<Digest> {
        self.documents.iter().filter(|(_, kind)| *kind == wanted).map(|(d, _)| *d).collect()
    }

    fn document<T: Document>(&self, digest: &Digest) -> Result<T, ReceiptError> {
        Ok(read_document(digest, &self.store.read(digest)?)?)
    }

    /// Checks all documents.
    pub fn all(&mut self) {
        for digest in self.of_type(PRUNE_RECEIPT) {
            match self.document::<PruneReceipt>(&digest) {
                Ok(prune) => self.dropped.extend(prune.dropped.keys()),
                Err(e) => self.lacks(e.to_string(), Touched::default()),
            }
        }
        for digest in self.of_type(ERASE_RECEIPT) {
            match self.document::<EraseReceipt>(&digest) {
                Ok(said) => self.erased.extend(said.contents.keys().chain(said.versions.values().map(|v| &v.digest))),
                Err(e) => self.lacks(e.to_string(), Touched::default()),
            }
        }
        for digest in self.of_type(DATA_RECEIPT) {
            match self.document::<DataReceipt>(&digest) {
                Ok(data) => self.data(&data),
                Err(e) => self.lacks(e.to_string(), Touched::default()),
            }
        }
        for some in self.of_type(RUN_RECEIPT).chunks(TOGETHER) {
            let load = |digest: &Digest| {
                let run = RunReceipt::load(self.store, digest)?;
                let stages = run.stages.iter().filter_map(|s| Some((s.stage.clone(), s.receipt?)));
                let stages = stages.map(|(name, digest)| (name, digest, self.execution(&digest))).collect();
                Ok::<_, ReceiptError>((run, stages))
            };
            let loaded: Vec<_> = some.par_iter().map(load).collect();
            for run in loaded {
                match run {
                    Ok((run, stages)) => self.run(&run, stages),
                    Err(e) => self.lacks(e.to_string(), Touched::default()),
                }
            }
        }
        for digest in self.of_type(PUBLISH_RECEIPT) {
            match self.document::<PublishReceipt>(&digest) {
                Ok(published) => {
                    let what = format!("a file that was published as {}", published.name);
                    self.references(&published, &Touched::default(), &|_| what.clone());
                }
                Err(e) => self.lacks(e.to_string(), Touched::default()),
            }
        }
        for digest in self.of_type(CHECKPOINT_RECEIPT) {
            match CheckpointReceipt::load(self.store, &digest) {
                Ok(made) => self.checkpoint(&made),
                Err(e) => self.lacks(e.to_string(), Touched::default()),
            }
        }
        // Executions of runs whose receipt never came about are history too.
        let mut others = self.of_type(STAGE_RECEIPT);
        others.retain(|digest| !self.executions.contains(digest));
        for some in others.chunks(TOGETHER) {
            let loaded: Vec<_> = some.par_iter().map(|digest| (*digest, self.execution(digest))).collect();
            for (digest, loaded) in loaded {
                match loaded {
                    Ok(execution) => self.stage(&execution, &digest, &execution.receipt.run.clone()),
                    Err(e) => self.lacks(e.to_string(), Touched::default()),
                }
            }
        }
    }

    /// The stored folders that receipts speak of.
    pub fn folders(&self) -> impl Iterator<Item = Digest> + '_ {
        self.folders.iter().copied()
    }

    /// Tells of what was found; gives what runs there were.
    pub fn finish(self, report: &mut VerifyReport) -> History {
        for (what, touched) in self.problems {
            let (runs, datasets) = (touched.runs.into_iter().collect(), touched.datasets.into_iter().collect());
            report.problems.push(Problem { what, runs, datasets, derived: false });
        }
        self.history
    }

    fn data(&mut self, data: &DataReceipt) {
        self.versions.insert((data.dataset.clone(), data.content.digest));
        let name = format!("{}@{}", data.dataset, data.number);
        self.names.entry(data.content.digest).or_insert(name.clone());
        let touched = Touched { datasets: [name.clone()].into(), ..Touched::default() };
        self.references(data, &touched, &|_| format!("the dataset {name}"));
    }

    /// Whether everything that a document speaks of is there; `called` says what it is to a person.
    fn references(&mut self, document: &impl Document, touched: &Touched, called: &dyn Fn(&Reference<'_>) -> String) {
        document.references(&mut |reference| {
            let mut touched = touched.clone();
            let version = match reference.target {
                Target::Content(content) => self.names.get(&content.digest).cloned(),
                Target::Bytes(_) => None,
            };
            let what = match (reference.role, &version) {
                (Role::Dataset(_), Some(version)) => format!("the dataset {version}"),
                _ => called(&reference),
            };
            match reference.role {
                Role::Dataset(name) => touched.datasets.extend(Some(version.unwrap_or_else(|| name.to_string()))),
                Role::Read => touched.datasets.extend(version),
                // A value may never have been stored; what a checkpoint began with is read whole.
                Role::Value | Role::Start => return,
                _ => {}
            }
            match reference.target {
                Target::Bytes(digest) => drop(self.needs(reference.path, &digest, &what, touched)),
                Target::Content(content) => self.held(reference.path, content, reference.hold, &what, touched),
            }
        });
    }

    fn execution(&self, digest: &Digest) -> Result<Execution, ReceiptError> {
        let receipt = StageReceipt::load(self.store, digest)?;
        let keyed = receipt.inputs.key().ok() == Some(receipt.key);
        Ok(Execution { receipt, keyed })
    }

    fn run(&mut self, run: &RunReceipt, stages: Vec<(String, Digest, Result<Execution, ReceiptError>)>) {
        self.runs += 1;
        self.history.take_run(run);
        let touched = || Touched { runs: [run.run.clone()].into(), ..Touched::default() };
        self.references(run, &touched(), &|reference| match reference.role {
            Role::RunLog => format!("the log of the run {}", run.run),
            Role::Dataset(name) => format!("the dataset {name}"),
            _ => "the manifest".to_string(),
        });
        for (name, digest, loaded) in stages {
            self.executions.insert(digest);
            match loaded {
                Ok(execution) => self.stage(&execution, &digest, &run.run),
                Err(ReceiptError::Store(StoreError::Missing { .. })) => {
                    self.lacks(format!("the receipt {digest} of the stage {name} is not in the store"), touched());
                }
                Err(e) => self.lacks(e.to_string(), touched()),
            }
        }
    }

    fn checkpoint(&mut self, made: &CheckpointReceipt) {
        let touched = || Touched { runs: [made.run.clone()].into(), ..Touched::default() };
        self.references(made, &touched(), &|_| format!("the checkpoint {}#{} of {}", made.run, made.step, made.stage));
        if let Err(e) = StageStart::load(self.store, &made.start) {
            self.lacks(format!("what the checkpoint {}#{} began with: {e}", made.run, made.step), touched());
        }
    }

    fn stage(&mut self, execution: &Execution, digest: &Digest, run: &str) {
        let receipt = &execution.receipt;
        self.history.take_execution(receipt);
        let name = &receipt.inputs.stage;
        let touched = || Touched { runs: [run.to_string()].into(), ..Touched::default() };
        if !execution.keyed {
            self.lacks(format!("the receipt {digest} of the stage {name} bears a key that its inputs do not have"), touched());
        }
        self.references(receipt, &touched(), &|reference| match reference.role {
            Role::Read => format!("`{}`, which {name} read,", reference.path),
            Role::Output => format!("`{}`, which {name} wrote,", reference.path),
            Role::Points => format!("the metrics by step of {name}"),
            Role::Environment => format!("the environment of {name}"),
            Role::Observed => format!("what {name} was seen to read"),
            Role::Branch => format!("the checkpoint that {name} went on from"),
            _ => format!("the log of {name}"),
        });
        if let Some(digest) = receipt.observed.as_ref().and_then(|o| o.inputs) {
            self.observed(&digest, name, &touched());
        }
        if let Some(digest) = receipt.observed.as_ref().and_then(|o| o.environment) {
            self.kept(&digest, name, &touched());
        }
    }

    /// Whether what a document of observed inputs names is there; each document is gone through once.
    fn observed(&mut self, digest: &Digest, stage: &str, touched: &Touched) {
        if !self.observed.insert(*digest) || !self.store.contains(digest).unwrap_or(false) {
            return;
        }
        let files = ObservedInputs::load(self.store, digest).and_then(|inputs| {
            self.references(&inputs, touched, &|_| format!("a list of what {stage} was seen to read"));
            inputs.project_files(self.store)
        });
        match files {
            Ok(files) => {
                for file in files {
                    let what = format!("`{}`, which {stage} read without declaring it,", file.path);
                    self.content(&file.path, &file.content(), &what, touched.clone());
                }
            }
            Err(e) => self.lacks(e.to_string(), touched.clone()),
        }
    }

    /// Whether the files of a kept environment are there; each is gone through once.
    fn kept(&mut self, digest: &Digest, stage: &str, touched: &Touched) {
        if !self.observed.insert(*digest) || !self.store.contains(digest).unwrap_or(false) {
            return;
        }
        match KeptEnvironment::load(self.store, digest).and_then(|kept| Ok((kept.all_files(self.store)?, kept))) {
            Ok((files, kept)) => {
                self.references(&kept, touched, &|_| format!("a list of the packages that {stage} used"));
                for file in files {
                    self.needs(
                        &file.path,
                        &file.digest,
                        &format!("`{}`, of a package that {stage} used,", file.path),
                        touched.clone(),
                    );
                }
            }
            Err(e) => self.lacks(e.to_string(), touched.clone()),
        }
    }

    fn lacks(&mut self, what: String, touched: Touched) {
        let known = self.problems.entry(what).or_default();
        known.runs.extend(touched.runs);
        known.datasets.extend(touched.datasets);
    }

    /// Whether a content is whole; it is told of when not.
    fn needs(&mut self, path: &str, digest: &Digest, what: &str, touched: Touched) -> bool {
        if self.met.contains(digest) {
            return true;
        }
        let parts = self.store.parts_of(digest).unwrap_or_default();
        let there = |d: &Digest| self.store.contains(d).unwrap_or(false);
        let whole = match parts.len() {
            0 => false,
            1 => !self.hurt.contains(&parts[0].digest),
            _ => parts.iter().all(|p| there(&p.digest) && !self.hurt.contains(&p.digest)),
        };
        if whole {
            self.met.insert(*digest);
        } else if parts.is_empty() && self.erased.contains(digest) {
            // As it is to be.
            self.erased_met += 1;
            self.met.insert(*digest);
        } else if parts.is_empty() && self.is_elsewhere(digest) {
            // Not amiss: it comes when it is needed.
        } else if self.hurt.contains(digest) || parts.iter().any(|p| self.hurt.contains(&p.digest)) {
            self.lacking.push(Lacking { path: path.to_string(), digest: *digest });
            self.lacks(format!("{what} ({}) is damaged", digest.short()), touched);
        } else {
            self.lacking.push(Lacking { path: path.to_string(), digest: *digest });
            self.lacks(format!("{what} ({}) is not in the store", digest.short()), touched);
        }
        whole
    }

    /// Whether somebody else has what is not here.
    fn is_elsewhere(&mut self, digest: &Digest) -> bool {
        let found = (self.elsewhere)(digest);
        if found {
            self.elsewhere_met += 1;
            self.met.insert(*digest);
        }
        found
    }

    /// A content whose bytes may be somebody else's to keep.
    fn held(&mut self, path: &str, content: &Content, hold: StorageMode, what: &str, touched: Touched) {
        if hold == StorageMode::Store {
            return self.content(path, content, what, touched);
        }
        let is_folder = content.kind == ContentKind::Folder;
        let is_missing =
            |checker: &Self| checker.store.listing(&content.digest).is_err() && !checker.erased.contains(&content.digest);
        if is_folder && !self.met.contains(&content.digest) && is_missing(self) && !self.is_elsewhere(&content.digest) {
            self.lacking.push(Lacking { path: path.to_string(), digest: content.digest });
            self.lacks(format!("the listing of {what} a reference, cannot be read"), touched);
        }
    }

    fn content(&mut self, path: &str, content: &Content, what: &str, touched: Touched) {
        let Content { digest, kind, .. } = *content;
        if self.met.contains(&digest) {
            return;
        }
        // What was dropped is not amiss, as long as it is wholly gone.
        if self.dropped.contains(&digest) && !self.store.contains(&digest).unwrap_or(false) {
            self.dropped_met += 1;
            self.met.insert(digest);
            return;
        }
        if !self.needs(path, &digest, what, touched.clone()) || kind != ContentKind::Folder {
            return;
        }
        self.folders.insert(digest);
        let listing = match self.store.read(&digest) {
            Ok(listing) => listing,
            Err(e) => {
                self.lacking.push(Lacking { path: path.to_string(), digest });
                return self.lacks(format!("{what} cannot be read: {e}"), touched);
            }
        };
        match parse_listing(&listing) {
            Ok(items) => {
                for item in items {
                    if let Some(digest) = &item.digest {
                        let path = format!("{path}/{}", item.path);
                        self.needs(&path, digest, &format!("`{path}`"), touched.clone());
                    }
                }
            }
            Err(e) => self.lacks(format!("{what} cannot be read: {e}"), touched),
        }
    }
}
