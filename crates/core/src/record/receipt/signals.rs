//! What stages told while they ran, and what a stage began from: checkpoints, gates, words of people.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{Content, Inputs, Metric, PlaceRecord, Read, ReadKind};
use crate::store::Digest;
use textum_base::ProjectPath;

/// The `type` of the receipt of a checkpoint.
pub const CHECKPOINT_RECEIPT: &str = "textum/checkpoint-receipt@1";
/// The `type` of what is known of a stage when it begins; a checkpoint is traced by it.
pub const STAGE_START: &str = "textum/stage-start@1";
/// The `type` of words given to a run after it.
pub const REMARK_RECEIPT: &str = "textum/remark-receipt@1";

/// What a stage told by signals and by files of metrics that it wrote as it went.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct SignalRecord {
    /// The points: CSV with the columns `seconds` (since the stage began), `step`, `metric`, `value`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub points: Option<Content>,
    /// How many points there are.
    pub count: u64,
    /// Each metric's series in short.
    pub metrics: BTreeMap<String, Series>,
    /// Notes, each with the seconds since the stage began; the first thousand.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub notes: Vec<SignalNote>,
    /// Lines that were no signals.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub malformed: u64,
    /// The first of them: line number and what was wrong.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub first_malformed: Vec<(u64, String)>,
    /// Points whose step came after a higher one of the same metric.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub out_of_order: u64,
    /// Points whose step the metric had just had.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub repeated: u64,
    /// The receipts of its checkpoints, in the order in which they were made.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub checkpoints: Vec<Digest>,
}

fn is_zero(number: &u64) -> bool {
    *number == 0
}

/// A metric over the steps, in short.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Series {
    /// Points.
    pub points: u64,
    /// The value at the highest step.
    pub last: Metric,
    /// That step.
    pub last_step: u64,
    /// The best finite value, where the direction is declared.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub best: Option<Metric>,
    /// The first step that had it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub best_step: Option<u64>,
    /// Values that were not finite.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub not_finite: u64,
}

/// A note of a stage.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct SignalNote {
    /// Seconds since the stage began.
    pub seconds: f64,
    /// Its words.
    pub text: String,
}

/// The document written for each checkpoint, before the stage goes on.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct CheckpointReceipt {
    /// [`CHECKPOINT_RECEIPT`].
    pub r#type: String,
    /// The run.
    pub run: String,
    /// The stage.
    pub stage: String,
    /// The stage key.
    pub key: Digest,
    /// The step.
    pub step: u64,
    /// The stage's path of checkpoints.
    pub path: ProjectPath,
    /// What stood there.
    pub content: Content,
    /// The last value of each metric then.
    pub metrics: BTreeMap<String, Metric>,
    /// When, RFC 3339 in UTC.
    pub made: String,
    /// Seconds since the stage began.
    pub seconds: f64,
    /// Digest of the [`StageStart`]: what the training began with.
    pub start: Digest,
}

/// What is known of an execution when it begins. It is in the store as soon as a checkpoint is, so that the
/// checkpoint can be traced whatever becomes of the run.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct StageStart {
    /// [`STAGE_START`].
    pub r#type: String,
    /// The run.
    pub run: String,
    /// The stage key.
    pub key: Digest,
    /// What decides the result.
    pub inputs: Inputs,
    /// What is read, with sizes and where it came from.
    pub reads: Vec<Read>,
    /// The checkpoint that it goes on from.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<BranchedFrom>,
    /// When it began, RFC 3339 in UTC.
    pub started: String,
    /// Digest of the record of the whole environment.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub environment: Option<Digest>,
    /// Where it is executed.
    pub place: PlaceRecord,
}

/// A checkpoint as an input: what of it decides the result.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StartFrom {
    /// Its step.
    pub step: u64,
    /// How it is hashed.
    pub kind: ReadKind,
    /// Its digest.
    pub digest: Digest,
}

/// The checkpoint that an execution went on from.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct BranchedFrom {
    /// The run that made it.
    pub run: String,
    /// The stage that made it.
    pub stage: String,
    /// Its step.
    pub step: u64,
    /// Its receipt.
    pub checkpoint: Digest,
    /// Its content.
    #[serde(flatten)]
    pub content: Content,
}

/// A gate as it was found.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct GateRecord {
    /// The stage after which it was looked at.
    pub after: String,
    /// The condition.
    pub check: String,
    /// Whether it held.
    pub held: bool,
    /// What each name in it stood for; none: there was nothing of that name.
    pub values: BTreeMap<String, Option<Metric>>,
    /// The run that `baseline` meant, if it named one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub baseline: Option<String>,
    /// What it kept from happening: stages that did not run.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub kept_from: Vec<String>,
}

/// Words given to a run after it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RemarkReceipt {
    /// [`REMARK_RECEIPT`].
    pub r#type: String,
    /// The run.
    pub run: String,
    /// A note.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub note: Option<String>,
    /// A name; an empty one takes the name away.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub label: Option<String>,
    /// When, RFC 3339 in UTC.
    pub made: String,
    /// Who, and where.
    pub by: String,
}
