//! Recorded content onto the disk, each byte checked on the way.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::path::Path;

use rayon::prelude::*;

use crate::exec::{ClearError, Clearer};
use crate::fingerprint::walk;
use crate::fsio::{self, IoError};
use crate::receipt::{Content, ContentKind};
use crate::store::{Digest, Item, ItemKind, Store, StoreError, hash_file, parse_listing};

/// Why content could not be put in place.
#[derive(Debug, thiserror::Error)]
pub enum PutError {
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// The store does not have it, or not whole.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// What stands in the way could not be cleared.
    #[error(transparent)]
    Clear(#[from] ClearError),
}

/// Content written aside and checked, ready to be put where it belongs.
enum Prepared {
    File(tempfile::NamedTempFile),
    Folder(tempfile::TempDir),
}

/// Writes content to a path where nothing stands, whole or not at all.
pub fn put_new(store: &Store, content: &Content, target: &Path) -> Result<(), PutError> {
    prepare(store, content, target, None)?.place(target)
}

/// Writes content aside: into `incoming` where a rename from there to the target is possible, else beside
/// the target.
fn prepare(store: &Store, content: &Content, target: &Path, incoming: Option<&Path>) -> Result<Prepared, PutError> {
    let parent = target.parent().unwrap_or(Path::new("."));
    fs::create_dir_all(parent).map_err(IoError::of("create the folder", parent))?;
    let parent = incoming.filter(|i| fsio::same_disk(i, parent)).unwrap_or(parent);
    if content.kind != ContentKind::Folder {
        return prepare_file(store, &content.digest, content.kind == ContentKind::Exec, target, parent);
    }
    let listing = store.read(&content.digest)?;
    let aside = scratch_in(parent)?;
    let items = items_of(store, &content.digest, &listing)?;
    make_folders(aside.path(), &items.iter().collect::<Vec<_>>())?;
    items.par_iter().try_for_each(|item| write_item(store, item, &aside.path().join(&*item.path)))?;
    open_to_all(aside.path())?;
    Ok(Prepared::Folder(aside))
}

/// The folder in which content for the tree is made ready, out of sight.
fn incoming(clearer: &Clearer<'_>) -> Option<std::path::PathBuf> {
    let folder = clearer.aside.parent()?.parent()?.join("incoming");
    fs::create_dir_all(&folder).ok()?;
    Some(folder)
}

fn scratch_in(parent: &Path) -> Result<tempfile::TempDir, IoError> {
    tempfile::Builder::new().prefix(&fsio::part_prefix()).tempdir_in(parent).map_err(IoError::of("create a folder in", parent))
}

impl Prepared {
    fn place(self, target: &Path) -> Result<(), PutError> {
        match self {
            Prepared::File(aside) => drop(aside.persist(target).map_err(|e| IoError::of("write", target)(e.error))?),
            Prepared::Folder(aside) => {
                fs::rename(aside.path(), target).map_err(IoError::of("create the folder", target))?;
                // The folder is where it belongs now: nothing is left to be removed.
                let _ = aside.keep();
            }
        }
        Ok(())
    }
}

fn items_of<'l>(store: &Store, folder: &Digest, listing: &'l [u8]) -> Result<Vec<Item<'l>>, StoreError> {
    parse_listing(listing).map_err(|e| StoreError::Damaged { path: store.folder().to_path_buf(), what: format!("{folder}: {e}") })
}

/// Temporary folders are private; a folder that is put in place is like any other.
fn open_to_all(folder: &Path) -> Result<(), IoError> {
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(folder, fs::Permissions::from_mode(0o755)).map_err(IoError::of("set the mode of", folder))
}

fn make_folders(root: &Path, items: &[&Item<'_>]) -> Result<(), IoError> {
    let mut made = BTreeSet::new();
    for item in items {
        let folder = if item.kind == ItemKind::EmptyDir { &*item.path } else { item.path.rsplit_once('/').map_or("", |(f, _)| f) };
        if !folder.is_empty() && made.insert(folder.to_string()) {
            let path = root.join(folder);
            fs::create_dir_all(&path).map_err(IoError::of("create the folder", &path))?;
        }
    }
    Ok(())
}

/// Writes an item of a folder that nobody else sees yet.
fn write_item(store: &Store, item: &Item<'_>, target: &Path) -> Result<(), PutError> {
    let Some(digest) = &item.digest else { return Ok(()) };
    if item.kind == ItemKind::Link {
        let text = String::from_utf8_lossy(&store.read(digest)?).into_owned();
        return Ok(std::os::unix::fs::symlink(text, target).map_err(IoError::of("create the link", target))?);
    }
    let file = File::create_new(target).map_err(IoError::of("create", target))?;
    fill(store, digest, file, target)?;
    if item.kind == ItemKind::Exec {
        fsio::set_executable(target, true)?;
    }
    Ok(())
}

fn fill(store: &Store, digest: &Digest, file: File, target: &Path) -> Result<(), PutError> {
    let mut out = BufWriter::with_capacity(64 << 10, file);
    store.copy_to(digest, &mut out).map_err(|e| match e {
        StoreError::Io(e) if e.action == "write" => StoreError::Io(IoError { path: target.to_path_buf(), ..e }),
        other => other,
    })?;
    Ok(out.flush().map_err(IoError::of("write", target))?)
}

fn prepare_file(store: &Store, digest: &Digest, executable: bool, target: &Path, parent: &Path) -> Result<Prepared, PutError> {
    let aside = tempfile::Builder::new()
        .prefix(&fsio::part_prefix())
        .tempfile_in(parent)
        .map_err(IoError::of("create a file in", parent))?;
    let file = aside.as_file().try_clone().map_err(IoError::of("write", target))?;
    fill(store, digest, file, target)?;
    let mode = if executable { 0o755 } else { 0o644 };
    rustix::fs::fchmod(aside.as_file(), rustix::fs::Mode::from_raw_mode(mode))
        .map_err(|e| IoError::of("set the mode of", target)(e.into()))?;
    Ok(Prepared::File(aside))
}

/// Brings a path of the tree to a recorded content: what agrees already stays, what is recorded is
/// replaced, what is not is moved aside first.
pub fn put_in_tree(clearer: &Clearer<'_>, path: &str, content: &Content) -> Result<(), PutError> {
    let target = clearer.scanner.root().join(path);
    let is_folder = fs::symlink_metadata(&target).is_ok_and(|m| m.is_dir());
    if content.kind == ContentKind::Folder && is_folder {
        return update_folder(clearer, path, content, &target);
    }
    // What stands there goes only when what comes is whole.
    let prepared = prepare(clearer.store, content, &target, incoming(clearer).as_deref())?;
    clearer.clear(path)?;
    prepared.place(&target)
}

fn update_folder(clearer: &Clearer<'_>, path: &str, content: &Content, target: &Path) -> Result<(), PutError> {
    let listing = clearer.store.read(&content.digest)?;
    let items = items_of(clearer.store, &content.digest, &listing)?;
    let wanted: BTreeMap<&str, &Item<'_>> = items.iter().map(|i| (&*i.path, i)).collect();
    let Ok(standing) = walk(target) else {
        // It holds things that cannot be recorded: all of it goes aside as one.
        clearer.clear(path)?;
        return put_new(clearer.store, content, target);
    };
    let keeps = |seen: &crate::fingerprint::Seen| -> bool {
        let Some(item) = wanted.get(seen.path.as_str()).filter(|i| i.kind == seen.kind) else { return false };
        let full = target.join(&seen.path);
        match item.kind {
            ItemKind::EmptyDir => true,
            ItemKind::Link => fs::read_link(&full).is_ok_and(|t| Some(Digest::of(t.as_os_str().as_encoded_bytes())) == item.digest),
            _ => seen.stat.size == item.size && hash_file(&full).is_ok_and(|(d, _)| Some(d) == item.digest),
        }
    };
    let kept: Vec<bool> = standing.par_iter().map(keeps).collect();
    let done: BTreeSet<&str> = standing.iter().zip(&kept).filter(|(_, keep)| **keep).map(|(s, _)| s.path.as_str()).collect();
    // All that comes is written aside first, so that nothing goes for the sake of what turns out damaged.
    let coming: Vec<&Item<'_>> = items.iter().filter(|i| !done.contains(&*i.path)).collect();
    let beside = target.parent().unwrap_or(target);
    let aside = scratch_in(incoming(clearer).as_deref().filter(|i| fsio::same_disk(i, beside)).unwrap_or(beside))?;
    make_folders(aside.path(), &coming)?;
    coming.par_iter().try_for_each(|item| write_item(clearer.store, item, &aside.path().join(&*item.path)))?;
    for seen in standing.iter().filter(|s| !done.contains(s.path.as_str())) {
        if seen.kind == ItemKind::EmptyDir {
            // May hold what is never recorded, such as compiled files: then it stays.
            let _ = fs::remove_dir(target.join(&seen.path));
        } else {
            clearer.clear(&format!("{path}/{}", seen.path))?;
        }
    }
    remove_empty_folders(target, &standing, &wanted);
    make_folders(target, &items.iter().collect::<Vec<_>>())?;
    for item in coming.iter().filter(|i| i.kind != ItemKind::EmptyDir) {
        let full = target.join(&*item.path);
        fs::rename(aside.path().join(&*item.path), &full).map_err(IoError::of("write", &full))?;
    }
    Ok(())
}

/// Folders that only held what has gone.
fn remove_empty_folders(target: &Path, standing: &[crate::fingerprint::Seen], wanted: &BTreeMap<&str, &Item<'_>>) {
    let mut folders: BTreeSet<&str> = BTreeSet::new();
    for seen in standing {
        folders.extend(seen.path.match_indices('/').map(|(at, _)| &seen.path[..at]));
    }
    for folder in folders.into_iter().rev().filter(|f| !wanted.contains_key(f)) {
        // Fails, as it should, where something is left in it.
        let _ = fs::remove_dir(target.join(folder));
    }
}
