//! `textum data profile`.

use clap::Args;
use textum_core::data::find_data;
use textum_core::table::profile::{ProfileOptions, TargetKind, profile};

use crate::args::{Format, Global};
use crate::commands::{here, open};
use crate::failure::Failure;
use crate::render::data::profile as render;
use crate::ui::Ui;

/// What `textum data profile` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum data profile shifts                      each column in figures\n  textum data profile shifts@2 --target stopped   what goes with it\n  textum data profile shifts --against shifts@1   what has drifted\n  textum data profile shifts --format html > shifts.html"
)]
pub struct ProfileArgs {
    /// A dataset, a version, or a path
    #[arg(value_name = "NAME[@V]", add = clap_complete::ArgValueCandidates::new(crate::complete::versions))]
    name: String,
    /// The column that the others are related to
    #[arg(long, value_name = "COL")]
    target: Option<String>,
    /// What the target's values are; told from them unless said
    #[arg(long, value_name = "KIND", requires = "target")]
    target_kind: Option<TargetForm>,
    /// Relate each column to each other one
    #[arg(long)]
    pairs: bool,
    /// The version that drift is measured from
    #[arg(long, value_name = "NAME@W", add = clap_complete::ArgValueCandidates::new(crate::complete::versions))]
    against: Option<String>,
}

/// What the values of a target are.
#[derive(Clone, Copy, Debug, clap::ValueEnum)]
enum TargetForm {
    /// Quantities
    Number,
    /// Names of classes, though they be numbers
    Classes,
}

/// Of tables by columns that are larger, in bytes, rows are not looked at unless they must be.
const SMALL: u64 = 64 << 20;

/// Sums up.
pub fn run(global: &Global, args: &ProfileArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    let side = find_data(&project, &args.name, &here(global))?;
    let base = args.against.as_ref().map(|text| find_data(&project, text, &here(global))).transpose()?;
    let table = side.table(&project)?;
    let against = base.as_ref().map(|base| base.table(&project)).transpose()?;
    let scratch = project.store.folder();
    let scratch = if scratch.is_dir() { scratch.to_path_buf() } else { std::env::temp_dir() };
    let options = ProfileOptions {
        target: args.target.clone(),
        target_kind: args.target_kind.map(|kind| match kind {
            TargetForm::Number => TargetKind::Number,
            TargetForm::Classes => TargetKind::Classes,
        }),
        frequent: 5,
        pairs: args.pairs,
        // Of a large table of columns it would be a pass over all of them.
        duplicates: args.pairs || args.target.is_some() || !table.is_by_column() || side.content.size <= SMALL,
    };
    let found = profile(&table, against.as_ref(), &options, &scratch)?;
    let told = render::Told {
        name: &side.name,
        size: side.content.size,
        against: base.as_ref().map(|b| b.name.as_str()),
        target: args.target.as_deref(),
        profile: &found,
    };
    match ui.format {
        Format::Json => ui.json(&render::json(&told)),
        Format::Csv => ui.result(&crate::render::csv::profile(&found)),
        Format::Md => ui.result(&render::markdown(&told)),
        Format::Html => ui.result(&render::html(&told)?),
        _ => ui.result(&render::text(&told, ui.width, &ui.style)),
    }
    Ok(0)
}
