//! What is published; and the entries, sections and acts of a registry.

mod check;
mod done;
mod history;
mod section;
mod versions;

pub use check::{check_json, check_text};
pub use done::{Done, Moved, approved_json, approved_text, dead_text, event_text, moved_json, moved_text};
pub use history::{history_csv, history_json, history_markdown, history_text};
pub use section::{section_json, section_text};
pub use versions::{versions_csv, versions_json, versions_markdown, versions_text};

use serde_json::{Value, json};
use textum_core::registry::{KeyId, Model, Registry, Signed};

use super::csv::Data;
use super::table::{Cell, Look, markdown, table};
use super::text;
use crate::ui::{Style, escape};

/// Whose key it is, as far as it was said in a section.
fn holder_of(registry: &Registry, section: &str, key: &KeyId) -> Option<String> {
    registry.sections.get(section)?.holders.iter().find(|h| h.key == *key)?.holder.clone()
}

/// Who signed, as short as it can be said: whose key it is, or its beginning.
fn signer_of(registry: &Registry, section: &str, signed: &Signed) -> Cell {
    match signed {
        Signed::No => Cell::new("nobody", Look::Dim),
        Signed::Wrong(_) => Cell::new("wrongly", Look::Bad),
        Signed::By(key) => Cell::from(holder_of(registry, section, key).unwrap_or_else(|| key.short().to_string())),
    }
}

/// By which key something is signed, in words.
pub fn signature(registry: &Registry, section: &str, signed: &Signed) -> String {
    match signed {
        Signed::No => "not signed".to_string(),
        Signed::Wrong(what) => format!("wrongly signed: {}", escape::line(what)),
        Signed::By(key) => {
            let holder = holder_of(registry, section, key).map_or(String::new(), |h| format!(" ({})", escape::line(&h)));
            format!("key {}{holder}", key.short())
        }
    }
}

fn entries(count: u64) -> String {
    if count == 1 { "1 entry".to_string() } else { format!("{} entries", text::count(count)) }
}

/// Rows of what is published: a header for them, and the rows.
const LIST: [&str; 7] = ["name", "newest", "aliases", "section", "kind", "published", "by"];

fn aliases_of(model: &Model) -> String {
    let all: Vec<String> = model.aliases.iter().map(|(alias, a)| format!("{alias} @{}", a.version)).collect();
    all.join(", ")
}

fn list_rows(registry: &Registry) -> Vec<Vec<Cell>> {
    let now = textum_base::clock::now();
    let row = |(name, model): (&String, &Model)| {
        let newest = model.versions.last();
        vec![
            Cell::new(name.clone(), Look::Bold),
            Cell::from(format!("@{}", model.versions.len())),
            Cell::new(aliases_of(model), Look::Accent),
            Cell::from(model.section.clone()),
            Cell::from(newest.map_or("", |v| v.publication.kind.word())),
            Cell::from(newest.map_or(String::new(), |v| text::ago(&v.at, now))),
            Cell::new(newest.map_or(String::new(), |v| v.by.clone()), Look::Dim),
        ]
    };
    registry.models.iter().map(row).collect()
}

/// What is published, and in which sections.
pub fn list_text(registry: &Registry, at: &str, style: &Style) -> String {
    let versions = registry.versions().count() as u64;
    let names = registry.models.len() as u64;
    let mut out = format!(
        "{} of {} at {}\n\n",
        style.bold(&text::counted(versions, "version")),
        text::counted(names, "name"),
        escape::line(at)
    );
    if names > 0 {
        out.push_str(&table(&LIST, &list_rows(registry), "  ", style));
    }
    for section in registry.sections.values() {
        out.push_str(&format!("\n  section {}", section::section_line(section, style)));
    }
    if !registry.sections.is_empty() {
        out.push('\n');
    }
    let invalid = registry.entries.iter().filter(|e| e.invalid.is_some()).count() as u64;
    if invalid > 0 {
        let entries = if invalid == 1 { "entry has" } else { "entries have" };
        out.push_str(&format!("\n  {invalid} {entries} no effect: `textum registry history` tells why\n"));
    }
    out
}

/// The same as CSV.
pub fn list_csv(registry: &Registry) -> String {
    let mut data = Data::new(["name", "section", "kind", "versions", "aliases", "published", "by"]);
    for (name, model) in &registry.models {
        let newest = model.versions.last();
        data.add([
            name.clone(),
            model.section.clone(),
            newest.map_or(String::new(), |v| v.publication.kind.word().to_string()),
            model.versions.len().to_string(),
            aliases_of(model),
            newest.map_or(String::new(), |v| v.at.clone()),
            newest.map_or(String::new(), |v| v.by.clone()),
        ]);
    }
    data.text()
}

/// The same in Markdown.
pub fn list_markdown(registry: &Registry) -> String {
    markdown(&LIST, &list_rows(registry))
}

fn aliases_json(model: &Model) -> Value {
    let alias = |(alias, a): (&String, &textum_core::registry::AliasState)| {
        (alias.clone(), json!({"version": a.version, "before": a.before, "at": a.at, "by": a.by, "entry": a.entry}))
    };
    Value::Object(model.aliases.iter().map(alias).collect())
}

/// The same as JSON.
pub fn list_json(registry: &Registry) -> Value {
    let model = |(name, model): (&String, &Model)| {
        let newest = model.versions.last();
        json!({
            "name": name, "section": model.section, "kind": newest.map(|v| v.publication.kind),
            "versions": model.versions.len(), "aliases": aliases_json(model),
            "published": newest.map(|v| v.at.clone()), "by": newest.map(|v| v.by.clone()),
        })
    };
    let models: Vec<Value> = registry.models.iter().map(model).collect();
    json!({"models": models, "sections": registry.sections.values().collect::<Vec<_>>(), "entries": registry.entries.len()})
}
