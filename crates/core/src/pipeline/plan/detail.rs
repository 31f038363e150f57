//! By how much a read has changed: rows of a table, lines of a text, files of a folder.

use std::collections::BTreeMap;
use std::path::Path;

use serde::Serialize;

use crate::data::{Change, DataRef, change_between};
use crate::project::fingerprint::{LineChange, Reason, ReasonKind, line_change, walk};
use crate::project::workspace::Project;
use crate::record::receipt::{Content, ContentKind};
use crate::store::{Digest, Store, hash_file, parse_listing};

/// Texts above this are not compared line by line here. In bytes.
const MOST_BYTES: u64 = 64 << 20;

/// By how much a read has changed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "what")]
pub enum ReadDetail {
    /// Rows of a table.
    Rows {
        /// New rows.
        added: u64,
        /// Rows gone.
        removed: u64,
        /// Rows with other cells.
        changed: u64,
        /// Rows in all now.
        of: u64,
        /// The columns with changed cells, most first.
        columns: Vec<String>,
        /// Columns that came, went or are of another type.
        schema: u64,
    },
    /// The bytes are the same; whether the file may be executed is not.
    Executable {
        /// Whether it may be now.
        now: bool,
    },
    /// A text has as many lines as before, and some differ.
    Lines {
        /// Lines that differ.
        differing: u64,
        /// Lines in all.
        of: u64,
    },
    /// Lines of a text have come and gone.
    LinesMoved {
        /// Lines that are new.
        added: u64,
        /// Lines that are gone.
        removed: u64,
        /// Lines in all now.
        of: u64,
    },
    /// Files of a folder.
    Files {
        /// New files.
        added: u64,
        /// Files gone.
        removed: u64,
        /// Files with another content.
        changed: u64,
        /// Files in all now.
        of: u64,
    },
}

/// By how much the read that a reason speaks of has changed; `None` where that cannot be said: the old
/// content is not stored, a side is no text or large, or it is not there.
pub fn read_detail(project: &Project, reason: &Reason) -> Option<ReadDetail> {
    if reason.kind != ReasonKind::Read {
        return None;
    }
    let old: Digest = reason.from.as_ref()?.parse().ok()?;
    let new: Digest = reason.to.as_ref()?.parse().ok()?;
    let path = project.workspace.root().join(&reason.name);
    // What an earlier stage will put there is not what stands there now.
    let now = project.scanner.look(&reason.name).ok()?.filter(|standing| standing.digest == new)?;
    if path.is_dir() {
        return folder_detail(&project.store, &old, &path);
    }
    if new == old {
        return Some(ReadDetail::Executable { now: now.kind == ContentKind::Exec });
    }
    if let Some(rows) = rows_detail(project, &reason.name, old, now.clone()) {
        return Some(rows);
    }
    let small = now.size <= MOST_BYTES && project.store.size_of(&old).ok()? <= MOST_BYTES;
    if now.kind == ContentKind::Folder || !small {
        return None;
    }
    Some(match line_change(&project.store.read(&old).ok()?, &std::fs::read(path).ok()?)? {
        LineChange::Changed { differing, of } => ReadDetail::Lines { differing, of },
        LineChange::Moved { added, removed, of } => ReadDetail::LinesMoved { added, removed, of },
    })
}

/// Rows of a table that differ from those of a stored one.
fn rows_detail(project: &Project, path: &str, old: Digest, now: Content) -> Option<ReadDetail> {
    let decl = project.manifest.data.iter().find(|d| d.path == path);
    let dialect = decl.map(|d| d.table.clone()).unwrap_or_default();
    if dialect == Default::default() {
        crate::table::format_of(path)?;
    }
    let size = project.store.size_of(&old).ok()?;
    let side = |content: Content, file: Option<std::path::PathBuf>| DataRef {
        name: path.to_string(),
        dataset: None,
        version: None,
        path: path.to_string(),
        content,
        file,
        key: decl.map(|d| d.key.clone()).unwrap_or_default(),
        dialect: dialect.clone(),
    };
    let before = side(Content { digest: old, size, ..now.clone() }, None);
    let now = side(now, Some(project.scanner.root().join(path)));
    match change_between(project, &before, &now, Some(MOST_BYTES)).ok()?? {
        Change::Table { added, removed, changed, new_rows, columns, schema, .. } => {
            Some(ReadDetail::Rows { added, removed, changed, of: new_rows, columns, schema })
        }
        Change::Folder { .. } | Change::Other => None,
    }
}

fn folder_detail(store: &Store, old: &Digest, folder: &Path) -> Option<ReadDetail> {
    let listing = store.listing(old).ok()?;
    let mut before: BTreeMap<String, (u64, Option<Digest>)> =
        parse_listing(&listing).ok()?.into_iter().map(|i| (i.path.into_owned(), (i.size, i.digest))).collect();
    let (mut added, mut changed) = (0, 0);
    let now = walk(folder).ok()?;
    for seen in &now {
        match before.remove(&seen.path) {
            None => added += 1,
            Some((size, digest)) => {
                let same =
                    size == seen.stat.size && hash_file(&folder.join(&seen.path)).is_ok_and(|(found, _)| Some(found) == digest);
                changed += u64::from(!same);
            }
        }
    }
    Some(ReadDetail::Files { added, removed: before.len() as u64, changed, of: now.len() as u64 })
}
