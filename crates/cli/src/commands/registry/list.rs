//! `textum registry list`.

use clap::Args;

use super::{WhichRegistry, open_registry};
use crate::args::{Format, Global};
use crate::failure::Failure;
use crate::render::registry as render;
use crate::ui::Ui;

/// What `textum registry list` takes.
#[derive(Debug, Args)]
pub struct ListArgs {
    #[command(flatten)]
    pub which: WhichRegistry,
}

/// Lists what is published.
pub fn run(global: &Global, args: &ListArgs, ui: &Ui) -> Result<u8, Failure> {
    let opened = open_registry(global, &args.which, ui)?;
    let registry = opened.place.registry()?;
    match ui.format {
        Format::Json => ui.json(&render::list_json(&registry)),
        Format::Csv => ui.result(&render::list_csv(&registry)),
        Format::Md => ui.result(&render::list_markdown(&registry)),
        _ if registry.models.is_empty() && registry.sections.is_empty() => {
            ui.say(&format!("nothing is published at {} yet: `textum publish NAME` publishes a model", opened.place.log.at()));
        }
        _ => ui.result(&render::list_text(&registry, opened.place.log.at(), &ui.style)),
    }
    Ok(0)
}
