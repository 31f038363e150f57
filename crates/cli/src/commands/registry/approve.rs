//! `textum registry approve`.

use clap::Args;
use textum_core::registry::Action;

use super::{WhichRegistry, WhoSigns, act_on, must_name_a_version, open_registry};
use crate::args::{Format, Global};
use crate::failure::Failure;
use crate::render::registry as render;
use crate::ui::Ui;

/// What `textum registry approve` takes.
#[derive(Debug, Args)]
pub struct ApproveArgs {
    /// The version: NAME@3
    reference: String,
    /// The alias that it is fit for
    #[arg(long = "for", value_name = "ALIAS")]
    alias: String,
    #[command(flatten)]
    which: WhichRegistry,
    #[command(flatten)]
    who: WhoSigns,
}

/// Signs that a version is fit for an alias.
pub fn run(global: &Global, args: &ApproveArgs, ui: &Ui) -> Result<u8, Failure> {
    must_name_a_version(&args.reference)?;
    let opened = open_registry(global, &args.which, ui)?;
    let done = act_on(global, &opened.place, &args.who, &args.reference, |_, name, version| {
        Some(Action::Approve { name, version, alias: args.alias.clone() })
    })?;
    match ui.format {
        Format::Json => ui.json(&render::approved_json(&done, &args.alias)),
        _ => ui.result(&render::approved_text(&done, &args.alias, &ui.style)),
    }
    Ok(0)
}
