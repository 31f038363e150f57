//! Sealed stages: what one may read, write and connect to, and the sandbox that it works in when the rest of the run
//! works in the tree.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use textum_base::SourcePath;
use textum_observe::Seal;

use super::ExecError;
use super::active_run::ActiveRun;
use super::scheduler::Common;
use crate::config::graph::StageIndex;
use crate::config::manifest::folder_name;
use crate::fsio::TreeDir;
use crate::pipeline::plan::Decision;
use crate::project::fingerprint::{Scanner, Standstill};
use crate::project::observed::seal_of;
use crate::project::sandbox::link_reference;
use crate::project::tree::{Staged, write_new};
use crate::record::receipt::{PathContent, Read, StorageMode};

impl ActiveRun<'_> {
    /// Whether a stage is sealed: by its own word, or because all are.
    pub(super) fn is_sealed(&self, stage: StageIndex) -> bool {
        self.plan_context.is_sealed(&self.project.manifest.stages[stage])
    }

    /// Whether what a stage reads is sent to where it executes: nothing there is the project's.
    pub(super) fn is_sent(&self, stage: StageIndex) -> bool {
        self.plan_context.is_sent(&self.project.manifest.stages[stage])
    }

    /// So often a stage is tried again when its place has lost it.
    pub(super) fn retries_of(&self, stage: StageIndex) -> u32 {
        let place = self.options.place_of(&self.project.manifest.stages[stage], stage);
        self.project.manifest.places.iter().find(|p| Some(&p.name) == place.as_ref()).map_or(0, |p| p.retries)
    }

    /// Why a stage cannot be sent to where it is to execute, if it cannot.
    pub(super) fn cannot_be_sent(&self, stage: StageIndex) -> Option<String> {
        if !self.is_sent(stage) {
            return None;
        }
        let decl = &self.project.manifest.stages[stage];
        let linked = decl.reads.iter().find(|r| self.project.scanner.is_reference(r))?;
        Some(format!("it reads {linked}, which is held by reference, and the place where it is to execute shares no folder"))
    }

    /// Whether a stage works in a sandbox though the run works in the tree.
    pub(super) fn is_sealed_off(&self, stage: StageIndex) -> bool {
        self.apart.is_none() && (self.is_sealed(stage) || self.is_sent(stage))
    }

    fn sealed_folder(&self, stage: StageIndex) -> PathBuf {
        self.project.workspace.sandboxes_folder().join(&self.draft.run).join(folder_name(self.project.graph.name(stage)))
    }

    /// The sandbox of a sealed stage, with all that it reads in it; and how that stands.
    pub(super) fn seal_off(
        &self,
        decision: &Decision,
        param_files: &[Read],
        common: &mut Common<'_>,
    ) -> Result<(Arc<Scanner>, BTreeMap<SourcePath, Standstill>), ExecError> {
        // Only what is published can be put in place.
        common.publish()?;
        let root = self.sealed_folder(decision.index);
        crate::fsio::remove_any(&root)?;
        let tree = TreeDir::create(&root)?;
        for (path, content) in decision.reads.iter().chain(param_files.iter().map(|r| (&r.at.path, &r.at.content))) {
            if self.project.hold_of(path) == StorageMode::Reference {
                link_reference(self.project.workspace.root(), path, &tree)?;
                continue;
            }
            let Some(path) = path.in_project() else { continue };
            if tree.standing(&path)?.is_none() {
                write_new(&self.project.store, content, &tree, &path)?;
            }
        }
        let references = self.project.scanner.references().to_vec();
        let scanner = Arc::new(Scanner::open(&root, None).with_references(references));
        let mut standing = BTreeMap::new();
        for path in decision.reads.keys().chain(param_files.iter().map(|r| &r.at.path)) {
            standing.extend(Standstill::look(&root, path)?.map(|found| (path.clone(), found)));
        }
        Ok((scanner, standing))
    }

    /// What a stage may do in the folder that it works in.
    pub(super) fn seal(&self, stage: StageIndex, root: &Path, folder: &Path) -> Option<Seal> {
        self.is_sealed(stage).then(|| {
            let declared = self.project.manifest.stages[stage].reads.iter().filter(|r| self.project.scanner.is_reference(r));
            let references = declared.map(|r| self.project.workspace.root().join(&**r));
            seal_of(root, folder, references, self.plan_context.environment.executable(), &self.project.variables)
        })
    }

    /// Puts what a sealed stage brought forth into the tree, and takes its sandbox away.
    pub(super) fn bring_in(&self, stage: StageIndex, outputs: &[PathContent], common: &mut Common<'_>) -> Result<(), ExecError> {
        if !outputs.is_empty() {
            common.publish()?;
            let cleaner = self.cleaner();
            let mut staged = Staged::new(&cleaner);
            for output in outputs {
                staged.add(&output.path, &output.content)?;
            }
            staged.apply()?;
        }
        crate::fsio::remove_any(&self.sealed_folder(stage))?;
        // The run's folder of sandboxes goes with the last of them.
        let _ = rustix::fs::rmdir(self.project.workspace.sandboxes_folder().join(&self.draft.run));
        Ok(())
    }
}
