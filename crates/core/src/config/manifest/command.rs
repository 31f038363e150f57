//! What is wrong with the command of a stage, as far as it shows without running it.

use super::Command;
use super::Diagnostic;
use super::check::Checker;
use super::document::Step;
use super::each::Each;
use super::form::StageForm;
use super::substitute::{placeholders, quoted_placeholders};

impl Checker<'_, '_> {
    pub(super) fn command(&mut self, name: &str, run: &Command, form: &StageForm, each: Option<&Each>) {
        let span = self.at(&[Step::Key("stage"), Step::Key(name), Step::Key("run")]);
        if form.run.is_none() {
            return; // told with the shape of the manifest, or with the evaluation
        }
        let words: Vec<&str> = match run {
            Command::Shell(text) => vec![text],
            Command::Argv(words) => words.iter().map(String::as_str).collect(),
            Command::Evaluate(_) | Command::Examine(_) => return,
        };
        if words.first().is_none_or(|w| w.trim().is_empty()) {
            let help = "write the command, as in `run = \"python3 steps/fit.py\"`";
            self.mistakes.push(Diagnostic::new(span, format!("the stage `{name}` has no command"), "empty", help));
            return;
        }
        for placeholder in words.iter().flat_map(|w| placeholders(w)) {
            let table = placeholder.split('.').next().unwrap_or_default();
            let known = self.params.get(placeholder).is_some();
            let ours = known || (placeholder.contains('.') && self.params.select(table).next().is_some());
            if !ours {
                continue; // braces of the shell or of another language
            }
            let declared = form.params.iter().any(|s| self.params.select(s).any(|(leaf, _)| leaf == placeholder));
            let (label, help) = if !known {
                let near = self.params.nearest(placeholder).unwrap_or_default();
                (format!("`{{{placeholder}}}` names no parameter"), format!("did you mean `{{{near}}}`?"))
            } else if !declared {
                let help = format!("add \"{placeholder}\" to the stage's `params`, so that it counts");
                (format!("`{{{placeholder}}}` is not among the stage's parameters"), help)
            } else {
                continue;
            };
            let title = format!("the command of `{name}` uses a parameter that it does not have");
            self.mistakes.push(Diagnostic::new(span.clone(), title, label, help));
        }
        let Command::Shell(text) = run else { return };
        // A number stays what it is wherever it stands, and a parameter keeps its type.
        let value = |p: &str| self.params.get(p).or_else(|| each.and_then(|e| e.param(p)));
        let is_text = |p: &&str| value(p).is_some_and(|v| !v.is_number() && !v.is_boolean());
        for placeholder in quoted_placeholders(text).into_iter().filter(is_text) {
            let title = format!("the command of `{name}` has `{{{placeholder}}}` inside quotation marks");
            let help = "leave the quotation marks out: the value is put there as one quoted word; or write the command as an array, \
                        as in [\"python3\", \"fit.py\", \"--name={fit.name}\"]";
            self.mistakes.push(Diagnostic::new(span.clone(), title, "the value would end the quotation", help));
        }
    }
}
