//! One side of a comparison: `shifts@2`, `shifts` for the working tree, a part `photos@1:labels.csv`, or a
//! path on the disk.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use super::DataError;
use super::stored_table::StoredTable;
use super::table_at::{dialect_at, of_files};
use super::version::{Version, split_name, version_of, version_with, versions};
use crate::config::manifest::nearest;
use crate::fsio::IoError;
use crate::project::fingerprint::read_outside;
use crate::project::fingerprint::{Seen, walk};
use crate::project::workspace::Project;
use crate::record::receipt::{Content, ContentKind, StorageMode};
use crate::store::{Digest, Item, ItemKind, hash_file, items_of_listing};
use crate::table::{Dialect, Origin, Table, format_of, looks_like_array};

/// Something that can be compared, read as a table or summed up.
#[derive(Clone, Debug)]
pub struct DataRef {
    /// What it is called: `shifts@2`, `shifts (edited)`, or a path.
    pub name: String,
    /// The dataset that it is a state of.
    pub dataset: Option<String>,
    /// The version that it is.
    pub version: Option<Version>,
    /// The path that tells the format.
    pub path: String,
    /// What it is.
    pub content: Content,
    /// Where its bytes are on the disk; none when they are in the store.
    pub file: Option<PathBuf>,
    /// The columns that tell rows apart, as declared.
    pub key: Vec<String>,
    /// How it is written as a table, as far as that is declared.
    pub dialect: Dialect,
}

/// A file of a folder, as a listing has it.
pub type Entry = (String, ItemKind, Option<Digest>, u64);

/// The key and the dialect of a dataset, as declared.
fn declared(project: &Project, name: &str) -> (Vec<String>, Dialect) {
    let decl = project.manifest.data.iter().find(|d| d.name == name);
    decl.map(|d| (d.key.clone(), d.table.clone())).unwrap_or_default()
}

/// What a person has named. `here` is the folder that a path is relative to.
pub fn find_data(project: &Project, text: &str, here: &Path) -> Result<DataRef, DataError> {
    let (whole, part) = match text.split_once(':') {
        Some((whole, part)) if !here.join(text).exists() => (whole, Some(part)),
        _ => (text, None),
    };
    let side = match split_name(whole) {
        Some((name, number)) if !here.join(whole).exists() => of_version(project, version_with(&project.ledger, name, number)?)?,
        _ => match project.manifest.data.iter().find(|d| d.name == whole) {
            Some(decl) => of_tree(project, &decl.name)?,
            None => of_path(project, whole, here)?,
        },
    };
    match part {
        Some(part) => within(project, side, part),
        None => Ok(side),
    }
}

/// A recorded version. The bytes of a reference must still be what they were for it to be read.
fn of_version(project: &Project, version: Version) -> Result<DataRef, DataError> {
    if !project.store.contains(&version.content.digest)?
        && version.hold == StorageMode::Store
        && let Some(erasure) = project.ledger.erased(&version.content.digest)?
    {
        return Err(DataError::Erased { version: version.name(), erasure: Box::new(erasure) });
    }
    let file = match version.hold {
        StorageMode::Store => None,
        StorageMode::Reference => Some(project.workspace.root().join(&version.path)),
    };
    let (key, dialect) = declared(project, &version.dataset);
    Ok(DataRef {
        name: version.name(),
        dataset: Some(version.dataset.clone()),
        path: version.path.to_string(),
        content: version.content.clone(),
        file,
        key,
        dialect,
        version: Some(version),
    })
}

/// A dataset as it stands in the working tree.
fn of_tree(project: &Project, name: &str) -> Result<DataRef, DataError> {
    let missing = || DataError::NoDataset { name: name.to_string(), near: None };
    let decl = project.manifest.data.iter().find(|d| d.name == name).ok_or_else(missing)?;
    let content = project.scanner.look(&decl.path)?.ok_or_else(|| super::record::absent(project.workspace.root(), decl))?;
    let version = version_of(&project.ledger, name, &content.digest)?;
    let shown = match (&version, versions(&project.ledger, name)?.is_empty()) {
        (Some(version), _) => version.name(),
        (None, true) => format!("{name} (not recorded)"),
        (None, false) => format!("{name} (edited)"),
    };
    Ok(DataRef {
        name: shown,
        dataset: Some(name.to_string()),
        version,
        path: decl.path.to_string(),
        content,
        file: Some(project.workspace.root().join(&decl.path)),
        key: decl.key.clone(),
        dialect: decl.table.clone(),
    })
}

fn of_path(project: &Project, text: &str, here: &Path) -> Result<DataRef, DataError> {
    let full = here.join(text);
    let Some(content) = read_outside(&full)? else {
        let looks_like_path = text.contains(['/', '.']);
        if looks_like_path {
            return Err(IoError::of("find", &full)(std::io::ErrorKind::NotFound.into()).into());
        }
        let names = project.manifest.data.iter().map(|d| d.name.clone()).chain(project.ledger.dataset_names()?);
        let names: Vec<String> = names.collect();
        let near = nearest(text, names.iter().map(String::as_str)).map(str::to_string);
        return Err(DataError::NoDataset { name: text.to_string(), near });
    };
    // A dataset that is named by its path is written as it is declared.
    let decl = project.manifest.data.iter().find(|d| project.workspace.root().join(&d.path) == full);
    Ok(DataRef {
        name: text.to_string(),
        dialect: decl.map(|d| d.table.clone()).unwrap_or_default(),
        dataset: None,
        version: None,
        path: text.to_string(),
        content,
        file: Some(full),
        key: Vec::new(),
    })
}

/// A file in a folder.
fn within(project: &Project, side: DataRef, part: &str) -> Result<DataRef, DataError> {
    let part = part.trim_matches('/');
    let entries = side.entries(project)?;
    let found = entries.iter().find(|(path, kind, ..)| path == part && matches!(kind, ItemKind::File | ItemKind::Exec));
    let Some((_, _, Some(digest), size)) = found else {
        let near = nearest(part, entries.iter().map(|e| e.0.as_str())).map(str::to_string);
        return Err(DataError::NotInFolder { name: side.name, path: part.to_string(), near });
    };
    Ok(DataRef {
        name: format!("{}:{part}", side.name),
        path: part.to_string(),
        content: Content::file(*digest, *size),
        file: side.file.map(|f| f.join(part)),
        ..side
    })
}

impl DataRef {
    /// Whether it is a folder.
    pub fn is_folder(&self) -> bool {
        self.content.kind == ContentKind::Folder
    }

    /// Whether what stands on the disk is still what is spoken of.
    fn check_on_disk(&self) -> Result<(), DataError> {
        let (Some(file), Some(version)) = (&self.file, &self.version) else { return Ok(()) };
        if version.hold != StorageMode::Reference {
            return Ok(());
        }
        let now = read_outside(file)?;
        if now.as_ref().is_some_and(|n| n.digest == self.content.digest) {
            return Ok(());
        }
        let now = now.map(|n| n.digest.short());
        Err(DataError::ReferenceChanged { version: self.name.clone(), path: file.clone(), now })
    }

    /// It as a table that can be read.
    pub fn table<'p>(&self, project: &'p Project) -> Result<Table<'p>, DataError> {
        if self.is_folder() {
            self.check_on_disk()?;
            return self.of_parts(project)?.ok_or_else(|| DataError::Folder(self.name.clone()));
        }
        Ok(Table::with(&self.name, &self.path, self.origin(project)?, &dialect_at(&self.dialect, &self.path))?)
    }

    fn origin<'p>(&self, project: &'p Project) -> Result<Origin<'p>, DataError> {
        Ok(match &self.file {
            Some(file) => {
                self.check_on_disk()?;
                Origin::File(file.clone())
            }
            None => Origin::Source(Arc::new(StoredTable { store: &project.store, digest: self.content.digest })),
        })
    }

    /// The files of a folder as one table, if they make one.
    fn of_parts<'p>(&self, project: &'p Project) -> Result<Option<Table<'p>>, DataError> {
        let mut files = Vec::new();
        for (path, kind, digest) in self.files(project)? {
            let origin = match (kind, digest, &self.file) {
                (ItemKind::File | ItemKind::Exec, _, Some(folder)) => Origin::File(folder.join(&path)),
                (ItemKind::File | ItemKind::Exec, Some(digest), None) => {
                    Origin::Source(Arc::new(StoredTable { store: &project.store, digest }))
                }
                _ => continue,
            };
            files.push((path, origin));
        }
        let found = of_files(&self.name, files, &self.dialect);
        // Any document may be written in JSON.
        Ok(found.filter(|table| table.is_whole_document().is_none_or(|start| looks_like_array(&start))))
    }

    /// Whether it can be read row by row: a file, or a folder whose files are parts of one table.
    pub fn is_table(&self, project: &Project) -> Result<bool, DataError> {
        if self.is_folder() {
            return Ok(self.of_parts(project)?.is_some());
        }
        if dialect_at(&self.dialect, &self.path).format.is_none() && format_of(&self.path).is_none() {
            return Ok(false);
        }
        let table = self.table(project)?;
        Ok(table.is_whole_document().is_none_or(|start| looks_like_array(&start)))
    }

    /// The files of a folder. Of a recorded one the listing is enough.
    pub fn entries(&self, project: &Project) -> Result<Vec<Entry>, DataError> {
        match (self.recorded(project), &self.file) {
            (Ok(entries), _) => Ok(entries),
            (Err(_), Some(folder)) => on_disk(folder),
            (Err(e), None) => Err(e),
        }
    }

    /// The files of a folder, without their digests where they would have to be read for that.
    fn files(&self, project: &Project) -> Result<Vec<(String, ItemKind, Option<Digest>)>, DataError> {
        match (self.recorded(project), &self.file) {
            (Ok(entries), _) => Ok(entries.into_iter().map(|(path, kind, digest, _)| (path, kind, digest)).collect()),
            (Err(_), Some(folder)) => Ok(walked(folder)?.1.into_iter().map(|seen| (seen.path, seen.kind, None)).collect()),
            (Err(e), None) => Err(e),
        }
    }

    fn recorded(&self, project: &Project) -> Result<Vec<Entry>, DataError> {
        let listing = project.store.listing(&self.content.digest)?;
        let items: Vec<Item<'_>> = items_of_listing(&project.store, &self.content.digest, &listing)?;
        Ok(items.into_iter().map(|i| (i.path.into_owned(), i.kind, i.digest, i.size)).collect())
    }
}

/// Everything in a folder on the disk, with where the folder really is.
fn walked(folder: &Path) -> Result<(PathBuf, Vec<Seen>), DataError> {
    let folder = std::fs::canonicalize(folder).map_err(IoError::of("open the folder", folder))?;
    let seen = walk(&folder)?;
    Ok((folder, seen))
}

fn on_disk(folder: &Path) -> Result<Vec<Entry>, DataError> {
    use rayon::prelude::*;
    let (folder, seen) = walked(folder)?;
    seen.into_par_iter()
        .map(|seen| {
            let full = folder.join(&seen.path);
            let digest = match seen.kind {
                ItemKind::EmptyDir => None,
                ItemKind::Link => {
                    let target = std::fs::read_link(&full).map_err(IoError::of("read the link", &full))?;
                    Some(Digest::of(target.as_os_str().as_encoded_bytes()))
                }
                ItemKind::File | ItemKind::Exec => Some(hash_file(&full)?.0),
            };
            Ok((seen.path, seen.kind, digest, seen.stat.size))
        })
        .collect()
}
