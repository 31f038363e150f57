//! What can be dropped without breaking the promise that every past result can be had again: outputs of
//! old runs that can be rebuilt from what stays. Datasets, code, settings, logs, metrics and receipts stay.

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use textum_base::Identity;

use serde::Serialize;
use textum_base::ProjectPath;

use super::UpkeepError;
use super::inventory::Inventory;
use super::live::Live;
use super::repeatable::{Judge, WhyKept, environment_now, evidence};
use crate::config::manifest::{Better, is_within, overlap};
use crate::project::workspace::Project;
use crate::record::receipt::{
    CheckpointReceipt, ContentKind, GivenUp, PRUNE_RECEIPT, PruneReceipt, Reference, StageState, TreeReceipt, canonical,
};
use crate::store::{Digest, Freed, GcPlan, Kind, StoreError};

/// What is to be kept beside what is always kept.
#[derive(Clone, Debug)]
pub struct PruneOptions {
    /// The newest runs, so many of them.
    pub newest: usize,
    /// These runs.
    pub runs: Vec<String>,
    /// Outputs at or below these paths, of any run.
    pub paths: Vec<String>,
    /// Whether the last outputs of a pipeline, which no stage reads, may go as well.
    pub last_outputs: bool,
    /// Whether checkpoints of old runs may go, but for the last and the best ones of each and those that
    /// something went on from.
    pub checkpoints: bool,
}

/// An output that can be dropped.
#[derive(Clone, Debug, Serialize)]
pub struct Droppable {
    /// The run that brought it forth.
    pub run: String,
    /// The stage.
    pub stage: String,
    /// Its path.
    pub path: String,
    /// Its digest.
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
    /// The stage receipt.
    pub receipt: Digest,
    /// How long the stage took, in seconds.
    pub seconds: f64,
}

/// A scratch folder of a run that has ended.
#[derive(Clone, Debug, Serialize)]
pub struct Scratch {
    /// The run.
    pub run: String,
    /// The folder.
    pub folder: std::path::PathBuf,
    /// Bytes in it.
    pub size: u64,
}

/// What would be dropped.
#[derive(Clone, Debug, Default)]
pub struct PrunePlan {
    /// Outputs that can go.
    pub outputs: Vec<Droppable>,
    /// How many outputs of old runs stay, by the reason.
    pub kept: BTreeMap<WhyKept, u64>,
    /// Runs all of whose outputs stay, and why: `in the working tree`, `labelled`, …
    pub kept_runs: BTreeMap<String, &'static str>,
    /// Entries that no receipt speaks of: left by what was cut off.
    pub unspoken: u64,
    /// Whether runs are at work: what no receipt speaks of may be theirs, and stays.
    pub at_work: bool,
    /// Sandboxes of runs that have ended: what they declare is in the store, the rest is scratch.
    pub sandboxes: Vec<Scratch>,
    /// Bytes that packs would be smaller by.
    pub frees: u64,
    /// Bytes of all packs now.
    pub stored: u64,
    /// What is to be dropped.
    pub dropping: GcPlan,
}

/// The runs whose outputs all stay.
fn kept_runs(
    project: &Project,
    all: &Inventory,
    options: &PruneOptions,
    plan: &mut PrunePlan,
) -> Result<HashSet<Digest>, UpkeepError> {
    let mut why: BTreeMap<String, &'static str> = BTreeMap::new();
    let mut ids: Vec<(&str, &str)> = all.runs.iter().map(|(_, r)| (r.started.as_str(), r.run.as_str())).collect();
    ids.sort_unstable();
    for (_, id) in ids.iter().rev().take(options.newest) {
        why.insert((*id).to_string(), "among the newest");
    }
    for (name, better) in &project.manifest.metrics {
        if let Some(id) = project.ledger.best_run(name, *better == Better::Higher)? {
            why.insert(id, "the best by a metric");
        }
    }
    for (_, run) in &all.runs {
        // A label may have been given after the run.
        if project.ledger.label_of(&run.run)?.is_some() {
            why.insert(run.run.clone(), "labelled");
        }
    }
    for name in &options.runs {
        why.insert(project.ledger.resolve_run(name, &project.manifest.metrics)?, "named");
    }
    let mut receipts: HashSet<Digest> = HashSet::new();
    if let Some(tree) = TreeReceipt::load(project.workspace.root())? {
        receipts.extend(tree.stages.values().map(|s| s.receipt));
        why.extend(tree.run.map(|run| (run, "in the working tree")));
    }
    let kept = all.runs.iter().filter(|(_, r)| why.contains_key(&r.run));
    receipts.extend(kept.flat_map(|(_, r)| r.stages.iter().filter_map(|s| s.receipt)));
    // An execution whose run has no receipt belongs to a run that is still at work.
    let ended: HashSet<&str> = all.runs.iter().map(|(_, r)| r.run.as_str()).collect();
    receipts.extend(all.stages.iter().filter(|(_, r)| !ended.contains(r.run.as_str())).map(|(d, _)| *d));
    plan.kept_runs = why;
    Ok(receipts)
}

/// Whether runs are at work, or were cut off and not yet closed.
fn has_runs(folder: &std::path::Path) -> bool {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    entries.into_iter().any(|e| !e.file_name().to_string_lossy().starts_with('.'))
}

/// Finds out what can be dropped. Nothing is changed.
pub fn plan_prune(project: &Project, all: &Inventory, options: &PruneOptions) -> Result<PrunePlan, UpkeepError> {
    let _here = project.store.only_here();
    let mut plan = PrunePlan { at_work: has_runs(&project.workspace.runs_folder()), ..PrunePlan::default() };
    let kept = kept_runs(project, all, options, &mut plan)?;
    let mut judge = Judge {
        project,
        receipts: all.stages.iter().map(|(d, r)| (*d, r)).collect(),
        evidence: evidence(all),
        environment: environment_now(project),
        check: project.observed_check(),
        known: HashMap::new(),
    };
    // What is read by a later stage, by the key of its writer: whichever run that was in, and whichever of
    // several executions it was had from.
    let mut read: HashMap<Digest, BTreeSet<&str>> = HashMap::new();
    for at in all.stages.iter().flat_map(|(_, r)| &r.reads) {
        for writer in at.by.iter().filter_map(|by| judge.receipts.get(by)) {
            read.entry(writer.key).or_default().insert(at.at.path.as_str());
        }
    }
    let is_read = |key: &Digest, path: &str| read.get(key).is_some_and(|paths| paths.iter().any(|at| overlap(at, path)));
    let mut given_up: HashSet<(Digest, ProjectPath)> = HashSet::new();
    let models: Vec<&ProjectPath> = project.manifest.models.iter().flat_map(|model| &model.files).collect();
    for (digest, receipt) in all.stages.iter().filter(|(d, r)| r.state == StageState::Done && !kept.contains(d)) {
        for output in &receipt.writes {
            if !project.store.contains(&output.content.digest)? {
                continue;
            }
            let why = if options.paths.iter().any(|p| is_within(&output.path, p)) {
                Some(WhyKept::Named)
            } else if models.iter().any(|m| overlap(&output.path, m)) {
                Some(WhyKept::Model)
            } else if !options.last_outputs && !is_read(&receipt.key, &output.path) {
                Some(WhyKept::LastOutput)
            } else {
                judge.obstacle(digest)?
            };
            if let Some(why) = why {
                *plan.kept.entry(why).or_default() += 1;
                continue;
            }
            given_up.insert((*digest, output.path.clone()));
            plan.outputs.push(Droppable {
                run: receipt.run.clone(),
                stage: receipt.inputs.stage.clone(),
                path: output.path.to_string(),
                digest: output.content.digest,
                size: output.content.size,
                receipt: *digest,
                seconds: receipt.seconds,
            });
        }
    }
    if options.checkpoints {
        for (digest, made) in old_checkpoints(all, &plan.kept_runs, &project.manifest.metrics) {
            if !project.store.contains(&made.content.digest)? {
                continue;
            }
            given_up.insert((digest, made.path.clone()));
            plan.outputs.push(Droppable {
                run: made.run.clone(),
                stage: made.stage.clone(),
                path: format!("{}#{}", made.path, made.step),
                digest: made.content.digest,
                size: made.content.size,
                receipt: digest,
                seconds: 0.0,
            });
        }
    }
    settle(project, all, &given_up, &mut plan)?;
    plan.sandboxes = sandboxes(project, all, options);
    plan.outputs.sort_by(|a, b| (&a.run, &a.stage, &a.path).cmp(&(&b.run, &b.stage, &b.path)));
    Ok(plan)
}

/// The checkpoints of old runs that nobody is likely to go back to: neither the last nor the best of their
/// stage by a metric, and nothing went on from them.
fn old_checkpoints<'a>(
    all: &'a Inventory,
    kept_runs: &BTreeMap<String, &'static str>,
    directions: &[(String, Better)],
) -> Vec<(Digest, &'a CheckpointReceipt)> {
    let mut stages: BTreeMap<(&str, &str), Vec<(Digest, &CheckpointReceipt)>> = BTreeMap::new();
    let ended: HashSet<&str> = all.runs.iter().map(|(_, r)| r.run.as_str()).collect();
    for (digest, made) in all.checkpoints.iter().filter(|(_, m)| ended.contains(m.run.as_str()) && !kept_runs.contains_key(&m.run))
    {
        stages.entry((&made.run, &made.stage)).or_default().push((*digest, made));
    }
    let used: HashSet<Digest> = all.stages.iter().filter_map(|(_, r)| r.from.as_ref()).map(|f| f.checkpoint).collect();
    let mut old = Vec::new();
    for mut made in stages.into_values() {
        made.sort_by(|a, b| a.1.made.cmp(&b.1.made));
        let mut keep: HashSet<Digest> = made.last().map(|(d, _)| *d).into_iter().collect();
        for (name, better) in directions {
            let sign = if *better == Better::Higher { 1.0 } else { -1.0 };
            let value = |m: &CheckpointReceipt| m.metrics.get(name).map(|v| v.0 * sign).filter(|v| v.is_finite());
            let with = made.iter().filter_map(|(d, m)| Some((*d, value(m)?)));
            keep.extend(with.max_by(|a, b| a.1.total_cmp(&b.1)).map(|(d, _)| d));
        }
        old.extend(made.into_iter().filter(|(d, _)| !keep.contains(d) && !used.contains(d)));
    }
    old
}

/// The sandboxes of runs that have ended, but for those of runs that are kept by name and of the newest.
fn sandboxes(project: &Project, all: &Inventory, options: &PruneOptions) -> Vec<Scratch> {
    let mut ended: Vec<(&str, &str)> =
        all.runs.iter().filter(|(_, r)| r.sandbox).map(|(_, r)| (r.started.as_str(), r.run.as_str())).collect();
    ended.sort_unstable();
    let old = ended.len().saturating_sub(options.newest);
    let mut found = Vec::new();
    for (_, run) in &ended[..old] {
        let folder = project.workspace.sandboxes_folder().join(run);
        let Ok(seen) = crate::project::fingerprint::walk(&folder) else { continue };
        found.push(Scratch { run: (*run).to_string(), folder, size: seen.iter().map(|s| s.stat.size).sum() });
    }
    found
}

/// Outputs that are given up, by receipt and path.
struct Outputs<'g>(HashSet<(&'g Digest, &'g str)>);

impl GivenUp for Outputs<'_> {
    fn reference(&self, document: &Digest, reference: &Reference<'_>) -> bool {
        reference.role.can_be_given_up() && self.0.contains(&(document, reference.path))
    }
}

/// Which entries go: those of the outputs given up, and those of nobody, but none that is still spoken of.
fn settle(
    project: &Project,
    all: &Inventory,
    given_up: &HashSet<(Digest, ProjectPath)>,
    plan: &mut PrunePlan,
) -> Result<(), UpkeepError> {
    let store = &project.store;
    let outputs = Outputs(given_up.iter().map(|(receipt, path)| (receipt, &**path)).collect());
    let mut live = Live::but(store, &outputs);
    live.all(all)?;
    let mut going: HashSet<Digest> = HashSet::new();
    let mut outlines: BTreeSet<Digest> = BTreeSet::new();
    for (digest, receipt) in &all.stages {
        for output in receipt.writes.iter().filter(|o| given_up.contains(&(*digest, o.path.clone()))) {
            going.extend(all.folders.entries_of(store, &output.content)?);
            if output.content.kind == ContentKind::Folder && !live.entries.contains(&output.content.digest) {
                outlines.insert(output.content.digest);
            }
        }
    }
    for (_, made) in all.checkpoints.iter().filter(|(d, m)| given_up.contains(&(*d, m.path.clone()))) {
        going.extend(all.folders.entries_of(store, &made.content)?);
        if made.content.kind == ContentKind::Folder && !live.entries.contains(&made.content.digest) {
            outlines.insert(made.content.digest);
        }
    }
    // An output that other bytes still need does not go, nor is it said to.
    plan.outputs.retain(|o| !live.entries.contains(&o.digest));
    for (digest, kind, bytes) in store.all_entries()? {
        plan.stored += bytes;
        if !matches!(kind, Kind::Chunk | Kind::Parts) || live.entries.contains(&digest) {
            continue;
        }
        let spoken = going.contains(&digest);
        if spoken || !plan.at_work {
            plan.unspoken += u64::from(!spoken);
            plan.frees += bytes;
            plan.dropping.entries.insert(digest);
        }
    }
    plan.dropping.outlines = outlines.into_iter().filter(|d| plan.dropping.entries.contains(d)).collect();
    Ok(())
}

/// Drops what a plan made anew, with nobody else at the store, says.
pub fn carry_out(project: &mut Project, options: &PruneOptions, by: &Identity) -> Result<(PrunePlan, Freed), UpkeepError> {
    let damaged = |e: StoreError| match e {
        StoreError::Damaged { path, what } => UpkeepError::Damaged { path, what },
        other => other.into(),
    };
    let alone = project.store.alone()?;
    alone.finish_dropping().map_err(damaged)?;
    // Only now can nobody add a receipt any more that speaks of what might go.
    project.ledger.catch_up(&project.store)?;
    let project = &*project;
    let plan = plan_prune(project, &Inventory::load(&project.store, &project.ledger)?, options)?;
    plan.sandboxes.iter().try_for_each(|s| crate::fsio::remove_any(&s.folder))?;
    if plan.dropping.entries.is_empty() {
        return Ok((plan, Freed::default()));
    }
    let receipt = PruneReceipt {
        r#type: PRUNE_RECEIPT.to_string(),
        pruned: textum_base::clock::now().to_string(),
        by: by.to_string(),
        dropped: plan.outputs.iter().map(|o| (o.digest, o.size)).collect(),
    };
    let document = canonical(&receipt).map_err(crate::record::receipt::ReceiptError::from)?;
    let freed = alone.drop_content(&plan.dropping, &[document]).map_err(damaged)?;
    Ok((plan, freed))
}
