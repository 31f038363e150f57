//! A dataset's versions, newest first.

use jiff::Timestamp;
use serde_json::{Value, json};
use textum_core::data::Version;
use textum_core::record::receipt::{ContentKind, StorageMode};

use super::change;
use crate::commands::data::History;
use crate::render::table::{self, Cell, Look, table};
use crate::render::text;
use crate::ui::Style;

fn runs_of(history: &History, version: &Version) -> Vec<String> {
    let used = history.uses.iter().filter(|u| u.digest == version.content.digest && u.read);
    used.map(|u| u.run.rsplit('-').next().unwrap_or(&u.run).to_string()).collect()
}

fn extent(version: &Version) -> String {
    match (version.rows, version.content.files, version.content.kind) {
        (Some(rows), ..) => text::counted(rows, "row"),
        (None, Some(files), ContentKind::Folder) => text::counted(files, "file"),
        _ => "–".into(),
    }
}

/// Whether it stands in the working tree now.
pub fn in_tree(history: &History, version: &Version) -> bool {
    history.tree.as_ref().and_then(|t| t.version.as_ref()).is_some_and(|v| v.number == version.number)
}

fn rows(history: &History, now: Timestamp) -> Vec<Vec<Cell>> {
    let first = history.versions.first().map(|(v, _)| v.number);
    let each = history.versions.iter().rev().map(|(version, changed)| {
        let changed = match changed {
            _ if history.erased.contains_key(&version.number) => "erased".into(),
            Some(found) => change(found),
            None if Some(version.number) == first => "the first".into(),
            None => "cannot be compared: the content of one is not there".into(),
        };
        let here = if in_tree(history, version) { "*" } else { "" };
        vec![
            Cell::new(version.name(), Look::Bold),
            Cell::new(here, Look::Accent),
            Cell::new(text::ago(&version.recorded, now), Look::Dim),
            extent(version).into(),
            Cell::new(text::bytes(version.content.size), Look::Dim),
            changed.into(),
            text::some(&runs_of(history, version), 3).into(),
        ]
    });
    each.collect()
}

const HEADER: [&str; 7] = ["version", "", "first seen", "extent", "size", "change", "read by runs"];

/// For people.
pub fn text(name: &str, history: &History, style: &Style) -> String {
    let now = textum_base::clock::now();
    let count = text::counted(history.versions.len() as u64, "version");
    let tree = match &history.tree {
        None => format!("{name} is not in the working tree"),
        Some(side) => match &side.version {
            Some(version) => format!("{} stands in the working tree", version.name()),
            None => "what stands in the working tree is not recorded yet".into(),
        },
    };
    let mut out = format!("{}\n\n", style.bold(&format!("{count} of {name}; {tree}")));
    let mut all = rows(history, now);
    if let (Some(side), Some(changed)) = (history.tree.as_ref().filter(|t| t.version.is_none()), &history.edited) {
        let files = side.content.files.map(|n| text::counted(n, "file")).unwrap_or_default();
        let row = vec![
            Cell::new("(edited)", Look::Accent),
            Cell::new("*", Look::Accent),
            "".into(),
            files.into(),
            Cell::new(text::bytes(side.content.size), Look::Dim),
            change(changed).into(),
        ];
        all.insert(0, row);
    }
    out.push_str(&table(&HEADER, &all, "  ", style));
    let by: Vec<&str> = history.versions.iter().map(|(v, _)| v.by.as_str()).collect();
    let all_by_one = by.windows(2).all(|w| w[0] == w[1]);
    let mut lines = Vec::new();
    for (version, _) in history.versions.iter().rev() {
        let mut said: Vec<String> = version.notes.clone();
        said.extend(history.erased.get(&version.number).map(ToString::to_string));
        if !all_by_one {
            said.push(format!("recorded by {}", version.by));
        }
        if version.hold == StorageMode::Reference {
            said.push("a reference: its bytes stay at its path".into());
        }
        if !said.is_empty() {
            lines.push(format!("  {}  {}", version.name(), said.join("; ")));
        }
    }
    if all_by_one && let Some(by) = by.first() {
        lines.push(style.dim(&format!("  all recorded by {by}")));
    }
    out.push_str(&style.dim("\n  * in the working tree\n"));
    out.push_str(&lines.join("\n"));
    out
}

/// One version, in full.
pub fn one(history: &History, style: &Style) -> String {
    let mut out = String::new();
    for (version, changed) in &history.versions {
        out.push_str(&format!("{}  {}\n\n", style.bold(&version.name()), version.path));
        let mut line = |name: &str, value: String| out.push_str(&format!("  {}  {value}\n", style.dim(&format!("{name:<10}"))));
        line("digest", version.content.digest.to_string());
        line("extent", format!("{}, {}", extent(version), text::bytes(version.content.size)));
        line("first seen", format!("{}, by {}", text::moment(&version.recorded), version.by));
        if version.hold == StorageMode::Reference {
            line("kept", "as a reference: its bytes stay at its path".into());
        }
        if let Some(erasure) = history.erased.get(&version.number) {
            line("content", style.bad(&erasure.to_string()));
        }
        version.notes.iter().for_each(|note| line("note", note.clone()));
        if let Some(changed) = changed {
            line("change", change(changed));
        }
        line(
            "read by",
            if runs_of(history, version).is_empty() { "no run".into() } else { text::some(&runs_of(history, version), 12) },
        );
        if in_tree(history, version) {
            line("", "it stands in the working tree".into());
        }
    }
    out
}

/// As Markdown.
pub fn markdown(history: &History) -> String {
    table::markdown(&HEADER, &plain(history))
}

/// With times as they are, for other programs.
fn plain(history: &History) -> Vec<Vec<Cell>> {
    let mut all = rows(history, textum_base::clock::now());
    for (row, (version, _)) in all.iter_mut().zip(history.versions.iter().rev()) {
        row[2] = version.recorded.as_str().into();
        row[4] = version.content.size.to_string().into();
    }
    all
}

/// As JSON.
pub fn json(history: &History) -> Value {
    let each: Vec<Value> = history
        .versions
        .iter()
        .map(|(v, changed)| {
            let runs: Vec<Value> = history
                .uses
                .iter()
                .filter(|u| u.digest == v.content.digest)
                .map(|u| json!({"run": u.run, "started": u.started, "state": u.state, "read": u.read}))
                .collect();
            json!({
                "version": v.number, "name": v.name(), "path": v.path, "digest": v.content.digest, "size": v.content.size,
                "files": v.content.files.unwrap_or(1), "rows": v.rows, "hold": v.hold, "recorded": v.recorded, "by": v.by,
                "notes": v.notes, "change": changed, "runs": runs, "in_tree": in_tree(history, v),
                "erased": history.erased.get(&v.number),
            })
        })
        .collect();
    let tree = history
        .tree
        .as_ref()
        .map(|t| json!({"digest": t.content.digest, "version": t.version.as_ref().map(|v| v.number), "change": history.edited}));
    json!({"versions": each, "tree": tree})
}
