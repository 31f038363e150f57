//! Observing a stage while it runs: its command under the tracer, and what the tracer saw made into a document.

use std::path::{Path, PathBuf};
use std::sync::Arc;

use textum_observe::{End, Observation, Refused, Seal, to_text, words_before};

use super::ExecError;
use super::likely::tail;
use super::stage::PRIVATE;
use super::task::Task;
use crate::config::manifest::{Packages, is_within};
use crate::fsio::{self, IoError};
use crate::pipeline::executor::JobCommand;
use crate::pipeline::executor::SEEN_AWAY;
use crate::project::fingerprint::{Reason, ReasonKind, environment_differences};
use crate::project::observed::{
    AwayOrder, FileDigests, Ignored, Places, SettleError, Settled, Stage, read_seen_away, settle, take_in_seen,
};
use crate::project::workspace::Project;
use crate::record::receipt::{EnvironmentRecord, Exit, Observed, ObservedHow, canonical};
use crate::store::{Digest, Writer};

/// What stages of a project are observed with.
pub struct Observer {
    program: PathBuf,
    files: Arc<FileDigests>,
    ignored: Ignored,
    /// The manifest's own patterns of what does not count.
    ignore: Vec<String>,
    outputs: Vec<String>,
    packages: Option<Vec<String>>,
    count_system: bool,
    state: PathBuf,
    keep: Option<(PathBuf, String)>,
    /// The interpreter that is declared, as it is called.
    called: Option<String>,
    /// The program itself.
    declared: Option<PathBuf>,
    /// The environment here.
    environment: Option<EnvironmentRecord>,
}

/// What came of observing one stage.
pub(super) struct Outcome {
    /// What its receipt says.
    pub observed: Observed,
    /// What was settled, if it was observed.
    pub settled: Option<Settled>,
    /// Names of the project that were asked for and not there.
    pub missed: Vec<String>,
    /// What a sealed stage tried in vain.
    pub refused: Vec<Refused>,
    /// The interpreter that it started, if none is the declared one: with that.
    pub other_interpreter: Option<(String, String)>,
    /// The record of the environment on another machine that it was executed in, and in what that differs from the one here.
    pub environment: Option<(Digest, Vec<Reason>)>,
    /// How the command itself ended, which its tracer cannot always do in the same way.
    pub end: Option<Exit>,
}

impl Observer {
    /// An observer for a project; none where the system does not have what it needs, or nobody is there to trace.
    pub fn of(project: &Project) -> Option<Observer> {
        let program = textum_observe::tracer().filter(|_| textum_observe::is_possible())?;
        let manifest = &project.manifest;
        let environment = project.environment().ok().map(|now| now.record);
        let python = environment.as_ref().and_then(|record| record.python.clone());
        let packages = match &manifest.environment.packages {
            Packages::These(names) => Some(names.clone()),
            Packages::Used | Packages::All => None,
        };
        Some(Observer {
            program,
            files: project.files.clone(),
            ignored: Ignored::new(&manifest.observe.ignore),
            ignore: manifest.observe.ignore.clone(),
            outputs: project.all_outputs(),
            packages,
            count_system: manifest.observe.count_system,
            state: project.workspace.state(),
            environment,
            called: manifest.environment.python.clone(),
            declared: python.as_ref().and_then(|python| std::fs::canonicalize(&python.executable).ok()),
            keep: python.filter(|_| manifest.environment.keep).map(|python| (python.executable.into(), python.version)),
        })
    }

    /// The command under the tracer; `there` is this program where the stage executes, if that is elsewhere.
    pub(super) fn wrap(
        &self,
        task: &Task,
        command: JobCommand,
        there: Option<&Path>,
        variables: &[(String, String)],
    ) -> Result<JobCommand, IoError> {
        let seal = match &task.seal {
            Some(seal) => {
                let is_private = |name: &str| PRIVATE.iter().any(|(n, _)| *n == name) && !task.inputs.vars.contains_key(name);
                let own = variables.iter().filter(|(name, _)| is_private(name)).map(|(_, folder)| to_text(folder.as_bytes()));
                let seal = Seal { own: own.collect(), ..seal.clone() };
                let path = task.folder.join("seal.json");
                let text = serde_json::to_vec(&seal).map_err(|e| IoError::of("write", &path)(e.into()))?;
                fsio::write_derived(&path, &text)?;
                Some(path)
            }
            None => None,
        };
        let mut words = words_before(there.unwrap_or(&self.program), &record_of(task), seal.as_deref());
        words.extend(command.into_words());
        Ok(JobCommand::Argv(words))
    }

    /// What this program is told where nothing is shared with the place that the stage is sent to.
    pub(super) fn order(&self, task: &Task) -> AwayOrder {
        AwayOrder {
            reads: task.reads.iter().map(|r| r.at.path.to_string()).collect(),
            outputs: task.outputs().map(str::to_string).collect(),
            all_outputs: self.outputs.clone(),
            ignore: self.ignore.clone(),
            packages: self.packages.clone(),
            count_system: self.count_system,
            sealed: task.seal.is_some(),
            interpreter: self.called.clone(),
        }
    }

    /// What was seen where nothing is shared; a reason for the stage to have failed where that is not known.
    pub(super) fn outcome_away(&self, task: &Task, writer: Option<&Writer<'_>>) -> Result<Result<Outcome, String>, ExecError> {
        let Some(mut seen) = read_seen_away(&task.folder.join(SEEN_AWAY)) else { return Ok(Err(unseen(task))) };
        if let Some(why) = seen.cannot_seal {
            return Ok(Err(format!("it is sealed, and that cannot be done where it was to execute: {why}")));
        }
        let sealed = task.seal.is_some();
        let because = seen.not_observed.take();
        let Some(inputs) = seen.inputs.take().filter(|_| because.is_none()) else {
            return Ok(match because {
                Some(because) => Ok(Outcome::without(Observed { sealed, ..Observed::not(ObservedHow::No, &because) })),
                None => Err(unseen(task)),
            });
        };
        let settled = take_in_seen(inputs, &seen, writer)?;
        let environment = seen.environment.as_ref().map(|there| self.environment_there(there, writer)).transpose()?;
        let because = (!seen.not_whole.is_empty()).then(|| seen.not_whole.join(", "));
        let observed = Observed { how: ObservedHow::Away, because, inputs: Some(settled.digest), environment: None, sealed };
        let missed = missed(&settled);
        let end = seen.end.map(exit_of);
        Ok(Ok(Outcome {
            observed,
            settled: Some(settled),
            missed,
            refused: seen.refused,
            other_interpreter: None,
            environment,
            end,
        }))
    }

    fn environment_there(
        &self,
        there: &EnvironmentRecord,
        writer: Option<&Writer<'_>>,
    ) -> Result<(Digest, Vec<Reason>), ExecError> {
        let text = canonical(there)?;
        let digest = match writer {
            Some(writer) => writer.put_document(&text)?,
            None => Digest::of(&text),
        };
        let mut differences = self.environment.as_ref().map(|here| environment_differences(here, there)).unwrap_or_default();
        if let Some(here) = self.environment.as_ref().filter(|here| here.system != there.system) {
            let (from, to) = (Some(here.system.clone()), Some(there.system.clone()));
            differences.insert(0, Reason { kind: ReasonKind::Python, name: "system".to_string(), from, to });
        }
        Ok((digest, differences))
    }

    /// What does not count.
    pub(super) fn ignored(&self) -> &Ignored {
        &self.ignored
    }

    /// The Python that was started in place of the declared one.
    fn other_interpreter(&self, observation: &Observation) -> Option<(String, String)> {
        let declared = self.declared.as_ref()?;
        let is_python = |path: &Path| path.file_name().and_then(|n| n.to_str()).is_some_and(|n| n.starts_with("python"));
        let executed = observation.opened.iter().filter(|o| o.executed).map(|o| textum_observe::from_text(&o.path));
        let real: Vec<PathBuf> = executed.filter(|p| is_python(p)).filter_map(|p| std::fs::canonicalize(p).ok()).collect();
        // A script that chooses an interpreter is none itself.
        let is_program = |path: &&PathBuf| {
            let mut start = [0; 2];
            std::fs::File::open(path).is_ok_and(|mut f| std::io::Read::read_exact(&mut f, &mut start).is_ok() && &start != b"#!")
        };
        let mut started = real.iter().filter(is_program).peekable();
        let first = (*started.peek()?).clone();
        let none = started.all(|p| p != declared);
        none.then(|| (first.display().to_string(), declared.display().to_string()))
    }

    /// What the tracer wrote down; a reason for the stage to have failed where it could not.
    pub(super) fn outcome(
        &self,
        task: &Task,
        variables: &[(String, String)],
        writer: Option<&Writer<'_>>,
    ) -> Result<Result<Outcome, String>, ExecError> {
        let path = record_of(task);
        let read = std::fs::read(&path).map_err(|e| e.to_string());
        let observation: Observation = match read.and_then(|t| serde_json::from_slice(&t).map_err(|e| e.to_string())) {
            Ok(observation) => observation,
            Err(_) => return Ok(Err(unseen(task))),
        };
        if let Some(because) = observation.not_observed {
            let sealed = task.seal.is_some();
            return Ok(Ok(Outcome::without(Observed { sealed, ..Observed::not(ObservedHow::No, &because) })));
        }
        let root = task.scanner.root();
        let places = Places::new(root, variables);
        let stage = Stage {
            places: &places,
            ignored: &self.ignored,
            reads: task.reads.iter().map(|r| r.at.path.to_string()).collect(),
            outputs: task.outputs().map(str::to_string).collect(),
            all_outputs: self.outputs.clone(),
            variables,
            program: Some(self.program.clone()),
            state: Some(self.state.clone()),
            packages: self.packages.as_deref(),
            count_system: self.count_system,
            sealed: task.seal.is_some(),
            keep: self.keep.clone(),
        };
        let settled = settle(&stage, &observation, &self.files, writer)?;
        let observed = Observed {
            how: if observation.not_whole.is_empty() { ObservedHow::Yes } else { ObservedHow::Part },
            because: (!observation.not_whole.is_empty()).then(|| observation.not_whole.join(", ")),
            inputs: Some(settled.digest),
            environment: settled.kept,
            sealed: task.seal.is_some(),
        };
        let (missed, end) = (missed(&settled), observation.end.map(exit_of));
        Ok(Ok(Outcome {
            observed,
            settled: Some(settled),
            missed,
            other_interpreter: self.other_interpreter(&observation),
            refused: observation.refused,
            environment: None,
            end,
        }))
    }
}

/// Why nothing is known where what observes should have said it.
fn unseen(task: &Task) -> String {
    let log = tail(&task.log(), 4096);
    match log.lines().rev().find_map(|line| line.strip_prefix(textum_observe::FAILED)) {
        Some(why) => format!("what it read could not be written down: {why}"),
        None => "what observes it was ended, so that nothing is known of what it read".into(),
    }
}

impl From<SettleError> for ExecError {
    fn from(error: SettleError) -> ExecError {
        match error {
            SettleError::Store(e) => e.into(),
            SettleError::Document(e) => e.into(),
        }
    }
}

impl Outcome {
    /// Nothing was seen.
    pub(super) fn without(observed: Observed) -> Outcome {
        Outcome {
            observed,
            settled: None,
            missed: Vec::new(),
            refused: Vec::new(),
            other_interpreter: None,
            environment: None,
            end: None,
        }
    }
}

/// Names of the project that were asked for and not there.
fn missed(settled: &Settled) -> Vec<String> {
    settled.inputs.absent.iter().filter(|p| !p.starts_with(['/', '~'])).cloned().collect()
}

fn exit_of(end: End) -> Exit {
    match end {
        End::Code(code) => Exit::Code(code),
        End::Signal(number) => Exit::Signal(number),
    }
}

fn record_of(task: &Task) -> PathBuf {
    task.folder.join("observed.json")
}

/// Names that a stage asked for in its sandbox, that are there in the working tree: what it lacks.
pub(super) fn lacking(project: &Path, missed: &[String], reads: &[&str]) -> Vec<String> {
    let is_lacking = |name: &&String| {
        project.join(name).symlink_metadata().is_ok() && !reads.iter().any(|r| is_within(name, r) || is_within(r, name))
    };
    missed.iter().filter(is_lacking).cloned().collect()
}
