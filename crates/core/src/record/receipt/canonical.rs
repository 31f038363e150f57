//! The one form in which documents are stored: RFC 8785, so that anybody can recompute a digest.

use serde::Serialize;

use super::Document;
use crate::store::Digest;

/// Why a document could not be written or read.
#[derive(Debug, thiserror::Error)]
pub enum DocumentError {
    /// The stored text is not such a document.
    #[error("the document {digest} cannot be read: {what}")]
    Malformed {
        /// Its digest.
        digest: Digest,
        /// What is wrong with it.
        what: String,
    },
    /// It was written by a newer Textum.
    #[error("the document {digest} is a `{found}`, which this Textum does not know; it reads `{known}`: use a newer Textum")]
    Newer {
        /// Its digest.
        digest: Digest,
        /// Its type.
        found: String,
        /// The newest version of that type known here.
        known: String,
    },
    /// A value cannot be written as JSON.
    #[error("a document cannot be written: {0}")]
    Unwritable(String),
}

/// The canonical JSON of a value (RFC 8785: sorted keys, no spaces, shortest numbers).
pub fn canonical(value: &impl Serialize) -> Result<Vec<u8>, DocumentError> {
    // Most are told by sorting their keys, in a fifth of the time. A number that is none is `null` in a value, as it is in
    // the long way wherever it stands in something.
    if let Ok(mut sorted) = serde_json::to_value(value) {
        sorted.sort_all_objects();
        if !sorted.is_null()
            && is_plain(&sorted)
            && let Ok(text) = serde_json::to_vec(&sorted)
        {
            return Ok(text);
        }
    }
    the_long_way(value)
}

fn the_long_way(value: &impl Serialize) -> Result<Vec<u8>, DocumentError> {
    serde_json_canonicalizer::to_vec(value).map_err(|e| DocumentError::Unwritable(e.to_string()))
}

/// Whether a text is the canonical JSON of what it says.
pub fn is_canonical(text: &[u8]) -> bool {
    type_if_canonical(text).is_some()
}

/// The `type` of a text that is the canonical JSON of what it says, and nothing of any other; none inside: it has no type.
pub(crate) fn type_if_canonical(text: &[u8]) -> Option<Option<String>> {
    let value = serde_json::from_slice::<serde_json::Value>(text).ok()?;
    // Most are told by being written again as they were read: what differs between that and the canonical form is
    // the order of keys, and numbers that are no whole ones.
    let written_alike = is_plain(&value) && serde_json::to_vec(&value).is_ok_and(|again| again == text);
    let is_canonical = written_alike || the_long_way(&value).is_ok_and(|canonical| canonical == text);
    is_canonical.then(|| value["type"].as_str().map(str::to_string))
}

/// Whether `serde_json` writes a value as RFC 8785 wants it.
fn is_plain(value: &serde_json::Value) -> bool {
    match value {
        // Between these both write the shortest digits without an exponent; a whole number has no point.
        serde_json::Value::Number(n) if n.is_f64() => {
            n.as_f64().is_some_and(|f| f.fract() != 0.0 && (1e-4..1e15).contains(&f.abs()))
        }
        serde_json::Value::Number(n) => n.as_i64().is_some_and(|i| i.unsigned_abs() < 1 << 53),
        // Canonical order is by UTF-16 units: for ASCII that is the order of bytes.
        serde_json::Value::Object(map) => map.keys().all(|k| k.is_ascii()) && map.keys().is_sorted() && map.values().all(is_plain),
        serde_json::Value::Array(items) => items.iter().all(is_plain),
        _ => true,
    }
}

/// The `type` of a document, such as `textum/stage-receipt@1`.
pub fn type_of(bytes: &[u8]) -> Option<String> {
    #[derive(serde::Deserialize)]
    struct Typed {
        r#type: String,
    }
    serde_json::from_slice::<Typed>(bytes).ok().map(|t| t.r#type)
}

/// Reads a document, refusing a newer version of its type with a clear message, and whatever it says that could
/// do harm.
pub fn read_document<T: Document>(digest: &Digest, bytes: &[u8]) -> Result<T, DocumentError> {
    let known = T::TYPE;
    let malformed = |what: String| DocumentError::Malformed { digest: *digest, what };
    let read = serde_json::from_slice::<T>(bytes);
    if let Ok(document) = &read
        && document.said_type() == known
    {
        document.check().map_err(malformed)?;
    } else {
        let found = type_of(bytes).ok_or_else(|| malformed("it has no type".into()))?;
        if found != known {
            let same_name = found.split('@').next() == known.split('@').next();
            return Err(if same_name {
                DocumentError::Newer { digest: *digest, found, known: known.to_string() }
            } else {
                malformed(format!("it is a `{found}`, not a `{known}`"))
            });
        }
    }
    read.map_err(|e| malformed(e.to_string()))
}

/// A unit variant's word in JSON, such as `up-to-date`.
pub fn word(value: &impl serde::Serialize) -> String {
    match serde_json::to_value(value) {
        Ok(serde_json::Value::String(word)) => word,
        _ => String::new(),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;
    use serde_json::{Value, json};

    use super::*;

    fn any_value() -> impl Strategy<Value = Value> {
        let leaf = prop_oneof![
            Just(Value::Null),
            any::<bool>().prop_map(Value::from),
            any::<i64>().prop_map(Value::from),
            (-1000i64..1000).prop_map(Value::from),
            any::<f64>().prop_filter("JSON has no others", |f| f.is_finite()).prop_map(Value::from),
            (-1e6f64..1e6).prop_map(Value::from),
            (-1.0f64..1.0).prop_map(|f| Value::from(f * 1e-5)),
            "\\PC{0,6}|[\u{0}-\u{ffff}]{0,4}".prop_map(Value::from),
        ];
        leaf.prop_recursive(3, 24, 5, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..5).prop_map(Value::from),
                prop::collection::vec(("[a-cA-C.]{0,3}|\\PC{0,2}", inner), 0..5)
                    .prop_map(|all| Value::Object(all.into_iter().collect())),
            ]
        })
    }

    proptest! {
        /// The short way says what the long one does, of what is canonical and of what is almost.
        #[test]
        fn canonical_is_what_the_long_way_says(value in any_value(), at in any::<prop::sample::Index>(), with in any::<u8>()) {
            let text = canonical(&value).unwrap();
            prop_assert_eq!(&text, &the_long_way(&value).unwrap());
            prop_assert!(is_canonical(&text), "{}", String::from_utf8_lossy(&text));
            let long = |text: &[u8]| {
                serde_json::from_slice::<Value>(text).ok().and_then(|v| the_long_way(&v).ok()).is_some_and(|again| again == text)
            };
            for other in [serde_json::to_vec(&value).unwrap(), serde_json::to_vec_pretty(&value).unwrap()] {
                prop_assert_eq!(is_canonical(&other), long(&other));
            }
            let mut other = text;
            let at = at.index(other.len());
            other[at] = with;
            prop_assert_eq!(is_canonical(&other), long(&other), "{}", String::from_utf8_lossy(&other));
        }
    }

    #[test]
    fn what_is_almost_canonical_is_not() {
        for text in [
            r#"{"b":1,"a":2}"#,
            r#"{"a":1,"a":1}"#,
            r#"[1.0]"#,
            "[1e2]",
            "[-0]",
            "[0.00001e0]",
            r#"["\u0061"]"#,
            "[ 1]",
            "[1]\n",
            "1e400",
        ] {
            assert!(!is_canonical(text.as_bytes()), "{text}");
        }
        assert!(canonical(&f64::NAN).is_err());
        for with_none in [vec![Some(0.5), None, Some(f64::NAN)], vec![Some(f64::INFINITY)], vec![Some(f64::NAN), Some(1e300)]] {
            assert_eq!(canonical(&with_none).ok(), the_long_way(&with_none).ok(), "{with_none:?}");
            let in_table = std::collections::BTreeMap::from([("b", &with_none), ("a", &with_none)]);
            assert_eq!(canonical(&in_table).ok(), the_long_way(&in_table).ok(), "{with_none:?}");
        }
        assert_eq!(canonical(&None::<f64>).unwrap(), b"null");
        assert_eq!(canonical(&json!({"b": null, "a": {"d": 1, "c": 2}})).unwrap(), br#"{"a":{"c":2,"d":1},"b":null}"#);
        assert!(is_canonical(canonical(&json!({"a": [0.5, 1e-7, 12], "é": "\u{7f}"})).unwrap().as_slice()));
    }
}
