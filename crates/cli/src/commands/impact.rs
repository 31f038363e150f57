//! `textum impact`.

use clap::Args;
use textum_core::data::DataError;
use textum_core::inspect::lineage::{TraceError, find_target};
use textum_core::project::fingerprint::read_outside;
use textum_core::project::workspace::Project;
use textum_core::publish::{Place, PublishError, Seeds, impact, seeds_of, seeds_of_package, seeds_of_param, seeds_of_rows};
use textum_core::table::filter::{FilterError, parse};

use super::registry::{WhichRegistry, as_of_run};
use super::{here, open};
use crate::args::{Format, Global};
use crate::failure::{Failure, NOT_THERE, USAGE};
use crate::render::impact as render;
use crate::ui::Ui;

/// What `textum impact` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Downstream of it: every run that has a result made of it, published versions and the aliases that name them, and what\nwas predicted with those; also in other projects that share the depot.\n\nExamples:\n  textum impact shifts@2                          a version of a dataset\n  textum impact shifts --where 'loom = \"L07\"'     the versions with such rows\n  textum impact steps/clean.py                    a file, as it is now\n  textum impact --package numpy==2.1.0            what used it\n  textum impact --param fit.rate=0.2              what was made with that value\n  textum impact 7f3a                              what a run has made\n  textum impact shifts@2 --format html > impact.html"
)]
pub struct ImpactArgs {
    /// A dataset version, a file, a digest, a run or a published version
    #[arg(required_unless_present_any = ["package", "param"])]
    name: Option<String>,
    /// Of a dataset: only versions with rows that meet this
    #[arg(long = "where", value_name = "CONDITION", requires = "name")]
    condition: Option<String>,
    /// What used a package, in this version if one is named
    #[arg(long, value_name = "NAME[==V]", conflicts_with_all = ["name", "param"])]
    package: Option<String>,
    /// What was made with this value of a parameter
    #[arg(long, value_name = "NAME=VALUE", conflicts_with = "name")]
    param: Option<String>,
    #[command(flatten)]
    which: WhichRegistry,
}

fn param_seeds(project: &Project, word: &str) -> Result<Seeds, Failure> {
    let Some((name, value)) = word.split_once('=') else {
        return Err(Failure::new(USAGE, format!("`{word}` is no value of a parameter"), "write it as in --param fit.rate=0.2"));
    };
    // As JSON, or as a text.
    let json = serde_json::from_str::<serde_json::Value>(value).unwrap_or_else(|_| serde_json::json!(value));
    Ok(seeds_of_param(project, name.trim(), &json.to_string())?)
}

/// What it is about, and where it begins.
fn begin(project: &Project, args: &ImpactArgs, global: &Global, ui: &Ui) -> Result<(String, Seeds), Failure> {
    if let Some(word) = &args.param {
        return Ok((word.clone(), param_seeds(project, word)?));
    }
    if let Some(word) = &args.package {
        let (name, version) = word.split_once("==").map_or((word.as_str(), None), |(name, version)| (name, Some(version)));
        return Ok((word.clone(), seeds_of_package(project, name, version)?));
    }
    let name = args.name.as_deref().unwrap_or_default();
    let Some(text) = &args.condition else {
        let named = as_of_run(project, name, global, ui)?;
        return match find_target(project, &named, &here(global)) {
            Ok(target) => Ok((name.to_string(), seeds_of(project, &target)?)),
            // No stage declares it; it may have been read all the same, or published.
            Err(TraceError::NeverSeen { .. }) if here(global).join(name).is_file() => {
                let content = read_outside(&here(global).join(name))?;
                Ok((name.to_string(), Seeds { contents: content.iter().map(|c| c.digest).collect(), ..Seeds::default() }))
            }
            Err(e) => Err(e.into()),
        };
    };
    let wrong = |source: FilterError| -> Failure { DataError::Filter { text: text.clone(), source }.into() };
    let condition = parse(text).map_err(wrong)?;
    if !project.ledger.dataset_names()?.iter().any(|d| d == name) {
        let help = "`textum data` lists the datasets; the condition is about all versions of one";
        return Err(Failure::new(NOT_THERE, format!("no dataset `{name}` is recorded"), help));
    }
    let (seeds, found) = seeds_of_rows(project, name, &condition, text)?;
    let versions: Vec<String> = found
        .iter()
        .map(|(version, rows)| format!("{} ({})", version.name(), crate::render::text::counted(*rows, "row")))
        .collect();
    let said = match versions.is_empty() {
        true => format!("no version of {name} with {text}"),
        false => format!("{} with {text}", versions.join(", ")),
    };
    Ok((said, seeds))
}

/// Tells what was made of it.
pub fn run(global: &Global, args: &ImpactArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    let (target, seeds) = begin(&project, args, global, ui)?;
    let asked = Place::of_project(&project, args.which.depot.as_deref()).and_then(|place| Ok((place.registry()?, place)));
    let place = match asked {
        Ok((registry, place)) => Some((place, registry)),
        Err(e @ (PublishError::NotThere { .. } | PublishError::Wrong { .. } | PublishError::Depots(_))) => {
            ui.insist(&format!("{} the registry was not asked: {e}", ui.err_style.bad("note:")));
            None
        }
        Err(e) => return Err(e.into()),
    };
    let found = impact(&project, place.as_ref().map(|(place, registry)| (place, registry)), &target, &seeds)?;
    for (name, why) in &found.unseen {
        ui.insist(&format!("{} the project {name} could not be looked through: {why}", ui.err_style.bad("note:")));
    }
    match ui.format {
        Format::Json => ui.json(&found),
        Format::Dot => ui.result(&render::dot(&found)),
        Format::Html => ui.result(&render::page(&found)),
        _ => ui.result(&render::text(&found, &ui.style)),
    }
    Ok(0)
}
