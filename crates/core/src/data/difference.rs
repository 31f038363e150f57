//! How two states differ, and the short form of it that is kept for the next time.

use std::path::Path;

use serde::{Deserialize, Serialize};

use super::DataError;
use super::data_ref::DataRef;
use super::files::{FilesDiff, compare_files};
use crate::fsio;
use crate::project::workspace::Project;
use crate::record::receipt::canonical;
use crate::store::Digest;
use crate::table::Dialect;
use crate::table::compare::{CompareOptions, Identity, RowsDiff, compare as compare_tables};

/// How two states differ.
#[derive(Clone, Debug, Serialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum Difference {
    /// They are the same content.
    Same,
    /// Two tables.
    Table {
        /// Their rows.
        #[serde(flatten)]
        rows: Box<RowsDiff>,
        /// Of tables in folders: which files hold the change.
        #[serde(skip_serializing_if = "Option::is_none")]
        files: Option<FilesDiff>,
    },
    /// Two folders.
    Folder(FilesDiff),
    /// Two files that are no tables.
    File,
}

/// The short form of a difference.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "lowercase")]
pub enum Change {
    /// Of tables.
    Table {
        /// Rows that are new.
        added: u64,
        /// Rows that are gone.
        removed: u64,
        /// Rows with other cells.
        changed: u64,
        /// Rows before.
        old_rows: u64,
        /// Rows now.
        new_rows: u64,
        /// Whether a key told the rows apart.
        by_key: bool,
        /// The columns with changed cells, most first.
        columns: Vec<String>,
        /// Columns that came, went or are of another type.
        schema: u64,
    },
    /// Of folders.
    Folder {
        /// Files that are new.
        added: u64,
        /// Files that are gone.
        removed: u64,
        /// Files with another content.
        changed: u64,
        /// Files at another path.
        moved: u64,
        /// Files now.
        of: u64,
    },
    /// Of files that are no tables, or of a file and a folder.
    Other,
}

/// Compares two states: folders file by file, tables row by row.
pub fn compare(project: &Project, old: &DataRef, new: &DataRef, options: &CompareOptions) -> Result<Difference, DataError> {
    if old.is_folder() != new.is_folder() {
        let (file, folder) = if old.is_folder() { (new, old) } else { (old, new) };
        return Err(DataError::FileAndFolder(file.name.clone(), folder.name.clone()));
    }
    if old.content.digest == new.content.digest {
        return Ok(Difference::Same);
    }
    let files = match old.is_folder() {
        true => Some(compare_files(&old.entries(project)?, &new.entries(project)?)),
        false => None,
    };
    if !old.is_table(project)? || !new.is_table(project)? {
        return Ok(files.map_or(Difference::File, Difference::Folder));
    }
    let scratch = crate::table::scratch(project.store.folder());
    let (old, new) = (old.table(project)?, new.table(project)?);
    let rows = Box::new(compare_tables(&old, &new, options, &scratch)?);
    Ok(Difference::Table { rows, files })
}

impl Difference {
    /// Its short form; `None` when nothing differs.
    pub fn change(&self) -> Option<Change> {
        Some(match self {
            Difference::Same => return None,
            Difference::Table { rows: diff, .. } => Change::Table {
                added: diff.added,
                removed: diff.removed,
                changed: diff.changed,
                old_rows: diff.old_rows,
                new_rows: diff.new_rows,
                by_key: matches!(diff.identity, Identity::Key { .. }),
                columns: diff.columns.iter().map(|c| c.column.clone()).collect(),
                schema: (diff.schema.added.len() + diff.schema.removed.len() + diff.schema.types.len() + diff.schema.renamed.len())
                    as u64,
            },
            Difference::Folder(diff) => Change::Folder {
                added: diff.added,
                removed: diff.removed,
                changed: diff.changed,
                moved: diff.moved,
                of: diff.new.0,
            },
            Difference::File => Change::Other,
        })
    }
}

#[derive(Serialize)]
struct CacheKey<'k> {
    version: u32,
    old: Digest,
    new: Digest,
    key: &'k [String],
    path: &'k str,
    dialects: [&'k Dialect; 2],
}

fn cache_path(folder: &Path, old: &DataRef, new: &DataRef, key: &[String]) -> Option<std::path::PathBuf> {
    let extension = new.path.rsplit('/').next().unwrap_or(&new.path);
    let dialects = [&old.dialect, &new.dialect];
    let key = CacheKey { version: 2, old: old.content.digest, new: new.content.digest, key, path: extension, dialects };
    Some(folder.join("changes").join(format!("{}.json", Digest::of(&canonical(&key).ok()?).hex())))
}

/// The short form of what differs between two states, from memory if it was asked for before. With `most`,
/// tables that are together larger (in bytes) are not compared, and `None` is the answer.
pub fn change_between(project: &Project, old: &DataRef, new: &DataRef, most: Option<u64>) -> Result<Option<Change>, DataError> {
    let cache = project.workspace.cache_folder().and_then(|f| cache_path(&f, old, new, &new.key));
    if let Some(known) = cache.as_ref().and_then(|c| std::fs::read(c).ok())
        && let Ok(change) = serde_json::from_slice(&known)
    {
        return Ok(Some(change));
    }
    // To tell in short how two versions differ is not worth fetching them.
    let is_here = |side: &DataRef| Ok::<_, DataError>(side.file.is_some() || project.store.contains(&side.content.digest)?);
    if project.store.has_source() && !(is_here(old)? && is_here(new)?) {
        return Ok(None);
    }
    if most.is_some_and(|most| old.content.size + new.content.size > most && old.is_table(project).unwrap_or(false)) {
        return Ok(None);
    }
    let options = CompareOptions { key: new.key.clone(), ..CompareOptions::default() };
    let change = match compare(project, old, new, &options) {
        Err(DataError::FileAndFolder(..)) => Some(Change::Other),
        other => other?.change(),
    };
    if let (Some(cache), Some(change)) = (cache, &change)
        && let Ok(bytes) = serde_json::to_vec(change)
    {
        // Only a memory: without it the states are compared again.
        let _ = fsio::write_derived(&cache, &bytes);
    }
    Ok(change)
}
