//! This program in a folder that both sides see: what observes and seals a stage on a node is the version that is at work here.

use std::path::{Path, PathBuf};

use crate::fsio::{self, IoError};
use crate::store::Digest;

/// The folder of such programs, in that of the project's own files.
const PROGRAMS: &str = "programs";
/// One that was not brought anew for so long is removed, in seconds.
const OLD: i64 = 30 * 24 * 3600;

/// This program, and a name that tells its build from others.
pub fn own() -> Result<(PathBuf, String), IoError> {
    let own = std::env::current_exe().map_err(IoError::of("find", Path::new("this program")))?;
    let meta = std::fs::metadata(&own).map_err(IoError::of("look at", &own))?;
    // What it is called, how large it is and when it was made tell one build from another.
    let made = meta.modified().ok().and_then(|m| m.duration_since(std::time::UNIX_EPOCH).ok()).unwrap_or_default();
    let mark = Digest::of(format!("{} {} {}", own.display(), meta.len(), made.as_nanos()).as_bytes()).to_string();
    Ok((own, format!("textum-{}-{}", env!("CARGO_PKG_VERSION"), &mark[mark.len() - 16..])))
}

/// This program there, brought if it is not there yet.
pub fn brought(state: &Path) -> Result<PathBuf, IoError> {
    let (own, name) = own()?;
    let folder = state.join(PROGRAMS);
    let there = folder.join(name);
    if there.is_file() {
        return Ok(there);
    }
    fsio::create_folder(&folder)?;
    sweep(&folder);
    let part = fsio::part_folder(&folder)?;
    let copy = part.path().join("textum");
    fsio::link_or_copy(&own, &copy)?;
    fsio::rename(&copy, &there)?;
    Ok(there)
}

/// Removes programs of versions that nobody has used for long.
fn sweep(folder: &Path) {
    for entry in std::fs::read_dir(folder).into_iter().flatten().flatten() {
        let modified = entry.metadata().and_then(|m| m.modified()).ok().and_then(|m| jiff::Timestamp::try_from(m).ok());
        if modified.is_some_and(|m| textum_base::clock::now().as_second() - m.as_second() > OLD) {
            let _ = fsio::remove_any(&entry.path());
        }
    }
}
