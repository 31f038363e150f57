//! Holding a manifest's tree against the schema of its types: unknown keys, missing ones, wrong types,
//! all at once and each with its place. What passes here can be read into the types.

use std::ops::Range;

use serde_json::Value;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::Diagnostic;
use textum_base::nearest;

struct Shape<'s> {
    schema: &'s Value,
    mistakes: Vec<Diagnostic>,
    /// The way to where we are, and the ways to every key that a mistake was found in.
    way: Vec<String>,
    wrong: Vec<Vec<String>>,
}

/// All departures of the tree from the schema, and the ways to the keys that they are in.
pub fn check_shape(root: &Spanned<DeTable<'_>>, schema: &Value) -> (Vec<Diagnostic>, Vec<Vec<String>>) {
    let mut shape = Shape { schema, mistakes: Vec::new(), way: Vec::new(), wrong: Vec::new() };
    shape.table(root.get_ref(), 0..0, schema, "the manifest");
    (shape.mistakes, shape.wrong)
}

fn types_of(schema: &Value) -> Vec<&str> {
    match &schema["type"] {
        Value::String(one) => vec![one.as_str()],
        Value::Array(many) => many.iter().filter_map(Value::as_str).collect(),
        _ => Vec::new(),
    }
}

fn type_name(value: &DeValue<'_>) -> &'static str {
    match value {
        DeValue::String(_) => "string",
        DeValue::Integer(_) => "integer",
        DeValue::Float(_) => "number",
        DeValue::Boolean(_) => "boolean",
        DeValue::Datetime(_) => "date",
        DeValue::Array(_) => "array",
        DeValue::Table(_) => "object",
    }
}

fn said(kind: &str) -> &str {
    match kind {
        "string" => "a string in quotes",
        "integer" => "a whole number",
        "number" => "a number",
        "boolean" => "true or false",
        "array" => "a list in [ ]",
        "object" => "a table",
        other => other,
    }
}

fn fits(kind: &str, value: &DeValue<'_>) -> bool {
    let found = type_name(value);
    kind == found || (kind == "number" && found == "integer")
}

impl<'s> Shape<'s> {
    fn resolve(&self, schema: &'s Value) -> &'s Value {
        let Some(name) = schema["$ref"].as_str().and_then(|r| r.strip_prefix("#/$defs/")) else { return schema };
        &self.schema["$defs"][name]
    }

    /// The alternatives of a schema: itself when it has none.
    fn branches(&self, schema: &'s Value) -> Vec<&'s Value> {
        let schema = self.resolve(schema);
        match schema["anyOf"].as_array().or(schema["oneOf"].as_array()) {
            Some(list) => list.iter().flat_map(|s| self.branches(s)).collect(),
            None => vec![schema],
        }
    }

    fn value(&mut self, value: &Spanned<DeValue<'_>>, schema: &'s Value, name: &str) {
        let branches = self.branches(schema);
        let expected: Vec<&str> = branches.iter().flat_map(|b| types_of(b)).filter(|t| *t != "null").collect();
        if expected.is_empty() && branches.iter().all(|b| b.get("const").is_none()) {
            return;
        }
        let Some(branch) = branches.iter().find(|b| types_of(b).iter().any(|t| fits(t, value.get_ref()))) else {
            let mut words: Vec<&str> = expected.iter().map(|t| said(t)).collect();
            words.dedup();
            let is_list_of_tables = expected == ["array"] && matches!(value.get_ref(), DeValue::Table(_));
            let help = match is_list_of_tables {
                true => format!("write [[{name}]], with two brackets: there may be several"),
                false => format!("write {}", words.join(" or ")),
            };
            self.mistakes.push(Diagnostic::new(
                value.span(),
                format!("`{name}` has the wrong type"),
                format!("this is {}", said(type_name(value.get_ref()))),
                help,
            ));
            return;
        };
        match value.get_ref() {
            DeValue::Table(table) => self.table(table, value.span(), branch, name),
            DeValue::Array(array) => {
                for item in array.iter() {
                    self.value(item, &branch["items"], name);
                }
            }
            DeValue::String(text) => self.choice(text, value.span(), &branches, name),
            DeValue::Integer(_) if branch["minimum"].as_i64() == Some(0) => {
                let digits = value.get_ref().as_integer().map_or("", |i| i.as_str());
                let fits = match branch["format"].as_str() {
                    Some("uint64") => digits.parse::<u64>().is_ok(),
                    _ => digits.parse::<u32>().is_ok(),
                };
                if !fits {
                    self.mistakes.push(Diagnostic::new(
                        value.span(),
                        format!("`{name}` is out of range"),
                        "this cannot be meant",
                        "write a whole number from 1 on",
                    ));
                }
            }
            _ => {}
        }
    }

    fn choice(&mut self, text: &str, span: Range<usize>, branches: &[&'s Value], name: &str) {
        let allowed: Vec<&str> = branches
            .iter()
            .flat_map(|b| match (b["const"].as_str(), b["enum"].as_array()) {
                (Some(one), _) => vec![one],
                (None, Some(many)) => many.iter().filter_map(Value::as_str).collect(),
                (None, None) => Vec::new(),
            })
            .collect();
        if !allowed.is_empty() && !allowed.contains(&text) {
            let quoted: Vec<String> = allowed.iter().map(|a| format!("\"{a}\"")).collect();
            self.mistakes.push(Diagnostic::new(
                span,
                format!("`{name}` cannot be \"{text}\""),
                "not one of the choices",
                format!("write {}", quoted.join(" or ")),
            ));
        }
    }

    fn table(&mut self, table: &DeTable<'_>, span: Range<usize>, schema: &'s Value, name: &str) {
        let schema = self.resolve(schema);
        let no_properties = serde_json::Map::new();
        let properties = schema["properties"].as_object().unwrap_or(&no_properties);
        for (key, value) in table {
            let text: &str = key.get_ref();
            let before = self.mistakes.len();
            self.way.push(text.to_string());
            if let Some(below) = schema["properties"].get(text) {
                self.value(value, below, text);
            } else if schema["additionalProperties"].is_object() {
                self.value(value, &schema["additionalProperties"], text);
            } else if schema["additionalProperties"] == Value::Bool(false) {
                self.unknown(text, key.span(), properties.keys().map(String::as_str).collect(), name);
            }
            // The innermost key is the wrong one; a table around it stays.
            if self.mistakes.len() > before && !self.wrong.iter().any(|w| w.starts_with(&self.way)) {
                self.wrong.push(self.way.clone());
            }
            self.way.pop();
        }
        // A stage does something by a command or by itself: a schema of plain types cannot say that.
        let does = ["run", "evaluate", "examine"];
        if properties.contains_key("evaluate") && !table.keys().any(|k| does.contains(&&**k.get_ref())) {
            self.mistakes.push(Diagnostic::new(
                span.clone(),
                format!("`run` is missing in `{name}`"),
                "it belongs here",
                "add `run = \"…\"`, the command of the stage, or `evaluate = { … }` or `examine = { … }`",
            ));
        }
        for required in schema["required"].as_array().into_iter().flatten().filter_map(Value::as_str) {
            if !table.keys().any(|k| k.get_ref() == required) {
                self.mistakes.push(Diagnostic::new(
                    span.clone(),
                    format!(
                        "`{required}` is missing in {}",
                        if name == "the manifest" { name.into() } else { format!("`{name}`") }
                    ),
                    "it belongs here",
                    match required {
                        "project" => "add `[project]` with `name = \"…\"`".to_string(),
                        "run" => "add `run = \"…\"`, the command of the stage".to_string(),
                        other => format!("add `{other} = \"…\"`"),
                    },
                ));
            }
        }
    }

    fn unknown(&mut self, key: &str, span: Range<usize>, known: Vec<&str>, name: &str) {
        let help = match nearest(key, known.iter().copied()) {
            Some(near) => format!("did you mean `{near}`?"),
            None => format!("known here: {}", known.join(", ")),
        };
        let place = if name == "the manifest" { String::new() } else { format!(" in `{name}`") };
        self.mistakes.push(Diagnostic::new(span, format!("unknown key `{key}`{place}"), "not known", help));
    }
}
