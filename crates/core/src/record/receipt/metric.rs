//! A metric's value: a number, which may be no finite one.

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// The value of a metric. JSON has no NaN and no infinities: those are written as the strings `"NaN"`,
/// `"Infinity"` and `"-Infinity"`.
#[derive(Clone, Copy, Debug)]
pub struct Metric(pub f64);

impl PartialEq for Metric {
    /// Two NaN are the same result.
    fn eq(&self, other: &Metric) -> bool {
        self.0 == other.0 || (self.0.is_nan() && other.0.is_nan())
    }
}

impl Serialize for Metric {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        if self.0.is_nan() {
            serializer.serialize_str("NaN")
        } else if self.0.is_infinite() {
            serializer.serialize_str(if self.0 > 0.0 { "Infinity" } else { "-Infinity" })
        } else {
            serializer.serialize_f64(self.0)
        }
    }
}

impl<'de> Deserialize<'de> for Metric {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Metric, D::Error> {
        #[derive(Deserialize)]
        #[serde(untagged)]
        enum Form {
            Number(f64),
            Word(String),
        }
        match Form::deserialize(deserializer)? {
            Form::Number(number) => Ok(Metric(number)),
            Form::Word(word) => match word.as_str() {
                "NaN" => Ok(Metric(f64::NAN)),
                "Infinity" => Ok(Metric(f64::INFINITY)),
                "-Infinity" => Ok(Metric(f64::NEG_INFINITY)),
                other => Err(serde::de::Error::custom(format!("`{other}` is no metric"))),
            },
        }
    }
}

impl std::fmt::Display for Metric {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}", self.0)
    }
}
