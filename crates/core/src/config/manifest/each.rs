//! `each` in a stage: one of it for each value, or for each combination of several. Everything after this knows only the
//! stages that come out of it, such as `fit:0` and `fit:1`.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use indexmap::IndexMap;
use serde_json::Value;
use textum_base::{SourcePath, is_within};

use super::check::Checker;
use super::document::Step;
use super::each_form::{ColumnForm, EachForm, EachValueForm};
use super::form::{ManifestForm, RunForm, StageForm};
use super::substitute::{placeholders, replace_each};
use super::{DatasetDecl, Diagnostic, nearest};
use crate::config::sweep::values;
use crate::table::{Dialect, Origin, Table, TableError, kind, row};

/// More stages than this out of one are taken for a mistake.
const MOST: usize = 1000;
/// What parts a stage's name from the values that it is for.
const PART: char = ':';
/// What `each` values are called in commands and paths, and as parameters.
const PREFIX: &str = "each.";

/// Of which stage of the manifest this is one, and for which values.
#[derive(Clone, Debug, PartialEq)]
pub struct Each {
    /// The stage of the manifest.
    pub of: String,
    /// Its values, by name.
    pub values: Vec<(String, Value)>,
    /// Its paths as the manifest has them, where values stand in them.
    templates: BTreeMap<String, String>,
}

impl Each {
    /// The values as parameters: `each.fold`.
    pub fn params(&self) -> impl Iterator<Item = (String, &Value)> {
        self.values.iter().map(|(name, value)| (format!("{PREFIX}{name}"), value))
    }

    /// A value by the name of its parameter.
    pub fn param(&self, name: &str) -> Option<&Value> {
        let name = name.strip_prefix(PREFIX)?;
        self.values.iter().find(|(n, _)| n == name).map(|(_, value)| value)
    }

    /// A path with the values in the place of their names.
    pub fn fill(&self, template: &str) -> String {
        fill(template, &self.values)
    }

    /// A path with the names in the place of the values that stand in it.
    pub fn with_names(&self, path: &str) -> String {
        self.values.iter().fold(path.to_string(), |path, (name, value)| path.replace(&plain(value), &format!("{{{PREFIX}{name}}}")))
    }

    /// A path of the stage as the manifest has it: the same for all of `each`.
    pub fn template<'a>(&'a self, path: &'a str) -> &'a str {
        self.templates.get(path).map_or(path, String::as_str)
    }
}

/// The stage of the manifest that this one is, or is one of.
pub fn declared_name(stage: &str) -> &str {
    stage.split(PART).next().unwrap_or(stage)
}

/// What a stage's working folder is called: no `:`, at which lists of paths are cut.
pub fn folder_name(stage: &str) -> String {
    stage.replace(PART, "+")
}

/// Whether this can be the name of a stage: letters, digits, `-` and `_`, and for one of `each` its values.
pub fn is_stage_name(text: &str) -> bool {
    let mut parts = text.split(PART);
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_');
    let base = parts.next().unwrap_or_default();
    let starts_well = base.starts_with(|c: char| c.is_ascii_alphanumeric());
    text.len() <= 200 && starts_well && base.chars().all(plain) && parts.all(is_value_text)
}

fn is_value_text(text: &str) -> bool {
    (1..=64).contains(&text.len()) && text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.'))
}

/// A stage for which no values are known yet: the table that has them does not stand there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NoValues {
    /// The stage.
    pub stage: String,
    /// The table.
    pub table: String,
}

/// The stages that come out of those of the manifest, in their order.
#[derive(Default)]
pub(super) struct Expanded {
    /// Each with what it is one of.
    pub stages: Vec<(String, StageForm, Option<Each>)>,
    /// Those that have no values yet.
    pub without_values: Vec<NoValues>,
    /// The values of each stage of the manifest that is `each`, by name.
    groups: IndexMap<String, IndexMap<String, Vec<Value>>>,
}

/// A value as it stands in names and paths.
fn plain(value: &Value) -> String {
    match value {
        Value::String(text) => text.clone(),
        other => other.to_string(),
    }
}

fn typed(text: String) -> Value {
    let number = text.parse::<i64>().map(Value::from).ok().or_else(|| text.parse::<f64>().ok().map(Value::from));
    // As it is written, or not as a number: `007` is no 7.
    number.filter(|n| n.to_string() == text).unwrap_or(Value::String(text))
}

/// All combinations, the last name varying fastest.
fn combinations(values: &IndexMap<String, Vec<Value>>) -> Vec<Vec<(String, Value)>> {
    let mut all: Vec<Vec<(String, Value)>> = vec![Vec::new()];
    for (name, values) in values {
        all = all
            .into_iter()
            .flat_map(|some| values.iter().map(move |v| some.iter().cloned().chain([(name.clone(), v.clone())]).collect()))
            .collect();
    }
    all
}

/// The names after `each.` in a text.
fn names_in(text: &str) -> Vec<&str> {
    placeholders(text).into_iter().filter_map(|p| p.strip_prefix(PREFIX)).collect()
}

fn fill(text: &str, values: &[(String, Value)]) -> String {
    replace_each(text, &|name| {
        let name = name.strip_prefix(PREFIX)?;
        values.iter().find(|(n, _)| n == name).map(|(_, value)| plain(value))
    })
}

/// Fills values into all texts of a stage but its command, which is filled in with its parameters.
fn fill_all(value: &mut toml::Value, values: &[(String, Value)]) {
    match value {
        toml::Value::String(text) => *text = fill(text, values),
        toml::Value::Array(items) => items.iter_mut().for_each(|item| fill_all(item, values)),
        toml::Value::Table(table) => table.iter_mut().filter(|(key, _)| *key != "run").for_each(|(_, v)| fill_all(v, values)),
        _ => {}
    }
}

/// The different values of a column, sorted.
fn values_of_column(folder: &Path, path: &str, column: &str, dialect: &Dialect) -> Result<Option<Vec<String>>, TableError> {
    let file = folder.join(path);
    if !file.is_file() {
        return Ok(None);
    }
    let table = Table::with(path, path, Origin::File(file), dialect)?;
    let mut opened = table.open()?;
    let Some(at) = opened.columns.iter().position(|c| c == column) else {
        let near = nearest(column, opened.columns.iter().map(String::as_str)).map(str::to_string);
        let (table, column) = (path.to_string(), column.to_string());
        return Err(TableError::NoColumn { table, column, near, columns: opened.columns.clone() });
    };
    let mut found: BTreeSet<Vec<u8>> = BTreeSet::new();
    let mut cells = row::Row::default();
    while found.len() <= MOST && opened.rows.next(&mut cells)? {
        let cell = cells.cell(at);
        if !kind::is_missing(cell) && !found.contains(cell) {
            found.insert(cell.to_vec());
        }
    }
    let mut texts: Vec<String> = found.iter().map(|cell| row::text(cell)).collect();
    texts.sort_by(|a, b| match (a.parse::<f64>(), b.parse::<f64>()) {
        (Ok(x), Ok(y)) => x.total_cmp(&y).then_with(|| a.cmp(b)),
        _ => a.cmp(b),
    });
    Ok(Some(texts))
}

impl Checker<'_, '_> {
    /// The stages that come out of `each`, and out of reads that mean all of them.
    pub(super) fn expand(&mut self, form: &ManifestForm, data: &[DatasetDecl], text: &str, folder: &Path) -> Expanded {
        let mut out = Expanded::default();
        if form.stage.values().all(|s| s.each.is_none()) {
            out.stages = form.stage.iter().map(|(name, stage)| (name.clone(), stage.clone(), None)).collect();
            return out;
        }
        let tables: toml::Table = toml::from_str(text).unwrap_or_default();
        if form.params.contains_key("each") {
            let help = "call these parameters something else: `each.…` is what a stage with `each` is one of";
            let span = self.document.key_place(&["params", "each"]);
            self.mistakes.push(Diagnostic::new(span, "`each` cannot be the name of parameters", "this table", help));
        }
        for (name, stage) in &form.stage {
            let Some(each) = &stage.each else { continue };
            let values =
                each.iter().filter_map(|(n, each)| Some((n.clone(), self.each_values(name, n, each, data, folder, &mut out)?)));
            let values: IndexMap<String, Vec<Value>> = values.collect();
            if values.len() == each.len() {
                out.groups.insert(name.clone(), values);
            }
        }
        for (name, stage) in &form.stage {
            match &stage.each {
                Some(_) => self.members(name, stage, tables.get("stage").and_then(|s| s.get(name)), &mut out),
                None => out.stages.push((name.clone(), stage.clone(), None)),
            }
        }
        for at in 0..out.stages.len() {
            let (name, reads) = (out.stages[at].0.clone(), out.stages[at].1.reads.clone());
            if reads.iter().any(|r| !names_in(r).is_empty()) {
                let all = self.reads_of_all(&name, &reads, form, &out);
                out.stages[at].1.reads = all;
            }
        }
        out
    }

    /// The values of one name; `None` where a mistake was told, or the table is not there.
    fn each_values(
        &mut self,
        stage: &str,
        name: &str,
        form: &EachForm,
        data: &[DatasetDecl],
        folder: &Path,
        out: &mut Expanded,
    ) -> Option<Vec<Value>> {
        let span = self.at(&[Step::Key("stage"), Step::Key(stage), Step::Key("each"), Step::Key(name)]);
        let found = self.found_values(name, form, data, folder);
        if let (Ok(None), EachForm::Column(column)) = (&found, form) {
            out.without_values.push(NoValues { stage: stage.to_string(), table: column.of.clone() });
        }
        match found {
            Ok(values) => values,
            Err((title, help)) => {
                self.mistakes.push(Diagnostic::new(span, title, "here", help));
                None
            }
        }
    }

    /// The values, or what is wrong with them and what to write; `None` where their table is not there.
    fn found_values(
        &self,
        name: &str,
        form: &EachForm,
        data: &[DatasetDecl],
        folder: &Path,
    ) -> Result<Option<Vec<Value>>, (String, String)> {
        let wrong = |title: String, help: &str| Err((title, help.to_string()));
        if !name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_') || !name.starts_with(|c: char| c.is_ascii_alphabetic()) {
            return wrong(format!("`{name}` cannot be the name of values"), "use letters, digits and `_`, as in `{each.fold}`");
        }
        let found: Vec<Value> = match form {
            EachForm::Values(text) => match values(text) {
                Ok(texts) => texts.into_iter().map(typed).collect(),
                Err(e) => return wrong(format!("the values of `{name}`: {e}"), "write a range or a list, as in \"0..4\""),
            },
            EachForm::List(list) => list.iter().map(EachValueForm::value).collect(),
            EachForm::Column(column) => match self.column_values(column, data, folder) {
                Ok(Some(texts)) => texts.into_iter().map(typed).collect(),
                Ok(None) => return Ok(None),
                Err(title) => return wrong(title, "name a column of a table that stands in the project"),
            },
        };
        let texts: Vec<String> = found.iter().map(plain).collect();
        if let Some(odd) = texts.iter().find(|t| !is_value_text(t)) {
            let help = "each value stands in names and paths: letters, digits, `.`, `-` and `_`, 64 at most";
            return wrong(format!("`{odd}` cannot be a value of `{name}`"), help);
        }
        if let Some(twice) = texts.iter().enumerate().find(|(i, t)| texts[..*i].contains(t)) {
            return wrong(format!("`{}` is among the values of `{name}` twice", twice.1), "name each value once");
        }
        match found.len() {
            0 => wrong(format!("`{name}` has no values"), "name one at least, as in \"0..4\""),
            n if n > MOST => wrong(format!("`{name}` has more than {MOST} values"), "a stage for each of so many cannot be meant"),
            _ => Ok(Some(found)),
        }
    }

    fn column_values(&self, form: &ColumnForm, data: &[DatasetDecl], folder: &Path) -> Result<Option<Vec<String>>, String> {
        let decl = data.iter().find(|d| d.name == form.of || d.path == form.of.as_str());
        let path = match decl {
            Some(decl) => decl.path.to_string(),
            None => SourcePath::tidied(&form.of).map_err(|_| format!("`{}` is no path in the project", form.of))?.to_string(),
        };
        let dialect = decl.map(|d| d.table.clone()).unwrap_or_default();
        values_of_column(folder, &path, &form.column, &dialect).map_err(|e| e.to_string())
    }

    /// The stages that one stage stands for.
    fn members(&mut self, name: &str, form: &StageForm, table: Option<&toml::Value>, out: &mut Expanded) {
        let (Some(values), Some(table)) = (out.groups.get(name), table) else { return };
        let mut all = combinations(values);
        if all.len() > MOST {
            let span = self.document.key_place(&["stage", name, "each"]);
            let title = format!("`{name}` would be {} stages", all.len());
            self.mistakes.push(Diagnostic::new(span, title, "these combinations", format!("{MOST} are the most")));
            all.truncate(1);
        }
        // What does not differ would be written by all of them.
        let mut shares = false;
        let outputs = form.writes.iter().map(|w| ("writes", w)).chain(form.metrics.iter().map(|m| ("metrics", m)));
        for (field, path) in outputs.chain(form.checkpoints.iter().map(|c| ("checkpoints", c))) {
            let Some(missing) = values.keys().find(|n| !names_in(path).contains(&n.as_str())) else { continue };
            let span = self.document.key_place(&["stage", name, field]);
            let title = format!("each of `{name}` would write `{path}`");
            let help = format!("put the value into the path, as in `build/model-{{{PREFIX}{missing}}}.json`");
            self.mistakes.push(Diagnostic::new(span, title, format!("without `{{{PREFIX}{missing}}}`"), help));
            shares = true;
        }
        if shares {
            all.truncate(1);
        }
        for values in all {
            let mut own = table.clone();
            if let Some(own) = own.as_table_mut() {
                own.remove("each");
            }
            fill_all(&mut own, &values);
            let Ok(mut member) = own.try_into::<StageForm>() else { return };
            member.run.clone_from(&form.run);
            let paths = form.reads.iter().chain(&form.writes).chain(&form.metrics).chain(&form.checkpoints);
            let templates = paths.map(|t| (fill(t, &values), t)).filter(|(path, template)| path != *template);
            let tidy = |path: &str| path.trim_end_matches('/').to_string();
            let templates = templates.map(|(path, template)| (tidy(&path), tidy(template))).collect();
            let parts: Vec<String> = std::iter::once(name.to_string()).chain(values.iter().map(|(_, v)| plain(v))).collect();
            let each = Each { of: name.to_string(), values, templates };
            out.stages.push((parts.join(&PART.to_string()), member, Some(each)));
        }
    }

    /// Reads with `{each.NAME}` of a stage that is not `each` for it: those of all values of the stages that write them.
    fn reads_of_all(&mut self, stage: &str, reads: &[String], form: &ManifestForm, expanded: &Expanded) -> Vec<String> {
        let mut all = Vec::new();
        for (i, read) in reads.iter().enumerate() {
            let names: BTreeSet<&str> = names_in(read).into_iter().collect();
            if names.is_empty() {
                all.push(read.clone());
                continue;
            }
            let mut values: IndexMap<String, Vec<Value>> = IndexMap::new();
            for name in names {
                let has_it = |(_, s): &(&String, &StageForm)| s.each.as_ref().is_some_and(|each| each.contains_key(name));
                let writes_it = |s: &StageForm| {
                    s.writes.iter().chain(&s.metrics).any(|w| {
                        let write = w.trim_end_matches('/');
                        is_within(read, write) || is_within(write, read)
                    })
                };
                let groups: Vec<(&String, &StageForm)> = form.stage.iter().filter(has_it).collect();
                let writers: Vec<_> = groups.iter().filter(|(_, s)| writes_it(s)).collect();
                if groups.is_empty() {
                    let known = form.stage.values().flat_map(|s| s.each.iter().flat_map(IndexMap::keys)).map(String::as_str);
                    let help = match nearest(name, known) {
                        Some(near) => format!("did you mean `{{{PREFIX}{near}}}`?"),
                        None => format!("add `each = {{ {name} = \"0..4\" }}` to the stage that writes it"),
                    };
                    let span = self.at(&[Step::Key("stage"), Step::Key(stage), Step::Key("reads"), Step::At(i)]);
                    self.mistakes.push(Diagnostic::new(span, format!("no stage is `each` for `{name}`"), "in this path", help));
                    return all;
                }
                let meant: Vec<&String> = if writers.is_empty() {
                    groups.iter().map(|(n, _)| *n).collect()
                } else {
                    writers.iter().map(|(n, _)| *n).collect()
                };
                let found = values.entry(name.to_string()).or_default();
                for value in meant.into_iter().filter_map(|group| expanded.groups.get(group)?.get(name)).flatten() {
                    if !found.contains(value) {
                        found.push(value.clone());
                    }
                }
            }
            all.extend(combinations(&values).iter().map(|values| fill(read, values)));
        }
        all
    }

    /// Placeholders of `each` where only the stage's own values can be meant.
    pub(super) fn own_each(&mut self, name: &str, form: &StageForm, each: Option<&Each>, any: bool) {
        let known = || each.into_iter().flat_map(|e| e.values.iter().map(|(n, _)| n.as_str()));
        let texts = form.writes.iter().chain(&form.metrics).chain(&form.checkpoints);
        let own = form
            .evaluate
            .iter()
            .map(|e| &e.predictions)
            .chain(form.examine.iter().flat_map(|e| std::iter::once(&e.data).chain(&e.against)));
        let command: Vec<&String> = match &form.run {
            Some(RunForm::Shell(text)) => vec![text],
            Some(RunForm::Argv(words)) => words.iter().collect(),
            None => Vec::new(),
        };
        if !any {
            return;
        }
        for found in texts.chain(own).chain(command).flat_map(|t| names_in(t)) {
            if known().any(|n| n == found) {
                continue;
            }
            let help = match nearest(found, known()) {
                Some(near) => format!("did you mean `{{{PREFIX}{near}}}`?"),
                None => format!("add `each = {{ {found} = \"0..4\" }}` to it; only `reads` may mean those of all values"),
            };
            let span = self.document.key_place(&["stage", name]);
            let title = format!("`{{{PREFIX}{found}}}` is no value of `{}`", declared_name(name));
            self.mistakes.push(Diagnostic::new(span, title, "in this stage", help));
        }
    }
}

impl EachValueForm {
    fn value(&self) -> Value {
        match self {
            EachValueForm::Whole(n) => Value::from(*n),
            EachValueForm::Number(n) => Value::from(*n),
            EachValueForm::Text(text) => Value::from(text.as_str()),
        }
    }
}

/// Mistakes that the stages out of one have in common are told once.
pub(super) fn tell_once(mistakes: &mut Vec<Diagnostic>) {
    let mut told = BTreeSet::new();
    mistakes.retain(|m| told.insert((m.span.start, m.also.as_ref().map(|(span, _)| span.start), m.help.clone())));
}
