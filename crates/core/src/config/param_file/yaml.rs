//! YAML 1.2, with the merge keys of 1.1. What is written is read alike by both.

use std::collections::BTreeMap;
use std::ops::Range;

use saphyr_parser::{Event, Parser, ScalarStyle};
use serde_json::Value;
use serde_norway::Value as Yaml;

use super::below;

/// So deep may tables lie in one another.
const DEEPEST: usize = 100;

/// The value of a text with one document.
pub(super) fn read(text: &str) -> Result<Value, String> {
    let mut root: Yaml = serde_norway::from_str(text).map_err(|e| e.to_string())?;
    root.apply_merge().map_err(|e| e.to_string())?;
    as_json(&root, DEEPEST)
}

/// As JSON, which has no numbers that are not finite: those are texts, as they are written.
fn as_json(value: &Yaml, depth: usize) -> Result<Value, String> {
    if depth == 0 {
        return Err("its tables lie too deep in one another".into());
    }
    Ok(match value {
        Yaml::Null => Value::Null,
        Yaml::Bool(b) => Value::from(*b),
        Yaml::String(text) => Value::from(text.as_str()),
        Yaml::Number(n) => match (n.as_i64(), n.as_u64()) {
            (Some(i), _) => Value::from(i),
            (None, Some(u)) => Value::from(u),
            (None, None) => {
                n.as_f64().and_then(serde_json::Number::from_f64).map_or_else(|| Value::from(n.to_string()), Value::Number)
            }
        },
        Yaml::Sequence(items) => Value::Array(items.iter().map(|i| as_json(i, depth - 1)).collect::<Result<_, _>>()?),
        Yaml::Mapping(table) => {
            let entry = |(key, value): (&Yaml, &Yaml)| Ok((key_text(key)?, as_json(value, depth - 1)?));
            Value::Object(table.iter().map(entry).collect::<Result<_, String>>()?)
        }
        Yaml::Tagged(tagged) => return Err(format!("the tag {} means something to one program only", tagged.tag)),
    })
}

fn key_text(key: &Yaml) -> Result<String, String> {
    match key {
        Yaml::String(text) => Ok(text.clone()),
        Yaml::Bool(b) => Ok(b.to_string()),
        Yaml::Number(n) => Ok(n.to_string()),
        Yaml::Null => Ok("null".into()),
        _ => Err("a key that is no plain text cannot be the name of a parameter".into()),
    }
}

/// Where one is in the text.
enum Level {
    /// In a table: its name, and the key whose value comes next.
    Table(String, Option<String>),
    /// In a list, or in anything without names; for a list that is a leaf, its name and where it begins.
    List(Option<(String, usize)>),
}

/// Where each leaf's value stands in the text, in bytes. Those with an anchor are left out, which others may
/// refer to, and those whose end is not marked.
pub(super) fn places(text: &str, prefix: &str) -> BTreeMap<String, Range<usize>> {
    let mut bytes: Vec<usize> = text.char_indices().map(|(at, _)| at).collect();
    bytes.push(text.len());
    let at = |index: usize| bytes.get(index).copied().unwrap_or(text.len());
    let mut found = BTreeMap::new();
    let mut levels: Vec<Level> = Vec::new();
    let mut parser = Parser::new_from_str(text);
    while let Some(Ok((event, span))) = parser.next_event() {
        let place = at(span.start.index())..at(span.end.index());
        match event {
            Event::Scalar(value, style, anchor, _) => {
                let name = take_name(&mut levels, prefix, Some(&value)).filter(|_| anchor == 0);
                if let (Some(name), Some(length)) = (name, text.get(place.clone()).and_then(|t| length_of(t, style))) {
                    found.insert(name, place.start..place.start + length);
                }
            }
            Event::Alias(_) => drop(take_name(&mut levels, prefix, None)),
            Event::MappingStart(..) => {
                let name = match levels.is_empty() {
                    true => Some(prefix.to_string()),
                    false => take_name(&mut levels, prefix, None),
                };
                levels.push(name.map_or(Level::List(None), |name| Level::Table(name, None)));
            }
            Event::SequenceStart(anchor, _) => {
                let name = take_name(&mut levels, prefix, None);
                let flow = text.get(place.start..).is_some_and(|t| t.starts_with('['));
                levels.push(Level::List(name.filter(|_| anchor == 0 && flow).map(|name| (name, place.start))));
            }
            Event::SequenceEnd => {
                if let Some(Level::List(Some((name, start)))) = levels.pop() {
                    // The parser's end of it is where the next token begins, comments passed over.
                    if text.get(place.start..).is_some_and(|t| t.starts_with(']')) {
                        found.insert(name, start..place.start + 1);
                    }
                }
            }
            Event::MappingEnd => drop(levels.pop()),
            _ => {}
        }
    }
    found
}

/// How long a text is that stands at the start of another one, for which the parser takes what follows it too.
fn length_of(text: &str, style: ScalarStyle) -> Option<usize> {
    let quote = match style {
        ScalarStyle::Plain => return Some(text.trim_end().len()).filter(|l| *l > 0),
        ScalarStyle::SingleQuoted => '\'',
        ScalarStyle::DoubleQuoted => '"',
        ScalarStyle::Literal | ScalarStyle::Folded => return None,
    };
    let mut inside = text.char_indices().skip(1).peekable();
    while let Some((at, c)) = inside.next() {
        let doubled = quote == '\'' && c == quote && inside.peek().is_some_and(|(_, next)| *next == quote);
        if doubled || (quote == '"' && c == '\\') {
            inside.next();
        } else if c == quote {
            return Some(at + 1);
        }
    }
    None
}

/// The name of the value that comes now, if it has one; a text that is a key is noted instead.
fn take_name(levels: &mut [Level], prefix: &str, scalar: Option<&str>) -> Option<String> {
    match levels.last_mut() {
        Some(Level::Table(name, key)) => match (key.take(), scalar) {
            (Some(of), _) => Some(below(name, &of)),
            (None, text) => {
                *key = Some(text.unwrap_or_default().to_string());
                None
            }
        },
        Some(Level::List(_)) => None,
        None => Some(prefix.to_string()),
    }
}

/// A value as it is written in place of another.
pub(super) fn text_of(before: &str, value: &Value) -> Option<String> {
    Some(match value {
        Value::Number(n) if n.is_f64() => float(&n.to_string()),
        Value::String(text) if plain(text) && plain(before) => text.clone(),
        Value::Array(items) => {
            let items: Option<Vec<String>> = items.iter().map(|i| text_of("", i)).collect();
            format!("[{}]", items?.join(", "))
        }
        Value::Object(_) => return None,
        other => other.to_string(),
    })
}

/// A number that readers of YAML 1.1 take for one too: they want a point before and a sign in the exponent.
fn float(text: &str) -> String {
    let Some((digits, exponent)) = text.split_once('e') else { return text.to_string() };
    let point = if digits.contains('.') { "" } else { ".0" };
    let sign = if exponent.starts_with(['-', '+']) { "" } else { "+" };
    format!("{digits}{point}e{sign}{exponent}")
}

/// Whether a text means itself without quotes, to every reader.
fn plain(text: &str) -> bool {
    const WORDS: [&str; 9] = ["true", "false", "null", "yes", "no", "on", "off", "y", "n"];
    text.starts_with(|c: char| c.is_ascii_alphabetic())
        && text.chars().all(|c| c.is_ascii_alphanumeric() || "_-./".contains(c))
        && !WORDS.contains(&text.to_ascii_lowercase().as_str())
}
