//! Predictions judged against the truth: metrics, figures, and each group by itself. Definitions and their
//! sources are in `docs/evaluation.md`.

mod bootstrap;
mod class_scores;
mod classes;
mod figures;
mod groups;
mod judge;
mod labels;
mod paired;
mod quantity;
mod ranking;
mod read;
mod report;
mod score;
mod tables;

pub use crate::config::manifest::{By, ClassColumns, DEFINITIONS, Evaluation, Intervals, Judged};
pub use bootstrap::Stop;
pub use judge::{Judge, judge_of};
pub use labels::Labels;
pub use paired::{Difference, Disagreement, Paired, PairedError, Rows, Segment, paired};
pub use read::{EvaluationError, Predictions};
pub use report::evaluate;
