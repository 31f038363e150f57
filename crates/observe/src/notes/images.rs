//! Which processes share what an interpreter remembers of folders.
//!
//! An interpreter that looks for modules lists a folder once, and again when the folder has changed; what it knows is
//! inherited by children and lost when the process becomes another program. So a second listing of a folder that has not
//! changed is asked for by the program itself.

use std::collections::HashMap;
use std::path::{Path, PathBuf};

use nix::unistd::Pid;

/// The folders that each process has listed while it looked for modules, with the time of their last change.
#[derive(Default)]
pub(super) struct Images {
    process_of: HashMap<Pid, Pid>,
    listed: HashMap<Pid, HashMap<PathBuf, i64>>,
}

impl Images {
    fn process(&self, thread: Pid) -> Pid {
        self.process_of.get(&thread).copied().unwrap_or(thread)
    }

    pub(super) fn began(&mut self, parent: Pid, child: Pid, shares: bool) {
        let parent = self.process(parent);
        if shares {
            self.process_of.insert(child, parent);
        } else if let Some(known) = self.listed.get(&parent).filter(|known| !known.is_empty()) {
            self.listed.insert(child, known.clone());
        }
    }

    pub(super) fn became(&mut self, process: Pid) {
        self.process_of.remove(&process);
        self.listed.remove(&process);
    }

    pub(super) fn ended(&mut self, thread: Pid) {
        if self.process_of.remove(&thread).is_none() {
            self.listed.remove(&thread);
        }
    }

    /// Whether an interpreter would list this folder now: it has not yet, or the folder has changed since.
    pub(super) fn is_first(&mut self, thread: Pid, folder: &Path, changed: i64) -> bool {
        let process = self.process(thread);
        self.listed.entry(process).or_default().insert(folder.to_path_buf(), changed) != Some(changed)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn children_inherit_what_is_known_and_another_program_knows_nothing() {
        let (a, thread, child) = (Pid::from_raw(1), Pid::from_raw(2), Pid::from_raw(3));
        let lib = Path::new("/shed/lib");
        let mut images = Images::default();
        images.began(a, thread, true);
        assert!(images.is_first(thread, lib, 1));
        assert!(!images.is_first(a, lib, 1), "its threads know what it knows");
        images.began(thread, child, false);
        assert!(!images.is_first(child, lib, 1));
        assert!(images.is_first(child, lib, 2), "the folder has changed");
        assert!(images.is_first(a, lib, 2), "a child's knowledge is its own");
        images.became(child);
        assert!(images.is_first(child, lib, 2));
        images.ended(thread);
        assert!(!images.is_first(a, lib, 2));
    }
}
