//! The datasets as they are, and what was just recorded.

use serde_json::{Value, json};
use textum_core::data::{DatasetState, DatasetStatus, Recording};
use textum_core::record::receipt::{Content, StorageMode};

use crate::render::table::{self, Cell, Look, table};
use crate::render::text;
use crate::ui::Style;

const HEADER: [&str; 7] = ["dataset", "version", "state", "path", "files", "rows", "size"];

fn number(value: Option<u64>) -> String {
    value.map_or("–".to_string(), text::count)
}

fn rows(found: &[DatasetStatus]) -> Vec<Vec<Cell>> {
    let each = found.iter().map(|one| {
        let (word, look) = match one.state {
            DatasetState::Recorded => ("recorded", Look::Plain),
            DatasetState::Edited => ("edited since", Look::Accent),
            DatasetState::New => ("not recorded yet", Look::Accent),
            DatasetState::Missing => ("missing", Look::Bad),
        };
        let reference = if one.decl.hold == StorageMode::Reference { ", a reference" } else { "" };
        let is_version = one.state == DatasetState::Recorded;
        let version = one.version.as_ref().map_or("–".to_string(), |v| match is_version {
            true => v.name(),
            false => format!("after {}", v.name()),
        });
        let content: Option<&Content> = one.content.as_ref();
        let rows = one.version.as_ref().filter(|_| is_version).and_then(|v| v.rows);
        vec![
            Cell::new(&one.decl.name, Look::Bold),
            Cell::new(version, if is_version { Look::Plain } else { Look::Dim }),
            Cell::new(format!("{word}{reference}"), look),
            one.decl.path.as_str().into(),
            number(content.map(|c| c.files.unwrap_or(1))).into(),
            number(rows).into(),
            content.map_or("–".to_string(), |c| text::bytes(c.size)).into(),
        ]
    });
    each.collect()
}

/// For people.
pub fn text(found: &[DatasetStatus], style: &Style) -> String {
    let mut out = table(&HEADER, &rows(found), "", style);
    for one in found.iter().filter(|o| o.decl.about.is_some()) {
        out.push_str(&style.dim(&format!("{}: {}\n", one.decl.name, one.decl.about.as_deref().unwrap_or_default())));
    }
    let named =
        |state: DatasetState| found.iter().filter(move |o| o.state == state).map(|o| o.decl.name.clone()).collect::<Vec<_>>();
    let edited = named(DatasetState::Edited);
    if let Some(first) = edited.first() {
        out.push_str(&format!("\n{}: `textum data diff {first}` shows what changed\n", text::some(&edited, 4)));
    }
    let missing = named(DatasetState::Missing);
    if let Some(one) = found.iter().find(|o| o.state == DatasetState::Missing && o.decl.hold == StorageMode::Store)
        && let Some(version) = &one.version
    {
        out.push_str(&format!("\n{}: `textum restore {}` brings it back\n", text::some(&missing, 4), version.name()));
    }
    out
}

/// As Markdown.
pub fn markdown(found: &[DatasetStatus]) -> String {
    table::markdown(&HEADER, &rows(found))
}

/// As JSON.
pub fn json(found: &[DatasetStatus]) -> Value {
    let each = found.iter().map(|one| {
        let version = one.version.as_ref();
        let is_version = one.state == DatasetState::Recorded;
        json!({
            "dataset": one.decl.name, "path": one.decl.path, "about": one.decl.about, "key": one.decl.key, "hold": one.decl.hold,
            "state": one.state, "version": version.filter(|_| is_version).map(|v| v.number),
            "newest": version.filter(|_| !is_version).map(|v| v.number), "versions": one.versions,
            "digest": one.content.as_ref().map(|c| c.digest), "size": one.content.as_ref().map(|c| c.size),
            "files": one.content.as_ref().map(|c| c.files.unwrap_or(1)),
            "rows": version.filter(|_| is_version).and_then(|v| v.rows),
        })
    });
    each.collect()
}

/// What was just recorded.
pub fn recorded(found: &[Recording], style: &Style) -> String {
    let row = |one: &Recording| -> Vec<Cell> {
        let (word, look) = if one.new { ("new version", Look::Good) } else { ("as recorded before", Look::Dim) };
        let rows = one.rows.map(|n| text::counted(n, "row"));
        let files = one.content.files.map(|n| text::counted(n, "file"));
        vec![
            Cell::new(format!("{}@{}", one.name, one.number), Look::Bold),
            Cell::new(word, look),
            rows.or(files).unwrap_or_default().into(),
            Cell::new(text::bytes(one.content.size), Look::Dim),
            Cell::new(one.content.digest.short(), Look::Dim),
        ]
    };
    table(&[], &found.iter().map(row).collect::<Vec<_>>(), "", style)
}

/// What was just recorded, as JSON.
pub fn recorded_json(found: &[Recording]) -> Value {
    let each = found.iter().map(|one| {
        json!({
            "dataset": one.name, "version": one.number, "new": one.new, "digest": one.content.digest, "size": one.content.size,
            "files": one.content.files.unwrap_or(1), "rows": one.rows,
        })
    });
    each.collect()
}
