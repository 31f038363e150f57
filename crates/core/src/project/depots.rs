//! The depots of a project: opened when they are needed, and asked for content that is not here.

use std::collections::{BTreeMap, HashSet};
use std::path::PathBuf;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

use textum_depot::{Depot, DepotError, DepotOptions, Fetched, Interrupt, open_storage};

use crate::config::manifest::DepotDecl;
use crate::store::{Digest, Source, Store, StoreError};

/// So many requests side by side, unless said otherwise.
pub const JOBS: usize = 8;

/// What came of opening a depot.
type Opened = Result<Arc<Depot>, Arc<DepotError>>;

/// All depots of a project.
pub struct Depots {
    declared: Vec<DepotDecl>,
    project: String,
    state: PathBuf,
    variables: Vec<(String, String)>,
    interrupt: Interrupt,
    jobs: AtomicUsize,
    /// Each is opened once; one that cannot be is not tried again by this process.
    opened: Mutex<BTreeMap<String, Opened>>,
    fetched: Mutex<BTreeMap<String, Fetched>>,
    forgotten: Mutex<Forgotten>,
}

/// Content that was to be forgotten.
#[derive(Clone, Debug, Default)]
pub struct Forgotten {
    /// It may still be in a depot: it is not fetched.
    pub there: HashSet<Digest>,
    /// It may still be here: nothing is sent as long as it is.
    pub here: HashSet<Digest>,
}

/// Why there is no depot of a name.
#[derive(Debug, thiserror::Error)]
pub enum DepotsError {
    /// None is declared.
    #[error("the project has no depot")]
    None,
    /// There are several, and none was named.
    #[error("the project has several depots: {}", .0.join(", "))]
    Several(Vec<String>),
    /// None has this name.
    #[error("the project has no depot `{name}`{}", near.as_ref().map_or(String::new(), |n| format!(": did you mean `{n}`?")))]
    Unknown {
        /// The name given.
        name: String,
        /// The most similar one.
        near: Option<String>,
    },
    /// It cannot be opened.
    #[error(transparent)]
    Depot(Arc<DepotError>),
}

impl Depots {
    /// Depots that are declared. None is asked yet. `state` is where this machine keeps what it knows of them.
    pub fn new(declared: Vec<DepotDecl>, project: &str, state: PathBuf, variables: &[(String, String)]) -> Depots {
        Depots {
            declared,
            project: project.to_string(),
            state,
            variables: variables.to_vec(),
            interrupt: Interrupt::default(),
            jobs: AtomicUsize::new(JOBS),
            opened: Mutex::default(),
            fetched: Mutex::default(),
            forgotten: Mutex::default(),
        }
    }

    /// What is declared.
    pub fn declared(&self) -> &[DepotDecl] {
        &self.declared
    }

    /// Ends everything that is going on with a depot.
    pub fn interrupt(&self) -> &Interrupt {
        &self.interrupt
    }

    /// So many requests side by side, with depots that are opened from now on.
    pub fn set_jobs(&self, jobs: usize) {
        self.jobs.store(jobs, Ordering::Relaxed);
    }

    /// What a depot is opened with.
    pub fn options_of(&self, decl: &DepotDecl) -> DepotOptions {
        DepotOptions {
            name: decl.name.clone(),
            at: decl.address.to_string(),
            project: self.project.clone(),
            state: self.state.clone(),
            jobs: self.jobs.load(Ordering::Relaxed),
            interrupt: self.interrupt.clone(),
        }
    }

    /// The declaration that a name stands for: of the only one, no name is needed.
    pub fn named(&self, name: Option<&str>) -> Result<&DepotDecl, DepotsError> {
        match name {
            Some(name) => self.declared.iter().find(|d| d.name == name).ok_or_else(|| {
                let known = self.declared.iter().map(|d| d.name.as_str());
                let near = crate::config::manifest::nearest(name, known).map(str::to_string);
                DepotsError::Unknown { name: name.to_string(), near }
            }),
            None => match self.declared.as_slice() {
                [] => Err(DepotsError::None),
                [one] => Ok(one),
                several => Err(DepotsError::Several(several.iter().map(|d| d.name.clone()).collect())),
            },
        }
    }

    /// Opens the depot that a name stands for.
    pub fn open(&self, name: Option<&str>) -> Result<Arc<Depot>, DepotsError> {
        let decl = self.named(name)?;
        self.opened(decl).map_err(DepotsError::Depot)
    }

    fn opened(&self, decl: &DepotDecl) -> Opened {
        let mut opened = self.opened.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = opened.get(&decl.name) {
            return known.clone();
        }
        let open = || -> Result<Depot, DepotError> {
            let storage = open_storage(&decl.address, &decl.options, &self.variables, &self.interrupt)?;
            Depot::open(storage, self.options_of(decl))
        };
        let result = open().map(Arc::new).map_err(Arc::new);
        opened.insert(decl.name.clone(), result.clone());
        result
    }

    /// What is not fetched from now on, and what nothing is sent beside.
    pub fn forget(&self, forgotten: Forgotten) {
        *self.forgotten.lock().unwrap_or_else(PoisonError::into_inner) = forgotten;
    }

    /// Whether a content must not be fetched.
    pub fn is_not_fetched(&self, content: &Digest) -> bool {
        self.forgotten.lock().unwrap_or_else(PoisonError::into_inner).there.contains(content)
    }

    /// Whether anything is here that others have erased.
    pub fn holds_what_is_forgotten(&self, store: &Store) -> Result<bool, StoreError> {
        for digest in &self.forgotten.lock().unwrap_or_else(PoisonError::into_inner).here {
            if store.contains(digest)? {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// What was fetched by this process, by depot.
    pub fn fetched(&self) -> Vec<(String, Fetched)> {
        let fetched = self.fetched.lock().unwrap_or_else(PoisonError::into_inner);
        fetched.iter().filter(|(_, f)| f.contents > 0).map(|(name, f)| (name.clone(), *f)).collect()
    }

    /// Asks each depot in turn; the last error, if one could not be asked.
    fn each(&self, mut ask: impl FnMut(&Depot) -> Result<bool, DepotError>) -> Option<String> {
        let mut failed = None;
        for decl in &self.declared {
            let asked = self.opened(decl).and_then(|depot| ask(&depot).map_err(Arc::new));
            match asked {
                Ok(true) => return None,
                Ok(false) => {}
                Err(e) => failed = Some(format!("the depot {} could not be asked: {e}", decl.name)),
            }
        }
        failed
    }
}

impl Source for Depots {
    fn fetch(&self, store: &Store, wanted: &[Digest]) -> Result<(), StoreError> {
        // A mere look leaves no trace in a project that has no state yet.
        if !self.state.parent().is_some_and(std::path::Path::exists) {
            return Ok(());
        }
        let missing = |store: &Store| -> Result<Vec<Digest>, StoreError> {
            let mut missing = Vec::new();
            for digest in wanted {
                if !store.contains(digest)? && !self.is_not_fetched(digest) {
                    missing.push(*digest);
                }
            }
            Ok(missing)
        };
        let mut left = missing(store)?;
        let mut wrong = None;
        let failed = self.each(|depot| {
            let fetched = depot.fetch(store, &left, &|_| ())?;
            self.fetched.lock().unwrap_or_else(PoisonError::into_inner).entry(depot.name().to_string()).or_default().add(&fetched);
            match missing(store) {
                Ok(now) => left = now,
                Err(e) => wrong = Some(e),
            }
            Ok(left.is_empty() || wrong.is_some())
        });
        match (wrong, failed) {
            (Some(wrong), _) => Err(wrong),
            (None, Some(what)) if !left.is_empty() => Err(StoreError::Source(format!("{} is not here, and {what}", left[0]))),
            _ => Ok(()),
        }
    }

    fn has(&self, digest: &Digest) -> Result<bool, StoreError> {
        if self.is_not_fetched(digest) {
            return Ok(false);
        }
        let mut found = false;
        let failed = self.each(|depot| {
            found = !depot.has(&[*digest])?.is_empty();
            Ok(found)
        });
        match failed {
            Some(what) if !found => Err(StoreError::Source(format!("{digest} is not here, and {what}"))),
            _ => Ok(found),
        }
    }
}
