//! The grammar of the command line.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand, ValueEnum};

use crate::commands;
use crate::forms::Deferred;

/// Staged training pipelines whose every past model can be traced to its exact inputs and rebuilt.
#[derive(Debug, Parser)]
#[command(name = "textum", version, max_term_width = 100, disable_help_flag = true, arg_required_else_help = true, after_help = EXAMPLES)]
pub struct Arguments {
    /// Options of every command.
    #[command(flatten)]
    pub global: Global,
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
}

const EXAMPLES: &str = "\
Examples:
  textum demo                       see the whole story on a sample project
  textum new --template tabular     begin a project here
  textum plan                       what would run, and why
  textum run --set fit.rate=0.1     run with one parameter changed
  textum run --vary fit.depth=2..5  a sweep: a run for each value
  textum runs --by auc              the runs, the best first
  textum compare last~1 last        in what two runs differ
  textum trace build/model.json     where a file comes from, wherever it lies
  textum data diff shifts@1 shifts  which rows of a dataset have changed
  textum rebuild last               make the last run's results again and compare

What can be named anywhere: a run (7f3a, 20261123-0542-7f3a, last, last~2, best:auc), a digest
(b3:91ac22), a path of a run (7f3a:build/model.json), a checkpoint of a run (7f3a#4, 7f3a#last), a
dataset version (shifts@2), a published version (stop-predictor@live), or any file on disk, by its content.

Exit status: 0 done, 1 a stage, check or rebuild did not succeed, 2 wrong usage or manifest,
3 what was asked for is not there, 4 damage or an I/O failure, 130 interrupted.";

/// The heading of the options that every command has.
pub const SHARED: &str = "Options of every command";

/// Options of every command.
#[derive(Clone, Debug, Args)]
pub struct Global {
    /// Work as if started in this folder
    #[arg(short = 'C', value_name = "DIR", global = true, value_hint = clap::ValueHint::DirPath, help_heading = SHARED, display_order = 901)]
    pub directory: Option<PathBuf>,
    /// Print results in this form, where a command has it: text, json, csv, md and others
    #[arg(long, value_name = "FORM", global = true, default_value = "text", hide_possible_values = true, hide_default_value = true,
          help_heading = SHARED, display_order = 900)]
    pub format: Format,
    /// Use colour: auto (on a terminal, unless NO_COLOR is set), always or never
    #[arg(long, value_name = "WHEN", global = true, default_value = "auto", hide_possible_values = true, hide_default_value = true,
          help_heading = SHARED, display_order = 902)]
    pub color: Color,
    /// Say nothing but results and errors
    #[arg(short, long, global = true, help_heading = SHARED, display_order = 903)]
    pub quiet: bool,
    /// Say more: keys and receipts of a run, how much a trace met
    #[arg(short, long, global = true, help_heading = SHARED, display_order = 904)]
    pub verbose: bool,
    /// Print this help
    #[arg(short, long, global = true, action = clap::ArgAction::Help, help_heading = SHARED, display_order = 905)]
    pub help: Option<bool>,
}

/// How results are printed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Format {
    /// For people.
    Text,
    /// One JSON document.
    Json,
    /// Comma-separated values.
    Csv,
    /// A Markdown table.
    Md,
    /// Graphviz (plan --graph and trace).
    Dot,
    /// A Mermaid diagram (plan --graph and trace).
    Mermaid,
    /// A page (data profile, impact).
    Html,
    /// W3C PROV-JSON (trace).
    Prov,
    /// An in-toto Statement with SLSA Provenance, in a DSSE envelope (trace).
    Intoto,
    /// CycloneDX 1.6 (trace).
    Cyclonedx,
    /// A Workflow Run RO-Crate's metadata (trace).
    RoCrate,
}

/// When to use colour.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum Color {
    /// On a terminal, unless NO_COLOR is set.
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// The commands.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Begin a project: a commented manifest and a first working stage
    New(Deferred<commands::new::NewArgs>),
    /// Write a sample project and play its whole story
    Demo(Deferred<commands::demo::DemoArgs>),
    /// Show what a run would do, and why; nothing is written
    Plan(Deferred<commands::plan::PlanArgs>),
    /// Run a command once, watch it, and write the whole stage into the manifest
    Draft(Deferred<commands::draft::DraftArgs>),
    /// Write what stages were seen to read, without declaring it, into the manifest
    Adopt(Deferred<commands::adopt::AdoptArgs>),
    /// Execute what has changed, reuse what is recorded; also a sweep over parameters
    Run(Deferred<commands::run::RunArgs>),
    /// Go on with a stopped or interrupted run from its last checkpoint
    Resume(Deferred<commands::resume::ResumeArgs>),
    /// Stop a run that is at work, from any terminal
    Stop(Deferred<commands::stop::StopArgs>),
    /// Tell metrics, progress, notes and checkpoints, from within a stage
    Emit(Deferred<commands::emit::EmitArgs>),
    /// Look at datasets: record, compare, search and sum up their versions
    Data(Deferred<commands::data::DataArgs>),
    /// List the runs, newest first
    Runs(Deferred<commands::runs::RunsArgs>),
    /// Show a run, a log, a receipt, or what a digest is
    Show(Deferred<commands::show::ShowArgs>),
    /// Tell in what runs differ, and that nothing else does
    Compare(Deferred<commands::compare::CompareArgs>),
    /// Draw metrics over steps, or over parameters
    Plot(Deferred<commands::plot::PlotArgs>),
    /// Watch a run at work
    Follow(Deferred<commands::follow::FollowArgs>),
    /// Write a page about a run
    Report(Deferred<commands::report::ReportArgs>),
    /// Note something of a run, or of a published version
    Note(Deferred<commands::remark::NoteArgs>),
    /// Name a run
    Label(Deferred<commands::remark::LabelArgs>),
    /// Show where a file, a run or a digest comes from
    Trace(Deferred<commands::trace::TraceArgs>),
    /// Show what was made of a file, a version, a run: models, aliases, predictions
    Impact(Deferred<commands::impact::ImpactArgs>),
    /// Bring recorded data and outputs back
    Restore(Deferred<commands::restore::RestoreArgs>),
    /// Make past results again from their recorded inputs, and compare
    Rebuild(Deferred<commands::rebuild::RebuildArgs>),
    /// Publish a model, or a version of a dataset, for others to rely on
    Publish(Deferred<commands::publish::PublishArgs>),
    /// Make an alias such as live name a published version
    Alias(Deferred<commands::alias::AliasArgs>),
    /// Take a published version back
    Retire(Deferred<commands::alias::RetireArgs>),
    /// Print, write or take the card of a published version
    Card(Deferred<commands::card::CardArgs>),
    /// Fetch a published version, wherever it is to be used
    Fetch(Deferred<commands::fetch::FetchArgs>),
    /// Print what it takes to use a published version
    Snippet(Deferred<commands::fetch::SnippetArgs>),
    /// Look at what is published, by whom, and by whose leave
    Registry(Deferred<commands::registry::RegistryArgs>),
    /// Declare, list, check or remove depots, where several machines share what they have
    Depot(Deferred<commands::depot::DepotArgs>),
    /// Bring what is here and what is in a depot together
    Sync(Deferred<commands::sync::SyncArgs>),
    /// Look whether the store holds everything that receipts promise
    Verify(Deferred<commands::verify::VerifyArgs>),
    /// Free space: drop what can be rebuilt from what stays
    Prune(Deferred<commands::prune::PruneArgs>),
    /// Tell what the store holds, and how large it is
    Stats(Deferred<commands::stats::StatsArgs>),
    /// Look at the places where stages execute
    Place(Deferred<commands::place::PlaceArgs>),
    /// Print the completion script of a shell
    #[command(after_help = "Example, for bash: add to ~/.bashrc\n  source <(textum completions bash)")]
    Completions(Deferred<commands::shell::CompletionsArgs>),
    /// Write the manual pages into a folder
    Manual(Deferred<commands::shell::ManualArgs>),
}
