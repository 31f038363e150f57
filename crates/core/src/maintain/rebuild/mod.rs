//! Doing a past run again, from nothing but what its receipts say, and judging the result.

mod chain;
mod compare;
mod put;
mod sealing;
mod stages;
mod training;
mod verdict;

use std::path::{Path, PathBuf};
use std::time::Instant;
use textum_base::Identity;

pub use chain::Beginning;
pub use compare::{Difference, FirstDifference};
pub use put::reference_differs;
pub use stages::StageRebuild;

use crate::event::{CancelToken, Event, EventSink};
use crate::fsio::{self, FileLock, IoError, TryLock};
use crate::inspect::lineage::{Origin, Target, TraceError, trace};
use crate::maintain::restore::{EnvironmentError, RestoredEnvironment, restore_environment};
use crate::pipeline::exec::{ExecError, Observer};
use crate::pipeline::executor::LocalExecutor;
use crate::project::fingerprint::{MayStart, PythonError, Reason, ReasonKind, environment_differences};
use crate::project::tree::PutError;
use crate::project::workspace::Project;
use crate::record::ledger::{ErasedOf, LedgerError};
use crate::record::receipt::{
    CountedEnvironment, DocumentError, ENVIRONMENT, EnvironmentRecord, ObservedHow, ObservedInputs, PythonRecord, REBUILD_RECEIPT,
    RebuildReceipt, ReceiptError, StageReceipt, Verdict, canonical,
};
use crate::store::{Digest, StoreError};
use stages::Rebuilder;

/// How a rebuild is to go.
#[derive(Clone, Debug, Default)]
pub struct RebuildOptions {
    /// Metrics that differ by no more than this, relatively, are equivalent.
    pub tolerance: f64,
    /// Whether the sandboxes stay when it is over.
    pub keep: bool,
    /// Whether what stages print is told of.
    pub echo: bool,
    /// Whether the environment that was recorded is made again, and the stages are executed in it.
    pub recorded_environment: bool,
    /// Whether the training that made a checkpoint is repeated, where a stage went on from one.
    pub from_scratch: bool,
    /// Who rebuilds, and where.
    pub by: Identity,
}

/// What came of a rebuild.
#[derive(Debug)]
pub struct RebuildOutcome {
    /// The verdict on what was asked for.
    pub verdict: Verdict,
    /// The run whose results were rebuilt.
    pub run: String,
    /// The stages executed, in their order.
    pub stages: Vec<StageRebuild>,
    /// Differences of the environment.
    pub differences: Vec<Reason>,
    /// The environment that was made for it, if it was.
    pub environment: Option<RestoredEnvironment>,
    /// Where its chain began, other than at the sources: at checkpoints, whose own training was not repeated, and at
    /// references.
    pub began_at: Vec<Beginning>,
    /// How the first output that differs does.
    pub first: Option<FirstDifference>,
    /// Outputs that had been dropped from the store, and are in it again: the same bytes.
    pub stored: Vec<String>,
    /// Where the sandboxes are, if they were kept.
    pub kept: Option<PathBuf>,
    /// The rebuild's own receipt.
    pub receipt: Digest,
    /// Seconds it took.
    pub seconds: f64,
}

/// Why nothing could be rebuilt.
#[derive(Debug, thiserror::Error)]
pub enum RebuildError {
    /// What was named is a source: no stage wrote it.
    #[error("`{0}` is a source: no stage wrote it, so that there is nothing to rebuild")]
    Source(String),
    /// The run has no finished stage.
    #[error("the run {0} has no finished stage to rebuild")]
    NothingDone(String),
    /// What it would be made of was to be forgotten.
    #[error("{0}")]
    Erased(Box<ErasedOf>),
    /// It was stopped.
    #[error("the rebuild was stopped")]
    Stopped,
    /// The recorded environment could not be made.
    #[error(transparent)]
    Environment(#[from] EnvironmentError),
    /// Tracing.
    #[error(transparent)]
    Trace(#[from] TraceError),
    /// Executing.
    #[error(transparent)]
    Exec(#[from] ExecError),
    /// Content that is needed.
    #[error(transparent)]
    Put(#[from] PutError),
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// A receipt.
    #[error(transparent)]
    Receipt(#[from] ReceiptError),
    /// A document.
    #[error(transparent)]
    Document(#[from] DocumentError),
    /// The interpreter.
    #[error(transparent)]
    Python(#[from] PythonError),
}

const PREFIX: &str = "rebuild-";
/// The file in a rebuild's folder that is locked as long as its process lives. One that is kept has none.
const AT_WORK: &str = ".at-work";

/// The folder of a rebuild at work.
struct Folder {
    dir: tempfile::TempDir,
    lock: PathBuf,
    _at_work: FileLock,
}

impl Folder {
    fn make(sandboxes: &Path) -> Result<Folder, IoError> {
        crate::fsio::create_folder(sandboxes)?;
        sweep(sandboxes);
        let made = tempfile::Builder::new().prefix(PREFIX).tempdir_in(sandboxes);
        let dir = made.map_err(IoError::of("create a folder in", sandboxes))?;
        let lock = dir.path().join(AT_WORK);
        let _at_work = FileLock::exclusive(&lock)?;
        Ok(Folder { dir, lock, _at_work })
    }

    /// Removes it, or gives where it is kept.
    fn end(self, keep: bool) -> Result<Option<PathBuf>, IoError> {
        if keep {
            fsio::remove_any(&self.lock)?;
            return Ok(Some(self.dir.keep()));
        }
        fsio::remove_any(self.dir.path())?;
        Ok(None)
    }
}

/// Whether a folder is that of a rebuild at work.
pub fn is_rebuilding(folder: &Path) -> bool {
    FileLock::is_held(&folder.join(AT_WORK))
}

/// Removes the folders of rebuilds whose processes are gone.
fn sweep(sandboxes: &Path) {
    for entry in std::fs::read_dir(sandboxes).into_iter().flatten().flatten() {
        let is_ours = entry.file_name().to_str().is_some_and(|n| n.starts_with(PREFIX));
        if is_ours && let Ok(TryLock::Taken(_lock)) = FileLock::try_existing(&entry.path().join(AT_WORK)) {
            // What cannot be removed now is tried again the next time.
            let _ = fsio::remove_any(&entry.path());
        }
    }
}

/// Rebuilds what was named in fresh sandboxes; the working tree is not touched.
pub fn rebuild(
    project: &mut Project,
    target: &Target,
    options: &RebuildOptions,
    events: &dyn EventSink,
    cancel: &CancelToken,
) -> Result<RebuildOutcome, RebuildError> {
    let started = textum_base::clock::now();
    let clock = Instant::now();
    let traced = trace(&project.store, target)?.receipts;
    let wanted = chain::wanted_of(target, &traced)?;
    let (chain, trainings) = chain::needed(&project.store, traced, &wanted, options.from_scratch)?;
    must_not_be_erased(project, &chain)?;
    let run = match &target.origin {
        Origin::Run(run) => run.run.clone(),
        _ => chain.last().map(|(_, r)| r.run.clone()).unwrap_or_default(),
    };
    if chain.is_empty() {
        return Err(RebuildError::NothingDone(run));
    }
    let folder = Folder::make(&project.workspace.sandboxes_folder())?;
    let environment = match options.recorded_environment {
        true => Some(make_environment(project, &run, &chain, folder.dir.path())?),
        false => None,
    };
    let (now, mut differences) = environment_now(project, &chain)?;
    if environment.is_some() {
        // It is made of what was recorded, somewhere else.
        differences.clear();
    }
    let words = tell_differences(&differences, events);
    events.event(Event::Begun { run: run.clone(), stages: chain.iter().map(|(_, r)| r.inputs.stage.clone()).collect() });
    let place = LocalExecutor::default();
    let mut rebuilder = Rebuilder {
        project,
        options,
        place: &place,
        events,
        cancel,
        observer: Observer::of(project),
        environment: project.environment().ok(),
        folder: folder.dir.path(),
        done: Default::default(),
        repeated: Default::default(),
        stages: Vec::new(),
        first: None,
        stored: Vec::new(),
    };
    for (digest, receipt) in &chain {
        match trainings.get(digest) {
            Some(steps) => rebuilder.training(*digest, receipt, steps)?,
            None => rebuilder.stage(*digest, receipt)?,
        }
    }
    let mut verdict = rebuilder.verdict_on(&wanted);
    if verdict == Verdict::Different && !matches!(target.origin, Origin::Run(_)) {
        verdict = rebuilder.judge_by_later_metrics(&run, &wanted)?;
    }
    let Rebuilder { stages, first, stored, .. } = rebuilder;
    let kept = folder.end(options.keep)?;
    let receipt = RebuildReceipt {
        r#type: REBUILD_RECEIPT.to_string(),
        run: run.clone(),
        target: target.name.clone(),
        started: started.to_string(),
        seconds: clock.elapsed().as_secs_f64(),
        verdict,
        by: options.by.to_string(),
        stages: stages.iter().map(StageRebuild::record).collect(),
        environment: Some(Digest::of(&canonical(&now)?)),
        differences: words,
    };
    let digest = record(project, &now, &receipt)?;
    Ok(RebuildOutcome {
        verdict,
        run,
        stages,
        differences,
        environment,
        began_at: chain::beginnings(&chain, options.from_scratch),
        first,
        stored,
        kept,
        receipt: digest,
        seconds: clock.elapsed().as_secs_f64(),
    })
}

/// Tells how the environment differs from the recorded one; in words.
fn tell_differences(differences: &[Reason], events: &dyn EventSink) -> Vec<String> {
    let words: Vec<String> = differences.iter().map(crate::project::fingerprint::in_words).collect();
    if !words.is_empty() {
        events.event(Event::EnvironmentDiffers { differences: words.clone() });
    }
    words
}

/// That nothing of what these stages read was erased.
fn must_not_be_erased(project: &Project, chain: &[(Digest, StageReceipt)]) -> Result<(), RebuildError> {
    let reads = chain.iter().flat_map(|(_, r)| &r.reads).map(|read| (read.at.path.as_str(), &read.at.content.digest));
    match project.ledger.erased_of(&project.store, reads)?.into_iter().next() {
        Some(erased) => Err(RebuildError::Erased(Box::new(erased))),
        None => Ok(()),
    }
}

/// Records a rebuild and the environment that it had.
fn record(project: &Project, environment: &EnvironmentRecord, receipt: &RebuildReceipt) -> Result<Digest, RebuildError> {
    let writer = project.store.writer()?;
    writer.put_document(&canonical(environment)?)?;
    let digest = writer.put_document(&canonical(receipt)?)?;
    writer.publish()?;
    drop(writer);
    project.ledger.catch_up(&project.store)?;
    Ok(digest)
}

/// Makes the environment that these stages had, and lets stages find it first.
fn make_environment(
    project: &mut Project,
    run: &str,
    chain: &[(Digest, StageReceipt)],
    folder: &Path,
) -> Result<RestoredEnvironment, RebuildError> {
    let receipts: Vec<StageReceipt> = chain.iter().map(|(_, receipt)| receipt.clone()).collect();
    let made = restore_environment(project, run, &receipts, &folder.join("environment"))?;
    let own = made.folder.join("bin").display().to_string();
    for (_, value) in project.variables.iter_mut().filter(|(name, _)| name == "PATH") {
        *value = format!("{own}:{value}");
    }
    project.variables.retain(|(name, _)| name != "VIRTUAL_ENV");
    project.variables.push(("VIRTUAL_ENV".to_string(), made.folder.display().to_string()));
    Ok(made)
}

/// The environment that the rebuild has, asked of the interpreter that the receipts name, and how it
/// differs from the recorded ones.
fn environment_now(project: &Project, chain: &[(Digest, StageReceipt)]) -> Result<(EnvironmentRecord, Vec<Reason>), RebuildError> {
    let mut now =
        EnvironmentRecord { r#type: ENVIRONMENT.to_string(), python: None, system: crate::project::fingerprint::system() };
    let mut differences: Vec<Reason> = Vec::new();
    let mut seen = Vec::new();
    let check = project.observed_check();
    for (_, receipt) in chain {
        let Some(inputs) = receipt.observed.as_ref().and_then(|o| o.inputs) else { continue };
        let inputs = ObservedInputs::load(&project.store, &inputs)?;
        for reason in check.changes_outside(&project.store, &inputs, MOST_DIFFERENCES)? {
            if !differences.contains(&reason) {
                differences.push(reason);
            }
        }
    }
    for (_, receipt) in chain.iter().filter(|(_, r)| r.inputs.environment.is_some()) {
        let Some(digest) = receipt.environment.filter(|d| !seen.contains(d)) else { continue };
        seen.push(digest);
        let recorded = EnvironmentRecord::load(&project.store, &digest)?;
        if let Some(python) = &recorded.python {
            let variables = crate::project::fingerprint::stage_variables(&project.variables, &receipt.inputs.vars);
            let cache = project.workspace.cache_folder();
            // An interpreter that is gone is a difference, not an error: the stage will tell.
            now.python = python_of(project, &python.command, &variables, cache.as_deref());
        }
        let counted = receipt.inputs.environment.and_then(|d| CountedEnvironment::load(&project.store, &d).ok());
        let counted = counted.map(|c| c.packages).unwrap_or_default();
        for reason in environment_differences(&recorded, &now) {
            // Of a stage that was observed it is known which packages it used, unless others count by declaration.
            let observed = receipt.observed.as_ref().is_some_and(|o| o.inputs.is_some() && o.how != ObservedHow::Away);
            let used = !observed || reason.kind != ReasonKind::Package || counted.contains_key(&reason.name);
            if used && !differences.contains(&reason) {
                differences.push(reason);
            }
        }
    }
    Ok((now, differences))
}

/// So many differences of one stage's environment are told.
const MOST_DIFFERENCES: usize = 20;

/// The interpreter as it is now. A rebuild executes what the receipts say, so it may be started wherever it lies.
fn python_of(
    project: &Project,
    command: &str,
    variables: &[(String, String)],
    cache: Option<&std::path::Path>,
) -> Option<PythonRecord> {
    crate::project::fingerprint::python(command, project.workspace.root(), variables, cache, MayStart::Anything).ok()
}
