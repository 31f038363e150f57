//! One execution of one stage: from its inputs to its receipt. What is executed is what is recorded:
//! nothing but the inputs decides what is done here.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use textum_base::{DeclaredPath, ProjectPath, SourcePath};

use super::echo::Echo;
use super::listen::{Heard, Listener, last_values};
use super::observing::{self, Observer, Outcome};
use super::{ExecError, likely};
use crate::config::manifest::{Better, Command, Needs, nest};
use crate::event::{CancelToken, Event, EventSink};
use crate::fsio::{self, IoError, TreeDir};
use crate::pipeline::executor::{Cancel, Executor, Job, JobCommand, JobId};
use crate::pipeline::signal::read_metrics;
use crate::project::fingerprint::{ScanError, Scanner, Standstill, stage_variables};
use crate::project::observed::Settled;
use crate::project::sandbox::Pool;
use crate::record::receipt::{
    BranchedFrom, Content, ContentKind, Exit, Inputs, Metric, Observed, ObservedHow, PathContent, Read, STAGE_RECEIPT,
    StageReceipt, StageState, canonical,
};
use crate::store::{Digest, Store, Writer};
use textum_expr::Rule;
use textum_observe::Seal;

/// A stage about to be executed; its outputs have been cleared.
pub struct Task {
    /// What decides its result.
    pub inputs: Inputs,
    /// The digest of that.
    pub key: Digest,
    /// What it reads, and where that came from.
    pub reads: Vec<Read>,
    /// What it needs of the machine.
    pub needs: Needs,
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
    /// Whether what it reads is observed.
    pub observe: bool,
    /// What it may do, if it is sealed.
    pub seal: Option<Seal>,
}

impl Task {
    /// The paths that it brings forth.
    pub(super) fn outputs(&self) -> impl Iterator<Item = &str> {
        let writes = self.inputs.writes.iter().map(|w| &*w.path);
        writes.chain(self.inputs.metrics.iter().map(|m| &**m)).chain(self.inputs.checkpoints.as_deref())
    }

    /// Where what it prints goes.
    fn log(&self) -> PathBuf {
        self.folder.join("log")
    }
}

/// What all executions of a run have in common.
pub struct StageContext<'a> {
    /// What sandboxes share, and the store that it comes from.
    pub pool: Option<(&'a Pool, &'a Store)>,
    /// Takes results into the store; without it they are only looked at.
    pub writer: Option<&'a Writer<'a>>,
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

impl StageContext<'_> {
    /// Tells all commands at work to end.
    pub fn end_all(&self, at_once: bool) {
        let how = if at_once { Cancel::AtOnce } else { Cancel::Ask };
        for job in self.at_work.lock().unwrap_or_else(PoisonError::into_inner).values() {
            // A place that does not answer is asked again when patience ends.
            let _ = self.place.cancel(job, how);
        }
    }

    /// Executes a stage and gives its receipt, which is not yet in the store. An error is Textum's own; a
    /// stage that does not succeed has a receipt that says so.
    pub fn execute(&self, task: Task) -> Result<StageReceipt, ExecError> {
        let _span = tracing::debug_span!("execute", stage = %task.inputs.stage, run = %task.run).entered();
        let started = textum_base::clock::now();
        let clock = Instant::now();
        let variables = self.prepare(&task)?;
        let mut receipt = begin(&task, self.place, started);
        fsio::write_derived(&task.folder.join("begun.json"), &canonical(&receipt)?)?;
        let listener = Listener::new(self, &task, &receipt.started);
        let mut stopped = None;
        let failure = match make_room(&task).and_then(|()| self.run_command(&task, variables.clone(), listener)) {
            Ok((exit, heard)) => {
                receipt.exit = Some(exit);
                stopped = self.keep_heard(heard?, &mut receipt)?;
                let outcome = self.observed(&task, &mut receipt, &variables)?;
                let exit = outcome.as_ref().ok().and_then(|o| o.end).unwrap_or(exit);
                receipt.exit = Some(exit);
                match &stopped {
                    Some(reason) => Some(reason.clone()),
                    None => self.judge(&task, &mut receipt, exit, clock, outcome)?,
                }
            }
            Err(e) => Some(e.to_string()),
        };
        receipt.seconds = clock.elapsed().as_secs_f64();
        if let Some(reason) = failure {
            let by_somebody = self.cancel.asked() || stopped.is_some();
            receipt.state = if by_somebody { StageState::Stopped } else { StageState::Failed };
            receipt.reason = Some(reason);
            self.keep_what_is_left(&task, &mut receipt);
        }
        receipt.log = self.keep_log(&task.log())?;
        Ok(receipt)
    }

    /// The variables that a stage gets; what they lead to is written.
    fn prepare(&self, task: &Task) -> Result<Vec<(String, String)>, ExecError> {
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
        if let Ok(program) = std::env::current_exe() {
            variables.push(("TEXTUM_PROGRAM".to_string(), program.display().to_string()));
        }
        if task.seal.is_some() {
            self.private_folders(task, &mut variables)?;
        }
        if let (Some(from), Some(path)) = (&task.from, &task.inputs.checkpoints) {
            variables.push(("TEXTUM_FROM".to_string(), path.to_string()));
            variables.push(("TEXTUM_FROM_STEP".to_string(), from.step.to_string()));
        }
        Ok(variables)
    }

    /// A sealed stage has a folder for temporary files of its own, and an empty home unless `HOME` is declared.
    fn private_folders(&self, task: &Task, variables: &mut Vec<(String, String)>) -> Result<(), ExecError> {
        for (name, folder) in [("TMPDIR", "tmp"), ("HOME", "home")] {
            let folder = task.folder.join(folder);
            fsio::create_folder(&folder)?;
            if !task.inputs.vars.contains_key(name) {
                variables.retain(|(n, _)| n != name);
                variables.push((name.to_string(), folder.display().to_string()));
            }
        }
        Ok(())
    }

    fn run_command(
        &self,
        task: &Task,
        variables: Vec<(String, String)>,
        listener: Listener<'_, '_>,
    ) -> Result<(Exit, Result<Heard, ExecError>), IoError> {
        let command = match &task.inputs.run {
            Command::Shell(text) => JobCommand::Shell(text.clone()),
            Command::Argv(words) => JobCommand::Argv(words.clone()),
            Command::Evaluate(evaluation) => {
                let exit = evaluate(task, evaluation)?;
                let nothing = Heard { record: Default::default(), points: None, stopped: None };
                return Ok((exit, Ok(nothing)));
            }
        };
        let command = match self.observer.filter(|_| task.observe || task.seal.is_some()) {
            Some(observer) => observer.wrap(task, command, task.seal.as_ref())?,
            None => command,
        };
        let folder = task.scanner.root().to_path_buf();
        let job = self.place.submit(&Job { command, folder, variables, log: task.log(), needs: task.needs })?;
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
            let listening = scope.spawn(|| listener.follow(&job, &ended));
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
            Ok((exit?, heard))
        });
        self.at_work.lock().unwrap_or_else(PoisonError::into_inner).remove(stage);
        result
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

    /// What the stage was seen to read, in its receipt; a reason where it could not be seen though it was to be.
    fn observed(
        &self,
        task: &Task,
        receipt: &mut StageReceipt,
        variables: &[(String, String)],
    ) -> Result<Result<Outcome, String>, ExecError> {
        let not = |because: &str| Observed {
            how: ObservedHow::No,
            because: Some(because.into()),
            inputs: None,
            environment: None,
            sealed: false,
        };
        let nothing = |observed| Outcome {
            observed,
            settled: None,
            missed: Vec::new(),
            refused: Vec::new(),
            other_interpreter: None,
            end: None,
        };
        let outcome = match self.observer {
            _ if matches!(task.inputs.run, Command::Evaluate(_)) => {
                return Ok(Ok(nothing(not("Textum itself reads what it declares"))));
            }
            _ if !task.observe && task.seal.is_none() => Ok(nothing(not("the manifest says so"))),
            None => Ok(nothing(not("this system has no means for it"))),
            Some(observer) => observer.outcome(task, variables, self.writer)?,
        };
        if let Ok(outcome) = &outcome {
            receipt.observed = Some(outcome.observed.clone());
            if let Some((started, declared)) = outcome.other_interpreter.clone() {
                self.events.event(Event::OtherInterpreter { stage: task.inputs.stage.clone(), started, declared });
            }
            if let Some(settled) = &outcome.settled {
                receipt.undeclared.clone_from(&settled.undeclared);
            }
        }
        Ok(outcome)
    }

    /// Why the stage did not succeed, if it did not; else its outputs are in the receipt.
    fn judge(
        &self,
        task: &Task,
        receipt: &mut StageReceipt,
        exit: Exit,
        began: Instant,
        observed: Result<Outcome, String>,
    ) -> Result<Option<String>, ExecError> {
        if self.cancel.asked() && exit != Exit::Code(0) {
            return Ok(Some(self.cancel.reason().unwrap_or("it was stopped").to_string()));
        }
        let refused = observed.as_ref().map(|o| o.refused.as_slice()).unwrap_or_default();
        if !refused.is_empty() {
            return Ok(Some(observing::refusal(task, refused)));
        }
        let missed = observed.as_ref().map(|o| o.missed.as_slice()).unwrap_or_default();
        match exit {
            Exit::Code(0) => {}
            Exit::Code(127) => {
                return Ok(Some(self.with_likely(task, missed, "its command was not found (exit status 127)".into())));
            }
            Exit::Code(_) if observed.is_err() => return Ok(observed.err()),
            Exit::Code(code) => {
                return Ok(Some(self.with_likely(task, missed, format!("its command ended with exit status {code}"))));
            }
            Exit::Signal(number) => return Ok(Some(format!("its command was killed by signal {number}"))),
        }
        let mut outcome = match observed {
            Ok(outcome) => outcome,
            Err(why) => return Ok(Some(why)),
        };
        if let Some(stale) = outcome.settled.as_ref().map(|s| s.stale.as_slice()).filter(|s| !s.is_empty()) {
            return Ok(Some(format!(
                "Python took a compiled form of {} that is older than the file itself, as both bear the same second: it has been removed, run again",
                stale.join(", ")
            )));
        }
        if let Some(touched) = outcome.settled.as_ref().map(|s| s.touched.as_slice()).filter(|t| !t.is_empty()) {
            return Ok(Some(was_touched(&touched.join(", "))));
        }
        self.settled.lock().unwrap_or_else(PoisonError::into_inner).extend(outcome.settled.take());
        // What cannot be looked at or recorded there is the stage's to mend, and ends nothing but the stage.
        let looked = self.changed_reads(task, began).and_then(|changed| match changed {
            Some(reason) => Ok(Err(reason)),
            None => self.collect(task),
        });
        let (writes, metric_files) = match looked {
            Ok(Ok(found)) => found,
            Ok(Err(reason)) => return Ok(Some(reason)),
            Err(e) if e.is_textums_own() => return Err(e.into()),
            Err(e) => return Ok(Some(format!("what it left cannot be recorded: {e}"))),
        };
        match read_metric_files(task, &metric_files) {
            Ok(metrics) => receipt.metrics.extend(metrics),
            Err(reason) => return Ok(Some(reason)),
        }
        receipt.writes = writes;
        receipt.metric_files = metric_files;
        Ok(None)
    }

    fn with_likely(&self, task: &Task, missed: &[String], reason: String) -> String {
        let Some(project) = &task.sandbox_of else { return reason };
        let reads: Vec<&str> = task.inputs.reads.keys().map(|path| &**path).collect();
        let mut likely = observing::lacking(project, missed, &reads);
        let named = likely::likely_files(&task.folder.join("log"), project, task.scanner.root(), &reads);
        likely.extend(named.into_iter().filter(|n| !missed.contains(n)));
        if likely.is_empty() {
            return reason;
        }
        format!("{reason}; it seems to need {}, which it does not declare among its reads", likely.join(", "))
    }

    /// A read that somebody touched since the stage began: the receipt could not be true, even if it stands there
    /// as before.
    fn changed_reads(&self, task: &Task, began: Instant) -> Result<Option<String>, ScanError> {
        let mut changed = Vec::new();
        for read in &task.reads {
            let path = &read.at.path;
            let before = task.standing.get(path);
            let now = Standstill::look(task.scanner.root(), path)?;
            let touched = match (before, &now) {
                (Some(before), Some(now)) => before.was_touched(now),
                _ => true,
            };
            // In a sandbox files are shared with others, whose coming and going moves their times: what counts
            // there is that nobody has written into them.
            let changed_here = match task.sandbox_of {
                Some(_) if !task.own_reads.contains(path) => {
                    let written = |(pool, store): (&Pool, &Store)| pool.was_written(store, &read.at.content, began);
                    self.pool.is_some_and(written) || (touched && task.scanner.look(path)?.as_ref() != Some(&read.at.content))
                }
                _ => touched,
            };
            if changed_here {
                changed.push(path.as_str());
            }
        }
        if changed.is_empty() {
            return Ok(None);
        }
        Ok(Some(was_touched(&changed.join(", "))))
    }

    /// The stage's outputs and files of metrics, taken into the store; or what is missing of them.
    #[allow(clippy::type_complexity)]
    fn collect(&self, task: &Task) -> Result<Result<(Vec<PathContent>, Vec<PathContent>), String>, ScanError> {
        let (mut writes, mut metric_files, mut missing) = (Vec::new(), Vec::new(), Vec::new());
        for DeclaredPath { path, folder } in &task.inputs.writes {
            match self.take(task, path)? {
                Some(content) if !folder || content.kind == ContentKind::Folder => {
                    writes.push(PathContent { path: path.clone(), content });
                }
                Some(_) => missing.push(format!("{path}/ (a file stands there, a folder is declared)")),
                None => missing.push(format!("{path}{}", if *folder { "/" } else { "" })),
            }
        }
        for path in &task.inputs.metrics {
            match self.take(task, path)? {
                Some(content) => metric_files.push(PathContent { path: path.clone(), content }),
                None => missing.push(path.to_string()),
            }
        }
        Ok(match missing.is_empty() {
            true => Ok((writes, metric_files)),
            false => Err(format!("it did not write {}, which it declares", missing.join(", "))),
        })
    }

    fn take(&self, task: &Task, path: &ProjectPath) -> Result<Option<Content>, ScanError> {
        match self.writer {
            Some(writer) => task.scanner.record(path, writer),
            None => task.scanner.look(path),
        }
    }

    /// Of a stage that did not succeed: metrics as far as they are there, and what it left behind by
    /// digest, so that the next run knows it for what it is. Nothing here may fail the run.
    fn keep_what_is_left(&self, task: &Task, receipt: &mut StageReceipt) {
        receipt.writes.clear();
        receipt.metric_files.clear();
        for path in &task.inputs.metrics {
            if let Ok(Some(content)) = self.take(task, path) {
                let file = PathContent { path: path.clone(), content };
                if let Ok(metrics) = read_metrics(&task.scanner.root().join(path)) {
                    receipt.metrics.extend(metrics);
                }
                receipt.metric_files.push(file);
            }
        }
        for DeclaredPath { path, .. } in &task.inputs.writes {
            let Ok(Some(content)) = task.scanner.look(path) else { continue };
            if content.kind != ContentKind::Folder {
                receipt.left.push(PathContent { path: path.clone(), content });
                continue;
            }
            for seen in crate::project::fingerprint::walk(&task.scanner.root().join(path)).unwrap_or_default() {
                let Ok(below) = path.join(&seen.path) else { continue };
                if let Ok(Some(content)) = task.scanner.look(&below) {
                    receipt.left.push(PathContent { path: below, content });
                }
            }
        }
    }

    fn keep_log(&self, log: &Path) -> Result<Content, ExecError> {
        let bytes = Content::file;
        match self.writer {
            Some(writer) if log.is_file() => writer.put_file(log).map(|s| bytes(s.digest, s.size)),
            Some(writer) => writer.put_bytes(b"").map(|s| bytes(s.digest, s.size)),
            None => return Ok(bytes(Digest::of(b""), 0)),
        }
        .map_err(ExecError::from)
    }
}

fn was_touched(them: &str) -> String {
    format!(
        "{them} was touched while it ran (by the stage itself, or by somebody else), so that its result cannot be told to come from what it read"
    )
}

/// Makes the folders in which outputs are to stand.
fn make_room(task: &Task) -> Result<(), IoError> {
    let tree = TreeDir::open(task.scanner.root())?;
    let outputs = task.inputs.writes.iter().map(|w| &w.path).chain(&task.inputs.metrics).chain(&task.inputs.checkpoints);
    outputs.into_iter().try_for_each(|path| tree.create_parent(path))
}

fn read_metric_files(task: &Task, files: &[PathContent]) -> Result<BTreeMap<String, Metric>, String> {
    let mut all = BTreeMap::new();
    for file in files {
        if file.content.kind == ContentKind::Folder {
            return Err(format!("its metrics {} are a folder; name the files", file.path));
        }
        let found = read_metrics(&task.scanner.root().join(&file.path));
        all.extend(found.map_err(|e| format!("its metrics {} cannot be read: {e}", file.path))?);
    }
    Ok(all)
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
        place: place.record(),
        sandbox: task.sandbox_of.is_some(),
        observed: None,
        taken_over: None,
        undeclared: Vec::new(),
    }
}

/// Does an evaluation in this process, as if it were a command: what it says goes to the log.
fn evaluate(task: &Task, evaluation: &crate::pipeline::evaluation::Evaluation) -> Result<Exit, IoError> {
    let path = task.log();
    let mut log = fsio::create(&path)?;
    let metrics = task.inputs.metrics.first().map_or("", |m| &**m);
    let folder = task.inputs.writes.first().map(|w| &*w.path);
    match crate::pipeline::evaluation::evaluate(task.scanner.root(), evaluation, metrics, folder, &mut log) {
        Ok(()) => Ok(Exit::Code(0)),
        Err(e) => {
            std::io::Write::write_all(&mut log, format!("{e}\n").as_bytes()).map_err(IoError::of("write", &path))?;
            Err(IoError::of("evaluate", Path::new(&*evaluation.predictions))(std::io::Error::other(e.to_string())))
        }
    }
}
