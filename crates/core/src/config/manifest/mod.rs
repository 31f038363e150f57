//! `textum.toml`: from text to a checked value; every mistake has its place in the text.

mod adopt;
mod check;
mod command;
mod depots;
mod diagnostic;
mod document;
mod each;
mod each_form;
mod edit_depot;
mod evaluate;
mod evaluate_form;
mod examine;
mod expand;
mod form;
mod judging_form;
mod models;
mod param_files;
mod params;
mod paths;
mod places;
mod rules;
mod shape;
mod strict;
mod substitute;
mod tables;
mod write;
mod writers;

use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};

pub use adopt::add_reads;
pub use depots::{DepotDecl, LOCAL_NAME, is_depot_name, is_inside};
pub use diagnostic::{Diagnostic, ManifestError};
pub use each::{Each, NoValues, declared_name, folder_name, is_stage_name};
pub use edit_depot::{add_depot, remove_depot};
pub use evaluate::{By, ClassColumns, Cost, DEFINITIONS, Evaluation, Intervals, Judged};
pub use examine::{EXAMPLES, Examination, ExaminedTable, RULE_DEFINITIONS, RuleDecl, RulesFile, Severity, read_rules};

pub use form::{TrustForm as Trust, manifest_schema};
pub use judging_form::RuleForm;
pub use models::{ModelDecl, PREDICT_TIME};
pub use params::{Params, SetError, nest, selects};
pub use places::{ENGINE_WORDS, EngineCommands, MachineDecl, PlaceDecl, PlaceKind, THIS_MACHINE};
pub use rules::parse_time;
pub use substitute::{command_text, shell_word, substitute};
pub use textum_base::{Better, MANIFEST_NAME, StorageMode, nearest};
pub use textum_base::{is_within, overlap};
pub use write::{WriteParamsError, write_params};

use textum_base::{DeclaredPath, ProjectPath, SourcePath};

use crate::config::param_file::ParamFile;
use crate::fsio::IoError;
use document::{Document, Step};
use form::ManifestForm;
use textum_expr::Rule;

/// A checked manifest.
#[derive(Clone, Debug)]
pub struct Manifest {
    /// Where it was read from.
    pub path: PathBuf,
    /// Its text.
    pub text: String,
    /// The project's name.
    pub name: String,
    /// What the project is for.
    pub about: Option<String>,
    /// Datasets, in the order of the text.
    pub data: Vec<DatasetDecl>,
    /// Parameters, those in files among them.
    pub params: Params,
    /// The files that hold parameters for scripts that read their own.
    pub param_files: Vec<ParamFile>,
    /// What stages depend on beside their reads.
    pub environment: EnvironmentDecl,
    /// What counts of that which stages were seen to read.
    pub observe: ObserveDecl,
    /// Stages, in the order of the text; of one that is `each` those that come out of it.
    pub stages: Vec<StageDecl>,
    /// Stages whose values stand in a table that is not there: none comes out of them.
    pub without_values: Vec<NoValues>,
    /// Where stages execute beside this machine.
    pub places: Vec<PlaceDecl>,
    /// The direction in which metrics get better, by name.
    pub metrics: Vec<(String, Better)>,
    /// Conditions on metrics, in the order of the text.
    pub gates: Vec<GateDecl>,
    /// What belongs together as a model.
    pub models: Vec<ModelDecl>,
    /// The depot whose registry it is published in, where that is said.
    pub registry: Option<String>,
    /// Where several machines share what they have, in the order of the text; with what `textum.local.toml` says.
    pub depots: Vec<DepotDecl>,
}

/// A declared dataset.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DatasetDecl {
    /// Its name.
    pub name: String,
    /// Its file or folder, below the project; of a reference also absolute.
    pub path: SourcePath,
    /// What is in it.
    pub about: Option<String>,
    /// The columns that tell its rows apart.
    pub key: Vec<String>,
    /// The published version that it is: `NAME@live` or `NAME@3`.
    pub from: Option<String>,
    /// How it is kept.
    pub hold: StorageMode,
    /// How its table is written, as far as the manifest says.
    pub table: crate::table::Dialect,
}

/// What stages depend on beside their reads.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct EnvironmentDecl {
    /// The interpreter that counts.
    pub python: Option<String>,
    /// The packages that count.
    pub packages: Packages,
    /// Whether the files of packages that are used are kept.
    pub keep: bool,
    /// Variables that count and are passed on.
    pub vars: Vec<String>,
    /// Whether those of them that hold a secret count.
    pub count_secrets: bool,
    /// Files that count for every stage.
    pub files: Vec<ProjectPath>,
}

/// The packages that count.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub enum Packages {
    /// Those that a stage was seen to use; all for one that is not observed.
    #[default]
    Used,
    /// All that are installed.
    All,
    /// Those of these names.
    These(Vec<String>),
}

/// What counts of that which stages were seen to read.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ObserveDecl {
    /// Patterns of files that do not count.
    pub ignore: Vec<String>,
    /// Whether libraries and data of the system count.
    pub count_system: bool,
    /// How results of other machines are held against this one.
    pub trust: Trust,
}

/// A command: what a stage runs.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Command {
    /// Given to `sh -c`.
    Shell(String),
    /// Executed as it is.
    Argv(Vec<String>),
    /// Done by Textum itself: predictions judged against the truth.
    Evaluate(Evaluation),
    /// Done by Textum itself: a table held against rules.
    Examine(Examination),
}

impl Command {
    /// Whether Textum itself does it: nothing is executed.
    pub fn is_own(&self) -> bool {
        matches!(self, Command::Evaluate(_) | Command::Examine(_))
    }
}

/// A condition on metrics that must hold before later stages run.
#[derive(Clone, Debug)]
pub struct GateDecl {
    /// The stage after which it is looked at.
    pub after: String,
    /// The condition.
    pub check: Rule,
    /// The run that `baseline` means; none: that of the committed receipt.
    pub baseline: Option<String>,
}

/// What a stage needs of the machine.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Needs {
    /// Processors.
    pub cpus: u32,
    /// Bytes of memory; 0 when not said.
    pub memory: u64,
    /// Graphics processors.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub gpus: u32,
    /// Seconds at most; a stage that takes longer is stopped.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub time: Option<u64>,
}

#[allow(clippy::trivially_copy_pass_by_ref)] // as serde calls it
fn is_zero(n: &u32) -> bool {
    *n == 0
}

/// A declared stage.
#[derive(Clone, Debug)]
pub struct StageDecl {
    /// Its name.
    pub name: String,
    /// Of which stage it is one, and for which values.
    pub each: Option<Each>,
    /// Its command, parameters not yet filled in.
    pub run: Command,
    /// Paths that it takes in, sorted.
    pub reads: Vec<SourcePath>,
    /// The parameter tables or leaves that it uses.
    pub params: Vec<String>,
    /// Paths that it brings forth.
    pub writes: Vec<DeclaredPath>,
    /// Files of metrics that it brings forth.
    pub metrics: Vec<ProjectPath>,
    /// The path that holds what is needed to go on from a step.
    pub checkpoints: Option<ProjectPath>,
    /// When it is to be stopped while it runs.
    pub stop_when: Option<Rule>,
    /// What it needs of the machine.
    pub needs: Needs,
    /// Where it executes; none: on this machine.
    pub place: Option<String>,
    /// Whether it depends on no interpreter or package.
    pub no_environment: bool,
    /// Whether what it reads is observed.
    pub observe: bool,
    /// Whether it can do nothing that it does not declare.
    pub sealed: bool,
    /// Whether its result may be used again.
    pub reuse: bool,
}

impl StageDecl {
    /// All paths it brings forth: writes and metrics.
    pub fn outputs(&self) -> impl Iterator<Item = &ProjectPath> {
        self.writes.iter().map(|w| &w.path).chain(&self.metrics)
    }
}

/// Why a manifest could not be had.
#[derive(Debug, thiserror::Error)]
pub enum LoadError {
    /// It could not be read.
    #[error(transparent)]
    Io(#[from] IoError),
    /// It has mistakes.
    #[error(transparent)]
    Mistakes(#[from] Box<ManifestError>),
}

impl Manifest {
    /// Reads and checks the manifest at this path.
    pub fn load(path: &Path) -> Result<Manifest, LoadError> {
        let bytes = std::fs::read(path).map_err(IoError::of("read", path))?;
        let text = match String::from_utf8(bytes) {
            Ok(text) => text,
            Err(e) => {
                let at = e.utf8_error().valid_up_to();
                // Up to there the text is the same.
                let text = String::from_utf8_lossy(e.as_bytes()).into_owned();
                let bad = at..at + char::REPLACEMENT_CHARACTER.len_utf8();
                let mistake = Diagnostic::new(bad, "the manifest is not UTF-8 text", "no character", "save the file as UTF-8");
                return Err(Box::new(ManifestError { path: path.to_path_buf(), text, mistakes: vec![mistake] }).into());
            }
        };
        let mut manifest = Manifest::parse(path, text)?;
        manifest.depots = depots::with_local(manifest.depots, folder_of(path))?;
        Ok(manifest)
    }

    /// Checks a manifest's text, cycles included. Nothing is looked at on the disk but the files of parameters that it
    /// names, which lie beside it.
    pub fn parse(path: &Path, text: String) -> Result<Manifest, Box<ManifestError>> {
        let fail = |text: String, mut mistakes: Vec<Diagnostic>| {
            mistakes.sort_by_key(|m| m.span.start);
            Box::new(ManifestError { path: path.to_path_buf(), text, mistakes })
        };
        let built = {
            let document = match Document::parse(&text) {
                Ok(document) => document,
                Err(mistakes) => return Err(fail(text, mistakes)),
            };
            build(path, &text, &document)
        };
        built.map_err(|mistakes| fail(text, mistakes))
    }

    /// A stage by its name.
    pub fn stage(&self, name: &str) -> Option<&StageDecl> {
        self.stages.iter().find(|s| s.name == name)
    }

    /// The stages that come out of the one that the manifest declares by this name.
    pub fn stages_of<'m>(&'m self, name: &'m str) -> impl Iterator<Item = &'m StageDecl> {
        self.stages.iter().filter(move |s| declared_name(&s.name) == name)
    }

    /// An error with mistakes found later, when the manifest was held against the disk: each is a
    /// stage, the index of one of its reads, and what to make of the place.
    pub fn read_mistakes(
        &self,
        found: &[(String, String)],
        make: impl Fn(&str, &str) -> (String, String, String),
    ) -> Box<ManifestError> {
        let document = Document::parse(&self.text).ok();
        let mistakes = found
            .iter()
            .map(|(stage, read)| {
                let (title, label, help) = make(stage, read);
                let span = document.as_ref().map_or(0..0, |d| place_of_read(d, stage, read));
                Diagnostic::new(span, title, label, help)
            })
            .collect();
        Box::new(ManifestError { path: self.path.clone(), text: self.text.clone(), mistakes })
    }
}

fn place_of_read(document: &Document<'_>, stage: &str, read: &str) -> std::ops::Range<usize> {
    let reads = document.root.get_ref().get("stage").and_then(|s| s.get_ref().get(stage)).and_then(|s| s.get_ref().get("reads"));
    let index = reads.and_then(|r| r.get_ref().as_array()).and_then(|items| {
        items.iter().position(|i| i.get_ref().as_str().and_then(|t| SourcePath::tidied(t).ok()).is_some_and(|p| p == *read))
    });
    match index {
        Some(index) => document.place(&[Step::Key("stage"), Step::Key(stage), Step::Key("reads"), Step::At(index)]),
        None => document.place(&[Step::Key("environment"), Step::Key("files")]),
    }
}

/// Looks at what is left of a manifest without the keys that are wrong by themselves, so that mistakes of
/// both kinds are told together.
fn with_mistakes_of_meaning(
    text: &str,
    document: &Document<'_>,
    folder: &Path,
    mut mistakes: Vec<Diagnostic>,
    wrong: &[Vec<String>],
) -> Vec<Diagnostic> {
    let Ok(mut rest) = toml::from_str::<toml::Table>(text) else { return mistakes };
    for path in wrong {
        remove(&mut rest, path);
    }
    let form = rest.clone().try_into::<form::ManifestForm>().or_else(|_| {
        // A key that must be there was among them: what it belongs to goes too.
        wrong.iter().filter(|path| path.len() > 1).for_each(|path| remove(&mut rest, &path[..path.len() - 1]));
        rest.try_into::<form::ManifestForm>()
    });
    if let Ok(form) = form {
        let tables: serde_json::Map<String, serde_json::Value> = form.params.clone().into_iter().collect();
        let mut params = Params::from_tables(&tables);
        let (files, in_files) = param_files::read(&form, &mut params, document, folder);
        let given = check::Given { params: &params, all_params: in_files.is_empty(), text, folder };
        let checked = check::check(&form, given, document);
        mistakes.extend(in_files.into_iter().chain(param_files::kept_apart(&files, &checked, document)));
        mistakes.extend(checked.mistakes);
    }
    mistakes
}

fn remove(table: &mut toml::Table, path: &[String]) {
    match path {
        [] => {}
        [last] => drop(table.remove(last)),
        [first, rest @ ..] => {
            if let Some(toml::Value::Table(below)) = table.get_mut(first) {
                remove(below, rest);
            }
        }
    }
}

fn folder_of(path: &Path) -> &Path {
    path.parent().filter(|p| !p.as_os_str().is_empty()).unwrap_or(Path::new("."))
}

/// Reads a manifest that has mistakes: all of them are told.
fn read_telling(text: &str, document: &Document<'_>, folder: &Path) -> Result<form::ManifestForm, Vec<Diagnostic>> {
    let (mistakes, wrong) = shape::check_shape(&document.root, &manifest_schema());
    if !mistakes.is_empty() {
        return Err(with_mistakes_of_meaning(text, document, folder, mistakes, &wrong));
    }
    let form = toml::de::Deserializer::from(document.root.clone());
    form::ManifestForm::deserialize(form).map_err(|e| {
        vec![Diagnostic::new(e.span().unwrap_or(0..0), e.message().to_string(), "here", "see the schema that `textum new` links")]
    })
}

fn build(path: &Path, text: &str, document: &Document<'_>) -> Result<Manifest, Vec<Diagnostic>> {
    let folder = folder_of(path);
    let form = match strict::read(&document.root) {
        Some(form) => form,
        None => read_telling(text, document, folder)?,
    };
    let tables: serde_json::Map<String, serde_json::Value> = form.params.clone().into_iter().collect();
    let mut params = Params::from_tables(&tables);
    let (param_files, mut mistakes) = param_files::read(&form, &mut params, document, folder);
    let given = check::Given { params: &params, all_params: mistakes.is_empty(), text, folder };
    let mut checked = check::check(&form, given, document);
    mistakes.extend(param_files::kept_apart(&param_files, &checked, document));
    mistakes.append(&mut checked.mistakes);
    let (depots, in_depots) = depots::depots(&form.depot, document, folder);
    mistakes.extend(in_depots);
    mistakes.extend(models::registry_depot(&form.registry, &depots, document));
    mistakes.extend(crate::config::graph::find_cycle(&checked.stages).map(|cycle| {
        let first = &cycle[0];
        let way: Vec<String> = cycle.iter().chain([first]).map(|s| format!("`{s}`")).collect();
        Diagnostic::new(
            document.key_place(&["stage", first]),
            "stages wait for one another in a circle",
            way.join(" → "),
            "let one of them read something that none of the others writes",
        )
    }));
    if !mistakes.is_empty() {
        return Err(mistakes);
    }
    let mut metrics: Vec<(String, Better)> = form.metric.into_iter().map(|(name, m)| (name, m.better)).collect();
    // Declared ones first: somebody cares for them. What the manifest says holds before what is known.
    for stage in &checked.stages {
        let directions = match &stage.run {
            Command::Evaluate(evaluation) => evaluation.directions(),
            Command::Examine(examination) => examination.directions(),
            Command::Shell(_) | Command::Argv(_) => continue,
        };
        for (name, better) in directions {
            if metrics.iter().all(|(n, _)| *n != name) {
                metrics.push((name, better));
            }
        }
    }
    Ok(Manifest {
        path: path.to_path_buf(),
        text: text.to_string(),
        name: form.project.name,
        about: form.project.about,
        data: checked.data,
        params,
        param_files,
        environment: checked.environment,
        observe: ObserveDecl {
            ignore: form.observe.ignore,
            count_system: form.observe.system == Some(form::SystemForm::Count),
            trust: form.observe.trust.unwrap_or_default(),
        },
        stages: checked.stages,
        without_values: checked.without_values,
        places: checked.places,
        metrics,
        gates: checked.gates,
        models: checked.models,
        registry: form.registry.depot,
        depots,
    })
}
