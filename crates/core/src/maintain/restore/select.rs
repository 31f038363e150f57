//! What of a run, or of the committed receipt, is to be brought back, and doing it.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use textum_base::{ProjectPath, SourcePath};

use crate::config::manifest::{MANIFEST_NAME, is_within};
use crate::data::Version;
use crate::event::EventSink;
use crate::fsio::{IoError, TreeDir};
use crate::maintain::rebuild::reference_differs;
use crate::project::fingerprint::ScanError;
use crate::project::tree::{PutError, Staged, TreeCleaner, put_new};
use crate::project::workspace::Project;
use crate::record::ledger::{Erasure, LedgerError};
use crate::record::receipt::{
    Content, ContentKind, DatasetState, PathContent, ReceiptError, RunReceipt, StageReceipt, StageState, StorageMode, TREE_RECEIPT,
    TREE_RECEIPT_NAME, TreeReceipt, TreeReceiptError, TreeStage,
};
use crate::store::{Digest, Store, StoreError};

/// Why something could not be restored.
#[derive(Debug, thiserror::Error)]
pub enum RestoreError {
    /// It could not be put in place.
    #[error(transparent)]
    Put(#[from] PutError),
    /// A receipt.
    #[error(transparent)]
    Receipt(#[from] ReceiptError),
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// The tree could not be looked at.
    #[error(transparent)]
    Scan(#[from] ScanError),
    /// The tree's receipt.
    #[error(transparent)]
    Tree(#[from] TreeReceiptError),
    /// The run neither read nor wrote the path.
    #[error("the run {run} neither read nor wrote `{path}`{}", near.as_ref().map_or(String::new(), |n| format!(": did you mean `{n}`?")))]
    NoPath {
        /// The run.
        run: String,
        /// The path given.
        path: String,
        /// The most similar path.
        near: Option<String>,
    },
    /// Some of the content is not in the store.
    #[error("the content of {} is not in the store{}: {}", if missing.len() == 1 { "a path" } else { "some paths" },
        if looked.is_empty() { String::new() } else { format!(", nor in the depot{} {}", if looked.len() == 1 { "" } else { "s" }, looked.join(", ")) },
        missing.join(", "))]
    Gone {
        /// The paths, each with its digest.
        missing: Vec<String>,
        /// The depots that were asked.
        looked: Vec<String>,
    },
    /// It was to be forgotten.
    #[error("{what} was {erasure}")]
    Erased {
        /// The paths, each with its digest.
        what: String,
        /// When, by whom and why.
        erasure: Box<Erasure>,
    },
    /// What is recorded as its path is none.
    #[error("{path:?} cannot be a path in a project: {fault}")]
    BadPath {
        /// The path.
        path: String,
        /// What is wrong with it.
        fault: textum_base::PathFault,
    },
    /// There is no committed receipt.
    #[error("there is no textum.receipt.json in {}", .0.display())]
    NoTreeReceipt(PathBuf),
    /// Something stands where content is to be put outside the project.
    #[error("{} is there already", .0.display())]
    Exists(PathBuf),
}

/// What is to be restored.
#[derive(Clone, Debug, Default)]
pub struct Wanted {
    /// The run it comes from, if it is one.
    pub run: Option<String>,
    /// Datasets and outputs, by path.
    pub data: BTreeMap<ProjectPath, Content>,
    /// Everything else that was read: code and other files, which version control also has.
    pub code: BTreeMap<ProjectPath, Content>,
    /// Files of parameters as the stages found them. In the tree they are left alone: their values are written
    /// back one by one, by [`super::restore_params`].
    pub param_files: BTreeMap<ProjectPath, Content>,
    /// The stage results that stand in the tree once all is restored.
    stages: Vec<(String, TreeStage)>,
    /// References among what was read: their bytes are not in the store, so that they are only looked at.
    pub references: BTreeMap<SourcePath, Content>,
    /// Whether only some of the tree is brought back, so that its receipt keeps what it says of the rest.
    partial: bool,
    datasets: BTreeMap<String, crate::record::receipt::DatasetState>,
}

/// What came of it.
#[derive(Clone, Debug, Default)]
pub struct Restored {
    /// Paths brought back.
    pub put: Vec<(ProjectPath, Content)>,
    /// Paths that were as wanted already.
    pub same: Vec<String>,
    /// Code files that differ from the recorded ones and were left alone.
    pub code_differs: Vec<String>,
    /// References that are no longer what was recorded, in words.
    pub references_differ: Vec<String>,
}

/// Everything that a run read and wrote.
pub fn of_run(store: &Store, run: &RunReceipt) -> Result<Wanted, RestoreError> {
    let mut wanted = Wanted { run: Some(run.run.clone()), datasets: run.data.clone(), ..Wanted::default() };
    let is_data = |path: &str| run.data.values().any(|d| crate::config::manifest::overlap(path, &d.path));
    for stage in &run.stages {
        let Some(digest) = stage.receipt else { continue };
        let receipt = StageReceipt::load(store, &digest)?;
        for read in receipt.reads.iter().filter(|r| r.by.is_empty()) {
            let path = match read.at.path.in_project() {
                Some(path) if read.hold == StorageMode::Store => path,
                _ => {
                    wanted.references.insert(read.at.path.clone(), read.at.content.clone());
                    continue;
                }
            };
            // Textum's own documents are not a run's to bring back.
            if path == MANIFEST_NAME || path == TREE_RECEIPT_NAME {
                continue;
            }
            let group = match (read.params, is_data(&path)) {
                (true, _) => &mut wanted.param_files,
                (false, true) => &mut wanted.data,
                (false, false) => &mut wanted.code,
            };
            group.insert(path, read.at.content.clone());
        }
        if receipt.state == StageState::Done {
            wanted.data.extend(receipt.outputs().map(|o| (o.path.clone(), o.content.clone())));
            wanted.stages.push((stage.stage.clone(), TreeStage::of(&receipt, digest)));
        }
    }
    wanted.take_datasets(run.data.values());
    Ok(wanted)
}

/// A version of a dataset, at the path that the dataset has now.
pub fn of_version(project: &Project, version: &Version) -> Wanted {
    let decl = project.manifest.data.iter().find(|d| d.name == version.dataset);
    let path = decl.map_or(version.path.clone(), |d| d.path.clone());
    let state = DatasetState { path, content: version.content.clone(), hold: version.hold };
    let mut wanted = Wanted { partial: true, ..Wanted::default() };
    wanted.take_datasets(std::iter::once(&state));
    if decl.is_some() {
        wanted.datasets.insert(version.dataset.clone(), state);
    }
    wanted
}

/// What the committed receipt says stands in the tree.
pub fn of_tree(project: &Project) -> Result<Wanted, RestoreError> {
    let root = project.workspace.root();
    let tree = TreeReceipt::load(root)?.ok_or_else(|| RestoreError::NoTreeReceipt(root.to_path_buf()))?;
    let mut wanted = Wanted { run: tree.run.clone(), datasets: tree.data.clone(), ..Wanted::default() };
    wanted.take_datasets(tree.data.values());
    for (name, stage) in &tree.stages {
        wanted.data.extend(stage.writes.iter().map(|(path, content)| (path.clone(), content.clone())));
        wanted.stages.push((name.clone(), stage.clone()));
    }
    Ok(wanted)
}

/// A content by its digest, to be put at the path it was recorded at.
pub fn of_digest(project: &Project, digest: &Digest) -> Result<PathContent, RestoreError> {
    let place = project.ledger.places_of(digest)?.into_iter().find(|p| p.role != "left");
    let what = || place.as_ref().map_or_else(|| digest.short(), |p| format!("{} ({})", p.path, digest.short()));
    if !project.store.can_have(digest)?
        && let Some(erasure) = project.ledger.erased(digest)?
    {
        return Err(RestoreError::Erased { what: what(), erasure: Box::new(erasure) });
    }
    let kind = match place.as_ref().map(|p| p.kind.as_str()) {
        Some("folder") => ContentKind::Folder,
        Some("exec") => ContentKind::Exec,
        _ => ContentKind::File,
    };
    let path = place.map(|p| p.path).unwrap_or_else(|| digest.hex()[..12].to_string());
    let path = ProjectPath::new(&path).map_err(|fault| RestoreError::BadPath { path: path.clone(), fault })?;
    let size = project.store.size_of(digest)?;
    Ok(PathContent { path, content: Content { kind, ..Content::file(*digest, size) } })
}

impl Wanted {
    fn take_datasets<'d>(&mut self, datasets: impl Iterator<Item = &'d DatasetState>) {
        for state in datasets {
            match state.path.in_project().filter(|_| state.hold == StorageMode::Store) {
                Some(path) => self.data.insert(path, state.content.clone()),
                None => self.references.insert(state.path.clone(), state.content.clone()),
            };
        }
    }

    /// A single content at its recorded path.
    pub fn one(found: PathContent) -> Wanted {
        Wanted { data: [(found.path, found.content)].into(), ..Wanted::default() }
    }

    /// Only what lies at a path or below it; a path inside a recorded folder is found in its listing.
    pub fn only(self, store: &Store, path: &str) -> Result<Wanted, RestoreError> {
        let path = path.trim_end_matches('/');
        let run = self.run.clone().unwrap_or_default();
        let all: BTreeMap<ProjectPath, Content> = self.data.into_iter().chain(self.code).chain(self.param_files).collect();
        let mut data: BTreeMap<ProjectPath, Content> =
            all.iter().filter(|(p, _)| is_within(p, path)).map(|(p, c)| (p.clone(), c.clone())).collect();
        if data.is_empty()
            && let Some((folder, content)) = all.iter().find(|(p, c)| c.kind == ContentKind::Folder && is_within(path, p))
            && let Some(found) = crate::record::receipt::part_of_folder(store, &content.digest, &path[folder.len() + 1..])?
        {
            let path = folder.join(&path[folder.len() + 1..]);
            data.extend(path.ok().map(|path| (path, found)));
        }
        if data.is_empty() {
            let near = crate::config::manifest::nearest(path, all.keys().map(|p| &**p)).map(str::to_string);
            return Err(RestoreError::NoPath { run, path: path.to_string(), near });
        }
        Ok(Wanted { run: self.run, data, ..Wanted::default() })
    }

    fn check_stored(&self, project: &Project, with_code: bool) -> Result<(), RestoreError> {
        let code = self.code.iter().chain(&self.param_files).filter(|_| with_code);
        let mut missing = Vec::new();
        for (path, content) in self.data.iter().chain(code) {
            if !project.store.can_have(&content.digest)? {
                if let Some(erasure) = project.ledger.erased(&content.digest)? {
                    return Err(RestoreError::Erased {
                        what: format!("{path} ({})", content.digest.short()),
                        erasure: Box::new(erasure),
                    });
                }
                let dropped = project.ledger.dropped(&content.digest)?;
                let dropped = dropped.map_or(String::new(), |at| format!(", dropped by a prune at {at}"));
                missing.push(format!("{path} ({}{dropped})", content.digest.short()));
            }
        }
        let looked = project.depots.declared().iter().map(|d| d.name.clone()).collect();
        if missing.is_empty() { Ok(()) } else { Err(RestoreError::Gone { missing, looked }) }
    }
}

/// Brings the working tree to what is wanted. Code is left alone unless asked for; what of it differs
/// is named. Nothing unrecorded is lost: it goes aside.
pub fn restore_tree(
    project: &Project,
    wanted: &Wanted,
    with_code: bool,
    name: &str,
    events: &dyn EventSink,
) -> Result<Restored, RestoreError> {
    wanted.check_stored(project, with_code)?;
    let tree = TreeDir::open(project.workspace.root())?;
    let state = project.workspace.state();
    let cleaner = TreeCleaner::new(&tree, &project.scanner, &project.store, &project.ledger, state, name, events);
    let mut staged = Staged::new(&cleaner);
    let mut restored = Restored::default();
    let code = wanted.code.iter().filter(|_| with_code);
    for (path, content) in wanted.data.iter().chain(code) {
        // What cannot be looked at is not what is wanted; it goes aside as it is.
        if project.scanner.look(path).ok().flatten().as_ref() == Some(content) {
            restored.same.push(path.to_string());
            continue;
        }
        staged.add(path, content)?;
        restored.put.push((path.clone(), content.clone()));
    }
    // All of it is written out by now: what stands there goes only for what is whole.
    staged.apply()?;
    if !with_code {
        for (path, content) in &wanted.code {
            if project.scanner.look(path).ok().flatten().as_ref() != Some(content) {
                restored.code_differs.push(path.to_string());
            }
        }
    }
    for (path, content) in &wanted.references {
        let now = project.scanner.look(path).ok().flatten();
        if now.as_ref() == Some(content) {
            restored.same.push(path.to_string());
        } else {
            let at = PathContent { path: path.clone(), content: content.clone() };
            restored.references_differ.push(reference_differs(&at, now.as_ref()));
        }
    }
    if wanted.partial && !wanted.datasets.is_empty() && restored.references_differ.is_empty() {
        if let Some(mut tree) = TreeReceipt::load(project.workspace.root())? {
            tree.data.extend(wanted.datasets.clone());
            tree.save(project.workspace.root())?;
        }
    } else if !wanted.partial && (!wanted.stages.is_empty() || !wanted.datasets.is_empty()) {
        let stages = wanted.stages.iter().cloned().collect();
        let tree = TreeReceipt { r#type: TREE_RECEIPT.to_string(), run: wanted.run.clone(), data: wanted.datasets.clone(), stages };
        tree.save(project.workspace.root())?;
    }
    project.save_looks();
    Ok(restored)
}

/// Puts everything that is wanted, code too, into a folder outside the tree. What stands there already
/// with another content is an error before anything is written.
pub fn restore_into(project: &Project, wanted: &Wanted, folder: &Path) -> Result<Restored, RestoreError> {
    wanted.check_stored(project, true)?;
    let all = || wanted.data.iter().chain(&wanted.code).chain(&wanted.param_files);
    let tree = TreeDir::create(folder)?;
    for (path, _) in all() {
        if tree.standing(path)?.is_some() {
            return Err(RestoreError::Exists(tree.full(path)));
        }
    }
    let mut restored = Restored::default();
    for (path, content) in all() {
        // Inside a folder that has just been put.
        if tree.standing(path)?.is_none() {
            put_new(&project.store, content, &tree, path)?;
        }
        restored.put.push((path.clone(), content.clone()));
    }
    Ok(restored)
}
