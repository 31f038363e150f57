//! From a declared stage and what stands at its reads to the inputs whose digest is its key.

use std::collections::BTreeMap;
use std::path::Path;

use super::environment::EnvironmentNow;
use super::notebook;
use crate::config::manifest::{Params, StageDecl, selects, substitute};
use crate::record::receipt::{
    BranchedFrom, Content, ContentKind, DocumentError, INPUTS, Inputs, ReadInput, ReadKind, StartFrom, canonical,
};
use crate::store::Digest;
use textum_base::SourcePath;

/// What stands at one of a stage's reads: its content, and how it counts.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Resolved {
    /// The content.
    pub content: Content,
    /// How it decides the result.
    pub input: ReadInput,
}

fn read_kind(kind: ContentKind) -> ReadKind {
    match kind {
        ContentKind::File => ReadKind::File,
        ContentKind::Exec => ReadKind::Exec,
        ContentKind::Folder => ReadKind::Folder,
    }
}

/// How a content counts when it is read: a notebook by its code, anything else as it is.
pub fn read_input(path: &str, content: &Content, file: &Path) -> ReadInput {
    let kind = read_kind(content.kind);
    if path.ends_with(".ipynb")
        && kind != ReadKind::Folder
        && let Some(input) = std::fs::read(file).ok().and_then(|bytes| notebook_input(&bytes))
    {
        return input;
    }
    ReadInput { kind, digest: content.digest }
}

/// How a notebook with these bytes counts; `None` when it is none.
pub fn notebook_input(bytes: &[u8]) -> Option<ReadInput> {
    notebook::code_digest(bytes).map(|digest| ReadInput { kind: ReadKind::Notebook, digest })
}

/// The inputs of a stage, given what stands at all its reads (the environment's files among them), and the
/// checkpoint that it goes on from if it does.
pub fn inputs_of(
    stage: &StageDecl,
    params: &Params,
    reads: BTreeMap<SourcePath, ReadInput>,
    environment: &EnvironmentNow,
    from: Option<&BranchedFrom>,
) -> Result<Inputs, DocumentError> {
    let used = stage.params.iter().flat_map(|selector| params.select(selector));
    // What it is one of counts like a parameter, and is told to it like one.
    let each = || stage.each.iter().flat_map(|each| each.params());
    let mut writes = stage.writes.clone();
    // Sorted as they are written in the document, which the key depends on.
    writes.sort_by_key(ToString::to_string);
    let mut metrics = stage.metrics.clone();
    metrics.sort();
    let seen = environment.interpreter.as_ref().filter(|_| stage.observe);
    let counted = seen.or(environment.counted.as_ref()).filter(|_| !stage.no_environment);
    Ok(Inputs {
        r#type: INPUTS.to_string(),
        stage: stage.name.clone(),
        run: substitute(&stage.run, |name| match stage.each.as_ref().and_then(|each| each.param(name)) {
            Some(value) => Some(value),
            None => params.get(name).filter(|_| stage.params.iter().any(|s| selects(s, name))),
        }),
        params: used.map(|(n, v)| (n.to_string(), v)).chain(each()).map(|(n, v)| (n, v.to_string())).collect(),
        reads,
        writes,
        metrics,
        checkpoints: stage.checkpoints.clone(),
        from: from.map(|f| StartFrom { step: f.step, kind: read_kind(f.content.kind), digest: f.content.digest }),
        vars: environment.variables.clone(),
        environment: counted.map(|c| canonical(c).map(|bytes| Digest::of(&bytes))).transpose()?,
    })
}
