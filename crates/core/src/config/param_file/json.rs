//! JSON.

use std::collections::BTreeMap;
use std::ops::Range;

use serde_json::Value;
use serde_json::value::RawValue;

use super::below;

/// So deep may tables lie in one another.
const DEEPEST: usize = 100;

/// The value of a text.
pub(super) fn read(text: &str) -> Result<Value, String> {
    serde_json::from_str(text).map_err(|e| e.to_string())
}

/// Where each leaf's value stands in the text. In bytes.
pub(super) fn places(text: &str, prefix: &str) -> BTreeMap<String, Range<usize>> {
    let mut found = BTreeMap::new();
    visit(text, text, prefix, DEEPEST, &mut found);
    found
}

fn visit(all: &str, value: &str, name: &str, depth: usize, found: &mut BTreeMap<String, Range<usize>>) {
    if depth > 0
        && let Ok(table) = serde_json::from_str::<BTreeMap<String, &RawValue>>(value)
    {
        for (key, value) in table {
            visit(all, value.get(), &below(name, &key), depth - 1, found);
        }
        return;
    }
    // A raw value is a slice of the text that it was read from.
    let start = value.as_ptr() as usize - all.as_ptr() as usize;
    found.insert(name.to_string(), start..start + value.len());
}

/// A value as it is written.
#[allow(clippy::unnecessary_wraps)] // as of the other formats, which cannot write all
pub(super) fn text_of(_: &str, value: &Value) -> Option<String> {
    Some(value.to_string())
}
