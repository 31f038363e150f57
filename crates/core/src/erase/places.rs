//! Files outside the store in which what goes stands: in the working tree, moved aside, in sandboxes, in damaged packs.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::{Path, PathBuf};

use textum_base::{ProjectPath, is_within};

use super::EraseError;
use super::traces::Rows;
use crate::project::fingerprint::walk;
use crate::project::workspace::Project;
use crate::record::receipt::{LeftKind, LeftOver};
use crate::store::{Digest, ItemKind, hash_file};

/// Where it stands.
#[derive(Default)]
pub struct Places {
    /// Outputs in the working tree.
    pub tree: Vec<ProjectPath>,
    /// Files that were moved aside, below the folder of those.
    pub aside: Vec<ProjectPath>,
    /// Sandboxes.
    pub sandboxes: Vec<String>,
    /// Packs that were damaged and are kept for a person to look at.
    pub damaged: Vec<PathBuf>,
    /// What may have it and is a person's.
    pub left: Vec<LeftOver>,
}

/// What is looked for.
pub(super) struct Wanted<'w> {
    /// Contents that go.
    pub contents: &'w BTreeMap<Digest, u64>,
    /// Paths where such contents stood.
    pub paths: &'w BTreeSet<&'w str>,
    /// The rows.
    pub rows: &'w Rows,
    /// Runs that have a result made of them.
    pub touched: &'w HashSet<&'w str>,
    /// Runs that have ended.
    pub ended: &'w HashSet<&'w str>,
}

/// Looks for it.
pub(super) fn places(project: &Project, wanted: &Wanted<'_>) -> Result<Places, EraseError> {
    let (tree, mut unsure) = tree_of(project, wanted.contents, wanted.paths)?;
    let (aside, more) = aside_of(project, wanted.contents, wanted.paths, wanted.rows);
    unsure.extend(more);
    let goes = |name: &String| wanted.touched.contains(name.as_str()) || !wanted.ended.contains(name.as_str());
    let sandboxes = names_in(&project.workspace.sandboxes_folder()).into_iter().filter(goes).collect();
    let damaged = project.store.damaged_folder();
    let damaged = names_in(&damaged).into_iter().map(|name| damaged.join(name)).collect();
    Ok(Places { tree, aside, sandboxes, damaged, left: unsure })
}

/// The names in a folder, in order; none where it cannot be looked into.
pub(super) fn names_in(folder: &Path) -> Vec<String> {
    let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
    let mut names: Vec<String> = entries.filter_map(|e| e.file_name().into_string().ok()).collect();
    names.sort();
    names
}

/// Outputs in the tree whose content goes; and those that a person has changed since: they are left.
fn tree_of(
    project: &Project,
    contents: &BTreeMap<Digest, u64>,
    given: &BTreeSet<&str>,
) -> Result<(Vec<ProjectPath>, Vec<LeftOver>), EraseError> {
    let mut paths: BTreeSet<String> = project.all_outputs().into_iter().collect();
    let datasets: Vec<&str> = project.manifest.data.iter().map(|d| d.path.as_str()).collect();
    paths.extend(given.iter().filter(|p| !datasets.contains(*p)).map(|p| (*p).to_string()));
    let (mut tree, mut edited) = (Vec::new(), Vec::new());
    for text in paths {
        let Ok(path) = ProjectPath::new(&text) else { continue };
        let Some(content) = project.scanner.look(&text)? else { continue };
        if contents.contains_key(&content.digest) {
            tree.push(path);
        } else if given.contains(text.as_str()) && content.digest != Digest::of(b"") {
            edited.push(LeftOver::new(LeftKind::File, &text, None));
        }
    }
    // One that is in another goes with it.
    let all = tree.clone();
    tree.retain(|path| !all.iter().any(|other| other != path && is_within(path, other)));
    Ok((tree, edited))
}

/// Files that were moved aside and go, with a content that does or with such rows; and those that stood where such a content
/// was, of which nobody can say: they are a person's.
fn aside_of(
    project: &Project,
    contents: &BTreeMap<Digest, u64>,
    given: &BTreeSet<&str>,
    rows: &Rows,
) -> (Vec<ProjectPath>, Vec<LeftOver>) {
    let folder = project.workspace.aside_folder();
    let (mut found, mut unsure) = (Vec::new(), Vec::new());
    for item in walk(&folder).unwrap_or_default().iter().filter(|i| matches!(i.kind, ItemKind::File | ItemKind::Exec)) {
        let full = folder.join(&item.path);
        let stood = item.path.split_once('/').map_or("", |(_, rest)| rest);
        if hash_file(&full).is_ok_and(|(digest, _)| contents.contains_key(&digest)) || rows.are_in_file(&full) {
            found.extend(ProjectPath::listed(&item.path));
        } else if given.iter().any(|path| is_within(stood, path)) {
            unsure.push(LeftOver::new(LeftKind::File, &format!(".textum/aside/{}", item.path), None));
        }
    }
    (found, unsure)
}
