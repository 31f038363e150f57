//! What goes when rows are forgotten, and what is left.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use textum_base::is_within;
use textum_registry::Registry;

use super::EraseError;
use super::find::{Asked, Found, columns_of};
use super::forgotten::{Forgotten, Given, GivenAs};
use super::places::{Places, Wanted, places};
use super::traces::{Rows, in_store, in_tree};
use crate::config::manifest::overlap;
use crate::maintain::upkeep::{Inventory, Live};
use crate::project::git::was_committed;
use crate::project::workspace::Project;
use crate::publish::{Downstream, Impact, Place, Seeds, downstream};
use crate::record::receipt::{Content, ContentKind, EraseReceipt, LeftKind, LeftOver, StorageMode, files_in};
use crate::store::{Digest, GcPlan, Kind, items_of_listing};

pub use super::forgotten::GivenAs as GoesAs;

/// A content that goes.
#[derive(Clone, Debug)]
pub struct Goes {
    /// As what it was known.
    pub given: GivenAs,
    /// Where it stood; empty where it stood nowhere.
    pub path: String,
    /// The run that it is of, where it is of one.
    pub run: Option<String>,
    /// What it was.
    pub digest: Digest,
}

/// What would go.
pub struct ErasePlan {
    /// The columns that the condition looks at.
    pub columns: Vec<String>,
    /// What was made of the rows.
    pub impact: Impact,
    /// What goes, each content once.
    pub goes: Vec<Goes>,
    /// All contents that go, files of folders too, with their sizes in bytes.
    pub contents: BTreeMap<Digest, u64>,
    /// Bytes by which packs become smaller, at most: the dataset without the rows needs some of them.
    pub frees: u64,
    /// Files outside the store that go.
    pub places: Places,
    /// What may still hold such rows afterwards.
    pub left: Vec<LeftOver>,
    /// Why the registry could not be asked, where it could not.
    pub no_registry: Option<String>,
    /// What leaves the store.
    pub(super) dropping: GcPlan,
}

/// The registry of a project, or why it cannot be asked.
fn registry_of(project: &Project) -> Result<(Place, Registry), String> {
    let place = Place::of_project(project, None).map_err(|e| e.to_string())?;
    let registry = place.registry().map_err(|e| e.to_string())?;
    Ok((place, registry))
}

/// Collects contents with their sizes.
struct Contents<'p> {
    project: &'p Project,
    live: Live<'p>,
    /// Everything that a given-up content is stored in.
    entries: HashSet<Digest>,
    contents: BTreeMap<Digest, u64>,
    outlines: HashSet<Digest>,
}

impl Contents<'_> {
    /// A content that is given up; whether it goes.
    fn take(&mut self, digest: Digest, kind: ContentKind, size: u64) -> Result<bool, EraseError> {
        let store = &self.project.store;
        if self.live.entries.contains(&digest) || digest == Digest::of(b"") {
            return Ok(false);
        }
        let mut own = Live::new(store);
        own.content(&Content { kind, ..Content::file(digest, size) })?;
        self.entries.extend(own.entries.iter().filter(|e| !self.live.entries.contains(*e)));
        let size = if size > 0 { size } else { store.size_of(&digest).unwrap_or(0) };
        self.contents.entry(digest).or_insert(size);
        if kind == ContentKind::Folder {
            self.outlines.insert(digest);
            if let Ok(listing) = store.listing(&digest) {
                for item in items_of_listing(store, &digest, &listing)? {
                    if let Some(file) = item.digest.filter(|d| !self.live.entries.contains(d) && *d != Digest::of(b"")) {
                        self.contents.entry(file).or_insert(item.size);
                    }
                }
            }
        }
        Ok(true)
    }
}

/// Whether a model of the manifest lies at a path.
pub(super) fn is_model(project: &Project, path: &str) -> bool {
    project.manifest.models.iter().flat_map(|model| &model.files).any(|file| overlap(file, path))
}

/// What goes with these versions, and everything that was made of them. Nothing is changed.
pub fn plan(project: &Project, asked: &Asked, found: &Found) -> Result<ErasePlan, EraseError> {
    let columns = columns_of(asked)?;
    let sources: HashSet<Digest> = found.versions.iter().map(|v| v.version.content.digest).collect();
    let seeds = Seeds { contents: sources.clone(), ..Seeds::default() };
    let forgetting = Forgetting { sources, seeds, keep_models: asked.keep_models, ..Forgetting::default() };
    let mut plan = plan_of(project, &forgetting, &found.rows)?;
    plan.columns = columns;
    let references = found.versions.iter().filter(|v| v.version.hold == StorageMode::Reference);
    plan.left
        .extend(references.map(|v| LeftOver::new(LeftKind::Reference, v.version.path.as_str(), Some(v.version.content.digest))));
    plan.left.extend(found.unread.iter().map(|(name, _)| LeftOver::new(LeftKind::Unread, name, None)));
    let paths: BTreeSet<&str> = found.versions.iter().map(|v| v.version.path.as_str()).collect();
    let root = project.workspace.root();
    plan.left.extend(paths.into_iter().filter(|p| was_committed(root, p)).map(|p| LeftOver::new(LeftKind::Git, p, None)));
    let known = |path: &str| {
        plan.places.tree.iter().any(|at| is_within(path, at))
            || found.next.as_ref().is_some_and(|n| n.in_tree.is_some() && path == &*n.path)
    };
    plan.left.extend(in_tree(project, &Rows::new(&found.rows), &known));
    plan.left = sorted(plan.left);
    Ok(plan)
}

fn sorted(mut left: Vec<LeftOver>) -> Vec<LeftOver> {
    left.sort();
    left.dedup();
    left
}

/// What is to be forgotten, whoever has said so.
#[derive(Default)]
pub(super) struct Forgetting {
    /// Contents with the rows.
    pub sources: HashSet<Digest>,
    /// Where following begins.
    pub seeds: Seeds,
    /// Contents that are known to have been made of them.
    pub made: HashSet<Digest>,
    /// Models that are known to stay.
    pub models: HashSet<Digest>,
    /// Whether models that are found stay as well.
    pub keep_models: bool,
}

impl Forgetting {
    /// What a receipt says is to be forgotten.
    pub fn of_receipt(said: &EraseReceipt) -> Forgetting {
        let made: HashSet<Digest> = said.contents.keys().copied().collect();
        let models: HashSet<Digest> = said.left.iter().filter(|l| l.kind == LeftKind::Model).filter_map(|l| l.digest).collect();
        Forgetting {
            sources: said.versions.values().map(|v| v.digest).collect(),
            seeds: Seeds { contents: made.clone(), stops: models.clone(), ..Seeds::default() },
            keep_models: !models.is_empty(),
            made,
            models,
        }
    }
}

/// What was made of it, which words of documents no longer count, and why the registry was not asked.
fn reach(
    project: &Project,
    forgetting: &Forgetting,
    all: &Inventory,
) -> Result<(Downstream, Forgotten, Option<String>), EraseError> {
    let store = &project.store;
    let mut seeds = forgetting.seeds.clone();
    let (place, no_registry) = match registry_of(project) {
        Ok(place) => (Some(place), None),
        Err(why) => (None, Some(why)),
    };
    let place = place.as_ref().map(|(p, r)| (p, r));
    let mut reached = downstream(project, place, "", &seeds)?;
    if forgetting.keep_models {
        // What was made with a model that stays has nothing of the rows but by it.
        let made = all.stages.iter().filter(|(d, _)| reached.own.executions.contains(d)).flat_map(|(_, r)| r.outputs());
        for model in made.filter(|o| is_model(project, &o.path)) {
            seeds.stops.insert(model.content.digest);
            if model.content.kind == ContentKind::Folder {
                seeds.stops.extend(files_in(store, &model.content.digest));
            }
        }
        reached = downstream(project, place, "", &seeds)?;
    }
    let mut forgotten = Forgotten { models: forgetting.models.clone(), ..Forgotten::default() };
    let models = |path: &str| is_model(project, path);
    let keeps = forgetting.keep_models.then_some(&models as &dyn Fn(&str) -> bool);
    forgotten.sources.extend(&forgetting.sources);
    forgotten.made.extend(&forgetting.made);
    forgotten.add(store, all, &seeds, &reached.own, keeps)?;
    Ok((reached, forgotten, no_registry))
}

/// The same for contents that are known to have such rows.
pub(super) fn plan_of(project: &Project, forgetting: &Forgetting, rows: &HashSet<Vec<u8>>) -> Result<ErasePlan, EraseError> {
    let store = &project.store;
    let all = Inventory::load(store, &project.ledger)?;
    let (reached, forgotten, no_registry) = reach(project, forgetting, &all)?;
    let mut live = Live::but(store, &forgotten);
    live.all(&all)?;
    let none = || (HashSet::new(), BTreeMap::new(), HashSet::new());
    let (entries, contents, outlines) = none();
    let mut taken = Contents { project, live, entries, contents, outlines };
    let runs: HashMap<&Digest, &str> = all
        .stages
        .iter()
        .map(|(d, r)| (d, r.run.as_str()))
        .chain(all.checkpoints.iter().map(|(d, r)| (d, r.run.as_str())))
        .chain(all.runs.iter().map(|(d, r)| (d, r.run.as_str())))
        .collect();
    let (mut goes, mut met) = (Vec::new(), HashSet::new());
    let mut kept = Vec::new();
    for Given { document, digest, kind, size, given, path } in forgotten.given_up_in(&all) {
        if !met.insert((digest, path.clone())) {
            continue;
        }
        match taken.take(digest, kind, size)? {
            true => goes.push(Goes { given, path, run: runs.get(&document).map(|r| (*r).to_string()), digest }),
            false if given != GivenAs::Log => kept.push(LeftOver::new(LeftKind::Shared, &path, Some(digest))),
            false => {}
        }
    }
    let known: HashSet<Digest> = met.iter().map(|(digest, _)| *digest).collect();
    for digest in forgetting.sources.iter().filter(|d| !known.contains(*d)) {
        taken.take(*digest, ContentKind::File, 0)?;
    }
    // Files that were read without being declared.
    for digest in forgotten.sources.iter().chain(&forgotten.made) {
        if !taken.contents.contains_key(digest) && store.contains(digest)? && !forgotten.models.contains(digest) {
            taken.take(*digest, ContentKind::File, 0)?;
        }
    }
    kept.retain(|k| !k.what.is_empty() && k.digest.is_none_or(|d| d != Digest::of(b"")));
    let model_files = all.stages.iter().flat_map(|(_, r)| r.outputs().filter(|o| forgotten.models.contains(&o.content.digest)));
    kept.extend(model_files.map(|o| LeftOver::new(LeftKind::Model, &o.path, Some(o.content.digest))));
    kept.extend(reached.impact.unseen.iter().map(|(name, _)| LeftOver::new(LeftKind::Project, name, None)));
    let frees = store
        .all_entries()?
        .iter()
        .filter(|(d, kind, _)| matches!(kind, Kind::Chunk | Kind::Parts) && taken.entries.contains(d))
        .map(|(_, _, bytes)| bytes)
        .sum();
    let paths: BTreeSet<&str> = goes.iter().filter(|g| !g.path.is_empty()).map(|g| g.path.as_str()).collect();
    let search = Rows::new(rows);
    kept.extend(in_store(project, &search, &taken.entries)?);
    let own = &project.manifest.name;
    let places = places(
        project,
        &Wanted {
            contents: &taken.contents,
            paths: &paths,
            rows: &search,
            touched: &reached.impact.runs.iter().filter(|r| r.project == *own).map(|r| r.run.as_str()).collect(),
            ended: &all.runs.iter().map(|(_, r)| r.run.as_str()).collect(),
        },
    )?;
    kept.extend(places.left.iter().cloned());
    Ok(ErasePlan {
        columns: Vec::new(),
        impact: reached.impact,
        goes,
        contents: taken.contents,
        frees,
        places,
        left: sorted(kept),
        no_registry,
        dropping: GcPlan { entries: taken.entries, outlines: Vec::new(), forgotten: taken.outlines },
    })
}
