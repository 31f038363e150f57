//! Whether a stage can be sealed when it is rebuilt, though it was not when it was recorded.

use std::path::{Path, PathBuf};

use super::RebuildError;
use super::stages::Rebuilder;
use crate::pipeline::exec::Seal;
use crate::project::observed::{Places, can_seal, seal_of};
use crate::record::receipt::{Observed, ObservedHow, ObservedInputs, ObservedKind, StageReceipt, StorageMode};

/// How a stage is executed when it is rebuilt.
pub(super) enum Sealing {
    /// Sealed: nothing but what is recorded can be read.
    Sealed(Seal),
    /// Textum does it itself, and reads what it declares.
    NotNeeded,
    /// Not sealed, for this reason.
    Open(String),
}

impl Rebuilder<'_> {
    /// What a stage may do when it is rebuilt in `root`. One that was sealed can do with what is recorded; of others
    /// their observed inputs tell.
    pub(super) fn sealing(&self, receipt: &StageReceipt, root: &Path, folder: &Path) -> Result<Sealing, RebuildError> {
        if receipt.inputs.run.is_own() {
            return Ok(Sealing::NotNeeded);
        }
        let open = |why: &str| Ok(Sealing::Open(why.to_string()));
        let (Some(environment), true, true) = (&self.environment, self.observer.is_some(), can_seal()) else {
            return open("this system has no means for it");
        };
        let references = receipt.reads.iter().filter(|r| r.hold == StorageMode::Reference);
        let references = references.map(|r| self.project.workspace.root().join(&*r.at.path));
        let seal = seal_of(root, folder, references, environment.executable(), &self.project.variables);
        match &receipt.observed {
            Some(observed) if observed.sealed => return Ok(Sealing::Sealed(seal)),
            // What it did that could not be followed no seal allows.
            Some(Observed { how: ObservedHow::Part, because, .. }) => {
                return open(&format!("it was not wholly observed: {}", because.as_deref().unwrap_or_default()));
            }
            Some(observed) if matches!(observed.how, ObservedHow::Yes | ObservedHow::Away) => {
                let Some(inputs) = observed.inputs else { return open("what it read is not recorded") };
                let inputs = ObservedInputs::load(&self.project.store, &inputs)?;
                if let Some(why) = self.beyond(&inputs, &seal)? {
                    return Ok(Sealing::Open(why));
                }
            }
            _ => return open("it was not observed when it was recorded"),
        }
        Ok(Sealing::Sealed(seal))
    }

    /// What a stage did beyond what a seal allows, if it did.
    fn beyond(&self, inputs: &ObservedInputs, seal: &Seal) -> Result<Option<String>, RebuildError> {
        if let Some(address) = inputs.network.first() {
            return Ok(Some(format!("it connected to {address}")));
        }
        if let Some(channel) = inputs.channels.first() {
            return Ok(Some(format!("it may have received data from {} {}", channel.kind.word(), channel.name)));
        }
        if let Some((path, _)) = inputs.kept.iter().find(|(_, state)| state.existed) {
            return Ok(Some(format!("it read and changed {path}, whose content before is not kept")));
        }
        // In a sandbox it may write what it likes.
        if let Some(path) = inputs.changed.iter().chain(&inputs.state).find(|path| path.starts_with(['/', '~'])) {
            return Ok(Some(format!("it changed {path}, outside the project")));
        }
        if let Some(what) = inputs.unseen.first() {
            return Ok(Some(what.clone()));
        }
        let places = Places::new(self.project.workspace.root(), &self.project.variables);
        let allowed: Vec<PathBuf> = seal.read.iter().map(|path| textum_observe::from_text(path)).collect();
        let is_allowed = |name: &str| {
            let path = places.path(name);
            allowed.iter().any(|folder| path.starts_with(folder))
        };
        let is_outside = |name: &str| name.starts_with(['/', '~']) && !is_allowed(name);
        for group in inputs.groups.iter().filter(|g| g.kind != ObservedKind::Project) {
            let files = group.load_files(&self.project.store)?;
            // What lies in the home folder is not found by a stage that has an empty one.
            let is_beyond = |name: &str| (group.kind == ObservedKind::Elsewhere && name.starts_with('~')) || is_outside(name);
            if let Some(file) = files.iter().find(|f| is_beyond(&f.path)) {
                return Ok(Some(format!("it read {}, outside the project", file.path)));
            }
        }
        let listed = inputs.listed.iter().find(|folder| is_outside(&folder.path));
        Ok(listed.map(|folder| format!("it listed {}, outside the project", folder.path)))
    }
}
