//! What a stage was seen to read, declared or not: the document that its receipt names.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use serde::{Deserialize, Serialize};
use textum_base::Channel;

use super::Content;
use crate::store::{Digest, Store};

/// The `type` of a document of observed inputs.
pub const OBSERVED: &str = "textum/observed-inputs@1";

/// Whether a stage was observed, and what came of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Observed {
    /// Whether it was.
    pub how: ObservedHow,
    /// Why not, if not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub because: Option<String>,
    /// The document of its observed inputs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub inputs: Option<Digest>,
    /// The environment whose files are kept, if they are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub environment: Option<Digest>,
    /// Whether it was sealed: nothing else could be read.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub sealed: bool,
}

impl Observed {
    /// It was not, for this reason.
    pub fn not(how: ObservedHow, because: &str) -> Observed {
        Observed { how, because: Some(because.to_string()), inputs: None, environment: None, sealed: false }
    }
}

/// Whether a stage was observed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ObservedHow {
    /// It was.
    Yes,
    /// It was, but it did something that cannot be followed: its result counts as if nothing had been seen, too.
    Part,
    /// It was, on a machine that shares no folder with this one: its files are not held against those that are here.
    Away,
    /// It was not: the system does not allow it.
    No,
    /// It was not: the manifest says so.
    Off,
    /// It was not, and a person said that its result is to be trusted.
    Trusted,
}

/// Everything that a stage was seen to read beside what it declares. Paths are relative to the project, `~/…` below
/// the home folder, or absolute; bytes that are no UTF-8 are written `\xNN`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ObservedInputs {
    /// [`OBSERVED`].
    pub r#type: String,
    /// Files that were read, in groups.
    pub groups: Vec<ObservedGroup>,
    /// Names that were not there. They count.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub absent: Vec<String>,
    /// Names of the project that were looked at without being read; a folder's ends in `/`. That they are there counts.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub present: Vec<String>,
    /// What was seen of files that were looked at without being read. It counts.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub looks: BTreeMap<String, ObservedLook>,
    /// Users' attributes of files that were asked for, by path and name, with the digests of their values. They count.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub attributes: BTreeMap<String, BTreeMap<String, Option<Digest>>>,
    /// Links that were looked at, or that led to a folder in which names were asked for, with what they led to. It counts.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub links: BTreeMap<String, String>,
    /// Folders of which the metadata of several files was looked at: their times may have decided, and do not count.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub times: Vec<String>,
    /// Folders whose entries were listed. The entries count.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub listed: Vec<ObservedFolder>,
    /// Modules that were imported, by the first part of their name: of a folder that was listed for modules, only
    /// entries with these names count.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub modules: Vec<String>,
    /// Variables that were passed on and count by value; `null` when not set.
    pub variables: BTreeMap<String, Option<String>>,
    /// Network addresses connected to. They cannot be checked.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub network: Vec<String>,
    /// Whether its own processes connected to one another. It says nothing of the result; a sealed stage could not.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub own_network: bool,
    /// Other ways by which it could be told something. They cannot be checked.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub channels: Vec<Channel>,
    /// Whether it asked for random numbers.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub random: bool,
    /// Files outside of the declared outputs that the stage both reads and changes: state that it keeps.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub state: Vec<String>,
    /// Those of them that are the project's, as the stage found and left them. They count.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub kept: BTreeMap<String, ObservedState>,
    /// Files outside of the declared outputs that were written or deleted.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub changed: Vec<String>,
    /// What could not be seen.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub unseen: Vec<String>,
    /// The processor's name and the number of processors that could be used. Recorded only.
    pub processor: String,
}

/// What a stage was told of a file that it did not read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ObservedLook {
    /// Its size in bytes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<u64>,
    /// Whether it may be executed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exec: Option<bool>,
}

/// What a stage had from where nothing can be checked: a rebuild may come out otherwise.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct Unchecked {
    /// Network addresses that it connected to.
    pub connections: Vec<String>,
    /// Other ways by which it could be told something.
    pub channels: Vec<Channel>,
    /// Whether it asked for random numbers.
    pub random: bool,
    /// Folders of which the times of files may have decided.
    pub times: Vec<String>,
}

/// A file that a stage both read and changed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ObservedState {
    /// Whether it was there before.
    pub existed: bool,
    /// Whether its content before can have been read, not only that it was there.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub read: bool,
    /// Its content before, where that is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub before: Option<Digest>,
    /// Its content afterwards; none where it is gone.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Digest>,
    /// Whether somebody else may have changed it while the stage was at work: then only its content before counts.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub shared: bool,
}

/// What a group of files is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ObservedKind {
    /// Files of the project that the stage does not declare.
    Project,
    /// Files anywhere else: the home folder, a mounted share.
    Elsewhere,
    /// Files of an installed package.
    Package,
    /// Files of an interpreter: its standard library.
    Interpreter,
    /// Programs of the system that were executed.
    Program,
    /// Libraries and data of the system.
    System,
}

/// Files that were read and belong together.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ObservedGroup {
    /// What they are.
    pub kind: ObservedKind,
    /// The name of the package or interpreter; empty otherwise.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub name: String,
    /// The version of the package.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// Whether only the description of the package was read, and none of its files.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub metadata: bool,
    /// Whether a change of one of them means that the result cannot be used again.
    pub counts: bool,
    /// How many files.
    pub files: u64,
    /// Their bytes.
    pub size: u64,
    /// The list of them: a line for each with digest, `file` or `exec` (with `private-` before where
    /// only the owner may read it), size and path, sorted by path.
    pub list: Digest,
}

/// A folder whose entries were listed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ObservedFolder {
    /// Its path.
    pub path: String,
    /// The text of its entries' names, a line for each, folders with `/` at the end, sorted.
    pub entries: Digest,
    /// Whether only entries with the names of imported modules count.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub modules: bool,
    /// Outputs of stages that were left out of the entries: they come and go.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub without: Vec<String>,
}

/// A file of a list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ObservedFile {
    /// Its path, as in the document.
    pub path: String,
    /// Whether it may be executed.
    pub exec: bool,
    /// Whether only its owner may read it.
    pub private: bool,
    /// Its size in bytes.
    pub size: u64,
    /// Its digest.
    pub digest: Digest,
}

impl ObservedFile {
    /// Its content.
    pub fn content(&self) -> Content {
        let kind = if self.exec { super::ContentKind::Exec } else { super::ContentKind::File };
        Content { kind, private: self.private.into(), ..Content::file(self.digest, self.size) }
    }
}

/// The text of a list of files.
pub fn list_text(files: &[ObservedFile]) -> Vec<u8> {
    let mut out = String::new();
    for file in files {
        let kind = match (file.exec, file.private) {
            (false, false) => "file",
            (true, false) => "exec",
            (false, true) => "private-file",
            (true, true) => "private-exec",
        };
        let path = file.path.replace('\n', "\\x0a");
        let _ = writeln!(out, "{} {kind} {} {path}", file.digest.hex(), file.size);
    }
    out.into_bytes()
}

/// The files of a list; `None` for a text that is none.
pub fn files_of_list(text: &[u8]) -> Option<Vec<ObservedFile>> {
    let text = std::str::from_utf8(text).ok()?;
    let file = |line: &str| {
        let mut parts = line.splitn(4, ' ');
        let digest = Digest::from_hex(parts.next()?)?;
        let (exec, private) = match parts.next()? {
            "file" => (false, false),
            "exec" => (true, false),
            "private-file" => (false, true),
            "private-exec" => (true, true),
            _ => return None,
        };
        let size = parts.next()?.parse().ok()?;
        Some(ObservedFile { path: parts.next()?.to_string(), exec, private, size, digest })
    };
    text.lines().map(file).collect()
}

impl ObservedInputs {
    /// Reads a document of observed inputs from the store.
    pub fn load(store: &Store, digest: &Digest) -> Result<ObservedInputs, super::ReceiptError> {
        Ok(super::read_document(digest, &store.read(digest)?)?)
    }

    /// The files of the project that were read without being declared. Their content is in the store.
    pub fn project_files(&self, store: &Store) -> Result<Vec<ObservedFile>, super::ReceiptError> {
        let mut files = Vec::new();
        for group in self.of_kind(ObservedKind::Project) {
            files.extend(group.load_files(store)?);
        }
        Ok(files)
    }

    /// The packages of which files were read, beside their descriptions.
    pub fn used_packages(&self) -> impl Iterator<Item = &ObservedGroup> {
        self.of_kind(ObservedKind::Package).filter(|g| !g.metadata)
    }

    /// What of it cannot be checked.
    pub fn unchecked(&self) -> Unchecked {
        Unchecked {
            connections: self.network.clone(),
            channels: self.channels.clone(),
            random: self.random,
            times: self.times.clone(),
        }
    }

    /// The groups of one kind.
    pub fn of_kind(&self, kind: ObservedKind) -> impl Iterator<Item = &ObservedGroup> {
        self.groups.iter().filter(move |g| g.kind == kind)
    }
}

impl ObservedGroup {
    /// Reads the list of its files from the store. A list that is none has no files: the document is then taken for
    /// changed by whoever compares.
    pub fn load_files(&self, store: &Store) -> Result<Vec<ObservedFile>, super::ReceiptError> {
        Ok(files_of_list(&store.read(&self.list)?).unwrap_or_default())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_of_files_is_read_as_it_was_written_and_nothing_else_is_one() {
        let file = |path: &str, exec, private| ObservedFile {
            path: path.into(),
            exec,
            private,
            size: 3,
            digest: Digest::of(path.as_bytes()),
        };
        let files = vec![
            file("lib/units.py", false, false),
            file("~/with space.cfg", true, false),
            file("/opt/\\xff", false, true),
            file("a b", true, true),
        ];
        let text = list_text(&files);
        assert_eq!(files_of_list(&text).unwrap(), files);
        assert_eq!(files_of_list(b"").unwrap(), []);
        for bad in [&b"x"[..], b"abc file 3 p", b"\xff", &text[1..]] {
            assert!(files_of_list(bad).is_none());
        }
    }
}
