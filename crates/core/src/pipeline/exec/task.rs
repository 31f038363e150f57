//! A stage about to be executed: everything that decides what is done and what is recorded of it.

use std::collections::{BTreeMap, BTreeSet};
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use textum_base::SourcePath;
use textum_expr::Rule;
use textum_observe::Seal;

use crate::config::manifest::{Better, Needs};
use crate::pipeline::executor::JobId;
use crate::project::fingerprint::{Scanner, Standstill};
use crate::record::ledger::CheckpointRow;
use crate::record::receipt::{BranchedFrom, Content, Inputs, Read, StorageMode};
use crate::store::Digest;

/// A stage about to be executed; its outputs have been cleared.
pub struct Task {
    /// What decides its result.
    pub inputs: Inputs,
    /// The digest of that.
    pub key: Digest,
    /// What it reads, and where that came from.
    pub reads: Vec<Read>,
    /// Recorded versions that it is held against.
    pub versions: Vec<Read>,
    /// What it needs of the machine.
    pub needs: Needs,
    /// Where it executes; none: on this machine.
    pub place: Option<String>,
    /// The run's id.
    pub run: String,
    /// Looks at the files below the folder that it works in.
    pub scanner: Arc<Scanner>,
    /// How what it reads stood when it was settled: it must stand so to the end.
    pub standing: BTreeMap<SourcePath, Standstill>,
    /// What it reads in a sandbox that no other sandbox shares.
    pub own_reads: BTreeSet<SourcePath>,
    /// By how much the clock is behind what was recorded before, if it is.
    pub clock_behind: Option<jiff::SignedDuration>,
    /// Its folder for log and parameters, outside the root it works in.
    pub folder: PathBuf,
    /// Record of the whole environment.
    pub environment: Option<Digest>,
    /// The checkpoint that it goes on from; it lies at its place already.
    pub from: Option<BranchedFrom>,
    /// When it is to be stopped.
    pub stop_when: Option<Rule>,
    /// The direction in which metrics get better.
    pub better: BTreeMap<String, Better>,
    /// The working tree, when it works in a sandbox instead.
    pub sandbox_of: Option<PathBuf>,
    /// Whether a recorded result is made again: what is in the tree by now is no matter.
    pub is_rebuild: bool,
    /// Whether what it reads is observed.
    pub observe: bool,
    /// What it may do, if it is sealed.
    pub seal: Option<Seal>,
    /// So often it is tried again when its place has lost it.
    pub retries: u32,
    /// Whether what it reads is sent to where it executes.
    pub is_sent: bool,
    /// The job that makes it already, which another process submitted.
    pub taken_up: Option<TakenUp>,
}

/// A job that another process submitted.
pub struct TakenUp {
    /// The job.
    pub job: JobId,
    /// When the stage was begun.
    pub started: String,
    /// How long ago that was.
    pub since: Duration,
    /// Checkpoints of it that are recorded, by their steps.
    pub checkpoints: BTreeMap<u64, CheckpointRow>,
}

impl Task {
    /// The paths that it brings forth.
    pub(super) fn outputs(&self) -> impl Iterator<Item = &str> {
        let writes = self.inputs.writes.iter().map(|w| &*w.path);
        writes.chain(self.inputs.metrics.iter().map(|m| &**m)).chain(self.inputs.checkpoints.as_deref())
    }

    /// The paths that it declares to read.
    pub(super) fn read_paths(&self) -> Vec<&str> {
        self.inputs.reads.keys().map(|path| &**path).collect()
    }

    /// What it reads of the project's that is kept in the store, as it lies where it works.
    pub(super) fn stored_reads(&self) -> Vec<(String, Content)> {
        let stored = self.reads.iter().filter(|read| read.hold == StorageMode::Store);
        let of = |read: &Read| Some((read.at.path.in_project()?.to_string(), read.at.content.clone()));
        stored.filter_map(of).collect()
    }

    /// Where what it prints goes.
    pub(super) fn log(&self) -> PathBuf {
        self.folder.join("log")
    }
}
