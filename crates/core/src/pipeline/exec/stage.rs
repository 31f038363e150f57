//! One execution of one stage: from its inputs to its receipt. What is executed is what is recorded:
//! nothing but the inputs decides what is done here.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use textum_base::ProjectPath;

use super::ExecError;
use super::attempts::Tries;
use super::echo::Echo;
use super::listen::{Heard, Listener, last_values};
use super::observing::Observer;
use super::task::Task;
use super::unattended::note_task;
use crate::config::manifest::{Command, DEFINITIONS, Evaluation, nest};
use crate::event::{CancelToken, Event, EventSink};
use crate::fsio::{self, IoError, TreeDir};
use crate::pipeline::examination;
use crate::pipeline::executor::{Cancel, Executor, Job, JobCommand, JobId, Why};
use crate::project::fingerprint::stage_variables;
use crate::project::observed::Settled;
use crate::project::sandbox::Pool;
use crate::record::receipt::{Content, Exit, PlaceRecord, STAGE_RECEIPT, StageReceipt, StageState, canonical};
use crate::store::{Digest, Store, Writer};

/// Keeps the checkpoints of a stage whose results are only looked at.
pub trait KeepCheckpoint {
    /// Is told of a checkpoint that stands at `path` now; whether the stage need not go on.
    fn keep(&self, step: u64, path: &ProjectPath) -> Result<bool, String>;
}

/// How a command ended, what was heard of it, and where it was executed with what the place says of its end.
type Ended = (Exit, Result<Heard, ExecError>, Option<At>);

/// Where a command was executed.
pub(super) struct At {
    pub(super) record: PlaceRecord,
    pub(super) why: Option<Why>,
    /// How long it was at work, by the place's own word.
    pub(super) worked: Option<Duration>,
}

/// What all executions of a run have in common.
pub struct StageContext<'a> {
    /// What sandboxes share, and the store that it comes from.
    pub pool: Option<(&'a Pool, &'a Store)>,
    /// The store, for versions that a stage is held against.
    pub store: &'a Store,
    /// Takes results into the store; without it they are only looked at.
    pub writer: Option<&'a Writer<'a>>,
    /// Without a writer: keeps the checkpoints of the stage.
    pub keep: Option<&'a (dyn KeepCheckpoint + Sync)>,
    /// What stages are observed with, if they can be.
    pub observer: Option<&'a Observer>,
    /// Where commands are executed.
    pub place: &'a dyn Executor,
    /// This process's environment variables.
    pub variables: &'a [(String, String)],
    /// Whether what stages print is told of.
    pub echo: bool,
    /// Hears of it.
    pub events: &'a dyn EventSink,
    /// Asks to stop.
    pub cancel: &'a CancelToken,
    /// The commands at work.
    pub at_work: Mutex<BTreeMap<String, JobId>>,
    /// What stages were seen to read, until it is taken in.
    pub settled: Mutex<Vec<Settled>>,
}

/// The variables that a stage gets, and what has to be kept until it has ended.
type Prepared = (Vec<(String, String)>, Option<tempfile::TempDir>);

/// Variables that name folders of a sealed stage's own, and where these are in the folder of its execution.
pub(super) const PRIVATE: [(&str, &str); 2] = [("TMPDIR", "tmp"), ("HOME", "home")];

/// A short name for a folder with a long one, with what it is kept by: the name of a socket in it has at most 107 bytes.
fn short_name(folder: &Path) -> Result<Option<(tempfile::TempDir, PathBuf)>, IoError> {
    const LONG: usize = 48;
    let temporary = Path::new("/tmp");
    if folder.as_os_str().len() <= LONG || !temporary.is_dir() {
        return Ok(None);
    }
    let kept =
        tempfile::Builder::new().prefix("textum-").tempdir_in(temporary).map_err(IoError::of("make a folder in", temporary))?;
    let name = ProjectPath::new("t").map_err(|e| IoError::of("name", temporary)(std::io::Error::other(e.to_string())))?;
    TreeDir::open(kept.path())?.create_link(&folder.display().to_string(), &name)?;
    let path = kept.path().join("t");
    Ok(Some((kept, path)))
}

impl StageContext<'_> {
    /// Tells all commands at work to end.
    pub fn end_all(&self, at_once: bool) {
        let how = if at_once { Cancel::AtOnce } else { Cancel::Ask };
        // A place that does not answer is asked again when patience ends.
        let _ = self.place.cancel_all(&self.jobs_at_work(), how);
    }

    /// The jobs of all commands at work.
    pub(super) fn jobs_at_work(&self) -> Vec<JobId> {
        self.at_work.lock().unwrap_or_else(PoisonError::into_inner).values().cloned().collect()
    }

    /// Executes a stage and gives its receipt, which is not yet in the store. An error is Textum's own; a
    /// stage that does not succeed has a receipt that says so.
    pub fn execute(&self, task: Task) -> Result<StageReceipt, ExecError> {
        self.execute_telling(task, &|| {})
    }

    /// The same; tells when the command has ended well and only its outputs are to be recorded.
    pub(super) fn execute_telling(&self, task: Task, command_ended: &dyn Fn()) -> Result<StageReceipt, ExecError> {
        let _span = tracing::debug_span!("execute", stage = %task.inputs.stage, run = %task.run).entered();
        let (started, clock) = match &task.taken_up {
            None => (textum_base::clock::now(), Instant::now()),
            Some(taken) => {
                let started = taken.started.parse().unwrap_or_else(|_| textum_base::clock::now());
                (started, Instant::now().checked_sub(taken.since).unwrap_or_else(Instant::now))
            }
        };
        let (variables, _short) = self.prepare(&task)?;
        let mut receipt = begin(&task, self.place, started);
        if task.taken_up.is_none() {
            fsio::write_derived(&task.folder.join("begun.json"), &canonical(&receipt)?)?;
        }
        let mut tries = Tries::of(&task);
        let ended = loop {
            let ended = make_room(&task).and_then(|()| self.run_command(&task, &variables, &tries, (&receipt.started, clock)));
            match &ended {
                Ok((_, Ok(heard), Some(at))) if self.is_tried_again(&task, &mut tries, heard, at)? => {}
                // Its run is not closed: whoever comes when the place answers ends the job, or takes it up.
                Err(e) if task.place.is_some() && self.cancel.asked() && e.source.kind() != std::io::ErrorKind::Interrupted => {
                    return Err(ExecError::MayBeAtWork(left_there(ended)));
                }
                _ => break ended,
            }
        };
        receipt.attempts = std::mem::take(&mut tries.past);
        let (mut stopped, mut worked) = (None, None);
        let failure = match ended {
            Ok((exit, heard, at)) => {
                receipt.exit = Some(exit);
                worked = at.as_ref().and_then(|at| at.worked);
                let by_place = at.as_ref().and_then(|at| at.why.clone()).filter(|_| !self.cancel.asked()).map(|why| why.words);
                receipt.place = at.map_or(receipt.place, |at| at.record);
                stopped = self.keep_heard(heard?, &mut receipt)?;
                let outcome = self.observed(&task, &mut receipt, &variables)?;
                let exit = outcome.as_ref().ok().and_then(|o| o.end).unwrap_or(exit);
                receipt.exit = Some(exit);
                // What it was seen to read is settled: what another does to that is not this one's any more.
                if exit == Exit::Code(0) && outcome.is_ok() && stopped.is_none() && !self.cancel.asked() {
                    command_ended();
                }
                match (&stopped, by_place) {
                    (Some(reason), _) => Some(reason.clone()),
                    (None, Some(why)) => Some(why),
                    (None, None) => self.judge(&task, &mut receipt, exit, clock, outcome)?,
                }
            }
            Err(e) => Some(e.to_string()),
        };
        let waited = receipt.place.waited_ms.map_or(0.0, |ms| ms as f64 / 1000.0);
        receipt.seconds = worked.map_or((clock.elapsed().as_secs_f64() - waited).max(0.0), |w| w.as_secs_f64());
        if let Some(reason) = failure {
            let by_somebody = self.cancel.asked() || stopped.is_some();
            receipt.state = if by_somebody { StageState::Stopped } else { StageState::Failed };
            receipt.reason = Some(reason);
            self.keep_what_is_left(&task, &mut receipt);
        }
        receipt.log = self.keep_log(&task)?;
        Ok(receipt)
    }

    /// The variables that a stage gets; what they lead to is written.
    fn prepare(&self, task: &Task) -> Result<Prepared, ExecError> {
        let folder = &task.folder;
        crate::fsio::create_folder(folder)?;
        let params = folder.join("params.json");
        let typed = task.inputs.params.iter().map(|(n, text)| (n.as_str(), serde_json::from_str(text).unwrap_or_default()));
        let text = serde_json::to_vec_pretty(&nest(typed)).map_err(|e| IoError::of("write", &params)(e.into()))?;
        fsio::write_derived(&params, &text)?;
        let mut variables = stage_variables(self.variables, &task.inputs.vars);
        variables.extend([
            ("TEXTUM_STAGE".to_string(), task.inputs.stage.clone()),
            ("TEXTUM_RUN".to_string(), task.run.clone()),
            ("TEXTUM_PARAMS".to_string(), params.display().to_string()),
            ("TEXTUM_SIGNALS".to_string(), folder.join("signals").display().to_string()),
        ]);
        // For a script that calls `textum emit` without having it on its PATH.
        let there = self.place.program(task.place.as_deref())?;
        if let Some(program) = there.or_else(|| std::env::current_exe().ok()) {
            variables.push(("TEXTUM_PROGRAM".to_string(), program.display().to_string()));
        }
        let mut short = None;
        if task.seal.is_some() {
            short = self.private_folders(task, &mut variables)?;
        }
        if let (Some(from), Some(path)) = (&task.from, &task.inputs.checkpoints) {
            variables.push(("TEXTUM_FROM".to_string(), path.to_string()));
            variables.push(("TEXTUM_FROM_STEP".to_string(), from.step.to_string()));
        }
        Ok((variables, short))
    }

    /// A sealed stage has a folder for temporary files of its own, and an empty home unless `HOME` is declared. What is
    /// written there is thrown away.
    /// What is given has to be kept until it has ended.
    fn private_folders(&self, task: &Task, variables: &mut Vec<(String, String)>) -> Result<Option<tempfile::TempDir>, ExecError> {
        let mut short = None;
        // Caches are in its own home then.
        variables.retain(|(name, _)| name != "XDG_CACHE_HOME" || task.inputs.vars.contains_key(name));
        for (name, folder) in PRIVATE {
            let mut folder = task.folder.join(folder);
            fsio::create_folder(&folder)?;
            // What is sent is given the folders of the machine there.
            if name == "TMPDIR" && !task.is_sent {
                short = short_name(&folder)?;
                folder = short.as_ref().map_or(folder, |(_, path)| path.clone());
            }
            if !task.inputs.vars.contains_key(name) {
                variables.retain(|(n, _)| n != name);
                variables.push((name.to_string(), folder.display().to_string()));
            }
        }
        Ok(short.map(|(kept, _)| kept))
    }

    fn run_command(
        &self,
        task: &Task,
        variables: &[(String, String)],
        tries: &Tries,
        (started, clock): (&str, Instant),
    ) -> Result<Ended, IoError> {
        let listener = Listener::new(self, task, started, clock, tries.before(task));
        let command = match &task.inputs.run {
            Command::Shell(text) => JobCommand::Shell(text.clone()),
            Command::Argv(words) => JobCommand::Argv(words.clone()),
            own @ (Command::Evaluate(_) | Command::Examine(_)) => {
                let exit = do_ourselves(task, own, self.store, self.cancel)?;
                let nothing = Heard { record: Default::default(), points: None, stopped: None };
                return Ok((exit, Ok(nothing), None));
            }
        };
        if task.seal.is_some() && self.observer.is_none() {
            let why = std::io::Error::other("it is sealed, and this system has no means for that");
            return Err(IoError::of("start the stage", Path::new(&task.inputs.stage))(why));
        }
        let job = match task.taken_up.as_ref().filter(|_| tries.is_first()) {
            Some(taken) => taken.job.clone(),
            None => self.submit(task, command, tries.variables(task, variables))?,
        };
        let stage = &task.inputs.stage;
        // Who finds this run cut off ends what it left at work.
        self.events.event(Event::Submitted { stage: stage.clone(), job: job.0.clone() });
        self.at_work.lock().unwrap_or_else(PoisonError::into_inner).insert(stage.clone(), job.clone());
        // Whoever asked to stop before the command was known here did not reach it.
        if self.cancel.asked() {
            self.place.cancel(&job, Cancel::Ask)?;
        }
        let echo = self.echo.then(|| Echo::start(stage, &task.log()));
        let ended = AtomicBool::new(false);
        let result = std::thread::scope(|scope| {
            let listening = match std::thread::Builder::new().spawn_scoped(scope, || listener.follow(&job, &ended)) {
                Ok(listening) => listening,
                // Nobody would hear what it says.
                Err(e) => {
                    self.place.cancel(&job, Cancel::AtOnce)?;
                    self.place.wait(&job)?;
                    return Err(no_thread(stage)(e));
                }
            };
            let exit = match echo {
                Some(echo) => echo.during(self.events, || self.place.wait(&job)),
                None => self.place.wait(&job),
            };
            ended.store(true, Ordering::SeqCst);
            listening.thread().unpark();
            let heard = match listening.join() {
                Ok(heard) => heard,
                Err(panic) => std::panic::resume_unwind(panic),
            };
            let at = At { record: self.place.record_of(&job), why: self.place.why(&job), worked: self.place.worked(&job) };
            Ok((exit?, heard, Some(at)))
        });
        self.at_work.lock().unwrap_or_else(PoisonError::into_inner).remove(stage);
        result
    }

    /// Hands a stage's command to the place where it executes.
    fn submit(&self, task: &Task, command: JobCommand, variables: Vec<(String, String)>) -> Result<JobId, IoError> {
        let program = self.place.program(task.place.as_deref())?;
        let observer = self.observer.filter(|_| task.observe || task.seal.is_some());
        let (command, away) = match observer {
            Some(observer) if task.is_sent => (command, Some(observer.order(task))),
            Some(observer) => (observer.wrap(task, command, program.as_deref(), &variables)?, None),
            None => (command, None),
        };
        let folder = task.scanner.root().to_path_buf();
        if task.place.is_some() {
            note_task(&task.folder, &folder, &task.standing)?;
        }
        let log = task.log();
        let job = Job {
            command,
            folder,
            variables,
            log,
            needs: task.needs,
            place: task.place.clone(),
            declared: task.inputs.vars.keys().cloned().collect(),
            inputs: task.stored_reads(),
            outputs: task.outputs().map(str::to_string).collect(),
            checkpoints: task.inputs.checkpoints.as_ref().map(ToString::to_string),
            away,
        };
        if task.place.is_none() {
            return self.place.submit(&job);
        }
        // A place may let one wait: for a machine, or for an answer.
        let over = AtomicBool::new(false);
        std::thread::scope(|scope| {
            let watch = || {
                let mut told = None;
                while !over.load(Ordering::SeqCst) {
                    // Again and again: it may come before anybody waits.
                    if self.cancel.asked() {
                        self.place.give_up(&task.folder, task.place.as_deref());
                    }
                    let says = self.place.has_no_room(&task.folder, task.place.as_deref());
                    if let Some(says) = says.filter(|says| told.as_ref() != Some(says)) {
                        told = Some(says.clone());
                        let (stage, place) = (task.inputs.stage.clone(), task.place.clone().unwrap_or_default());
                        self.events.event(Event::NoRoom { stage, place, says });
                    }
                    std::thread::park_timeout(super::active_run::LOOK_FOR_STOP);
                }
            };
            let watching = std::thread::Builder::new().spawn_scoped(scope, watch).map_err(no_thread(&task.inputs.stage))?;
            let submitted = self.place.submit(&job);
            over.store(true, Ordering::SeqCst);
            watching.thread().unpark();
            submitted
        })
    }

    /// Puts what was heard into the receipt; says why the stage was stopped by its own rule, if it was.
    fn keep_heard(&self, heard: Heard, receipt: &mut StageReceipt) -> Result<Option<String>, ExecError> {
        receipt.metrics.extend(last_values(&heard.record));
        let mut record = heard.record;
        if let (Some(points), Some(writer)) = (&heard.points, self.writer) {
            let stored = writer.put_file(points)?;
            record.points = Some(Content::file(stored.digest, stored.size));
        }
        let silent = record == Default::default();
        receipt.signals = (!silent).then_some(record);
        Ok(heard.stopped)
    }

    fn keep_log(&self, task: &Task) -> Result<Content, ExecError> {
        let (bytes, log) = (Content::file, task.log());
        super::mask::mask(&log, &super::mask::secrets(task.inputs.vars.keys(), self.variables))?;
        match self.writer {
            Some(writer) if log.is_file() => writer.put_file(&log).map(|s| bytes(s.digest, s.size)),
            Some(writer) => writer.put_bytes(b"").map(|s| bytes(s.digest, s.size)),
            None => return Ok(bytes(Digest::of(b""), 0)),
        }
        .map_err(ExecError::from)
    }
}

/// What is said where the system gives no more threads.
pub(super) fn no_thread(stage: &str) -> impl FnOnce(std::io::Error) -> IoError {
    IoError::of("begin a thread for", Path::new(stage))
}

/// What is said of a job that could not be ended.
fn left_there(ended: Result<Ended, IoError>) -> IoError {
    let nothing = || IoError::of("end", Path::new("the job"))(std::io::Error::other("its place does not answer"));
    ended.err().unwrap_or_else(nothing)
}

/// Makes the folders in which outputs are to stand.
fn make_room(task: &Task) -> Result<(), IoError> {
    let tree = TreeDir::open(task.scanner.root())?;
    let outputs = task.inputs.writes.iter().map(|w| &w.path).chain(&task.inputs.metrics).chain(&task.inputs.checkpoints);
    outputs.into_iter().try_for_each(|path| tree.create_parent(path))
}

fn begin(task: &Task, place: &dyn Executor, started: jiff::Timestamp) -> StageReceipt {
    StageReceipt {
        r#type: STAGE_RECEIPT.to_string(),
        run: task.run.clone(),
        key: task.key,
        inputs: task.inputs.clone(),
        state: StageState::Done,
        reason: None,
        started: started.to_string(),
        ordered: task.clock_behind.and_then(|behind| started.checked_add(behind).ok()).map(|t| t.to_string()),
        seconds: 0.0,
        exit: None,
        reads: task.reads.clone(),
        writes: Vec::new(),
        metric_files: Vec::new(),
        metrics: BTreeMap::new(),
        signals: None,
        from: task.from.clone(),
        left: Vec::new(),
        log: Content::file(Digest::of(b""), 0),
        environment: task.environment,
        needs: task.needs,
        place: place.record_for(task.place.as_deref()),
        sandbox: task.sandbox_of.is_some(),
        observed: None,
        taken_over: None,
        attempts: Vec::new(),
        undeclared: Vec::new(),
        versions: task.versions.clone(),
    }
}

/// Does what needs no command in this process, as if it were one: what it says goes to the log.
fn do_ourselves(task: &Task, command: &Command, store: &Store, cancel: &CancelToken) -> Result<Exit, IoError> {
    let stop = || cancel.asked();
    let path = task.log();
    let mut log = fsio::create(&path)?;
    let metrics = task.inputs.metrics.first().map(|m| &**m);
    let folder = task.inputs.writes.first().map(|w| &*w.path);
    let root = task.scanner.root();
    let (action, what, done) = match command {
        // What was judged by other definitions would come out otherwise without anybody having changed anything.
        Command::Evaluate(Evaluation { definitions, predictions, .. }) if *definitions != DEFINITIONS => {
            let why = format!("it was judged by the definitions {definitions}, and this Textum has the definitions {DEFINITIONS}");
            ("evaluate", &**predictions, Err(why))
        }
        Command::Evaluate(evaluation) => {
            let done = crate::pipeline::evaluation::evaluate(root, evaluation, metrics.unwrap_or(""), folder, &mut log, &stop);
            ("evaluate", &*evaluation.predictions, done.map(|()| true).map_err(|e| e.to_string()))
        }
        Command::Examine(examination) => {
            let place = examination::Places { root, store, versions: &task.versions, stop: &stop };
            let done = examination::examine_into(examination, &place, metrics, folder, &mut log);
            ("examine", examination.data.path.as_str(), done.map_err(|e| e.to_string()))
        }
        Command::Shell(_) | Command::Argv(_) => return Ok(Exit::Code(0)),
    };
    match done {
        Ok(fine) => Ok(Exit::Code(if fine { 0 } else { 1 })),
        Err(_) if cancel.asked() => Ok(Exit::Code(1)),
        Err(why) => {
            std::io::Write::write_all(&mut log, format!("{why}\n").as_bytes()).map_err(IoError::of("write", &path))?;
            Err(IoError::of(action, Path::new(what))(std::io::Error::other(why)))
        }
    }
}
