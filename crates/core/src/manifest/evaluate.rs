//! `evaluate = { … }` in a manifest.

use super::Mistake;
use super::check::Checker;
use super::document::Step;
use super::form::{EvaluateForm, StageForm};
use crate::evaluation::{Evaluation, Judged};

impl Checker<'_, '_> {
    /// What a stage is to judge; what does not fit is a mistake.
    pub(super) fn evaluation(&mut self, name: &str, form: &EvaluateForm, stage: &StageForm) -> Option<Evaluation> {
        let before = self.mistakes.len();
        let place = |key| [Step::Key("stage"), Step::Key(name), Step::Key("evaluate"), Step::Key(key)];
        let whole = self.at(&[Step::Key("stage"), Step::Key(name), Step::Key("evaluate")]);
        let mut wrong = |span, title: &str, help: &str| self.mistakes.push(Mistake::new(span, title, "here", help));
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
            self.mistakes.push(Mistake::new(span, "a threshold is a probability", "here", "write a number from 0 to 1"));
        }
        if form.bins.is_some_and(|b| !(2..=1000).contains(&b)) {
            let span = self.at(&place("bins"));
            self.mistakes.push(Mistake::new(span, "that many bins tell nothing", "here", "write a number from 2 to 1000"));
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
            definitions: crate::evaluation::DEFINITIONS,
            predictions,
            truth: form.truth.clone(),
            judged,
            by: form.by.clone(),
        })
    }
}
