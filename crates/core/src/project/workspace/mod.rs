//! Finds the project, knows its paths and format versions, hands out the parts.

mod project;

use std::fs;
use std::path::{Path, PathBuf};

pub use project::{LoadProjectError, Project};

use crate::config::manifest::MANIFEST_NAME;
use crate::fsio::{self, FileLock, IoError, TryLock};
use crate::store::Digest;

/// What `.textum/format` says.
const FORMAT: &str = "textum/workspace@1";
const FORMAT_NAME: &str = "textum/workspace@";

/// A project's folder and Textum's own folder in it.
#[derive(Clone, Debug)]
pub struct Workspace {
    root: PathBuf,
}

/// Why a workspace could not be opened.
#[derive(Debug, thiserror::Error)]
pub enum WorkspaceError {
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// No manifest here or above.
    #[error("there is no textum.toml in {} or a folder above it", .0.display())]
    NoProject(PathBuf),
    /// `.textum` was written by a newer Textum.
    #[error("{} is of the format `{found}`, which this Textum does not know; it reads `{FORMAT}`", path.display())]
    Newer {
        /// Textum's folder.
        path: PathBuf,
        /// The format it says.
        found: String,
    },
    /// What says the format of `.textum` says no format.
    #[error("{} is damaged: it should contain the single line `{FORMAT}`", path.display())]
    Format {
        /// The file.
        path: PathBuf,
    },
    /// Another run works in the tree.
    #[error("another run is at work in this tree: {who}")]
    Busy {
        /// What the other said of itself.
        who: String,
    },
}

impl Workspace {
    /// The project that a folder belongs to: the nearest one at or above it with a manifest.
    pub fn find(folder: &Path) -> Result<Workspace, WorkspaceError> {
        let start = fs::canonicalize(folder).map_err(IoError::of("open the folder", folder))?;
        let root = start.ancestors().find(|a| a.join(MANIFEST_NAME).is_file());
        let root = root.ok_or_else(|| WorkspaceError::NoProject(start.clone()))?;
        let workspace = Workspace { root: root.to_path_buf() };
        workspace.check_format()?;
        Ok(workspace)
    }

    /// The project's folder.
    pub fn root(&self) -> &Path {
        &self.root
    }

    /// The manifest's path.
    pub fn manifest_path(&self) -> PathBuf {
        self.root.join(MANIFEST_NAME)
    }

    /// Textum's own folder.
    pub fn state(&self) -> PathBuf {
        self.root.join(".textum")
    }

    /// The store's folder.
    pub fn store_folder(&self) -> PathBuf {
        self.state().join("store")
    }

    /// The ledger's file.
    pub fn ledger_path(&self) -> PathBuf {
        self.state().join("ledger.db")
    }

    /// Where the stat cache and other things that can be made again are kept; none while the project
    /// has no state yet, so that a mere look leaves no trace.
    pub fn cache_folder(&self) -> Option<PathBuf> {
        self.state().is_dir().then(|| self.state().join("cache"))
    }

    /// Where it is kept what is known of depots.
    pub fn depots_folder(&self) -> PathBuf {
        self.state().join("depots")
    }

    /// Where runs at work keep their logs and tell that they live.
    pub fn runs_folder(&self) -> PathBuf {
        self.state().join("runs")
    }

    /// Where files of a person's go that stood in the way.
    pub fn aside_folder(&self) -> PathBuf {
        self.state().join("aside")
    }

    /// The file of locks on the keys of stages at work that begin as this one does: the kernel goes through the locks of a file one
    /// by one.
    pub fn keys_lock(&self, key: &Digest) -> PathBuf {
        self.state().join("keys").join(key.hex().get(..1).unwrap_or_default())
    }

    /// The key that values of secret variables are hashed with.
    pub fn secret_key_path(&self) -> PathBuf {
        self.state().join("secret.key")
    }

    /// Where sandboxes are.
    pub fn sandboxes_folder(&self) -> PathBuf {
        self.state().join("sandboxes")
    }

    fn check_format(&self) -> Result<(), WorkspaceError> {
        let path = self.state().join("format");
        let version = |text: &str| text.strip_prefix(FORMAT_NAME).is_some_and(|v| v.parse::<u32>().is_ok());
        match fs::read(&path) {
            Ok(bytes) => match std::str::from_utf8(&bytes).map(str::trim) {
                Ok(FORMAT) => Ok(()),
                Ok(found) if version(found) => Err(WorkspaceError::Newer { path: self.state(), found: found.to_string() }),
                _ => Err(WorkspaceError::Format { path }),
            },
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => Ok(()),
            Err(e) => Err(IoError::of("read", &path)(e).into()),
        }
    }

    /// Makes Textum's folder if it is not there; git ignores it by a file of its own.
    pub fn create_state(&self) -> Result<(), WorkspaceError> {
        let state = self.state();
        if state.join("format").exists() {
            fsio::sweep_parts(&state);
            fsio::sweep_parts(&state.join("incoming"));
            return self.check_format();
        }
        crate::fsio::create_folder(&state)?;
        self.keep_private(&state)?;
        fsio::write_derived(&state.join(".gitignore"), b"*\n")?;
        fsio::write_atomic(&state.join("format"), format!("{FORMAT}\n").as_bytes())?;
        Ok(())
    }

    /// What is recorded is for those alone who may write in the project: its owner, or a group that shares it.
    fn keep_private(&self, state: &Path) -> Result<(), IoError> {
        use std::os::unix::fs::PermissionsExt;
        let mode = |path: &Path| fs::metadata(path).map(|m| m.permissions().mode()).map_err(IoError::of("look at", path));
        let own = mode(state)?;
        let shared = mode(&self.root)? & 0o020 != 0 && own & 0o020 != 0;
        let wanted = if shared { 0o770 } else { 0o700 } | (own & 0o2000);
        fsio::set_mode(state, wanted)
    }

    /// Takes the working tree for one run, or says who has it.
    pub fn lock_tree(&self, who: &str) -> Result<FileLock, WorkspaceError> {
        let path = self.state().join("tree.lock");
        // A process that is just being started holds the locks of the one that starts it until it is
        // itself: a lock found held is looked at again for a moment.
        let mut tries = 0;
        let found = loop {
            match FileLock::try_exclusive(&path)? {
                TryLock::Held | TryLock::Absent if tries < 10 => tries += 1,
                other => break other,
            }
            std::thread::sleep(std::time::Duration::from_millis(20));
        };
        match found {
            TryLock::Taken(mut lock) => {
                lock.describe(who)?;
                Ok(lock)
            }
            TryLock::Held | TryLock::Absent => {
                let who = fs::read_to_string(&path).unwrap_or_default();
                let who = if who.trim().is_empty() { "it has not said who it is".to_string() } else { who.trim().to_string() };
                Err(WorkspaceError::Busy { who })
            }
        }
    }
}
