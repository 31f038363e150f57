//! Files of parameters, as a stage finds them: in the tree as they stand there, in a sandbox with the values of
//! the run. What counts of them is the parameters that the stage names.

use std::collections::BTreeMap;
use std::io::Write;

use textum_base::SourcePath;

use super::ExecError;
use super::active_run::ActiveRun;
use super::scheduler::Common;
use crate::config::manifest::{StageDecl, selects};
use crate::config::param_file::{ParamFile, ParamFileError};
use crate::fsio::{IoError, TreeDir};
use crate::project::fingerprint::{Scanner, Standstill};
use crate::project::workspace::Project;
use crate::record::receipt::{Content, PathContent, Read, StorageMode};

/// The files that hold parameters which a stage names.
pub(super) fn used<'p>(project: &'p Project, decl: &'p StageDecl) -> impl Iterator<Item = &'p ParamFile> {
    let uses = |file: &&ParamFile| file.leaves.keys().any(|leaf| decl.params.iter().any(|s| selects(s, leaf)));
    project.manifest.param_files.iter().filter(uses)
}

/// A file with the parameters that this run gives it.
fn with_settings(project: &Project, file: &ParamFile) -> Result<ParamFile, ParamFileError> {
    let set = project.set.iter().map(String::as_str).filter(|name| file.leaves.contains_key(*name));
    let values: BTreeMap<_, _> = set.filter_map(|name| project.params.get(name).map(|value| (name, value))).collect();
    file.with(&values)
}

/// The files of parameters that this run gives other values, so that its stages cannot work in the tree, whose
/// files nobody but a person changes. What cannot be written is told before anything is done.
pub(super) fn changed_files(project: &Project) -> Result<Vec<String>, ParamFileError> {
    let mut changed = Vec::new();
    for file in &project.manifest.param_files {
        if with_settings(project, file)?.text != file.text {
            changed.push(file.path.to_string());
        }
    }
    Ok(changed)
}

/// The texts of all files of parameters, as this run gives them.
pub(super) fn texts(project: &Project) -> Result<Vec<String>, ParamFileError> {
    project.manifest.param_files.iter().map(|file| Ok(with_settings(project, file)?.text)).collect()
}

/// The files as a stage finds them, for its receipt, and how they stood.
pub(super) type Found = (Vec<Read>, BTreeMap<SourcePath, Standstill>);

impl ActiveRun<'_> {
    /// Takes the files of parameters that a stage uses into the store, as it will find them; puts them in place
    /// in a sandbox. Gives why the stage cannot begin where one is no longer what the run began with.
    pub(super) fn take_in_param_files(
        &self,
        decl: &StageDecl,
        scanner: &Scanner,
        common: &Common<'_>,
    ) -> Result<Result<Found, String>, ExecError> {
        let (mut reads, mut standing) = Found::default();
        for file in used(self.project, decl) {
            let path = SourcePath::from(&file.path);
            let content = match self.apart {
                Some(_) => {
                    // Who may read a person's file may read its copy, and nobody else.
                    let private = self.project.scanner.look(&path)?.is_some_and(|c| c.private.covers(""));
                    let content = put(&with_settings(self.project, file)?, private, scanner, common)?;
                    standing.extend(Standstill::look(scanner.root(), &path)?.map(|found| (path.clone(), found)));
                    content
                }
                None => {
                    // First how it stands, then what it holds: what changes between the two is seen at the end.
                    standing.extend(Standstill::look_trusted(scanner.root(), &path)?.map(|found| (path.clone(), found)));
                    match self.in_tree(decl, file, scanner, common)? {
                        Ok(content) => content,
                        Err(why) => return Ok(Err(why)),
                    }
                }
            };
            let at = PathContent { path, content };
            let (by, hold) = (Vec::new(), StorageMode::Store);
            reads.push(Read { at, by, dataset: None, published: None, for_all: false, params: true, hold });
        }
        Ok(Ok((reads, standing)))
    }

    fn in_tree(
        &self,
        decl: &StageDecl,
        file: &ParamFile,
        scanner: &Scanner,
        common: &Common<'_>,
    ) -> Result<Result<Content, String>, ExecError> {
        let changed = |what: String| Ok(Err(format!("{what} since the run began: run again")));
        let path = SourcePath::from(&file.path);
        let now = match ParamFile::read(&self.tree, &file.path) {
            Ok(now) => now,
            Err(ParamFileError::Io(e)) if !e.is_not_found() => return Ok(Err(e.to_string())),
            Err(_) => {
                return changed(format!("{}, which holds parameters of it, has gone or cannot be understood any more", file.path));
            }
        };
        let counts = |leaf: &&String| decl.params.iter().any(|s| selects(s, leaf));
        let counted =
            |file: &ParamFile| file.leaves.iter().filter(|(n, _)| counts(n)).map(|(n, v)| (n.clone(), v.clone())).collect();
        let (then, now): (BTreeMap<_, _>, BTreeMap<_, _>) = (counted(file), counted(&now));
        if then != now {
            return changed(format!("parameters of it in {} have been changed", file.path));
        }
        match scanner.record(&path, common.writer)? {
            Some(content) => Ok(Ok(content)),
            None => changed(format!("{}, which holds parameters of it, has gone", file.path)),
        }
    }
}

/// Writes a file into a sandbox and the store.
fn put(file: &ParamFile, private: bool, scanner: &Scanner, common: &Common<'_>) -> Result<Content, ExecError> {
    let stored = common.writer.put_bytes(file.text.as_bytes())?;
    let tree = TreeDir::open(scanner.root())?;
    tree.create_parent(&file.path)?;
    let mut out = tree.create_file(&file.path, if private { 0o600 } else { 0o666 })?;
    out.write_all(file.text.as_bytes()).map_err(IoError::of("write", &tree.full(&file.path)))?;
    Ok(Content { private: private.into(), ..Content::file(stored.digest, stored.size) })
}
