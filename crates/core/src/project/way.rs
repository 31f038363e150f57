//! What a stage reads goes to a machine by way of a depot that both sides reach: only what the depot lacks is sent, only what
//! the machine lacks is fetched there, and every byte is held against its digest before a stage may read it.

use std::collections::{BTreeMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use serde::{Deserialize, Serialize};
use textum_base::ProjectPath;
use textum_depot::{Address, Depot};

use super::depots::Depots;
use super::tree::write_new;
use crate::config::manifest::DepotDecl;
use crate::fsio::TreeDir;
use crate::record::receipt::{Content, ContentKind};
use crate::store::{Digest, Store, StoreError, items_of_listing};

/// The word by which this program is asked, on another machine, to put what a stage reads in its place.
pub const PUT_WORD: &str = "__put-what-a-stage-reads";

/// The way to a machine through a depot of the project's.
pub struct Way {
    depots: Arc<Depots>,
    depot: String,
    project: String,
    store: Store,
    /// What was sent by it.
    sent: Mutex<HashSet<Digest>>,
}

/// What this program is told on the other machine.
#[derive(Serialize, Deserialize)]
struct Order {
    /// The depot: its name, where it lies, and what its kind is to know.
    depot: String,
    at: String,
    options: BTreeMap<String, String>,
    project: String,
    /// The folder for what has been fetched.
    folder: PathBuf,
    /// Where the stage works.
    work: PathBuf,
    inputs: Vec<(ProjectPath, Content)>,
}

impl Way {
    /// Through the depot of this name, from the store in this folder.
    pub fn new(depots: Arc<Depots>, depot: &str, project: &str, store: &Path) -> Way {
        Way { depots, depot: depot.to_string(), project: project.to_string(), store: Store::open(store), sent: Mutex::default() }
    }

    /// Sends what the depot lacks. Gives the paths that need not be sent another way, and what this program is to be told there:
    /// to fetch into `folder`, and to put into `work`. What is not in the store under its own digest, a part of a dataset for
    /// example, is not among the paths.
    pub fn send(&self, inputs: &[(String, Content)], folder: &Path, work: &Path) -> Result<(Vec<String>, Vec<u8>), String> {
        let refused = |what: &dyn std::fmt::Display| format!("depot {}: {what}", self.depot);
        let decl: &DepotDecl = self.depots.named(Some(&self.depot)).map_err(|e| e.to_string())?;
        let depot = self.depots.open(Some(&self.depot));
        let depot = depot.map_err(|e| format!("{e}; `textum depot check {}` tries it", self.depot))?;
        if self.depots.holds_what_is_forgotten(&self.store).map_err(|e| refused(&e))? {
            return Err(refused(&"others have erased what is still here: `textum data erase --pending` erases it here too"));
        }
        let mut stored = Vec::new();
        for (path, content) in inputs {
            if self.store.contains(&content.digest).map_err(|e| refused(&e))? {
                stored.extend(ProjectPath::new(path).map(|path| (path, content.clone())));
            }
        }
        // A folder before what is read in it, which is written in its place.
        stored.sort_by(|(a, _), (b, _)| a.as_bytes().cmp(b.as_bytes()));
        self.send_contents(&depot, stored.iter().map(|(_, content)| content)).map_err(|e| refused(&e))?;
        let paths = stored.iter().map(|(path, _)| path.to_string()).collect();
        let order = Order {
            depot: self.depot.clone(),
            at: decl.address.to_string(),
            options: decl.options.clone(),
            project: self.project.clone(),
            folder: folder.to_path_buf(),
            work: work.to_path_buf(),
            inputs: stored,
        };
        Ok((paths, serde_json::to_vec(&order).map_err(|e| e.to_string())?))
    }

    /// Sends content with the files of folders; what this process has sent before is there.
    fn send_contents<'c>(&self, depot: &Depot, contents: impl Iterator<Item = &'c Content>) -> Result<(), String> {
        let said = |e: &dyn std::fmt::Display| e.to_string();
        let mut sent = self.sent.lock().unwrap_or_else(PoisonError::into_inner);
        let contents: Vec<&Content> = contents.filter(|content| !sent.contains(&content.digest)).collect();
        if contents.is_empty() {
            return Ok(());
        }
        let mut digests: Vec<Digest> = contents.iter().map(|content| content.digest).collect();
        for folder in contents.iter().filter(|content| content.kind == ContentKind::Folder) {
            digests.extend(files_of(&self.store, &folder.digest).map_err(|e| said(&e))?);
        }
        let plan = depot.plan_to_send(&self.store, &digests).map_err(|e| said(&e))?;
        if plan.not_here > 0 {
            return Err("what the stage reads is neither here nor there: `textum verify` says what is missing".into());
        }
        depot.send(&self.store, &plan, &|_| ()).map_err(|e| said(&e))?;
        sent.extend(contents.iter().map(|content| content.digest));
        Ok(())
    }
}

/// The contents of the files of a stored folder.
fn files_of(store: &Store, folder: &Digest) -> Result<Vec<Digest>, StoreError> {
    let listing = store.read(folder)?;
    Ok(items_of_listing(store, folder, &listing)?.iter().filter_map(|item| item.digest).collect())
}

/// On the other machine: fetches what is not there yet and puts it in its place. An error says what failed.
pub fn put_what_a_stage_reads(order: &[u8]) -> Result<(), String> {
    let said = |e: &dyn std::fmt::Display| e.to_string();
    let order: Order = serde_json::from_slice(order).map_err(|e| said(&e))?;
    let address = Address::parse(&order.at, Path::new("/")).map_err(|e| said(&e))?;
    let decl = DepotDecl { name: order.depot.clone(), url: order.at, address, options: order.options, live: false };
    let state = order.folder.join("known");
    crate::fsio::create_folder(&state).map_err(|e| said(&e))?;
    // What was not used for a month goes.
    crate::fsio::write_derived(&order.folder.join("used"), b"").map_err(|e| said(&e))?;
    let depots = Arc::new(Depots::new(vec![decl], &order.project, state, &textum_base::environment::variables()));
    // Told now rather than as content that is missing.
    depots.open(Some(&order.depot)).map_err(|e| said(&e))?;
    crate::fsio::create_folder(&order.work).map_err(|e| said(&e))?;
    let kept = order.folder.join("store");
    match put(&kept, &depots, &order.work, &order.inputs) {
        Err(NotPut::Damaged(_)) => {
            // It is fetched anew.
            crate::fsio::remove_any(&kept).map_err(|e| said(&e))?;
            put(&kept, &depots, &order.work, &order.inputs).map_err(|e| said(&e))
        }
        ended => ended.map_err(|e| said(&e)),
    }
}

/// Why what a stage reads is not in its place.
#[derive(Debug, thiserror::Error)]
enum NotPut {
    /// It could not be fetched.
    #[error("{0}")]
    NotFetched(String),
    /// It was fetched before, and what stands there is not that.
    #[error("{0}")]
    Damaged(String),
}

/// Puts content into its place, out of what was fetched and what is fetched now.
fn put(kept: &Path, depots: &Arc<Depots>, work: &Path, inputs: &[(ProjectPath, Content)]) -> Result<(), NotPut> {
    let not_fetched = |e: &dyn std::fmt::Display| NotPut::NotFetched(e.to_string());
    let store = Store::open(kept);
    store.set_source(depots.clone());
    let tree = TreeDir::open(work).map_err(|e| not_fetched(&e))?;
    let whole: Vec<Digest> = inputs.iter().map(|(_, content)| content.digest).collect();
    store.bring(&whole).map_err(|e| not_fetched(&e))?;
    for (path, content) in inputs {
        let damaged = |e: &dyn std::fmt::Display| NotPut::Damaged(format!("{path}: {e}"));
        if !store.contains(&content.digest).map_err(|e| damaged(&e))? {
            return Err(NotPut::NotFetched(format!("{path} is not in the depot")));
        }
        if content.kind == ContentKind::Folder {
            let files = files_of(&store, &content.digest).map_err(|e| damaged(&e))?;
            store.bring(&files).map_err(|e| not_fetched(&e))?;
        }
        // An order that was cut off has left some of it.
        crate::fsio::remove_any(&tree.full(path)).map_err(|e| not_fetched(&e))?;
        if let Err(e) = write_new(&store, content, &tree, path) {
            let _ = crate::fsio::remove_any(&tree.full(path));
            return Err(damaged(&e));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn order(folder: &Path, at: &str, path: &str) -> Vec<u8> {
        let content = serde_json::to_value(Content::file(Digest::of(b"yarn"), 4)).unwrap();
        let order = serde_json::json!({
            "depot": "team", "at": at, "options": {}, "project": "shed",
            "folder": folder.join("fetched"), "work": folder.join("work"), "inputs": [[path, content]],
        });
        serde_json::to_vec(&order).unwrap()
    }

    /// Whatever another machine orders, nothing is written but below the stage's own folder, and nothing that is not whole.
    #[test]
    fn what_cannot_be_put_is_said_and_nothing_stands_in_its_place() {
        let folder = tempfile::tempdir().unwrap();
        let depot = folder.path().join("depot").display().to_string();
        for nonsense in [&b""[..], b"{", b"{}", b"[]", b"\xff"] {
            assert!(put_what_a_stage_reads(nonsense).is_err());
        }
        for path in ["../out", "/out", "a/../../out", "", "."] {
            let said = put_what_a_stage_reads(&order(folder.path(), &depot, path)).unwrap_err();
            assert!(!folder.path().join("out").exists() && !folder.path().join("work").exists(), "{path}: {said}");
        }
        let said = put_what_a_stage_reads(&order(folder.path(), &depot, "d")).unwrap_err();
        assert!(said.contains("there is no depot"), "{said}");
        // One that is there, and has nothing of it.
        let storage =
            textum_depot::open_storage(&Address::Folder(depot.clone().into()), &BTreeMap::new(), &[], &Default::default());
        let options = textum_depot::DepotOptions {
            name: "team".into(),
            at: depot.clone(),
            project: "shed".into(),
            state: folder.path().join("known"),
            jobs: 1,
            interrupt: Default::default(),
        };
        textum_depot::Depot::open_or_create(storage.unwrap(), options, "loom").unwrap();
        let said = put_what_a_stage_reads(&order(folder.path(), &depot, "d")).unwrap_err();
        assert_eq!(said, "d is not in the depot");
        assert!(!folder.path().join("work/d").exists());
    }

    #[test]
    fn a_way_through_a_depot_that_nobody_declared_is_none() {
        let folder = tempfile::tempdir().unwrap();
        let depots = Depots::new(Vec::new(), "shed", folder.path().join("known"), &[]);
        let way = Way::new(Arc::new(depots), "team", "shed", &folder.path().join("store"));
        assert!(
            way.send(&[], Path::new("/a"), Path::new("/b")).err().is_some_and(|said| said.contains("the project has no depot"))
        );
    }
}
