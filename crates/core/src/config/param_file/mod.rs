//! Parameters that lie in files of the project, for scripts that read their own: what is in such a file by
//! name, and the file's text with other values, comments and layout as they were.

mod json;
mod toml_text;
mod yaml;

use std::collections::BTreeMap;
use std::io::Read;
use std::ops::Range;

use serde_json::Value;
use textum_base::ProjectPath;

use crate::fsio::{IoError, TreeDir};

pub(crate) use toml_text::set_value;

/// A file of parameters is at most so large. In bytes.
const LARGEST: u64 = 1 << 20;

/// A file of parameters, read.
#[derive(Clone, Debug, PartialEq)]
pub struct ParamFile {
    /// Its path.
    pub path: ProjectPath,
    /// Its text.
    pub text: String,
    /// Its leaves, by their full names: the file's name without its ending, then the keys, with dots between.
    pub leaves: BTreeMap<String, Value>,
    format: Format,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Format {
    Yaml,
    Toml,
    Json,
}

/// Why a file of parameters cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum ParamFileError {
    /// It could not be read.
    #[error(transparent)]
    Io(#[from] IoError),
    /// Its name does not say what it is.
    #[error("`{0}` is neither YAML, TOML nor JSON by its name")]
    Format(ProjectPath),
    /// It is too large to be one.
    #[error("`{0}` is larger than 1 MiB")]
    TooLarge(ProjectPath),
    /// Its text is not what its name says, or holds what no parameter can be.
    #[error("`{path}` cannot be understood: {reason}")]
    Malformed {
        /// The file.
        path: ProjectPath,
        /// Why.
        reason: String,
    },
    /// A value in it has no place of its own that could be written to.
    #[error("`{name}` cannot be given another value in `{path}`")]
    NoPlace {
        /// The file.
        path: ProjectPath,
        /// The parameter.
        name: String,
    },
}

impl ParamFile {
    /// Reads a file of parameters of the project that `tree` is.
    pub fn read(tree: &TreeDir, path: &ProjectPath) -> Result<ParamFile, ParamFileError> {
        let mut bytes = Vec::new();
        let file = tree.open_file(path)?;
        file.take(LARGEST + 1).read_to_end(&mut bytes).map_err(IoError::of("read", &tree.full(path)))?;
        if bytes.len() as u64 > LARGEST {
            return Err(ParamFileError::TooLarge(path.clone()));
        }
        let malformed = |reason: String| ParamFileError::Malformed { path: path.clone(), reason };
        let text = String::from_utf8(bytes).map_err(|e| malformed(format!("it is not UTF-8 text ({})", e.utf8_error())))?;
        ParamFile::of_text(path, text)
    }

    /// The file of this path if it had this text.
    pub fn of_text(path: &ProjectPath, text: String) -> Result<ParamFile, ParamFileError> {
        let name = path.rsplit('/').next().unwrap_or(path);
        let Some((stem, ending)) = name.rsplit_once('.').filter(|(stem, _)| !stem.is_empty()) else {
            return Err(ParamFileError::Format(path.clone()));
        };
        let format = match ending {
            "yaml" | "yml" => Format::Yaml,
            "toml" => Format::Toml,
            "json" => Format::Json,
            _ => return Err(ParamFileError::Format(path.clone())),
        };
        let root = match format {
            Format::Yaml => yaml::read(&text),
            Format::Toml => toml_text::read(&text),
            Format::Json => json::read(&text),
        };
        let mut leaves = BTreeMap::new();
        let taken = root.and_then(|root| match root {
            Value::Object(_) => take_leaves(stem, &root, &mut leaves),
            Value::Null => Ok(()),
            _ => Err("it holds no names with values".to_string()),
        });
        taken.map_err(|reason| ParamFileError::Malformed { path: path.clone(), reason })?;
        Ok(ParamFile { path: path.clone(), text, leaves, format })
    }

    /// The same file with other values of some of its leaves. Everything else in it stays, to the byte.
    pub fn with(&self, values: &BTreeMap<&str, &Value>) -> Result<ParamFile, ParamFileError> {
        let differing = values.iter().filter(|(name, value)| self.leaves.get(**name) != Some(**value));
        let differing: BTreeMap<&str, &Value> = differing.map(|(n, v)| (*n, *v)).collect();
        if differing.is_empty() {
            return Ok(self.clone());
        }
        let prefix = self.prefix();
        let text = match self.format {
            Format::Toml => toml_text::write(&self.text, prefix, &differing),
            Format::Json => replaced(&self.text, &json::places(&self.text, prefix), &differing, json::text_of),
            Format::Yaml => replaced(&self.text, &yaml::places(&self.text, prefix), &differing, yaml::text_of),
        };
        let no_place = |name: &str| ParamFileError::NoPlace { path: self.path.clone(), name: name.to_string() };
        let text = text.map_err(|name| no_place(&name))?;
        // What was written must be read as what was meant, and nothing else may have changed with it.
        let mut meant = self.leaves.clone();
        meant.extend(differing.iter().map(|(n, v)| (n.to_string(), (*v).clone())));
        match ParamFile::of_text(&self.path, text) {
            Ok(written) if written.leaves == meant => Ok(written),
            _ => Err(no_place(differing.keys().next().copied().unwrap_or_default())),
        }
    }

    /// What its leaves' names begin with.
    fn prefix(&self) -> &str {
        let name = self.path.rsplit('/').next().unwrap_or(&self.path);
        name.rsplit_once('.').map_or(name, |(stem, _)| stem)
    }
}

/// The name of what lies under a key of a table.
fn below(prefix: &str, key: &str) -> String {
    format!("{prefix}.{key}")
}

fn take_leaves(name: &str, value: &Value, leaves: &mut BTreeMap<String, Value>) -> Result<(), String> {
    match value {
        Value::Object(table) => table.iter().try_for_each(|(key, value)| take_leaves(&below(name, key), value, leaves)),
        leaf => match leaves.insert(name.to_string(), leaf.clone()) {
            None => Ok(()),
            Some(_) => Err(format!("`{name}` is in it twice")),
        },
    }
}

/// A text with some of its values replaced where they stand; or the name of one that has no such place.
fn replaced(
    text: &str,
    places: &BTreeMap<String, Range<usize>>,
    values: &BTreeMap<&str, &Value>,
    text_of: impl Fn(&str, &Value) -> Option<String>,
) -> Result<String, String> {
    let mut edits = Vec::new();
    for (name, value) in values {
        let place = places.get(*name).filter(|p| text.get(p.start..p.end).is_some());
        let new = place.and_then(|p| text_of(&text[p.clone()], value));
        let (Some(place), Some(new)) = (place, new) else { return Err(name.to_string()) };
        edits.push((place.clone(), new));
    }
    edits.sort_by_key(|(place, _)| std::cmp::Reverse(place.start));
    let mut text = text.to_string();
    for (place, new) in edits {
        text.replace_range(place, &new);
    }
    Ok(text)
}

#[cfg(test)]
mod tests;
