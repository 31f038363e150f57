//! `textum registry check`.

use clap::Args;
use textum_core::publish::{PublishError, check_registry};

use super::{WhichRegistry, open_registry};
use crate::args::{Format, Global};
use crate::failure::{DAMAGE, Failure};
use crate::render::registry as render;
use crate::ui::Ui;

/// What `textum registry check` takes.
#[derive(Debug, Args)]
pub struct CheckArgs {
    #[command(flatten)]
    which: WhichRegistry,
}

/// Reads the whole log anew.
pub fn run(global: &Global, args: &CheckArgs, ui: &Ui) -> Result<u8, Failure> {
    let opened = open_registry(global, &args.which, ui)?;
    let found = check_registry(&opened.place, opened.project.as_ref()).map_err(|e: PublishError| Failure::from(e))?;
    match ui.format {
        Format::Json => ui.json(&render::check_json(&found)),
        _ => ui.result(&render::check_text(&found, opened.place.log.at(), &ui.style)),
    }
    Ok(if found.damage.is_empty() && found.missing.is_empty() { 0 } else { DAMAGE })
}
