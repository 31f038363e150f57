//! Which listings of folders are an interpreter's search for a module, and which are asked for by a program.
//!
//! Python looks for a module in one folder of its path after the other. A folder that is new to it is asked for its time three
//! times (by the finder for archives, by the hook that makes a finder of it, and by this finder) and listed; one that is known
//! is asked for once, and listed again if it has changed or all that is known was given up. Then a file of the module in it is
//! asked for, twice if it is there; or the next folder. What is known is inherited by children and lost when the process becomes
//! another program. A program that lists a folder does a part of this, and then something else.
//!
//! Source: `FileFinder` and `zipimporter` in `Lib/importlib/_bootstrap_external.py` and `Lib/zipimport.py` of CPython.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::path::{Path, PathBuf};

use nix::unistd::Pid;

/// As often a folder is asked for before it is listed for the first time.
const BEFORE_FIRST: usize = 3;

/// A folder that was listed, of which it is not known yet who wanted it.
struct Open {
    folder: PathBuf,
    /// Whether it was known, and had not changed: then a program wanted it, unless all that was known was given up.
    again: bool,
}

/// What a thread has done of a search.
#[derive(Default)]
struct Step {
    /// The folder that it asked for last, and how often.
    asked: Option<(PathBuf, usize)>,
    open: Vec<Open>,
    /// A file of a module that it has asked for in one of them.
    module: Option<PathBuf>,
    /// Whether it has come to the interpreter's own library: the next call shows whether that is listed again too.
    in_library: bool,
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
    let is_library = |own: &str| {
        own.strip_prefix("python").or(own.strip_prefix("pypy")).is_some_and(|v| v.starts_with(|c: char| c.is_ascii_digit()))
    };
    is_library(&own) || (matches!(own.as_str(), "lib-dynload" | "site-packages" | "dist-packages"))
}

fn is_module(path: &Path) -> bool {
    path.extension().is_some_and(|e| e == "py" || e == "pyc" || e == "so")
}

fn is_archive(path: &Path) -> bool {
    path.extension().is_some_and(|e| e == "zip")
}

impl Step {
    /// All open listings are the interpreter's.
    fn all(&mut self) -> Search {
        let interpreter = std::mem::take(&mut self.open).into_iter().map(|open| open.folder).collect();
        Search { interpreter, program: Vec::new() }
    }

    /// Those of folders that were new or had changed are the interpreter's.
    fn those_not_again(&mut self) -> Search {
        let (again, other): (Vec<Open>, Vec<Open>) = std::mem::take(&mut self.open).into_iter().partition(|open| open.again);
        self.open = again;
        Search { interpreter: other.into_iter().map(|open| open.folder).collect(), program: Vec::new() }
    }
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

    /// A thread has ended. One that was killed in the midst of a search (`was_left`) would have gone on with it: a helper of
    /// the command that was still starting, for example.
    pub(super) fn ended(&mut self, thread: Pid, was_left: bool) -> Search {
        if self.process_of.remove(&thread).is_none() {
            self.listed.remove(&thread);
        }
        let mut search = match self.steps.get_mut(&thread) {
            Some(step) if was_left => step.those_not_again(),
            _ => Search::default(),
        };
        search.program = self.does_else(thread);
        search
    }

    /// A thread has listed a folder whose last change was then: the folders of which that shows who wanted them.
    pub(super) fn lists(&mut self, thread: Pid, folder: &Path, changed: i64) -> Search {
        let process = self.process(thread);
        let step = self.steps.entry(thread).or_default();
        let asked = step.asked.as_ref().filter(|(path, _)| path == folder).map_or(0, |(_, count)| *count);
        if step.in_library && is_of_interpreter(folder) {
            return step.all();
        }
        let known = self.listed.entry(process).or_default();
        let before = known.get(folder).copied();
        let folder = folder.to_path_buf();
        if asked == 0 || (before.is_none() && asked < BEFORE_FIRST) {
            let mut program = self.does_else(thread);
            program.push(folder);
            return Search { program, interpreter: Vec::new() };
        }
        known.insert(folder.clone(), changed);
        // An interpreter lists it once: the listing before was the program's.
        let at = step.open.iter().position(|open| open.folder == folder);
        let program = at.map(|at| step.open.remove(at).folder).into_iter().collect();
        step.open.push(Open { folder, again: before == Some(changed) });
        Search { program, interpreter: Vec::new() }
    }

    /// A thread has asked for the metadata of a path, which is a folder or not.
    pub(super) fn asks(&mut self, thread: Pid, path: &Path, is_folder: bool) -> Search {
        let step = self.steps.entry(thread).or_default();
        if is_folder || is_of_interpreter(path) || is_archive(path) {
            match &mut step.asked {
                Some((asked, count)) if asked == path => *count += 1,
                asked => *asked = Some((path.to_path_buf(), 1)),
            }
            if step.open.is_empty() || !(is_of_interpreter(path) || is_archive(path)) {
                return Search::default();
            }
            step.in_library = true;
            return step.those_not_again();
        }
        step.asked = None;
        if step.open.is_empty() {
            return Search::default();
        }
        // A module that is found is asked for twice: whether it is there, and for its time.
        if step.module.as_deref() == Some(path) {
            return self.finds(thread);
        }
        let in_open = path.ancestors().skip(1).take(2).any(|folder| step.open.iter().any(|open| open.folder == folder));
        if is_module(path) && in_open {
            step.module = Some(path.to_path_buf());
            return Search::default();
        }
        Search { interpreter: Vec::new(), program: self.does_else(thread) }
    }

    /// A thread opens a file. One of a module that it has just asked for ends a search.
    pub(super) fn opens(&mut self, thread: Pid, path: &Path) -> Search {
        let Some(step) = self.steps.get_mut(&thread) else { return Search::default() };
        if step.in_library && is_archive(path) {
            return step.all();
        }
        if step.module.as_deref() == Some(path) && path.extension().is_some_and(|e| e != "py") {
            return self.finds(thread);
        }
        Search { interpreter: Vec::new(), program: self.does_else(thread) }
    }

    /// A module was found: who listed a folder again was the program.
    fn finds(&mut self, thread: Pid) -> Search {
        let step = self.steps.entry(thread).or_default();
        let mut found = step.those_not_again();
        found.program = self.does_else(thread);
        found
    }

    /// A thread does something that belongs to no search.
    pub(super) fn does_else(&mut self, thread: Pid) -> Vec<PathBuf> {
        self.steps.remove(&thread).map(|step| step.open.into_iter().map(|open| open.folder).collect()).unwrap_or_default()
    }

    /// Whether nothing is open.
    pub(super) fn is_idle(&self, thread: Pid) -> bool {
        !self.steps.contains_key(&thread)
    }

    /// The folders of which it never became known who listed them.
    pub(super) fn rest(&mut self) -> Vec<PathBuf> {
        std::mem::take(&mut self.steps).into_values().flat_map(|step| step.open).map(|open| open.folder).collect()
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

    fn folders(names: &[&str]) -> Vec<PathBuf> {
        names.iter().map(PathBuf::from).collect()
    }

    /// A folder is asked for as often, and listed.
    fn listed(searches: &mut Searches, who: Pid, folder: &str, often: usize, changed: i64) -> Search {
        (0..often).for_each(|_| drop(searches.asks(who, Path::new(folder), true)));
        searches.lists(who, Path::new(folder), changed)
    }

    const LIBRARY: &str = "/usr/lib/python3.11";

    #[test]
    fn a_search_ends_with_a_module_or_in_the_library_and_a_listing_does_not() {
        let mut searches = Searches::default();
        assert_eq!(listed(&mut searches, A, "/shed/steps", 3, 1), Search::default());
        assert_eq!(listed(&mut searches, A, "/shed/lib", 3, 1), Search::default());
        let found = searches.asks(A, Path::new("/usr/lib/python311.zip"), false);
        assert_eq!(found.interpreter, folders(&["/shed/steps", "/shed/lib"]));
        searches.opens(A, Path::new("/usr/lib/python3.11/csv.py"));
        let module = Path::new("/shed/a/units.py");
        listed(&mut searches, A, "/shed/a", 3, 1);
        assert_eq!(searches.asks(A, module, false), Search::default());
        assert_eq!(searches.asks(A, module, false).interpreter, folders(&["/shed/a"]));
        // It has changed: listed again, and passed by.
        listed(&mut searches, A, "/shed/a", 1, 2);
        assert_eq!(searches.asks(A, Path::new(LIBRARY), true).interpreter, folders(&["/shed/a"]));
        // A program asks less often, asks for each file once, and reads it.
        assert_eq!(listed(&mut searches, A, "/shed/b", 2, 1).program, folders(&["/shed/b"]));
        listed(&mut searches, A, "/shed/c", 3, 1);
        assert_eq!(searches.asks(A, Path::new("/shed/c/units.py"), false), Search::default());
        assert_eq!(searches.opens(A, Path::new("/shed/c/units.py")).program, folders(&["/shed/c"]));
        listed(&mut searches, A, "/shed/d", 3, 1);
        assert_eq!(searches.asks(A, Path::new("/shed/d/data.csv"), false).program, folders(&["/shed/d"]));
        listed(&mut searches, A, "/shed/e", 3, 1);
        assert_eq!(searches.rest(), folders(&["/shed/e"]));
    }

    #[test]
    fn a_known_folder_is_listed_again_by_a_program_or_when_all_is_given_up() {
        let mut searches = Searches::default();
        listed(&mut searches, A, "/shed/steps", 3, 1);
        searches.asks(A, Path::new(LIBRARY), true);
        // A program, then a search that passes by without listing the library.
        listed(&mut searches, A, "/shed/steps", 1, 1);
        searches.asks(A, Path::new("/shed/steps"), true);
        assert_eq!(searches.asks(A, Path::new(LIBRARY), true), Search::default());
        assert_eq!(searches.asks(A, Path::new("/usr/lib/python3.11/csv.py"), false).program, folders(&["/shed/steps"]));
        // The interpreter, after all was given up.
        listed(&mut searches, A, "/shed/steps", 1, 1);
        searches.asks(A, Path::new(LIBRARY), true);
        assert_eq!(searches.lists(A, Path::new(LIBRARY), 1).interpreter, folders(&["/shed/steps"]));
        // A program, then the first search in the same folder.
        let mut searches = Searches::default();
        listed(&mut searches, A, "/shed/new", 3, 1);
        assert_eq!(listed(&mut searches, A, "/shed/new", 3, 1).program, folders(&["/shed/new"]));
        // What ends by itself has listed for itself; what is killed in its first search has not.
        assert_eq!(searches.ended(A, false).program, folders(&["/shed/new"]));
        listed(&mut searches, A, "/shed/new", 3, 1);
        assert_eq!(searches.ended(A, true).interpreter, folders(&["/shed/new"]));
    }

    #[test]
    fn children_inherit_what_is_known_and_another_program_knows_nothing() {
        let (thread, child) = (Pid::from_raw(2), Pid::from_raw(3));
        let mut searches = Searches::default();
        let is_program = |searches: &mut Searches, who: Pid| {
            listed(searches, who, "/shed/lib", 3, 1);
            let module = Path::new("/shed/lib/units.py");
            searches.asks(who, module, false);
            !searches.asks(who, module, false).program.is_empty()
        };
        searches.began(A, thread, true);
        assert!(!is_program(&mut searches, thread));
        assert!(is_program(&mut searches, A), "its threads know what it knows");
        searches.began(thread, child, false);
        assert!(is_program(&mut searches, child));
        searches.became(child);
        assert!(!is_program(&mut searches, child));
        let _ = searches.ended(thread, false);
        assert!(is_program(&mut searches, A));
    }
}
