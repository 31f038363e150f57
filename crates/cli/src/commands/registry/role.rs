//! `textum registry role`.

use clap::Args;
use textum_core::publish::PublishError;
use textum_core::registry::key::{public_key, public_line};
use textum_core::registry::{Action, KeyId, Role};

use super::{WhichRegistry, WhoSigns, act, open_registry};
use crate::args::{Format, Global};
use crate::failure::{Failure, USAGE};
use crate::render::registry as render;
use crate::ui::Ui;

/// What `textum registry role` takes.
#[derive(Debug, Args)]
pub struct RoleArgs {
    /// The section
    section: String,
    /// The role: a publisher publishes and moves aliases, a reviewer approves, a keeper gives roles
    #[arg(value_parser = ["publisher", "reviewer", "keeper"])]
    role: String,
    /// The public key: a file, or `TYPE BASE64`
    #[arg(value_name = "KEY")]
    public: String,
    /// Whose key it is
    #[arg(long, value_name = "NAME", conflicts_with = "revoke")]
    holder: Option<String>,
    /// Until when it holds, such as 2027-06-30
    #[arg(long, value_name = "DATE", conflicts_with = "revoke")]
    until: Option<String>,
    /// Take the role away
    #[arg(long)]
    revoke: bool,
    #[command(flatten)]
    which: WhichRegistry,
    #[command(flatten)]
    who: WhoSigns,
}

/// The end of a day, or an instant.
fn end_of(text: &str) -> Result<String, Failure> {
    let whole_day = || {
        let day: jiff::civil::Date = text.parse().ok()?;
        Some(day.tomorrow().ok()?.to_zoned(jiff::tz::TimeZone::UTC).ok()?.timestamp())
    };
    let time = text.parse::<jiff::Timestamp>().ok().or_else(whole_day);
    let time = time.ok_or_else(|| Failure::new(USAGE, format!("`{text}` is no date"), "write it as in 2027-06-30"))?;
    Ok(time.to_string())
}

/// Gives or takes a role.
pub fn run(global: &Global, args: &RoleArgs, ui: &Ui) -> Result<u8, Failure> {
    let text = match public_key(&args.public) {
        Ok(_) => args.public.clone(),
        Err(_) => std::fs::read_to_string(super::here(global).join(&args.public))
            .map_err(textum_core::fsio::IoError::of("read the key", std::path::Path::new(&args.public)))?,
    };
    let key = public_key(&text).map_err(PublishError::from)?;
    // What a public key's file says behind it is mostly whose it is.
    let comment = Some(key.comment()).filter(|c| !c.trim().is_empty()).map(str::to_string);
    let (line, id) = (public_line(&key), KeyId::of(&key));
    let role = match args.role.as_str() {
        "publisher" => Role::Publisher,
        "reviewer" => Role::Reviewer,
        _ => Role::Keeper,
    };
    let until = args.until.as_deref().map(end_of).transpose()?;
    let holder = args.holder.clone().or(comment);
    let opened = open_registry(global, &args.which, ui)?;
    let (registry, entry) = act(global, &opened.place, &args.who, |registry| {
        let now = registry.section(&args.section);
        let has = now.holders.iter().find(|h| h.key == id && h.role == role);
        if !args.revoke && has.is_some_and(|h| h.until == until && h.holder == holder) {
            return Ok(None);
        }
        Ok(Some(Action::Role {
            section: args.section.clone(),
            key: line.clone(),
            holder: holder.clone().filter(|_| !args.revoke),
            role,
            given: !args.revoke,
            until: until.clone(),
        }))
    })?;
    let section = registry.section(&args.section);
    match ui.format {
        Format::Json => ui.json(&render::section_json(&section, entry.as_ref())),
        _ => ui.result(&render::section_text(&section, entry.is_some(), &ui.style)),
    }
    Ok(0)
}
