//! Everything in a folder, sorted, with its metadata.

use std::fs;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use rayon::prelude::*;

use super::ScanError;
use super::stat::Stat;
use crate::fsio::IoError;
use crate::store::ItemKind;

/// One thing in a folder.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Seen {
    /// Path below the folder, with `/`.
    pub path: String,
    /// What it is.
    pub kind: ItemKind,
    /// Its metadata.
    pub stat: Stat,
}

/// Never part of a folder's content: what interpreters and desktops leave there by themselves.
const LEFT_OUT: [&[u8]; 3] = [b"__pycache__", b".ipynb_checkpoints", b".DS_Store"];

/// Lists a folder at any depth, sorted by the bytes of the paths. A name that is not UTF-8, a link
/// that leaves the folder and a thing that is no file are errors.
pub fn walk(folder: &Path) -> Result<Vec<Seen>, ScanError> {
    let mut paths = Vec::new();
    let mut todo = vec![String::new()];
    while let Some(below) = todo.pop() {
        let found_before = paths.len() + todo.len();
        list(folder, &below, &mut paths, &mut todo)?;
        if paths.len() + todo.len() == found_before && !below.is_empty() {
            paths.push(below);
        }
    }
    paths.par_sort_unstable();
    paths.into_par_iter().map(|path| look_at(folder, path)).filter_map(Result::transpose).collect()
}

fn list(folder: &Path, below: &str, files: &mut Vec<String>, folders: &mut Vec<String>) -> Result<(), ScanError> {
    let here = folder.join(below);
    for entry in fs::read_dir(&here).map_err(IoError::of("list the folder", &here))? {
        let entry = entry.map_err(IoError::of("list the folder", &here))?;
        let name = entry.file_name();
        if LEFT_OUT.contains(&name.as_bytes()) {
            continue;
        }
        let Some(name) = name.to_str() else {
            return Err(ScanError::NotUtf8 { path: here.join(&name) });
        };
        let path = if below.is_empty() { name.to_string() } else { format!("{below}/{name}") };
        let kind = entry.file_type().map_err(IoError::of("look at", &entry.path()))?;
        if kind.is_dir() { folders.push(path) } else { files.push(path) }
    }
    Ok(())
}

fn look_at(folder: &Path, path: String) -> Result<Option<Seen>, ScanError> {
    let full = folder.join(&path);
    let meta = match fs::symlink_metadata(&full) {
        // Gone since the folder was listed.
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        other => other.map_err(IoError::of("look at", &full))?,
    };
    let kind = kind_of(&meta).ok_or_else(|| ScanError::NotAFile { path: full.clone() })?;
    if kind == ItemKind::Link {
        stays_inside(&full, &path)?;
    }
    // An empty folder's times change without any content changing.
    let stat = if kind == ItemKind::EmptyDir { Stat::default() } else { Stat::of(&meta) };
    Ok(Some(Seen { path, kind, stat }))
}

/// What a thing is, if it is one that can be recorded.
pub fn kind_of(meta: &fs::Metadata) -> Option<ItemKind> {
    let kind = meta.file_type();
    if kind.is_symlink() {
        Some(ItemKind::Link)
    } else if kind.is_dir() {
        Some(ItemKind::EmptyDir)
    } else if kind.is_file() {
        Some(if meta.permissions().mode() & 0o100 != 0 { ItemKind::Exec } else { ItemKind::File })
    } else {
        None
    }
}

/// The text that a link points to.
pub fn link_target(link: &Path) -> Result<String, ScanError> {
    let target = fs::read_link(link).map_err(IoError::of("read the link", link))?;
    target.to_str().map(str::to_string).ok_or_else(|| ScanError::NotUtf8 { path: target.clone() })
}

/// A link in a folder must point into the folder, else what it points to would not be recorded.
fn stays_inside(link: &Path, path: &str) -> Result<(), ScanError> {
    let target = link_target(link)?;
    let mut depth = path.matches('/').count();
    let leaves = target.starts_with('/')
        || target.split('/').any(|part| match part {
            "" | "." => false,
            ".." if depth == 0 => true,
            ".." => {
                depth -= 1;
                false
            }
            _ => {
                depth += 1;
                false
            }
        });
    if leaves { Err(ScanError::LinkLeaves { link: link.to_path_buf(), target: PathBuf::from(target) }) } else { Ok(()) }
}
