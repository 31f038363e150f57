//! `textum registry section`.

use std::collections::BTreeMap;

use clap::Args;
use textum_core::registry::{Action, Kind, is_alias, is_name};

use super::{WhichRegistry, WhoSigns, act, open_registry};
use crate::args::{Format, Global};
use crate::failure::{Failure, NOT_THERE, USAGE};
use crate::render::registry as render;
use crate::ui::Ui;

/// What `textum registry section` takes.
#[derive(Debug, Args)]
pub struct SectionArgs {
    /// The section
    name: String,
    /// What it is for
    #[arg(long, value_name = "TEXT")]
    purpose: Option<String>,
    /// What may be published in it
    #[arg(long, value_name = "KIND", value_parser = ["model", "data", "any"])]
    accepts: Option<String>,
    /// An alias moves only when so many reviewers have signed; =0 lifts it
    #[arg(long = "guard", value_name = "ALIAS=N")]
    guards: Vec<String>,
    /// Unsigned entries have no effect in it
    #[arg(long)]
    signed: bool,
    #[command(flatten)]
    which: WhichRegistry,
    #[command(flatten)]
    who: WhoSigns,
}

fn guards_of(words: &[String]) -> Result<BTreeMap<String, u32>, Failure> {
    let help = "write it as in --guard live=1: the alias, and how many reviewers must sign";
    let pair = |word: &String| {
        let (alias, number) = word.split_once('=')?;
        Some((Some(alias).filter(|a| is_alias(a))?.to_string(), number.parse().ok().filter(|n| *n <= 100)?))
    };
    words.iter().map(|word| pair(word).ok_or_else(|| Failure::new(USAGE, format!("`{word}` guards no alias"), help))).collect()
}

/// Makes a section, changes what is said of it, or shows it.
pub fn run(global: &Global, args: &SectionArgs, ui: &Ui) -> Result<u8, Failure> {
    if !is_name(&args.name) {
        let help = "begin with a letter, and use letters, digits, `-` and `_`";
        return Err(Failure::new(USAGE, format!("`{}` cannot be the name of a section", args.name), help));
    }
    let given = guards_of(&args.guards)?;
    let kind = args.accepts.as_deref().map(|word| match word {
        "model" => Kind::Model,
        "data" => Kind::Data,
        _ => Kind::Any,
    });
    let opened = open_registry(global, &args.which, ui)?;
    let says_something = args.purpose.is_some() || kind.is_some() || !given.is_empty() || args.signed;
    if !says_something {
        // A look, for which a wrongly written name must not make a section.
        let registry = opened.place.registry()?;
        let Some(section) = registry.sections.get(&args.name) else {
            let near = textum_base::nearest(&args.name, registry.sections.keys().map(String::as_str));
            let near = near.map_or(String::new(), |n| format!(": did you mean `{n}`?"));
            let help = format!("`textum registry section {} --purpose TEXT` makes it", args.name);
            return Err(Failure::new(NOT_THERE, format!("there is no section `{}`{near}", args.name), help));
        };
        match ui.format {
            Format::Json => ui.json(&render::section_json(section, None)),
            _ => ui.result(&render::section_text(section, false, &ui.style)),
        }
        return Ok(0);
    }
    let (registry, entry) = act(global, &opened.place, &args.who, |registry| {
        let now = registry.section(&args.name);
        let is_known = registry.sections.contains_key(&args.name);
        let mut guards = now.guards.clone();
        guards.extend(given.clone());
        guards.retain(|_, n| *n > 0);
        let purpose = args.purpose.clone().or(now.purpose.clone());
        let (accepts, signed) = (kind.unwrap_or(now.accepts), args.signed || now.signed);
        let same = is_known && purpose == now.purpose && accepts == now.accepts && guards == now.guards && signed == now.signed;
        Ok((!same).then(|| Action::Section { section: args.name.clone(), purpose, accepts, guards, signed }))
    })?;
    let section = registry.section(&args.name);
    match ui.format {
        Format::Json => ui.json(&render::section_json(&section, entry.as_ref())),
        _ => ui.result(&render::section_text(&section, entry.is_some(), &ui.style)),
    }
    Ok(0)
}
