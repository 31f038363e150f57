//! A manifest's stages as they are carried out: those out of `each` in the place of the one that is written.

use std::path::Path;

use indexmap::IndexMap;
use serde_json::Value;
use textum_base::{ProjectPath, overlap};

use super::check::Checker;
use super::document::Step;
use super::each::{
    Each, Expanded, MOST, NoValues, PART, PREFIX, combinations, count, fill, fill_all, is_value_text, names_in, typed,
    values_of_column,
};
use super::each_form::{ColumnForm, EachForm, EachValueForm};
use super::form::{ManifestForm, RunForm, StageForm};
use super::substitute::plain;
use super::{DatasetDecl, Diagnostic, declared_name, nearest};
use crate::config::sweep::values;

/// What tables with values are looked for among.
struct Known<'k> {
    form: &'k ManifestForm,
    data: &'k [DatasetDecl],
    folder: &'k Path,
}

impl Checker<'_, '_> {
    /// The stages that come out of `each`, and out of reads that mean all of them.
    pub(super) fn expand(&mut self, form: &ManifestForm, data: &[DatasetDecl], text: &str, folder: &Path) -> Expanded {
        let mut out = Expanded::default();
        if form.stage.values().all(|s| s.each.is_none()) {
            out.stages = form.stage.iter().map(|(name, stage)| (name.clone(), stage.clone(), None)).collect();
            return out;
        }
        let known = Known { form, data, folder };
        let tables: toml::Table = toml::from_str(text).unwrap_or_default();
        if form.params.contains_key("each") {
            let help = "call these parameters something else: `each.…` is what a stage with `each` is one of";
            let span = self.document.key_place(&["params", "each"]);
            self.mistakes.push(Diagnostic::new(span, "`each` cannot be the name of parameters", "this table", help));
        }
        for (name, stage) in &form.stage {
            let Some(each) = &stage.each else { continue };
            let values = each.iter().filter_map(|(n, each)| Some((n.clone(), self.each_values(name, n, each, &known, &mut out)?)));
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
            let name = out.stages[at].0.clone();
            let mut reads = out.stages[at].1.reads.clone();
            for i in 0..reads.len() {
                if names_in(&reads[i]).is_empty() {
                    continue;
                }
                let steps = [Step::Key("stage"), Step::Key(&name), Step::Key("reads"), Step::At(i)];
                let mut all = self.paths_of_all(&reads[i], &steps, form, &out).into_iter();
                // The others behind all that are written, so that each of those keeps its place in the text.
                match all.next() {
                    Some(first) => reads[i] = first,
                    None => reads[i].clear(),
                }
                reads.extend(all);
            }
            reads.retain(|r| !r.is_empty());
            out.stages[at].1.reads = reads;
        }
        out
    }

    /// The values of one name; `None` where a mistake was told, or the table is not there.
    fn each_values(
        &mut self,
        stage: &str,
        name: &str,
        form: &EachForm,
        known: &Known<'_>,
        out: &mut Expanded,
    ) -> Option<Vec<Value>> {
        let span = self.at(&[Step::Key("stage"), Step::Key(stage), Step::Key("each"), Step::Key(name)]);
        let found = self.found_values(name, form, known);
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
    fn found_values(&self, name: &str, form: &EachForm, known: &Known<'_>) -> Result<Option<Vec<Value>>, (String, String)> {
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
            EachForm::Column(column) => match self.column_values(column, known) {
                Ok(Some(texts)) => texts.into_iter().map(typed).collect(),
                Ok(None) => return Ok(None),
                Err(title) => return wrong(title, "name a column of a table that stands in the project"),
            },
        };
        match found.len() {
            0 => return wrong(format!("`{name}` has no values"), "name one at least, as in \"0..4\""),
            n if n > MOST => {
                return wrong(format!("`{name}` has more than {MOST} values"), "a stage for each of so many cannot be meant");
            }
            _ => {}
        }
        let texts: Vec<String> = found.iter().map(plain).collect();
        if let Some(odd) = texts.iter().find(|t| !is_value_text(t)) {
            let help = "each value stands in names and paths: letters, digits, `.`, `-` and `_`, 64 at most";
            return wrong(format!("`{odd}` cannot be a value of `{name}`"), help);
        }
        if let Some(twice) = texts.iter().enumerate().find(|(i, t)| texts[..*i].contains(t)) {
            return wrong(format!("`{}` is among the values of `{name}` twice", twice.1), "name each value once");
        }
        Ok(Some(found))
    }

    fn column_values(&self, form: &ColumnForm, known: &Known<'_>) -> Result<Option<Vec<String>>, String> {
        let decl = known.data.iter().find(|d| d.name == form.of || d.path == form.of.as_str());
        let path = match decl {
            Some(decl) => decl.path.to_string(),
            None => ProjectPath::tidied(&form.of).map_err(|_| format!("`{}` is no path in the project", form.of))?.to_string(),
        };
        // What a stage makes is not there yet when its values are asked for, or is that of an earlier run.
        let writes = |s: &StageForm| s.writes.iter().chain(&s.metrics).any(|w| overlap(w.trim_end_matches('/'), &path));
        if let Some((name, _)) = known.form.stage.iter().find(|(_, s)| writes(s)) {
            return Err(format!("`{path}` is written by the stage `{name}`, so that its values are not known before"));
        }
        let dialect = decl.map(|d| d.table.clone()).unwrap_or_default();
        values_of_column(known.folder, &path, &form.column, &dialect).map_err(|e| e.to_string())
    }

    /// The stages that one stage stands for.
    fn members(&mut self, name: &str, form: &StageForm, table: Option<&toml::Value>, out: &mut Expanded) {
        let (Some(values), Some(table)) = (out.groups.get(name), table) else { return };
        if count(values) > MOST {
            let span = self.document.key_place(&["stage", name, "each"]);
            let title = format!("`{name}` would be {} stages", count(values));
            self.mistakes.push(Diagnostic::new(span, title, "these combinations", format!("{MOST} are the most")));
            return;
        }
        let mut all = combinations(values);
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

    /// A path with `{each.NAME}` outside of a stage that is `each` for it: those of all values of the stages that write it.
    pub(super) fn paths_of_all(&mut self, path: &str, steps: &[Step<'_>], form: &ManifestForm, expanded: &Expanded) -> Vec<String> {
        let mut values: IndexMap<String, Vec<Value>> = IndexMap::new();
        for name in names_in(path) {
            let has_it = |(_, s): &(&String, &StageForm)| s.each.as_ref().is_some_and(|each| each.contains_key(name));
            let writes_it = |s: &StageForm| s.writes.iter().chain(&s.metrics).any(|w| overlap(w.trim_end_matches('/'), path));
            let groups: Vec<(&String, &StageForm)> = form.stage.iter().filter(has_it).collect();
            if groups.is_empty() {
                let known = form.stage.values().flat_map(|s| s.each.iter().flat_map(IndexMap::keys)).map(String::as_str);
                let help = match nearest(name, known) {
                    Some(near) => format!("did you mean `{{{PREFIX}{near}}}`?"),
                    None => format!("add `each = {{ {name} = \"0..4\" }}` to the stage that writes it"),
                };
                let title = format!("no stage is `each` for `{name}`");
                self.mistakes.push(Diagnostic::new(self.at(steps), title, "in this path", help));
                return Vec::new();
            }
            let any_writes = groups.iter().any(|(_, s)| writes_it(s));
            let found = values.entry(name.to_string()).or_default();
            let meant = groups.iter().filter(|(_, s)| !any_writes || writes_it(s));
            for value in meant.filter_map(|(group, _)| expanded.groups.get(*group)?.get(name)).flatten() {
                if !found.contains(value) {
                    found.push(value.clone());
                }
            }
        }
        if count(&values) > MOST {
            let title = format!("`{path}` would be {} paths", count(&values));
            self.mistakes.push(Diagnostic::new(
                self.at(steps),
                title,
                "this path",
                format!("{MOST} are the most: read a folder instead"),
            ));
            return Vec::new();
        }
        combinations(&values).iter().map(|values| fill(path, values)).collect()
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
