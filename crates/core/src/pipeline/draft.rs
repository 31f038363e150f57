//! A stage written down from what a command was seen to do.

use std::collections::{BTreeMap, BTreeSet};
use std::process::{Command, Stdio};

use serde::Serialize;
use textum_base::is_within;
use textum_observe::{End, Observation, words_before};
use toml_edit::{Array, DocumentMut, Item, Table, value};

use crate::config::manifest::{Manifest, ManifestError, shell_word};
use crate::fsio::{self, IoError};
use crate::project::fingerprint::{counted_variables, stage_variables};
use crate::project::observed::{Ignored, Places, SettleError, Stage, settle};
use crate::project::workspace::Project;

/// A stage as it would be written.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Draft {
    /// Its name.
    pub stage: String,
    /// Its command, parameters as `{name}`.
    pub run: String,
    /// What it reads.
    pub reads: Vec<String>,
    /// What it brings forth; folders end in `/`.
    pub writes: Vec<String>,
    /// The parameters that stand in the command.
    pub params: Vec<String>,
    /// What it both reads and changes: a stage must not, and it has been left out.
    pub state: Vec<String>,
    /// What it reads outside of the project, that is no package and no program of the system.
    pub elsewhere: Vec<String>,
}

/// Why no stage could be drafted.
#[derive(Debug, thiserror::Error)]
pub enum DraftError {
    /// There is such a stage.
    #[error("there is a stage `{0}` already")]
    Taken(String),
    /// The name cannot be one.
    #[error("`{0}` cannot be the name of a stage: letters, digits, - and _, with a letter or digit first")]
    Name(String),
    /// The command did not succeed.
    #[error("the command {0}: a stage is drafted from one that succeeds")]
    Failed(String),
    /// It could not be observed.
    #[error("what the command does cannot be seen: {0}")]
    NotObserved(String),
    /// It brought nothing forth in the project.
    #[error("the command wrote nothing in the project: a stage brings something forth")]
    NothingWritten,
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// The manifest would have mistakes.
    #[error(transparent)]
    Mistakes(#[from] Box<ManifestError>),
    /// What it read could not be looked at.
    #[error(transparent)]
    Settle(#[from] SettleError),
}

/// So many files of one folder, all that are there, are drafted as the folder.
const AS_FOLDER: usize = 8;

/// Runs a command once, observed, in the project's folder, with the variables that a stage would have. What it prints goes
/// where this process prints.
pub fn draft(project: &Project, name: &str, words: &[String]) -> Result<Draft, DraftError> {
    let fits = name.starts_with(|c: char| c.is_ascii_alphanumeric())
        && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_'));
    if !fits {
        return Err(DraftError::Name(name.to_string()));
    }
    if project.manifest.stages_of(name).next().is_some() {
        return Err(DraftError::Taken(name.to_string()));
    }
    let not_observed = |why: &str| DraftError::NotObserved(why.to_string());
    let program = textum_observe::tracer().filter(|_| textum_observe::is_possible());
    let program = program.ok_or_else(|| not_observed("this system has no means for it"))?;
    let vars = counted_variables(&project.manifest.environment, &project.variables, None);
    let variables = stage_variables(&project.variables, &vars);
    let state = project.workspace.state();
    fsio::create_folder(&state)?;
    let scratch = fsio::part_folder(&state)?;
    let record = scratch.path().join("observed.json");
    let before = words_before(&program, &record, None);
    let status = Command::new(&before[0])
        .args(&before[1..])
        .args(words)
        .current_dir(project.workspace.root())
        .env_clear()
        .envs(variables.iter().map(|(k, v)| (k, v)))
        .stdin(Stdio::null())
        .status()
        .map_err(IoError::of("start the command", &program))?;
    let text = std::fs::read(&record).map_err(|_| not_observed("its tracer was ended"))?;
    let observation: Observation = serde_json::from_slice(&text).map_err(|e| not_observed(&e.to_string()))?;
    if let Some(why) = &observation.not_observed {
        return Err(not_observed(why));
    }
    match observation.end {
        Some(End::Code(0)) if status.success() => {}
        Some(End::Signal(number)) => return Err(DraftError::Failed(format!("was killed by signal {number}"))),
        Some(End::Code(code)) => return Err(DraftError::Failed(format!("ended with exit status {code}"))),
        None => return Err(not_observed("how it ended is not known")),
    }
    of_observation(project, name, words, &observation, &variables)
}

fn of_observation(
    project: &Project,
    name: &str,
    words: &[String],
    observation: &Observation,
    variables: &[(String, String)],
) -> Result<Draft, DraftError> {
    let places = Places::new(project.workspace.root(), variables);
    let ignored = Ignored::new(&project.manifest.observe.ignore);
    let stage = Stage {
        places: &places,
        ignored: &ignored,
        reads: Vec::new(),
        outputs: Vec::new(),
        all_outputs: Vec::new(),
        variables,
        program: textum_observe::tracer(),
        state: Some(project.workspace.state()),
        packages: None,
        count_system: false,
        sealed: false,
        keep: None,
    };
    let settled = settle(&stage, observation, &project.files, None)?;
    let in_project = |paths: &[String]| paths.iter().filter(|p| !p.starts_with(['/', '~'])).cloned().collect::<BTreeSet<_>>();
    let changed = in_project(&settled.inputs.changed);
    // What it looked for, found missing and wrote is what it brings forth; what was there and it read and changed is not.
    let read = settled.inputs.kept.iter().filter(|(_, state)| state.existed && state.read);
    let read_before: BTreeSet<String> = read.map(|(name, _)| name.clone()).collect();
    let writes: BTreeSet<String> = changed.difference(&read_before).cloned().collect();
    if writes.is_empty() {
        return Err(DraftError::NothingWritten);
    }
    let reads: BTreeSet<String> = settled.undeclared.iter().filter(|p| !writes.contains(*p)).cloned().collect();
    let whole = |folder: &str, files: &BTreeSet<String>| {
        let entries = std::fs::read_dir(project.workspace.root().join(folder)).into_iter().flatten().flatten();
        entries.into_iter().all(|e| {
            let path = format!("{folder}/{}", e.file_name().to_string_lossy());
            files.contains(&path) || ignored.covers(&path) || files.iter().any(|f| f.starts_with(&format!("{path}/")))
        })
    };
    let (run, params) = with_params(project, words);
    let elsewhere = observation.opened.iter().map(|o| o.path.clone()).filter(|p| is_somewhere_else(p, &places)).collect();
    Ok(Draft {
        stage: name.to_string(),
        run,
        reads: as_folders(&reads, AS_FOLDER, &whole, ""),
        writes: as_folders(&writes, AS_FOLDER, &whole, "/"),
        params,
        state: read_before.into_iter().collect(),
        elsewhere,
    })
}

/// Whether a person would want to know that it was read: no part of the system, and of no interpreter.
fn is_somewhere_else(path: &str, places: &Places) -> bool {
    let Some(name) = places.name_elsewhere(path) else { return false };
    !name.contains("/lib/") && !name.contains("/bin/") && !name.starts_with("/etc/") && !name.contains("/.")
}

/// Paths, with folders of which all files are among them in their place.
fn as_folders(paths: &BTreeSet<String>, most: usize, whole: &dyn Fn(&str, &BTreeSet<String>) -> bool, slash: &str) -> Vec<String> {
    let mut count: BTreeMap<&str, usize> = BTreeMap::new();
    for (folder, _) in paths.iter().filter_map(|p| p.rsplit_once('/')) {
        *count.entry(folder).or_default() += 1;
    }
    let folders: Vec<&str> = count.into_iter().filter(|(f, n)| *n >= most && whole(f, paths)).map(|(f, _)| f).collect();
    let outermost: Vec<&str> =
        folders.iter().copied().filter(|f| !folders.iter().any(|other| other != f && is_within(f, other))).collect();
    let alone = paths.iter().filter(|p| !outermost.iter().any(|f| is_within(p, f))).cloned();
    let mut all: Vec<String> = outermost.iter().map(|f| format!("{f}{slash}")).chain(alone).collect();
    all.sort();
    all
}

/// The command as text, with words that are the value of just one parameter replaced by it.
fn with_params(project: &Project, words: &[String]) -> (String, Vec<String>) {
    let mut used = BTreeSet::new();
    let mut out: Vec<String> = Vec::new();
    for (at, word) in words.iter().enumerate() {
        let (lead, text) = match word.split_once('=').filter(|(option, _)| option.starts_with('-')) {
            Some((option, text)) => (format!("{option}="), text),
            None => (String::new(), word.as_str()),
        };
        // A number alone says little: only the value of an option is taken for a parameter's.
        let of_option = !lead.is_empty() || (at > 0 && words[at - 1].starts_with('-'));
        let is_value = |v: &serde_json::Value| v.as_str().map_or_else(|| *v.to_string() == *text, |s| s == text);
        let mut fitting = project.params.iter().filter(|(_, v)| !v.is_object() && of_option && is_value(v)).map(|(n, _)| n);
        out.push(match (fitting.next(), fitting.next()) {
            (Some(name), None) => {
                used.insert(name.to_string());
                format!("{lead}{{{name}}}")
            }
            _ => shell_word(word),
        });
    }
    (out.join(" "), used.into_iter().collect())
}

/// The manifest's text with the stage at its end.
pub fn with_stage(project: &Project, draft: &Draft) -> Result<String, DraftError> {
    let mut document: DocumentMut = project.manifest.text.parse().map_err(|e: toml_edit::TomlError| {
        DraftError::Io(IoError::of("read", &project.manifest.path)(std::io::Error::other(e.to_string())))
    })?;
    let mut table = Table::new();
    let list = |items: &[String]| value(items.iter().map(String::as_str).collect::<Array>());
    table.insert("run", value(&draft.run));
    if !draft.reads.is_empty() {
        table.insert("reads", list(&draft.reads));
    }
    if !draft.params.is_empty() {
        table.insert("params", list(&draft.params));
    }
    table.insert("writes", list(&draft.writes));
    let stages = document.entry("stage").or_insert_with(|| {
        let mut stages = Table::new();
        stages.set_implicit(true);
        Item::Table(stages)
    });
    if let Some(stages) = stages.as_table_like_mut() {
        stages.insert(&draft.stage, Item::Table(table));
    }
    let text = document.to_string();
    Manifest::parse(&project.manifest.path, text.clone())?;
    Ok(text)
}

/// Writes the manifest with the stage.
pub fn write_stage(project: &Project, draft: &Draft) -> Result<(), DraftError> {
    let text = with_stage(project, draft)?;
    Ok(fsio::write_atomic_by(&project.workspace.manifest_path(), text.as_bytes(), &project.workspace.state())?)
}
