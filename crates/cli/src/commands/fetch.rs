//! `textum fetch` and `textum snippet`.

use std::path::PathBuf;
use std::time::Duration;

use clap::Args;
use textum_core::config::manifest::{PREDICT_TIME, parse_time};
use textum_core::fsio;
use textum_core::publish::{Fetch, check_bundle, fetch, find_version, rows_fit};
use textum_core::registry::Signed;
use textum_core::share::adding;
use textum_core::store::Store;

use super::registry::{WhichRegistry, cache_folder, open_registry};
use super::{here, variables};
use crate::args::{Format, Global};
use crate::failure::{Failure, UNSUCCESSFUL, USAGE};
use crate::render::fetch as render;
use crate::ui::Ui;

/// What `textum fetch` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "No project is needed: --depot takes the url of a depot. Every file is checked by its digest, and textum.card.json is\nleft beside them: a serving program can say with each prediction which version made it.\n\nExamples:\n  textum fetch stop-predictor@live -o model                      of this project's registry\n  textum fetch stop-predictor@live --depot s3://looms/t -o model from anywhere\n  textum fetch stop-predictor@live -o model --check              does it predict as it did\n  textum fetch stop-predictor@live -o model --rows today.csv     could these rows go into it"
)]
pub struct FetchArgs {
    /// NAME, NAME@3 or NAME@live
    reference: String,
    /// The folder for its files; left out: NAME
    #[arg(short, long, value_name = "DIR")]
    output: Option<PathBuf>,
    /// Repeat the proof: does it predict here as it did when it was published
    #[arg(long)]
    check: bool,
    /// Numbers may differ by this much, relative to the larger one
    #[arg(long, value_name = "X", requires = "check")]
    within: Option<f64>,
    /// So long the check may take
    #[arg(long, value_name = "TIME", requires = "check")]
    time: Option<String>,
    /// Hold this table against what the model takes in
    #[arg(long, value_name = "FILE")]
    rows: Option<PathBuf>,
    #[command(flatten)]
    which: WhichRegistry,
}

/// What `textum snippet` takes.
#[derive(Debug, Args)]
pub struct SnippetArgs {
    /// NAME@3 or NAME@live
    reference: String,
    /// For what: shell, python or ci
    #[arg(long = "for", value_name = "WHAT", value_parser = ["shell", "python", "ci"], default_value = "shell")]
    language: String,
    #[command(flatten)]
    which: WhichRegistry,
}

/// Fetches a version.
pub fn run(global: &Global, args: &FetchArgs, ui: &Ui) -> Result<u8, Failure> {
    let within = args.within.unwrap_or(0.0);
    if !within.is_finite() || within < 0.0 {
        return Err(Failure::new(
            USAGE,
            format!("--within {within} is no difference"),
            "write a small number, as in --within 1e-6",
        ));
    }
    let most = match args.time.as_deref().map(|text| (text, parse_time(text))) {
        None => PREDICT_TIME,
        Some((_, Some(seconds))) => Duration::from_secs(seconds),
        Some((text, None)) => return Err(Failure::new(USAGE, format!("`{text}` is no time"), "write it as in 90s, 10m or 1h30m")),
    };
    let opened = open_registry(global, &args.which, ui)?;
    let registry = opened.place.registry()?;
    let (version, number) = find_version(&registry, &args.reference)?;
    let name = &version.publication.name;
    let folder = here(global).join(args.output.clone().unwrap_or_else(|| PathBuf::from(name)));
    // Without a project, content only passes through.
    let passing;
    let store: &Store = match &opened.project {
        Some(project) => &project.store,
        None => {
            passing = passing_store()?;
            &passing.1
        }
    };
    let fetched = {
        let transfer = ui.transfer();
        let tell = |what: &str, bytes, total| transfer.tell(what, bytes, total);
        let asked = Fetch { reference: &args.reference, folder: &folder };
        fetch(&opened.place, &registry, store, &asked, &adding(&tell, "fetching", None))?
    };
    let bundle = &version.publication.bundle;
    let rows = args.rows.as_ref().map(|path| rows_fit(bundle, &here(global).join(path))).transpose()?;
    let checked = match args.check {
        true => Some(check_bundle(store, bundle, &folder, &variables(), within, most)?),
        false => None,
    };
    if version.signed == Signed::No {
        ui.say(&ui.err_style.dim(&format!("{name}@{number} is not signed: who published it cannot be told for certain")));
    }
    if let Some(retired) = &version.retired {
        ui.insist(&format!("{} {name}@{number} is retired: {}", ui.err_style.bad("note:"), retired.text));
    }
    let shown = render::Shown { fetched: &fetched, folder: &folder, checked: checked.as_ref(), rows: rows.as_ref() };
    match ui.format {
        Format::Json => ui.json(&render::json(&shown)),
        _ => ui.result(&render::text(&shown, &ui.style)),
    }
    let differs = checked.is_some_and(|c| !c.differences.is_empty()) || rows.is_some_and(|(_, faults, _)| faults > 0);
    Ok(if differs { UNSUCCESSFUL } else { 0 })
}

/// A store for as long as it takes, and the folder that it lies in.
fn passing_store() -> Result<(tempfile::TempDir, Store), Failure> {
    let cache = cache_folder();
    fsio::create_folder(&cache)?;
    let folder = tempfile::Builder::new().prefix("fetch-").tempdir_in(&cache);
    let folder = folder.map_err(fsio::IoError::of("make a folder in", &cache))?;
    let store = Store::open(&folder.path().join("store"));
    Ok((folder, store))
}

/// Prints what it takes to use a version.
pub fn snippet(global: &Global, args: &SnippetArgs, ui: &Ui) -> Result<u8, Failure> {
    let opened = open_registry(global, &args.which, ui)?;
    let registry = opened.place.registry()?;
    let (version, _) = find_version(&registry, &args.reference)?;
    // Elsewhere there is no project that knows a depot by name.
    let url = match (&opened.project, &opened.place.home) {
        (Some(project), textum_core::publish::Home::Depot(depot)) => {
            project.manifest.depots.iter().find(|d| d.name == depot.name()).map(|d| d.address.to_string())
        }
        (None, _) => Some(opened.place.log.at().to_string()),
        _ => None,
    };
    ui.result(&render::snippet(version, &args.reference, url.as_deref(), &args.language));
    Ok(0)
}
