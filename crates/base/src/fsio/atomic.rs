//! Files that appear whole: written aside, synced, renamed.

use std::fs::{self, File, Permissions};
use std::io::Write;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use super::fault::{self, Step};
use super::{IoError, OutFile};

/// Makes the entries of a folder durable, so that a rename in it survives a lost machine.
pub fn sync_folder(folder: &Path) -> Result<(), IoError> {
    fault::before(Step::Sync, folder)
        .and_then(|()| File::open(folder))
        .and_then(|f| f.sync_all())
        .map_err(IoError::of("sync the folder", folder))
}

/// Makes the files of a folder durable, those in folders of it left out, and the folder itself with its name.
///
/// # Errors
///
/// When the folder cannot be listed, or the disk does not take it.
pub fn sync_files_of(folder: &Path) -> Result<(), IoError> {
    let entries: Vec<_> = fs::read_dir(folder).and_then(Iterator::collect).map_err(IoError::of("list the folder", folder))?;
    for entry in entries.iter().filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_file())) {
        let path = entry.path();
        match fault::before(Step::Sync, &path).and_then(|()| File::open(&path)?.sync_all()) {
            // It has got its name, or gone, since it was listed.
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => {}
            synced => synced.map_err(IoError::of("sync", &path))?,
        }
    }
    sync_folder(folder)?;
    sync_folder(folder.parent().unwrap_or(Path::new(".")))
}

/// Gives a file or folder another name; what bore that name before is replaced.
pub fn rename(from: &Path, to: &Path) -> Result<(), IoError> {
    fault::before(Step::Rename, to).and_then(|()| fs::rename(from, to)).map_err(IoError::of("rename", to))?;
    fault::renamed(from, to);
    Ok(())
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

/// A nameless-to-others file in a folder, that is removed unless it is kept. Its mode is what the umask makes
/// of `mode`.
pub fn part_file(folder: &Path, mode: u32) -> Result<tempfile::NamedTempFile, IoError> {
    let permissions = Permissions::from_mode(mode);
    let mut builder = tempfile::Builder::new();
    builder.prefix(&part_prefix()).permissions(permissions).tempfile_in(folder).map_err(IoError::of("create a file in", folder))
}

/// A folder in a folder, that is removed unless it is kept.
pub fn part_folder(folder: &Path) -> Result<tempfile::TempDir, IoError> {
    tempfile::Builder::new().prefix(&part_prefix()).tempdir_in(folder).map_err(IoError::of("create a folder in", folder))
}

fn write_aside(path: &Path, bytes: &[u8], durable: bool, aside: Option<&Path>) -> Result<(), IoError> {
    let folder = path.parent().unwrap_or(Path::new("."));
    let aside = aside.filter(|aside| same_disk(aside, folder)).unwrap_or(folder);
    fs::create_dir_all(folder).map_err(IoError::of("create the folder", folder))?;
    let part = part_file(aside, 0o666)?;
    // Who may read the file that it replaces may read it, and nobody else.
    if let Some(before) = fs::symlink_metadata(path).ok().filter(|m| durable && m.is_file()) {
        part.as_file().set_permissions(before.permissions()).map_err(IoError::of("write", path))?;
    }
    let mut out = OutFile::of(part.as_file().try_clone().map_err(IoError::of("write", path))?, part.path());
    out.write_all(bytes).map_err(IoError::of("write", path))?;
    if durable {
        out.sync()?;
    }
    fault::before(Step::Rename, path).map_err(IoError::of("write", path))?;
    let from = part.path().to_path_buf();
    part.persist(path).map_err(|e| IoError::of("write", path)(e.error))?;
    fault::renamed(&from, path);
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
