//! How many files this process may have open.
//!
//! A soft limit, often 1,024, protects old programs that keep sets of files in a fixed number of bits (`man 2 select`). This one
//! raises its own to the hard limit, since each job that it waits for is some files; what it executes gets back what was.

use std::sync::OnceLock;

use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};

/// The limit before it was raised.
static BEFORE: OnceLock<Rlimit> = OnceLock::new();

/// Raises the soft limit to the hard one. Whoever executes something for somebody else sets [`open_files_before`] for it.
pub fn raise_open_files() {
    let before = getrlimit(Resource::Nofile);
    if before.current == before.maximum {
        return;
    }
    if setrlimit(Resource::Nofile, Rlimit { current: before.maximum, maximum: before.maximum }).is_ok() {
        let _ = BEFORE.set(before);
    }
}

/// The soft limit before it was raised, if it was.
pub fn open_files_before() -> Option<u64> {
    BEFORE.get().and_then(|before| before.current)
}

/// So many files may be open; none where there is no limit.
pub fn most_open_files() -> Option<usize> {
    getrlimit(Resource::Nofile).current.and_then(|most| usize::try_from(most).ok())
}
