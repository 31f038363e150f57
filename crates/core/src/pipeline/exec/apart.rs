//! Stages apart from the working tree: each in a sandbox of its own, that holds what it declares and nothing else.

use std::cell::RefCell;
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::rc::Rc;
use std::sync::Arc;

use textum_base::{ProjectPath, SourcePath, is_within, overlap};

use super::ExecError;
use super::outcome::SettledStage;
use crate::config::graph::StageIndex;
use crate::config::manifest::folder_name;
use crate::fsio::TreeDir;
use crate::project::fingerprint::Scanner;
use crate::project::sandbox::{Pool, link_reference};
use crate::project::tree::write_new;
use crate::project::workspace::Project;
use crate::record::receipt::part_of_folder;
use crate::record::receipt::{Content, PathContent};

/// The folder of the stages' sandboxes in that of a run.
const STAGES: &str = ".stages";

/// What the sandboxes of a run are made of.
pub(super) struct Apart<'a> {
    project: &'a Project,
    /// The run's folder: its results, and in [`STAGES`] a sandbox for each of its stages.
    pub(super) folder: PathBuf,
    /// Everything that no stage writes, as it was taken in when the run began.
    pub(super) sources: Rc<BTreeMap<SourcePath, Content>>,
    pub(super) pool: &'a Pool,
    /// Whether other runs are carried out beside this one, which may want the same contents.
    of_many: bool,
    /// The sandboxes of the stages executed in this run: what they wrote is had from there.
    made: RefCell<BTreeMap<StageIndex, TreeDir>>,
}

impl<'a> Apart<'a> {
    /// Sandboxes for a run, out of these sources.
    pub(super) fn new(
        project: &'a Project,
        run: &str,
        sources: Rc<BTreeMap<SourcePath, Content>>,
        pool: &'a Pool,
        of_many: bool,
    ) -> Apart<'a> {
        let folder = project.workspace.sandboxes_folder().join(run);
        Apart { project, folder, sources, pool, of_many, made: RefCell::default() }
    }

    /// Whether a read is put into one sandbox only: then it need not be shared, and whoever touches it is the stage
    /// itself.
    pub(super) fn is_of_one(&self, path: &SourcePath) -> bool {
        let readers = self.project.manifest.stages.iter().filter(|s| s.reads.iter().any(|r| overlap(r, path)));
        let for_all = self.project.manifest.environment.files.iter().any(|f| overlap(f, path));
        !self.of_many && !for_all && readers.count() == 1 && self.project.graph.writers_of(path).is_empty()
    }

    fn put_source(&self, content: &Content, tree: &TreeDir, source: &SourcePath, path: &ProjectPath) -> Result<(), ExecError> {
        match self.is_of_one(source) {
            true => write_new(&self.project.store, content, tree, path)?,
            false => self.pool.put(&self.project.store, content, tree, path)?,
        }
        Ok(())
    }

    /// Puts a stage's results where a person looks for them: into the run's own folder.
    pub(super) fn show(&self, stage: StageIndex, outputs: &[PathContent]) -> Result<(), ExecError> {
        let results = TreeDir::create(&self.folder)?;
        for output in outputs {
            match self.made.borrow().get(&stage) {
                Some(made) => self.pool.share_tree(made, &output.path, &results)?,
                None => self.pool.put(&self.project.store, &output.content, &results, &output.path)?,
            }
        }
        Ok(())
    }

    /// Makes the sandbox of a stage and puts in it what the stage reads.
    pub(super) fn prepare(
        &self,
        stage: StageIndex,
        reads: &BTreeMap<SourcePath, Content>,
        done: &BTreeMap<StageIndex, SettledStage>,
    ) -> Result<(TreeDir, Arc<Scanner>), ExecError> {
        let root = self.folder.join(STAGES).join(folder_name(self.project.graph.name(stage)));
        // A stage that is tried again begins in an empty folder.
        crate::fsio::remove_any(&root)?;
        let tree = TreeDir::create(&root)?;
        for (path, content) in reads {
            self.put_read(&tree, path, content, done)?;
        }
        let scanner = Scanner::open(&root, None).with_references(self.project.scanner.references().to_vec());
        Ok((tree, Arc::new(scanner)))
    }

    fn put_read(
        &self,
        tree: &TreeDir,
        path: &SourcePath,
        content: &Content,
        done: &BTreeMap<StageIndex, SettledStage>,
    ) -> Result<(), ExecError> {
        let source = path;
        if self.project.scanner.is_reference(path) {
            return Ok(link_reference(self.project.workspace.root(), path, tree)?);
        }
        let Some(path) = path.in_project() else { return Ok(()) };
        let writers = self.project.graph.writers_of(&path);
        if writers.is_empty() {
            // A read may lie in another read: the folder is put first, and what it holds already stays.
            if tree.standing(&path)?.is_none() {
                self.put_source(content, tree, source, &path)?;
            }
            return Ok(());
        }
        for writer in writers {
            let Some(execution) = done.get(&writer).and_then(|d| d.execution.as_ref()) else { continue };
            for output in &execution.outputs {
                // The read is the output or a part of it; or the output is a part of the read.
                let wanted = match (is_within(&path, &output.path), is_within(&output.path, &path)) {
                    (true, _) => &path,
                    (false, true) => &output.path,
                    (false, false) => continue,
                };
                if tree.standing(wanted)?.is_some() {
                    continue;
                }
                match self.made.borrow().get(&writer) {
                    Some(made) => self.pool.share_tree(made, wanted, tree)?,
                    None if wanted == &output.path => self.pool.put(&self.project.store, &output.content, tree, wanted)?,
                    None => {
                        let below = &wanted[output.path.len() + 1..];
                        if let Some(part) = part_of_folder(&self.project.store, &output.content.digest, below)? {
                            crate::project::tree::write_part(&self.project.store, &output.content, below, &part, tree, wanted)?;
                        }
                    }
                }
            }
        }
        for (source, content) in self.sources.iter().filter(|(s, _)| is_within(s, &path)) {
            if let Some(source) = source.in_project().filter(|s| tree.standing(s).is_ok_and(|s| s.is_none())) {
                self.pool.put(&self.project.store, content, tree, &source)?;
            }
        }
        Ok(())
    }

    /// What a stage wrote stands in its sandbox from now on.
    pub(super) fn was_made(&self, stage: StageIndex, sandbox: TreeDir) {
        self.made.borrow_mut().insert(stage, sandbox);
    }

    /// A stage may have written into what it read: nobody else is to have it from there.
    pub(super) fn may_be_spoiled(&self, stage: StageIndex) {
        for writer in self.project.graph.upstream(stage) {
            self.made.borrow_mut().remove(writer);
        }
    }
}
