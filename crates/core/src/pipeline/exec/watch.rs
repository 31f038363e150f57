//! Noticing what a stage opens in the working tree without declaring it. Reported, never enforced: the
//! system does not say which process opened a file, so an editor at work can be mistaken for a stage.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use inotify::{Inotify, WatchDescriptor, WatchMask};

/// Folders watched at most; a project with more is watched in part.
const MOST_FOLDERS: usize = 2000;
/// Never of interest.
const LEFT_OUT: [&str; 8] = [".git", ".textum", "node_modules", ".venv", "venv", "target", ".ipynb_checkpoints", ".idea"];

struct State {
    inotify: Inotify,
    folders: HashMap<WatchDescriptor, String>,
}

/// Watches a project's folders for files being opened.
pub struct Watcher {
    root: PathBuf,
    state: Mutex<State>,
}

impl Watcher {
    /// Watches the folders below the root, but not those that `skip` says are declared as a whole.
    /// `None` where the system cannot.
    pub fn start(root: &Path, skip: impl Fn(&str) -> bool) -> Option<Watcher> {
        let inotify = Inotify::init().ok()?;
        let mut folders = HashMap::new();
        let mut todo = vec![String::new()];
        while let Some(below) = todo.pop() {
            let here = root.join(&below);
            if folders.len() >= MOST_FOLDERS {
                break;
            }
            let mask = WatchMask::OPEN | WatchMask::ONLYDIR | WatchMask::EXCL_UNLINK;
            if let Ok(descriptor) = inotify.watches().add(&here, mask) {
                folders.insert(descriptor, below.clone());
            }
            for entry in std::fs::read_dir(&here).into_iter().flatten().flatten() {
                let Ok(name) = entry.file_name().into_string() else { continue };
                let path = if below.is_empty() { name.clone() } else { format!("{below}/{name}") };
                let is_folder = entry.file_type().is_ok_and(|t| t.is_dir());
                if is_folder && !LEFT_OUT.contains(&name.as_str()) && !skip(&path) {
                    todo.push(path);
                }
            }
        }
        Some(Watcher { root: root.to_path_buf(), state: Mutex::new(State { inotify, folders }) })
    }

    /// The files that were opened since the last time somebody asked.
    pub fn opened(&self) -> BTreeSet<String> {
        let mut guard = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let State { inotify, folders } = &mut *guard;
        let mut found = BTreeSet::new();
        let mut buffer = vec![0; 64 << 10];
        while let Ok(events) = inotify.read_events(&mut buffer) {
            for event in events {
                let folder = folders.get(&event.wd);
                if let (Some(folder), Some(name)) = (folder, event.name.and_then(|n| n.to_str())) {
                    let path = if folder.is_empty() { name.to_string() } else { format!("{folder}/{name}") };
                    found.extend(source_of(&path));
                }
            }
        }
        found.retain(|path| self.root.join(path).is_file());
        found
    }
}

/// A compiled Python file stands for its source.
fn source_of(path: &str) -> Option<String> {
    let Some((folder, file)) = path.rsplit_once("__pycache__/") else {
        return (!path.ends_with('~') && !path.ends_with(".swp")).then(|| path.to_string());
    };
    Some(format!("{folder}{}.py", file.split('.').next()?))
}

/// Of the opened files those that nothing declares: neither they nor a folder that they are in.
pub fn undeclared(opened: &BTreeSet<String>, declared: &HashSet<&str>) -> Vec<String> {
    let known = |path: &str| {
        let mut ancestors = path.match_indices('/').map(|(at, _)| &path[..at]).chain([path]);
        ancestors.any(|a| declared.contains(a)) || path == "textum.toml" || path == "textum.receipt.json"
    };
    opened.iter().filter(|path| !known(path)).cloned().collect()
}
