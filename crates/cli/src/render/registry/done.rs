//! What was done: an alias that moved, an approval, an event that was told.

use serde_json::{Value, json};
use textum_core::publish::{DeadLetter, Event};
use textum_core::registry::{Entry, Registry};

use super::super::{text, version};
use crate::ui::{Style, escape};

/// What was done to a version.
pub struct Done {
    /// Its published name.
    pub name: String,
    /// Its number.
    pub version: u64,
    /// What the registry says now.
    pub registry: Registry,
    /// The entry; none: all was so already.
    pub entry: Option<Entry>,
}

impl Done {
    /// The number of the entry.
    pub fn number(&self) -> Option<u64> {
        self.entry.as_ref().map(|entry| entry.number)
    }
}

/// An alias that was moved.
pub struct Moved<'a> {
    /// The published name.
    pub name: &'a str,
    /// The alias.
    pub alias: &'a str,
    /// What it named.
    pub from: Option<u64>,
    /// What it names.
    pub to: Option<u64>,
    /// The entry; none: it named that already.
    pub entry: Option<&'a Entry>,
}

/// That an alias was moved, and what is other now.
pub fn moved_text(moved: &Moved<'_>, registry: &Registry, style: &Style) -> String {
    let Moved { name, alias, from, to, entry } = moved;
    let was = from.map_or("nothing".to_string(), |v| format!("{name}@{v}"));
    let is = to.map_or("nothing".to_string(), |v| format!("{name}@{v}"));
    if entry.is_none() {
        return format!("{} names {is} already\n", style.bold(alias));
    }
    let mut out = format!("{} names {} now; before it named {was}\n", style.bold(alias), style.accent(&is));
    let of = |number: Option<u64>| registry.models.get(*name)?.version(number?);
    if let (Some(old), Some(new)) = (of(*from), of(*to)) {
        out.push_str(&version::metrics_table(&[(was, old), (is, new)], style));
    }
    out
}

/// The same as JSON.
pub fn moved_json(moved: &Moved<'_>) -> Value {
    json!({"name": moved.name, "alias": moved.alias, "from": moved.from, "to": moved.to, "entry": moved.entry.map(|e| e.number)})
}

/// How far an approval is.
pub fn approved_text(done: &Done, alias: &str, style: &Style) -> String {
    let (name, version) = (&done.name, done.version);
    let (found, needed, may_move) = done.registry.approvals(name, version, alias).unwrap_or_default();
    let mut out = format!("{name}@{version} is approved for {} by {found} of the {needed} that it takes\n", style.bold(alias));
    if found as u64 >= u64::from(needed) && !may_move {
        out.push_str("  who published it has approved it alone: it takes somebody else too\n");
    }
    if may_move {
        out.push_str(&format!("  next: textum alias {name}@{version} {alias}\n"));
    }
    out
}

/// The same as JSON.
pub fn approved_json(done: &Done, alias: &str) -> Value {
    let (name, version) = (&done.name, done.version);
    let (found, needed, _) = done.registry.approvals(name, version, alias).unwrap_or_default();
    json!({"name": name, "version": version, "alias": alias, "approved": found, "needed": needed, "entry": done.number()})
}

/// An event that was told.
pub fn event_text(event: &Event, style: &Style) -> String {
    let kind = event.cloud["type"].as_str().unwrap_or_default();
    let what = kind.strip_prefix("textum.registry.").unwrap_or(kind);
    let alias = event.cloud["data"]["alias"].as_str().map_or(String::new(), |alias| format!(" {alias}"));
    format!("told: {what}{alias} {}  {}\n", style.bold(&event.subject), style.dim(&format!("entry {}", event.entry)))
}

/// What could not be told.
pub fn dead_text(dead: &[DeadLetter]) -> String {
    if dead.is_empty() {
        return "everything was told\n".to_string();
    }
    let line = |d: &DeadLetter| format!("entry {}, given up {}: {}\n", d.entry, text::moment(&d.at), escape::line(&d.why));
    let all: String = dead.iter().map(line).collect();
    format!("{all}`--redeliver` tries once more\n")
}
