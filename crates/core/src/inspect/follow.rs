//! Following a run at work from another process: its stages, their signals, their curves. Looking never
//! touches the run.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use crate::event::Event;
use crate::inspect::curve::LiveCurves;
use crate::pipeline::exec::{LiveView, is_at_work, live_view};
use crate::pipeline::signal::SignalReader;
use crate::record::receipt::{GateRecord, RunReceipt, RunStageState, RunState, StageReceipt};

/// How a stage stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ViewState {
    /// It has not been decided on.
    Waiting,
    /// It is being executed.
    Running,
    /// It is settled.
    Settled(RunStageState),
}

/// A stage of a run that is followed.
pub struct StageView {
    /// Its name.
    pub name: String,
    /// How it stands.
    pub state: ViewState,
    /// When it began, RFC 3339 in UTC, once it has.
    pub started: Option<String>,
    /// Seconds it took the last time.
    pub before: Option<f64>,
    /// Seconds it took, once it is settled.
    pub seconds: f64,
    /// Why it did not succeed.
    pub reason: Option<String>,
    /// How much is done, as last told.
    pub progress: Option<f64>,
    /// The highest step told of.
    pub step: Option<u64>,
    /// Its checkpoints so far.
    pub checkpoints: usize,
    /// Its curves so far.
    pub curves: LiveCurves,
    /// Where it is, and what it waits for there, if that is another place.
    pub at_place: Option<String>,
    /// Its log.
    pub log: PathBuf,
    signals: SignalReader,
}

impl StageView {
    /// Seconds it has been running for, at a time.
    pub fn elapsed(&self, now: jiff::Timestamp) -> f64 {
        let began = self.started.as_ref().and_then(|t| t.parse::<jiff::Timestamp>().ok());
        began.map_or(0.0, |b| now.duration_since(b).as_secs_f64().max(0.0))
    }

    /// Seconds that it will still take, by its progress, else by the last time.
    pub fn left(&self, now: jiff::Timestamp) -> Option<f64> {
        let elapsed = self.elapsed(now);
        match self.progress.filter(|p| *p > 0.01) {
            Some(share) => Some(elapsed * (1.0 - share) / share),
            None => self.before.map(|b| b - elapsed).filter(|left| *left > 0.0),
        }
    }
}

/// Follows a run.
pub struct Follower {
    runs: PathBuf,
    /// The run's id.
    pub run: String,
    /// Its receipt as it stands if it is cut off.
    pub draft: RunReceipt,
    /// Its stages, in their order.
    pub stages: Vec<StageView>,
    /// Gates that were looked at.
    pub gates: Vec<GateRecord>,
    /// Whether it is being stopped.
    pub stopping: bool,
    /// Whether it is still at work.
    pub at_work: bool,
    /// How it ended and how long it took in seconds, once that is known.
    pub ending: Option<(RunState, f64)>,
    /// What had happened before the first look.
    pub earlier: Vec<Event>,
    folder: PathBuf,
    seen: usize,
    /// Of a copy of a run elsewhere: brings it up to date, and tells whether that run is still at work.
    refresh: Option<Refresh>,
}

/// Brings a copy up to date; whether what it is of is still at work.
pub type Refresh = Box<dyn FnMut() -> bool + Send>;

impl Follower {
    /// Begins to follow a run at work; `None` when there is none of this id.
    pub fn new(runs: &Path, run: &str) -> Option<Follower> {
        Follower::of(runs, run, None)
    }

    /// Begins to follow a copy of a run that is at work elsewhere.
    pub fn of_copy(runs: &Path, run: &str, refresh: Refresh) -> Option<Follower> {
        Follower::of(runs, run, Some(refresh))
    }

    fn of(runs: &Path, run: &str, refresh: Option<Refresh>) -> Option<Follower> {
        let view = live_view(runs, run)?;
        let mut follower = Follower {
            runs: runs.to_path_buf(),
            run: run.to_string(),
            draft: view.draft.clone(),
            stages: Vec::new(),
            gates: Vec::new(),
            stopping: false,
            at_work: true,
            ending: None,
            earlier: view.events.clone(),
            folder: view.folder.clone(),
            seen: 0,
            refresh,
        };
        follower.take(view);
        Some(follower)
    }

    /// Takes in how the run ended: what came between the last look and its end, whose folder is gone.
    pub fn end(&mut self, receipt: &RunReceipt) {
        for settled in &receipt.stages {
            let stage = self.stage(&settled.stage);
            if !matches!(stage.state, ViewState::Settled(_)) {
                (stage.state, stage.seconds) = (ViewState::Settled(settled.state), settled.seconds);
            }
        }
        self.ending = Some((receipt.state, receipt.seconds));
    }

    /// Looks again; gives what has happened since the last look.
    pub fn look(&mut self) -> Vec<Event> {
        let before = self.seen;
        self.at_work = match &mut self.refresh {
            Some(refresh) => refresh(),
            None => is_at_work(&self.runs, &self.run),
        };
        let Some(view) = live_view(&self.runs, &self.run) else { return Vec::new() };
        let new = view.events.get(before..).unwrap_or_default().to_vec();
        self.take(view);
        new
    }

    fn take(&mut self, view: LiveView) {
        let new = view.events.get(self.seen..).unwrap_or_default().to_vec();
        self.seen = view.events.len();
        for event in new {
            self.event(event);
        }
        for stage in self.stages.iter_mut().filter(|s| s.state == ViewState::Running) {
            let (progress, step) = (&mut stage.progress, &mut stage.step);
            stage.signals.read(false, |_, signal| {
                if let Ok(signal) = signal {
                    *progress = signal.progress.or(*progress);
                    *step = (*step).max(signal.step);
                }
            });
            stage.curves.look();
            if stage.started.is_none() {
                stage.started = begun(&view.folder.join(&stage.name)).map(|r| r.started);
            }
        }
    }

    fn stage(&mut self, name: &str) -> &mut StageView {
        let at = match self.stages.iter().position(|s| s.name == name) {
            Some(at) => at,
            None => {
                self.stages.push(StageView {
                    name: name.to_string(),
                    state: ViewState::Waiting,
                    started: None,
                    before: None,
                    seconds: 0.0,
                    reason: None,
                    progress: None,
                    step: None,
                    checkpoints: 0,
                    at_place: None,
                    curves: LiveCurves::new(&self.folder.join(name).join("points.csv")),
                    log: self.folder.join(name).join("log"),
                    signals: SignalReader::new(&self.folder.join(name).join("signals")),
                });
                self.stages.len() - 1
            }
        };
        &mut self.stages[at]
    }

    fn event(&mut self, event: Event) {
        match event {
            Event::Begun { stages, .. } => stages.iter().for_each(|name| {
                self.stage(name);
            }),
            Event::StageStarted { stage, before } => {
                let stage = self.stage(&stage);
                (stage.state, stage.before) = (ViewState::Running, before);
            }
            Event::StageSettled { stage, state, seconds, reason } => {
                let stage = self.stage(&stage);
                stage.curves.look();
                (stage.state, stage.seconds, stage.reason) = (ViewState::Settled(state), seconds, reason);
            }
            Event::AtPlace { stage, place, waits, says } => {
                let said = if waits { format!("waits at {place}: {says}") } else { format!("at {place}") };
                self.stage(&stage).at_place = Some(said);
            }
            Event::NoRoom { stage, place, says } => {
                self.stage(&stage).at_place = Some(format!("waits at {place}, which takes no more jobs for now: {says}"));
            }
            // The job writes where the run that was cut off had it write.
            Event::TakesUp { stage, run, place } => {
                let folder = self.runs.join(run).join(&stage);
                let stage = self.stage(&stage);
                (stage.at_place, stage.log) = (place.map(|place| format!("at {place}")), folder.join("log"));
                stage.curves = LiveCurves::new(&folder.join("points.csv"));
                stage.signals = SignalReader::new(&folder.join("signals"));
                stage.started = begun(&folder).map(|r| r.started);
            }
            Event::Checkpoint { stage, .. } => self.stage(&stage).checkpoints += 1,
            Event::Gate { gate } => self.gates.push(gate),
            Event::Stopping => self.stopping = true,
            _ => {}
        }
    }

    /// The last value of each metric of a stage.
    pub fn last_values(&self, stage: &StageView) -> BTreeMap<String, f64> {
        stage.curves.series.iter().filter_map(|(n, p)| Some((n.clone(), p.last()?.value))).collect()
    }
}

fn begun(folder: &Path) -> Option<StageReceipt> {
    serde_json::from_slice(&std::fs::read(folder.join("begun.json")).ok()?).ok()
}
