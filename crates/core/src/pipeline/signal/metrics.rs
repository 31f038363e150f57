//! Metrics out of files: the numeric leaves of JSON, TOML, YAML and CSV.

use std::collections::BTreeMap;
use std::path::Path;

use serde_json::{Map, Value};

use super::history::step_column;
use crate::record::receipt::Metric;

/// Files of metrics are small; one above this is taken for a mistake. In bytes.
const MOST_BYTES: u64 = 16 << 20;

fn number(value: &Value) -> Option<f64> {
    match value {
        Value::Number(n) => n.as_f64(),
        Value::Bool(b) => Some(f64::from(u8::from(*b))),
        Value::String(word) => match word.as_str() {
            "NaN" => Some(f64::NAN),
            "Infinity" => Some(f64::INFINITY),
            "-Infinity" => Some(f64::NEG_INFINITY),
            _ => None,
        },
        _ => None,
    }
}

fn leaves(prefix: &str, value: &Value, out: &mut BTreeMap<String, Metric>) {
    let below = |key: &str| if prefix.is_empty() { key.to_string() } else { format!("{prefix}.{key}") };
    match value {
        Value::Object(table) => table.iter().for_each(|(key, v)| leaves(&below(key), v, out)),
        Value::Array(items) => items.iter().enumerate().for_each(|(i, v)| leaves(&below(&i.to_string()), v, out)),
        leaf => {
            if let (Some(found), false) = (number(leaf), prefix.is_empty()) {
                out.insert(prefix.to_string(), Metric(found));
            }
        }
    }
}

/// The numeric leaves of a JSON value by dotted name.
pub fn metric_leaves(value: &Value) -> BTreeMap<String, Metric> {
    let mut found = BTreeMap::new();
    leaves("", value, &mut found);
    found
}

/// Many writers of JSON write NaN and Infinity bare, which JSON does not have: they are put in quotes.
pub fn quote_non_finite(text: &str) -> String {
    let mut out = String::with_capacity(text.len() + 16);
    let mut in_string = false;
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        if !in_string && let Some(word) = ["-Infinity", "Infinity", "NaN"].into_iter().find(|w| rest.starts_with(w)) {
            out.push_str(&format!("\"{word}\""));
            rest = &rest[word.len()..];
            continue;
        }
        let length = if in_string && c == '\\' { 1 + rest[1..].chars().next().map_or(0, char::len_utf8) } else { c.len_utf8() };
        in_string ^= c == '"';
        out.push_str(&rest[..length]);
        rest = &rest[length..];
    }
    out
}

fn from_csv(text: &str) -> Result<Value, String> {
    let mut reader = csv::ReaderBuilder::new().flexible(false).from_reader(text.as_bytes());
    let header = reader.headers().map_err(|e| e.to_string())?.clone();
    let rows: Vec<csv::StringRecord> = reader.records().collect::<Result<_, _>>().map_err(|e| e.to_string())?;
    let value = |text: &str| match text.trim().parse::<f64>() {
        Ok(n) if n.is_finite() => Value::from(n),
        Ok(n) if n.is_nan() => Value::from("NaN"),
        Ok(n) => Value::from(if n > 0.0 { "Infinity" } else { "-Infinity" }),
        Err(_) => Value::Null,
    };
    let names_first = header.len() == 2 && header.get(0).is_some_and(|h| matches!(h, "name" | "metric"));
    Ok(if names_first {
        Value::Object(rows.iter().map(|r| (r[0].to_string(), value(&r[1]))).collect())
    } else {
        let last = rows.last();
        // The column that tells the step of a history is no metric itself.
        let names: Vec<String> = header.iter().map(str::to_string).collect();
        let step = step_column(&names).filter(|_| names.len() > 1);
        let cells = last.into_iter().flat_map(|r| names.iter().zip(r.iter())).enumerate().filter(|(i, _)| Some(*i) != step);
        Value::Object(cells.map(|(_, (name, v))| (name.clone(), value(v))).collect())
    })
}

/// The last line of a history in JSON Lines.
fn from_json_lines(text: &str) -> Result<Value, String> {
    let Some(last) = text.lines().rev().find(|l| !l.trim().is_empty()) else { return Ok(Value::Object(Map::new())) };
    let value: Value = serde_json::from_str(&quote_non_finite(last)).map_err(|e| format!("its last line: {e}"))?;
    let Value::Object(mut table) = value else { return Err("its last line is no JSON object".into()) };
    let names: Vec<String> = table.keys().cloned().collect();
    if let Some(step) = step_column(&names).filter(|_| names.len() > 1) {
        table.remove(&names[step]);
    }
    Ok(Value::Object(table))
}

/// The metrics in a file, by its ending: each numeric leaf by its dotted name. A CSV file has columns
/// `name,value`, or a metric a column, of which the last row counts.
pub fn read_metrics(path: &Path) -> Result<BTreeMap<String, Metric>, String> {
    let length = std::fs::metadata(path).map_err(|e| e.to_string())?.len();
    if length > MOST_BYTES {
        return Err(format!("it has {length} bytes; metrics are small"));
    }
    let text = std::fs::read_to_string(path).map_err(|e| e.to_string())?;
    let value: Value = match path.extension().and_then(|e| e.to_str()).unwrap_or_default() {
        "toml" => toml::from_str(&text).map_err(|e| e.to_string())?,
        "yaml" | "yml" => serde_norway::from_str(&text).map_err(|e| e.to_string())?,
        "csv" => from_csv(&text)?,
        "jsonl" | "ndjson" => from_json_lines(&text)?,
        _ => serde_json::from_str(&text)
            .or_else(|e| serde_json::from_str(&quote_non_finite(&text)).map_err(|_| e))
            .map_err(|e| e.to_string())?,
    };
    let mut found = BTreeMap::new();
    leaves("", &value, &mut found);
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_format_gives_its_leaves() {
        let folder = tempfile::tempdir().unwrap();
        let read = |name: &str, text: &str| {
            let path = folder.path().join(name);
            std::fs::write(&path, text).unwrap();
            read_metrics(&path).map(|m| m.into_iter().map(|(k, v)| format!("{k}={v}")).collect::<Vec<_>>().join(" "))
        };
        assert_eq!(
            read("a.json", r#"{"auc":0.9,"of":{"L1":1,"why":"NaN \" NaN"},"loss":NaN}"#).unwrap(),
            "auc=0.9 loss=NaN of.L1=1"
        );
        assert_eq!(read("b.toml", "auc = 0.5\n[x]\ny = 2\n").unwrap(), "auc=0.5 x.y=2");
        assert_eq!(read("c.yaml", "auc: 0.5\nname: tree\n").unwrap(), "auc=0.5");
        assert_eq!(read("d.csv", "step,loss\n1,0.5\n2,0.25\n").unwrap(), "loss=0.25");
        assert_eq!(read("g.jsonl", "{\"epoch\":1,\"loss\":2}\n{\"epoch\":2,\"loss\":NaN}\n").unwrap(), "loss=NaN");
        assert_eq!(read("e.csv", "name,value\nauc,0.7\nf1,inf\n").unwrap(), "auc=0.7 f1=inf");
        assert!(read("f.json", "{\"auc\": }").is_err());
    }
}
