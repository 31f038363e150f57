//! Which listings of folders are an interpreter's search for a module, and which are asked for by a program.
//!
//! Python looks for a module in one folder of its path after the other: it asks for the folder's time, lists it if it does not
//! know it yet, and then asks for a file of the module in it, or for the next folder. What it knows is inherited by children
//! and lost when the process becomes another program. A program that lists a folder does the first part of this, and then
//! something else; and whoever lists a folder that is known is the program.
//!
//! Source: `FileFinder` and `zipimporter` in `Lib/importlib/_bootstrap_external.py` and `Lib/zipimport.py` of CPython.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::path::{Path, PathBuf};

use nix::unistd::Pid;

/// What a thread has done of a search.
#[derive(Default)]
struct Step {
    /// The folder whose time it asked for last.
    asked: Option<PathBuf>,
    /// Folders that it has listed right after that, of which it is not known yet who wanted it.
    open: Vec<PathBuf>,
    /// A file of a module that it has asked for in one of them.
    module: Option<PathBuf>,
}

/// The searches of all processes.
#[derive(Default)]
pub(super) struct Searches {
    process_of: HashMap<Pid, Pid>,
    /// The folders that each process has listed in a search, with the time of their last change.
    listed: HashMap<Pid, HashMap<PathBuf, i64>>,
    steps: HashMap<Pid, Step>,
}

/// Whether a search ends here: the interpreter's own library, or the archive of it that most do not have.
fn is_of_interpreter(path: &Path) -> bool {
    let name = |path: &Path| path.file_name().and_then(OsStr::to_str).unwrap_or_default().to_string();
    let own = name(path);
    let is_library = |own: &str| own.strip_prefix("python").or(own.strip_prefix("pypy")).is_some_and(|v| v.starts_with(|c: char| c.is_ascii_digit()));
    is_library(&own) || (matches!(own.as_str(), "lib-dynload" | "site-packages" | "dist-packages"))
}

fn is_module(path: &Path) -> bool {
    path.extension().is_some_and(|e| e == "py" || e == "pyc" || e == "so")
}

impl Searches {
    fn process(&self, thread: Pid) -> Pid {
        self.process_of.get(&thread).copied().unwrap_or(thread)
    }

    /// A process was begun by another; `shares`: as a thread of it.
    pub(super) fn began(&mut self, parent: Pid, child: Pid, shares: bool) {
        let parent = self.process(parent);
        if shares {
            self.process_of.insert(child, parent);
        } else if let Some(known) = self.listed.get(&parent).filter(|known| !known.is_empty()) {
            self.listed.insert(child, known.clone());
        }
    }

    /// A process became another program.
    pub(super) fn became(&mut self, process: Pid) -> Vec<PathBuf> {
        self.process_of.remove(&process);
        self.listed.remove(&process);
        self.does_else(process)
    }

    /// A thread has ended. The folders that it listed for itself.
    pub(super) fn ended(&mut self, thread: Pid) -> Vec<PathBuf> {
        if self.process_of.remove(&thread).is_none() {
            self.listed.remove(&thread);
        }
        self.does_else(thread)
    }

    /// A thread has listed a folder whose last change was then. Whether a program wanted it; else it is open who did.
    pub(super) fn lists(&mut self, thread: Pid, folder: &Path, changed: i64) -> bool {
        let process = self.process(thread);
        let step = self.steps.entry(thread).or_default();
        if step.asked.as_deref() != Some(folder) {
            return true;
        }
        if self.listed.entry(process).or_default().insert(folder.to_path_buf(), changed) == Some(changed) {
            return true;
        }
        step.open.push(folder.to_path_buf());
        false
    }

    /// A thread has asked for the metadata of a path, which is a folder or not. Whether that shows that the open listings were
    /// an interpreter's; and those that were not.
    pub(super) fn asks(&mut self, thread: Pid, path: &Path, is_folder: bool) -> Search {
        let step = self.steps.entry(thread).or_default();
        if is_folder || is_of_interpreter(path) || path.extension().is_some_and(|e| e == "zip") {
            step.asked = Some(path.to_path_buf());
            if step.open.is_empty() || !(is_of_interpreter(path) || path.extension().is_some_and(|e| e == "zip")) {
                return Search::default();
            }
            return Search { interpreter: std::mem::take(&mut step.open), program: Vec::new() };
        }
        if step.open.is_empty() {
            step.asked = None;
            return Search::default();
        }
        // A module that is found is asked for twice: whether it is there, and for its time.
        if step.module.as_deref() == Some(path) {
            step.module = None;
            return Search { interpreter: std::mem::take(&mut step.open), program: Vec::new() };
        }
        let in_open = path.ancestors().skip(1).take(2).any(|folder| step.open.iter().any(|open| open == folder));
        if is_module(path) && in_open {
            step.module = Some(path.to_path_buf());
            return Search::default();
        }
        Search { interpreter: Vec::new(), program: self.does_else(thread) }
    }

    /// A thread opens a file. One of a module that it has just asked for ends a search.
    pub(super) fn opens(&mut self, thread: Pid, path: &Path) -> Search {
        let Some(step) = self.steps.get_mut(&thread) else { return Search::default() };
        if step.open.is_empty() {
            step.asked = None;
            return Search::default();
        }
        if step.module.as_deref() == Some(path) && path.extension().is_some_and(|e| e != "py") {
            return Search { interpreter: std::mem::take(&mut step.open), program: Vec::new() };
        }
        Search { interpreter: Vec::new(), program: self.does_else(thread) }
    }

    /// A thread does something that belongs to no search.
    pub(super) fn does_else(&mut self, thread: Pid) -> Vec<PathBuf> {
        self.steps.remove(&thread).map(|step| step.open).unwrap_or_default()
    }

    /// Whether nothing is open.
    pub(super) fn is_idle(&self, thread: Pid) -> bool {
        !self.steps.contains_key(&thread)
    }

    /// The folders of which it never became known who listed them.
    pub(super) fn rest(&mut self) -> Vec<PathBuf> {
        std::mem::take(&mut self.steps).into_values().flat_map(|step| step.open).collect()
    }
}

/// Folders that were listed, by whom.
#[derive(Debug, Default, PartialEq, Eq)]
pub(super) struct Search {
    pub(super) interpreter: Vec<PathBuf>,
    pub(super) program: Vec<PathBuf>,
}

#[cfg(test)]
mod tests {
    use super::*;

    const A: Pid = Pid::from_raw(1);

    fn looked(searches: &mut Searches, folder: &str) -> bool {
        searches.asks(A, Path::new(folder), true);
        searches.lists(A, Path::new(folder), 1)
    }

    #[test]
    fn a_search_ends_with_a_module_or_in_the_library_and_a_listing_does_not() {
        let mut searches = Searches::default();
        let folders = |names: &[&str]| names.iter().map(PathBuf::from).collect::<Vec<_>>();
        assert!(!looked(&mut searches, "/shed/steps"));
        assert!(!looked(&mut searches, "/shed/lib"));
        let found = searches.asks(A, Path::new("/usr/lib/python311.zip"), false);
        assert_eq!(found.interpreter, folders(&["/shed/steps", "/shed/lib"]));
        assert!(looked(&mut searches, "/shed/lib"), "it is known");
        assert!(!looked(&mut searches, "/shed/a"));
        let module = Path::new("/shed/a/units.py");
        assert_eq!(searches.asks(A, module, false), Search::default());
        assert_eq!(searches.asks(A, module, false).interpreter, folders(&["/shed/a"]));
        // A program asks for each file once, and reads it.
        assert!(!looked(&mut searches, "/shed/b"));
        assert_eq!(searches.asks(A, Path::new("/shed/b/units.py"), false), Search::default());
        assert_eq!(searches.opens(A, Path::new("/shed/b/units.py")).program, folders(&["/shed/b"]));
        assert!(!looked(&mut searches, "/shed/c"));
        assert_eq!(searches.asks(A, Path::new("/shed/c/data.csv"), false).program, folders(&["/shed/c"]));
        assert!(!looked(&mut searches, "/shed/d"));
        assert_eq!(searches.rest(), folders(&["/shed/d"]));
    }

    #[test]
    fn children_inherit_what_is_known_and_another_program_knows_nothing() {
        let (thread, child) = (Pid::from_raw(2), Pid::from_raw(3));
        let lib = Path::new("/shed/lib");
        let mut searches = Searches::default();
        let lists = |searches: &mut Searches, who: Pid, changed: i64| {
            searches.asks(who, lib, true);
            searches.lists(who, lib, changed)
        };
        searches.began(A, thread, true);
        assert!(!lists(&mut searches, thread, 1));
        assert!(lists(&mut searches, A, 1), "its threads know what it knows");
        searches.began(thread, child, false);
        assert!(lists(&mut searches, child, 1));
        assert!(!lists(&mut searches, child, 2), "the folder has changed");
        assert!(!lists(&mut searches, A, 2), "a child's knowledge is its own");
        searches.became(child);
        assert!(!lists(&mut searches, child, 2));
        searches.ended(thread);
        assert!(lists(&mut searches, A, 2));
    }
}
