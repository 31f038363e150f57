//! Erasing, by a journal: once that is written it will be finished, by this process or by whoever opens the project next.
//! Whatever instant it ends at, either nothing has changed or it goes on.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::PathBuf;

use serde::{Deserialize, Serialize};
use textum_base::{Identity, ProjectPath};

use super::EraseError;
use super::find::{Asked, Found, find};
use super::places::names_in;
use super::plan::{ErasePlan, Forgetting, plan, plan_of};
use crate::data::versions;
use crate::fsio::{self, IoError, OutFile, TreeDir};
use crate::maintain::rebuild::is_rebuilding;
use crate::pipeline::exec::live_runs;
use crate::project::erasures::Pending;
use crate::project::tree::write_new;
use crate::project::workspace::{Project, Workspace};
use crate::record::receipt::{
    Content, DATA_RECEIPT, DataReceipt, DatasetState, ERASE_RECEIPT, EraseReceipt, ErasedVersion, StorageMode, TreeReceipt,
    canonical, is_run_id,
};
use crate::store::{Alone, Digest, Freed, GcPlan, Store};

/// The journal's `type`.
const JOURNAL: &str = "textum/erase-journal@1";

/// So often it is tried anew when others record meanwhile.
const TRIES: u32 = 8;

/// What is to be done; nothing of it says what the rows were.
#[derive(Serialize, Deserialize)]
struct Journal {
    r#type: String,
    /// The receipts that tell of it, in canonical form.
    documents: Vec<String>,
    /// What leaves the store.
    entries: BTreeSet<Digest>,
    outlines: BTreeSet<Digest>,
    /// All contents that go.
    contents: BTreeSet<Digest>,
    /// Outputs in the tree that go, if they are still what they were.
    tree: Vec<ProjectPath>,
    aside: Vec<ProjectPath>,
    sandboxes: Vec<String>,
    /// The dataset's file without the rows.
    place: Option<Place>,
    /// Depots that it is to be done in.
    depots: Vec<String>,
    /// The receipt that the depots are to hear of.
    receipt: Digest,
}

/// A file that takes another's place in the tree.
#[derive(Serialize, Deserialize)]
struct Place {
    dataset: String,
    path: ProjectPath,
    /// What stands there; anything else is left alone.
    was: Option<Digest>,
    content: Content,
}

/// What was done.
pub struct Erased {
    /// What was meant to go.
    pub plan: ErasePlan,
    /// What was found; none where another's erasing was followed.
    pub found: Found,
    /// The receipt.
    pub receipt: Digest,
    /// What it says.
    pub said: EraseReceipt,
    /// What left the store.
    pub freed: Freed,
    /// What stands in the tree otherwise than it did when it was looked at, and was left alone.
    pub changed: Vec<String>,
}

fn journal_path(workspace: &Workspace) -> PathBuf {
    // As long as it is there, nobody adds to the store what relies on what goes.
    Store::open(&workspace.store_folder()).hold_path()
}

/// Whether an erasing was cut off.
pub fn is_cut_off(workspace: &Workspace) -> bool {
    journal_path(workspace).exists()
}

fn write_journal(project: &Project, journal: &Journal) -> Result<(), EraseError> {
    let path = journal_path(&project.workspace);
    let bytes = serde_json::to_vec(journal).map_err(|e| IoError::of("write", &path)(e.into()))?;
    Ok(fsio::write_atomic(&path, &bytes)?)
}

fn read_journal(project: &Project) -> Result<Option<Journal>, EraseError> {
    let path = journal_path(&project.workspace);
    let bytes = match std::fs::read(&path) {
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        other => other.map_err(IoError::of("read", &path))?,
    };
    let journal: Option<Journal> = serde_json::from_slice(&bytes).ok();
    let is_sound = |j: &Journal| j.r#type == JOURNAL && j.sandboxes.iter().all(|name| is_plain(name));
    match journal.filter(is_sound) {
        Some(journal) => Ok(Some(journal)),
        None => Err(EraseError::Journal(path)),
    }
}

/// Whether a name is one of a folder right there.
fn is_plain(name: &str) -> bool {
    ProjectPath::listed(name).is_ok() && !name.contains('/')
}

/// Nobody runs anything that could be reading the rows.
fn must_be_quiet(project: &Project) -> Result<(), EraseError> {
    let mut at_work = live_runs(&project.workspace.runs_folder());
    // A job at a place may still read what is to go.
    let unattended = crate::pipeline::exec::unattended_runs(project).unwrap_or_default();
    at_work.extend(unattended.into_iter().map(|run| run.draft.run));
    let sandboxes = project.workspace.sandboxes_folder();
    at_work.extend(names_in(&sandboxes).into_iter().filter(|name| is_rebuilding(&sandboxes.join(name))));
    match at_work.is_empty() {
        true => Ok(()),
        false => Err(EraseError::AtWork(at_work)),
    }
}

/// Erases rows, and all that was made of them. Where there are none, it is given back what was found.
pub fn erase(project: &mut Project, asked: &Asked, by: &Identity) -> Result<Result<Box<Erased>, Found>, EraseError> {
    crate::pipeline::exec::tree_is_free(project)?;
    let _tree = project.workspace.lock_tree(&format!("erasing rows of {}", asked.dataset))?;
    for _ in 0..TRIES {
        must_be_quiet(project)?;
        project.ledger.catch_up(&project.store)?;
        let known = versions(&project.ledger, &asked.dataset)?;
        let found = find(project, asked)?;
        if found.is_empty() {
            return Ok(Err(found));
        }
        let next = put_next(project, asked, &found)?;
        let packs = packs_of(project)?;
        project.ledger.catch_up(&project.store)?;
        if versions(&project.ledger, &asked.dataset)? != known {
            continue;
        }
        let mut plan = plan(project, asked, &found)?;
        if let Some(next) = &next {
            // It shares most of its pieces with what goes.
            let pieces = project.store.pieces_of(&next.content.digest)?.unwrap_or_default();
            for piece in pieces {
                plan.dropping.entries.remove(&piece.digest);
            }
        }
        let now = textum_base::clock::now().to_string();
        let number = next_number(project, asked, &found)?;
        let said = EraseReceipt {
            r#type: ERASE_RECEIPT.to_string(),
            erased: now.clone(),
            by: by.to_string(),
            because: asked.because.clone(),
            dataset: asked.dataset.clone(),
            columns: plan.columns.clone(),
            versions: found
                .versions
                .iter()
                .map(|v| (v.version.number.to_string(), ErasedVersion { digest: v.version.content.digest, rows: v.rows }))
                .collect(),
            contents: plan.contents.clone(),
            next: number,
            published: plan.impact.versions.iter().map(|v| v.version.clone()).collect(),
            left: plan.left.clone(),
            follows: None,
        };
        let mut documents = vec![said_text(&said)?];
        let receipt = Digest::of(documents[0].as_bytes());
        if let (Some(next), Some(number)) = (&next, number)
            && known.iter().all(|v| v.content.digest != next.content.digest)
        {
            documents.push(data_text(project, asked, next, number, by, &now, found.next.as_ref().map(|n| n.kept))?);
        }
        let depots = project.depots.declared().iter().map(|d| d.name.clone()).collect();
        let journal = journal_of(&plan, documents, next, depots, receipt);
        if let Some((freed, changed)) = begin(project, &packs, &journal)? {
            return Ok(Ok(Box::new(Erased { plan, found, receipt, said, freed, changed })));
        }
    }
    Err(EraseError::Unsteady)
}

/// What would go here, if what somebody else has erased were followed. Nothing is changed.
pub fn plan_to_follow(project: &Project, receipt: &Digest) -> Result<ErasePlan, EraseError> {
    let theirs = EraseReceipt::load(&project.store, receipt)?;
    plan_of(project, &Forgetting::of_receipt(&theirs), &HashSet::new())
}

/// Does here what somebody else has erased, with what was made of it here. Gives nothing where nothing of it is here.
pub fn follow(project: &mut Project, receipt: &Digest, by: &Identity) -> Result<Option<Erased>, EraseError> {
    crate::pipeline::exec::tree_is_free(project)?;
    let _tree = project.workspace.lock_tree("erasing what others have erased")?;
    let theirs = EraseReceipt::load(&project.store, receipt)?;
    for _ in 0..TRIES {
        must_be_quiet(project)?;
        let packs = packs_of(project)?;
        project.ledger.catch_up(&project.store)?;
        let mut plan = plan_of(project, &Forgetting::of_receipt(&theirs), &HashSet::new())?;
        // What they have said already need not be said once more.
        let more: BTreeMap<Digest, u64> =
            plan.contents.iter().filter(|(d, _)| !theirs.contents.contains_key(*d)).map(|(d, s)| (*d, *s)).collect();
        if plan.dropping.entries.is_empty() && plan.places.tree.is_empty() && more.is_empty() {
            Pending::add(&project.workspace, receipt, &[])?;
            return Ok(None);
        }
        plan.columns.clone_from(&theirs.columns);
        let said = EraseReceipt {
            erased: textum_base::clock::now().to_string(),
            by: by.to_string(),
            contents: more,
            next: None,
            left: plan.left.clone(),
            follows: Some(*receipt),
            ..theirs.clone()
        };
        let documents = vec![said_text(&said)?];
        let own = Digest::of(documents[0].as_bytes());
        let depots = project.depots.declared().iter().map(|d| d.name.clone()).collect();
        let journal = journal_of(&plan, documents, None, depots, own);
        if let Some((freed, changed)) = begin(project, &packs, &journal)? {
            Pending::add(&project.workspace, receipt, &[])?;
            return Ok(Some(Erased { plan, found: Found::default(), receipt: own, said, freed, changed }));
        }
    }
    Err(EraseError::Unsteady)
}

fn said_text(said: &EraseReceipt) -> Result<String, EraseError> {
    Ok(String::from_utf8_lossy(&canonical(said)?).into_owned())
}

fn data_text(
    project: &Project,
    asked: &Asked,
    next: &Place,
    number: u64,
    by: &Identity,
    now: &str,
    rows: Option<u64>,
) -> Result<String, EraseError> {
    let receipt = DataReceipt {
        r#type: DATA_RECEIPT.to_string(),
        dataset: asked.dataset.clone(),
        number,
        path: next.path.clone().into(),
        content: next.content.clone(),
        hold: StorageMode::Store,
        rows,
        recorded: now.to_string(),
        by: by.to_string(),
        note: Some(format!("without rows that were erased: {}", asked.because)),
        git: crate::project::git::git_state(project.workspace.root()),
    };
    Ok(String::from_utf8_lossy(&canonical(&receipt)?).into_owned())
}

/// The number of the version without the rows.
fn next_number(project: &Project, asked: &Asked, found: &Found) -> Result<Option<u64>, EraseError> {
    let Some(next) = &found.next else { return Ok(None) };
    let known = versions(&project.ledger, &asked.dataset)?;
    let same = known.iter().find(|v| v.content.digest == next.content.digest).map(|v| v.number);
    Ok(Some(same.unwrap_or_else(|| known.iter().map(|v| v.number).max().unwrap_or(0) + 1)))
}

/// Takes the file without the rows into the store: nothing speaks of it yet.
fn put_next(project: &Project, asked: &Asked, found: &Found) -> Result<Option<Place>, EraseError> {
    let Some(next) = &found.next else { return Ok(None) };
    let writer = project.store.writer()?;
    let put = writer.put_file(&next.file)?;
    writer.publish()?;
    let content = Content { digest: put.digest, ..next.content.clone() };
    Ok(Some(Place { dataset: asked.dataset.clone(), path: next.path.clone(), was: next.in_tree, content }))
}

fn journal_of(plan: &ErasePlan, documents: Vec<String>, place: Option<Place>, depots: Vec<String>, receipt: Digest) -> Journal {
    Journal {
        r#type: JOURNAL.to_string(),
        documents,
        entries: plan.dropping.entries.iter().copied().collect(),
        outlines: plan.dropping.forgotten.iter().copied().collect(),
        contents: plan.contents.keys().copied().collect(),
        tree: plan.places.tree.clone(),
        aside: plan.places.aside.clone(),
        sandboxes: plan.places.sandboxes.clone(),
        place,
        depots,
        receipt,
    }
}

fn packs_of(project: &Project) -> Result<BTreeSet<Digest>, EraseError> {
    Ok(project.store.packs()?.into_iter().collect())
}

/// Writes the journal, with nobody else at the store, and does what it says; nothing where others have recorded something
/// since it was planned.
fn begin(project: &mut Project, packs: &BTreeSet<Digest>, journal: &Journal) -> Result<Option<(Freed, Vec<String>)>, EraseError> {
    let done = {
        let alone = project.store.alone()?;
        alone.finish_dropping()?;
        // One that began meanwhile has its reads in the store by now, and may be reading the rows.
        must_be_quiet(project)?;
        // Whatever came or went since it was planned may need what was to go.
        if packs_of(project)? != *packs {
            return Ok(None);
        }
        write_journal(project, journal)?;
        carry_out(project, &alone, journal)?
    };
    project.ledger.catch_up(&project.store)?;
    // From now on none of it is fetched.
    project.forget_erased()?;
    project.save_looks();
    Ok(Some(done))
}

/// Finishes what was cut off, if anything was; whether something was.
pub fn finish(project: &mut Project) -> Result<bool, EraseError> {
    if !is_cut_off(&project.workspace) {
        return Ok(false);
    }
    crate::pipeline::exec::tree_is_free(project)?;
    let _tree = project.workspace.lock_tree("finishing an erasing that was cut off")?;
    {
        let alone = project.store.alone()?;
        alone.finish_dropping()?;
        // Somebody else may have been there first.
        let Some(journal) = read_journal(project)? else { return Ok(false) };
        carry_out(project, &alone, &journal)?;
    }
    project.ledger.catch_up(&project.store)?;
    // From now on none of it is fetched.
    project.forget_erased()?;
    project.save_looks();
    Ok(true)
}

/// Each step may be done once more.
fn carry_out(project: &Project, alone: &Alone<'_>, journal: &Journal) -> Result<(Freed, Vec<String>), EraseError> {
    let store = &project.store;
    let mut changed = Vec::new();
    let tree = TreeDir::open(project.workspace.root())?;
    if let Some(place) = &journal.place {
        changed.extend(put_in_place(project, &tree, place)?);
    }
    for path in &journal.tree {
        let now = project.scanner.look(path)?;
        match now {
            Some(now) if journal.contents.contains(&now.digest) => tree.remove(path)?,
            Some(_) => changed.push(path.to_string()),
            None => {}
        }
    }
    tell_in_tree(project, journal)?;
    let state = project.workspace.state();
    if !journal.aside.is_empty() {
        let aside = TreeDir::open(&project.workspace.aside_folder())?;
        for path in &journal.aside {
            aside.remove(path)?;
            let folders: Vec<usize> = path.match_indices('/').map(|(at, _)| at).collect();
            folders.iter().rev().filter_map(|at| ProjectPath::listed(&path[..*at]).ok()).for_each(|f| aside.remove_if_empty(&f));
        }
    }
    for name in &journal.sandboxes {
        fsio::remove_any(&project.workspace.sandboxes_folder().join(name))?;
    }
    // Halves of what dead processes were writing may hold anything.
    fsio::remove_any(&state.join("incoming"))?;
    fsio::remove_any(&store.damaged_folder())?;
    let mut documents = Vec::new();
    for document in &journal.documents {
        if !store.contains_document(&Digest::of(document.as_bytes()))? {
            documents.push(document.clone().into_bytes());
        }
    }
    let dropping = GcPlan {
        entries: journal.entries.iter().copied().collect(),
        outlines: Vec::new(),
        forgotten: journal.outlines.iter().copied().collect(),
    };
    let freed = alone.drop_content(&dropping, &documents)?;
    Pending::add(&project.workspace, &journal.receipt, &journal.depots)?;
    fsio::remove_any(&journal_path(&project.workspace))?;
    fsio::sync_folder(store.folder())?;
    Ok((freed, changed))
}

/// Puts the file without the rows where the one with them stands; what stands there otherwise than it was looked at stays.
fn put_in_place(project: &Project, tree: &TreeDir, place: &Place) -> Result<Option<String>, EraseError> {
    let Some(was) = place.was else { return Ok(None) };
    match project.scanner.look(&place.path)? {
        Some(now) if now.digest == place.content.digest => Ok(None),
        Some(now) if now.digest == was => {
            let scratch = tree.scratch()?;
            write_new(&project.store, &place.content, scratch.dir(), &place.path)?;
            // What it takes the place of cannot be had again.
            OutFile::of(scratch.dir().open_file(&place.path)?, &scratch.dir().full(&place.path)).sync()?;
            scratch.dir().rename(&place.path, tree, &place.path)?;
            fsio::sync_folder(tree.full(&place.path).parent().unwrap_or(tree.path()))?;
            Ok(None)
        }
        _ => Ok(Some(place.path.to_string())),
    }
}

/// The tree's receipt no longer speaks of what has gone.
fn tell_in_tree(project: &Project, journal: &Journal) -> Result<(), EraseError> {
    let root = project.workspace.root();
    let Some(mut receipt) = TreeReceipt::load(root)? else { return Ok(()) };
    if let Some(place) = journal.place.as_ref().filter(|p| p.was.is_some()) {
        let state = DatasetState { path: place.path.clone().into(), content: place.content.clone(), hold: StorageMode::Store };
        receipt.data.insert(place.dataset.clone(), state);
    }
    receipt.data.retain(|_, state| !journal.contents.contains(&state.content.digest));
    receipt.stages.retain(|_, stage| stage.writes.values().all(|content| !journal.contents.contains(&content.digest)));
    if receipt.run.as_deref().is_some_and(is_run_id) && receipt.stages.is_empty() {
        receipt.run = None;
    }
    Ok(receipt.save(root)?)
}
