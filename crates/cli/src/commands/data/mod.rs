//! `textum data`: datasets as versions.

mod add;
mod diff;
mod erase;
mod examine;
mod find;
mod list;
mod profile;
mod propose;
mod record;
mod versions;

use clap::{Args, Subcommand};

use crate::args::Global;
use crate::failure::Failure;
use crate::ui::Ui;

pub use versions::{History, show_version};

/// What `textum data` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "A dataset's state is named `shifts@2` by its number, `shifts` as it stands in the working tree, and a file of a \
                  folder `photos@1:labels.csv`. The same content is the same version, whenever it comes back.\n\nExamples:\n  \
                  textum data                                     every dataset, its version and state\n  \
                  textum data add data/looms.csv --key loom       declare a dataset and record its first version\n  \
                  textum data versions shifts                     what there was, and what changed\n  \
                  textum data diff shifts@1 shifts@2              which files, rows and cells\n  \
                  textum data find shifts --where 'loom = \"L17\"'  in which versions, and in which runs\n  \
                  textum data erase shifts --where 'loom = \"L17\"' --because 'it was not ours' --dry-run\n  \
                  textum restore shifts@1                         back to an earlier version"
)]
pub struct DataArgs {
    /// What to do; left out: list the datasets
    #[command(subcommand)]
    command: Option<DataCommand>,
}

/// What can be done with datasets.
#[derive(Debug, Subcommand)]
enum DataCommand {
    /// Declare a dataset in the manifest and record its first version
    Add(add::AddArgs),
    /// Record the state of datasets as it is now
    Record(record::RecordArgs),
    /// List a dataset's versions and what changed from one to the next
    Versions(versions::VersionsArgs),
    /// Compare two states: files of a folder, rows and cells of a table
    Diff(diff::DiffArgs),
    /// Find rows in all versions of a dataset, and the runs that used them
    Find(find::FindArgs),
    /// Forget rows, and everything that was made of them
    Erase(erase::EraseArgs),
    /// Sum a table up in figures, column by column
    Profile(profile::ProfileArgs),
    /// Hold a table against rules: which are broken, by how many rows, and by which first
    Examine(examine::ExamineArgs),
    /// Write rules from what a table looks like, as a start to be edited
    Propose(propose::ProposeArgs),
}

/// Does what is asked with datasets.
pub fn run(global: &Global, args: &DataArgs, ui: &Ui) -> Result<u8, Failure> {
    match &args.command {
        None => list::run(global, ui),
        Some(DataCommand::Add(args)) => add::run(global, args, ui),
        Some(DataCommand::Record(args)) => record::run(global, args, ui),
        Some(DataCommand::Versions(args)) => versions::run(global, args, ui),
        Some(DataCommand::Diff(args)) => diff::run(global, args, ui),
        Some(DataCommand::Find(args)) => find::run(global, args, ui),
        Some(DataCommand::Erase(args)) => erase::run(global, args, ui),
        Some(DataCommand::Profile(args)) => profile::run(global, args, ui),
        Some(DataCommand::Examine(args)) => examine::run(global, args, ui),
        Some(DataCommand::Propose(args)) => propose::run(global, args, ui),
    }
}
