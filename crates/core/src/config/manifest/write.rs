//! Parameters written back into a manifest's text; everything else in it stays as it is, comments too.

use std::collections::BTreeMap;

use serde_json::Value;
use toml_edit::{DocumentMut, Item};

use crate::config::param_file::set_value;

/// Why parameters could not be written.
#[derive(Debug, thiserror::Error)]
pub enum WriteParamsError {
    /// The manifest is no TOML.
    #[error("the manifest cannot be read: {0}")]
    Malformed(String),
}

/// What came of writing parameters.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Written {
    /// The manifest's new text.
    pub text: String,
    /// Parameters whose value changed: name, from, to, as JSON text.
    pub changed: Vec<(String, String, String)>,
    /// Parameters that the manifest does not have.
    pub absent: Vec<String>,
}

/// Gives parameters other values in the text of a manifest. `params` are JSON texts by dotted name.
pub fn write_params(text: &str, params: &BTreeMap<String, String>) -> Result<Written, WriteParamsError> {
    let mut document: DocumentMut = text.parse().map_err(|e: toml_edit::TomlError| WriteParamsError::Malformed(e.to_string()))?;
    let mut written = Written::default();
    for (name, to) in params {
        let value: Value = serde_json::from_str(to).unwrap_or_else(|_| Value::from(to.as_str()));
        let params = document.get_mut("params").and_then(Item::as_table_like_mut);
        match params.and_then(|table| set_value(table, name, &value)) {
            None => written.absent.push(name.clone()),
            Some(before) if before == *to => {}
            Some(before) => written.changed.push((name.clone(), before, to.clone())),
        }
    }
    written.text = document.to_string();
    Ok(written)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_change_and_comments_stay() {
        let text =
            "[params] # all of them\nfit = { rounds = 40, rate = 0.2 } # inline\n[params.split]\nseed = 7 # why\n\"a.b\" = \"x\"\n";
        let params = [("fit.rate", "0.1"), ("fit.rounds", "40"), ("split.seed", "8"), ("split.a.b", "\"y\""), ("gone", "1")];
        let params = params.map(|(n, v)| (n.to_string(), v.to_string())).into();
        let written = write_params(text, &params).unwrap();
        let expected =
            "[params] # all of them\nfit = { rounds = 40, rate = 0.1 } # inline\n[params.split]\nseed = 8 # why\n\"a.b\" = \"y\"\n";
        assert_eq!(written.text, expected);
        let changed: Vec<&str> = written.changed.iter().map(|(n, _, _)| n.as_str()).collect();
        assert_eq!((changed, written.absent), (vec!["fit.rate", "split.a.b", "split.seed"], vec!["gone".to_string()]));
    }
}
