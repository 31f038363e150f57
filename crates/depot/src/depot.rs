//! An open depot.

use std::path::PathBuf;
use std::sync::{Arc, Mutex, PoisonError};

use textum_base::fsio::{self, IoError};
use textum_store::StoreError;

use super::catalog::Catalog;
use super::layout::{DEPOT_FILE, DEPOT_TYPE, DepotDocument, project_key};
use super::retry::Interrupt;
use super::storage::{Fault, Storage, StorageError};

/// Why a depot could not do what was asked.
#[derive(Debug, thiserror::Error)]
pub enum DepotError {
    /// The storage.
    #[error(transparent)]
    Storage(StorageError),
    /// The store of this machine.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The disk of this machine.
    #[error(transparent)]
    Io(#[from] IoError),
    /// There is no depot there.
    #[error("there is no depot at {0}")]
    NotThere(String),
    /// There is something else there.
    #[error("{0} is not empty, and no depot: it holds {1}")]
    Foreign(String, String),
    /// It was made by a newer Textum.
    #[error("the depot at {at} has the format {found}; this Textum knows {DEPOT_TYPE}")]
    Newer {
        /// Where.
        at: String,
        /// Its format.
        found: String,
    },
    /// Bytes in it are not those that were written.
    #[error("{object} in the depot {depot} is damaged: {what}")]
    Damaged {
        /// The depot.
        depot: String,
        /// The object.
        object: String,
        /// What is wrong with it.
        what: String,
    },
    /// Somebody asked to end.
    #[error("it was interrupted; what has travelled is kept, and the next time goes on from there")]
    Interrupted,
}

impl From<StorageError> for DepotError {
    fn from(error: StorageError) -> DepotError {
        match error.fault {
            Fault::Interrupted => DepotError::Interrupted,
            _ => DepotError::Storage(error),
        }
    }
}

/// What a depot is opened with.
#[derive(Clone, Debug)]
pub struct DepotOptions {
    /// What it is called here.
    pub name: String,
    /// Where it lies, for messages.
    pub at: String,
    /// The name of the project whose documents are exchanged.
    pub project: String,
    /// The folder in which this machine keeps what it knows of depots. It need not be there.
    pub state: PathBuf,
    /// So many requests side by side.
    pub jobs: usize,
    /// Told when all is to end.
    pub interrupt: Interrupt,
}

/// An open depot.
pub struct Depot {
    pub(crate) options: DepotOptions,
    pub(crate) storage: Arc<dyn Storage>,
    pub(crate) catalog: Mutex<Option<Arc<Catalog>>>,
    document: DepotDocument,
}

impl Depot {
    /// Opens the depot on this storage.
    pub fn open(storage: Arc<dyn Storage>, options: DepotOptions) -> Result<Depot, DepotError> {
        let document = match read_whole(&*storage, DEPOT_FILE, |bytes| read_document(bytes, &options))? {
            None => return Err(DepotError::NotThere(options.at)),
            Some(document) => document?,
        };
        Ok(Depot { options, storage, catalog: Mutex::default(), document })
    }

    /// Opens the depot on this storage, which is made into one if it is empty; whether it was.
    pub fn open_or_create(storage: Arc<dyn Storage>, options: DepotOptions, by: &str) -> Result<(Depot, bool), DepotError> {
        match Depot::open(storage.clone(), options.clone()) {
            Err(DepotError::NotThere(at)) => {
                let there = storage.list("")?;
                if let Some(foreign) = there.iter().find(|o| !is_ours(&o.path)) {
                    return Err(DepotError::Foreign(at, foreign.path.clone()));
                }
                let document = DepotDocument {
                    r#type: DEPOT_TYPE.to_string(),
                    id: format!("{:032x}", rand::random::<u128>()),
                    made: textum_base::clock::now().to_string(),
                    by: by.to_string(),
                };
                let text = serde_json::to_vec_pretty(&document).unwrap_or_default();
                // Of two who make it at once, one did.
                let made = storage.put_new(DEPOT_FILE, &text)?;
                Ok((Depot::open(storage, options)?, made))
            }
            other => Ok((other?, false)),
        }
    }

    /// What it is called here.
    pub fn name(&self) -> &str {
        &self.options.name
    }

    /// Where it lies.
    pub fn at(&self) -> &str {
        &self.options.at
    }

    /// The project as paths name it.
    pub(crate) fn project(&self) -> String {
        project_key(&self.options.project)
    }

    /// What tells it from any other.
    pub fn id(&self) -> &str {
        &self.document.id
    }

    /// What it says of itself.
    pub fn document(&self) -> &DepotDocument {
        &self.document
    }

    /// What it lies on.
    pub fn storage(&self) -> &Arc<dyn Storage> {
        &self.storage
    }

    pub(crate) fn jobs(&self) -> usize {
        self.options.jobs.max(1)
    }

    /// A file in which this machine keeps what it knows of this depot.
    pub(crate) fn state_file(&self, name: &str) -> PathBuf {
        self.options.state.join(&self.document.id).join(self.project()).join(name)
    }

    /// Keeps what is known of the depot. It is derived: where it cannot be written, it is asked for again the next time.
    pub(crate) fn keep(&self, name: &str, bytes: &[u8]) {
        let file = self.state_file(name);
        if !self.options.state.parent().is_some_and(std::path::Path::exists) {
            return;
        }
        if let Some(folder) = file.parent()
            && fsio::create_folder(folder).is_ok()
        {
            let _ = fsio::write_derived(&file, bytes);
        }
    }

    /// A whole object, read as what it is; none where there is no such object.
    pub(crate) fn object<T>(&self, path: &str, read: impl Fn(&[u8]) -> Result<T, String>) -> Result<Option<T>, DepotError> {
        read_whole(&*self.storage, path, read)?.transpose().map_err(|what| self.damaged(path, what))
    }

    pub(crate) fn go_on(&self) -> Result<(), DepotError> {
        if self.options.interrupt.is_asked() { Err(DepotError::Interrupted) } else { Ok(()) }
    }

    pub(crate) fn damaged(&self, object: &str, what: impl ToString) -> DepotError {
        DepotError::Damaged { depot: self.name().to_string(), object: object.to_string(), what: what.to_string() }
    }

    /// Forgets what is known of its indexes.
    pub(crate) fn forget(&self) {
        *self.catalog.lock().unwrap_or_else(PoisonError::into_inner) = None;
    }
}

/// A whole object, read as what it is; none where there is no such object. Wrong bytes may be the network's doing: they are
/// asked for once more.
fn read_whole<T, E>(
    storage: &dyn Storage,
    path: &str,
    read: impl Fn(&[u8]) -> Result<T, E>,
) -> Result<Option<Result<T, E>>, StorageError> {
    let ask = || match storage.read(path) {
        Err(e) if e.is_not_found() => Ok(None),
        other => other.map(|bytes| Some(read(&bytes))),
    };
    match ask()? {
        Some(Err(_)) => ask(),
        other => Ok(other),
    }
}

/// Whether an object may lie in a depot that was being made when its machine was lost.
fn is_ours(path: &str) -> bool {
    ["content/", "documents/", "index/", "live/", "registry/", "aside/", "probe/", "projects/"]
        .iter()
        .any(|folder| path.starts_with(folder))
}

fn read_document(bytes: &[u8], options: &DepotOptions) -> Result<DepotDocument, DepotError> {
    let damaged = |what: String| DepotError::Damaged { depot: options.name.clone(), object: DEPOT_FILE.to_string(), what };
    let value: serde_json::Value = serde_json::from_slice(bytes).map_err(|e| damaged(e.to_string()))?;
    let found = value["type"].as_str().unwrap_or_default();
    if found != DEPOT_TYPE {
        return Err(match found.strip_prefix("textum/depot@") {
            Some(_) => DepotError::Newer { at: options.at.clone(), found: found.to_string() },
            None => damaged("it does not say that it is a depot".to_string()),
        });
    }
    let document: DepotDocument = serde_json::from_value(value).map_err(|e| damaged(e.to_string()))?;
    // It becomes part of a path here.
    match document.id.len() == 32 && document.id.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b)) {
        true => Ok(document),
        false => Err(damaged("its id is none".to_string())),
    }
}
