//! What the tracer tells of a command.

use serde::{Deserialize, Serialize};

/// What tells whether a file has been changed: all but the device's number is from `stat(2)`.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Stamp {
    /// Size in bytes.
    pub size: u64,
    /// Time of the last change of content, in nanoseconds since 1970.
    pub mtime: i64,
    /// Time of the last change of content or metadata, in nanoseconds since 1970.
    pub ctime: i64,
    /// Inode number.
    pub inode: u64,
}

/// A file that was opened for reading or executed, and how it stood when it first was. Paths are absolute, as they
/// were asked for, in the form of [`crate::to_text`].
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Opened {
    /// The path.
    pub path: String,
    /// How it stood.
    pub stamp: Stamp,
    /// Whether the command made or removed a hard link of it: then its time of change says nothing.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub linked: bool,
    /// Whether it was executed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub executed: bool,
}

/// A folder whose entries were listed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Listed {
    /// The path.
    pub path: String,
    /// Whether it was only listed as an interpreter does to find modules: right after asking for the folder's time.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub for_modules: bool,
}

/// A name that was asked for and not there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Absent {
    /// The path.
    pub path: String,
    /// Whether it was only looked for (`stat`, `access`), not opened or executed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub looked_for: bool,
}

/// How a command ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum End {
    /// It exited with this status.
    Code(i32),
    /// It was killed by this signal.
    Signal(i32),
}

/// What a command and all that it started were seen to do.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Observation {
    /// How the command ended; none if it could not be told.
    pub end: Option<End>,
    /// Why nothing could be seen, if so: all else is empty then.
    pub not_observed: Option<String>,
    /// Files that were read and not written by the command before.
    pub opened: Vec<Opened>,
    /// Names that were looked at without being opened, and are there.
    pub looked_at: Vec<String>,
    /// Folders whose entries were listed.
    pub listed: Vec<Listed>,
    /// Names that were not there.
    pub absent: Vec<Absent>,
    /// Files that were written, made, renamed or deleted.
    pub changed: Vec<String>,
    /// Those of them that were read, or asked for, before they were written.
    pub read_and_changed: Vec<String>,
    /// Network addresses that were connected to: `address:port`.
    pub network: Vec<String>,
    /// Whether it connected to processes of its own.
    #[serde(default)]
    pub own_network: bool,
    /// What was refused because the command was sealed.
    pub refused: Vec<String>,
    /// What could not be seen of it.
    pub unseen: Vec<String>,
}

/// What a sealed command may do.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Seal {
    /// Files and folders that may be read, with everything below.
    pub read: Vec<String>,
    /// Files and folders that may be read and written, with everything below.
    pub write: Vec<String>,
}
