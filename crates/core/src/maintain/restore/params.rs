//! The parameters of a run, written back to where a person keeps them: the manifest and its files of parameters.

use std::collections::BTreeMap;

use serde_json::Value;
use textum_base::ProjectPath;

use crate::config::manifest::{LoadError, Manifest, WriteParamsError, write_params};
use crate::config::param_file::ParamFileError;
use crate::fsio::{self, IoError};
use crate::project::workspace::Project;

/// What came of writing parameters back.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct WrittenParams {
    /// Parameters whose value changed: name, from, to, as JSON text.
    pub changed: Vec<(String, String, String)>,
    /// Parameters that the project does not have any more, or whose file has no place for another value.
    pub absent: Vec<String>,
    /// The files that were written.
    pub files: Vec<ProjectPath>,
}

/// Why parameters could not be written back.
#[derive(Debug, thiserror::Error)]
pub enum ParamsError {
    /// The manifest is no TOML.
    #[error(transparent)]
    Manifest(#[from] WriteParamsError),
    /// What was written is not read as what was meant.
    #[error(transparent)]
    Load(#[from] LoadError),
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
}

/// Writes parameters, JSON texts by name, to where they stand; comments and layout stay. All new texts are made
/// before the first is written.
pub fn restore_params(project: &Project, params: &BTreeMap<String, String>) -> Result<WrittenParams, ParamsError> {
    let manifest = &project.manifest;
    let mut own = params.clone();
    let mut written = WrittenParams::default();
    let mut texts = Vec::new();
    for file in &manifest.param_files {
        let wanted: BTreeMap<&str, Value> =
            params.iter().filter(|(n, _)| file.leaves.contains_key(*n)).map(|(n, text)| (n.as_str(), value_of(text))).collect();
        own.retain(|name, _| !wanted.contains_key(name.as_str()));
        let mut new = file.clone();
        for (name, value) in &wanted {
            match new.with(&[(*name, value)].into()) {
                Ok(with) => new = with,
                Err(ParamFileError::NoPlace { .. }) => {
                    written.absent.push(name.to_string());
                    continue;
                }
                Err(other) => {
                    return Err(ParamsError::Io(IoError::of("change", &project.workspace.root().join(&file.path))(
                        std::io::Error::other(other),
                    )));
                }
            }
            let before = file.leaves.get(*name).map(Value::to_string).unwrap_or_default();
            if before != params[*name] {
                written.changed.push((name.to_string(), before, params[*name].clone()));
            }
        }
        if new.text != file.text {
            texts.push((file.path.clone(), new.text));
        }
    }
    let in_manifest = write_params(&manifest.text, &own)?;
    written.absent.extend(in_manifest.absent);
    if !in_manifest.changed.is_empty() {
        fsio::write_atomic(&manifest.path, in_manifest.text.as_bytes())?;
        written.changed.extend(in_manifest.changed);
    }
    for (path, text) in texts {
        fsio::write_atomic(&project.workspace.root().join(&path), text.as_bytes())?;
        written.files.push(path);
    }
    if !written.changed.is_empty() {
        Manifest::load(&manifest.path)?;
    }
    written.changed.sort();
    Ok(written)
}

fn value_of(text: &str) -> Value {
    serde_json::from_str(text).unwrap_or_else(|_| Value::from(text))
}
