//! The only way the core talks while it works: events for eyes, and a token to be stopped by.

use std::path::PathBuf;
use std::sync::atomic::{AtomicU8, Ordering};

use serde::Serialize;

use crate::receipt::{RunStageState, Verdict};

/// Something that happened.
#[derive(Clone, Debug, Serialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum Event {
    /// A run, sandbox or rebuild begins.
    Begun {
        /// The run's id.
        run: String,
        /// Stages that it may have to deal with.
        stages: usize,
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
    /// A stage is about to be executed.
    StageStarted {
        /// The stage.
        stage: String,
        /// How long it took before, in seconds.
        before: Option<f64>,
    },
    /// A line that a stage printed (only when asked for).
    Output {
        /// The stage.
        stage: String,
        /// The line, without its end.
        line: String,
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
    /// A stage was executed again with the same inputs and brought forth something else.
    NotDeterministic {
        /// The stage.
        stage: String,
        /// The outputs that differ.
        paths: Vec<String>,
    },
    /// A stage seems to have read files that it does not declare.
    Undeclared {
        /// The stage.
        stage: String,
        /// Their paths.
        paths: Vec<String>,
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
pub struct CancelToken(AtomicU8);

impl CancelToken {
    /// A token that nobody has pulled.
    pub const fn new() -> CancelToken {
        CancelToken(AtomicU8::new(0))
    }

    /// Asks to stop; a second call asks to stop at once.
    pub fn ask(&self) {
        let _ = self.0.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |n| Some(n.saturating_add(1)));
    }

    /// Whether stopping was asked for.
    pub fn asked(&self) -> bool {
        self.0.load(Ordering::SeqCst) > 0
    }

    /// Whether stopping at once was asked for.
    pub fn at_once(&self) -> bool {
        self.0.load(Ordering::SeqCst) > 1
    }
}
