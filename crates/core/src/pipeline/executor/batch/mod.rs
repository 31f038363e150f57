//! Places where an engine carries jobs out: it takes them on, says how they stand, and ends them.
//!
//! The folder that a stage works in, and that of its run, are seen by both sides. Beside the log a job leaves `NAME.begun`,
//! where it is at work, and `NAME.end`, its exit status. How it stands is judged by what the engine says, never by an exit
//! status alone; an engine that does not answer is asked again. One thread asks for all jobs in one call.

mod command;
mod engine;
mod far;
mod gather;
mod held;
mod job;
mod machine;
mod program;
mod queued;
mod remote;
mod script;
mod shared;
mod slurm;
mod submit;
mod transfer;
mod watched;

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Condvar, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use command::CommandEngine;
pub use engine::Cause;
use engine::{Engine, Fault, Queue};
use gather::Gathering;
pub use held::{HeldMachine, Released, held_machines, release_machine};
use job::{Known, is_ours};
use machine::SshEngine;
use shared::SharedEngine;
use slurm::Slurm;
pub use watched::SEEN_AWAY;

use super::{Cancel, Capacity, Executor, Job, JobId, JobState, Why};
use crate::config::manifest::{Needs, PlaceDecl, PlaceKind};
use crate::fsio::{self, IoError};
use crate::project::fingerprint::{host, system};
use crate::project::way::Way;
use crate::record::receipt::{Exit, PlaceRecord};

/// The shortest and the longest pause between two questions.
const PAUSES: (Duration, Duration) = (Duration::from_millis(200), Duration::from_secs(3));

/// Who waits for a job looks by itself after so long, though it is told when it has ended.
const LOOK_AGAIN: Duration = Duration::from_secs(60);
/// A place that does not answer for so long is told of.
const TOLD_AFTER: Duration = Duration::from_secs(5);

/// In the folder of a stage's log: the name by which its job was submitted.
const SUBMITTED: &str = "submitted";

/// A place with an engine.
pub struct BatchExecutor {
    name: String,
    jobs: u32,
    shared: Arc<Shared>,
    /// Needs that something there can meet.
    met: Mutex<Vec<Needs>>,
    gathering: Gathering,
    /// A folder of the project's that both sides see.
    state: Option<PathBuf>,
    program: Mutex<Option<PathBuf>>,
    /// The folders of jobs that are not to be handed over any more.
    given_up: Mutex<BTreeSet<PathBuf>>,
    /// Whether the project's folder is the same there.
    shares_folder: bool,
}

struct Shared {
    engine: Box<dyn Engine>,
    jobs: Mutex<BTreeMap<JobId, Known>>,
    news: Condvar,
    asking: Mutex<bool>,
    /// Since when it does not answer, and what was last seen of that.
    trouble: Mutex<Option<(Instant, String)>>,
    /// One asks at a time: what a job has said since is taken in once.
    looking: Mutex<()>,
}

impl Shared {
    fn jobs(&self) -> MutexGuard<'_, BTreeMap<JobId, Known>> {
        self.jobs.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Asks for all jobs that have not ended, in one call.
    fn look(&self) -> Result<(), Fault> {
        let _alone = self.looking.lock().unwrap_or_else(PoisonError::into_inner);
        let open: Vec<Known> = self.jobs().values().filter(|k| !k.is_over()).cloned().collect();
        if open.is_empty() {
            return Ok(());
        }
        let told = self.engine.look(&open)?;
        let mut jobs = self.jobs();
        let mut ended = false;
        for known in open {
            if let Some(job) = jobs.get_mut(&known.id()) {
                job.take(told.get(&known.number));
                ended |= job.is_over();
            }
        }
        // A thousand that wait are not woken for nothing.
        if ended {
            self.news.notify_all();
        }
        Ok(())
    }

    /// Asks until every job has ended; one thread does so for all that wait.
    fn keep_asking(self: &Arc<Shared>) {
        let mut asking = self.asking.lock().unwrap_or_else(PoisonError::into_inner);
        if std::mem::replace(&mut *asking, true) {
            return;
        }
        drop(asking);
        let shared = self.clone();
        std::thread::spawn(move || {
            let mut pause = PAUSES.0;
            loop {
                std::thread::sleep(pause);
                let before = shared.jobs().values().map(|k| k.state).collect::<Vec<_>>();
                let looked = shared.look();
                let mut trouble = shared.trouble.lock().unwrap_or_else(PoisonError::into_inner);
                *trouble = match looked {
                    Ok(()) => None,
                    Err(e) => {
                        tracing::debug!(error = %e.words(), "the engine does not answer");
                        let since = trouble.take().map_or_else(Instant::now, |(since, _)| since);
                        Some((since, e.words().to_string()))
                    }
                };
                drop(trouble);
                let now = shared.jobs().values().map(|k| k.state).collect::<Vec<_>>();
                // Where something happens more will; where nothing does the engine is left in peace.
                pause = if before == now && !shared.engine.had_news() { (pause * 3 / 2).min(PAUSES.1) } else { PAUSES.0 };
                let mut asking = shared.asking.lock().unwrap_or_else(PoisonError::into_inner);
                if now.iter().all(|s| matches!(s, JobState::Ended(_) | JobState::Lost)) {
                    *asking = false;
                    return;
                }
            }
        });
    }
}

impl BatchExecutor {
    /// A declared place; `state` is a folder of the project's, which both sides see where the place shares it.
    pub fn of(decl: &PlaceDecl, state: Option<&Path>) -> BatchExecutor {
        BatchExecutor::with_way(decl, state, None)
    }

    /// The same, with the way through a depot by which what stages read goes there.
    pub fn with_way(decl: &PlaceDecl, state: Option<&Path>, way: Option<Way>) -> BatchExecutor {
        let queue: Option<Box<dyn Queue>> = match (decl.kind, &decl.commands) {
            (PlaceKind::Ssh, _) => None,
            (PlaceKind::Command, Some(commands)) => Some(Box::new(CommandEngine { commands: commands.clone() })),
            _ => Some(Box::new(Slurm { options: decl.options.clone() })),
        };
        let engine: Box<dyn Engine> = match (&decl.machine, queue) {
            (Some(machine), queue) => Box::new(SshEngine::new(&decl.name, machine, (queue, way), state)),
            (None, Some(queue)) => Box::new(SharedEngine::new(queue, state)),
            // No manifest without mistakes says so.
            (None, None) => Box::new(SharedEngine::new(Box::new(Slurm { options: Vec::new() }), state)),
        };
        let shared = Shared {
            engine,
            jobs: Mutex::default(),
            news: Condvar::new(),
            asking: Mutex::default(),
            trouble: Mutex::default(),
            looking: Mutex::default(),
        };
        let gathering = Gathering::new(shared.engine.most_together());
        BatchExecutor {
            name: decl.name.clone(),
            jobs: decl.jobs,
            shared: Arc::new(shared),
            met: Mutex::default(),
            gathering,
            state: state.map(Path::to_path_buf),
            program: Mutex::default(),
            given_up: Mutex::default(),
            shares_folder: decl.shares_folder(),
        }
    }

    fn failed(&self, action: &'static str, what: &str) -> IoError {
        IoError::of(action, Path::new(&format!("[place.{}]", self.name)))(std::io::Error::other(what.to_string()))
    }

    /// The version of its engine, and what it offers, in its words.
    pub fn describe(&self) -> Result<(String, Vec<String>), String> {
        self.shared.engine.describe().map_err(|e| e.words().to_string())
    }

    /// Asks whether any node could ever carry such a job out: what none can would wait for ever. Once for the same needs.
    fn can_meet(&self, job: &Job, folder: &Path) -> Result<(), IoError> {
        let mut met = self.met.lock().unwrap_or_else(PoisonError::into_inner);
        if met.contains(&job.needs) {
            return Ok(());
        }
        let refused = |e: Fault| self.failed("submit a job to", &format!("nothing there can meet its `needs`: {}", e.words()));
        self.shared.engine.can_meet(&job.needs, folder).map_err(refused)?;
        met.push(job.needs);
        Ok(())
    }

    /// How a job ended, if it does within this time.
    pub fn wait_at_most(&self, id: &JobId, most: Duration) -> Result<Option<Exit>, IoError> {
        let (begun, mut jobs) = (Instant::now(), self.shared.jobs());
        loop {
            match jobs.get(id).map(|k| k.state) {
                Some(JobState::Ended(exit)) => return Ok(Some(exit)),
                Some(_) if jobs.get(id).is_some_and(|k| k.is_left) => {
                    return Err(self.failed("end a job of", "it does not answer, and the job may still be at work"));
                }
                Some(JobState::Lost) | None => return Err(self.failed("wait for a job of", "how it ended cannot be told")),
                Some(JobState::Waiting | JobState::Running) => {}
            }
            let Some(left) = most.checked_sub(begun.elapsed()) else { return Ok(None) };
            jobs = self.shared.news.wait_timeout(jobs, left).unwrap_or_else(PoisonError::into_inner).0;
        }
    }

    /// What the engine last said of a job, in its words.
    pub fn engine_says(&self, id: &JobId) -> String {
        self.shared.jobs().get(id).map(|k| k.engine.clone()).filter(|s| !s.is_empty()).unwrap_or_else(|| "nothing".into())
    }

    /// Gives a rented machine back that no job needs any more.
    pub fn release(&self) -> Result<(), IoError> {
        if self.shared.jobs().values().any(|job| !job.is_over()) {
            return Ok(());
        }
        self.shared.engine.release().map_err(|e| self.failed("give back the machine of", e.words()))
    }

    fn keep(&self, known: Known) -> JobId {
        let id = known.id();
        self.shared.jobs().insert(id.clone(), known);
        self.shared.keep_asking();
        id
    }
}

impl Drop for BatchExecutor {
    fn drop(&mut self) {
        if let Err(e) = self.release() {
            tracing::warn!(error = %e, "what is held was not given back");
        }
    }
}

/// The name by which a job was submitted for the stage of a folder.
pub fn submitted_name(folder: &Path) -> Option<String> {
    let name = std::fs::read_to_string(folder.join(SUBMITTED)).ok()?;
    Some(name.trim().to_string()).filter(|name| is_ours(name))
}

impl Executor for BatchExecutor {
    fn record(&self) -> PlaceRecord {
        PlaceRecord {
            kind: self.shared.engine.kind().into(),
            host: host(),
            system: system(),
            name: Some(self.name.clone()),
            job: None,
            processor: None,
            gpus: None,
            waited_ms: None,
            held_ms: None,
        }
    }

    fn capacity(&self, most: Option<usize>) -> Capacity {
        Capacity::of_machine(most).with_place(&self.name, self.jobs as usize)
    }

    fn submit(&self, job: &Job) -> Result<JobId, IoError> {
        let folder = job.log.parent().unwrap_or(&job.folder).to_path_buf();
        self.can_meet(job, &folder)?;
        let known = self.submit_named(job, &folder, &job::new_name())?;
        Ok(self.keep(known))
    }

    fn poll(&self, ids: &[JobId]) -> Result<Vec<JobState>, IoError> {
        self.shared.look().map_err(|e| self.failed("ask", e.words()))?;
        let jobs = self.shared.jobs();
        Ok(ids.iter().map(|id| jobs.get(id).map_or(JobState::Lost, |k| k.state)).collect())
    }

    fn cancel(&self, id: &JobId, how: Cancel) -> Result<(), IoError> {
        self.cancel_all(std::slice::from_ref(id), how)
    }

    fn cancel_all(&self, ids: &[JobId], how: Cancel) -> Result<(), IoError> {
        let known: Vec<Known> = {
            let jobs = self.shared.jobs();
            ids.iter().filter_map(|id| jobs.get(id)).filter(|k| !matches!(k.state, JobState::Ended(_))).cloned().collect()
        };
        if known.is_empty() {
            return Ok(());
        }
        let done = self.shared.engine.cancel(&known, how);
        let mut jobs = self.shared.jobs();
        for (id, done) in known.iter().map(Known::id).zip(&done) {
            if let Some(known) = jobs.get_mut(&id) {
                match done {
                    Ok(()) => known.cancelled |= how == Cancel::AtOnce || known.state == JobState::Waiting,
                    Err(_) => known.is_left |= how == Cancel::AtOnce,
                }
            }
        }
        let failed = done.into_iter().find_map(Result::err);
        if failed.is_some() && how == Cancel::AtOnce {
            self.shared.news.notify_all();
        }
        failed.map_or(Ok(()), |e| Err(self.failed("cancel a job of", e.words())))
    }

    fn attach(&self, id: &JobId) -> Result<bool, IoError> {
        let Some(known) = Known::named(id) else { return Ok(false) };
        self.shared.jobs().entry(id.clone()).or_insert(known);
        // Nobody knows whether it is there as long as the engine does not answer.
        self.shared.look().map_err(|e| self.failed("ask", e.words()))?;
        let known = self.shared.jobs().get(id).map(|k| (k.state, k.engine.is_empty()));
        let is_known = known.is_some_and(|(state, silent)| state != JobState::Lost && !(silent && state == JobState::Waiting));
        if is_known {
            self.shared.keep_asking();
        } else {
            self.shared.jobs().remove(id);
        }
        Ok(is_known)
    }

    fn program(&self, _place: Option<&str>) -> Result<Option<PathBuf>, IoError> {
        let Some(state) = self.state.as_ref().filter(|_| self.shares_folder) else { return Ok(None) };
        let mut program = self.program.lock().unwrap_or_else(PoisonError::into_inner);
        if program.is_none() {
            *program = Some(program::brought(state)?);
        }
        Ok(program.clone())
    }

    fn says(&self, id: &JobId) -> Option<(JobState, String)> {
        let trouble = self.shared.trouble.lock().unwrap_or_else(PoisonError::into_inner).clone();
        let jobs = self.shared.jobs();
        let job = jobs.get(id)?;
        match trouble.filter(|(since, _)| since.elapsed() >= TOLD_AFTER) {
            // Nobody knows how it stands.
            Some((_, why)) => Some((JobState::Waiting, format!("no answer: {}", why.chars().take(300).collect::<String>()))),
            None => (!job.engine.is_empty()).then(|| (job.state, job.engine.clone())),
        }
    }

    fn worked(&self, id: &JobId) -> Option<Duration> {
        self.shared.jobs().get(id).cloned()?.worked()
    }

    fn take_up(&self, folder: &Path, _place: Option<&str>) -> Result<Option<JobId>, IoError> {
        let Some(name) = submitted_name(folder) else { return Ok(None) };
        let number = self.shared.engine.find(&name, folder).map_err(|e| self.failed("ask", e.words()))?;
        let Some(number) = number else {
            // The engine has forgotten it, or never had it; what it left is there all the same.
            let mut gone = Known::new("-", &name, folder.to_path_buf());
            let Some(exit) = gone.left() else { return Ok(None) };
            gone.state = JobState::Ended(exit);
            return Ok(Some(self.keep(gone)));
        };
        let id = Known::new(&number, &name, folder.to_path_buf()).id();
        Ok(self.attach(&id)?.then_some(id))
    }

    fn give_up(&self, folder: &Path, _place: Option<&str>) {
        self.given_up.lock().unwrap_or_else(PoisonError::into_inner).insert(folder.to_path_buf());
        self.gathering.give_up(folder);
        self.shared.engine.give_up();
    }

    fn has_no_room(&self, folder: &Path, _place: Option<&str>) -> Option<String> {
        self.gathering.waits(folder)
    }

    fn take_back(&self, folder: &Path, _place: Option<&str>) -> Result<(), IoError> {
        let Some(name) = submitted_name(folder) else { return Ok(()) };
        self.shared.engine.take_back(&name, folder).map_err(|e| self.failed("ask", e.words()))
    }

    fn wait(&self, id: &JobId) -> Result<Exit, IoError> {
        loop {
            if let Some(exit) = self.wait_at_most(id, LOOK_AGAIN)? {
                return Ok(exit);
            }
        }
    }

    fn why(&self, id: &JobId) -> Option<Why> {
        self.shared.jobs().get(id)?.why.clone()
    }

    fn record_of(&self, id: &JobId) -> PlaceRecord {
        let known = self.shared.jobs().get(id).cloned();
        let begun = known.as_ref().and_then(|k| std::fs::read_to_string(k.file("begun")).ok()).unwrap_or_default();
        let lines: Vec<&str> = begun.lines().map(str::trim).collect();
        let line = |at: usize| lines.get(at).filter(|l| !l.is_empty() && l.len() <= 200).map(|l| (*l).to_string());
        let written = |path: PathBuf| std::fs::metadata(path).and_then(|m| m.modified()).ok();
        // Both by the clock of the folder that both sides see.
        let waited = known.as_ref().and_then(|k| written(k.file("begun"))?.duration_since(written(k.folder.join(SUBMITTED))?).ok());
        // Two clocks tell nothing of it; the other machine's alone does where it was asked.
        let waited = if self.shares_folder { waited } else { known.as_ref().and_then(Known::waited) };
        PlaceRecord {
            held_ms: self.shared.engine.held_for().and_then(|held| u64::try_from(held.as_millis()).ok()),
            waited_ms: waited.and_then(|w| u64::try_from(w.as_millis()).ok()),
            host: line(0).unwrap_or_else(host),
            job: known.map(|k| k.number),
            processor: line(2),
            gpus: line(3),
            ..self.record()
        }
    }
}

/// Ends the job of a stage whose Textum is gone, if one was submitted, and waits until it has. An error says that the engine
/// did not answer, so that it may be at work.
pub fn end_submitted(place: &dyn Executor, name: Option<&str>, folder: &Path) -> Result<(), IoError> {
    let Some(called) = submitted_name(folder) else { return Ok(()) };
    let unanswered = |e: IoError| {
        let what = format!("a job of a run that was cut off may still be at work, and its cluster does not say: {e}");
        IoError::of("end", Path::new(&called))(std::io::Error::other(what))
    };
    // One that the engine takes on only now, after all, does nothing.
    fsio::write_derived(&folder.join(format!("{called}.revoked")), b"")?;
    // Before it is asked whether the place has it: what begins between the two would not be found.
    place.take_back(folder, name).map_err(unanswered)?;
    let Some(id) = place.take_up(folder, name).map_err(unanswered)? else { return Ok(()) };
    place.cancel(&id, Cancel::AtOnce).map_err(unanswered)?;
    // Its word that it has ended counts, whatever it says of how.
    let _ = place.wait(&id);
    Ok(())
}
