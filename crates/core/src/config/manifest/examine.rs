//! `examine = { … }` in a manifest: the rules that a table is held against.

use std::collections::BTreeMap;
use std::fmt;

use serde::{Deserialize, Serialize};
use textum_base::{Better, Digest, SourcePath};

use super::Diagnostic;
use super::check::Checker;
use super::document::Step;
use super::form::{ManifestForm, StageForm};
use super::judging_form::{ExamineForm, RuleForm, SeverityForm};
use crate::table::Dialect;
use crate::table::examine::{AGAINST, parse};

/// The version of the definitions of the rules. It counts as an input: other definitions, other results.
pub const RULE_DEFINITIONS: u32 = 1;

/// So many rows that break a rule are shown, unless said.
pub const EXAMPLES: u32 = 5;

/// What becomes of a broken rule.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// The stage fails.
    Fail,
    /// It is told.
    Warn,
}

/// A rule, and what becomes of it when it is broken.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct RuleDecl {
    /// As it is written.
    pub rule: String,
    /// What becomes of it.
    pub severity: Severity,
    /// What its metrics are called by, if they are wanted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
}

/// A table that is examined, or that another is held against.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct ExaminedTable {
    /// Its path. Of a recorded version: that of the dataset.
    pub path: SourcePath,
    /// The recorded version that it is, such as `shifts@1`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<String>,
    /// The digest of that version, once it is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<Digest>,
    /// How it is written, as far as that is declared.
    #[serde(default, skip_serializing_if = "is_default")]
    pub dialect: Dialect,
}

fn is_default(dialect: &Dialect) -> bool {
    *dialect == Dialect::default()
}

/// What is examined, and by which rules.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Examination {
    /// [`RULE_DEFINITIONS`].
    pub definitions: u32,
    /// The table.
    pub data: ExaminedTable,
    /// The tables that rules hold it against, by what rules call them.
    pub tables: BTreeMap<String, ExaminedTable>,
    /// The rules.
    pub rules: Vec<RuleDecl>,
    /// So many rows that break a rule are shown.
    pub examples: u32,
}

impl Examination {
    /// The directions of its metrics, which need not be declared.
    pub fn directions(&self) -> Vec<(String, Better)> {
        let named = self.rules.iter().filter_map(|r| r.name.as_ref()).map(|name| format!("{name}.breaking"));
        ["broken", "warned", "breaking_rows"].map(String::from).into_iter().chain(named).map(|name| (name, Better::Lower)).collect()
    }

    /// The paths that it reads: of the working tree, not of the store.
    pub fn paths(&self) -> impl Iterator<Item = &SourcePath> {
        std::iter::once(&self.data).chain(self.tables.values()).filter(|t| t.version.is_none()).map(|t| &t.path)
    }
}

impl fmt::Display for Examination {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let called = |table: &ExaminedTable| table.version.clone().unwrap_or_else(|| table.path.to_string());
        let rule = |r: &RuleDecl| match r.severity {
            Severity::Fail => r.rule.clone(),
            Severity::Warn => format!("{} (warns)", r.rule),
        };
        let against = self.tables.get(AGAINST).map(|t| format!(" against {}", called(t))).unwrap_or_default();
        let rules: Vec<String> = self.rules.iter().map(rule).collect();
        write!(f, "examine {}{against}: {}", called(&self.data), rules.join("; "))
    }
}

impl RuleForm {
    /// The rule, and what becomes of it.
    pub fn decl(&self) -> RuleDecl {
        match self {
            RuleForm::Plain(rule) => RuleDecl { rule: rule.clone(), severity: Severity::Fail, name: None },
            RuleForm::Told(told) => RuleDecl {
                rule: told.rule.clone(),
                severity: if told.severity == Some(SeverityForm::Warn) { Severity::Warn } else { Severity::Fail },
                name: told.name.clone(),
            },
        }
    }
}

/// Rules in a file of their own.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RulesFile {
    /// The table that `against` means.
    pub against: Option<String>,
    /// The rules.
    pub rules: Vec<RuleForm>,
}

/// Reads a file of rules: TOML with `rules = […]`, and `against` where rules need it.
pub fn read_rules(text: &str) -> Result<RulesFile, String> {
    toml::from_str(text).map_err(|e| e.to_string().trim_end().to_string())
}

impl Checker<'_, '_> {
    /// What a stage is to examine; what does not fit is a mistake.
    pub(super) fn examination(
        &mut self,
        name: &str,
        form: &ExamineForm,
        stage: &StageForm,
        all: &ManifestForm,
    ) -> Option<Examination> {
        let before = self.mistakes.len();
        let place = |key| [Step::Key("stage"), Step::Key(name), Step::Key("examine"), Step::Key(key)];
        let whole = self.at(&[Step::Key("stage"), Step::Key(name), Step::Key("examine")]);
        let mut wrong = |span, title: String, help: &str| self.mistakes.push(Diagnostic::new(span, title, "here", help));
        if stage.run.is_some() || stage.evaluate.is_some() {
            let title = format!("`{name}` does something else beside `examine`");
            wrong(whole.clone(), title, "a stage does the one or the other");
        }
        if stage.metrics.len() > 1 || stage.metrics.first().is_some_and(|m| !m.ends_with(".json")) {
            let help = "write `metrics = [\"build/inspection.json\"]`: one JSON file";
            wrong(whole.clone(), "an examination writes its metrics into one file".into(), help);
        }
        if stage.writes.len() > 1 || stage.writes.first().is_some_and(|w| !w.ends_with('/')) {
            let help = "write `writes = [\"build/inspection/\"]`: one folder, with a `/` at its end";
            wrong(whole.clone(), "an examination writes what it found into one folder".into(), help);
        }
        if form.rules.is_empty() {
            let help = "write some, as in `rules = [\"shift_id is unique\"]`; `textum data propose` suggests them";
            wrong(whole.clone(), "there are no rules".into(), help);
        }
        let data = self.examined(&form.data, &place("data"), all);
        let mut tables = BTreeMap::new();
        for (i, rule) in form.rules.iter().enumerate() {
            let steps = [Step::Key("stage"), Step::Key(name), Step::Key("examine"), Step::Key("rules"), Step::At(i)];
            let decl = rule.decl();
            if let Some(name) = &decl.name {
                self.name("rule", name, "-_");
            }
            let parsed = match parse(&decl.rule) {
                Ok(parsed) => parsed,
                Err(e) => {
                    let title = format!("the rule `{}` cannot be read: {}", decl.rule, e.what);
                    self.mistakes.push(Diagnostic::new(self.at(&steps), title, "this rule", e.help));
                    continue;
                }
            };
            for called in parsed.tables() {
                let meant = match (called, &form.against) {
                    (AGAINST, Some(against)) => self.examined(against, &place("against"), all),
                    (AGAINST, None) => {
                        let help = "add `against = \"shifts@1\"`: a path, a dataset or a version of one";
                        let title = format!("the rule `{}` holds against something that is not said", decl.rule);
                        self.mistakes.push(Diagnostic::new(self.at(&steps), title, "this rule", help));
                        None
                    }
                    (path, _) => self.examined(path, &steps, all),
                };
                tables.extend(meant.map(|meant| (called.to_string(), meant)));
            }
        }
        let rules = form.rules.iter().map(RuleForm::decl).collect();
        let examples = form.examples.unwrap_or(EXAMPLES);
        let data = data?;
        (self.mistakes.len() == before).then_some(Examination { definitions: RULE_DEFINITIONS, data, tables, rules, examples })
    }

    /// A table by what it is called: a version, a dataset, or a path.
    fn examined(&mut self, text: &str, steps: &[Step<'_>], all: &ManifestForm) -> Option<ExaminedTable> {
        let (dataset, version) = match text.rsplit_once('@') {
            Some((dataset, number)) if number.parse::<u64>().is_ok() && all.data.contains_key(dataset) => (dataset, Some(text)),
            _ => (text, None),
        };
        let decl = all.data.iter().find(|(name, decl)| *name == dataset || decl.path == text);
        let (path, table) = match decl {
            Some((_, decl)) => (decl.path.as_str(), decl.table.as_ref()),
            None => (text, None),
        };
        let path = self.source_path(path, steps)?;
        // Mistakes in it have been told with the dataset.
        let known = self.mistakes.len();
        let dialect = table.map(|form| self.dialect(dataset, form)).unwrap_or_default();
        self.mistakes.truncate(known);
        Some(ExaminedTable { path, version: version.map(String::from), digest: None, dialect })
    }
}
