//! `textum data record`.

use clap::Args;
use textum_core::data::{note_version, record_datasets, split_name, version_with};

use crate::args::{Format, Global};
use crate::commands::{by_whom, open_to_write};
use crate::failure::{Failure, USAGE};
use crate::render::data::list;
use crate::ui::Ui;

/// What `textum data record` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum data record                          every dataset\n  textum data record shifts -m \"from the shed\"  one, with a note\n  textum data record shifts@2 -m \"do not use\"    a note for a version recorded before"
)]
pub struct RecordArgs {
    /// The datasets; left out: all. With a note also a version, as in shifts@2
    #[arg(value_name = "NAME", add = clap_complete::ArgValueCandidates::new(crate::complete::datasets))]
    names: Vec<String>,
    /// Words about it
    #[arg(short = 'm', long, value_name = "TEXT")]
    note: Option<String>,
}

/// Records.
pub fn run(global: &Global, args: &RecordArgs, ui: &Ui) -> Result<u8, Failure> {
    let mut project = open_to_write(global, ui)?;
    let (versions, names): (Vec<&String>, Vec<&String>) = args.names.iter().partition(|n| split_name(n).is_some());
    for (name, number) in versions.iter().filter_map(|v| split_name(v)) {
        let Some(note) = &args.note else {
            return Err(Failure::new(USAGE, format!("{name}@{number} is recorded already"), "give it a note with -m"));
        };
        let version = version_with(&project.ledger, name, number)?;
        note_version(&mut project, &version, &by_whom(), note)?;
        ui.say(&format!("{} now has the note: {note}", version.name()));
    }
    if !versions.is_empty() && names.is_empty() {
        return Ok(0);
    }
    let names: Vec<String> = names.into_iter().cloned().collect();
    let found = record_datasets(&mut project, &names, &by_whom(), args.note.as_deref())?;
    match ui.format {
        Format::Json => ui.json(&list::recorded_json(&found)),
        _ if found.is_empty() => ui.say("nothing to record: no dataset is declared, or none is there"),
        _ => ui.result(&list::recorded(&found, &ui.style)),
    }
    Ok(0)
}
