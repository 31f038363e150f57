//! The stage receipt: what one execution of a stage read, ran and wrote.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{BranchedFrom, Content, Metric, Observed, PathContent, SignalRecord, StartFrom, StorageMode};
use crate::config::manifest::{Command, Needs};
use crate::store::Digest;
use textum_base::{DeclaredPath, ProjectPath, SourcePath};

/// The `type` of a stage receipt.
pub const STAGE_RECEIPT: &str = "textum/stage-receipt@1";
/// The `type` of a stage's inputs.
pub const INPUTS: &str = "textum/inputs@1";

/// All that decides a stage's result. The digest of its canonical form is the stage key, and it is all
/// that is needed to execute the stage again.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Inputs {
    /// [`INPUTS`].
    pub r#type: String,
    /// The stage's name, which it is told in `TEXTUM_STAGE`.
    pub stage: String,
    /// The command, parameters filled in.
    pub run: Command,
    /// Each parameter's JSON text, by dotted name; as text, so that `1` and `1.0` differ.
    pub params: BTreeMap<String, String>,
    /// What is read, by path.
    pub reads: BTreeMap<SourcePath, ReadInput>,
    /// The paths that are brought forth, sorted; with `/` at the end where a folder is declared.
    pub writes: Vec<DeclaredPath>,
    /// The files of metrics that are brought forth, sorted.
    pub metrics: Vec<ProjectPath>,
    /// The path of its checkpoints, where one is declared.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub checkpoints: Option<ProjectPath>,
    /// The checkpoint that it goes on from; none: it starts clean.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<StartFrom>,
    /// Environment variables that count; `null` when not set.
    pub vars: BTreeMap<String, Option<String>>,
    /// Digest of the interpreter and packages that count; none for a stage that depends on none.
    pub environment: Option<Digest>,
}

/// How something that is read decides a result.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct ReadInput {
    /// `file`, `exec`, `folder`, or `notebook`, whose digest is that of its code cells.
    pub kind: ReadKind,
    /// Its digest.
    pub digest: Digest,
}

/// How a read is hashed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ReadKind {
    /// By its bytes.
    File,
    /// By its bytes, and it may be executed.
    Exec,
    /// By its listing.
    Folder,
    /// By its code cells.
    Notebook,
}

/// The document written for each execution of a stage.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StageReceipt {
    /// [`STAGE_RECEIPT`].
    pub r#type: String,
    /// The run it was part of.
    pub run: String,
    /// The stage key: the digest of `inputs` in canonical form.
    pub key: Digest,
    /// What decided the result.
    pub inputs: Inputs,
    /// How it ended.
    pub state: StageState,
    /// Why, when it was not done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// When it began, RFC 3339 in UTC.
    pub started: String,
    /// As if begun when it sorts: only where the clock had been set back behind what was recorded before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ordered: Option<String>,
    /// How long it took.
    pub seconds: f64,
    /// How its process ended.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub exit: Option<Exit>,
    /// What was read, with sizes and where it came from.
    pub reads: Vec<Read>,
    /// What was written; empty unless done.
    pub writes: Vec<PathContent>,
    /// The files of metrics; of a stage that was not done, as far as they were there.
    pub metric_files: Vec<PathContent>,
    /// The metrics in them, and the last values of those told by signals.
    pub metrics: BTreeMap<String, Metric>,
    /// What it told while it ran.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub signals: Option<SignalRecord>,
    /// The checkpoint that it went on from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<BranchedFrom>,
    /// Of a stage that was not done: what it left behind, by digest only.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub left: Vec<PathContent>,
    /// What it printed.
    pub log: Content,
    /// Digest of the record of the whole environment.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub environment: Option<Digest>,
    /// What it needed of the machine.
    pub needs: Needs,
    /// Where it was executed.
    pub place: PlaceRecord,
    /// Whether it was executed in a sandbox, where nothing undeclared can be read by a relative path.
    pub sandbox: bool,
    /// Whether what it read was observed; none for what was recorded before there was observing, and for what Textum
    /// does itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub observed: Option<Observed>,
    /// The receipt that this one tells anew, of the same execution: with reads that were declared after it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub taken_over: Option<Digest>,
    /// Attempts before this one, which its place has lost or had to end; oldest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub attempts: Vec<Attempt>,
    /// Files that it seems to have read without declaring them.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub undeclared: Vec<String>,
    /// Recorded versions of datasets that it was held against: out of the store, not out of the tree.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub versions: Vec<Read>,
}

/// Something that was read.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Read {
    /// Where and what.
    #[serde(flatten)]
    pub at: PathContent<SourcePath>,
    /// The stage receipts of those who wrote it, or something in it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub by: Vec<Digest>,
    /// The dataset that it is, or is part of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub dataset: Option<String>,
    /// The published version that it is, or is part of: `NAME@V`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub published: Option<String>,
    /// Whether it counts for every stage, by `[environment] files`.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub for_all: bool,
    /// Whether it is a file of parameters: of it only those count that are among the inputs.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub params: bool,
    /// How it is kept.
    #[serde(default, skip_serializing_if = "StorageMode::is_store")]
    pub hold: StorageMode,
}

/// How a stage ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum StageState {
    /// It did all it declares.
    Done,
    /// It did not.
    Failed,
    /// It was stopped, by a person or by its own rule.
    Stopped,
}

/// How a process ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Exit {
    /// It exited with this status.
    Code(i32),
    /// It was killed by this signal.
    Signal(i32),
}

/// An attempt at a stage that came to nothing by no fault of its own.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Attempt {
    /// Where it was.
    pub place: PlaceRecord,
    /// How long it was at work, in seconds.
    pub seconds: f64,
    /// Why it ended.
    pub why: String,
    /// The step of the checkpoint that the next attempt went on from; none: it started clean.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub went_on_from: Option<u64>,
}

/// Where a stage was executed.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlaceRecord {
    /// The kind of place: `local`, `slurm`, `ssh` or `command`.
    pub kind: String,
    /// The machine's name.
    pub host: String,
    /// Operating system and architecture.
    pub system: String,
    /// What the manifest calls the place; none of this machine.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// The job's number there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub job: Option<String>,
    /// The processor that it was executed on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processor: Option<String>,
    /// The graphics processors that it was given.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gpus: Option<String>,
    /// How long the job waited there before it was at work, in milliseconds; not part of the stage's seconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub waited_ms: Option<u64>,
    /// How long the machine had been rented when the stage had ended, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub held_ms: Option<u64>,
}

impl StageReceipt {
    /// All that it brought forth: writes, then files of metrics.
    pub fn outputs(&self) -> impl Iterator<Item = &PathContent> {
        self.writes.iter().chain(&self.metric_files)
    }
}
