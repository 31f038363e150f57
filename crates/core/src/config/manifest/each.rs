//! `each` in a stage: one of it for each value, or for each combination of several. Everything after this knows only the
//! stages that come out of it, such as `fit:0` and `fit:1`.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use indexmap::IndexMap;
use serde_json::Value;

use super::each_form::EachValueForm;
use super::form::StageForm;
use super::substitute::{placeholders, plain, replace_each};
use super::{Diagnostic, nearest};
use crate::table::{Dialect, Origin, Table, TableError, kind, row};

/// More stages than this out of one are taken for a mistake.
pub(super) const MOST: usize = 1000;
/// What parts a stage's name from the values that it is for.
pub(super) const PART: char = ':';
/// What `each` values are called in commands and paths, and as parameters.
pub(super) const PREFIX: &str = "each.";

/// Of which stage of the manifest this is one, and for which values.
#[derive(Clone, Debug, PartialEq)]
pub struct Each {
    /// The stage of the manifest.
    pub of: String,
    /// Its values, by name.
    pub values: Vec<(String, Value)>,
    /// Its paths as the manifest has them, where values stand in them.
    pub(super) templates: BTreeMap<String, String>,
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

pub(super) fn is_value_text(text: &str) -> bool {
    // Dots alone are ways, not names.
    let is_way = text.chars().all(|c| c == '.');
    (1..=64).contains(&text.len()) && !is_way && text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.'))
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
    pub groups: IndexMap<String, IndexMap<String, Vec<Value>>>,
}

/// A text as a value: a number where it is written as one.
pub(super) fn typed(text: String) -> Value {
    // As it is written, or not as a number: `007` is no 7.
    match serde_json::from_str::<Value>(&text) {
        Ok(Value::Number(number)) if number.to_string() == text => Value::Number(number),
        _ => Value::String(text),
    }
}

/// How many combinations there are.
pub(super) fn count(values: &IndexMap<String, Vec<Value>>) -> usize {
    values.values().fold(1, |count, values| count.saturating_mul(values.len()))
}

/// All combinations, the last name varying fastest; whoever asks has counted them.
pub(super) fn combinations(values: &IndexMap<String, Vec<Value>>) -> Vec<Vec<(String, Value)>> {
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
pub(super) fn names_in(text: &str) -> Vec<&str> {
    placeholders(text).into_iter().filter_map(|p| p.strip_prefix(PREFIX)).collect()
}

pub(super) fn fill(text: &str, values: &[(String, Value)]) -> String {
    replace_each(text, &|name| {
        let name = name.strip_prefix(PREFIX)?;
        values.iter().find(|(n, _)| n == name).map(|(_, value)| plain(value))
    })
}

/// Fills values into all texts of a stage but its command, which is filled in with its parameters.
pub(super) fn fill_all(value: &mut toml::Value, values: &[(String, Value)]) {
    match value {
        toml::Value::String(text) => *text = fill(text, values),
        toml::Value::Array(items) => items.iter_mut().for_each(|item| fill_all(item, values)),
        toml::Value::Table(table) => table.iter_mut().filter(|(key, _)| *key != "run").for_each(|(_, v)| fill_all(v, values)),
        _ => {}
    }
}

/// The different values of a column, sorted.
pub(super) fn values_of_column(
    folder: &Path,
    path: &str,
    column: &str,
    dialect: &Dialect,
) -> Result<Option<Vec<String>>, TableError> {
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
    // By number where all are numbers; texts between them would make a circle of an order.
    let numbers: Option<Vec<f64>> = texts.iter().map(|t| t.parse().ok()).collect();
    if let Some(numbers) = numbers {
        let mut both: Vec<(f64, String)> = numbers.into_iter().zip(texts).collect();
        both.sort_by(|a, b| a.0.total_cmp(&b.0).then_with(|| a.1.cmp(&b.1)));
        texts = both.into_iter().map(|(_, text)| text).collect();
    }
    Ok(Some(texts))
}

impl EachValueForm {
    pub(super) fn value(&self) -> Value {
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
