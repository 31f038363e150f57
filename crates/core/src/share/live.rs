//! A run at work as a depot has it: told every few seconds by who executes it, followed and stopped from anywhere.

use std::collections::BTreeMap;
use std::io::{Read, Seek, SeekFrom};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};
use textum_depot::Depot;

use crate::config::manifest::is_stage_name;
use crate::event::{Event, EventSink};
use crate::fsio::{self, IoError};
use crate::inspect::follow::Follower;
use crate::pipeline::exec::ask_to_stop;
use crate::pipeline::exec::mask::{masked, secrets};
use crate::project::workspace::Project;
use crate::record::receipt::is_run_id;
use crate::store::StoreError;

use super::sync::SyncError;

/// How often a run tells of itself.
pub const EVERY: Duration = Duration::from_secs(3);
/// How often a depot is asked by who follows.
const ASK: Duration = Duration::from_secs(2);
/// One that has not told of itself for so long is not heard of any more.
pub const SILENT: Duration = Duration::from_secs(45);

/// The `type` of what is told.
const LIVE_STATE: &str = "textum/live-run@1";
/// The object with what is told, and the one by which a run is asked to stop.
const STATE: &str = "state";
const STOP: &str = "stop";
/// Of curves at most so much is told: what comes later waits for the run's end. In bytes.
const MOST_POINTS: u64 = 2 << 20;
/// Of what a stage printed, the end. In bytes.
const MOST_LOG: u64 = 64 << 10;

/// What is told of a run.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct LiveState {
    /// [`LIVE_STATE`].
    pub r#type: String,
    /// The run.
    pub run: String,
    /// The project.
    pub project: String,
    /// Its receipt as it stands if it is cut off, as JSON.
    pub draft: String,
    /// What has happened so far, a line of JSON each.
    pub events: String,
    /// What each stage that was begun has told.
    pub stages: BTreeMap<String, LiveStage>,
}

/// What a stage has told.
#[derive(Clone, Debug, Default, Serialize, Deserialize)]
pub struct LiveStage {
    /// Its receipt as it was begun, as JSON.
    pub begun: String,
    /// Its curves.
    pub points: String,
    /// Its last signals.
    pub signals: String,
    /// The end of what it printed.
    pub log: String,
}

/// The beginning of a file, and its end beyond that, as text.
fn text_of(path: &Path, most: u64, from_the_end: bool) -> String {
    let read = || -> std::io::Result<Vec<u8>> {
        let mut file = std::fs::File::open(path)?;
        let length = file.metadata()?.len();
        if from_the_end && length > most {
            file.seek(SeekFrom::Start(length - most))?;
        }
        let mut bytes = Vec::new();
        file.take(most).read_to_end(&mut bytes)?;
        Ok(bytes)
    };
    let mut text = String::from_utf8_lossy(&read().unwrap_or_default()).into_owned();
    // A line that is being written is told the next time.
    if !from_the_end {
        text.truncate(text.rfind('\n').map_or(0, |at| at + 1));
    }
    text
}

/// What can be told of a run at work in this folder.
fn state_of(runs: &Path, run: &str, project: &str) -> Option<LiveState> {
    let folder = runs.join(run);
    let draft = std::fs::read_to_string(folder.join("run.json")).ok()?;
    let events = std::fs::read_to_string(folder.join("events")).unwrap_or_default();
    let mut stages = BTreeMap::new();
    for entry in std::fs::read_dir(&folder).into_iter().flatten().flatten().filter(|e| e.path().is_dir()) {
        let (Ok(name), at) = (entry.file_name().into_string(), entry.path()) else { continue };
        let stage = LiveStage {
            begun: std::fs::read_to_string(at.join("begun.json")).unwrap_or_default(),
            points: text_of(&at.join("points.csv"), MOST_POINTS, false),
            signals: text_of(&at.join("signals"), 4 << 10, true),
            log: text_of(&at.join("log"), MOST_LOG, true),
        };
        stages.insert(name, stage);
    }
    Some(LiveState { r#type: LIVE_STATE.into(), run: run.into(), project: project.into(), draft, events, stages })
}

/// Tells depots of the runs that this process executes.
pub struct LiveTeller {
    depots: Vec<Arc<Depot>>,
    runs: PathBuf,
    project: String,
    at_work: Arc<Mutex<Vec<String>>>,
    over: Arc<AtomicBool>,
    thread: Option<std::thread::JoinHandle<()>>,
}

impl LiveTeller {
    /// Begins to tell the depots of a project that are `live`. One that cannot be opened is not told.
    pub fn of(project: &Project) -> LiveTeller {
        let live = project.depots.declared().iter().filter(|d| d.live);
        let depots = live.filter_map(|d| project.depots.open(Some(&d.name)).ok()).collect();
        let secrets = secrets(project.manifest.environment.vars.iter(), &project.variables);
        LiveTeller::begin(depots, &project.workspace.runs_folder(), &project.manifest.name, secrets)
    }

    /// Begins to tell these depots of runs whose folders are in `runs`. Secrets are masked before they leave the machine.
    pub fn begin(depots: Vec<Arc<Depot>>, runs: &Path, project: &str, secrets: Vec<String>) -> LiveTeller {
        let mut teller = LiveTeller {
            depots,
            runs: runs.to_path_buf(),
            project: project.to_string(),
            at_work: Arc::default(),
            over: Arc::default(),
            thread: None,
        };
        if !teller.depots.is_empty() {
            let (depots, runs, project) = (teller.depots.clone(), teller.runs.clone(), teller.project.clone());
            let (at_work, over) = (teller.at_work.clone(), teller.over.clone());
            teller.thread = Some(std::thread::spawn(move || {
                while !over.load(Ordering::SeqCst) {
                    let ids = at_work.lock().unwrap_or_else(PoisonError::into_inner).clone();
                    for run in &ids {
                        tell(&depots, &runs, run, &project, &secrets);
                    }
                    let until = Instant::now() + EVERY;
                    while Instant::now() < until && !over.load(Ordering::SeqCst) {
                        std::thread::park_timeout(Duration::from_millis(100));
                    }
                }
            }));
        }
        teller
    }

    /// Passes events on, and hears by them which runs begin.
    pub fn hearing<'e>(&'e self, events: &'e dyn EventSink) -> impl EventSink + 'e {
        Hearing { teller: self, events }
    }

    /// The runs have ended: what was told of them goes.
    pub fn end(mut self) {
        self.over.store(true, Ordering::SeqCst);
        if let Some(thread) = self.thread.take() {
            thread.thread().unpark();
            // What it could not tell is nobody's loss.
            let _ = thread.join();
        }
        for run in self.at_work.lock().unwrap_or_else(PoisonError::into_inner).iter() {
            for depot in &self.depots {
                let _ = depot.end_live(run);
            }
        }
    }
}

fn tell(depots: &[Arc<Depot>], runs: &Path, run: &str, project: &str, secrets: &[String]) {
    let Some(mut state) = state_of(runs, run, project) else { return };
    let stages = state.stages.values_mut().flat_map(|s| [&mut s.begun, &mut s.points, &mut s.signals, &mut s.log]);
    // Before they become JSON in JSON, in which a value may look otherwise.
    stages.chain([&mut state.draft, &mut state.events]).for_each(|text| *text = masked(text, secrets));
    let Ok(text) = serde_json::to_string(&state) else { return };
    for depot in depots {
        // A depot that does not answer is told the next time.
        if depot.tell_live(run, STATE, text.clone().into_bytes()).is_err() {
            continue;
        }
        if let Ok(Some(asked)) = depot.live(run, STOP) {
            let text = String::from_utf8_lossy(&asked).into_owned();
            let (how, why) = text.split_once(' ').unwrap_or(("soon", "it was stopped from elsewhere"));
            let why: String = why.chars().filter(|c| !c.is_control()).take(200).collect();
            let _ = ask_to_stop(runs, run, &why, how == "now");
        }
    }
}

struct Hearing<'e> {
    teller: &'e LiveTeller,
    events: &'e dyn EventSink,
}

impl EventSink for Hearing<'_> {
    fn event(&self, event: Event) {
        if let Event::Begun { run, .. } = &event {
            let mut at_work = self.teller.at_work.lock().unwrap_or_else(PoisonError::into_inner);
            if !at_work.contains(run) {
                at_work.push(run.clone());
            }
        }
        self.events.event(event);
    }
}

/// A run at work that a depot has heard of.
#[derive(Clone, Debug)]
pub struct RemoteRun {
    /// The depot.
    pub depot: String,
    /// What was told.
    pub state: LiveState,
    /// Seconds since it told last, by the storage's clock against this machine's; none where that says nothing.
    pub silent: Option<f64>,
}

impl RemoteRun {
    /// Whether nothing has been heard of it for long.
    pub fn is_silent(&self) -> bool {
        self.silent.is_some_and(|seconds| seconds > SILENT.as_secs_f64())
    }
}

/// The runs at work of this project that a depot has heard of.
pub fn remote_runs(depot: &Depot, project: &str) -> Result<Vec<RemoteRun>, SyncError> {
    let mut found = Vec::new();
    for object in depot.live_runs()? {
        let Some(state) = read(depot, &object.run)? else { continue };
        if state.project == project {
            let now = textum_base::clock::now();
            let silent = object.told.map(|told| now.duration_since(told).as_secs_f64().max(0.0));
            found.push(RemoteRun { depot: depot.name().to_string(), state, silent });
        }
    }
    Ok(found)
}

/// What is told of a run; nothing where it has ended, or what stands there is none.
fn read(depot: &Depot, run: &str) -> Result<Option<LiveState>, SyncError> {
    let Some(bytes) = depot.live(run, STATE)? else { return Ok(None) };
    let state: Option<LiveState> = serde_json::from_slice(&bytes).ok();
    // Names become parts of paths here.
    let sound =
        |s: &LiveState| s.r#type == LIVE_STATE && s.run == run && is_run_id(run) && s.stages.keys().all(|n| is_stage_name(n));
    Ok(state.filter(sound))
}

/// A run elsewhere that is followed by way of a depot: a copy of what it tells, which goes when this does.
pub struct RemoteFollow {
    /// Follows the copy.
    pub follower: Follower,
    _folder: tempfile::TempDir,
}

impl RemoteFollow {
    /// Begins to follow; nothing where the depot has not heard of the run.
    pub fn begin(depot: Arc<Depot>, run: &str) -> Result<Option<RemoteFollow>, SyncError> {
        let folder = tempfile::Builder::new().prefix("textum-follow-").tempdir();
        let folder = folder.map_err(IoError::of("create a folder in", &std::env::temp_dir())).map_err(StoreError::from)?;
        if !mirror(&depot, run, folder.path())? {
            return Ok(None);
        }
        let (runs, copied) = (folder.path().to_path_buf(), run.to_string());
        let (mut last, mut at_work) = (Instant::now(), true);
        let refresh = move || {
            if last.elapsed() >= ASK {
                last = Instant::now();
                // A depot that does not answer is asked again.
                at_work = mirror(&depot, &copied, &runs).unwrap_or(at_work);
            }
            at_work
        };
        let follower = Follower::of_copy(folder.path(), run, Box::new(refresh));
        Ok(follower.map(|follower| RemoteFollow { follower, _folder: folder }))
    }
}

/// Brings what a depot has of a run into a folder, as if it were at work there; whether it still is.
fn mirror(depot: &Depot, run: &str, runs: &Path) -> Result<bool, SyncError> {
    let Some(state) = read(depot, run)? else { return Ok(false) };
    write(&state, &runs.join(run)).map_err(StoreError::from)?;
    Ok(true)
}

fn write(state: &LiveState, folder: &Path) -> Result<(), IoError> {
    fsio::create_folder(folder)?;
    fsio::write_derived(&folder.join("run.json"), state.draft.as_bytes())?;
    fsio::write_derived(&folder.join("events"), state.events.as_bytes())?;
    for (name, stage) in &state.stages {
        let at = folder.join(name);
        fsio::create_folder(&at)?;
        fsio::write_derived(&at.join("begun.json"), stage.begun.as_bytes())?;
        fsio::overwrite(&at.join("points.csv"), stage.points.as_bytes())?;
        fsio::overwrite(&at.join("log"), stage.log.as_bytes())?;
        // Of signals only the last ones are told: each is read once, when it is new.
        let known = std::fs::read_to_string(at.join("signals")).unwrap_or_default();
        let new = stage.signals.lines().next_back().filter(|line| !known.ends_with(&format!("{line}\n")));
        if let Some(line) = new {
            fsio::overwrite(&at.join("signals"), format!("{known}{line}\n").as_bytes())?;
        }
    }
    Ok(())
}

/// Asks a run to stop by way of a depot; `at_once` does not let its stages end by themselves.
pub fn stop_remote(depot: &Depot, run: &str, why: &str, at_once: bool) -> Result<(), SyncError> {
    let text = format!("{} {why}", if at_once { "now" } else { "soon" });
    Ok(depot.tell_live(run, STOP, text.into_bytes())?)
}
