//! `textum registry show`.

use clap::Args;
use textum_core::publish::find_version;
use textum_core::registry::{Registry, Version, Which, split_reference};

use super::{WhichRegistry, open_registry};
use crate::args::{Format, Global};
use crate::failure::Failure;
use crate::render::{registry as render, version};
use crate::ui::Ui;

/// What `textum registry show` takes.
#[derive(Debug, Args)]
pub struct ShowArgs {
    /// NAME: its versions; NAME@3 or NAME@live: all about one
    reference: String,
    #[command(flatten)]
    which: WhichRegistry,
}

/// Shows versions.
pub fn run(global: &Global, args: &ShowArgs, ui: &Ui) -> Result<u8, Failure> {
    let opened = open_registry(global, &args.which, ui)?;
    if let Some((name, Some(which))) = split_reference(&args.reference) {
        let which = which.parse().map_or(Which::Alias(which), Which::Number);
        if let Some((registry, number)) = opened.place.log.glance(name, which)
            && let Some(version) = registry.models.get(name).and_then(|m| m.version(number))
        {
            return show(&registry, version, ui);
        }
    }
    let registry = opened.place.registry()?;
    opened.place.log.remember(&registry);
    // A name of which every version is retired has versions all the same.
    let name = split_reference(&args.reference).filter(|(name, which)| which.is_none() && registry.models.contains_key(*name));
    if let Some((name, _)) = name {
        match ui.format {
            Format::Json => ui.json(&render::versions_json(&registry, name)),
            Format::Csv => ui.result(&render::versions_csv(&registry, name)),
            Format::Md => ui.result(&render::versions_markdown(&registry, name)),
            _ => ui.result(&render::versions_text(&registry, name, &ui.style)),
        }
        return Ok(0);
    }
    show_version(&registry, &args.reference, ui)
}

/// Shows all about a version.
pub fn show_version(registry: &Registry, reference: &str, ui: &Ui) -> Result<u8, Failure> {
    let (found, _) = find_version(registry, reference)?;
    show(registry, found, ui)
}

fn show(registry: &Registry, found: &Version, ui: &Ui) -> Result<u8, Failure> {
    match ui.format {
        Format::Json => ui.json(&version::json(registry, found)),
        Format::Csv => ui.result(&version::csv(registry, found)),
        Format::Md => ui.result(&version::card(registry, found)),
        _ => ui.result(&version::text(registry, found, &ui.style)),
    }
    Ok(0)
}
