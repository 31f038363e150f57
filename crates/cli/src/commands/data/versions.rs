//! `textum data versions`.

use std::collections::BTreeMap;

use clap::Args;
use textum_core::data::{Change, DataError, DataRef, Version, change_between, find_data, versions};
use textum_core::project::workspace::Project;
use textum_core::record::ledger::{DatasetUse, Erasure};

use crate::args::{Format, Global};
use crate::commands::{here, open};
use crate::failure::Failure;
use crate::render::data::versions as render;
use crate::ui::Ui;

/// What `textum data versions` takes.
#[derive(Debug, Args)]
#[command(after_help = "Examples:\n  textum data versions shifts\n  textum data versions shifts --format json")]
pub struct VersionsArgs {
    /// The dataset
    #[arg(value_name = "NAME", add = clap_complete::ArgValueCandidates::new(crate::complete::datasets))]
    name: String,
}

/// All that is known of a dataset's versions.
pub struct History {
    /// The versions, oldest first, each with its change against the one before; `None` where that could not
    /// be read.
    pub versions: Vec<(Version, Option<Change>)>,
    /// The runs that found it in some state, newest first.
    pub uses: Vec<DatasetUse>,
    /// What stands in the working tree, if anything does.
    pub tree: Option<DataRef>,
    /// How an edited tree differs from the newest version.
    pub edited: Option<Change>,
    /// Versions that were erased, by number.
    pub erased: BTreeMap<u64, Erasure>,
}

fn history(project: &Project, name: &str, global: &Global) -> Result<History, Failure> {
    let all = versions(&project.ledger, name)?;
    let declared = project.manifest.data.iter().any(|d| d.name == name);
    if all.is_empty() {
        if declared {
            return Err(DataError::NothingRecorded(name.to_string()).into());
        }
        // The names of all datasets are known there, for a suggestion.
        textum_core::data::version_with(&project.ledger, name, 1)?;
    }
    let side = |text: &str| find_data(project, text, &here(global));
    let mut erased = BTreeMap::new();
    for version in &all {
        if !project.store.contains(&version.content.digest)?
            && let Some(erasure) = project.ledger.erased(&version.content.digest)?
        {
            erased.insert(version.number, erasure);
        }
    }
    let mut found: Vec<(Version, Option<Change>)> = Vec::new();
    for version in all {
        let change = match found.last() {
            Some((before, _)) => match (side(&before.name()), side(&version.name())) {
                (Ok(old), Ok(new)) => change_between(project, &old, &new, None).ok().flatten(),
                _ => None,
            },
            None => None,
        };
        found.push((version, change));
    }
    let tree = if declared { side(name).ok() } else { None };
    let newest = found.last().map(|(v, _)| v.name());
    let edited = match (&tree, newest) {
        (Some(tree), Some(newest)) if tree.version.is_none() => change_between(project, &side(&newest)?, tree, None).ok().flatten(),
        _ => None,
    };
    Ok(History { versions: found, uses: project.ledger.uses_of(name)?, tree, edited, erased })
}

/// Lists the versions.
pub fn run(global: &Global, args: &VersionsArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    let history = history(&project, &args.name, global)?;
    match ui.format {
        Format::Json => ui.json(&render::json(&history)),
        Format::Csv => ui.result(&crate::render::csv::versions(&history)),
        Format::Md => ui.result(&render::markdown(&history)),
        _ => ui.result(&render::text(&args.name, &history, &ui.style)),
    }
    Ok(0)
}

/// Shows one version, for `textum show`.
pub fn show_version(project: &Project, name: &str, number: u64, global: &Global, ui: &Ui) -> Result<u8, Failure> {
    textum_core::data::version_with(&project.ledger, name, number)?;
    let mut history = history(project, name, global)?;
    history.versions.retain(|(v, _)| v.number == number);
    let digests: Vec<_> = history.versions.iter().map(|(v, _)| v.content.digest).collect();
    history.uses.retain(|u| digests.contains(&u.digest));
    match ui.format {
        Format::Json => ui.json(&render::json(&history)),
        _ => ui.result(&render::one(&history, &ui.style)),
    }
    Ok(0)
}
