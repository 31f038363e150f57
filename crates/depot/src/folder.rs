//! A depot in a folder: on this machine, or on a share that several mount.

use std::fs;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use bytes::Bytes;
use jiff::Timestamp;
use textum_base::fsio::{self, IoError};

use super::storage::{Fault, Object, Storage, StorageError};

/// What parts of files that are being written are called: they are no objects.
const PART: &str = ".part-";

/// Objects as files below a folder.
pub struct Folder {
    root: PathBuf,
}

fn fault_of(error: &io::Error) -> Fault {
    match error.kind() {
        io::ErrorKind::NotFound | io::ErrorKind::NotADirectory => Fault::NotFound,
        io::ErrorKind::PermissionDenied | io::ErrorKind::ReadOnlyFilesystem => Fault::Denied,
        io::ErrorKind::Interrupted | io::ErrorKind::TimedOut | io::ErrorKind::StaleNetworkFileHandle => Fault::Temporary,
        _ => Fault::Lasting,
    }
}

fn failed(action: &'static str, path: &str) -> impl FnOnce(io::Error) -> StorageError {
    move |e| StorageError::of(fault_of(&e), action, path, e)
}

fn io_failed(action: &'static str, path: &str) -> impl FnOnce(IoError) -> StorageError {
    move |e| StorageError::of(fault_of(&e.source), action, path, e.source)
}

impl Folder {
    /// Objects below this folder, which need not be there until something is put.
    pub fn new(root: &Path) -> Folder {
        Folder { root: root.to_path_buf() }
    }

    fn full(&self, path: &str) -> PathBuf {
        self.root.join(path)
    }

    /// The bytes in a file of another name beside the object's, durable.
    fn written_aside(&self, path: &str, bytes: &[u8]) -> Result<PathBuf, StorageError> {
        let full = self.full(path);
        let parent = full.parent().unwrap_or(&self.root);
        fsio::create_folder(parent).map_err(io_failed("write", path))?;
        let aside = parent.join(format!("{PART}{:016x}", rand::random::<u64>()));
        let written = fsio::OutFile::create_new(&aside).and_then(|mut file| {
            io::Write::write_all(&mut file, bytes).map_err(IoError::of("write", &aside))?;
            file.sync()
        });
        if let Err(e) = written {
            let _ = fsio::remove_file(&aside);
            return Err(io_failed("write", path)(e));
        }
        Ok(aside)
    }

    fn sync_parent(&self, path: &str) -> Result<(), StorageError> {
        let full = self.full(path);
        fsio::sync_folder(full.parent().unwrap_or(&self.root)).map_err(io_failed("write", path))
    }
}

impl Folder {
    /// The objects below a folder, or the parts of files that are being written there.
    fn files(&self, folder: &str, parts: bool) -> Result<Vec<Object>, StorageError> {
        let mut found = Vec::new();
        let mut todo = vec![folder.to_string()];
        while let Some(at) = todo.pop() {
            let entries = match fs::read_dir(self.full(&at)) {
                Err(e) if fault_of(&e) == Fault::NotFound => continue,
                other => other.map_err(failed("list", &at))?,
            };
            for entry in entries {
                let entry = entry.map_err(failed("list", &at))?;
                let Ok(name) = entry.file_name().into_string() else { continue };
                let path = if at.is_empty() { name.clone() } else { format!("{at}/{name}") };
                let meta = match entry.metadata() {
                    // Gone since it was listed.
                    Err(e) if fault_of(&e) == Fault::NotFound => continue,
                    other => other.map_err(failed("look at", &path))?,
                };
                if meta.is_dir() {
                    todo.push(path);
                } else if (meta.is_file() || meta.is_symlink()) && name.starts_with(PART) == parts {
                    let modified = meta.modified().ok().and_then(|m| Timestamp::try_from(m).ok());
                    found.push(Object { path, size: meta.len(), modified });
                }
            }
        }
        Ok(found)
    }
}

impl Storage for Folder {
    fn list(&self, folder: &str) -> Result<Vec<Object>, StorageError> {
        self.files(folder, false)
    }

    fn leftovers(&self) -> Result<Vec<Object>, StorageError> {
        self.files("", true)
    }

    fn read(&self, path: &str) -> Result<Vec<u8>, StorageError> {
        let mut bytes = Vec::new();
        let mut file = fsio::open_plain(&self.full(path)).map_err(io_failed("read", path))?;
        io::Read::read_to_end(&mut file, &mut bytes).map_err(failed("read", path))?;
        Ok(bytes)
    }

    fn read_range(&self, path: &str, from: u64, length: u64) -> Result<Vec<u8>, StorageError> {
        let file = fsio::open_plain(&self.full(path)).map_err(io_failed("read", path))?;
        let size = file.metadata().map_err(failed("read", path))?.len();
        let mut bytes = vec![0; length.min(size.saturating_sub(from)) as usize];
        file.read_exact_at(&mut bytes, from).map_err(failed("read", path))?;
        Ok(bytes)
    }

    fn put(&self, path: &str, bytes: &Bytes) -> Result<(), StorageError> {
        let aside = self.written_aside(path, bytes)?;
        fsio::rename(&aside, &self.full(path)).map_err(|e| {
            let _ = fsio::remove_file(&aside);
            io_failed("write", path)(e)
        })?;
        self.sync_parent(path)
    }

    fn put_new(&self, path: &str, bytes: &[u8]) -> Result<bool, StorageError> {
        let full = self.full(path);
        if full.symlink_metadata().is_ok() {
            return Ok(false);
        }
        let aside = self.written_aside(path, bytes)?;
        // A second name is given to a file only where none stands, on any file system that has them.
        let linked = fsio::share_file(&aside, &full);
        let _ = fsio::remove_file(&aside);
        match linked {
            Ok(()) => self.sync_parent(path).map(|()| true),
            Err(e) if e.source.kind() == io::ErrorKind::AlreadyExists => Ok(false),
            Err(e) => Err(io_failed("write", path)(e)),
        }
    }

    fn delete(&self, path: &str) -> Result<(), StorageError> {
        match fsio::remove_file(&self.full(path)) {
            Err(e) if fault_of(&e.source) == Fault::NotFound => Ok(()),
            other => other.map_err(io_failed("remove", path)),
        }
    }
}
