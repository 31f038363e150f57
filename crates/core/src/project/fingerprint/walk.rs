//! Everything in a folder, sorted, with its metadata: a directory listing and one stat a file.

use std::cmp::Ordering;
use std::fs;
use std::os::fd::OwnedFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use rayon::prelude::*;
use rustix::fs::{AtFlags, CWD, Dir, FileType, Mode, OFlags, fstat, openat, statat};
use textum_base::link_stays;

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
    /// Whether only its owner may read it, or look into a folder above it.
    pub private: bool,
}

/// Never part of a folder's content: what interpreters and desktops leave there by themselves.
const LEFT_OUT: [&[u8]; 3] = [b"__pycache__", b".ipynb_checkpoints", b".DS_Store"];

/// Lists a folder at any depth, sorted by the bytes of the paths. A name that is not UTF-8, a link
/// that leaves the folder and a thing that is no file are errors.
pub fn walk(folder: &Path) -> Result<Vec<Seen>, ScanError> {
    let opened = open_folder(CWD, folder).map_err(|e| IoError::of("list the folder", folder)(e.into()))?;
    let root = Root { path: folder, handle: &opened };
    visit(&root, &opened, "", false)
}

fn open_folder(at: impl std::os::fd::AsFd, name: impl rustix::path::Arg) -> rustix::io::Result<OwnedFd> {
    openat(at, name, OFlags::RDONLY | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())
}

/// The folder that is listed.
struct Root<'r> {
    path: &'r Path,
    handle: &'r OwnedFd,
}

/// Whether nobody but the owner may read what bears this mode.
pub fn is_private(mode: u32) -> bool {
    mode & 0o077 == 0
}

struct Entry {
    name: String,
    is_folder: bool,
}

/// The order of full paths: what is in a folder sorts as if the folder's name ended with `/`.
fn by_path(a: &Entry, b: &Entry) -> Ordering {
    let common = a.name.len().min(b.name.len());
    let next = |e: &Entry| e.name.as_bytes().get(common).copied().or(e.is_folder.then_some(b'/'));
    a.name.as_bytes()[..common].cmp(&b.name.as_bytes()[..common]).then_with(|| next(a).cmp(&next(b)))
}

fn visit(root: &Root<'_>, folder: &OwnedFd, below: &str, private: bool) -> Result<Vec<Seen>, ScanError> {
    let private = private || fstat(folder).is_ok_and(|s| is_private(s.st_mode));
    let mut entries = list(root, folder, below)?;
    if entries.is_empty() && !below.is_empty() {
        let path = below.trim_end_matches('/').to_string();
        // An empty folder's times change without any content changing.
        return Ok(vec![Seen { path, kind: ItemKind::EmptyDir, stat: Stat::default(), private }]);
    }
    entries.sort_unstable_by(by_path);
    let (folders, files): (Vec<&Entry>, Vec<&Entry>) = entries.iter().partition(|e| e.is_folder);
    let looked =
        || files.par_iter().with_min_len(64).map(|e| look_at(root, folder, below, &e.name, private)).collect::<Result<Vec<_>, _>>();
    let visited = || folders.par_iter().map(|e| enter(root, folder, below, &e.name, private)).collect::<Result<Vec<_>, _>>();
    let (looked, visited) = rayon::join(looked, visited);
    let (mut looked, mut visited) = (looked?.into_iter(), visited?.into_iter());
    let mut found = Vec::with_capacity(entries.len());
    for entry in &entries {
        if entry.is_folder {
            found.extend(visited.next().into_iter().flatten());
        } else {
            found.extend(looked.next().flatten());
        }
    }
    Ok(found)
}

fn enter(root: &Root<'_>, folder: &OwnedFd, below: &str, name: &str, private: bool) -> Result<Vec<Seen>, ScanError> {
    let path = [below, name, "/"].concat();
    match open_folder(folder, name) {
        // Gone since its folder was listed.
        Err(rustix::io::Errno::NOENT) => Ok(Vec::new()),
        Err(e) => Err(IoError::of("list the folder", &root.path.join(path))(e.into()).into()),
        Ok(opened) => visit(root, &opened, &path, private),
    }
}

fn list(root: &Root<'_>, folder: &OwnedFd, below: &str) -> Result<Vec<Entry>, ScanError> {
    let fail = |e: rustix::io::Errno| ScanError::from(IoError::of("list the folder", &root.path.join(below))(e.into()));
    let mut entries = Vec::new();
    for entry in Dir::read_from(folder).map_err(fail)? {
        let entry = entry.map_err(fail)?;
        let name = entry.file_name().to_bytes();
        if name == b"." || name == b".." || LEFT_OUT.contains(&name) {
            continue;
        }
        let Ok(text) = std::str::from_utf8(name) else {
            return Err(ScanError::NotUtf8 { path: root.path.join(below).join(std::ffi::OsStr::from_bytes(name)) });
        };
        let kind = match entry.file_type() {
            FileType::Unknown => statat(folder, entry.file_name(), AtFlags::SYMLINK_NOFOLLOW)
                .map_or(FileType::Unknown, |s| FileType::from_raw_mode(s.st_mode)),
            known => known,
        };
        entries.push(Entry { name: text.to_string(), is_folder: kind == FileType::Directory });
    }
    Ok(entries)
}

fn look_at(root: &Root<'_>, folder: &OwnedFd, below: &str, name: &str, private: bool) -> Result<Option<Seen>, ScanError> {
    let path = [below, name].concat();
    let stat = match statat(folder, name, AtFlags::SYMLINK_NOFOLLOW) {
        Err(rustix::io::Errno::NOENT) => return Ok(None),
        other => other.map_err(|e| IoError::of("look at", &root.path.join(&path))(e.into()))?,
    };
    let kind = match FileType::from_raw_mode(stat.st_mode) {
        FileType::RegularFile if stat.st_mode & 0o100 != 0 => ItemKind::Exec,
        FileType::RegularFile => ItemKind::File,
        FileType::Symlink => ItemKind::Link,
        _ => return Err(ScanError::NotAFile { path: root.path.join(path) }),
    };
    if kind == ItemKind::Link {
        stays_inside(root, &path)?;
    }
    let private = kind != ItemKind::Link && (private || is_private(stat.st_mode));
    Ok(Some(Seen { path, kind, stat: Stat::of_raw(&stat), private }))
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

/// A link in a folder must point into the folder, else what it points to would not be recorded: by its text, and
/// for real, since another link on the way may lead elsewhere.
fn stays_inside(root: &Root<'_>, path: &str) -> Result<(), ScanError> {
    let link = root.path.join(path);
    let target = link_target(&link)?;
    if !link_stays(path, &target) || leads_out(root, path) {
        return Err(ScanError::LinkLeaves { link, target: PathBuf::from(target) });
    }
    Ok(())
}

#[cfg(target_os = "linux")]
fn leads_out(root: &Root<'_>, path: &str) -> bool {
    use rustix::fs::{ResolveFlags, openat2};
    let opened = openat2(root.handle, path, OFlags::PATH | OFlags::CLOEXEC, Mode::empty(), ResolveFlags::BENEATH);
    matches!(opened, Err(rustix::io::Errno::XDEV))
}

#[cfg(not(target_os = "linux"))]
fn leads_out(root: &Root<'_>, path: &str) -> bool {
    let inside = |real: PathBuf| fs::canonicalize(root.path).is_ok_and(|root| real.starts_with(root));
    fs::canonicalize(root.path.join(path)).is_ok_and(|real| !inside(real))
}
