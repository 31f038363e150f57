//! Two folders file by file: added, removed, changed, moved.

use std::collections::BTreeMap;

use serde::Serialize;

use super::data_ref::Entry;
use crate::store::{Digest, ItemKind};

/// What became of a file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum FileChangeKind {
    /// Another content at the same path.
    Changed,
    /// The same content at another path.
    Moved,
    /// New.
    Added,
    /// Gone.
    Removed,
}

/// A file that differs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct FileChange {
    /// What became of it.
    pub change: FileChangeKind,
    /// Its path; of a removed one, the path that it had.
    pub path: String,
    /// Of a moved one: its path before.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub from: Option<String>,
    /// Its size before, in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub old_size: Option<u64>,
    /// Its size now, in bytes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub new_size: Option<u64>,
}

/// How two folders differ.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct FilesDiff {
    /// Files of the first folder, and their bytes.
    pub old: (u64, u64),
    /// Files of the second folder, and their bytes.
    pub new: (u64, u64),
    /// Files that are new.
    pub added: u64,
    /// Files that are gone.
    pub removed: u64,
    /// Files with another content.
    pub changed: u64,
    /// Files at another path.
    pub moved: u64,
    /// Every file that differs, sorted by what became of it and path.
    pub files: Vec<FileChange>,
}

/// Compares two folders, whose entries are sorted by path. A file that is gone and one that is new with the
/// same content are one that was moved; of several, the first by path.
pub fn compare_files(old: &[Entry], new: &[Entry]) -> FilesDiff {
    let totals = |entries: &[Entry]| {
        let files = entries.iter().filter(|e| e.1 != ItemKind::EmptyDir);
        files.fold((0, 0), |(count, bytes), e| (count + 1, bytes + e.3))
    };
    let mut diff = FilesDiff { old: totals(old), new: totals(new), ..FilesDiff::default() };
    let before: BTreeMap<&str, &Entry> = old.iter().map(|e| (e.0.as_str(), e)).collect();
    let now: BTreeMap<&str, &Entry> = new.iter().map(|e| (e.0.as_str(), e)).collect();
    let mut gone: BTreeMap<Digest, Vec<&Entry>> = BTreeMap::new();
    let mut removed: Vec<&Entry> = Vec::new();
    for entry in old.iter().rev().filter(|e| !now.contains_key(e.0.as_str())) {
        match entry.2 {
            Some(digest) if entry.3 > 0 => gone.entry(digest).or_default().push(entry),
            _ => removed.push(entry),
        }
    }
    let change = |change, path: &str, from: Option<&str>, old_size, new_size| FileChange {
        change,
        path: path.to_string(),
        from: from.map(str::to_string),
        old_size,
        new_size,
    };
    for entry in new {
        let (path, size) = (entry.0.as_str(), entry.3);
        if entry.1 == ItemKind::EmptyDir {
            if before.get(path).is_none_or(|was| was.1 != entry.1) {
                diff.files.push(change(FileChangeKind::Added, &format!("{path}/"), None, None, None));
            }
            continue;
        }
        match before.get(path) {
            Some(was) if was.2 == entry.2 && was.1 == entry.1 => {}
            Some(was) => diff.files.push(change(FileChangeKind::Changed, path, None, Some(was.3), Some(size))),
            None => {
                let from = entry.2.and_then(|d| gone.get_mut(&d)).and_then(Vec::pop);
                diff.files.push(match from {
                    Some(was) => change(FileChangeKind::Moved, path, Some(&was.0), Some(was.3), Some(size)),
                    None => change(FileChangeKind::Added, path, None, None, Some(size)),
                });
            }
        }
    }
    removed.extend(gone.into_values().flatten());
    diff.files.extend(removed.iter().map(|was| match was.1 {
        ItemKind::EmptyDir => change(FileChangeKind::Removed, &format!("{}/", was.0), None, None, None),
        _ => change(FileChangeKind::Removed, &was.0, None, Some(was.3), None),
    }));
    diff.files.sort_by(|a, b| (a.change, &a.path).cmp(&(b.change, &b.path)));
    // An empty folder is told of, but is no file.
    let count = |kind| diff.files.iter().filter(|f| f.change == kind && !f.path.ends_with('/')).count() as u64;
    (diff.added, diff.removed) = (count(FileChangeKind::Added), count(FileChangeKind::Removed));
    (diff.changed, diff.moved) = (count(FileChangeKind::Changed), count(FileChangeKind::Moved));
    diff
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn entries(files: &BTreeMap<u8, u8>) -> Vec<Entry> {
        let entry = |(p, c): (&u8, &u8)| (format!("{p:03}"), ItemKind::File, Some(Digest::of(&[*c])), 1 + u64::from(*c));
        files.iter().map(entry).collect()
    }

    proptest! {
        #[test]
        fn a_difference_leads_from_one_folder_to_the_other(
            old in prop::collection::btree_map(0u8..12, 0u8..5, 0..10), new in prop::collection::btree_map(0u8..12, 0u8..5, 0..10),
        ) {
            let (a, b) = (entries(&old), entries(&new));
            let diff = compare_files(&a, &b);
            let contents: BTreeMap<&str, &Entry> = b.iter().map(|e| (e.0.as_str(), e)).collect();
            let mut made: BTreeMap<String, Entry> = a.iter().map(|e| (e.0.clone(), e.clone())).collect();
            let mut moved = Vec::new();
            for change in &diff.files {
                match change.change {
                    FileChangeKind::Removed => drop(made.remove(&change.path)),
                    FileChangeKind::Moved => moved.push((made.remove(change.from.as_ref().unwrap()).unwrap(), change.path.clone())),
                    _ => drop(made.insert(change.path.clone(), (*contents[change.path.as_str()]).clone())),
                }
            }
            for (entry, path) in moved {
                made.insert(path.clone(), (path, entry.1, entry.2, entry.3));
            }
            prop_assert_eq!(made.into_values().collect::<Vec<_>>(), b);
            prop_assert_eq!(diff.old.0 + diff.added - diff.removed, diff.new.0);
        }
    }
}
