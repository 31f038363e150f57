//! `textum data` by itself.

use textum_core::data::status_of;

use crate::args::{Format, Global};
use crate::commands::open;
use crate::failure::Failure;
use crate::render::data::list;
use crate::ui::Ui;

/// Lists the datasets.
pub fn run(global: &Global, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    let found = status_of(&project)?;
    match ui.format {
        Format::Json => ui.json(&list::json(&found)),
        Format::Csv => ui.result(&crate::render::csv::datasets(&found)),
        Format::Md => ui.result(&list::markdown(&found)),
        _ if found.is_empty() => ui.say("no datasets yet: declare one with `textum data add PATH`"),
        _ => ui.result(&list::text(&found, &ui.style)),
    }
    Ok(0)
}
