//! What a document speaks of: by it prune knows what must stay, and verify what must be there.

use super::{Content, Read, StorageMode};
use crate::store::Digest;

/// As what a document speaks of something.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Role<'d> {
    /// The manifest that a run was begun with.
    Manifest,
    /// What happened in a run.
    RunLog,
    /// What a stage printed.
    Log,
    /// The metrics of a stage, step by step.
    Points,
    /// A record of an environment.
    Environment,
    /// The text of a parameter or variable. It may never have been stored.
    Value,
    /// The state of a dataset, by the dataset's name.
    Dataset(&'d str),
    /// Something that a stage read.
    Read,
    /// Something that a stage wrote: it may be given up, as it can be made again.
    Output,
    /// A checkpoint that a stage wrote: it may be given up.
    Checkpoint,
    /// The checkpoint that a stage went on from.
    Branch,
    /// What a stage was seen to read: a document, or a list that one names.
    Observed,
    /// What a checkpoint's stage began with, a document.
    Start,
    /// What was published.
    Published,
}

impl Role<'_> {
    /// Whether prune may give it up though the document that speaks of it stays.
    pub fn can_be_given_up(self) -> bool {
        matches!(self, Role::Output | Role::Checkpoint)
    }
}

/// What is spoken of.
#[derive(Clone, Copy, Debug)]
pub enum Target<'d> {
    /// Bytes of a digest: a file, or a document.
    Bytes(Digest),
    /// A file or a folder.
    Content(&'d Content),
}

/// Something that a document speaks of.
#[derive(Clone, Copy, Debug)]
pub struct Reference<'d> {
    /// As what.
    pub role: Role<'d>,
    /// Where it stands in the working tree; empty where it stands nowhere.
    pub path: &'d str,
    /// What.
    pub target: Target<'d>,
    /// How it is kept.
    pub hold: StorageMode,
    /// The receipts of those who wrote it: then it is theirs to keep.
    pub by: &'d [Digest],
}

impl<'d> Reference<'d> {
    /// Bytes that stand nowhere in the tree.
    pub fn bytes(role: Role<'d>, digest: Digest) -> Reference<'d> {
        Reference { role, path: "", target: Target::Bytes(digest), hold: StorageMode::Store, by: &[] }
    }

    /// A content at a path.
    pub fn content(role: Role<'d>, path: &'d str, content: &'d Content, hold: StorageMode) -> Reference<'d> {
        Reference { role, path, target: Target::Content(content), hold, by: &[] }
    }

    /// Something that a stage read.
    pub fn read(read: &'d Read) -> Reference<'d> {
        Reference { by: &read.by, ..Reference::content(Role::Read, &read.at.path, &read.at.content, read.hold) }
    }
}

/// What no longer keeps content, though it speaks of it.
pub trait GivenUp {
    /// Whether a document's word for something does not count.
    fn reference(&self, document: &Digest, reference: &Reference<'_>) -> bool;

    /// Whether a document of observed inputs does not count for a file that it names.
    fn file(&self, _document: &Digest, _content: &Digest) -> bool {
        false
    }

    /// Whether a content goes, whoever speaks of it.
    fn never_stays(&self, _content: &Digest) -> bool {
        false
    }
}

/// Nothing is given up.
pub struct Nothing;

impl GivenUp for Nothing {
    fn reference(&self, _document: &Digest, _reference: &Reference<'_>) -> bool {
        false
    }
}
