//! What the tracer tells of a command.

use serde::{Deserialize, Serialize};
use textum_base::{Channel, Digest};

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
    /// The names of its entries when it was first listed, folders with `/` at the end; none for folders of the system and of
    /// installed packages, whose entries are what they are in the end.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub entries: Option<Vec<String>>,
}

/// A name that was asked for and not there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Absent {
    /// The path.
    pub path: String,
    /// Whether it was only looked for (`stat`, `access`), not opened or executed.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub looked_for: bool,
    /// Whether it would be in a folder that the command made.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub in_own: bool,
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

/// A name that was looked at without being opened.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Looked {
    /// The path.
    pub path: String,
    /// The size of a file in bytes, if the command was told it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// Whether a file may be executed, if the command was told it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exec: Option<bool>,
}

/// A link whose target was looked at, or that led to a folder in which names were asked for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Link {
    /// The path of the link.
    pub path: String,
    /// What it leads to, as the link says it.
    pub target: String,
}

/// A user's attribute of a file (`xattr(7)`) that was asked for.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Attribute {
    /// The path of the file.
    pub path: String,
    /// Its name; empty for the names of all.
    pub name: String,
    /// The digest of its value, or of the names; none where there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<Digest>,
}

/// A file that was written, made, renamed or deleted.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Changed {
    /// The path.
    pub path: String,
    /// Whether it was there before the command changed it.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub existed: bool,
    /// Whether its content can have been read before.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub read: bool,
    /// Whether anything of it was seen before: its content, or whether it is there.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub seen: bool,
    /// The digest of its content before, if that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<Digest>,
    /// Whether somebody else may have changed it: what the command left is not known then.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub shared: bool,
}

/// What a sealed command tried in vain.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Try {
    /// To read or list a path.
    Read,
    /// To write, make or delete a path.
    Write,
    /// To connect to an address.
    Connect,
    /// To be told something in another way.
    Channel,
}

/// Something that a sealed command tried in vain.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Refused {
    /// What it tried.
    pub tried: Try,
    /// With what: a path, an address, a name.
    pub name: String,
}

/// What a command and all that it started were seen to do.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Observation {
    /// How the command ended; none if it could not be told.
    pub end: Option<End>,
    /// Why nothing could be seen, if so: all else is empty then.
    pub not_observed: Option<String>,
    /// What the command did that cannot be followed: it may have read something that is not told here.
    pub not_whole: Vec<String>,
    /// Files that were read before the command changed them, and that it left as they were.
    pub opened: Vec<Opened>,
    /// Names that were looked at without being opened, and are there.
    pub looked_at: Vec<Looked>,
    /// Links that were looked at, or that led to where names were asked for.
    pub links: Vec<Link>,
    /// Folders whose entries were listed.
    pub listed: Vec<Listed>,
    /// Folders of which the metadata of several files was looked at: their times may have decided.
    pub times: Vec<String>,
    /// Attributes that were asked for.
    pub attributes: Vec<Attribute>,
    /// Names that were not there.
    pub absent: Vec<Absent>,
    /// Files that were written, made, renamed or deleted.
    pub changed: Vec<Changed>,
    /// Network addresses that were connected to: `address:port`.
    pub network: Vec<String>,
    /// Whether it connected to processes of its own.
    pub own_network: bool,
    /// Other ways by which it could be told something.
    pub channels: Vec<Channel>,
    /// Whether it asked for random numbers.
    pub random: bool,
    /// What was refused because the command was sealed.
    pub refused: Vec<Refused>,
    /// Whether a sealed command had a network, and memory shared between processes, of its own.
    pub isolated: bool,
    /// What could not be seen of it, and is no input.
    pub unseen: Vec<String>,
}

/// What a sealed command may do.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Seal {
    /// Files and folders that may be read, with everything below.
    pub read: Vec<String>,
    /// Files and folders that may be read and written, with everything below.
    pub write: Vec<String>,
    /// Folders made for the command alone: what is in them is its own.
    #[serde(default)]
    pub own: Vec<String>,
}
