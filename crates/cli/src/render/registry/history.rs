//! The entries of the log, and which of them have no effect.

use serde_json::{Value, json};
use textum_core::registry::{Action, Entry, Judged, Registry, Signed};

use super::super::csv::Data;
use super::super::table::{Cell, Look, markdown, table};
use super::super::text;
use super::{entries, signer_of};
use crate::ui::{Style, escape};

/// What an entry does, in words.
pub fn deed(action: &Action) -> String {
    match action {
        Action::Section { section, accepts, guards, signed, .. } => {
            let guards: Vec<String> = guards.iter().map(|(alias, n)| format!("{alias} guarded by {n}")).collect();
            let accepts = if accepts.word() == "any" { "anything" } else { accepts.word() };
            let signed = if *signed { ", signed only" } else { "" };
            let guards = if guards.is_empty() { String::new() } else { format!(", {}", guards.join(", ")) };
            format!("section {section}: accepts {accepts}{guards}{signed}")
        }
        Action::Role { section, holder, role, given, until, key } => {
            let key = textum_core::registry::key::public_key(key).map(|k| textum_core::registry::KeyId::of(&k));
            let key = key.map_or(String::new(), |k| k.short().to_string());
            let who = holder.clone().map_or(key.clone(), |h| format!("{h} ({key})"));
            let until = until.as_ref().map_or(String::new(), |u| format!(" until {u}"));
            match given {
                true => format!("{who} is {} in {section}{until}", role.word()),
                false => format!("{who} is no longer {} in {section}", role.word()),
            }
        }
        Action::Publish(p) => format!("{}@{} published in {}", p.name, p.version, p.section),
        Action::Alias { name, alias, version: Some(version), .. } => format!("{alias} is {name}@{version}"),
        Action::Alias { name, alias, version: None, .. } => format!("{name} has no {alias} any more"),
        Action::Approve { name, version, alias } => format!("{name}@{version} approved for {alias}"),
        Action::Retire { name, version, because } => format!("{name}@{version} retired: {because}"),
        Action::Note { name, version, text } => format!("{name}@{version}: {text}"),
        Action::Card { name, version, .. } => format!("{name}@{version} has a card"),
    }
}

fn section_named(registry: &Registry, entry: &Entry) -> String {
    match &entry.action {
        Action::Section { section, .. } | Action::Role { section, .. } => section.clone(),
        Action::Publish(p) => p.section.clone(),
        other => other.name().map_or(String::new(), |name| registry.section_of(name).name),
    }
}

fn told<'r>(registry: &'r Registry, name: Option<&'r str>) -> impl Iterator<Item = &'r Judged> {
    registry.entries.iter().filter(move |e| {
        let fits = |name: &str| {
            e.entry.action.name() == Some(name) || (e.entry.action.name().is_none() && section_named(registry, &e.entry) == name)
        };
        name.is_none_or(fits)
    })
}

const HISTORY: [&str; 5] = ["entry", "when", "what", "by", "signed by"];

fn history_rows(registry: &Registry, name: Option<&str>) -> Vec<Vec<Cell>> {
    let now = textum_base::clock::now();
    let row = |e: &Judged| {
        let (what, look) = match &e.invalid {
            None => (deed(&e.entry.action), Look::Plain),
            Some(why) => (format!("✗ no effect: {} ({why})", deed(&e.entry.action)), Look::Bad),
        };
        vec![
            Cell::new(e.entry.number.to_string(), Look::Dim),
            Cell::from(text::ago(&e.entry.at, now)),
            Cell::new(escape::line(&what), look),
            Cell::from(e.entry.by.clone()),
            signer_of(registry, &section_named(registry, &e.entry), &e.signed),
        ]
    };
    told(registry, name).map(row).collect()
}

/// The entries of the log, the newest last.
pub fn history_text(registry: &Registry, name: Option<&str>, style: &Style) -> String {
    let rows = history_rows(registry, name);
    let count = rows.len() as u64;
    let of = name.map_or(String::new(), |n| format!(" of {n}"));
    format!("{}{of}\n\n{}", style.bold(&entries(count)), table(&HISTORY, &rows, "  ", style))
}

/// The same in Markdown.
pub fn history_markdown(registry: &Registry, name: Option<&str>) -> String {
    markdown(&HISTORY, &history_rows(registry, name))
}

fn key_of(signed: &Signed) -> Option<String> {
    match signed {
        Signed::By(key) => Some(key.0.clone()),
        _ => None,
    }
}

/// The same as CSV.
pub fn history_csv(registry: &Registry, name: Option<&str>) -> String {
    let mut data = Data::new(["entry", "at", "by", "key", "what", "invalid", "digest"]);
    for e in told(registry, name) {
        data.add([
            e.entry.number.to_string(),
            e.entry.at.clone(),
            e.entry.by.clone(),
            key_of(&e.signed).unwrap_or_default(),
            deed(&e.entry.action),
            e.invalid.clone().unwrap_or_default(),
            e.digest.to_string(),
        ]);
    }
    data.text()
}

/// The same as JSON.
pub fn history_json(registry: &Registry, name: Option<&str>) -> Value {
    let entry = |e: &Judged| {
        json!({
            "entry": e.entry.number, "at": e.entry.at, "by": e.entry.by, "key": key_of(&e.signed), "what": deed(&e.entry.action),
            "invalid": e.invalid, "digest": e.digest,
        })
    };
    Value::Array(told(registry, name).map(entry).collect())
}
