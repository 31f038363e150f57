//! The seam at which tests stop or fail this process: at a chosen sync, rename, removal or write.
//!
//! Only with the feature `faults`, which nothing that is handed out is built with. `TEXTUM_FAULT` says what
//! happens, and at which step counted from 1:
//!
//! - `crash:N`: the process is killed before its Nth sync, rename or removal.
//! - `torn:N`: the same, and files that were written and not synced lose their second half, as a lost
//!   machine may leave them.
//! - `full:N`: from its Nth write on, every write fails as on a full disk.
//! - `error:N`: its Nth write or sync fails with an I/O error.

#[cfg(not(feature = "faults"))]
use std::{io, path::Path};

/// What is about to be done.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Step {
    /// Bytes are written into a file.
    Write,
    /// A file or folder is made durable.
    Sync,
    /// Something gets another name.
    Rename,
    /// Something is removed.
    Remove,
}

#[cfg(not(feature = "faults"))]
#[inline(always)]
pub(crate) fn before(_: Step, _: &Path) -> io::Result<()> {
    Ok(())
}

#[cfg(not(feature = "faults"))]
#[inline(always)]
pub(crate) fn renamed(_: &Path, _: &Path) {}

#[cfg(feature = "faults")]
pub(crate) use seam::{before, renamed};

#[cfg(feature = "faults")]
mod seam {
    use std::collections::BTreeSet;
    use std::io;
    use std::path::{Path, PathBuf};
    use std::sync::{LazyLock, Mutex, PoisonError};

    use super::Step;

    #[derive(Clone, Copy, PartialEq, Eq)]
    enum Fault {
        Crash,
        Torn,
        Full,
        Error,
    }

    #[derive(Default)]
    struct Seen {
        steps: u64,
        /// Files that were written and not synced since.
        unsynced: BTreeSet<PathBuf>,
    }

    static WANTED: LazyLock<Option<(Fault, u64)>> = LazyLock::new(|| {
        let text = std::env::var("TEXTUM_FAULT").ok()?;
        let (what, at) = text.split_once(':')?;
        let fault = match what {
            "crash" => Fault::Crash,
            "torn" => Fault::Torn,
            "full" => Fault::Full,
            "error" => Fault::Error,
            _ => return None,
        };
        Some((fault, at.parse().ok()?))
    });
    static SEEN: LazyLock<Mutex<Seen>> = LazyLock::new(Mutex::default);

    /// Does what the fault asked for says, or lets the step be done.
    pub(crate) fn before(step: Step, path: &Path) -> io::Result<()> {
        let Some((fault, at)) = *WANTED else { return Ok(()) };
        let mut seen = SEEN.lock().unwrap_or_else(PoisonError::into_inner);
        let counts = match fault {
            Fault::Crash | Fault::Torn => step != Step::Write,
            Fault::Full => step == Step::Write,
            Fault::Error => matches!(step, Step::Write | Step::Sync),
        };
        seen.steps += u64::from(counts);
        if counts && (seen.steps == at || (fault == Fault::Full && seen.steps > at)) {
            match fault {
                Fault::Crash | Fault::Torn => {
                    if fault == Fault::Torn {
                        seen.unsynced.iter().for_each(|file| tear(file));
                    }
                    let _ = rustix::process::kill_process(rustix::process::getpid(), rustix::process::Signal::KILL);
                }
                Fault::Full => return Err(io::Error::from_raw_os_error(28)),
                Fault::Error => return Err(io::Error::from_raw_os_error(5)),
            }
        }
        match step {
            Step::Write => drop(seen.unsynced.insert(path.to_path_buf())),
            Step::Sync => drop(seen.unsynced.remove(path)),
            Step::Rename | Step::Remove => {}
        }
        Ok(())
    }

    /// A file that was not synced is so under its new name too.
    pub(crate) fn renamed(from: &Path, to: &Path) {
        if WANTED.is_some() {
            let mut seen = SEEN.lock().unwrap_or_else(PoisonError::into_inner);
            if seen.unsynced.remove(from) {
                seen.unsynced.insert(to.to_path_buf());
            }
        }
    }

    fn tear(file: &Path) {
        let length = std::fs::metadata(file).map_or(0, |m| m.len());
        if let Ok(open) = std::fs::OpenOptions::new().write(true).open(file) {
            let _ = open.set_len(length / 2);
        }
    }
}
