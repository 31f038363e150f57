//! Recorded content below a folder's handle, each byte checked on the way.

use std::collections::BTreeSet;
use std::io::{BufWriter, Write};

use rayon::prelude::*;
use textum_base::{ProjectPath, link_stays};

use super::ClearError;
use crate::fsio::{IoError, TreeDir};
use crate::record::receipt::{Content, ContentKind};
use crate::store::{Digest, Item, ItemKind, Store, StoreError, items_of_listing};

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
    /// A recorded link would lead out of the folder that it was recorded in.
    #[error("the recorded link {link} points to {text}, outside of its folder: it is not put in place")]
    LinkLeaves {
        /// Where the link would stand.
        link: String,
        /// Where it points.
        text: String,
    },
}

/// The permission bits that a file is made with, before the umask.
fn mode_of(executable: bool, private: bool) -> u32 {
    match (executable, private) {
        (false, false) => 0o666,
        (true, false) => 0o777,
        (false, true) => 0o600,
        (true, true) => 0o700,
    }
}

/// Writes content to a path where nothing stands, whole or not at all.
pub fn put_new(store: &Store, content: &Content, tree: &TreeDir, path: &ProjectPath) -> Result<(), PutError> {
    let scratch = tree.scratch()?;
    write_new(store, content, scratch.dir(), path)?;
    tree.create_parent(path)?;
    Ok(scratch.dir().rename(path, tree, path)?)
}

/// Writes content to a path where nothing stands, in a folder that nobody looks into before it is whole.
pub fn write_new(store: &Store, content: &Content, tree: &TreeDir, path: &ProjectPath) -> Result<(), PutError> {
    tree.create_parent(path)?;
    if content.kind != ContentKind::Folder {
        let mode = mode_of(content.kind == ContentKind::Exec, content.private.covers(""));
        return write_file(store, &content.digest, mode, tree, path);
    }
    let listing = store.read(&content.digest)?;
    write_folder(store, &items_of_listing(store, &content.digest, &listing)?, content, tree, path)
}

fn write_folder(store: &Store, items: &[Item<'_>], content: &Content, tree: &TreeDir, path: &ProjectPath) -> Result<(), PutError> {
    tree.create_folder(path)?;
    let folder = tree.folder(path)?;
    let all: Vec<&Item<'_>> = items.iter().collect();
    bring(store, &all)?;
    make_folders(&folder, &all)?;
    write_items(store, &folder, &all, content)?;
    links_stay(&folder, &all)
}

/// Fetches what is not here of a listing's files, together.
pub(super) fn bring(store: &Store, items: &[&Item<'_>]) -> Result<(), PutError> {
    if store.has_source() {
        store.bring(&items.iter().filter_map(|item| item.digest).collect::<Vec<_>>())?;
    }
    Ok(())
}

/// Makes the folders of a listing's entries.
pub(super) fn make_folders(root: &TreeDir, items: &[&Item<'_>]) -> Result<(), PutError> {
    let mut made = BTreeSet::new();
    for item in items {
        let folder = if item.kind == ItemKind::EmptyDir { &*item.path } else { item.path.rsplit_once('/').map_or("", |(f, _)| f) };
        if !folder.is_empty() && made.insert(folder) {
            root.create_folder(&listed(folder)?)?;
        }
    }
    Ok(())
}

/// Writes the files and links of a listing into folders that are there.
pub(super) fn write_items(store: &Store, root: &TreeDir, items: &[&Item<'_>], content: &Content) -> Result<(), PutError> {
    items.par_iter().try_for_each(|item| write_item(store, item, root, content.private.covers(&item.path)))
}

/// The listing's parser has held every path against the same rules.
pub(super) fn listed(path: &str) -> Result<ProjectPath, PutError> {
    let refused = |fault| std::io::Error::new(std::io::ErrorKind::InvalidData, fault);
    Ok(ProjectPath::listed(path).map_err(|fault| IoError::of("write", path.as_ref())(refused(fault)))?)
}

fn write_item(store: &Store, item: &Item<'_>, root: &TreeDir, private: bool) -> Result<(), PutError> {
    let Some(digest) = &item.digest else { return Ok(()) };
    let path = listed(&item.path)?;
    if item.kind != ItemKind::Link {
        return write_file(store, digest, mode_of(item.kind == ItemKind::Exec, private), root, &path);
    }
    let text = String::from_utf8_lossy(&store.read(digest)?).into_owned();
    if !link_stays(&item.path, &text) {
        return Err(PutError::LinkLeaves { link: root.full(&path).display().to_string(), text });
    }
    Ok(root.create_link(&text, &path)?)
}

/// Whether links that now stand stay in their folder for real, whatever other links they pass.
pub(super) fn links_stay(root: &TreeDir, items: &[&Item<'_>]) -> Result<(), PutError> {
    for item in items.iter().filter(|i| i.kind == ItemKind::Link) {
        if root.leads_out(&item.path) {
            let path = listed(&item.path)?;
            let text = root.link_text(&path)?.display().to_string();
            root.remove(&path)?;
            return Err(PutError::LinkLeaves { link: root.full(&path).display().to_string(), text });
        }
    }
    Ok(())
}

fn write_file(store: &Store, digest: &Digest, mode: u32, tree: &TreeDir, path: &ProjectPath) -> Result<(), PutError> {
    let mut out = BufWriter::with_capacity(64 << 10, tree.create_file(path, mode)?);
    let target = || tree.full(path);
    store.copy_to(digest, &mut out).map_err(|e| match e {
        StoreError::Io(e) if e.action == "write" => StoreError::Io(IoError { path: target(), ..e }),
        other => other,
    })?;
    Ok(out.flush().map_err(IoError::of("write", &target()))?)
}

/// Writes a part of a stored folder to a path where nothing stands. A part that is a folder has no listing of its
/// own in the store: its files are had by that of the whole.
pub fn write_part(
    store: &Store,
    whole: &Content,
    below: &str,
    part: &Content,
    tree: &TreeDir,
    path: &ProjectPath,
) -> Result<(), PutError> {
    if part.kind != ContentKind::Folder {
        return write_new(store, part, tree, path);
    }
    let listing = store.read(&whole.digest)?;
    let items = items_of_listing(store, &whole.digest, &listing)?;
    let prefix = format!("{below}/");
    let inside = items.into_iter().filter_map(|item| {
        let rest = item.path.strip_prefix(&prefix)?.to_string();
        Some(Item { path: rest.into(), ..item })
    });
    write_folder(store, &inside.collect::<Vec<_>>(), part, tree, path)
}
