//! `textum data find`.

use clap::Args;
use textum_core::data::{DataError, FoundIn, find_data, find_rows, split_name, versions};
use textum_core::store::StoreError;
use textum_core::table::filter::{FilterError, parse};

use crate::args::{Format, Global};
use crate::commands::{here, open};
use crate::failure::Failure;
use crate::render::data::find as render;
use crate::ui::Ui;

/// What `textum data find` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "A condition compares columns with =, !=, <, <=, >, >=, `contains`, `in (…)`, `is missing`, and joins such tests with `and`, `or`, `not` and parentheses. Texts go in quotes, odd names of columns in `backticks`.\n\nExamples:\n  textum data find shifts --where 'shift_id = \"S00017\"'                 was this row ever trained on?\n  textum data find shifts --where 'loom = \"L17\" and humidity > 80'\n  textum data find shifts@2 --where 'humidity is missing' --examples 20\n  textum data find photos:labels.csv --where 'label = \"broken\"'          a table in a folder"
)]
pub struct FindArgs {
    /// The dataset: all its versions and the working tree; or one version
    #[arg(value_name = "NAME", add = clap_complete::ArgValueCandidates::new(crate::complete::datasets))]
    name: String,
    /// What the rows must meet
    #[arg(long = "where", value_name = "CONDITION")]
    condition: String,
    /// So many of the rows found are shown
    #[arg(long, value_name = "N", default_value_t = 3)]
    examples: usize,
}

/// Searches.
pub fn run(global: &Global, args: &FindArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    let wrong = |source: FilterError| -> Failure { DataError::Filter { text: args.condition.clone(), source }.into() };
    let condition = parse(&args.condition).map_err(wrong)?;
    let (whole, part) = match args.name.split_once(':') {
        Some((whole, part)) => (whole, format!(":{part}")),
        None => (args.name.as_str(), String::new()),
    };
    let known = match split_name(whole) {
        Some(_) => Vec::new(),
        None => versions(&project.ledger, whole)?,
    };
    let mut sides: Vec<String> = known.iter().map(|v| format!("{}{part}", v.name())).collect();
    let single = sides.is_empty();
    if single {
        sides.push(args.name.clone());
    } else if let Ok(tree) = find_data(&project, whole, &here(global))
        && tree.version.is_none()
    {
        sides.push(args.name.clone());
    }
    let (mut found, mut no_column): (Vec<FoundIn>, Option<FilterError>) = (Vec::new(), None);
    for text in &sides {
        let unread = |why: String| FoundIn {
            name: text.clone(),
            version: split_name(text.split(':').next().unwrap_or(text)).map(|(_, number)| number),
            rows: None,
            of: None,
            why: Some(why),
            columns: Vec::new(),
            examples: Vec::new(),
            files: Vec::new(),
        };
        let looked =
            find_data(&project, text, &here(global)).and_then(|side| find_rows(&project, &side, &condition, args.examples));
        match looked {
            Ok(Ok(one)) => found.push(one),
            Ok(Err(e)) => {
                found.push(unread(e.what.clone()));
                no_column.get_or_insert(e);
            }
            // One that cannot be read must not hide what the others have.
            Err(
                e @ (DataError::ReferenceChanged { .. }
                | DataError::Erased { .. }
                | DataError::Store(StoreError::Missing { .. })
                | DataError::NotInFolder { .. }),
            ) if !single => {
                found.push(unread(e.to_string()));
            }
            Err(e) => return Err(e.into()),
        }
    }
    if let (Some(error), true) = (no_column, found.iter().all(|f| f.rows.is_none())) {
        return Err(wrong(error));
    }
    let dataset = split_name(whole).map_or(whole, |(name, _)| name);
    let digests: Vec<_> = versions(&project.ledger, dataset)?
        .into_iter()
        .filter(|v| found.iter().any(|f| f.version == Some(v.number) && f.rows.is_some_and(|n| n > 0)))
        .collect();
    let mut uses = project.ledger.uses_of(dataset)?;
    uses.retain(|u| digests.iter().any(|v| v.content.digest == u.digest));
    let told = render::Told { condition: &args.condition, found: &found, uses: &uses, versions: &digests };
    match ui.format {
        Format::Json => ui.json(&render::json(&told)),
        Format::Csv => ui.result(&render::csv(&told)),
        Format::Md => ui.result(&render::markdown(&told)),
        _ => ui.result(&render::text(&told, &ui.style)),
    }
    Ok(0)
}
