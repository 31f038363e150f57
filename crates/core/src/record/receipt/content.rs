//! What stood at a path: the smallest statement that receipts are made of.

use serde::{Deserialize, Serialize};

use textum_base::ProjectPath;

use crate::store::Digest;

/// What a content is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ContentKind {
    /// A file; the digest is that of its bytes.
    File,
    /// A file that may be executed; the digest is that of its bytes.
    Exec,
    /// A folder; the digest is that of its listing.
    Folder,
}

/// Which files of a content only their owner may read. It is recorded and restored, and is no part of what the
/// content is: the digest does not change with it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Private {
    /// None of them.
    #[default]
    #[serde(skip)]
    Nothing,
    /// These files of a folder.
    Files(Vec<String>),
    /// All of it: written `true`.
    Whole(bool),
}

/// More private files than this in one folder are not named one by one: all of it is private then.
const MOST_NAMED: usize = 1000;

impl Private {
    /// From the private ones among so many files of a folder.
    pub fn of_files(private: Vec<String>, all: u64) -> Private {
        match private.len() {
            0 => Private::Nothing,
            n if n as u64 == all || n > MOST_NAMED => Private::Whole(true),
            _ => Private::Files(private),
        }
    }

    /// Whether a file, by its path in the folder, is private; of a single file the path is empty.
    pub fn covers(&self, path: &str) -> bool {
        match self {
            Private::Nothing => false,
            Private::Whole(whole) => *whole,
            Private::Files(files) => files.binary_search_by(|f| f.as_str().cmp(path)).is_ok(),
        }
    }

    /// Whether only their owner may read any of it.
    pub fn is_nothing(&self) -> bool {
        *self == Private::Nothing
    }
}

impl From<bool> for Private {
    fn from(private: bool) -> Private {
        if private { Private::Whole(true) } else { Private::Nothing }
    }
}

/// A content: what it is, its digest, and its size.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Content {
    /// What it is.
    pub kind: ContentKind,
    /// Its digest.
    pub digest: Digest,
    /// Its size in bytes; of a folder, that of all files in it.
    pub size: u64,
    /// Of a folder: the number of files in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub files: Option<u64>,
    /// What of it only its owner may read.
    #[serde(default, skip_serializing_if = "Private::is_nothing")]
    pub private: Private,
}

impl Content {
    /// A file with this digest and size.
    pub fn file(digest: Digest, size: u64) -> Content {
        Content { kind: ContentKind::File, digest, size, files: None, private: Private::Nothing }
    }

    /// A folder with this listing.
    pub fn folder(listing: Digest, size: u64, files: u64) -> Content {
        Content { kind: ContentKind::Folder, digest: listing, size, files: Some(files), private: Private::Nothing }
    }

    fn identity(&self) -> (ContentKind, &Digest, u64, Option<u64>) {
        (self.kind, &self.digest, self.size, self.files)
    }
}

impl PartialEq for Content {
    fn eq(&self, other: &Content) -> bool {
        self.identity() == other.identity()
    }
}

impl Eq for Content {}

impl std::hash::Hash for Content {
    fn hash<H: std::hash::Hasher>(&self, state: &mut H) {
        self.identity().hash(state);
    }
}

/// A content at a path below the project.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PathContent<P = ProjectPath> {
    /// The path.
    pub path: P,
    /// What stood there.
    #[serde(flatten)]
    pub content: Content,
}
