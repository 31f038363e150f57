//! The run receipt, which names the stage receipts of a run, and the receipt of a rebuild.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{Better, BranchedFrom, Content, GateRecord, Metric, StorageMode};
use crate::store::Digest;
use textum_base::{ProjectPath, SourcePath};

/// The `type` of a run receipt.
pub const RUN_RECEIPT: &str = "textum/run-receipt@1";
/// The `type` of a rebuild's receipt.
pub const REBUILD_RECEIPT: &str = "textum/rebuild-receipt@1";

/// The document written for each run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RunReceipt {
    /// [`RUN_RECEIPT`].
    pub r#type: String,
    /// The run's id, such as `20261123-0542-7f3a`.
    pub run: String,
    /// The project's name.
    pub project: String,
    /// How it ended.
    pub state: RunState,
    /// Why, when it was not done.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// When it began, RFC 3339 in UTC.
    pub started: String,
    /// As if begun when it sorts: only where the clock had been set back behind what was recorded before.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ordered: Option<String>,
    /// The receipt of the newest run before it, so that the loss of that one is noticed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub after: Option<Digest>,
    /// How long it took.
    pub seconds: f64,
    /// A name given by a person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// Words given by a person.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// The command line's words after `textum`.
    pub arguments: Vec<String>,
    /// Content of the manifest.
    pub manifest: Content,
    /// Every parameter's JSON text, as used: with what `--set` changed.
    pub params: BTreeMap<String, String>,
    /// The parameters that `--set` changed.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub set: Vec<String>,
    /// The sweep that it is part of.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sweep: Option<String>,
    /// The run that it goes on with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub resumes: Option<String>,
    /// The checkpoints that stages were told to start from, by stage.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub from: BTreeMap<String, BranchedFrom>,
    /// The gates that were looked at.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub gates: Vec<GateRecord>,
    /// Each dataset's state: as the stages read it, the last of them; of one that none read, as the run found it.
    pub data: BTreeMap<String, DatasetState>,
    /// The other states of a dataset that changed while the run went on, where earlier stages read those.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub also: BTreeMap<String, Vec<DatasetState>>,
    /// The stages, in the order of their dependencies.
    pub stages: Vec<RunStage>,
    /// The metrics of all stages.
    pub metrics: BTreeMap<String, Metric>,
    /// The direction in which metrics get better, where declared.
    pub better: BTreeMap<String, Better>,
    /// The state of the git repository, where there is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub git: Option<GitState>,
    /// Who ran it, and where.
    pub by: String,
    /// Whether it worked in a sandbox.
    pub sandbox: bool,
    /// Where stages were to execute by word of the command line, by their names.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub places: BTreeMap<String, String>,
    /// What happened while it went on, and when: a line of JSON for each event.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub log: Option<Content>,
    /// The version of Textum.
    pub textum: String,
}

/// A dataset as a run found it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct DatasetState {
    /// Its path: below the project, or absolute for a reference.
    pub path: SourcePath,
    /// What stood there.
    #[serde(flatten)]
    pub content: Content,
    /// How it is kept.
    #[serde(default, skip_serializing_if = "StorageMode::is_store")]
    pub hold: StorageMode,
}

/// A stage in a run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RunStage {
    /// Its name.
    pub stage: String,
    /// What became of it.
    pub state: RunStageState,
    /// Its key, if its inputs were known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<Digest>,
    /// The receipt of the execution whose result it has; none for a skipped stage.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub receipt: Option<Digest>,
    /// How long it took in this run.
    pub seconds: f64,
}

/// What became of a stage in a run.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RunStageState {
    /// It was executed.
    Ran,
    /// A recorded result was put in place.
    Reused,
    /// The recorded result stood there already.
    UpToDate,
    /// It was executed and failed.
    Failed,
    /// It was stopped.
    Stopped,
    /// It was not begun, since something before it did not succeed.
    Skipped,
}

impl RunStageState {
    /// Whether the stage has its result.
    pub fn has_result(self) -> bool {
        matches!(self, RunStageState::Ran | RunStageState::Reused | RunStageState::UpToDate)
    }
}

/// How a run ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum RunState {
    /// All stages asked for have their results.
    Done,
    /// One failed.
    Failed,
    /// It was stopped, by a person or by a stage's own rule.
    Stopped,
    /// Textum or the machine was lost.
    Interrupted,
}

impl RunState {
    /// Its word in documents and for people.
    pub fn word(self) -> &'static str {
        match self {
            RunState::Done => "done",
            RunState::Failed => "failed",
            RunState::Stopped => "stopped",
            RunState::Interrupted => "interrupted",
        }
    }
}

/// The state of the git repository that the project lies in.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct GitState {
    /// The commit checked out.
    pub commit: String,
    /// The branch, unless detached.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub branch: Option<String>,
    /// Whether tracked files differed from the commit.
    pub dirty: bool,
}

/// How well a rebuild agrees with what was recorded.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Verdict {
    /// Byte for byte.
    Identical,
    /// The bytes differ, the metrics agree within the tolerance.
    Equivalent,
    /// They differ.
    Different,
    /// It could not be executed to the end.
    Failed,
}

/// The document written for each rebuild.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RebuildReceipt {
    /// [`REBUILD_RECEIPT`].
    pub r#type: String,
    /// The run whose results were rebuilt.
    pub run: String,
    /// What was asked for, in the words of the command.
    pub target: String,
    /// When it began, RFC 3339 in UTC.
    pub started: String,
    /// How long it took.
    pub seconds: f64,
    /// The verdict.
    pub verdict: Verdict,
    /// Who rebuilt it, and where.
    pub by: String,
    /// Each stage executed: the recorded receipt, the verdict, and each output's digests.
    pub stages: Vec<RebuiltStage>,
    /// Digest of the record of the environment that it was rebuilt in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub environment: Option<Digest>,
    /// Differences between that environment and the recorded one, in words.
    pub differences: Vec<String>,
}

/// A stage of a rebuild.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RebuiltStage {
    /// Its name.
    pub stage: String,
    /// The receipt that was held against.
    pub receipt: Digest,
    /// The verdict on it.
    pub verdict: Verdict,
    /// Its outputs.
    pub writes: Vec<RebuiltWrite>,
}

/// An output of a rebuilt stage.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RebuiltWrite {
    /// Its path.
    pub path: ProjectPath,
    /// The recorded digest.
    pub recorded: Digest,
    /// The digest now; none when it was not brought forth.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rebuilt: Option<Digest>,
}
