//! What stands at a stage's reads: on the disk, in the result of an earlier stage, or not yet known.

use std::collections::BTreeMap;

use textum_base::SourcePath;

use super::{PlanError, decide::Settled};
use crate::config::graph::StageIndex;
use crate::config::manifest::{ManifestError, is_within};
use crate::project::fingerprint::{ScanError, notebook_input, read_input};
use crate::project::workspace::Project;
use crate::record::receipt::{Content, ContentKind, PathContent, ReadInput, TreeReceipt, folder_of, part_of_folder};
use crate::store::{Item, ItemKind, Store, StoreError, items_of_listing};

/// Why a read could not be looked at.
#[derive(Debug, thiserror::Error)]
pub enum ReadError {
    /// The disk.
    #[error(transparent)]
    Scan(#[from] ScanError),
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
}

/// What is known of a read.
pub(crate) enum ReadState {
    /// It stands there, or will once a recorded result is put in place.
    Known(Content, ReadInput),
    /// The stage with this number will write it, or something in it, anew.
    Pending(StageIndex),
    /// It is not there, and no stage that is settled has written it.
    Absent,
}

/// The reads that nothing writes and that do not exist, as mistakes of the manifest.
pub fn missing_reads(project: &Project, selected: &[bool]) -> Result<(), Box<ManifestError>> {
    let exists =
        |path: &str| project.workspace.root().join(path).symlink_metadata().is_ok() || project.scanner.expected(path).is_some();
    let mut missing = Vec::new();
    for (number, stage) in project.manifest.stages.iter().enumerate().filter(|(n, _)| selected[*n]) {
        let for_all = if number == 0 { project.manifest.environment.files.as_slice() } else { &[] };
        for read in stage.reads.iter().map(|r| &**r).chain(for_all.iter().map(|r| &**r)) {
            if !exists(read) && project.graph.writers_of(read).is_empty() {
                missing.push((stage.name.clone(), read.to_string()));
            }
        }
    }
    missing.extend(project.manifest.without_values.iter().map(|w| (w.stage.clone(), w.table.clone())));
    if missing.is_empty() {
        return Ok(());
    }
    let written: Vec<&str> = project.manifest.stages.iter().flat_map(|s| s.outputs()).map(|o| &**o).collect();
    // In a fresh clone the committed receipt knows what stood there.
    let recorded = TreeReceipt::load(project.workspace.root()).ok().flatten().unwrap_or_default();
    let is_recorded = |read: &str| recorded.data.values().any(|data| is_within(read, &data.path));
    Err(project.manifest.read_mistakes(&missing, |stage, read| {
        let near = crate::config::manifest::nearest(read, written.iter().copied());
        let help = match near {
            _ if is_recorded(read) => "`textum restore` brings it back, as textum.receipt.json has it".to_string(),
            Some(near) => format!("did you mean `{near}`?"),
            None => "put the file there, correct the path, or let a stage write it".to_string(),
        };
        (format!("`{read}`, which `{stage}` reads, does not exist"), "no such file, and no stage writes it".to_string(), help)
    }))
}

/// What stands at a path, given what is known of the stages that write it.
pub(crate) fn read_state(project: &Project, path: &str, settled: &BTreeMap<StageIndex, Settled>) -> Result<ReadState, ReadError> {
    let writers = project.graph.writers_of(path);
    let on_disk = || -> Result<ReadState, ReadError> {
        // What a stage writes may have changed since a moment ago; what none writes is asked for again
        // and again by one command.
        let found = if writers.is_empty() { project.scanner.look_lately(path)? } else { project.scanner.look(path)? };
        Ok(match found {
            Some(content) => {
                let input = read_input(path, &content, &project.scanner.root().join(path));
                ReadState::Known(content, input)
            }
            None => ReadState::Absent,
        })
    };
    let mut all_in_place = true;
    for writer in &writers {
        match settled.get(writer) {
            Some(Settled::Result { outputs, in_place }) => {
                if let Some(found) = outputs.iter().find(|o| is_within(path, &o.path)) {
                    // A part of a folder just written is not yet in the store, but it stands on the disk.
                    if *in_place && (path.ends_with(".ipynb") || found.path != path) {
                        return on_disk();
                    }
                    return within(&project.store, found, path);
                }
                all_in_place &= in_place;
            }
            _ => return Ok(ReadState::Pending(*writer)),
        }
    }
    match writers.first() {
        // A folder that several recorded results will be put into: not known before they are.
        Some(writer) if !all_in_place => Ok(ReadState::Pending(*writer)),
        _ => on_disk(),
    }
}

/// What a stage apart from the working tree will find at a path: sources as they were taken in, results as they
/// are recorded. The disk is not looked at.
pub(crate) fn state_apart(
    project: &Project,
    path: &SourcePath,
    settled: &BTreeMap<StageIndex, Settled>,
    sources: &BTreeMap<SourcePath, Content>,
) -> Result<ReadState, ReadError> {
    let store = &project.store;
    let writers = project.graph.writers_of(path);
    if writers.is_empty() {
        let Some(content) = sources.get(path) else { return Ok(ReadState::Absent) };
        return known(store, path, content.clone());
    }
    let mut parts: Vec<(&str, &Content)> = Vec::new();
    for writer in &writers {
        let Some(Settled::Result { outputs, .. }) = settled.get(writer) else { return Ok(ReadState::Pending(*writer)) };
        if let Some(found) = outputs.iter().find(|o| is_within(path, &o.path)) {
            return within(store, found, path);
        }
        parts.extend(outputs.iter().filter(|o| is_within(&o.path, path)).map(|o| (&*o.path, &o.content)));
    }
    let beside = sources.iter().filter(|(s, _)| is_within(s, path)).map(|(s, c)| (&**s, c));
    parts.extend(beside.filter(|(s, _)| !project.scanner.is_reference(s)));
    let content = composed(store, path, &parts)?;
    Ok(ReadState::Known(content.clone(), read_input("", &content, std::path::Path::new(""))))
}

/// The folder that contents at and below paths in it make up.
fn composed(store: &Store, folder: &str, parts: &[(&str, &Content)]) -> Result<Content, StoreError> {
    let mut items: Vec<Item<'static>> = Vec::new();
    for (path, content) in parts {
        let below = &path[folder.len() + 1..];
        let kind = match content.kind {
            ContentKind::File => ItemKind::File,
            ContentKind::Exec => ItemKind::Exec,
            ContentKind::Folder => ItemKind::EmptyDir,
        };
        if kind != ItemKind::EmptyDir {
            items.push(Item { kind, digest: Some(content.digest), size: content.size, path: below.to_string().into() });
            continue;
        }
        let listing = store.listing(&content.digest)?;
        let inside = items_of_listing(store, &content.digest, &listing)?;
        if inside.is_empty() {
            items.push(Item { kind, digest: None, size: 0, path: below.to_string().into() });
        }
        let moved = |i: Item<'_>| Item { kind: i.kind, digest: i.digest, size: i.size, path: format!("{below}/{}", i.path).into() };
        items.extend(inside.into_iter().map(moved));
    }
    items.sort_by(|a, b| a.path.cmp(&b.path));
    items.dedup_by(|a, b| a.path == b.path);
    Ok(folder_of(&items))
}

/// A stored content, and how it counts: of a notebook the code cells are read.
fn known(store: &Store, path: &str, content: Content) -> Result<ReadState, ReadError> {
    let plain = read_input("", &content, std::path::Path::new(""));
    let input = match path.ends_with(".ipynb") && content.kind != ContentKind::Folder && store.contains(&content.digest)? {
        true => notebook_input(&store.read(&content.digest)?).unwrap_or(plain),
        false => plain,
    };
    Ok(ReadState::Known(content, input))
}

/// A recorded output, or a part of a recorded folder.
fn within(store: &Store, output: &PathContent, path: &str) -> Result<ReadState, ReadError> {
    let content = match path.strip_prefix(&*output.path).and_then(|rest| rest.strip_prefix('/')) {
        None => Some(output.content.clone()),
        Some(below) => part_of_folder(store, &output.content.digest, below)?,
    };
    let Some(content) = content else { return Ok(ReadState::Absent) };
    known(store, path, content)
}

impl From<ScanError> for PlanError {
    fn from(e: ScanError) -> PlanError {
        PlanError::Read(e.into())
    }
}
