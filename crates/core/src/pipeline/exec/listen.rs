//! Listening to one stage while it runs: its signals, its files of metrics, its time, and the rule by which
//! it is to be stopped.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use super::stage::StageContext;
use super::task::Task;
use super::{ExecError, GRACE};
use crate::event::Event;
use crate::fsio::{self, FileLock, TryLock};
use crate::pipeline::executor::{Cancel, JobId, JobState, TooMuchMemory};
use crate::pipeline::signal::{Aggregate, Ask, MetricFiles, Signal, SignalReader};
use crate::record::ledger::CheckpointRow;
use crate::record::receipt::{
    CHECKPOINT_RECEIPT, CheckpointReceipt, ContentKind, Metric, PlaceRecord, STAGE_START, SignalRecord, StageStart, canonical,
};
use crate::store::{Digest, Writer};
use textum_expr::StopWatch;

/// How long it sleeps when nothing has come.
const SLEEP: Duration = Duration::from_millis(20);
/// A job that waits for room elsewhere for so long is told of.
const WAITS: Duration = Duration::from_millis(1500);
/// The same of a stage at another place that has been silent for a while, and of one that waits for room there.
const SLEEP_AT_PLACE: Duration = Duration::from_millis(200);
const LONGEST_SLEEP: Duration = Duration::from_secs(4);
/// How often files of metrics are looked at.
const LOOK_AT_FILES: Duration = Duration::from_millis(300);
/// How often the memory of a stage that says what it needs is looked at.
const LOOK_AT_MEMORY: Duration = Duration::from_millis(250);
/// How often what came is told to those who watch.
const TELL: Duration = Duration::from_millis(150);
/// So many bad lines are told of one by one.
const TOLD_BAD: u64 = 3;

/// What was heard of a stage.
pub(super) struct Heard {
    pub record: SignalRecord,
    pub points: Option<PathBuf>,
    /// Why it was stopped from here, if it was.
    pub stopped: Option<String>,
}

/// Listens to one stage.
pub(super) struct Listener<'b, 'a> {
    stage_context: &'b StageContext<'a>,
    task: &'b Task,
    place: PlaceRecord,
    started: String,
    clock: Instant,
    reader: SignalReader,
    files: MetricFiles,
    aggregate: Aggregate,
    rule: Option<StopWatch>,
    start: Option<Digest>,
    /// Whether it is durable that the stage was begun.
    is_known: bool,
    told: Option<Instant>,
    to_tell: bool,
    stopped: Option<(String, Instant)>,
    told_to_end: bool,
    killed: bool,
    looked_at_memory: Instant,
    /// What was last told of how it stands at another place.
    at_place: Option<(bool, String)>,
    /// What was said while nobody listened.
    before: Option<Before>,
    /// Held as long as somebody listens: who asks for a checkpoint sees by it that an answer will come.
    _listening: Option<FileLock>,
}

impl<'b, 'a> Listener<'b, 'a> {
    /// Begins to listen; before the stage is started, so that nothing is missed.
    pub(super) fn new(
        stage_context: &'b StageContext<'a>,
        task: &'b Task,
        started: &str,
        clock: Instant,
        before: Option<BTreeMap<u64, Made>>,
    ) -> Listener<'b, 'a> {
        let root = task.scanner.root();
        let files = task.inputs.metrics.iter().map(|m| root.join(m));
        let listening = match FileLock::try_exclusive(&task.folder.join("begun.json")) {
            Ok(TryLock::Taken(lock)) => Some(lock),
            _ => None,
        };
        Listener {
            stage_context,
            task,
            place: stage_context.place.record_for(task.place.as_deref()),
            started: started.to_string(),
            clock,
            before: before.map(|made| Before::of(task, made)),
            reader: SignalReader::new(&task.folder.join("signals")),
            files: MetricFiles::new(files),
            aggregate: Aggregate::new(&task.folder.join("points.csv"), task.better.clone()),
            rule: task.stop_when.clone().map(|rule| StopWatch::new(rule, task.better.clone())),
            start: None,
            is_known: false,
            told: None,
            to_tell: false,
            stopped: None,
            told_to_end: false,
            killed: false,
            looked_at_memory: Instant::now(),
            at_place: None,
            _listening: listening,
        }
    }

    /// Listens until the stage has ended and all it said has been heard.
    pub(super) fn follow(mut self, job: &JobId, ended: &AtomicBool) -> Result<Heard, ExecError> {
        let (began, mut looked, mut pause) = (Instant::now(), Instant::now(), SLEEP);
        loop {
            // Asked before reading: what was said until then is read in this round.
            let over = ended.load(Ordering::SeqCst);
            let any = self.read(false)?;
            // What is left is read bite by bite too; then a line without an end is one.
            let last = over && !any;
            if last {
                self.read(true)?;
            }
            if !self.files.is_empty() && (last || looked.elapsed() >= LOOK_AT_FILES) {
                for signal in self.files.look(last) {
                    self.take(&signal);
                }
                looked = Instant::now();
            }
            self.tell(last);
            if last {
                // One that was ended for it may have gone before it was looked at.
                self.look_at_memory(job);
                break;
            }
            self.stop_if_due(job);
            let longest = if self.waits_at_place(job, began) { LONGEST_SLEEP } else { SLEEP_AT_PLACE };
            if any {
                pause = SLEEP;
            } else {
                std::thread::park_timeout(pause);
                // Of a thousand jobs that wait for room elsewhere none must be asked fifty times a second.
                if self.task.place.is_some() {
                    pause = (pause * 3 / 2).min(longest);
                }
            }
        }
        let (record, points) = self.aggregate.end()?;
        Ok(Heard { record, points, stopped: self.stopped.map(|(why, _)| why) })
    }

    /// Takes in a bite of what has been said; whether there was any.
    fn read(&mut self, end: bool) -> Result<bool, ExecError> {
        let mut lines = Vec::new();
        let any = self.reader.read(end, |line, signal| lines.push((line, signal)));
        for (line, signal) in lines {
            self.take_line(line, signal)?;
        }
        Ok(any)
    }

    fn take_line(&mut self, line: u64, signal: Result<Signal, String>) -> Result<(), ExecError> {
        let signal = match signal {
            Ok(signal) => signal,
            Err(what) => {
                self.bad(line, what);
                return Ok(());
            }
        };
        let step = self.take(&signal);
        if let Some(text) = &signal.note {
            self.stage_context.events.event(Event::Note { stage: self.task.inputs.stage.clone(), text: text.clone() });
        }
        let Some(ask) = &signal.checkpoint else { return Ok(()) };
        let made = match self.before.as_ref().and_then(|before| before.of_line(line, step)) {
            Some(Ok(Made::ByOther(row))) => {
                self.record_again(&row)?;
                return Ok(());
            }
            Some(Ok(Made::Here(digest))) => {
                self.aggregate.checkpoint(digest);
                return Ok(());
            }
            Some(Err(what)) => Err(what),
            None => self.checkpoint(step)?,
        };
        if let Ask::Waiting(name) = ask {
            let answer = made.as_ref().err().map_or("stored", String::as_str);
            fsio::write_derived(&self.task.folder.join("answers").join(name), answer.as_bytes())?;
        }
        if let Err(what) = made {
            self.bad(line, what);
        }
        Ok(())
    }

    fn bad(&mut self, line: u64, what: String) {
        self.aggregate.malformed(line, what.clone());
        let count = self.aggregate.record().malformed;
        let stage = self.task.inputs.stage.clone();
        if count <= TOLD_BAD {
            self.stage_context.events.event(Event::BadSignal { stage, line, what });
        } else if count == TOLD_BAD + 1 {
            let what = "more lines like that are only counted: `textum show` names them".to_string();
            self.stage_context.events.event(Event::BadSignal { stage, line, what });
        }
    }

    fn take(&mut self, signal: &Signal) -> u64 {
        let seconds = self.clock.elapsed().as_secs_f64();
        let step = self.aggregate.take(seconds, signal);
        self.to_tell = true;
        if let (Some(rule), None, false) = (&mut self.rule, &self.stopped, signal.metrics.is_empty())
            && let Some(why) = rule.take(step, seconds, &signal.metrics)
        {
            self.stopped = Some((why, Instant::now()));
        }
        step
    }

    fn tell(&mut self, last: bool) {
        if !self.to_tell || !(last || self.told.is_none_or(|t| t.elapsed() >= TELL)) {
            return;
        }
        (self.to_tell, self.told) = (false, Some(Instant::now()));
        self.aggregate.flush();
        self.stage_context.events.event(Event::Told {
            stage: self.task.inputs.stage.clone(),
            step: self.aggregate.step,
            progress: self.aggregate.progress,
            metrics: self.aggregate.last().into_iter().collect(),
        });
    }

    /// Whether a job waits for room at another place; told of when it does for a while and what it waits for changes.
    fn waits_at_place(&mut self, job: &JobId, began: Instant) -> bool {
        let Some(place) = self.task.place.as_ref().filter(|_| began.elapsed() >= WAITS) else { return false };
        let Some((state, says)) = self.stage_context.place.says(job) else { return false };
        let waits = state == JobState::Waiting;
        let is_news = match &self.at_place {
            None => waits,
            Some((waited, said)) => *waited != waits || (waits && *said != says),
        };
        if is_news && matches!(state, JobState::Waiting | JobState::Running) {
            self.at_place = Some((waits, says.clone()));
            let stage = self.task.inputs.stage.clone();
            self.stage_context.events.event(Event::AtPlace { stage, place: place.clone(), waits, says });
        }
        waits
    }

    fn stop_if_due(&mut self, job: &JobId) {
        // Another place keeps the time itself, from when the stage is at work.
        if let (Some(most), None, None) = (self.task.needs.time, &self.stopped, &self.task.place)
            && self.clock.elapsed() >= Duration::from_secs(most)
        {
            self.stopped = Some((format!("it took longer than the {most} s that it may need"), Instant::now()));
        }
        if self.looked_at_memory.elapsed() >= LOOK_AT_MEMORY {
            self.look_at_memory(job);
            self.looked_at_memory = Instant::now();
        }
        let Some((_, since)) = &self.stopped else { return };
        if !self.told_to_end {
            self.told_to_end = true;
            let _ = self.stage_context.place.cancel(job, Cancel::Ask);
        } else if since.elapsed() >= GRACE && !self.killed {
            self.killed = true;
            let _ = self.stage_context.place.cancel(job, Cancel::AtOnce);
        }
    }

    /// A stage that holds more memory than it says it needs takes it from the others: it is stopped.
    fn look_at_memory(&mut self, job: &JobId) {
        let limit = self.task.needs.memory;
        if limit == 0 || self.stopped.is_some() {
            return;
        }
        let mib = |bytes: u64| bytes.div_ceil(1 << 20);
        let why = match self.stage_context.place.too_much_memory(job) {
            Some(TooMuchMemory::Held(held)) => {
                format!("it held {} MiB of memory, and its `needs` say {} MiB", mib(held), mib(limit))
            }
            Some(TooMuchMemory::Refused) => format!("it wanted more than the {} MiB of memory that its `needs` say", mib(limit)),
            None => return,
        };
        self.stopped = Some((why, Instant::now()));
    }

    /// Stores a version of the checkpoints; why it cannot be, if it cannot.
    fn checkpoint(&mut self, step: u64) -> Result<Result<Digest, String>, ExecError> {
        let Some(path) = &self.task.inputs.checkpoints else {
            return Ok(Err("a checkpoint was asked for, but the stage declares no `checkpoints`".into()));
        };
        let Some(writer) = self.stage_context.writer else {
            // A rebuild makes the result; the way to it only where somebody keeps that.
            let kept = self.stage_context.keep.map_or(Ok(false), |keep| keep.keep(step, path));
            if let (Ok(true), None) = (&kept, &self.stopped) {
                self.stopped = Some(("all checkpoints that are wanted of it are there".to_string(), Instant::now()));
            }
            return Ok(kept.map(|_| Digest::of(b"")));
        };
        let recorded = match self.task.scanner.record(path, writer) {
            // What stands there cannot be recorded, a pipe for example: that is the stage's to mend.
            Err(e) if !e.is_textums_own() => return Ok(Err(format!("no checkpoint of step {step}: {e}"))),
            other => other?,
        };
        let Some(content) = recorded.filter(|c| !is_empty(c)) else {
            return Ok(Err(format!("no checkpoint of step {step}: nothing stands at {path}; write it before the signal")));
        };
        let start = self.start_document(writer)?;
        let receipt = CheckpointReceipt {
            r#type: CHECKPOINT_RECEIPT.to_string(),
            run: self.task.run.clone(),
            stage: self.task.inputs.stage.clone(),
            key: self.task.key,
            step,
            path: path.clone(),
            content,
            metrics: self.aggregate.last(),
            made: textum_base::clock::now().to_string(),
            seconds: self.clock.elapsed().as_secs_f64(),
            start,
        };
        let digest = writer.put_document(&canonical(&receipt)?)?;
        // The stage goes on only when it is safe: so is what tells which stage of which run it was.
        if !self.is_known {
            fsio::sync_files_of(&self.task.folder)?;
            self.is_known = true;
        }
        writer.publish()?;
        self.aggregate.checkpoint(digest);
        let (stage, size) = (receipt.stage, receipt.content.size);
        self.stage_context.events.event(Event::Checkpoint { stage, step, size });
        Ok(Ok(digest))
    }

    /// A checkpoint that was recorded for the run that was cut off, as one of this run too.
    fn record_again(&mut self, row: &CheckpointRow) -> Result<(), ExecError> {
        let Some(writer) = self.stage_context.writer else { return Ok(()) };
        let receipt = CheckpointReceipt {
            r#type: CHECKPOINT_RECEIPT.to_string(),
            run: self.task.run.clone(),
            stage: self.task.inputs.stage.clone(),
            key: self.task.key,
            step: row.step,
            path: row.path.clone(),
            content: row.content.clone(),
            metrics: row.metrics.iter().cloned().collect(),
            made: row.made.clone(),
            seconds: row.seconds,
            start: self.start_document(writer)?,
        };
        self.aggregate.checkpoint(writer.put_document(&canonical(&receipt)?)?);
        Ok(())
    }

    fn start_document(&mut self, writer: &Writer<'_>) -> Result<Digest, ExecError> {
        Ok(match self.start {
            Some(start) => start,
            None => *self.start.insert(writer.put_document(&canonical(&self.start())?)?),
        })
    }

    fn start(&self) -> StageStart {
        StageStart {
            r#type: STAGE_START.to_string(),
            run: self.task.run.clone(),
            key: self.task.key,
            inputs: self.task.inputs.clone(),
            reads: self.task.reads.clone(),
            from: self.task.from.clone(),
            started: self.started.clone(),
            environment: self.task.environment,
            place: self.place.clone(),
        }
    }
}

/// A checkpoint that is recorded already.
#[derive(Clone, Debug)]
pub(super) enum Made {
    /// By this run.
    Here(Digest),
    /// By the run that was cut off.
    ByOther(Box<CheckpointRow>),
}

/// What a stage had said when it was taken up, or tried again: a checkpoint that was overwritten since cannot be recorded any more.
struct Before {
    /// The last line that was there.
    line: u64,
    /// The last of them that asks for a checkpoint, which may still stand in its place.
    asked: u64,
    /// Checkpoints that whoever listened before has recorded, by their steps.
    made: BTreeMap<u64, Made>,
}

impl Before {
    fn of(task: &Task, made: BTreeMap<u64, Made>) -> Before {
        let (mut line, mut asked) = (0, 0);
        SignalReader::new(&task.folder.join("signals")).read(false, |at, signal| {
            line = line.max(at);
            asked = if signal.is_ok_and(|s| s.checkpoint.is_some()) { at } else { asked };
        });
        Before { line, asked, made }
    }

    /// What is known of the checkpoint that a line asks for; `None` where it is to be recorded now.
    fn of_line(&self, line: u64, step: u64) -> Option<Result<Made, String>> {
        if line > self.line {
            return None;
        }
        match self.made.get(&step) {
            Some(made) => Some(Ok(made.clone())),
            None if line == self.asked => None,
            None => Some(Err(format!(
                "no checkpoint of step {step}: nobody listened when it was made, and a later one stands there now"
            ))),
        }
    }
}

/// Whether a content is a folder without files.
fn is_empty(content: &crate::record::receipt::Content) -> bool {
    content.kind == ContentKind::Folder && content.files == Some(0)
}

/// The last values of what was heard, as metrics of the stage.
pub(super) fn last_values(record: &SignalRecord) -> impl Iterator<Item = (String, Metric)> + '_ {
    record.metrics.iter().map(|(name, series)| (name.clone(), series.last))
}
