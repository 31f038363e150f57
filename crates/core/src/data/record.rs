//! New states of datasets into the store, each with a data receipt.

use std::collections::BTreeMap;
use std::path::Path;
use textum_base::Identity;

use super::DataError;
use super::data_ref::DataRef;
use super::version::{Version, versions};
use crate::config::manifest::DatasetDecl;
use crate::project::git::git_state;
use crate::project::workspace::Project;
use crate::record::receipt::{Content, DATA_RECEIPT, DataReceipt, GitState, canonical};
use crate::store::Writer;
use textum_base::SourcePath;

/// What became of a dataset that was to be recorded.
#[derive(Clone, Debug)]
pub struct Recording {
    /// The dataset.
    pub name: String,
    /// Its version now.
    pub number: u64,
    /// Whether this state was never recorded before.
    pub new: bool,
    /// What it is.
    pub content: Content,
    /// Of a table: its rows.
    pub rows: Option<u64>,
}

/// In a folder of more files rows are not counted while it is recorded.
const MANY_FILES: usize = 1000;

/// Number of rows, if it is a table and has still the content that was recorded.
fn rows_of(project: &Project, decl: &DatasetDecl, content: &Content) -> Option<u64> {
    let scanner = &project.scanner;
    let path = scanner.root().join(&decl.path);
    // What is about to be published is asked for nowhere else.
    let _here = project.store.only_here();
    let side = DataRef {
        name: decl.name.clone(),
        dataset: None,
        version: None,
        path: decl.path.to_string(),
        content: content.clone(),
        file: Some(path),
        key: Vec::new(),
        dialect: decl.table.clone(),
    };
    let table = side.table(project).ok()?;
    let rows = (table.part_paths().len() <= MANY_FILES).then(|| table.count_rows().ok())??;
    let still = scanner.look(&decl.path).ok().flatten();
    (still.as_ref() == Some(content)).then_some(rows)
}

fn receipt(
    project: &Project,
    decl: &DatasetDecl,
    recording: &Recording,
    by: &Identity,
    note: Option<&str>,
    git: Option<GitState>,
) -> DataReceipt {
    DataReceipt {
        r#type: DATA_RECEIPT.to_string(),
        dataset: decl.name.clone(),
        number: recording.number,
        path: decl.path.clone(),
        content: recording.content.clone(),
        hold: project.hold_of(&decl.path),
        rows: recording.rows,
        recorded: textum_base::clock::now().to_string(),
        by: by.to_string(),
        note: note.map(str::to_string),
        git,
    }
}

/// That no dataset stands in the tree as it was before rows of it were erased: it would be recorded once more.
pub fn none_is_erased(project: &Project) -> Result<(), DataError> {
    if project.ledger.erasures()?.is_empty() {
        return Ok(());
    }
    for decl in &project.manifest.data {
        if let Some(content) = project.scanner.look(&decl.path)?
            && let Some(erasure) = project.ledger.erased_version(&content.digest)?
        {
            return Err(DataError::ErasedAgain { path: decl.path.to_string(), erasure: Box::new(erasure) });
        }
    }
    Ok(())
}

/// Puts a data receipt for every dataset whose content (by path, as it was just taken in) is new, or is to
/// be noted. Nothing is published.
pub fn recorded_anew(
    project: &Project,
    contents: &BTreeMap<SourcePath, Content>,
    writer: &Writer<'_>,
    by: &Identity,
    note: Option<&str>,
) -> Result<Vec<Recording>, DataError> {
    let mut found = Vec::new();
    let mut git: Option<Option<GitState>> = None;
    for decl in &project.manifest.data {
        let Some(content) = contents.get(&decl.path) else { continue };
        let known = versions(&project.ledger, &decl.name)?;
        let same = known.iter().find(|v| v.content.digest == content.digest);
        let next = known.iter().map(|v| v.number).max().unwrap_or(0) + 1;
        // A state that was only referred to so far may now be taken in: that is worth a receipt.
        let held = same.is_some_and(|v| v.hold == project.hold_of(&decl.path) || v.hold.is_store());
        let recording = Recording {
            name: decl.name.clone(),
            number: same.map_or(next, |v| v.number),
            new: same.is_none(),
            content: content.clone(),
            rows: match same {
                Some(version) => version.rows,
                None => rows_of(project, decl, content),
            },
        };
        if recording.new || note.is_some() || !held {
            let git = git.get_or_insert_with(|| git_state(project.workspace.root())).clone();
            writer.put_document(&canonical(&receipt(project, decl, &recording, by, note, git))?)?;
        }
        found.push(recording);
    }
    Ok(found)
}

/// Records datasets as they stand now; all of them when none is named. One that is not there is an error
/// only when named.
pub fn record_datasets(
    project: &mut Project,
    names: &[String],
    by: &Identity,
    note: Option<&str>,
) -> Result<Vec<Recording>, DataError> {
    for name in names {
        if !project.manifest.data.iter().any(|d| d.name == *name) {
            let near = crate::config::manifest::nearest(name, project.manifest.data.iter().map(|d| d.name.as_str()));
            return Err(DataError::NoDataset { name: name.clone(), near: near.map(str::to_string) });
        }
    }
    none_is_erased(project)?;
    let found = {
        let project = &*project;
        let writer = project.store.writer()?;
        let mut contents = BTreeMap::new();
        for decl in project.manifest.data.iter().filter(|d| names.is_empty() || names.contains(&d.name)) {
            match project.scanner.record(&decl.path, &writer)? {
                Some(content) => drop(contents.insert(decl.path.clone(), content)),
                None if names.is_empty() => {}
                None => return Err(absent(project.workspace.root(), decl)),
            }
        }
        let found = recorded_anew(project, &contents, &writer, by, note)?;
        writer.publish()?;
        found
    };
    project.ledger.catch_up(&project.store)?;
    project.save_looks();
    project.store.fold_small_packs()?;
    Ok(found)
}

/// Adds words to a version that is recorded already, whatever stands in the tree now.
pub fn note_version(project: &mut Project, version: &Version, by: &Identity, note: &str) -> Result<(), DataError> {
    {
        let writer = project.store.writer()?;
        let receipt = DataReceipt {
            r#type: DATA_RECEIPT.to_string(),
            dataset: version.dataset.clone(),
            number: version.number,
            path: version.path.clone(),
            content: version.content.clone(),
            hold: version.hold,
            rows: version.rows,
            recorded: textum_base::clock::now().to_string(),
            by: by.to_string(),
            note: Some(note.to_string()),
            git: git_state(project.workspace.root()),
        };
        writer.put_document(&canonical(&receipt)?)?;
        writer.publish()?;
    }
    project.ledger.catch_up(&project.store)?;
    Ok(())
}

pub(super) fn absent(root: &Path, decl: &DatasetDecl) -> DataError {
    DataError::Absent { name: decl.name.clone(), path: root.join(&decl.path) }
}
