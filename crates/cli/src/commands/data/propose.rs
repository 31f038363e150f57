//! `textum data propose`.

use std::path::PathBuf;

use clap::Args;
use serde_json::json;
use textum_core::data::find_data;
use textum_core::fsio;
use textum_core::table::examine::{CATEGORIES, propose};
use textum_core::table::profile::{ProfileOptions, profile};

use crate::args::{Format, Global};
use crate::commands::{here, open};
use crate::failure::{Failure, USAGE};
use crate::render::data::examine as render;
use crate::ui::Ui;

/// What `textum data propose` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "The rules are what this state meets, with room: a start to be edited by who knows what the columns mean.\n\nExamples:\n  textum data propose shifts > rules.toml          write rules\n  textum data examine shifts@2 --rules rules.toml  hold another version against them"
)]
pub struct ProposeArgs {
    /// A dataset, a version, or a path
    #[arg(value_name = "NAME[@V]", add = clap_complete::ArgValueCandidates::new(crate::complete::versions))]
    name: String,
    /// Write them into this file, which must not be there yet
    #[arg(short, long, value_name = "FILE")]
    output: Option<PathBuf>,
}

/// Proposes rules.
pub fn run(global: &Global, args: &ProposeArgs, ui: &Ui) -> Result<u8, Failure> {
    let project = open(global, ui)?;
    let side = find_data(&project, &args.name, &here(global))?;
    let options = ProfileOptions { frequent: CATEGORIES, ..ProfileOptions::default() };
    let scratch = textum_core::table::scratch(project.store.folder());
    let found = profile(&side.any_table(&project)?, None, &options, &scratch)?;
    let rules = propose(&found, &side.key);
    let text = render::rules_file(&side.name, found.rows, &rules);
    if let Some(file) = &args.output {
        let path = here(global).join(file);
        if path.exists() {
            let help = "name another file: what somebody has edited is not written over";
            return Err(Failure::new(USAGE, format!("{} is there already", file.display()), help));
        }
        fsio::write_derived(&path, text.as_bytes())?;
    }
    match (ui.format, &args.output) {
        (Format::Json, _) => ui.json(&json!({ "name": side.name, "rows": found.rows, "rules": rules })),
        (_, Some(file)) => ui.result(&format!("{} rules in {}", rules.len(), file.display())),
        _ => ui.result(&text),
    }
    Ok(0)
}
