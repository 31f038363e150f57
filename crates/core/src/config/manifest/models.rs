//! `[model.NAME]`: what is published together, and what it takes to use it.

use std::time::Duration;

use textum_base::{ProjectPath, StorageMode, overlap};
use textum_expr::{Rule, parse};
use textum_registry::split_reference;

use super::check::Checker;
use super::depots::DepotDecl;
use super::document::{Document, Step};
use super::each::{Expanded, names_in};
use super::form::{ManifestForm, ModelForm, RegistryForm};
use super::rules::parse_time;
use super::{Diagnostic, StageDecl};

/// So many rows are the example, unless said.
const ROWS: u32 = 20;
/// An example is no dataset.
const MOST_ROWS: u32 = 10_000;
/// So long predicting them may take, unless said.
pub const PREDICT_TIME: Duration = Duration::from_secs(60);

/// A declared model.
#[derive(Clone, Debug)]
pub struct ModelDecl {
    /// Its name.
    pub name: String,
    /// What it is for.
    pub about: Option<String>,
    /// The section of the registry that it is published in.
    pub section: Option<String>,
    /// Outputs of stages, or files in them.
    pub files: Vec<ProjectPath>,
    /// Files of the project that it takes to use them.
    pub code: Vec<ProjectPath>,
    /// The command that predicts.
    pub predict: Option<String>,
    /// A table like those that it predicts for: an output of a stage, a dataset, or a file in one.
    pub input: Option<ProjectPath>,
    /// The column of it that is predicted.
    pub target: Option<String>,
    /// So many rows of it are the example.
    pub rows: u32,
    /// So long predicting them may take.
    pub time: Duration,
    /// What must hold for it to be published.
    pub check: Option<Rule>,
}

impl Checker<'_, '_> {
    /// A model is made of outputs: anything else would not be a result that can be traced.
    pub(super) fn model(
        &mut self,
        name: &str,
        form: &ModelForm,
        stages: &[StageDecl],
        all: &ManifestForm,
        expanded: &Expanded,
    ) -> ModelDecl {
        self.name("model", name, "-_");
        let key = |key: &'static str| [Step::Key("model"), Step::Key(name), Step::Key(key)];
        let mut files = Vec::new();
        let mut texts = Vec::new();
        for (i, text) in form.files.iter().enumerate() {
            let steps = [Step::Key("model"), Step::Key(name), Step::Key("files"), Step::At(i)];
            match names_in(text).is_empty() || expanded.groups.is_empty() {
                true => texts.push((i, text.clone())),
                false => texts.extend(self.paths_of_all(text, &steps, all, expanded).into_iter().map(|path| (i, path))),
            }
        }
        for (i, text) in texts {
            let steps = [Step::Key("model"), Step::Key(name), Step::Key("files"), Step::At(i)];
            let Some(path) = self.path(&text, &steps) else { continue };
            if !stages.iter().flat_map(StageDecl::outputs).any(|o| overlap(o, &path)) {
                let outputs = stages.iter().flat_map(StageDecl::outputs).map(|o| &**o);
                let help = match super::nearest(&path, outputs) {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => "name files that a stage has among its `writes`; a script belongs to `code`".to_string(),
                };
                let title = format!("no stage writes `{path}`, which the model `{name}` names");
                self.mistakes.push(Diagnostic::new(self.at(&steps), title, "this file", help));
            }
            files.push(path);
        }
        let mut code: Vec<ProjectPath> = Vec::new();
        for (i, text) in form.code.iter().enumerate() {
            let steps = [Step::Key("model"), Step::Key(name), Step::Key("code"), Step::At(i)];
            let Some(path) = self.path(text, &steps) else { continue };
            if let Some(other) = files.iter().chain(&code).find(|other| overlap(other, &path)) {
                let title = format!("`{path}` and `{other}` of the model `{name}` lie in one another");
                self.mistakes.push(Diagnostic::new(self.at(&steps), title, "this file", "name each file once"));
            }
            code.push(path);
        }
        let input = form.input.as_deref().and_then(|text| self.path(text, &key("input")));
        for (given, what) in [(form.input.is_some(), "input"), (form.time.is_some(), "time"), (form.rows.is_some(), "rows")] {
            if given && form.predict.is_none() {
                let help = "add `predict = \"python3 serve.py\"`, the command that takes rows in and gives predictions";
                self.mistakes.push(Diagnostic::new(
                    self.at(&key(what)),
                    format!("`{what}` without a command that predicts"),
                    "for what?",
                    help,
                ));
            }
        }
        if form.target.is_some() && form.input.is_none() {
            let help = "add `input`, the table that has this column";
            self.mistakes.push(Diagnostic::new(self.at(&key("target")), "`target` without a table", "a column of what?", help));
        }
        if form.rows.is_some_and(|rows| rows == 0 || rows > MOST_ROWS) {
            let title = format!("an example has 1 to {MOST_ROWS} rows");
            self.mistakes.push(Diagnostic::new(self.at(&key("rows")), title, "this number", "20 are enough to tell a model by"));
        }
        let time = match form.time.as_deref().map(|text| (text, parse_time(text))) {
            None => PREDICT_TIME,
            Some((_, Some(seconds))) => Duration::from_secs(seconds),
            Some((text, None)) => {
                let title = format!("`{text}` is no time");
                self.mistakes.push(Diagnostic::new(self.at(&key("time")), title, "this time", "write it as in 90s, 10m or 1h30m"));
                PREDICT_TIME
            }
        };
        ModelDecl {
            name: name.to_string(),
            about: form.about.clone(),
            section: form.section.clone(),
            files,
            code,
            predict: form.predict.clone(),
            input,
            target: form.target.clone(),
            rows: form.rows.unwrap_or(ROWS),
            time,
            check: self.publish_check(name, form),
        }
    }

    /// The published version that a dataset is.
    pub(super) fn published(&mut self, name: &str, text: &str, hold: StorageMode) -> Option<String> {
        let span = self.at(&[Step::Key("data"), Step::Key(name), Step::Key("from")]);
        if hold == StorageMode::Reference {
            let help = "leave `hold` out: what is published is fetched, and kept";
            self.mistakes.push(Diagnostic::new(span, format!("`{name}` is published, and a reference"), "one of the two", help));
            return None;
        }
        let reference = text.strip_prefix("registry:");
        match reference.filter(|r| split_reference(r).is_some_and(|(_, which)| which.is_some())) {
            Some(reference) => Some(reference.to_string()),
            None => {
                let help = "write it as in from = \"registry:stop-predictor@live\", or @3 for one version";
                self.mistakes.push(Diagnostic::new(span, format!("`{text}` names no published version"), "this text", help));
                None
            }
        }
    }

    /// What must hold for a model to be published.
    fn publish_check(&mut self, name: &str, form: &ModelForm) -> Option<Rule> {
        let text = form.check.as_deref()?;
        let span = self.at(&[Step::Key("model"), Step::Key(name), Step::Key("check")]);
        match parse(text) {
            Err(e) => {
                self.bad_rule(text, span, e);
                None
            }
            Ok(rule) => {
                if rule.counts_steps() {
                    let help = "it looks at the metrics of a run that has ended: leave `for … steps` out";
                    self.mistakes.push(Diagnostic::new(span, "such a condition cannot count steps", "this condition", help));
                }
                Some(rule)
            }
        }
    }
}

/// The registry's depot must be one that is declared.
pub(super) fn registry_depot(form: &RegistryForm, depots: &[DepotDecl], document: &Document<'_>) -> Option<Diagnostic> {
    let name = form.depot.as_deref().filter(|name| depots.iter().all(|d| d.name != *name))?;
    let help = match super::nearest(name, depots.iter().map(|d| d.name.as_str())) {
        Some(near) => format!("did you mean `{near}`?"),
        None => format!("declare it: `textum depot add {name} URL`"),
    };
    let span = document.place(&[Step::Key("registry"), Step::Key("depot")]);
    Some(Diagnostic::new(span, format!("there is no depot `{name}`"), "this depot", help))
}
