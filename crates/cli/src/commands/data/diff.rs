//! `textum data diff`.

use clap::Args;
use textum_core::data::{DataError, DataRef, Difference, Sheet, compare, find_data, sheet, split_name, versions};
use textum_core::project::workspace::Project;
use textum_core::table::compare::CompareOptions;

use crate::args::{Format, Global};
use crate::commands::{here, open};
use crate::failure::{Failure, UNSUCCESSFUL};
use crate::render::data::{diff as render, diff_page as page};
use crate::ui::Ui;

/// What `textum data diff` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum data diff shifts                        the working tree against the version before it\n  textum data diff shifts@1 shifts@2              two versions\n  textum data diff shifts@1 shifts                a version against the working tree\n  textum data diff old.csv new.csv --key shift_id any two files\n  textum data diff photos@1:labels.csv photos     a file of a folder\n  textum data diff shifts --within 1e-6           numbers that are nearly the same are the same\n  textum data diff photos --format html > photos.html   the pictures side by side"
)]
pub struct DiffArgs {
    /// A dataset, a version, or a path
    #[arg(value_name = "A", add = clap_complete::ArgValueCandidates::new(crate::complete::versions))]
    old: String,
    /// What to compare it with; left out: of A the version before
    #[arg(value_name = "B", add = clap_complete::ArgValueCandidates::new(crate::complete::versions))]
    new: Option<String>,
    /// The columns that tell rows apart, instead of those declared
    #[arg(long, value_name = "COL", value_delimiter = ',')]
    key: Vec<String>,
    /// Only these columns count
    #[arg(long, value_name = "COL", value_delimiter = ',')]
    column: Vec<String>,
    /// Numbers that differ by no more than this are the same: of the larger of them, or of 1
    #[arg(long, value_name = "BY", default_value_t = 0.0, value_parser = within)]
    within: f64,
    /// So many examples of each kind of difference
    #[arg(long, value_name = "N", default_value_t = 5)]
    examples: usize,
    /// Every difference, however many
    #[arg(long, conflicts_with = "examples")]
    all: bool,
    /// Exit with 1 if anything differs
    #[arg(long)]
    check: bool,
}

/// By how much numbers may differ.
fn within(text: &str) -> Result<f64, String> {
    match text.parse::<f64>() {
        Ok(by) if (0.0..1.0).contains(&by) => Ok(by),
        _ => Err("write a number from 0 to 1, such as 1e-6".into()),
    }
}

/// The two sides: with one name, that and the version before it.
fn sides(project: &Project, args: &DiffArgs, global: &Global) -> Result<(DataRef, DataRef), Failure> {
    let side = |text: &str| find_data(project, text, &here(global));
    if let Some(new) = &args.new {
        // A file of a folder may be named on one side only.
        let part = args.old.split_once(':').map(|(_, part)| part).filter(|_| !new.contains(':'));
        let new = match (side(new)?, part) {
            (folder, Some(part)) if folder.is_folder() => side(&format!("{new}:{part}"))?,
            (whole, _) => whole,
        };
        return Ok((side(&args.old)?, new));
    }
    let new = side(&args.old)?;
    let Some(name) = new.dataset.clone() else {
        let help = "name two paths, or a dataset: `textum data` lists them";
        return Err(Failure::new(crate::failure::USAGE, format!("{} has no version before it", args.old), help));
    };
    let known = versions(&project.ledger, &name)?;
    let below = |number: u64| known.iter().filter(|v| v.number < number).map(|v| v.number).max();
    let before = match &new.version {
        Some(version) => below(version.number),
        None => known.iter().map(|v| v.number).max(),
    };
    let Some(before) = before else {
        if known.is_empty() {
            return Err(DataError::NothingRecorded(name).into());
        }
        let help = "there is nothing before it: name what to compare it with";
        return Err(Failure::new(crate::failure::NOT_THERE, format!("{} is the first version", new.name), help));
    };
    let part = args.old.split_once(':').filter(|(whole, _)| *whole == name || split_name(whole).is_some());
    let part = part.map_or(String::new(), |(_, part)| format!(":{part}"));
    Ok((side(&format!("{name}@{before}{part}"))?, new))
}

/// So many pictures of each kind of change are shown on a page.
const PICTURES: usize = 60;

/// Compares.
pub fn run(global: &Global, args: &DiffArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    let (old, new) = sides(&project, args, global)?;
    let declared = if new.key.is_empty() { &old.key } else { &new.key };
    let key = if args.key.is_empty() { declared.clone() } else { args.key.clone() };
    let examples = if args.all { usize::MAX } else { args.examples };
    let options = CompareOptions { key, columns: args.column.clone(), examples, within: args.within, memory: None };
    let found = compare(&project, &old, &new, &options)?;
    let told = render::Told { old: &old, new: &new, found: &found, most: examples, columns: &args.column, within: args.within };
    match ui.format {
        Format::Json => ui.json(&render::json(&told)),
        Format::Csv => ui.result(&render::csv(&told)),
        Format::Md => ui.result(&render::markdown(&told)),
        Format::Html => {
            let most = if args.all { usize::MAX } else { args.examples.max(PICTURES) };
            let sheet = match &found {
                Difference::Folder(diff) => sheet(&project, &old, &new, diff, most)?,
                _ => Sheet::default(),
            };
            ui.result(&page::html(&told, &sheet)?);
        }
        _ => ui.result(&render::text(&told, &ui.style)),
    }
    Ok(if args.check && !render::is_same(&found) { UNSUCCESSFUL } else { 0 })
}
