//! How a table is written, where that cannot be told from its name and its first lines.

use encoding_rs::Encoding;
use serde::{Deserialize, Deserializer, Serialize, Serializer};

use super::source::TableFormat;

/// What parts the fields of a line.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Delimiter {
    /// This byte.
    Byte(u8),
    /// Any number of blanks and tabs. Nothing is quoted then.
    Blanks,
}

/// The mark around fields that hold a delimiter.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Quote {
    /// There is none.
    Nothing,
    /// This byte.
    Byte(u8),
}

/// How a table is written, as far as somebody has said it; the rest is guessed.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(default)]
pub struct Dialect {
    /// The format, whatever the name says.
    pub format: Option<TableFormat>,
    /// What parts fields.
    pub delimiter: Option<Delimiter>,
    /// Whether the first line names the columns.
    pub header: Option<bool>,
    /// The mark around fields.
    pub quote: Option<Quote>,
    /// Words that stand for a missing cell, beside those that everybody knows.
    pub null: Vec<String>,
    /// The encoding of its text.
    #[serde(serialize_with = "named", deserialize_with = "by_name")]
    pub encoding: Option<&'static Encoding>,
}

fn named<S: Serializer>(encoding: &Option<&'static Encoding>, to: S) -> Result<S::Ok, S::Error> {
    encoding.map(Encoding::name).serialize(to)
}

fn by_name<'d, D: Deserializer<'d>>(from: D) -> Result<Option<&'static Encoding>, D::Error> {
    let name: Option<String> = Option::deserialize(from)?;
    let unknown = |name: &str| serde::de::Error::custom(format!("there is no encoding {name:?}"));
    name.map(|name| Encoding::for_label(name.as_bytes()).ok_or_else(|| unknown(&name))).transpose()
}

impl Dialect {
    /// The mark around fields, if there is one.
    pub(super) fn quote(&self) -> Option<u8> {
        match (self.quote, self.delimiter) {
            (Some(Quote::Byte(quote)), _) => Some(quote),
            (Some(Quote::Nothing), _) => None,
            (None, Some(Delimiter::Blanks)) => None,
            (None, _) => Some(b'"'),
        }
    }

    /// Whether its lines can be copied byte by byte, one by one.
    pub(crate) fn is_plain(&self) -> bool {
        self.encoding.is_none_or(Encoding::is_ascii_compatible)
    }
}

/// The encoding of this name, as the Encoding Standard of the WHATWG knows it: `utf-8`, `latin-1`, `utf-16le`, …
pub fn encoding_of(name: &str) -> Option<&'static Encoding> {
    match name.to_ascii_lowercase().as_str() {
        "latin-1" | "latin1" => Some(encoding_rs::WINDOWS_1252),
        "utf-16" | "utf16" => Some(encoding_rs::UTF_16LE),
        other => Encoding::for_label(other.as_bytes()),
    }
}
