//! `evaluate = { … }` in a manifest: what is to be judged, and how.

use std::fmt;

use serde::{Deserialize, Serialize};
use textum_base::{Better, ProjectPath};

use super::Diagnostic;
use super::check::Checker;
use super::document::Step;
use super::form::{EvaluateForm, StageForm};

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

impl Evaluation {
    /// The directions of its metrics, which need not be declared.
    pub fn directions(&self) -> Vec<(String, Better)> {
        use Better::{Higher, Lower};
        let (known, weakest): (&[(&str, Better)], (&str, Better)) = match self.judged {
            Judged::Score { .. } => (
                &[
                    ("auc", Higher),
                    ("log_loss", Lower),
                    ("accuracy", Higher),
                    ("average_precision", Higher),
                    ("brier", Lower),
                    ("calibration_error", Lower),
                    ("f1", Higher),
                    ("precision", Higher),
                    ("recall", Higher),
                ],
                ("auc", Higher),
            ),
            Judged::Label { .. } => (
                &[("accuracy", Higher), ("balanced_accuracy", Higher), ("f1", Higher), ("precision", Higher), ("recall", Higher)],
                ("accuracy", Higher),
            ),
            Judged::Value { .. } => (&[("rmse", Lower), ("mae", Lower), ("max_error", Lower), ("r2", Higher)], ("rmse", Lower)),
        };
        let weakest = self.by.iter().map(|_| (format!("weakest.{}", weakest.0), weakest.1));
        known.iter().map(|(name, better)| ((*name).to_string(), *better)).chain(weakest).collect()
    }
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

impl Checker<'_, '_> {
    /// What a stage is to judge; what does not fit is a mistake.
    pub(super) fn evaluation(&mut self, name: &str, form: &EvaluateForm, stage: &StageForm) -> Option<Evaluation> {
        let before = self.mistakes.len();
        let place = |key| [Step::Key("stage"), Step::Key(name), Step::Key("evaluate"), Step::Key(key)];
        let whole = self.at(&[Step::Key("stage"), Step::Key(name), Step::Key("evaluate")]);
        let mut wrong = |span, title: &str, help: &str| self.mistakes.push(Diagnostic::new(span, title, "here", help));
        if stage.run.is_some() {
            wrong(whole.clone(), &format!("`{name}` has both `run` and `evaluate`"), "a stage does the one or the other");
        }
        let given = [&form.score, &form.label, &form.value].into_iter().flatten().count();
        if given != 1 {
            let help = "name one column: `score` (a probability), `label` (a class) or `value` (a quantity)";
            wrong(whole.clone(), "it must be said what is predicted", help);
        }
        if form.score.is_none() && (form.positive.is_some() || form.threshold.is_some() || form.bins.is_some()) {
            wrong(whole.clone(), "`positive`, `threshold` and `bins` go with `score`", "leave them out, or name the `score`");
        }
        if stage.metrics.len() != 1 || !stage.metrics[0].ends_with(".json") {
            let help = "add `metrics = [\"build/scores.json\"]`: one JSON file, which the evaluation writes";
            wrong(whole.clone(), "an evaluation needs a file for its metrics", help);
        }
        if stage.writes.len() > 1 || stage.writes.first().is_some_and(|w| !w.ends_with('/')) {
            let help = "write `writes = [\"build/figures/\"]`: one folder, with a `/` at its end";
            wrong(whole.clone(), "an evaluation writes its figures into one folder", help);
        }
        if form.threshold.is_some_and(|t| !(0.0..=1.0).contains(&t)) {
            let span = self.at(&place("threshold"));
            self.mistakes.push(Diagnostic::new(span, "a threshold is a probability", "here", "write a number from 0 to 1"));
        }
        if form.bins.is_some_and(|b| !(2..=1000).contains(&b)) {
            let span = self.at(&place("bins"));
            self.mistakes.push(Diagnostic::new(span, "that many bins tell nothing", "here", "write a number from 2 to 1000"));
        }
        let predictions = self.path(&form.predictions, &place("predictions"))?;
        let judged = match (&form.score, &form.label, &form.value) {
            (Some(score), None, None) => Judged::Score {
                score: score.clone(),
                positive: form.positive.clone().unwrap_or_else(|| "1".into()),
                threshold: form.threshold.unwrap_or(0.5).to_string(),
                bins: form.bins.unwrap_or(10),
            },
            (None, Some(label), None) => Judged::Label { label: label.clone() },
            (None, None, Some(value)) => Judged::Value { value: value.clone() },
            _ => return None,
        };
        (self.mistakes.len() == before).then(|| Evaluation {
            definitions: DEFINITIONS,
            predictions,
            truth: form.truth.clone(),
            judged,
            by: form.by.clone(),
        })
    }
}
