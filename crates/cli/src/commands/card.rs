//! `textum card`.

use std::path::PathBuf;

use clap::Args;
use textum_core::fsio::{self, IoError};
use textum_core::publish::find_version;
use textum_core::registry::Action;
use textum_core::registry::entry::LONGEST_TEXT;

use super::registry::{WhichRegistry, WhoSigns, act_on, must_name_a_version, open_registry};
use crate::args::{Format, Global};
use crate::failure::{Failure, USAGE};
use crate::render::version;
use crate::ui::Ui;

/// What `textum card` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "The facts are filled in: data, metrics, segments, what it takes to use it. What it is for and what it must not be used\nfor is for a person to write; with --take that text becomes the version's card.\n\nExamples:\n  textum card stop-predictor@3                  print it\n  textum card stop-predictor@3 -o card.md       write it to a file, to be completed\n  textum card stop-predictor@3 --take card.md   the completed text is the card from now on"
)]
pub struct CardArgs {
    /// The version: NAME@3
    reference: String,
    /// Write it to this file
    #[arg(short, long, value_name = "FILE", conflicts_with = "take")]
    output: Option<PathBuf>,
    /// Make the text of this file the card
    #[arg(long, value_name = "FILE")]
    take: Option<PathBuf>,
    #[command(flatten)]
    which: WhichRegistry,
    #[command(flatten)]
    who: WhoSigns,
}

/// Prints, writes or takes a card.
pub fn run(global: &Global, args: &CardArgs, ui: &Ui) -> Result<u8, Failure> {
    must_name_a_version(&args.reference)?;
    let at = |path: &PathBuf| super::here(global).join(path);
    let opened = open_registry(global, &args.which, ui)?;
    if let Some(path) = args.take.as_ref().map(at) {
        let bytes = std::fs::read(&path).map_err(IoError::of("read", &path))?;
        let help = "a card is Markdown in UTF-8";
        let text = String::from_utf8(bytes).map_err(|_| Failure::new(USAGE, format!("{} is no text", path.display()), help))?;
        if text.trim().is_empty() || text.contains('\0') || text.len() > LONGEST_TEXT {
            let what = format!("{} is empty, no text, or longer than {LONGEST_TEXT} bytes", path.display());
            return Err(Failure::new(USAGE, what, help));
        }
        let done = act_on(global, &opened.place, &args.who, &args.reference, |found, name, version| {
            let is_known = found.card.as_ref().is_some_and(|c| c.text == text);
            (!is_known).then(|| Action::Card { name, version, text: text.clone() })
        })?;
        let (name, version) = (&done.name, done.version);
        match ui.format {
            Format::Json => ui.json(&serde_json::json!({"name": name, "version": version, "entry": done.number()})),
            _ => ui.result(&format!("{} is the card of {name}@{version}\n", path.display())),
        }
        return Ok(0);
    }
    let registry = opened.place.registry()?;
    let (found, _) = find_version(&registry, &args.reference)?;
    let text = version::card(&registry, found);
    match args.output.as_ref().map(at) {
        Some(path) => {
            let mut file = fsio::create_only(&path).map_err(|e| match e.source.kind() {
                std::io::ErrorKind::AlreadyExists => {
                    Failure::new(USAGE, format!("{} is there already", path.display()), "name another file")
                }
                _ => e.into(),
            })?;
            std::io::Write::write_all(&mut file, text.as_bytes()).map_err(IoError::of("write", &path))?;
            ui.say(&format!(
                "{} is written; complete it, then: textum card {} --take {}",
                path.display(),
                args.reference,
                path.display()
            ));
        }
        None => match ui.format {
            Format::Json => {
                ui.json(&serde_json::json!({"name": found.publication.name, "version": found.publication.version, "text": text}))
            }
            _ => ui.result(&text),
        },
    }
    Ok(0)
}
