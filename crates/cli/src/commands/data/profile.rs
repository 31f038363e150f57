//! `textum data profile`.

use std::collections::BTreeSet;

use clap::Args;
use textum_core::data::{DataError, as_table, find_data, listed_files, picture_facts};
use textum_core::table::filter::parse;
use textum_core::table::profile::{ProfileOptions, TargetKind, profile};
use textum_core::table::{FilterOrTable, Table};

use crate::args::{Format, Global};
use crate::commands::{here, open};
use crate::failure::Failure;
use crate::render::data::profile as render;
use crate::ui::Ui;

/// What `textum data profile` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum data profile shifts                      each column in figures\n  textum data profile shifts@2 --target stopped   what goes with it\n  textum data profile shifts --against shifts@1   what has drifted\n  textum data profile shifts --where 'split = \"test\"' --against-where 'split = \"train\"'   between two parts of it\n  textum data profile shifts --format html > shifts.html"
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
    /// Only rows that meet this
    #[arg(long = "where", value_name = "CONDITION")]
    condition: Option<String>,
    /// Only such rows of what drift is measured from; without --against, of the same table
    #[arg(long, value_name = "CONDITION")]
    against_where: Option<String>,
    /// The version or the file that drift is measured from
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

/// The rows of a table that meet a condition.
fn only<'t>(table: Table<'t>, condition: Option<&str>) -> Result<Table<'t>, Failure> {
    let Some(text) = condition else { return Ok(table) };
    let wrong = |source| -> Failure { DataError::Filter { text: text.to_string(), source }.into() };
    table.only(parse(text).map_err(wrong)?).map_err(|e| match e {
        FilterOrTable::Filter(source) => wrong(source),
        FilterOrTable::Table(e) => e.into(),
    })
}

/// The columns that a condition names.
fn names(condition: &str) -> Vec<String> {
    let mut found = Vec::new();
    if let Ok(condition) = parse(condition) {
        condition.names(&mut found);
    }
    found.into_iter().map(|named| named.name).collect()
}

/// Sums up.
pub fn run(global: &Global, args: &ProfileArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    let side = find_data(&project, &args.name, &here(global))?;
    let base = args.against.as_ref().map(|text| find_data(&project, text, &here(global))).transpose()?;
    let base = base.or_else(|| args.against_where.is_some().then(|| side.clone()));
    let mut pictures = None;
    let table = match side.table(&project) {
        // A folder whose files make no table: each of them is a row.
        Err(DataError::Folder(_)) => {
            let files = listed_files(&project, &side)?;
            pictures = picture_facts(&files);
            as_table(&side.name, &files)
        }
        found => found?,
    };
    let table = only(table, args.condition.as_deref())?;
    let against = base.as_ref().map(|base| base.any_table(&project)).transpose()?;
    let against = against.map(|table| only(table, args.against_where.as_deref())).transpose()?;
    let conditions = [&args.condition, &args.against_where].into_iter().flatten();
    let parting: BTreeSet<String> = conditions.flat_map(|text| names(text)).collect();
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
    let mut found = profile(&table, against.as_ref(), &options, &scratch)?;
    // What parts the rows differs between them because it parts them.
    found.columns.iter_mut().filter(|c| parting.contains(&c.name)).for_each(|c| c.drift = None);
    let called = |name: &str, condition: &Option<String>| match condition {
        Some(condition) => format!("{name} where {condition}"),
        None => name.to_string(),
    };
    let name = called(&side.name, &args.condition);
    let against = base.as_ref().map(|b| called(&b.name, &args.against_where));
    let told = render::Told {
        name: &name,
        size: side.content.size,
        against: against.as_deref(),
        target: args.target.as_deref(),
        profile: &found,
        pictures: pictures.as_ref().filter(|_| args.condition.is_none()),
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
