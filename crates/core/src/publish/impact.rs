//! What was made of something: executions, runs, published versions, the aliases that name them, predictions.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

use rayon::prelude::*;
use serde::Serialize;
use textum_base::Digest;
use textum_depot::{Depot, DepotOptions};
use textum_registry::{Bundle, Registry};

use super::{Home, Place, PublishError, Seeds};
use crate::project::workspace::Project;
use crate::record::ledger::Ledger;
use crate::record::receipt::{ObservedInputs, Read, StageReceipt, files_in};
use crate::store::Store;

/// A run that has a result that is touched.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct TouchedRun {
    /// The project.
    pub project: String,
    /// The run.
    pub run: String,
    /// The stages whose results are touched.
    pub stages: Vec<String>,
}

/// A published version that is touched.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct TouchedVersion {
    /// `NAME@V`.
    pub version: String,
    /// The aliases that name it.
    pub aliases: Vec<String>,
    /// Whether it is retired.
    pub retired: bool,
    /// The project and run that it comes from.
    pub run: Option<(String, String)>,
}

/// Something that was made with a published version that is touched.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
pub struct TouchedPrediction {
    /// The project.
    pub project: String,
    /// Where it was written.
    pub path: String,
    /// Its digest.
    pub digest: Digest,
    /// By which version.
    pub by: String,
    /// In which run.
    pub run: String,
}

/// All that was made of something.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Impact {
    /// What it is about.
    pub target: String,
    /// Versions of datasets that are what it is about, or were made of it.
    pub data: Vec<String>,
    /// Executions.
    pub executions: usize,
    /// Runs.
    pub runs: Vec<TouchedRun>,
    /// Published versions.
    pub versions: Vec<TouchedVersion>,
    /// Predictions.
    pub predictions: Vec<TouchedPrediction>,
    /// Projects of the depot that could not be looked through, and why.
    pub unseen: Vec<(String, String)>,
}

/// One project's receipts, followed downstream.
struct Walk<'w> {
    store: &'w Store,
    ledger: &'w Ledger,
    stops: &'w HashSet<Digest>,
    contents: HashSet<Digest>,
    executions: HashSet<Digest>,
    /// Contents whose readers were not asked for yet, and whether it counts which execution wrote them.
    open: Vec<(Digest, bool)>,
    /// Executions whose results were not looked at yet.
    made: Vec<Digest>,
}

impl Walk<'_> {
    /// A content; `made` by an execution that is touched: others may have come to the same, and are not.
    fn content(&mut self, digest: Digest, made: bool) {
        // Nothing at all is the same everywhere, and comes from nowhere.
        // One that is known is looked at once more for each execution that made it: who read it from that one counts too.
        let is_followed = digest != Digest::of(b"") && !self.stops.contains(&digest);
        if is_followed && (self.contents.insert(digest) || made) {
            self.open.push((digest, made));
        }
    }

    fn execution(&mut self, receipt: Digest) {
        if self.executions.insert(receipt) {
            self.made.push(receipt);
        }
    }

    fn go(&mut self) -> Result<(), PublishError> {
        // What a folder holds is asked for once; then as long as something new is found.
        let mut folders: Option<HashMap<Digest, Vec<Digest>>> = None;
        loop {
            self.follow()?;
            let folders = match &mut folders {
                Some(folders) => folders,
                None => folders.insert(self.folders()?),
            };
            let holding: Vec<Digest> = folders
                .iter()
                .filter(|(folder, items)| !self.contents.contains(*folder) && items.iter().any(|i| self.contents.contains(i)))
                .map(|(folder, _)| *folder)
                .collect();
            holding.iter().for_each(|folder| self.content(*folder, true));
            for receipt in self.gone_on()? {
                self.execution(receipt);
            }
            if self.open.is_empty() && self.made.is_empty() {
                return Ok(());
            }
        }
    }

    /// From contents to who read them, and on to what those made.
    fn follow(&mut self) -> Result<(), PublishError> {
        loop {
            if !self.made.is_empty() {
                let receipts: HashSet<Digest> = std::mem::take(&mut self.made).into_iter().collect();
                for (digest, is_folder) in self.ledger.made_by(&receipts)? {
                    self.content(digest, true);
                    if is_folder {
                        // A part of it may be read by itself.
                        files_in(self.store, &digest).into_iter().for_each(|d| self.content(d, true));
                    }
                }
                if self.ledger.has_checkpoints()? {
                    for row in self.ledger.executions(&receipts)? {
                        for digest in self.ledger.checkpoint_contents(&row.run, &row.stage)? {
                            self.content(digest, true);
                        }
                    }
                }
            } else if self.open.is_empty() {
                return Ok(());
            } else {
                let mut candidates: HashMap<Digest, bool> = HashMap::new();
                let mut open: HashMap<Digest, bool> = HashMap::new();
                std::mem::take(&mut self.open).into_iter().for_each(|(digest, made)| *open.entry(digest).or_insert(true) &= made);
                for (digest, reader) in self.ledger.readers_of(&open.keys().copied().collect())? {
                    if !self.executions.contains(&reader) {
                        *candidates.entry(reader).or_insert(true) &= open.get(&digest).is_none_or(|made| *made);
                    }
                }
                for receipt in self.readers_that_count(candidates) {
                    self.execution(receipt);
                }
            }
        }
    }

    /// Of executions that read a content that is touched, those that read it as it was made by a touched one, or as a source.
    fn readers_that_count(&self, candidates: HashMap<Digest, bool>) -> Vec<Digest> {
        let (store, contents, executions) = (self.store, &self.contents, &self.executions);
        let counts = |(digest, made): &(Digest, bool)| {
            // What cannot be read is not left out.
            let Some(receipt) = made.then(|| StageReceipt::load(store, digest).ok()).flatten() else { return true };
            let touched = |read: &Read| read.by.is_empty() || read.by.iter().any(|by| executions.contains(by));
            receipt.reads.iter().chain(&receipt.versions).any(|read| contents.contains(&read.at.content.digest) && touched(read))
        };
        candidates.into_par_iter().filter(counts).map(|(digest, _)| digest).collect()
    }

    fn folders(&self) -> Result<HashMap<Digest, Vec<Digest>>, PublishError> {
        let all = self.ledger.folders()?;
        let store = self.store;
        Ok(all.into_par_iter().map(|folder| (folder, files_in(store, &folder))).collect())
    }

    /// Executions that went on from a checkpoint that is touched.
    fn gone_on(&self) -> Result<Vec<Digest>, PublishError> {
        let all = self.ledger.executions_with_checkpoints()?;
        let (store, contents, known) = (self.store, &self.contents, &self.executions);
        let fits = |digest: &Digest| {
            let receipt = StageReceipt::load(store, digest).ok();
            receipt.and_then(|r| r.from).is_some_and(|from| contents.contains(&from.content.digest))
        };
        Ok(all.into_par_iter().filter(|digest| !known.contains(digest) && fits(digest)).collect())
    }
}

/// Executions that were seen to read one of these contents without declaring it.
fn undeclared(store: &Store, ledger: &Ledger, contents: &HashSet<Digest>) -> Result<Vec<Digest>, PublishError> {
    let all = ledger.undeclared_readers()?;
    let inputs: BTreeSet<Digest> = all.iter().map(|(_, inputs)| *inputs).collect();
    let reads = |digest: &Digest| {
        let files = ObservedInputs::load(store, digest).ok().and_then(|inputs| inputs.project_files(store).ok());
        files.is_some_and(|files| files.iter().any(|f| contents.contains(&f.digest)))
    };
    let reading: HashSet<Digest> = inputs.into_par_iter().filter(reads).collect();
    Ok(all.into_iter().filter(|(_, inputs)| reading.contains(inputs)).map(|(receipt, _)| receipt).collect())
}

/// What a look at one project found.
struct Look {
    contents: HashSet<Digest>,
    executions: HashSet<Digest>,
    runs: Vec<TouchedRun>,
    data: Vec<String>,
}

fn look((name, store, ledger): Looked<'_>, seeds: &Seeds) -> Result<Look, PublishError> {
    let mut walk = Walk {
        store,
        ledger,
        stops: &seeds.stops,
        contents: HashSet::new(),
        executions: HashSet::new(),
        open: Vec::new(),
        made: Vec::new(),
    };
    seeds.contents.iter().for_each(|d| walk.content(*d, false));
    seeds.executions.iter().for_each(|d| walk.execution(*d));
    undeclared(store, ledger, &seeds.contents)?.into_iter().for_each(|d| walk.execution(d));
    walk.go()?;
    let mut runs: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    let mut stages: HashMap<Digest, String> = HashMap::new();
    for row in ledger.executions(&walk.executions)? {
        runs.entry(row.run).or_default().insert(row.stage.clone());
        stages.insert(row.receipt, row.stage);
    }
    for (receipt, run) in ledger.runs_with_results(&walk.executions)? {
        if let Some(stage) = stages.get(&receipt) {
            runs.entry(run).or_default().insert(stage.clone());
        }
    }
    let data = ledger.versions_with(&walk.contents)?.into_iter().map(|(dataset, number)| format!("{dataset}@{number}")).collect();
    let touched = |(run, stages): (String, BTreeSet<String>)| TouchedRun {
        project: name.to_string(),
        run,
        stages: stages.into_iter().collect(),
    };
    let runs = runs.into_iter().map(touched).collect();
    Ok(Look { contents: walk.contents, executions: walk.executions, runs, data })
}

/// A project that is looked through: its name, and what is known of it.
type Looked<'p> = (&'p str, &'p Store, &'p Ledger);

/// Looks through projects, of which the first is where it begins. What one makes of it another may use, and the first again
/// what that makes: each is looked through once more as long as others have come up with something that is new to it.
fn look_at_all(projects: &[Looked<'_>], seeds: &Seeds) -> Result<Vec<Look>, PublishError> {
    let mut looks: Vec<Option<Look>> = projects.iter().map(|_| None).collect();
    let mut given: Vec<HashSet<Digest>> = vec![seeds.contents.clone(); projects.len()];
    loop {
        let mut is_over = true;
        for (at, project) in projects.iter().enumerate() {
            let known = looks[at].as_ref().map(|look| &look.contents);
            let others = looks.iter().enumerate().filter(|(other, _)| *other != at).filter_map(|(_, look)| look.as_ref());
            let found = others.flat_map(|look| &look.contents);
            let new: HashSet<Digest> = found.filter(|digest| known.is_none_or(|k| !k.contains(*digest))).copied().collect();
            if known.is_some() && new.is_empty() {
                continue;
            }
            is_over = false;
            given[at].extend(new);
            let executions = if at == 0 { seeds.executions.clone() } else { HashSet::new() };
            let seeds = Seeds { contents: given[at].clone(), executions, stops: seeds.stops.clone() };
            looks[at] = Some(look(*project, &seeds)?);
        }
        if is_over {
            return Ok(looks.into_iter().flatten().collect());
        }
    }
}

/// Whatever executions made with a published version that is touched.
fn predictions(name: &str, store: &Store, executions: &HashSet<Digest>, versions: &HashSet<String>, impact: &mut Impact) {
    if versions.is_empty() {
        return;
    }
    let found: Vec<TouchedPrediction> = executions
        .par_iter()
        .filter_map(|digest| StageReceipt::load(store, digest).ok())
        .flat_map_iter(|receipt| {
            let by = receipt.reads.iter().find_map(|r| r.published.clone()).filter(|by| versions.contains(by));
            let make = |o: &crate::record::receipt::PathContent, by: &String| TouchedPrediction {
                project: name.to_string(),
                path: o.path.to_string(),
                digest: o.content.digest,
                by: by.clone(),
                run: receipt.run.clone(),
            };
            by.iter().flat_map(|by| receipt.outputs().map(|o| make(o, by)).collect::<Vec<_>>()).collect::<Vec<_>>()
        })
        .collect();
    impact.predictions.extend(found);
}

/// Another project of a depot, with its receipts for as long as it takes.
pub struct Other {
    /// Its name.
    pub name: String,
    /// Its receipts; content comes from the depot.
    pub store: Store,
    /// What they say.
    pub ledger: Ledger,
    /// The depot, opened as that project's.
    pub depot: Depot,
    _folder: tempfile::TempDir,
}

/// All that was made of something, and by what in this project.
pub struct Downstream {
    /// What is told of it.
    pub impact: Impact,
    /// What was made in this project.
    pub own: Reached,
}

/// What was made of something in a project.
#[derive(Default)]
pub struct Reached {
    /// Contents, those that it began with among them.
    pub contents: HashSet<Digest>,
    /// Executions, by their receipts.
    pub executions: HashSet<Digest>,
}

/// All that was made of something, in this project and in others that share its depot.
pub fn impact(project: &Project, place: Option<(&Place, &Registry)>, target: &str, seeds: &Seeds) -> Result<Impact, PublishError> {
    Ok(downstream(project, place, target, seeds)?.impact)
}

/// Whether a published version was made of contents that it began with, or by executions that were reached.
pub fn is_made_of(bundle: &Bundle, seeds: &Seeds, contents: &HashSet<Digest>, executions: &HashSet<Digest>) -> bool {
    // Others may have come to the same files; which executions made these, a version says.
    bundle.files.iter().any(|f| seeds.contents.contains(&f.digest))
        || bundle.data.values().any(|d| contents.contains(&d.digest))
        || bundle.run.iter().flat_map(|r| r.stages.values()).any(|receipt| executions.contains(receipt))
}

/// The same, with what it was made by.
pub fn downstream(
    project: &Project,
    place: Option<(&Place, &Registry)>,
    target: &str,
    seeds: &Seeds,
) -> Result<Downstream, PublishError> {
    let mut impact = Impact { target: target.to_string(), ..Impact::default() };
    let mut others: Vec<Other> = Vec::new();
    if let Some((Place { home: Home::Depot(depot), .. }, _)) = place {
        others = others_of(project, depot, &mut impact.unseen)?;
    }
    let looks = look_at_all(&all_of(project, &others), seeds)?;
    impact.data.extend(looks.first().iter().flat_map(|own| own.data.clone()));
    impact.executions = looks.iter().map(|look| look.executions.len()).sum();
    impact.runs.extend(looks.iter().flat_map(|look| look.runs.clone()));
    let contents: HashSet<Digest> = looks.iter().flat_map(|look| look.contents.iter().copied()).collect();
    let executions: HashSet<Digest> = looks.iter().flat_map(|look| look.executions.iter().copied()).collect();
    let mut versions = HashSet::new();
    if let Some((_, registry)) = place {
        for (name, model, version) in registry.versions() {
            let bundle = &version.publication.bundle;
            if is_made_of(bundle, seeds, &contents, &executions) {
                let number = version.publication.version;
                versions.insert(format!("{name}@{number}"));
                impact.versions.push(TouchedVersion {
                    version: format!("{name}@{number}"),
                    aliases: model.aliases_of(number).into_iter().map(str::to_string).collect(),
                    retired: version.retired.is_some(),
                    run: bundle.run.as_ref().map(|r| (r.project.clone(), r.run.clone())),
                });
            }
        }
    }
    for ((name, store, _), look) in all_of(project, &others).iter().zip(&looks) {
        predictions(name, store, &look.executions, &versions, &mut impact);
    }
    impact.data.sort();
    impact.data.dedup();
    impact.runs.sort();
    impact.predictions.sort();
    impact.predictions.dedup();
    let own = looks.into_iter().next().map(Reached::from).unwrap_or_default();
    Ok(Downstream { impact, own })
}

fn all_of<'p>(project: &'p Project, others: &'p [Other]) -> Vec<Looked<'p>> {
    let mut projects: Vec<Looked<'_>> = vec![(&project.manifest.name, &project.store, &project.ledger)];
    projects.extend(others.iter().map(|other| (other.name.as_str(), &other.store, &other.ledger)));
    projects
}

/// The other projects of a depot; those that cannot be looked through are told with the reason.
pub fn others_of(project: &Project, depot: &Depot, unseen: &mut Vec<(String, String)>) -> Result<Vec<Other>, PublishError> {
    let mut others = Vec::new();
    for name in depot.projects()?.into_iter().filter(|name| *name != project.manifest.name) {
        match receipts_of(project, depot, &name) {
            Ok(other) => others.push(other),
            Err(e) => unseen.push((name, e.to_string())),
        }
    }
    Ok(others)
}

/// What was made of something in this project, and in each of the others.
pub fn reached(project: &Project, others: &[Other], seeds: &Seeds) -> Result<Vec<Reached>, PublishError> {
    Ok(look_at_all(&all_of(project, others), seeds)?.into_iter().map(Reached::from).collect())
}

impl From<Look> for Reached {
    fn from(look: Look) -> Reached {
        Reached { contents: look.contents, executions: look.executions }
    }
}

/// The receipts of another project of the depot, in a store of their own for as long as it takes.
fn receipts_of(project: &Project, depot: &Depot, name: &str) -> Result<Other, PublishError> {
    let folder = tempfile::tempdir().map_err(crate::fsio::IoError::of("make a folder in", &std::env::temp_dir()))?;
    let options = DepotOptions {
        name: depot.name().to_string(),
        at: depot.at().to_string(),
        project: name.to_string(),
        // What was received is gone with the folder: so must be what is known of it.
        state: folder.path().join("depots"),
        jobs: crate::project::depots::JOBS,
        interrupt: project.depots.interrupt().clone(),
    };
    let depot = Depot::open(depot.storage().clone(), options)?;
    let store = Store::open(&folder.path().join("store"));
    depot.refresh()?;
    depot.receive(&store, &mut |_| ())?;
    store.reload()?;
    let ledger = Ledger::in_memory()?;
    ledger.catch_up(&store)?;
    // Listings come when they are asked for.
    store.set_source(project.depots.clone());
    Ok(Other { name: name.to_string(), store, ledger, depot, _folder: folder })
}
