//! Parameters: nested tables flattened to dotted leaves, each a JSON value with its exact text.

use std::collections::BTreeMap;

use serde_json::{Map, Value};

use textum_base::nearest;

/// All parameters of a project, by dotted name.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Params {
    leaves: BTreeMap<String, Value>,
}

/// Why a parameter could not be set.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
pub enum SetError {
    /// It is not `NAME=VALUE`.
    #[error("`{0}` does not set a parameter: write NAME=VALUE, as in fit.rate=0.1")]
    Form(String),
    /// There is no such parameter.
    #[error("there is no parameter `{name}`{}", near.as_ref().map_or(String::new(), |n| format!(": did you mean `{n}`?")))]
    Unknown {
        /// The name given.
        name: String,
        /// The most similar known name.
        near: Option<String>,
    },
    /// It is a table.
    #[error("`{name}` has parameters of its own: {}", leaves.join(", "))]
    Table {
        /// The name given.
        name: String,
        /// What is in it.
        leaves: Vec<String>,
    },
    /// The value is of another type than the one in the manifest.
    #[error("`{name}` is {expected} in the manifest, `{given}` is not")]
    WrongType {
        /// The parameter.
        name: String,
        /// What its type is called.
        expected: &'static str,
        /// The text given.
        given: String,
    },
}

/// Whether a selector, a table or a dotted leaf, takes in this leaf.
pub fn selects(selector: &str, leaf: &str) -> bool {
    leaf.strip_prefix(selector).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
}

/// How a date of TOML arrives: as a table with this key alone, which is no business of a script's.
const DATE: &str = "$__toml_private_datetime";

/// Dates and times as texts, as they are written.
fn with_dates_as_texts(value: &Value) -> Value {
    match value {
        Value::Object(table) if table.len() == 1 && table.contains_key(DATE) => table[DATE].clone(),
        Value::Object(table) => Value::Object(table.iter().map(|(k, v)| (k.clone(), with_dates_as_texts(v))).collect()),
        Value::Array(items) => Value::Array(items.iter().map(with_dates_as_texts).collect()),
        other => other.clone(),
    }
}

fn flatten(prefix: &str, value: &Value, out: &mut BTreeMap<String, Value>) {
    match value {
        Value::Object(table) => {
            for (key, below) in table {
                let name = if prefix.is_empty() { key.clone() } else { format!("{prefix}.{key}") };
                flatten(&name, below, out);
            }
        }
        leaf => {
            out.insert(prefix.to_string(), leaf.clone());
        }
    }
}

fn typed(current: &Value, text: &str) -> Option<Value> {
    match current {
        Value::Bool(_) => text.parse::<bool>().ok().map(Value::Bool),
        Value::Number(n) if n.is_f64() => {
            let number: f64 = text.parse().ok()?;
            serde_json::Number::from_f64(number).map(Value::Number)
        }
        Value::Number(_) => text.parse::<i64>().ok().map(Value::from),
        Value::String(_) => Some(Value::String(text.to_string())),
        Value::Array(_) => serde_json::from_str::<Value>(text).ok().filter(Value::is_array),
        _ => None,
    }
}

fn type_words(value: &Value) -> &'static str {
    match value {
        Value::Bool(_) => "true or false",
        Value::Number(n) if n.is_f64() => "a number",
        Value::Number(_) => "a whole number",
        Value::Array(_) => "a list such as [1, 2]",
        _ => "a string",
    }
}

impl Params {
    /// The leaves of nested tables.
    pub fn from_tables(tables: &Map<String, Value>) -> Params {
        let mut leaves = BTreeMap::new();
        for (key, value) in tables {
            flatten(key, &with_dates_as_texts(value), &mut leaves);
        }
        Params { leaves }
    }

    /// The leaves whose name is `selector` or lies below it; none when there is no such parameter.
    pub fn select<'p>(&'p self, selector: &'p str) -> impl Iterator<Item = (&'p str, &'p Value)> {
        self.leaves.iter().filter(move |(name, _)| selects(selector, name)).map(|(name, value)| (name.as_str(), value))
    }

    /// A leaf by its full name.
    pub fn get(&self, name: &str) -> Option<&Value> {
        self.leaves.get(name)
    }

    /// All leaves, sorted by name.
    pub fn iter(&self) -> impl Iterator<Item = (&str, &Value)> {
        self.leaves.iter().map(|(name, value)| (name.as_str(), value))
    }

    /// The known name most like this one: a leaf or a table.
    pub fn nearest(&self, name: &str) -> Option<String> {
        let mut known: Vec<String> = self.leaves.keys().cloned().collect();
        for leaf in self.leaves.keys() {
            let mut prefix = leaf.as_str();
            while let Some((above, _)) = prefix.rsplit_once('.') {
                known.push(above.to_string());
                prefix = above;
            }
        }
        nearest(name, known.iter().map(String::as_str)).map(str::to_string)
    }

    /// Gives a leaf another value, whatever its type.
    pub fn put(&mut self, name: &str, value: Value) {
        self.leaves.insert(name.to_string(), value);
    }

    /// Sets a leaf from `NAME=VALUE`, the value typed like the one in the manifest.
    pub fn set(&mut self, assignment: &str) -> Result<(), SetError> {
        let (name, text) = assignment.split_once('=').ok_or_else(|| SetError::Form(assignment.to_string()))?;
        let value = self.typed(name, text)?;
        self.leaves.insert(name.to_string(), value);
        Ok(())
    }

    /// Why there is no leaf of this name.
    pub fn no_leaf(&self, name: &str) -> SetError {
        let leaves: Vec<String> = self.select(name).map(|(leaf, _)| leaf.to_string()).collect();
        match leaves.is_empty() {
            true => SetError::Unknown { name: name.to_string(), near: self.nearest(name) },
            false => SetError::Table { name: name.to_string(), leaves },
        }
    }

    /// What a text means as the value of a parameter: of the type that its value has.
    pub fn typed(&self, name: &str, text: &str) -> Result<Value, SetError> {
        let Some(current) = self.leaves.get(name) else {
            return Err(self.no_leaf(name));
        };
        typed(current, text).ok_or_else(|| SetError::WrongType {
            name: name.to_string(),
            expected: type_words(current),
            given: text.to_string(),
        })
    }
}

/// Nested JSON of dotted leaves, as a stage gets it in `TEXTUM_PARAMS`.
pub fn nest<'p>(leaves: impl Iterator<Item = (&'p str, Value)>) -> Value {
    let mut root = Map::new();
    for (name, value) in leaves {
        let mut table = &mut root;
        let mut parts = name.split('.').peekable();
        while let Some(part) = parts.next() {
            if parts.peek().is_none() {
                table.insert(part.to_string(), value);
                break;
            }
            let below = table.entry(part).or_insert_with(|| Value::Object(Map::new()));
            match below {
                Value::Object(map) => table = map,
                _ => break,
            }
        }
    }
    Value::Object(root)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn settings_take_the_type_of_the_manifest() {
        let tables: Map<String, Value> =
            serde_json::from_str(r#"{"fit":{"rate":0.2,"rounds":40,"kind":"tree","deep":[1,2]}}"#).unwrap();
        let mut params = Params::from_tables(&tables);
        params.set("fit.rate=1").unwrap();
        assert_eq!(params.get("fit.rate").unwrap().to_string(), "1.0");
        params.set("fit.kind=7").unwrap();
        assert_eq!(params.get("fit.kind"), Some(&Value::from("7")));
        assert!(matches!(params.set("fit.rounds=4.5"), Err(SetError::WrongType { .. })));
        assert!(matches!(params.set("fit.rate=nan"), Err(SetError::WrongType { .. })));
        let unknown = params.set("fit.rat=1").unwrap_err();
        assert_eq!(unknown, SetError::Unknown { name: "fit.rat".into(), near: Some("fit.rate".into()) });
        let nested = nest(params.select("fit").map(|(n, v)| (n, v.clone())));
        assert_eq!(nested.to_string(), r#"{"fit":{"deep":[1,2],"kind":"7","rate":1.0,"rounds":40}}"#);
    }
}
