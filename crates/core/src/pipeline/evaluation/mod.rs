//! Predictions judged against the truth: metrics, figures, and each group by itself. Definitions and their
//! sources are in `docs/evaluation.md`.

mod classes;
mod figures;
mod labels;
mod quantity;
mod read;
mod report;
mod score;

pub use crate::config::manifest::{DEFINITIONS, Evaluation, Judged};
pub use classes::{Classes, judge_classes};
pub use labels::Labels;
pub use quantity::{Quantity, judge_quantity};
pub use read::{EvaluationError, Predictions};
pub use report::evaluate;
pub use score::{Bin, Score, judge_score};
