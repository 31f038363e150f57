//! The files of parameters that a manifest names: read, named, and kept apart from everything else.

use std::path::Path;

use textum_base::{ProjectPath, is_within, overlap};

use super::check::Checked;
use super::document::{Document, Step};
use super::{Diagnostic, ManifestForm, Params, StageDecl, selects};
use crate::config::param_file::{ParamFile, ParamFileError};
use crate::fsio::TreeDir;

/// Reads the files that the form names, beside the manifest, and gives their leaves to the parameters.
pub(super) fn read(
    form: &ManifestForm,
    params: &mut Params,
    document: &Document<'_>,
    folder: &Path,
) -> (Vec<ParamFile>, Vec<Diagnostic>) {
    let (mut files, mut mistakes): (Vec<ParamFile>, Vec<Diagnostic>) = Default::default();
    for (i, text) in form.project.param_files.iter().enumerate() {
        let span = document.place(&[Step::Key("project"), Step::Key("param_files"), Step::At(i)]);
        let mut wrong = |title: String, label: &str, help: String| {
            mistakes.push(Diagnostic::new(span.clone(), title, label, help));
        };
        let path = match ProjectPath::tidied(text) {
            Ok(path) => path,
            Err(fault) => {
                let (label, help) = super::paths::advice(fault, false);
                wrong(format!("the path `{text}` {label}"), "this path", help.to_string());
                continue;
            }
        };
        if files.iter().any(|f| f.path == path) {
            wrong(format!("`{path}` is named twice"), "again", "name each file once".into());
            continue;
        }
        match TreeDir::open(folder).map_err(ParamFileError::from).and_then(|tree| ParamFile::read(&tree, &path)) {
            Ok(file) => match clash(params, &file) {
                Some((mine, theirs)) => {
                    let title = format!("the parameter `{mine}` of `{path}` clashes with `{theirs}`, which is there already");
                    let help = "give one of them another name: a file's parameters begin with the name of the file".to_string();
                    wrong(title, "this file", help);
                }
                None => {
                    file.leaves.iter().for_each(|(name, value)| params.put(name, value.clone()));
                    files.push(file);
                }
            },
            Err(ParamFileError::Io(e)) if e.is_not_found() => {
                wrong(
                    format!("the file of parameters `{path}` does not exist"),
                    "no such file",
                    "put it there, or correct the path".into(),
                );
            }
            Err(e) => wrong(e.to_string(), "this file", advice(&e).to_string()),
        }
    }
    (files, mistakes)
}

fn advice(error: &ParamFileError) -> &'static str {
    match error {
        ParamFileError::Io(_) => "it must be a regular file of the project that can be read",
        ParamFileError::Format(_) => "name a file that ends in .yaml, .yml, .toml or .json",
        _ => "let it hold names with values, tables in tables where you like, as scripts read it",
    }
}

/// A leaf of a file that has the name of one that is there already, or of a table of such.
fn clash<'p>(params: &'p Params, file: &'p ParamFile) -> Option<(&'p str, &'p str)> {
    file.leaves.keys().find_map(|name| {
        let other = params.iter().map(|(other, _)| other).find(|other| selects(other, name) || selects(name, other))?;
        Some((name.as_str(), other))
    })
}

/// What counts of such a file is what stages name of it: nothing else may take it in, or write it.
pub(super) fn kept_apart(files: &[ParamFile], checked: &Checked, document: &Document<'_>) -> Vec<Diagnostic> {
    let mut mistakes = Vec::new();
    for file in files {
        let path = &file.path;
        for stage in &checked.stages {
            let Some((title, help)) = misused(path, stage) else { continue };
            mistakes.push(Diagnostic::new(document.key_place(&["stage", &stage.name]), title, "this stage", help));
        }
        for data in checked.data.iter().filter(|d| overlap(&d.path, path)) {
            let span = document.place(&[Step::Key("data"), Step::Key(&data.name), Step::Key("path")]);
            let title = format!("the dataset `{}` holds the file of parameters `{path}`", data.name);
            mistakes.push(Diagnostic::new(span, title, "this path", "a file is a dataset or holds parameters, not both"));
        }
        for (i, _) in checked.environment.files.iter().enumerate().filter(|(_, f)| overlap(f, path)) {
            let span = document.place(&[Step::Key("environment"), Step::Key("files"), Step::At(i)]);
            let title = format!("the file of parameters `{path}` would count whole for every stage");
            mistakes.push(Diagnostic::new(span, title, "this file", "take it out: stages name the parameters that they use"));
        }
    }
    mistakes
}

fn misused(path: &ProjectPath, stage: &StageDecl) -> Option<(String, String)> {
    let name = &stage.name;
    if let Some(read) = stage.reads.iter().find(|r| is_within(path, r)) {
        let lies = if *path == **read { String::new() } else { format!(", in which `{path}` lies") };
        let title = format!("the stage `{name}` reads `{read}`{lies}: a file of parameters");
        let rest = if lies.is_empty() { "" } else { ", and name the other files one by one" };
        return Some((title, format!("take it out of `reads`: name the parameters that it uses in `params`{rest}")));
    }
    let written = stage.outputs().chain(&stage.checkpoints).find(|o| overlap(o, path))?;
    let help = "write to another path: only `textum restore RUN --params` writes a file of parameters";
    Some((format!("the stage `{name}` writes `{written}`, where the file of parameters `{path}` is"), help.to_string()))
}
