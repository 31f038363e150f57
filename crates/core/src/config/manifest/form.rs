//! The shape of `textum.toml`: the types that it is read into, which its JSON Schema comes out of too.

use indexmap::IndexMap;
use schemars::JsonSchema;
use serde::Deserialize;
use textum_base::Better;

use super::each_form::EachForm;
use super::judging_form::{EvaluateForm, ExamineForm};
use super::places::PlaceForm;

/// The manifest of a Textum project.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ManifestForm {
    /// What the project is.
    pub project: ProjectForm,
    /// The datasets: files or folders, every state of them a version.
    #[serde(default)]
    pub data: IndexMap<String, DataForm>,
    /// Parameters, in nested tables. A stage names the ones it uses.
    #[serde(default)]
    pub params: IndexMap<String, serde_json::Value>,
    /// The interpreter, packages, variables and files that every stage depends on.
    #[serde(default)]
    pub environment: EnvironmentForm,
    /// What counts of that which stages were seen to read without declaring it.
    #[serde(default)]
    pub observe: ObserveForm,
    /// The stages, in any order: what one writes and another reads puts them in order.
    #[serde(default)]
    pub stage: IndexMap<String, StageForm>,
    /// Where stages execute beside this machine.
    #[serde(default)]
    pub place: IndexMap<String, PlaceForm>,
    /// How metrics are judged.
    #[serde(default)]
    pub metric: IndexMap<String, MetricForm>,
    /// Conditions on metrics that must hold before later stages run.
    #[serde(default)]
    pub gate: Vec<GateForm>,
    /// What belongs together as a model. Pruning never drops it.
    #[serde(default)]
    pub model: IndexMap<String, ModelForm>,
    /// Where several machines share content and receipts.
    #[serde(default)]
    pub depot: IndexMap<String, DepotForm>,
    /// Where it is published what others may rely on.
    #[serde(default)]
    pub registry: RegistryForm,
}

/// Where it is published what others may rely on.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct RegistryForm {
    /// The depot whose registry it is; left out: the only depot, or the project itself if it has none.
    pub depot: Option<String>,
}

/// A shared store: a folder or a place on a server.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DepotForm {
    /// Where it lies: a folder, s3://BUCKET/PATH, sftp://USER@HOST/PATH, webdav(s)://HOST/PATH, gs://BUCKET/PATH or
    /// az://CONTAINER/PATH. No password: it is taken from the usual variables and files of the service.
    pub url: Option<String>,
    /// What its kind is to know beside that, such as `endpoint` and `region` of s3.
    #[serde(default)]
    pub options: IndexMap<String, OptionForm>,
    /// `true`: runs at work tell it of themselves, so that they can be followed and stopped from elsewhere.
    pub live: Option<bool>,
}

/// The value of an option.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum OptionForm {
    /// Yes or no.
    Flag(bool),
    /// A number.
    Number(i64),
    /// A text.
    Text(String),
}

impl OptionForm {
    /// As a text.
    pub fn text(&self) -> String {
        match self {
            OptionForm::Flag(flag) => flag.to_string(),
            OptionForm::Number(number) => number.to_string(),
            OptionForm::Text(text) => text.clone(),
        }
    }
}

/// A model and all that it needs to be used.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ModelForm {
    /// What it is for, in a sentence.
    pub about: Option<String>,
    /// The section of the registry that it is published in.
    pub section: Option<String>,
    /// Outputs of stages.
    pub files: Vec<String>,
    /// Files of the project that it takes to use them, such as the script that predicts.
    #[serde(default)]
    pub code: Vec<String>,
    /// The command that predicts, given to `sh -c` where its files are: rows as CSV come in, predictions as CSV go out.
    pub predict: Option<String>,
    /// A table like those it predicts for: its columns become the input schema, a few of its rows the example.
    pub input: Option<String>,
    /// The column of that table that is predicted, and not taken in.
    pub target: Option<String>,
    /// So many rows are the example; 20 unless said.
    pub rows: Option<u32>,
    /// So long the command may take for the example; "1m" unless said.
    pub time: Option<String>,
    /// What must hold for it to be published, as in "auc >= 0.85 and auc >= live.auc - 0.005"; `live` is what that alias
    /// names.
    pub check: Option<String>,
}

/// What the project is.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ProjectForm {
    /// A short name.
    pub name: String,
    /// What it is for, in a sentence.
    pub about: Option<String>,
    /// Files that hold parameters for scripts that read their own (YAML, TOML or JSON): their leaves join `[params]`,
    /// named after the file, as `fit.rate` in "conf/fit.yaml".
    #[serde(default)]
    pub param_files: Vec<String>,
}

/// A dataset.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct DataForm {
    /// The file or folder, relative to the project; of a reference also absolute.
    pub path: String,
    /// What is in it, in a sentence.
    pub about: Option<String>,
    /// The columns that tell the rows of a table apart, for comparing versions row by row.
    #[serde(default)]
    pub key: Vec<String>,
    /// A published version that it is: "registry:NAME@live" or "registry:NAME@3". Its files are brought to `path`, a folder.
    pub from: Option<String>,
    /// How it is kept: "store" (unless said), or "reference": digests only, the bytes stay where they are.
    pub hold: Option<HoldForm>,
    /// How its table is written, where that is not what the name and the first lines tell.
    pub table: Option<TableForm>,
}

/// How a table is written. What is left out is told from the file.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct TableForm {
    /// "csv", "tsv", "jsonl", "json" (one array of objects) or "parquet", whatever the file's name says.
    pub format: Option<String>,
    /// What parts the fields of a line: one character, "tab", or "blanks" for any number of them.
    pub delimiter: Option<String>,
    /// Whether the first line names the columns.
    pub header: Option<bool>,
    /// Words for a missing cell, beside those that everybody knows.
    #[serde(default)]
    pub null: Vec<String>,
    /// The mark around fields that hold a delimiter: one character, or "none".
    pub quote: Option<String>,
    /// The encoding of the text, such as "utf-16" or "latin-1".
    pub encoding: Option<String>,
}

/// How a dataset is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum HoldForm {
    /// Its bytes are taken into the store.
    Store,
    /// Only digests and the listing are recorded.
    Reference,
}

/// What every stage depends on beside its reads.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct EnvironmentForm {
    /// The Python interpreter whose version and installed packages count.
    pub python: Option<String>,
    /// The packages that count (all are recorded all the same): a list of names, or "all". Left out: those that a
    /// stage was seen to use; of a stage that is not observed, all.
    pub packages: Option<PackagesForm>,
    /// "files": the installed files of packages that stages use are kept in the store, so that the environment can be made
    /// again without a network.
    pub keep: Option<KeepForm>,
    /// Environment variables that count, and are passed on to the stages.
    #[serde(default)]
    pub vars: Vec<String>,
    /// `true`: variables among them whose names say that they hold a secret count too, by a keyed hash; else they are passed
    /// on, and neither count nor stand anywhere.
    pub count_secrets: Option<bool>,
    /// Files that count for every stage.
    #[serde(default)]
    pub files: Vec<String>,
}

/// The packages that count.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum PackagesForm {
    /// All that are installed.
    All(AllForm),
    /// Those of these names.
    These(Vec<String>),
}

/// What is kept of an environment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum KeepForm {
    /// Files of used packages.
    Files,
}

/// All of something.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum AllForm {
    /// All.
    All,
}

/// What counts of that which stages were seen to read.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ObserveForm {
    /// Files that do not count, as patterns such as "~/.cache/fonts/**", "scratch/*.tmp" or "/opt/shed/logs/**".
    #[serde(default)]
    pub ignore: Vec<String>,
    /// "count": libraries and data of the system count too; else they are only recorded.
    pub system: Option<SystemForm>,
    /// How results of other machines are held against this one, beside the project's own files: "content" (unless said),
    /// "packages": packages by version, programs of the system not at all; "everything": nothing outside of the project.
    pub trust: Option<TrustForm>,
}

/// How results of other machines are held against this one.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum TrustForm {
    /// By content, as this machine's own.
    #[default]
    Content,
    /// Packages and interpreters by version; programs and libraries of the system not at all.
    Packages,
    /// Nothing outside of the project.
    Everything,
}

/// Whether files of the system count.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum SystemForm {
    /// They count.
    Count,
    /// They are recorded.
    Record,
}

/// A stage: a command, what it takes in and what it brings forth.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct StageForm {
    /// The command: a string goes to `sh -c`, an array is executed as it is.
    pub run: Option<RunForm>,
    /// Instead of a command: judge predictions against the truth. Metrics go to the file in `metrics`, figures
    /// to the folder in `writes`.
    pub evaluate: Option<EvaluateForm>,
    /// Instead of a command: hold a table against rules. A broken rule fails the stage unless it only warns; metrics go
    /// to the file in `metrics`, what was found to the folder in `writes`.
    pub examine: Option<ExamineForm>,
    /// One of this stage for each value, as in { fold = "0..4" }: `{each.fold}` stands for it in paths and in the command.
    pub each: Option<IndexMap<String, EachForm>>,
    /// Files and folders that it takes in: data, code, and what other stages write.
    #[serde(default)]
    pub reads: Vec<String>,
    /// The parameters that it uses: tables or dotted leaves of `[params]`.
    #[serde(default)]
    pub params: Vec<String>,
    /// Files and folders that it brings forth. They are cleared before it starts.
    #[serde(default)]
    pub writes: Vec<String>,
    /// Files of metrics that it writes (JSON, TOML, YAML or CSV): their leaves become metrics.
    #[serde(default)]
    pub metrics: Vec<String>,
    /// The file or folder that holds what is needed to go on from a step of training. A signal makes a
    /// version of it.
    pub checkpoints: Option<String>,
    /// When to stop the stage while it runs, as in "loss > 2 * best for 5 steps".
    pub stop_when: Option<String>,
    /// What it needs of the machine.
    #[serde(default)]
    pub needs: NeedsForm,
    /// Where it executes: a [place.NAME]; "local", this machine, unless said. It does not count for the result.
    pub place: Option<String>,
    /// `"none"`: this stage depends on no interpreter or package.
    pub environment: Option<EnvironmentUse>,
    /// `false`: what it reads is not observed; only what it declares counts then.
    pub observe: Option<bool>,
    /// `true`: nothing undeclared can be read, written or connected to.
    pub sealed: Option<bool>,
    /// `false`: its result is never used again, it runs each time.
    pub reuse: Option<bool>,
}

/// A command.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum RunForm {
    /// Given to `sh -c`.
    Shell(String),
    /// Executed as it is.
    Argv(Vec<String>),
}

/// What a stage needs of the machine while it runs.
#[derive(Debug, Clone, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct NeedsForm {
    /// Processors that it keeps busy; 1 unless said.
    pub cpus: Option<u32>,
    /// Memory, such as "500MiB" or "2GiB".
    pub memory: Option<String>,
    /// Graphics processors: stages at work together need no more of them than the machine has.
    pub gpus: Option<u32>,
    /// Time, such as "10m" or "1h30m": a stage that takes longer is stopped.
    pub time: Option<String>,
}

/// A condition on metrics.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct GateForm {
    /// The stage after which it is looked at.
    pub after: String,
    /// The condition, as in "auc >= 0.80 and auc >= baseline.auc - 0.01".
    pub check: String,
    /// The run that `baseline` means; left out: that of the committed textum.receipt.json.
    pub baseline: Option<String>,
}

/// Whether a stage depends on the project's environment.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum EnvironmentUse {
    /// It depends on no interpreter or package.
    None,
}

/// How a metric is judged.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct MetricForm {
    /// Whether higher or lower is better.
    pub better: Better,
}

/// The JSON Schema of the manifest, for editors and for [`super::shape`].
pub fn manifest_schema() -> serde_json::Value {
    schemars::schema_for!(ManifestForm).to_value()
}
