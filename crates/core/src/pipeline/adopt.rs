//! Observed inputs written into the manifest. A result that is right stays one: what was read is told more fully, not
//! read anew.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;
use textum_base::SourcePath;

use super::plan::{Action, Plan, PlanContext, PlanError};
use crate::config::graph::StageIndex;
use crate::config::manifest::{Manifest, ManifestError, add_reads, declared_name};
use crate::fsio::{self, IoError};
use crate::project::workspace::{LoadProjectError, Project};
use crate::record::ledger::LedgerError;
use crate::record::receipt::{
    DocumentError, Inputs, ObservedInputs, PathContent, Read, ReceiptError, StageReceipt, StorageMode, canonical,
};
use crate::store::{Digest, StoreError};

/// What is adopted for one stage.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Adopted {
    /// The stage.
    pub stage: String,
    /// The paths that it reads from now on.
    pub reads: Vec<String>,
    /// Stages after which it comes by that, which it did not before.
    pub after: Vec<String>,
    /// Paths that it cannot declare, as that would make a circle: each with the stage that writes it.
    pub circles: Vec<(String, String)>,
    /// Paths that it was seen to read and that are no longer there.
    pub gone: Vec<String>,
    /// Whether its result is kept as it is.
    pub kept: bool,
}

/// Why nothing could be adopted.
#[derive(Debug, thiserror::Error)]
pub enum AdoptError {
    /// The plan.
    #[error(transparent)]
    Plan(#[from] PlanError),
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// A receipt.
    #[error(transparent)]
    Receipt(#[from] ReceiptError),
    /// A document.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// The manifest would have mistakes.
    #[error(transparent)]
    Mistakes(#[from] Box<ManifestError>),
    /// The project with its new manifest.
    #[error(transparent)]
    Load(#[from] LoadProjectError),
    /// The text of the stage is written in a way that cannot be added to.
    #[error("the stage `{0}` is written in a way that its reads cannot be added to: add them by hand")]
    Layout(String),
}

/// What could be adopted for these stages: what each was last seen to read of the project without declaring it.
pub fn adoptable(project: &Project, stages: &[StageIndex]) -> Result<Vec<Adopted>, AdoptError> {
    let mut found = Vec::new();
    // Edges that are to be added: two stages may not each come after the other.
    let mut added: Vec<(StageIndex, StageIndex)> = Vec::new();
    for &stage in stages {
        let decl = &project.manifest.stages[stage];
        let mut adopted = Adopted { stage: decl.name.clone(), ..Adopted::default() };
        for path in project.ledger.last_undeclared(&decl.name)? {
            // A name that no manifest can hold stays undeclared.
            let Ok(source) = SourcePath::new(&path) else { continue };
            if decl.reads.iter().any(|r| textum_base::is_within(&path, r)) {
                continue;
            }
            if !project.workspace.root().join(&*source).exists() {
                adopted.gone.push(path);
                continue;
            }
            let writers = project.graph.writers_of(&path);
            if writers.contains(&stage) {
                continue;
            }
            if let Some(writer) = writers.iter().find(|w| comes_after(project, &added, **w, stage)) {
                adopted.circles.push((path, project.graph.name(*writer).to_string()));
                continue;
            }
            for writer in writers {
                let name = project.graph.name(writer).to_string();
                if !project.graph.upstream(stage).contains(&writer) && !adopted.after.contains(&name) {
                    adopted.after.push(name);
                }
                added.push((writer, stage));
            }
            adopted.reads.push(path);
        }
        if !(adopted.reads.is_empty() && adopted.circles.is_empty() && adopted.gone.is_empty()) {
            found.push(adopted);
        }
    }
    Ok(found)
}

/// Whether a stage comes after another, by what is declared and what is to be.
fn comes_after(project: &Project, added: &[(StageIndex, StageIndex)], later: StageIndex, earlier: StageIndex) -> bool {
    let mut todo = vec![earlier];
    let mut met = BTreeSet::new();
    while let Some(stage) = todo.pop() {
        if stage == later {
            return true;
        }
        let by_reads = project.graph.downstream(stage).iter().copied();
        let next = by_reads.chain(added.iter().filter(|(from, _)| *from == stage).map(|(_, to)| *to));
        todo.extend(next.filter(|s| met.insert(*s)));
    }
    false
}

/// The reads to be added to each stage of the manifest. What all stages out of one read, each with its own value in the
/// path, is declared once.
fn to_declare(project: &Project, adopted: &[Adopted]) -> BTreeMap<String, Vec<String>> {
    let mut all: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for one in adopted {
        let declared = declared_name(&one.stage);
        let each = project.manifest.stage(&one.stage).and_then(|s| s.each.as_ref());
        for path in &one.reads {
            let by_all = each.map(|each| each.with_names(path)).filter(|template| {
                project.manifest.stages_of(declared).all(|member| {
                    let own = member.each.as_ref().map(|each| each.fill(template));
                    own.is_some_and(|own| adopted.iter().any(|a| a.stage == member.name && a.reads.contains(&own)))
                })
            });
            let read = by_all.unwrap_or_else(|| path.clone());
            let reads = all.entry(declared.to_string()).or_default();
            if !reads.contains(&read) {
                reads.push(read);
            }
        }
    }
    all.retain(|_, reads| !reads.is_empty());
    all
}

/// The manifest's text with what is adopted.
pub fn adopted_text(project: &Project, adopted: &[Adopted]) -> Result<String, AdoptError> {
    let mut text = project.manifest.text.clone();
    for (stage, reads) in to_declare(project, adopted) {
        text = add_reads(&text, &stage, &reads).ok_or(AdoptError::Layout(stage))?;
    }
    // What would not be read again is not written.
    Manifest::parse(&project.manifest.path, text.clone())?;
    Ok(text)
}

/// Writes the manifest, and takes over results that stand: told with the reads that are declared now, they are what
/// the stage would bring forth again. The project must have been opened to write.
pub fn adopt(project: &Project, adopted: &mut [Adopted]) -> Result<(), AdoptError> {
    let text = adopted_text(project, adopted)?;
    let all = vec![true; project.manifest.stages.len()];
    let before = Plan::make(&PlanContext::new(project, &all, BTreeSet::new())?, &all)?;
    let aside = project.workspace.state();
    fsio::write_atomic_by(&project.workspace.manifest_path(), text.as_bytes(), &aside)?;
    let anew = Project::open(project.workspace.root(), project.variables.clone())?;
    let anew = Project { may_start: project.may_start, ..anew };
    // Stage by stage: what one has taken over, the next reads from.
    for index in anew.graph.order().to_vec() {
        let name = anew.graph.name(index).to_string();
        let stood = before.decisions.iter().find(|d| d.stage == name && d.action != Action::Run);
        let Some(recorded) = stood.and_then(|d| d.result.as_ref()) else { continue };
        let after = Plan::make(&PlanContext::new(&anew, &all, BTreeSet::new())?, &all)?;
        let Some(decision) = after.decisions.iter().find(|d| d.index == index && d.result.is_none()) else { continue };
        let Some(inputs) = &decision.inputs else { continue };
        let receipt = StageReceipt::load(&anew.store, &recorded.receipt)?;
        if let Some(fuller) = told_with(&anew, &receipt, recorded.receipt, inputs)? {
            let writer = anew.store.writer()?;
            writer.put_document(&canonical(&fuller)?)?;
            writer.publish()?;
            drop(writer);
            anew.ledger.catch_up(&anew.store)?;
            adopted.iter_mut().filter(|a| a.stage == name).for_each(|a| a.kept = true);
        }
    }
    anew.save_looks();
    Ok(())
}

/// The receipt told with these inputs, if they are the same but for reads that it was seen to read just so.
fn told_with(
    project: &Project,
    receipt: &StageReceipt,
    digest: Digest,
    inputs: &Inputs,
) -> Result<Option<StageReceipt>, AdoptError> {
    let Some(observed) = receipt.observed.as_ref().and_then(|o| o.inputs) else { return Ok(None) };
    let files = ObservedInputs::load(&project.store, &observed)?.project_files(&project.store)?;
    let mut reads = receipt.reads.clone();
    for (path, read) in inputs.reads.iter().filter(|(path, _)| !receipt.inputs.reads.contains_key(*path)) {
        let Some(file) = files.iter().find(|f| f.path == path.as_str() && f.digest == read.digest) else { return Ok(None) };
        let writers = project.graph.writers_of(path);
        let mut by = Vec::new();
        for writer in writers {
            by.extend(project.ledger.last_done(project.graph.name(writer))?.map(|row| row.receipt));
        }
        let at = PathContent { path: path.clone(), content: file.content() };
        let dataset = if by.is_empty() { project.dataset_of(path).map(str::to_string) } else { None };
        reads.push(Read { at, by, dataset, published: None, for_all: false, params: false, hold: StorageMode::Store });
    }
    let same = Inputs { reads: receipt.inputs.reads.clone(), ..inputs.clone() };
    let kept_all = receipt.inputs.reads.iter().all(|(path, read)| inputs.reads.get(path) == Some(read));
    if same != receipt.inputs || !kept_all || *inputs == receipt.inputs {
        return Ok(None);
    }
    reads.sort_by(|a, b| a.at.path.cmp(&b.at.path));
    let undeclared = receipt.undeclared.iter().filter(|p| !inputs.reads.keys().any(|r| textum_base::is_within(p, r))).cloned();
    let undeclared = undeclared.collect();
    let key = inputs.key()?;
    Ok(Some(StageReceipt { inputs: inputs.clone(), key, reads, undeclared, taken_over: Some(digest), ..receipt.clone() }))
}
