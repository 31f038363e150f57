//! TOML.

use std::collections::BTreeMap;

use serde_json::Value;
use toml_edit::{DocumentMut, Item, TableLike};

/// The value of a text.
pub(super) fn read(text: &str) -> Result<Value, String> {
    let table: toml::Table = toml::from_str(text).map_err(|e| e.message().to_string())?;
    Ok(as_json(&toml::Value::Table(table)))
}

/// As JSON, which has no dates and no numbers that are not finite: those are texts, as they are written.
fn as_json(value: &toml::Value) -> Value {
    match value {
        toml::Value::String(text) => Value::from(text.as_str()),
        toml::Value::Integer(i) => Value::from(*i),
        toml::Value::Float(f) => serde_json::Number::from_f64(*f).map_or_else(|| Value::from(f.to_string()), Value::Number),
        toml::Value::Boolean(b) => Value::from(*b),
        toml::Value::Datetime(d) => Value::from(d.to_string()),
        toml::Value::Array(items) => items.iter().map(as_json).collect(),
        toml::Value::Table(table) => Value::Object(table.iter().map(|(k, v)| (k.clone(), as_json(v))).collect()),
    }
}

fn toml_value(value: &Value) -> Option<toml_edit::Value> {
    Some(match value {
        Value::Bool(b) => (*b).into(),
        Value::Number(n) => match n.as_i64() {
            Some(i) => i.into(),
            None => n.as_f64()?.into(),
        },
        Value::String(text) => text.as_str().into(),
        Value::Array(items) => {
            let mut array = toml_edit::Array::new();
            for item in items {
                array.push(toml_value(item)?);
            }
            array.into()
        }
        Value::Object(table) => {
            let mut inline = toml_edit::InlineTable::new();
            for (key, below) in table {
                inline.insert(key, toml_value(below)?);
            }
            inline.into()
        }
        Value::Null => return None,
    })
}

fn find<'t>(table: &'t mut dyn TableLike, name: &str) -> Option<&'t mut Item> {
    // A key may have dots in it: the longest first part that is there is taken.
    if table.contains_key(name) {
        return table.get_mut(name);
    }
    let at = name.rmatch_indices('.').map(|(at, _)| at).find(|at| table.get(&name[..*at]).is_some_and(Item::is_table_like))?;
    find(table.get_mut(&name[..at])?.as_table_like_mut()?, &name[at + 1..])
}

/// Gives the leaf with this dotted name another value, what stands around it left as it is; gives the one it had
/// as JSON text. `None` where there is no such leaf.
pub(crate) fn set_value(table: &mut dyn TableLike, name: &str, value: &Value) -> Option<String> {
    let slot = find(table, name).and_then(Item::as_value_mut)?;
    let mut new = toml_value(value)?;
    let before = toml::from_str::<toml::Table>(&format!("x = {}", slot.clone().decorated("", "")))
        .ok()
        .and_then(|t| serde_json::to_value(&t["x"]).ok())
        .unwrap_or_default()
        .to_string();
    let after = value.to_string();
    if before != after {
        *new.decor_mut() = slot.decor().clone();
        *slot = new;
    }
    Some(before)
}

/// The text with other values; or the name of a leaf that it does not have.
pub(super) fn write(text: &str, prefix: &str, values: &BTreeMap<&str, &Value>) -> Result<String, String> {
    let first = || values.keys().next().map(|n| n.to_string()).unwrap_or_default();
    let mut document: DocumentMut = text.parse().map_err(|_| first())?;
    for (name, value) in values {
        let own = name.strip_prefix(prefix).and_then(|n| n.strip_prefix('.')).unwrap_or(name);
        set_value(document.as_table_mut(), own, value).ok_or_else(|| name.to_string())?;
    }
    Ok(document.to_string())
}
