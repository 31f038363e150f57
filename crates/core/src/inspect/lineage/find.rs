//! From what a person names to the receipts that brought it forth.

use std::path::Path;

use crate::data::{split_name, version_with};
use crate::fsio::IoError;
use crate::pipeline::plan::PlanError;
use crate::project::fingerprint::{ScanError, read_outside};
use crate::project::workspace::Project;
use crate::record::ledger::{LedgerError, NameError, run_and_stage};
use crate::record::receipt::{
    BranchedFrom, Content, ContentKind, ReceiptError, RunReceipt, STAGE_RECEIPT, StageReceipt, TREE_RECEIPT_NAME, TreeReceipt,
    type_of,
};
use crate::store::{Digest, Store, StoreError};

/// Why something could not be traced.
#[derive(Debug, thiserror::Error)]
pub enum TraceError {
    /// No receipt speaks of it.
    #[error("{name} ({digest}) is in no receipt: no run of this project has read or written it")]
    NeverSeen {
        /// What was named.
        name: String,
        /// Its digest.
        digest: String,
    },
    /// Only the committed receipt speaks of it: what it comes from was recorded elsewhere.
    #[error("{name} ({digest}) is {what}, by the committed {TREE_RECEIPT_NAME}; that run's own receipts are not in the store here")]
    Elsewhere {
        /// What was named.
        name: String,
        /// Its digest.
        digest: String,
        /// What it is: which stage wrote it where, or which dataset it is.
        what: String,
    },
    /// No dataset or version has the name.
    #[error(transparent)]
    Data(#[from] Box<crate::data::DataError>),
    /// The name stands for nothing.
    #[error(transparent)]
    Name(#[from] NameError),
    /// The run has no such checkpoint.
    #[error(transparent)]
    Checkpoint(#[from] Box<crate::record::ledger::CheckpointError>),
    /// The run has no such path.
    #[error("the run {run} neither read nor wrote `{path}`")]
    NoPath {
        /// The run.
        run: String,
        /// The path.
        path: String,
    },
    /// A file could not be looked at.
    #[error(transparent)]
    Scan(#[from] ScanError),
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// The ledger.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A receipt.
    #[error(transparent)]
    Receipt(#[from] ReceiptError),
    /// The project's own files.
    #[error(transparent)]
    Plan(#[from] PlanError),
}

/// Something that is to be traced or rebuilt.
#[derive(Clone, Debug)]
pub struct Target {
    /// As it was named.
    pub name: String,
    /// The path it was recorded at, unless it is a whole run.
    pub path: Option<String>,
    /// Its digest; of a run, that of its receipt.
    pub digest: Digest,
    /// Where it comes from.
    pub origin: Origin,
}

/// Where something comes from.
#[derive(Clone, Debug)]
pub enum Origin {
    /// A stage wrote it, or a folder that it is in.
    Written {
        /// The stage receipt.
        receipt: Digest,
        /// The recorded output that it is or is in.
        output: String,
    },
    /// No stage wrote it: it is a source that stages have read.
    Source {
        /// A stage receipt that read it.
        receipt: Digest,
        /// The recorded read that it is or is in.
        read: String,
    },
    /// It is a checkpoint.
    Checkpoint(Box<BranchedFrom>),
    /// It is a whole run.
    Run(Box<RunReceipt>),
}

/// The origin of a content: the newest execution that wrote it, else the newest that read it, whole or
/// as part of a folder.
fn origin_of(project: &Project, digest: &Digest, preferred: Option<&str>) -> Result<Option<(Origin, String)>, TraceError> {
    if let Some(found) = direct(project, digest, preferred)? {
        return Ok(Some(found));
    }
    // Not recorded by itself: a folder may hold it.
    let needle = digest.hex();
    for folder in project.ledger.folders()? {
        let Ok(listing) = project.store.listing(&folder) else { continue };
        let Some(at) = memchr::memmem::find(&listing, needle.as_bytes()) else { continue };
        let line = listing[at..].split(|b| *b == b'\n').next().unwrap_or_default();
        let below = String::from_utf8_lossy(line).splitn(3, ' ').nth(2).unwrap_or_default().to_string();
        if let Some((origin, path)) = direct(project, &folder, None)? {
            return Ok(Some((origin, format!("{path}/{below}"))));
        }
    }
    Ok(None)
}

fn direct(project: &Project, digest: &Digest, preferred: Option<&str>) -> Result<Option<(Origin, String)>, TraceError> {
    let places = project.ledger.places_of(digest)?;
    let of_role = |role: &str| {
        let mut fitting = places.iter().filter(|p| p.role == role);
        let first = fitting.clone().next();
        fitting.find(|p| Some(p.path.as_str()) == preferred).or(first).cloned()
    };
    if let Some(place) = of_role("write") {
        return Ok(Some((Origin::Written { receipt: place.receipt, output: place.path.clone() }, place.path)));
    }
    if let Some(made) = project.ledger.checkpoint_with(digest)? {
        let path = made.path.to_string();
        return Ok(Some((Origin::Checkpoint(Box::new(made.to_start_from())), path)));
    }
    Ok(of_role("read").map(|place| (Origin::Source { receipt: place.receipt, read: place.path.clone() }, place.path)))
}

/// Where a path of a run comes from.
#[derive(Clone, Debug)]
pub struct InRun {
    /// What stands there.
    pub content: Content,
    /// Where it comes from.
    pub origin: Origin,
}

/// What a run wrote to a path, or read there; none where it did neither.
pub fn content_in_run(store: &Store, run: &RunReceipt, path: &str) -> Result<Option<InRun>, TraceError> {
    let path = path.trim_end_matches('/');
    for stage in &run.stages {
        let Some(digest) = stage.receipt else { continue };
        let receipt = StageReceipt::load(store, &digest)?;
        if let Some(output) = receipt.outputs().find(|o| crate::config::manifest::is_within(path, &o.path))
            && let Some(content) = part(store, &output.content, &output.path, path)?
        {
            return Ok(Some(InRun { content, origin: Origin::Written { receipt: digest, output: output.path.to_string() } }));
        }
        let read = receipt.reads.iter().find(|r| r.by.is_empty() && crate::config::manifest::is_within(path, &r.at.path));
        if let Some(read) = read
            && let Some(content) = part(store, &read.at.content, &read.at.path, path)?
        {
            return Ok(Some(InRun { content, origin: Origin::Source { receipt: digest, read: read.at.path.to_string() } }));
        }
    }
    Ok(None)
}

/// A path of a run.
fn in_run(store: &Store, run: &RunReceipt, path: &str, name: &str) -> Result<Target, TraceError> {
    let path = path.trim_end_matches('/');
    match content_in_run(store, run, path)? {
        Some(InRun { content, origin }) => {
            Ok(Target { name: name.into(), path: Some(path.into()), digest: content.digest, origin })
        }
        None => Err(TraceError::NoPath { run: run.run.clone(), path: path.into() }),
    }
}

fn part(store: &Store, content: &Content, at: &str, path: &str) -> Result<Option<Content>, StoreError> {
    match path.strip_prefix(at).and_then(|rest| rest.strip_prefix('/')) {
        None => Ok(Some(content.clone())),
        Some(below) if content.kind == ContentKind::Folder => crate::record::receipt::part_of_folder(store, &content.digest, below),
        Some(_) => Ok(None),
    }
}

/// What a person has named: `RUN`, `RUN:PATH`, a digest, or a file wherever it lies. `here` is the folder
/// that a path is relative to.
pub fn find_target(project: &Project, name: &str, here: &Path) -> Result<Target, TraceError> {
    let run_receipt = |id: &str| -> Result<(Digest, RunReceipt), TraceError> {
        let row = project.ledger.run(id)?.ok_or_else(|| NameError::NoRun { name: id.into(), near: None })?;
        Ok((row.receipt, RunReceipt::load(&project.store, &row.receipt)?))
    };
    if name.starts_with("b3:") {
        return of_digest(project, name);
    }
    let on_disk = here.join(name);
    if let Some((dataset, number)) = split_name(name).filter(|_| on_disk.symlink_metadata().is_err()) {
        let version = version_with(&project.ledger, dataset, number).map_err(Box::new)?;
        let digest = version.content.digest;
        let found = origin_of(project, &digest, Some(&version.path))?;
        let (origin, path) = found.ok_or_else(|| TraceError::NeverSeen { name: name.into(), digest: digest.short() })?;
        return Ok(Target { name: name.into(), path: Some(path), digest, origin });
    }
    if on_disk.symlink_metadata().is_ok() {
        return of_file(project, name, &on_disk);
    }
    if let Some((run, which)) = name.split_once('#') {
        let (run, stage) = run_and_stage(run);
        let id = project.ledger.resolve_run(run, &project.manifest.metrics)?;
        let row = project.ledger.checkpoint(&id, stage, which, &project.manifest.metrics).map_err(Box::new)?;
        let origin = Origin::Checkpoint(Box::new(row.to_start_from()));
        return Ok(Target { name: name.into(), path: Some(row.path.to_string()), digest: row.content.digest, origin });
    }
    // `best:auc` has a colon of its own.
    let (run, path) = match name.strip_prefix("best:").map(|rest| rest.split_once(':')) {
        Some(Some((metric, path))) => (format!("best:{metric}"), Some(path)),
        Some(None) => (name.to_string(), None),
        None => name.split_once(':').map_or((name.to_string(), None), |(run, path)| (run.to_string(), Some(path))),
    };
    let id = match project.ledger.resolve_run(&run, &project.manifest.metrics) {
        Ok(id) => id,
        // Neither a file nor a run: what it looks like decides what is said.
        Err(NameError::NoRun { .. } | NameError::NoRuns) if name.contains(['/', '.']) => {
            let source = std::io::Error::new(std::io::ErrorKind::NotFound, "there is no such file");
            return Err(TraceError::Io(IoError { action: "find", path: on_disk, source }));
        }
        Err(e) => return Err(e.into()),
    };
    let (digest, receipt) = run_receipt(&id)?;
    match path {
        Some(path) => in_run(&project.store, &receipt, path, name),
        None => Ok(Target { name: id, path: None, digest, origin: Origin::Run(Box::new(receipt)) }),
    }
}

fn of_file(project: &Project, name: &str, file: &Path) -> Result<Target, TraceError> {
    let full = std::path::absolute(file).map_err(IoError::of("look at", file))?;
    let relative = full.strip_prefix(project.workspace.root()).ok().and_then(|p| p.to_str()).map(str::to_string);
    let content = match &relative {
        Some(path) if !path.is_empty() => project.scanner.look(path)?,
        _ => read_outside(file)?,
    };
    let Some(content) = content else {
        let source = std::io::Error::new(std::io::ErrorKind::NotFound, "there is no such file");
        return Err(TraceError::Io(IoError { action: "find", path: file.to_path_buf(), source }));
    };
    match origin_of(project, &content.digest, relative.as_deref())? {
        Some((origin, path)) => Ok(Target { name: name.into(), path: Some(path), digest: content.digest, origin }),
        None => Err(by_tree_receipt(project, name, &content.digest)),
    }
}

/// What the committed receipt says of a content that no receipt in the store speaks of.
fn by_tree_receipt(project: &Project, name: &str, digest: &Digest) -> TraceError {
    let tree = TreeReceipt::load(project.workspace.root()).ok().flatten().unwrap_or_default();
    let run = tree.run.as_deref().unwrap_or("an unknown run");
    let written = tree.stages.iter().find_map(|(stage, s)| {
        let (path, _) = s.writes.iter().find(|(_, content)| content.digest == *digest)?;
        Some(format!("`{path}` as {stage} wrote it in run {} (key {})", s.run, s.key.short()))
    });
    let dataset = || {
        let (name, state) = tree.data.iter().find(|(_, state)| state.content.digest == *digest)?;
        Some(format!("the dataset {name} (`{}`) as run {run} found it", state.path))
    };
    match written.or_else(dataset) {
        Some(what) => TraceError::Elsewhere { name: name.into(), digest: digest.short(), what },
        None => TraceError::NeverSeen { name: name.into(), digest: digest.short() },
    }
}

fn of_digest(project: &Project, name: &str) -> Result<Target, TraceError> {
    let digest = project.ledger.resolve_digest(name, &project.store)?;
    if let Some((origin, path)) = origin_of(project, &digest, None)? {
        return Ok(Target { name: name.into(), path: Some(path), digest, origin });
    }
    // A stage key or a stage receipt stands for what the stage wrote.
    let receipt = match project.ledger.result_of(&digest)? {
        Some(receipt) => Some(receipt),
        None => project.store.read(&digest).ok().filter(|b| type_of(b).as_deref() == Some(STAGE_RECEIPT)).map(|_| digest),
    };
    let Some(receipt) = receipt else {
        return Err(TraceError::NeverSeen { name: name.into(), digest: digest.short() });
    };
    let loaded = StageReceipt::load(&project.store, &receipt)?;
    let first = loaded.outputs().next().cloned();
    let first = first.ok_or_else(|| TraceError::NeverSeen { name: name.into(), digest: digest.short() })?;
    let origin = Origin::Written { receipt, output: first.path.to_string() };
    Ok(Target { name: name.into(), path: Some(first.path.to_string()), digest: first.content.digest, origin })
}
