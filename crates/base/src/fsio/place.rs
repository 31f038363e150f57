//! Moving, copying and removing files and folders without losing any, by their paths. For what lies in a
//! project's tree there is [`super::TreeDir`], which no link leads out of.

use std::fs;
use std::io;
use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
use std::path::Path;

use super::IoError;
use super::fault::{self, Step};

/// Removes a file, link or whole folder; nothing there is no error.
pub fn remove_any(path: &Path) -> Result<(), IoError> {
    let result = fault::before(Step::Remove, path).and_then(|()| match fs::symlink_metadata(path) {
        Ok(meta) if meta.is_dir() => fs::remove_dir_all(path),
        Ok(_) => fs::remove_file(path),
        Err(e) => Err(e),
    });
    match result {
        Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(()),
        other => other.map_err(IoError::of("remove", path)),
    }
}

/// Copies a regular file with its permission bits; the file system shares the blocks where it can.
pub fn copy_file(from: &Path, to: &Path) -> Result<(), IoError> {
    if let Some(folder) = to.parent() {
        fs::create_dir_all(folder).map_err(IoError::of("create the folder", folder))?;
    }
    fault::before(Step::Write, to).and_then(|()| fs::copy(from, to)).map(drop).map_err(IoError::of("copy", from))
}

/// Gives a regular file that nobody changes a second name; where that cannot be had, a copy of it.
pub fn link_or_copy(from: &Path, to: &Path) -> Result<(), IoError> {
    match fault::before(Step::Write, to).and_then(|()| fs::hard_link(from, to)) {
        Ok(()) => Ok(()),
        Err(_) => copy_file(from, to),
    }
}

/// Sets or clears the execute bits for those who may read.
pub fn set_executable(path: &Path, executable: bool) -> Result<(), IoError> {
    let meta = fs::metadata(path).map_err(IoError::of("look at", path))?;
    let mode = meta.permissions().mode();
    let wanted = if executable { mode | ((mode & 0o444) >> 2) } else { mode & !0o111 };
    if wanted == mode {
        return Ok(());
    }
    fs::set_permissions(path, fs::Permissions::from_mode(wanted)).map_err(IoError::of("set the mode of", path))
}

/// Sets the permission bits.
pub fn set_mode(path: &Path, mode: u32) -> Result<(), IoError> {
    fs::set_permissions(path, fs::Permissions::from_mode(mode)).map_err(IoError::of("set the mode of", path))
}

/// Makes a folder and those above it; one that is there already is no error.
pub fn create_folder(path: &Path) -> Result<(), IoError> {
    fs::create_dir_all(path).map_err(IoError::of("create the folder", path))
}

/// Opens a file to write at its end; it is made if it is not there. For logs and signals, which grow.
pub fn append(path: &Path) -> Result<fs::File, IoError> {
    fs::OpenOptions::new().create(true).append(true).open(path).map_err(IoError::of("open", path))
}

/// Makes a file, or empties the one that is there. What must be whole or not at all is for
/// [`super::write_atomic`].
pub fn create(path: &Path) -> Result<fs::File, IoError> {
    fs::File::create(path).map_err(IoError::of("create", path))
}

/// Writes into a file in place. For what no other process looks at, or what the kernel shows as a file.
pub fn overwrite(path: &Path, bytes: &[u8]) -> Result<(), IoError> {
    fs::write(path, bytes).map_err(IoError::of("write", path))
}

/// Removes a file.
pub fn remove_file(path: &Path) -> Result<(), IoError> {
    fs::remove_file(path).map_err(IoError::of("remove", path))
}

/// Removes a folder that is empty.
pub fn remove_empty_folder(path: &Path) -> Result<(), IoError> {
    fs::remove_dir(path).map_err(IoError::of("remove", path))
}

/// Makes a file to write into, where nothing stands.
pub fn create_only(path: &Path) -> Result<fs::File, IoError> {
    fs::OpenOptions::new().write(true).create_new(true).open(path).map_err(IoError::of("create", path))
}

/// Opens a regular file to read: anything else, such as a pipe, which would be waited for, is refused.
pub fn open_plain(path: &Path) -> Result<fs::File, IoError> {
    let open = || {
        let file = fs::OpenOptions::new().read(true).custom_flags(rustix::fs::OFlags::NONBLOCK.bits() as i32).open(path)?;
        match file.metadata()?.is_file() {
            true => Ok(file),
            false => Err(io::Error::new(io::ErrorKind::InvalidInput, "it is not a regular file")),
        }
    };
    open().map_err(IoError::of("open", path))
}

/// The bytes of a regular file; none where there is no such file, or it is longer than that.
pub fn read_small(path: &Path, most: u64) -> Option<Vec<u8>> {
    let mut bytes = Vec::new();
    io::Read::read_to_end(&mut io::Read::take(open_plain(path).ok()?, most + 1), &mut bytes).ok()?;
    (bytes.len() as u64 <= most).then_some(bytes)
}

/// Gives a file a second name, where nothing stands.
pub fn share_file(from: &Path, to: &Path) -> Result<(), IoError> {
    fs::hard_link(from, to).map_err(IoError::of("share", from))
}
