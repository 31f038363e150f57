//! What is wrong with `evaluate = { … }`, and what it means.

use std::collections::BTreeMap;

use super::Diagnostic;
use super::check::Checker;
use super::document::Step;
use super::evaluate::{By, ClassColumns, Cost, Crossed, DEFINITIONS, Evaluation, Intervals, Judged};
use super::form::StageForm;
use super::judging_form::{ByForm, CrossedForm, EvaluateForm, IntervalsForm, ScoresForm};

/// So often rows are drawn, unless said.
const RESAMPLES: u32 = 1000;
/// So many of the first rows of a query are looked at, unless said.
const AT: u32 = 10;

/// A mistake: the key that it is about, what is wrong, and what to write.
type Wrong = (&'static str, String, &'static str);

fn shape(form: &EvaluateForm, name: &str, stage: &StageForm) -> Vec<Wrong> {
    let mut wrong: Vec<Wrong> = Vec::new();
    let mut add = |key, title: &str, help| wrong.push((key, title.to_string(), help));
    if stage.run.is_some() {
        add("", &format!("`{name}` has both `run` and `evaluate`"), "a stage does the one or the other");
    }
    let given = [form.score.is_some(), form.scores.is_some(), form.label.is_some(), form.value.is_some(), form.rank.is_some()];
    if given.iter().filter(|g| **g).count() != 1 {
        let help = "name one: `score` (a probability), `scores` (one for each class), `label` (a class), `rank` (an order) or `value` (a quantity)";
        add("", "it must be said what is predicted", help);
    }
    if form.score.is_none() && (form.positive.is_some() || form.threshold.is_some() || form.bins.is_some() || form.cost.is_some()) {
        add("", "`positive`, `threshold`, `bins` and `cost` go with `score`", "leave them out, or name the `score`");
    }
    if form.rank.is_none() && (form.query.is_some() || form.at.is_some()) {
        add("", "`query` and `at` go with `rank`", "leave them out, or name the `rank`");
    }
    if form.rank.is_some() && form.query.is_none() {
        add("rank", "it must be said which rows are ranked together", "add `query = \"…\"`: the column that tells it");
    }
    if form.value.is_none() && (form.quantile.is_some() || form.interval.is_some()) {
        add("", "`quantile` and `interval` go with `value`", "leave them out, or name the `value`");
    }
    if stage.metrics.len() != 1 || !stage.metrics[0].ends_with(".json") {
        let help = "add `metrics = [\"build/scores.json\"]`: one JSON file, which the evaluation writes";
        add("", "an evaluation needs a file for its metrics", help);
    }
    if stage.writes.len() > 1 || stage.writes.first().is_some_and(|w| !w.ends_with('/')) {
        let help = "write `writes = [\"build/figures/\"]`: one folder, with a `/` at its end";
        add("", "an evaluation writes its figures into one folder", help);
    }
    wrong
}

fn numbers(form: &EvaluateForm) -> Vec<Wrong> {
    let mut wrong: Vec<Wrong> = Vec::new();
    let mut add = |key, title: &str, help| wrong.push((key, title.to_string(), help));
    if form.threshold.is_some_and(|t| !(0.0..=1.0).contains(&t)) {
        add("threshold", "a threshold is a probability", "write a number from 0 to 1");
    }
    if form.bins.is_some_and(|b| !(2..=1000).contains(&b)) {
        add("bins", "that many bins tell nothing", "write a number from 2 to 1000");
    }
    let is_cost = |c: f64| c.is_finite() && c >= 0.0;
    if form.cost.as_ref().is_some_and(|c| !is_cost(c.false_positive) || !is_cost(c.false_negative)) {
        add("cost", "a cost is a number from 0 on", "write as in cost = { false_positive = 1, false_negative = 20 }");
    }
    let level = |form: &IntervalsForm| match form {
        IntervalsForm::Level(level) => *level,
        IntervalsForm::Said(said) => said.level,
    };
    if form.intervals.as_ref().is_some_and(|i| !(0.5..1.0).contains(&level(i))) {
        add("intervals", "an interval's level is a share", "write a number such as 0.95");
    }
    let resamples = form.intervals.as_ref().and_then(|i| if let IntervalsForm::Said(s) = i { s.resamples } else { None });
    if resamples.is_some_and(|n| !(50..=100_000).contains(&n)) {
        add("intervals", "so many draws tell nothing, or take for ever", "write from 50 to 100000 `resamples`");
    }
    if form.quantile.is_some_and(|q| !(q > 0.0 && q < 1.0)) {
        add("quantile", "a quantile lies between 0 and 1", "write a number such as 0.9");
    }
    if form.at == Some(0) {
        add("at", "of no rows nothing can be told", "write 1 or more");
    }
    wrong
}

fn crossed(form: &CrossedForm) -> Crossed {
    match form {
        CrossedForm::One(column) => Crossed::One(column.clone()),
        CrossedForm::Several(columns) => Crossed::Several(columns.clone()),
    }
}

fn intervals(form: &IntervalsForm) -> Intervals {
    match form {
        IntervalsForm::Level(level) => Intervals { level: level.to_string(), resamples: RESAMPLES, seed: 0 },
        IntervalsForm::Said(said) => Intervals {
            level: said.level.to_string(),
            resamples: said.resamples.unwrap_or(RESAMPLES),
            seed: said.seed.unwrap_or(0),
        },
    }
}

fn judged(form: &EvaluateForm) -> Option<Judged> {
    if let Some(score) = &form.score {
        let cost = form
            .cost
            .as_ref()
            .map(|c| Cost { false_positive: c.false_positive.to_string(), false_negative: c.false_negative.to_string() });
        return Some(Judged::Score {
            score: score.clone(),
            positive: form.positive.clone().unwrap_or_else(|| "1".into()),
            threshold: form.threshold.unwrap_or(0.5).to_string(),
            bins: form.bins.unwrap_or(10),
            cost,
        });
    }
    if let Some(scores) = &form.scores {
        let scores = match scores {
            ScoresForm::Prefix(prefix) => ClassColumns::Prefix(prefix.clone()),
            ScoresForm::Each(each) => {
                ClassColumns::Each(each.iter().map(|(c, n)| (c.clone(), n.clone())).collect::<BTreeMap<_, _>>())
            }
        };
        return Some(Judged::Scores { scores });
    }
    if let Some(label) = &form.label {
        return Some(Judged::Label { label: label.clone() });
    }
    if let (Some(rank), Some(query)) = (&form.rank, &form.query) {
        return Some(Judged::Rank { rank: rank.clone(), query: query.clone(), at: form.at.unwrap_or(AT) });
    }
    form.value.as_ref().map(|value| Judged::Value {
        value: value.clone(),
        quantile: form.quantile.map(|q| q.to_string()),
        interval: form.interval.clone(),
    })
}

impl Checker<'_, '_> {
    /// What a stage is to judge; what does not fit is a mistake.
    pub(super) fn evaluation(&mut self, name: &str, form: &EvaluateForm, stage: &StageForm) -> Option<Evaluation> {
        let before = self.mistakes.len();
        let place = |key| [Step::Key("stage"), Step::Key(name), Step::Key("evaluate"), Step::Key(key)];
        for (key, title, help) in shape(form, name, stage).into_iter().chain(numbers(form)) {
            let steps = place(key);
            let span = self.at(if key.is_empty() { &steps[..3] } else { &steps[..] });
            self.mistakes.push(Diagnostic::new(span, title, "here", help));
        }
        let predictions = self.path(&form.predictions, &place("predictions"))?;
        let by = form.by.as_ref().map(|by| match by {
            ByForm::One(column) => By::One(column.clone()),
            ByForm::Several(all) => By::Several(all.iter().map(crossed).collect()),
        });
        let judged = judged(form)?;
        (self.mistakes.len() == before).then(|| Evaluation {
            definitions: DEFINITIONS,
            predictions,
            truth: form.truth.clone(),
            judged,
            by,
            weight: form.weight.clone(),
            intervals: form.intervals.as_ref().map(intervals),
            between: form.between.clone(),
        })
    }
}
