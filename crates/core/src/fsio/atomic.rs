//! Files that appear whole: written aside, synced, renamed.

use std::fs::{self, File};
use std::io::Write;
use std::path::Path;

use super::IoError;

/// Makes the entries of a folder durable, so that a rename in it survives a lost machine.
pub fn sync_folder(folder: &Path) -> Result<(), IoError> {
    File::open(folder).and_then(|f| f.sync_all()).map_err(IoError::of("sync the folder", folder))
}

const PART: &str = ".textum-part-";

/// How the names of files and folders begin that are only there until they are whole: with the number of
/// their process, so that what a dead one left can be told.
pub fn part_prefix() -> String {
    format!("{PART}{}-", std::process::id())
}

/// Whether something can be renamed from one folder into the other.
pub fn same_disk(a: &Path, b: &Path) -> bool {
    use std::os::unix::fs::MetadataExt;
    fs::metadata(a).ok().zip(fs::metadata(b).ok()).is_some_and(|(a, b)| a.dev() == b.dev())
}

/// A part this old is nobody's, if its process is not there: one in another container, whose number means
/// nothing here, has long finished.
const OLD: std::time::Duration = std::time::Duration::from_secs(24 * 3600);

/// Removes what dead processes have left unfinished in a folder.
pub fn sweep_parts(folder: &Path) {
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let name = entry.file_name().to_string_lossy().into_owned();
        let pid = name.strip_prefix(PART).and_then(|rest| rest.split('-').next());
        let age = entry.metadata().and_then(|m| m.modified()).ok().and_then(|at| at.elapsed().ok());
        if pid.is_some_and(|pid| !Path::new("/proc").join(pid).exists()) && age.is_some_and(|age| age > OLD) {
            let _ = super::remove_any(&entry.path());
        }
    }
}

fn write_aside(path: &Path, bytes: &[u8], durable: bool, aside: Option<&Path>) -> Result<(), IoError> {
    let folder = path.parent().unwrap_or(Path::new("."));
    let aside = aside.filter(|aside| same_disk(aside, folder)).unwrap_or(folder);
    fs::create_dir_all(folder).map_err(IoError::of("create the folder", folder))?;
    let mut file =
        tempfile::Builder::new().prefix(&part_prefix()).tempfile_in(aside).map_err(IoError::of("create a file in", aside))?;
    let write = |file: &mut tempfile::NamedTempFile| {
        file.write_all(bytes)?;
        rustix::fs::fchmod(file.as_file(), rustix::fs::Mode::from_raw_mode(0o644))?;
        if durable { file.as_file().sync_all() } else { Ok(()) }
    };
    write(&mut file).map_err(IoError::of("write", path))?;
    file.persist(path).map_err(|e| IoError::of("write", path)(e.error))?;
    if durable { sync_folder(folder) } else { Ok(()) }
}

/// Writes a file whole or not at all, and durably: when this returns it survives a lost machine.
pub fn write_atomic(path: &Path, bytes: &[u8]) -> Result<(), IoError> {
    write_aside(path, bytes, true, None)
}

/// Writes a file whole or not at all, without waiting for the disk: for what can be made again.
pub fn write_derived(path: &Path, bytes: &[u8]) -> Result<(), IoError> {
    write_aside(path, bytes, false, None)
}

/// As [`write_atomic`], for a folder that people look into: what is not whole yet stands in another one.
pub fn write_atomic_by(path: &Path, bytes: &[u8], aside: &Path) -> Result<(), IoError> {
    write_aside(path, bytes, true, Some(aside))
}
