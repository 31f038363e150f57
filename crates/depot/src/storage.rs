//! What a depot asks of the storage that it lies on: six operations on named objects.

use bytes::Bytes;
use jiff::Timestamp;

/// An object: a name with bytes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Object {
    /// Its name, with `/` between parts, relative to the depot.
    pub path: String,
    /// Its length in bytes.
    pub size: u64,
    /// When it was written, by the storage's clock, where it says so.
    pub modified: Option<Timestamp>,
}

/// What went wrong, as far as it decides what to do next.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fault {
    /// No object of this name.
    NotFound,
    /// Not allowed: wrong or missing credentials, or no right.
    Denied,
    /// It may go well the next time: the network, a busy server, a hang.
    Temporary,
    /// Something that no second try changes: no such bucket, a wrong region, an unknown host key.
    Lasting,
    /// Somebody asked to end.
    Interrupted,
}

/// Why an operation failed.
#[derive(Clone, Debug, thiserror::Error, PartialEq, Eq)]
#[error("cannot {action} {path}{}: {what}", if .at.is_empty() { String::new() } else { format!(" at {at}") })]
pub struct StorageError {
    /// What kind of failure.
    pub fault: Fault,
    /// What was being done.
    pub action: &'static str,
    /// The object or folder.
    pub path: String,
    /// Where the storage lies, if it was opened by an address.
    pub at: String,
    /// What the storage said.
    pub what: String,
}

impl StorageError {
    /// An error of an operation on a path.
    pub fn of(fault: Fault, action: &'static str, path: &str, what: impl ToString) -> StorageError {
        StorageError { fault, action, path: path.to_string(), at: String::new(), what: what.to_string() }
    }

    /// Whether the object was simply not there.
    pub fn is_not_found(&self) -> bool {
        self.fault == Fault::NotFound
    }
}

/// Storage that a depot lies on. Names are relative to it. An object appears whole or not at all.
pub trait Storage: Send + Sync {
    /// All objects below a folder at any depth, in no particular order; none where there is no such folder.
    fn list(&self, folder: &str) -> Result<Vec<Object>, StorageError>;

    /// A whole object.
    fn read(&self, path: &str) -> Result<Vec<u8>, StorageError>;

    /// `length` bytes of an object from `from` on; fewer only where it ends before.
    fn read_range(&self, path: &str, from: u64, length: u64) -> Result<Vec<u8>, StorageError>;

    /// Writes an object, in the place of what bears its name.
    fn put(&self, path: &str, bytes: &Bytes) -> Result<(), StorageError>;

    /// Writes an object unless there is one of its name; whether it did. Storage that ignores the condition is found out by
    /// [`crate::probe`].
    fn put_new(&self, path: &str, bytes: &[u8]) -> Result<bool, StorageError>;

    /// Removes an object. One that is not there is no error.
    fn delete(&self, path: &str) -> Result<(), StorageError>;

    /// What writers left that did not end: no objects, but they take room, and can be removed like them.
    fn leftovers(&self) -> Result<Vec<Object>, StorageError> {
        Ok(Vec::new())
    }
}
