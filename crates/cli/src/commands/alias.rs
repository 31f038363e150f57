//! `textum alias`, `textum retire`, and `textum note` of what is published.

use clap::Args;
use textum_core::publish::{PublishError, alias as decide_alias, find_version};
use textum_core::registry::entry::OnlyIf;
use textum_core::registry::{Action, is_alias, is_name, split_reference};

use super::registry::{WhichRegistry, WhoSigns, act, act_on, must_name_a_version, open_registry};
use crate::args::{Format, Global};
use crate::failure::{Failure, USAGE};
use crate::render::registry as render;
use crate::ui::Ui;

/// What `textum alias` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "Examples:\n  textum alias stop-predictor@3 live                 live names version 3 from now on\n  textum alias stop-predictor@3 live --only-if @2    only if it still names version 2\n  textum alias stop-predictor@3 live --only-if none  only if it names nothing yet\n  textum alias stop-predictor live --clear           it names nothing any more"
)]
pub struct AliasArgs {
    /// The version: NAME@3; with --clear the name
    reference: String,
    /// The alias: any word
    alias: String,
    /// Move it only if it names this version now, or `none`
    #[arg(long, value_name = "@V|none")]
    only_if: Option<String>,
    /// It names nothing any more
    #[arg(long)]
    clear: bool,
    #[command(flatten)]
    which: WhichRegistry,
    #[command(flatten)]
    who: WhoSigns,
}

/// What `textum retire` takes.
#[derive(Debug, Args)]
#[command(
    after_help = "It stays in the log and can still be fetched by its number; no alias can name it any more, and a name alone no longer\nmeans it.\n\nExample:\n  textum retire stop-predictor@2 --because 'trained on humidity that was wrong'"
)]
pub struct RetireArgs {
    /// The version: NAME@2
    reference: String,
    /// Why
    #[arg(long, value_name = "TEXT")]
    because: String,
    #[command(flatten)]
    which: WhichRegistry,
    #[command(flatten)]
    who: WhoSigns,
}

fn only_if(word: Option<&str>) -> Result<Option<OnlyIf>, Failure> {
    match word {
        None => Ok(None),
        Some("none") => Ok(Some(OnlyIf::None)),
        Some(word) => match word.strip_prefix('@').unwrap_or(word).parse() {
            Ok(version) => Ok(Some(OnlyIf::Version(version))),
            Err(_) => Err(Failure::new(USAGE, format!("`{word}` is no version"), "write it as in --only-if @2, or --only-if none")),
        },
    }
}

/// Makes an alias name a version, or nothing.
pub fn run(global: &Global, args: &AliasArgs, ui: &Ui) -> Result<u8, Failure> {
    if !is_alias(&args.alias) {
        let help = "an alias is a word that does not look like a version, such as live or next";
        return Err(Failure::new(USAGE, format!("`{}` cannot be an alias", args.alias), help));
    }
    let only_if = only_if(args.only_if.as_deref())?;
    if args.clear && !is_name(&args.reference) {
        let help = format!("write the name alone: textum alias NAME {} --clear", args.alias);
        return Err(Failure::new(USAGE, format!("`{}` is no published name", args.reference), help));
    }
    if !args.clear {
        must_name_a_version(&args.reference)?;
    }
    let opened = open_registry(global, &args.which, ui)?;
    let mut before = None;
    let mut meant = (args.reference.clone(), None);
    let (registry, entry) = act(global, &opened.place, &args.who, |registry| {
        let (name, version) = match args.clear {
            true if registry.models.contains_key(&args.reference) => (args.reference.as_str(), None),
            _ => find_version(registry, &args.reference).map(|(v, number)| (v.publication.name.as_str(), Some(number)))?,
        };
        before = registry.models.get(name).and_then(|m| m.aliases.get(&args.alias)).map(|a| a.version);
        meant = (name.to_string(), version);
        Ok::<_, PublishError>(decide_alias(registry, name, version, &args.alias, only_if))
    })?;
    let moved = render::Moved { name: &meant.0, alias: &args.alias, from: before, to: meant.1, entry: entry.as_ref() };
    match ui.format {
        Format::Json => ui.json(&render::moved_json(&moved)),
        _ => ui.result(&render::moved_text(&moved, &registry, &ui.style)),
    }
    Ok(0)
}

/// Takes a version back.
pub fn retire(global: &Global, args: &RetireArgs, ui: &Ui) -> Result<u8, Failure> {
    must_name_a_version(&args.reference)?;
    if args.because.trim().is_empty() {
        return Err(Failure::new(USAGE, "it is not said why", "write the reason: --because 'trained on data that was wrong'"));
    }
    let opened = open_registry(global, &args.which, ui)?;
    let because = args.because.trim();
    let done = act_on(global, &opened.place, &args.who, &args.reference, |_, name, version| {
        Some(Action::Retire { name, version, because: because.to_string() })
    })?;
    let (name, version) = (&done.name, done.version);
    match ui.format {
        Format::Json => {
            ui.json(&serde_json::json!({"name": name, "version": version, "because": because, "entry": done.number()}));
        }
        _ => ui.result(&format!("{name}@{version} is retired: no alias can name it any more\n")),
    }
    Ok(0)
}

/// Says something of a published version; none: the words name no published version.
pub fn note(
    global: &Global,
    reference: &str,
    text: &str,
    which: &WhichRegistry,
    who: &WhoSigns,
    ui: &Ui,
) -> Result<Option<u8>, Failure> {
    if split_reference(reference).is_none_or(|(_, which)| which.is_none()) {
        return Ok(None);
    }
    let opened = open_registry(global, which, ui)?;
    let done = act_on(global, &opened.place, who, reference, |_, name, version| {
        Some(Action::Note { name, version, text: text.to_string() })
    })?;
    let (name, version) = (&done.name, done.version);
    match ui.format {
        Format::Json => {
            ui.json(&serde_json::json!({"name": name, "version": version, "note": text, "entry": done.number()}));
        }
        _ => ui.result(&format!("noted of {name}@{version}: {text}")),
    }
    Ok(Some(0))
}
