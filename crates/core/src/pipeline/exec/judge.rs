//! What came of an execution: whether it succeeded, what it was seen to read, and what it brought forth or left behind.

use std::collections::BTreeMap;
use std::sync::PoisonError;
use std::time::Instant;

use textum_base::{DeclaredPath, ProjectPath, is_within};

use super::observing::{self, Outcome};
use super::stage::StageContext;
use super::task::Task;
use super::{ExecError, likely, refusal};
use crate::event::Event;
use crate::pipeline::signal::read_metrics;
use crate::project::fingerprint::{ScanError, Standstill};
use crate::project::sandbox::Pool;
use crate::record::receipt::{Content, ContentKind, Exit, Metric, Observed, ObservedHow, PathContent, StageReceipt};
use crate::store::Store;

impl StageContext<'_> {
    /// What the stage was seen to read, in its receipt; a reason where it could not be seen though it was to be.
    pub(super) fn observed(
        &self,
        task: &Task,
        receipt: &mut StageReceipt,
        variables: &[(String, String)],
    ) -> Result<Result<Outcome, String>, ExecError> {
        let not = |how: ObservedHow, because: &str| Outcome::without(Observed::not(how, because));
        let outcome = match self.observer {
            _ if task.inputs.run.is_own() => {
                return Ok(Ok(not(ObservedHow::No, "Textum itself reads what it declares")));
            }
            _ if !task.observe && task.seal.is_none() => Ok(not(ObservedHow::Off, "the manifest says so")),
            None => Ok(not(ObservedHow::No, "this system has no means for it")),
            Some(observer) if task.is_sent => observer.outcome_away(task, self.writer)?,
            Some(observer) => observer.outcome(task, variables, self.writer)?,
        };
        if let Ok(outcome) = &outcome {
            receipt.observed = Some(outcome.observed.clone());
            if let Some((started, declared)) = outcome.other_interpreter.clone() {
                self.events.event(Event::OtherInterpreter { stage: task.inputs.stage.clone(), started, declared });
            }
            if let Some((there, differences)) = &outcome.environment {
                receipt.environment = Some(*there);
                if !differences.is_empty() {
                    let differences = differences.iter().map(crate::project::fingerprint::in_words).collect();
                    self.events.event(Event::OtherEnvironment { stage: task.inputs.stage.clone(), differences });
                }
            }
            if let Some(settled) = &outcome.settled {
                receipt.undeclared.clone_from(&settled.undeclared);
            }
        }
        Ok(outcome)
    }

    /// Why the stage did not succeed, if it did not; else its outputs are in the receipt.
    pub(super) fn judge(
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
        let missed = observed.as_ref().map(|o| o.missed.as_slice()).unwrap_or_default();
        if let (Ok(seen), Some(observer)) = (&observed, self.observer) {
            let mut refused = seen.refused.clone();
            // What is there in the tree and not in its sandbox it tried in vain too, whether or not it minded.
            if let Some(settled) = &seen.settled {
                refused.extend(refusal::lacking_in_sandbox(task, settled, missed, observer.ignored()));
            }
            if let Some(reason) = refusal::refusal(task, &refused, observer.ignored()) {
                return Ok(Some(reason));
            }
        }
        match exit {
            Exit::Code(0) => {}
            Exit::Code(127) => {
                return Ok(Some(self.with_likely(task, missed, "its command was not found (exit status 127)".into())));
            }
            Exit::Code(_) if observed.is_err() => return Ok(observed.err()),
            Exit::Code(_) if task.inputs.run.is_own() => {
                return Ok(Some("a rule that must hold is broken: what the stage said tells which".into()));
            }
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
        let reads = task.read_paths();
        let mut likely = observing::lacking(project, missed, &reads);
        likely.retain(|name| !name.starts_with('.') && project.join(name).is_file());
        let named = likely::likely_files(&task.folder.join("log"), project, task.scanner.root(), &reads);
        // What it brings forth itself stands there from an earlier time.
        let is_own = |name: &String| task.outputs().any(|output| is_within(name, output));
        likely.extend(named.into_iter().filter(|n| !missed.contains(n) && !is_own(n)));
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
    pub(super) fn keep_what_is_left(&self, task: &Task, receipt: &mut StageReceipt) {
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
}

fn was_touched(them: &str) -> String {
    format!(
        "{them} was touched while it ran (by the stage itself, or by somebody else), so that its result cannot be told to come from what it read"
    )
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
