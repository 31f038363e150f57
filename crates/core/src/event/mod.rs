//! The only way the core talks while it works: events for eyes, and a token to be stopped by.

mod log;

use std::path::PathBuf;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU8, Ordering};

use serde::{Deserialize, Serialize};

pub use log::{LoggedEvent, read_log};

use crate::record::receipt::{GateRecord, Metric, RunStageState, Unchecked, Verdict};

/// Something that happened.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum Event {
    /// A run, sandbox or rebuild begins.
    Begun {
        /// The run's id.
        run: String,
        /// Stages that it may have to deal with, in their order.
        stages: Vec<String>,
    },
    /// A state of a dataset that was never recorded before is now a version.
    NewVersion {
        /// The dataset.
        dataset: String,
        /// The version's number.
        number: u64,
        /// Of a table: its rows.
        rows: Option<u64>,
    },
    /// Parameters in files of the project have other values in this run: its stages work in sandboxes.
    SandboxForParams {
        /// The files.
        files: Vec<String>,
    },
    /// A stage is about to be executed.
    StageStarted {
        /// The stage.
        stage: String,
        /// How long it took before, in seconds.
        before: Option<f64>,
    },
    /// The command of a stage has been handed to its executor.
    Submitted {
        /// The stage.
        stage: String,
        /// The id by which the executor knows it.
        job: String,
    },
    /// A stage is made by a job that a Textum that is gone has left at a place.
    TakesUp {
        /// The stage.
        stage: String,
        /// The run that was cut off.
        run: String,
        /// The place.
        place: Option<String>,
    },
    /// How the job of a stage stands at another place.
    AtPlace {
        /// The stage.
        stage: String,
        /// The place.
        place: String,
        /// Whether it still waits for room.
        waits: bool,
        /// What the place says of it.
        says: String,
    },
    /// A place takes no more jobs for now: stages wait until it does.
    NoRoom {
        /// A stage that waits.
        stage: String,
        /// The place.
        place: String,
        /// What it says.
        says: String,
    },
    /// A stage that its place has lost is tried again.
    TriesAgain {
        /// The stage.
        stage: String,
        /// Why it was lost.
        why: String,
        /// The checkpoint's step that it goes on from; none: it starts clean.
        step: Option<u64>,
        /// How often it can be tried after this.
        left: u32,
    },
    /// A machine that was rented could not be given back.
    StillHeld {
        /// The place.
        place: String,
        /// Why.
        why: String,
    },
    /// A stage waits for another process that is executing just this key.
    Waits {
        /// The stage.
        stage: String,
        /// The run that executes it, as far as it has said.
        run: String,
    },
    /// A dataset changed while the run went on: its stages have read several states of it.
    DataChanged {
        /// The dataset.
        dataset: String,
        /// The stage that read the new state.
        stage: String,
    },
    /// A line that a stage printed (only when asked for).
    Output {
        /// The stage.
        stage: String,
        /// The line, without its end.
        line: String,
    },
    /// What a stage last told of itself; told a few times a second at most.
    Told {
        /// The stage.
        stage: String,
        /// The step.
        step: Option<u64>,
        /// How much is done, 0 to 1.
        progress: Option<f64>,
        /// The last value of each metric.
        metrics: Vec<(String, Metric)>,
    },
    /// A stage says something.
    Note {
        /// The stage.
        stage: String,
        /// Its words.
        text: String,
    },
    /// A checkpoint is safely stored.
    Checkpoint {
        /// The stage.
        stage: String,
        /// Its step.
        step: u64,
        /// Its size in bytes.
        size: u64,
    },
    /// A line of signals could not be understood, or a checkpoint not be made.
    BadSignal {
        /// The stage.
        stage: String,
        /// The line.
        line: u64,
        /// What is wrong.
        what: String,
    },
    /// A stage starts clean although checkpoints lay there.
    StartsClean {
        /// The stage.
        stage: String,
        /// The path of its checkpoints.
        path: String,
    },
    /// A stage goes on from a checkpoint.
    GoesOn {
        /// The stage.
        stage: String,
        /// The run that made the checkpoint.
        run: String,
        /// Its step.
        step: u64,
    },
    /// A gate was looked at.
    Gate {
        /// What was found.
        gate: GateRecord,
    },
    /// A run of a sweep is settled.
    VariantSettled {
        /// Its number, from 1.
        number: usize,
        /// Of so many.
        of: usize,
        /// What was varied: names and values.
        set: Vec<(String, String)>,
        /// The run.
        run: Option<String>,
        /// How it ended: `done`, `failed`, `stopped`, or `there` when it was there already.
        state: String,
        /// Its metrics.
        metrics: Vec<(String, Metric)>,
    },
    /// A stage is settled.
    StageSettled {
        /// The stage.
        stage: String,
        /// What became of it.
        state: RunStageState,
        /// Seconds it took.
        seconds: f64,
        /// Why, when it did not succeed.
        reason: Option<String>,
    },
    /// A file that Textum does not know was moved away rather than overwritten.
    Aside {
        /// Its path below the project.
        path: String,
        /// Where it is now.
        to: PathBuf,
    },
    /// What was moved away is just what has been recorded since: those copies are gone again.
    AsideRecorded {
        /// Their paths below the project.
        paths: Vec<String>,
    },
    /// A stage was executed again with the same inputs and brought forth something else.
    NotDeterministic {
        /// Whether it was executed in another environment: then nothing is said of the stage itself.
        other_environment: bool,
        /// The stage.
        stage: String,
        /// The outputs that differ.
        paths: Vec<String>,
    },
    /// What a stage read was not observed, though nobody switched that off: only what it declares counts for its result.
    NotObserved {
        /// The stage.
        stage: String,
        /// Why.
        why: String,
        /// Whether it was observed, but not wholly.
        part: bool,
    },
    /// What stages had from where nothing can be checked.
    Unchecked {
        /// The stages, each with what it had.
        stages: Vec<(String, Unchecked)>,
    },
    /// A stage seems to have read files that it does not declare.
    Undeclared {
        /// The stage.
        stage: String,
        /// Their paths.
        paths: Vec<String>,
    },
    /// A stage was executed on a machine whose environment is another than the one here.
    OtherEnvironment {
        /// The stage.
        stage: String,
        /// The differences, in words.
        differences: Vec<String>,
    },
    /// A stage started another interpreter than the one that the manifest declares.
    OtherInterpreter {
        /// The stage.
        stage: String,
        /// What it started.
        started: String,
        /// What is declared.
        declared: String,
    },
    /// A stage of a rebuild is judged.
    Rebuilt {
        /// The stage.
        stage: String,
        /// The verdict on it.
        verdict: Verdict,
        /// Seconds it took.
        seconds: f64,
    },
    /// The environment of a rebuild differs from the recorded one.
    EnvironmentDiffers {
        /// The differences, in words.
        differences: Vec<String>,
    },
    /// A run that was cut off has been closed as interrupted.
    Interrupted {
        /// The run's id.
        run: String,
    },
    /// A stop was asked for; the stages are told to end.
    Stopping,
}

/// Somebody who listens.
pub trait EventSink: Sync {
    /// Takes an event in; must not block for long.
    fn event(&self, event: Event);
}

/// Nobody listens.
pub struct Silent;

impl EventSink for Silent {
    fn event(&self, _event: Event) {}
}

/// Asks long work to stop: once to let it end well, twice to end it at once. Safe in a signal handler.
#[derive(Debug, Default)]
pub struct CancelToken {
    asked: AtomicU8,
    reason: OnceLock<String>,
}

impl CancelToken {
    /// A token that nobody has pulled.
    pub const fn new() -> CancelToken {
        CancelToken { asked: AtomicU8::new(0), reason: OnceLock::new() }
    }

    /// Asks to stop; a second call asks to stop at once.
    pub fn ask(&self) {
        let _ = self.asked.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |n| Some(n.saturating_add(1)));
    }

    /// Asks to stop and says why; only the first reason counts.
    pub fn ask_because(&self, reason: String) {
        let _ = self.reason.set(reason);
        self.ask();
    }

    /// Why stopping was asked for, if that was said.
    pub fn reason(&self) -> Option<&str> {
        self.reason.get().map(String::as_str)
    }

    /// Whether stopping was asked for.
    pub fn asked(&self) -> bool {
        self.asked.load(Ordering::SeqCst) > 0
    }

    /// Whether stopping at once was asked for.
    pub fn at_once(&self) -> bool {
        self.asked.load(Ordering::SeqCst) > 1
    }
}
