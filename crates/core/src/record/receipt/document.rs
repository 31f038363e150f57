//! What all documents have in common: a type, and a check of what they say that types cannot make.

use std::collections::BTreeMap;

use serde::Serialize;
use serde::de::DeserializeOwned;

use super::{
    CHECKPOINT_RECEIPT, COUNTED, CheckpointReceipt, CountedEnvironment, DATA_RECEIPT, DataReceipt, DatasetState, ENVIRONMENT,
    ERASE_RECEIPT, EnvironmentRecord, EraseReceipt, INPUTS, Inputs, KEPT, KeptEnvironment, LOSS_RECEIPT, LossReceipt, OBSERVED,
    ObservedInputs, PRUNE_RECEIPT, PUBLISH_RECEIPT, PruneReceipt, PublishReceipt, REBUILD_RECEIPT, REMARK_RECEIPT, RUN_RECEIPT,
    Read, RebuildReceipt, RemarkReceipt, RunReceipt, STAGE_RECEIPT, STAGE_START, StageReceipt, StageStart, StorageMode,
    TREE_RECEIPT, TreeReceipt,
};
use super::{Reference, Role};
use crate::config::manifest::is_stage_name;
use crate::store::Digest;
use textum_base::SourcePath;

/// A document of Textum's own. Everything that comes out of one has been checked: paths by their types, names
/// that become parts of paths by [`Document::check`].
pub trait Document: Serialize + DeserializeOwned {
    /// Its `type`, such as `textum/stage-receipt@1`.
    const TYPE: &'static str;

    /// The type that it says it has.
    fn said_type(&self) -> &str;

    /// What is wrong with it that its types cannot say.
    fn check(&self) -> Result<(), String>;

    /// Tells of everything in the store that it speaks of, but for other receipts.
    fn references<'d>(&'d self, _tell: &mut dyn FnMut(Reference<'d>)) {}
}

/// The type of a document, and where it says so itself.
macro_rules! typed {
    ($kind:expr) => {
        const TYPE: &'static str = $kind;
        fn said_type(&self) -> &str {
            &self.r#type
        }
    };
}

/// The name of a stage or dataset: it becomes part of paths.
fn name(kind: &str, text: &str) -> Result<(), String> {
    let plain = text.starts_with(|c: char| c.is_ascii_alphanumeric())
        && text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_'))
        && text.len() <= 200;
    let fine = if kind == "stage" { is_stage_name(text) } else { plain };
    if fine { Ok(()) } else { Err(format!("{text:?} cannot be the name of a {kind}")) }
}

/// Whether a text has the form of a run's id, such as `20261123-0542-7f3a`: it becomes part of paths.
pub fn is_run_id(text: &str) -> bool {
    let parts: Vec<&str> = text.split('-').collect();
    let digits = |part: &str, length: usize| part.len() == length && part.bytes().all(|b| b.is_ascii_digit());
    match parts[..] {
        [day, time, last] => {
            let hex = (1..=32).contains(&last.len()) && last.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b));
            digits(day, 8) && digits(time, 4) && hex
        }
        _ => false,
    }
}

fn run_id(text: &str) -> Result<(), String> {
    if is_run_id(text) { Ok(()) } else { Err(format!("{text:?} is not the id of a run")) }
}

/// A time that documents are sorted by.
fn time(text: &str) -> Result<(), String> {
    text.parse::<jiff::Timestamp>().map(drop).map_err(|e| format!("{text:?} is no time: {e}"))
}

/// Only a reference may lie outside the project.
fn held(path: &SourcePath, hold: StorageMode) -> Result<(), String> {
    match path.is_absolute() && hold != StorageMode::Reference {
        true => Err(format!("the path {:?} is refused: it is not relative to the project, and no reference", path.as_str())),
        false => Ok(()),
    }
}

fn datasets(all: &BTreeMap<String, DatasetState>) -> Result<(), String> {
    all.iter().try_for_each(|(dataset, state)| name("dataset", dataset).and_then(|()| held(&state.path, state.hold)))
}

fn reads(all: &[Read]) -> Result<(), String> {
    all.iter().try_for_each(|read| held(&read.at.path, read.hold))
}

impl Document for Inputs {
    typed!(INPUTS);
    fn check(&self) -> Result<(), String> {
        name("stage", &self.stage)
    }
}

impl Document for StageReceipt {
    typed!(STAGE_RECEIPT);
    fn check(&self) -> Result<(), String> {
        self.inputs.check()?;
        run_id(&self.run)?;
        time(&self.started)?;
        self.ordered.iter().try_for_each(|t| time(t))?;
        reads(&self.reads).and_then(|()| reads(&self.versions))
    }

    fn references<'d>(&'d self, tell: &mut dyn FnMut(Reference<'d>)) {
        tell(Reference::bytes(Role::Log, self.log.digest));
        if let Some(points) = self.signals.as_ref().and_then(|s| s.points.as_ref()) {
            tell(Reference::bytes(Role::Points, points.digest));
        }
        if let (Some(from), Some(path)) = (&self.from, &self.inputs.checkpoints) {
            tell(Reference::content(Role::Branch, path, &from.content, StorageMode::Store));
        }
        let values = self.inputs.params.values().chain(self.inputs.vars.values().flatten());
        values.for_each(|text| tell(Reference::bytes(Role::Value, Digest::of(text.as_bytes()))));
        for digest in self.environment.iter().chain(&self.inputs.environment) {
            tell(Reference::bytes(Role::Environment, *digest));
        }
        for digest in self.observed.iter().flat_map(|o| o.inputs.iter().chain(&o.environment)) {
            tell(Reference::bytes(Role::Observed, *digest));
        }
        self.outputs().for_each(|o| tell(Reference::content(Role::Output, &o.path, &o.content, StorageMode::Store)));
        self.reads.iter().chain(&self.versions).for_each(|read| tell(Reference::read(read)));
    }
}

impl Document for StageStart {
    typed!(STAGE_START);
    fn check(&self) -> Result<(), String> {
        self.inputs.check()?;
        run_id(&self.run)?;
        reads(&self.reads)
    }

    fn references<'d>(&'d self, tell: &mut dyn FnMut(Reference<'d>)) {
        self.environment.iter().chain(&self.inputs.environment).for_each(|d| tell(Reference::bytes(Role::Environment, *d)));
        self.reads.iter().for_each(|read| tell(Reference::read(read)));
    }
}

impl Document for RunReceipt {
    typed!(RUN_RECEIPT);
    fn check(&self) -> Result<(), String> {
        run_id(&self.run)?;
        time(&self.started)?;
        self.ordered.iter().try_for_each(|t| time(t))?;
        datasets(&self.data)?;
        self.also.values().flatten().try_for_each(|state| held(&state.path, state.hold))?;
        self.stages.iter().try_for_each(|s| name("stage", &s.stage))
    }

    fn references<'d>(&'d self, tell: &mut dyn FnMut(Reference<'d>)) {
        tell(Reference { path: "textum.toml", ..Reference::bytes(Role::Manifest, self.manifest.digest) });
        self.log.iter().for_each(|log| tell(Reference::bytes(Role::RunLog, log.digest)));
        self.params.values().for_each(|text| tell(Reference::bytes(Role::Value, Digest::of(text.as_bytes()))));
        for (name, state) in &self.data {
            tell(Reference::content(Role::Dataset(name), &state.path, &state.content, state.hold));
        }
        for (name, state) in self.also.iter().flat_map(|(name, states)| states.iter().map(move |s| (name, s))) {
            tell(Reference::content(Role::Dataset(name), &state.path, &state.content, state.hold));
        }
    }
}

impl Document for DataReceipt {
    typed!(DATA_RECEIPT);
    fn check(&self) -> Result<(), String> {
        name("dataset", &self.dataset)?;
        time(&self.recorded)?;
        held(&self.path, self.hold)
    }

    fn references<'d>(&'d self, tell: &mut dyn FnMut(Reference<'d>)) {
        tell(Reference::content(Role::Dataset(&self.dataset), &self.path, &self.content, self.hold));
    }
}

impl Document for CheckpointReceipt {
    typed!(CHECKPOINT_RECEIPT);
    fn check(&self) -> Result<(), String> {
        run_id(&self.run)?;
        name("stage", &self.stage)
    }

    fn references<'d>(&'d self, tell: &mut dyn FnMut(Reference<'d>)) {
        tell(Reference::content(Role::Checkpoint, &self.path, &self.content, StorageMode::Store));
        tell(Reference::bytes(Role::Start, self.start));
    }
}

impl Document for RebuildReceipt {
    typed!(REBUILD_RECEIPT);
    fn check(&self) -> Result<(), String> {
        run_id(&self.run)?;
        self.stages.iter().try_for_each(|s| name("stage", &s.stage))
    }
}

impl Document for RemarkReceipt {
    typed!(REMARK_RECEIPT);
    fn check(&self) -> Result<(), String> {
        run_id(&self.run)
    }
}

impl Document for PublishReceipt {
    typed!(PUBLISH_RECEIPT);
    fn check(&self) -> Result<(), String> {
        time(&self.at)?;
        self.bundle.check()
    }

    fn references<'d>(&'d self, tell: &mut dyn FnMut(Reference<'d>)) {
        self.bundle.contents().into_iter().for_each(|digest| tell(Reference::bytes(Role::Published, digest)));
    }
}

impl Document for TreeReceipt {
    typed!(TREE_RECEIPT);
    fn check(&self) -> Result<(), String> {
        self.run.iter().try_for_each(|run| run_id(run))?;
        datasets(&self.data)?;
        self.stages.iter().try_for_each(|(stage, result)| name("stage", stage).and_then(|()| run_id(&result.run)))
    }
}

macro_rules! nothing_to_check {
    ($($document:ty: $name:ident),*) => {
        $(impl Document for $document {
            typed!($name);
            fn check(&self) -> Result<(), String> {
                Ok(())
            }
        })*
    };
}

impl Document for LossReceipt {
    typed!(LOSS_RECEIPT);
    fn check(&self) -> Result<(), String> {
        time(&self.found)?;
        self.lost.iter().filter_map(|lost| lost.run.as_deref()).try_for_each(run_id)
    }
}

impl Document for EraseReceipt {
    typed!(ERASE_RECEIPT);
    fn check(&self) -> Result<(), String> {
        name("dataset", &self.dataset)?;
        time(&self.erased)
    }
}

impl Document for ObservedInputs {
    typed!(OBSERVED);
    fn check(&self) -> Result<(), String> {
        Ok(())
    }

    fn references<'d>(&'d self, tell: &mut dyn FnMut(Reference<'d>)) {
        self.groups.iter().for_each(|group| tell(Reference::bytes(Role::Observed, group.list)));
        self.listed.iter().for_each(|folder| tell(Reference::bytes(Role::Observed, folder.entries)));
    }
}

impl Document for KeptEnvironment {
    typed!(KEPT);
    fn check(&self) -> Result<(), String> {
        Ok(())
    }

    fn references<'d>(&'d self, tell: &mut dyn FnMut(Reference<'d>)) {
        self.packages.iter().for_each(|package| tell(Reference::bytes(Role::Observed, package.list)));
    }
}

nothing_to_check!(PruneReceipt: PRUNE_RECEIPT, EnvironmentRecord: ENVIRONMENT, CountedEnvironment: COUNTED);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ids_and_names_cannot_lead_anywhere() {
        for fine in ["20261123-0542-7f3a", "20261123-0542-0123456789abcdef"] {
            assert!(is_run_id(fine), "{fine}");
        }
        for bad in
            ["", "..", "20261123-0542-..", "20261123-0542-7f3a/..", "../20261123-0542-7f3a", "20261123-0542-7F3A", "2026-0542-7f"]
        {
            assert!(!is_run_id(bad), "{bad}");
        }
        for bad in ["", ".", "..", "a/b", "-x", "a\0", "a b"] {
            assert!(name("stage", bad).is_err(), "{bad:?}");
        }
    }
}
