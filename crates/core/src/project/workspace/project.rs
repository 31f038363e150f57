//! All parts of an open project together, for those who need most of them.

use std::collections::BTreeMap;
use std::path::Path;
use std::rc::Rc;
use std::sync::Arc;

use super::{Workspace, WorkspaceError};
use crate::config::graph::Graph;
use crate::config::manifest::{LoadError, Manifest, Params};
use crate::project::depots::{Depots, Forgotten};
use crate::project::erasures::Pending;
use crate::project::fingerprint::{
    EnvironmentNow, MayStart, PythonError, Scanner, counted_variables, environment, is_secret, key_of, make_key, stage_variables,
};
use crate::project::observed::{FileDigests, Ignored, ObservedCheck, Places};
use crate::record::ledger::{Erasure, Ledger, LedgerError};
use crate::record::receipt::StorageMode;
use crate::store::Store;

/// An open project: the manifest checked, the store and ledger open.
pub struct Project {
    /// Its paths.
    pub workspace: Workspace,
    /// Its manifest.
    pub manifest: Arc<Manifest>,
    /// The graph of its stages.
    pub graph: Arc<Graph>,
    /// Parameters as this command uses them: the manifest's, with what was set for once.
    pub params: Params,
    /// Names of the parameters set for once.
    pub set: Vec<String>,
    /// Its store.
    pub store: Arc<Store>,
    /// The depots that it shares what it has by.
    pub depots: Arc<Depots>,
    /// Its ledger.
    pub ledger: Rc<Ledger>,
    /// Looks at its files.
    pub scanner: Arc<Scanner>,
    /// Looks at files anywhere that stages were seen to read.
    pub files: Arc<FileDigests>,
    /// Environment variables of this process.
    pub variables: Vec<(String, String)>,
    /// Whether an interpreter that lies in the project may be started: set by what executes stages.
    pub may_start: MayStart,
    /// The published version that each dataset is which is one, as `NAME@V`: by the dataset.
    pub published: Arc<BTreeMap<String, String>>,
}

/// Why a project could not be opened.
#[derive(Debug, thiserror::Error)]
pub enum LoadProjectError {
    /// Not a project, or one of a newer format.
    #[error(transparent)]
    Workspace(#[from] WorkspaceError),
    /// The manifest.
    #[error(transparent)]
    Manifest(#[from] LoadError),
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
}

impl Project {
    /// Opens the project that a folder belongs to, without leaving a trace in one that has no state.
    /// `variables` are those that stages may get.
    pub fn open(folder: &Path, variables: Vec<(String, String)>) -> Result<Project, LoadProjectError> {
        let workspace = Workspace::find(folder)?;
        let manifest = Manifest::load(&workspace.manifest_path())?;
        let store = Store::open(&workspace.store_folder());
        let ledger = match workspace.state().is_dir() {
            true => Ledger::open(&workspace.ledger_path(), &store)?,
            false => Ledger::in_memory()?,
        };
        let references = manifest.data.iter().filter(|d| d.hold == StorageMode::Reference).map(|d| d.path.clone()).collect();
        let scanner = Scanner::open(workspace.root(), workspace.cache_folder()).with_references(references);
        let graph = Graph::build(&manifest.stages);
        let params = manifest.params.clone();
        let depots = Depots::new(manifest.depots.clone(), &manifest.name, workspace.depots_folder(), &variables);
        let depots = Arc::new(depots);
        if !manifest.depots.is_empty() {
            store.set_source(depots.clone());
        }
        let project = Project {
            depots,
            manifest: Arc::new(manifest),
            graph: Arc::new(graph),
            params,
            set: Vec::new(),
            store: Arc::new(store),
            ledger: Rc::new(ledger),
            files: Arc::new(FileDigests::open(workspace.cache_folder().as_deref())),
            workspace,
            scanner: Arc::new(scanner),
            variables,
            may_start: MayStart::NothingOfTheProject,
            published: Arc::default(),
        };
        project.forget_erased()?;
        Ok(project)
    }

    /// Neither fetches nor sends what was erased, as long as that has not been done everywhere.
    pub fn forget_erased(&self) -> Result<(), LedgerError> {
        let all = self.ledger.erasures()?;
        if all.is_empty() {
            return Ok(());
        }
        let pending = Pending::load(&self.workspace);
        let mut forgotten = Forgotten::default();
        for Erasure { receipt, .. } in all {
            let is_here = !pending.done.contains(&receipt);
            if is_here || pending.depots.contains_key(&receipt) {
                let contents = self.ledger.erased_by(&receipt)?;
                forgotten.here.extend(contents.iter().filter(|_| is_here));
                forgotten.there.extend(contents);
            }
        }
        self.depots.forget(forgotten);
        Ok(())
    }

    /// Opens the project for work that is recorded: makes Textum's folder if there is none.
    pub fn open_to_write(folder: &Path, variables: Vec<(String, String)>) -> Result<Project, LoadProjectError> {
        let workspace = Workspace::find(folder)?;
        // A manifest with mistakes is reported before anything is made.
        Manifest::load(&workspace.manifest_path())?;
        workspace.create_state()?;
        let project = Project::open(folder, variables)?;
        let environment = &project.manifest.environment;
        if environment.count_secrets && environment.vars.iter().any(|v| is_secret(v)) {
            make_key(&project.workspace.secret_key_path()).map_err(WorkspaceError::from)?;
        }
        Ok(project)
    }

    /// The same project with other parameters. Everything else is shared.
    pub fn variant(&self, params: Params, set: Vec<String>) -> Project {
        Project {
            workspace: self.workspace.clone(),
            manifest: self.manifest.clone(),
            graph: self.graph.clone(),
            params,
            set,
            store: self.store.clone(),
            depots: self.depots.clone(),
            ledger: self.ledger.clone(),
            scanner: self.scanner.clone(),
            files: self.files.clone(),
            variables: self.variables.clone(),
            may_start: self.may_start,
            published: self.published.clone(),
        }
    }

    /// The environment that stages have now.
    pub fn environment(&self) -> Result<EnvironmentNow, PythonError> {
        let cache = self.workspace.cache_folder();
        let (decl, root) = (&self.manifest.environment, self.workspace.root());
        let key = key_of(&self.workspace.secret_key_path());
        environment(decl, root, &self.variables, key.as_ref(), cache.as_deref(), self.may_start)
    }

    /// The paths that any stage brings forth, its checkpoints among them.
    pub fn all_outputs(&self) -> Vec<String> {
        let stages = self.manifest.stages.iter();
        stages.flat_map(|s| s.outputs().chain(&s.checkpoints)).map(ToString::to_string).collect()
    }

    /// What holds observed inputs against the present.
    pub fn observed_check(&self) -> ObservedCheck {
        let vars = counted_variables(&self.manifest.environment, &self.variables, None);
        let variables = stage_variables(&self.variables, &vars);
        let places = Places::new(self.workspace.root(), &variables);
        let ignored = Ignored::new(&self.manifest.observe.ignore);
        ObservedCheck::new(places, ignored, self.all_outputs(), &variables, self.files.clone())
    }

    /// Keeps what was learnt of files for the next look.
    pub fn save_looks(&self) {
        self.scanner.save();
        self.files.save();
    }

    /// How what stands at a path is kept.
    pub fn hold_of(&self, path: &str) -> StorageMode {
        if self.scanner.is_reference(path) { StorageMode::Reference } else { StorageMode::Store }
    }

    /// The dataset that a path is, or is part of.
    pub fn dataset_of(&self, path: &str) -> Option<&str> {
        self.manifest.data.iter().find(|d| crate::config::manifest::overlap(path, &d.path)).map(|d| d.name.as_str())
    }
}
