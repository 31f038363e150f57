//! Predictions judged against the truth: metrics, figures, and each group by itself. Definitions and their
//! sources are in `docs/evaluation.md`.

mod classes;
mod figures;
mod quantity;
mod read;
mod report;
mod score;

use std::fmt;

use serde::{Deserialize, Serialize};
use textum_base::ProjectPath;

pub use classes::{Classes, judge_classes};
pub use quantity::{Quantity, judge_quantity};
pub use read::{EvaluationError, Predictions};
pub use report::evaluate;
pub use score::{Bin, Score, judge_score};

/// The version of the definitions of the metrics. It counts as an input: other definitions, other results.
pub const DEFINITIONS: u32 = 2;

/// What is to be judged, and how.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Evaluation {
    /// [`DEFINITIONS`].
    pub definitions: u32,
    /// The table of predictions, below the project.
    pub predictions: ProjectPath,
    /// The column with the truth.
    pub truth: String,
    /// What is predicted.
    #[serde(flatten)]
    pub judged: Judged,
    /// A column by whose values everything is computed too.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
}

/// What is predicted.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Judged {
    /// The probability of the positive one of two classes.
    Score {
        /// The column.
        score: String,
        /// The truth that is the positive class.
        positive: String,
        /// From which probability on the positive class is predicted, as text, so that it is exact.
        threshold: String,
        /// Bins of the calibration.
        bins: u32,
    },
    /// A class.
    Label {
        /// The column.
        label: String,
    },
    /// A quantity.
    Value {
        /// The column.
        value: String,
    },
}

impl fmt::Display for Evaluation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let predicted = match &self.judged {
            Judged::Score { score, positive, threshold, .. } => {
                format!("score {score}, positive {positive}, threshold {threshold}")
            }
            Judged::Label { label } => format!("label {label}"),
            Judged::Value { value } => format!("value {value}"),
        };
        let by = self.by.as_ref().map(|b| format!(", by {b}")).unwrap_or_default();
        write!(f, "evaluate {} (truth {}, {predicted}{by})", self.predictions, self.truth)
    }
}
