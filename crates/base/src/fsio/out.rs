//! A file that is being written: the one way bytes reach the disk.

use std::fs::File;
use std::io::{self, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

use super::IoError;
use super::fault::{self, Step};

/// A file open for writing, with its path for messages.
#[derive(Debug)]
pub struct OutFile {
    file: File,
    path: PathBuf,
}

impl OutFile {
    /// Writes into a file that was opened by somebody else.
    pub fn of(file: File, path: &Path) -> OutFile {
        OutFile { file, path: path.to_path_buf() }
    }

    /// Makes a file that is not there yet, readable as the umask says.
    pub fn create_new(path: &Path) -> Result<OutFile, IoError> {
        let file = File::options().read(true).write(true).create_new(true).open(path).map_err(IoError::of("create", path))?;
        Ok(OutFile::of(file, path))
    }

    /// The file itself.
    pub fn file(&self) -> &File {
        &self.file
    }

    /// Its path.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Makes what was written durable.
    pub fn sync(&self) -> Result<(), IoError> {
        fault::before(Step::Sync, &self.path).and_then(|()| self.file.sync_all()).map_err(IoError::of("sync", &self.path))
    }
}

impl Write for OutFile {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        fault::before(Step::Write, &self.path)?;
        self.file.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.file.flush()
    }
}

impl Seek for OutFile {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        self.file.seek(to)
    }
}
