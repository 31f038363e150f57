//! How two states of a dataset differ.

use serde_json::{Value, json};
use textum_core::data::{DataRef, Difference, FileChange, FileChangeKind, FilesDiff};
use textum_core::table::compare::{Example, Identity, NoKey, Pattern, RowsDiff};

use super::oddities;
use crate::render::table::{self, Cell, Look, table};
use crate::render::text;
use crate::ui::Style;

/// Everything that is told of a difference.
pub struct Told<'a> {
    /// The first state.
    pub old: &'a DataRef,
    /// The second state.
    pub new: &'a DataRef,
    /// The difference.
    pub found: &'a Difference,
    /// Most examples of each kind.
    pub most: usize,
    /// The only columns that count; empty: all.
    pub columns: &'a [String],
    /// By how much numbers may differ.
    pub within: f64,
}

/// Whether nothing differs in what is compared.
pub fn is_same(found: &Difference) -> bool {
    match found {
        Difference::Same => true,
        Difference::Table { rows: diff, .. } => diff.is_same(),
        Difference::Folder(diff) => diff.files.is_empty(),
        Difference::File => false,
    }
}

/// Cells longer than this are cut in a text for people.
const WIDE: usize = 32;

pub(super) fn shown(cell: &str) -> String {
    let plain: String = cell.chars().map(|c| if c.is_control() { '␤' } else { c }).collect();
    if plain.is_empty() {
        "(missing)".into()
    } else if plain.chars().count() > WIDE {
        format!("{}…", plain.chars().take(WIDE - 1).collect::<String>())
    } else {
        plain
    }
}

pub(super) fn pattern(found: &Pattern) -> String {
    match found {
        Pattern::Factor(by) => format!("nearly all are about {} times what they were", text::figure(*by)),
        Pattern::Shift(by) if *by > 0.0 => format!("nearly all are about {} more than they were", text::figure(*by)),
        Pattern::Shift(by) => format!("nearly all are about {} less than they were", text::figure(-by)),
        Pattern::Missing => "nearly all have gone missing".into(),
        Pattern::Filled => "nearly all were missing before".into(),
        Pattern::Spelling => "nearly all are the same numbers, written otherwise".into(),
    }
}

pub(super) fn table_headline(diff: &RowsDiff) -> String {
    let mut parts = Vec::new();
    if diff.changed > 0 {
        let columns: Vec<String> = diff.columns.iter().map(|c| c.column.clone()).collect();
        let all = if columns.len() == 1 { "only in" } else { "in" };
        let of = text::counted(diff.new_rows, "row");
        parts.push(format!("{} of {of} changed, {all} {}", text::count(diff.changed), text::some(&columns, 3)));
    }
    if diff.added > 0 {
        parts.push(format!("{} more", text::counted(diff.added, "row")));
    }
    if diff.removed > 0 {
        parts.push(format!("{} gone", text::counted(diff.removed, "row")));
    }
    if !diff.schema.is_empty() {
        parts.push("other columns".into());
    }
    if parts.is_empty() { format!("the same {}, written otherwise", text::counted(diff.new_rows, "row")) } else { parts.join(", ") }
}

/// For people.
pub fn text(told: &Told<'_>, style: &Style) -> String {
    let names = format!("{} → {}", told.old.name, told.new.name);
    match told.found {
        Difference::Same => format!("{}\n", style.bold(&format!("{names}: the same content"))),
        Difference::File => format!(
            "{}\n\n  {} → {}\n  {}\n",
            style.bold(&format!("{names}: other bytes")),
            text::bytes(told.old.content.size),
            text::bytes(told.new.content.size),
            style.dim("no table by its name: only whole files are compared")
        ),
        Difference::Folder(diff) => folder_text(&names, diff, told.most, style),
        Difference::Table { rows, files } => table_text(&names, told, rows, style) + &files_text(files.as_ref(), told.most, style),
    }
}

/// A share in percent; what is there is never told as 0.
pub(super) fn percent(share: f64) -> String {
    if share > 0.0 && share < 0.01 { "less than 1 %".into() } else { format!("{:.0} %", share * 100.0) }
}

fn table_text(names: &str, told: &Told<'_>, diff: &RowsDiff, style: &Style) -> String {
    let mut out = format!("{}\n\n", style.bold(&format!("{names}: {}", table_headline(diff))));
    let mut line = |name: &str, value: String| out.push_str(&format!("  {}  {value}\n", style.dim(&format!("{name:<8}"))));
    line(
        "rows",
        format!(
            "{} → {}: {} {}, {} changed",
            text::count(diff.old_rows),
            text::count(diff.new_rows),
            style.good(&format!("+{}", text::count(diff.added))),
            style.bad(&format!("−{}", text::count(diff.removed))),
            text::count(diff.changed)
        ),
    );
    line("told by", identity(&diff.identity));
    if told.within > 0.0 && matches!(diff.identity, Identity::Key { .. }) {
        let by = text::figure(told.within);
        line("numbers", format!("that differ by {by} at most are the same: so in {}", text::counted(diff.near, "row")));
    } else if told.within > 0.0 {
        line("numbers", "are compared as they are written: without a key there is no row to be near to".into());
    }
    if !told.columns.is_empty() {
        line("columns", format!("only {} counted", text::some(told.columns, 6)));
    }
    let schema = &diff.schema;
    schema.added.iter().for_each(|c| line("column", format!("{} ({})", style.good(&format!("+ {}", c.name)), c.r#type)));
    schema.removed.iter().for_each(|c| line("column", format!("{} ({})", style.bad(&format!("− {}", c.name)), c.r#type)));
    schema.types.iter().for_each(|t| line("column", format!("{}: {} → {}", t.column, t.from, t.to)));
    schema.renamed.iter().for_each(|r| line("column", format!("{} → {}: the same values under another name", r.from, r.to)));
    if schema.reordered {
        line("columns", "stand in another order, which does not count".into());
    }
    for odd in oddities(&told.old.name, &diff.old_oddities).into_iter().chain(oddities(&told.new.name, &diff.new_oddities)) {
        line("note", odd);
    }
    if !diff.columns.is_empty() {
        let rows = diff.columns.iter().map(|c| -> Vec<Cell> {
            vec![
                Cell::new(&c.column, Look::Bold),
                text::count(c.cells).into(),
                Cell::new(c.pattern.as_ref().map(pattern).unwrap_or_default(), Look::Accent),
            ]
        });
        out.push_str(&format!("\n{}", table(&["changed cells in", "cells", ""], &rows.collect::<Vec<_>>(), "  ", style)));
    }
    for (what, common) in [("changed", &diff.common_changed), ("added", &diff.common_added), ("removed", &diff.common_removed)] {
        if !common.is_empty() {
            let told: Vec<String> = common.iter().map(|(column, value)| format!("{column} = {}", shown(value))).collect();
            let told = style.accent(&text::some(&told, 4));
            out.push_str(&format!("\n  {told} in all rows {what}, but not in all rows\n"));
        }
    }
    for (what, hints) in [("changed", &diff.hints_changed), ("added", &diff.hints_added), ("removed", &diff.hints_removed)] {
        for hint in hints {
            let told = style.accent(&format!("{} = {}", hint.column, shown(&hint.value)));
            out.push_str(&format!(
                "\n  {told} in {} of the rows {what}, in {} of the others\n",
                percent(hint.share),
                percent(hint.of_others)
            ));
        }
    }
    out.push_str(&changed_text(diff, if told.most == usize::MAX { usize::MAX } else { 4 }, style));
    let whole = matches!(diff.identity, Identity::Rows { .. });
    for (title, all, examples, look) in [
        ("rows added", diff.added, &diff.examples_added, Look::Good),
        ("rows removed", diff.removed, &diff.examples_removed, Look::Bad),
    ] {
        if !examples.is_empty() {
            out.push_str(&only_in_one(title, all, examples, look, whole, style));
        }
    }
    out
}

pub(super) fn identity(identity: &Identity) -> String {
    match identity {
        Identity::Key { columns, but: None } => format!("{} (the key)", columns.join(", ")),
        Identity::Key { columns, but: Some(why) } => {
            let why = match why {
                NoKey::Twice { table, rows, examples } => twice(table, *rows, examples),
                NoKey::Absent { column, table } => format!("{table} has no column {column}"),
            };
            format!("{} (the key); whole rows where {why}", columns.join(", "))
        }
        Identity::Rows { because: None } => "whole rows, as a multiset: no key is declared".into(),
        Identity::Rows { because: Some(NoKey::Absent { column, table }) } => {
            format!("whole rows, as a multiset: {table} has no column {column}, which the key names")
        }
        Identity::Rows { because: Some(NoKey::Twice { table, rows, examples }) } => {
            format!("whole rows, as a multiset: {}", twice(table, *rows, examples))
        }
    }
}

/// Where a key is not unique.
fn twice(table: &str, rows: u64, examples: &[(String, u64, u64)]) -> String {
    let some: Vec<String> =
        examples.iter().take(2).map(|(key, first, again)| format!("{} on lines {first} and {again}", shown(key))).collect();
    let rest = rows.saturating_sub(some.len() as u64);
    let rest = if rest > 0 { format!(", and {} more", text::counted(rest, "row")) } else { String::new() };
    format!("the key is not unique in {table}: {}{rest}", some.join("; "))
}

fn changed_text(diff: &RowsDiff, cells: usize, style: &Style) -> String {
    let Identity::Key { columns, .. } = &diff.identity else { return String::new() };
    if diff.examples_changed.is_empty() {
        return String::new();
    }
    let key = columns.join(", ");
    let header = ["line", key.as_str(), "column", "was", "", "is"];
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    for example in &diff.examples_changed {
        for (at, cell) in example.cells.iter().take(cells).enumerate() {
            let first = at == 0;
            let line = example.new_line.filter(|_| first);
            let line = line.map_or(String::new(), |l| place(example.new_file.as_deref(), &l.to_string()));
            let key = if first { example.key.iter().map(|k| shown(k)).collect::<Vec<_>>().join(", ") } else { String::new() };
            rows.push(vec![
                Cell::new(line, Look::Dim),
                key.into(),
                cell.column.as_str().into(),
                Cell::new(shown(&cell.from), Look::Bad),
                "→".into(),
                Cell::new(shown(&cell.to), Look::Good),
            ]);
        }
        if let Some(more) = example.cells.len().checked_sub(cells).filter(|n| *n > 0) {
            let more = format!("and {more} more cells");
            rows.push(vec!["".into(), "".into(), Cell::new(more, Look::Dim)]);
        }
    }
    let title = of_all(diff.examples_changed.len(), diff.changed, "changed rows");
    format!("\n  {}\n{}", style.dim(&title), table(&header, &rows, "  ", style))
}

/// A line, and the file that it is in, where there are several.
fn place(file: Option<&str>, line: &str) -> String {
    file.map_or(line.to_string(), |file| format!("{file} {line}"))
}

pub(super) fn of_all(shown: usize, all: u64, what: &str) -> String {
    if shown as u64 == all { format!("the {what}") } else { format!("the first {shown} of {} {what}", text::count(all)) }
}

fn only_in_one(title: &str, all: u64, examples: &[Example], look: Look, whole: bool, style: &Style) -> String {
    let rows: Vec<Vec<Cell>> = examples
        .iter()
        .map(|e| {
            let line = e.new_line.or(e.old_line).map_or(String::new(), |l| format!("line {l}"));
            let line = place(e.new_file.as_deref().or(e.old_file.as_deref()), &line);
            let cells: Vec<String> = e.key.iter().map(|k| shown(k)).collect();
            let text = if whole { text::some(&cells, 8) } else { cells.join(", ") };
            vec![Cell::new(line, Look::Dim), Cell::new(text, look)]
        })
        .collect();
    format!("\n  {}\n{}", style.dim(&of_all(examples.len(), all, title)), table(&[], &rows, "  ", style))
}

/// What differs between two folders, in short.
pub(super) fn folder_headline(diff: &FilesDiff) -> String {
    let mut parts = Vec::new();
    for (count, word) in [(diff.added, "more"), (diff.removed, "gone"), (diff.changed, "changed"), (diff.moved, "moved")] {
        if count > 0 {
            parts.push(format!("{} {word}", text::counted(count, "file")));
        }
    }
    if parts.is_empty() { "the same files".to_string() } else { parts.join(", ") }
}

fn folder_text(names: &str, diff: &FilesDiff, most: usize, style: &Style) -> String {
    let mut out = format!("{}\n\n", style.bold(&format!("{names}: {}", folder_headline(diff))));
    out.push_str(&format!(
        "  {} → {}, {} → {}\n",
        text::counted(diff.old.0, "file"),
        text::count(diff.new.0),
        text::bytes(diff.old.1),
        text::bytes(diff.new.1)
    ));
    out.push_str(&file_rows(diff, most, style));
    out
}

/// Which files of a table in a folder hold the change.
fn files_text(files: Option<&FilesDiff>, most: usize, style: &Style) -> String {
    let Some(diff) = files else { return String::new() };
    let differ = text::count(diff.files.len() as u64);
    let told = format!("{differ} of {} hold the difference", text::counted(diff.new.0, "file"));
    format!("\n  {}{}", style.dim(&told), file_rows(diff, most, style))
}

fn file_rows(diff: &FilesDiff, most: usize, style: &Style) -> String {
    let kinds = [FileChangeKind::Changed, FileChangeKind::Moved, FileChangeKind::Added, FileChangeKind::Removed];
    let most = most.max(1).saturating_mul(2);
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    for kind in kinds {
        let of_kind: Vec<&FileChange> = diff.files.iter().filter(|f| f.change == kind).collect();
        rows.extend(of_kind.iter().take(most).map(|f| file_row(f)));
        if of_kind.len() > most {
            let more = format!("and {} more {}", text::count((of_kind.len() - most) as u64), word(kind).0);
            rows.push(vec!["".into(), Cell::new(more, Look::Dim)]);
        }
    }
    if rows.is_empty() { String::new() } else { format!("\n{}", table(&[], &rows, "  ", style)) }
}

pub(super) fn word(kind: FileChangeKind) -> (&'static str, Look) {
    match kind {
        FileChangeKind::Changed => ("changed", Look::Accent),
        FileChangeKind::Moved => ("moved", Look::Plain),
        FileChangeKind::Added => ("added", Look::Good),
        FileChangeKind::Removed => ("removed", Look::Bad),
    }
}

pub(super) fn file_row(file: &FileChange) -> Vec<Cell> {
    let (said, look) = word(file.change);
    let path = match &file.from {
        Some(from) => format!("{from} → {}", file.path),
        None => file.path.clone(),
    };
    let size = match (file.old_size, file.new_size) {
        (Some(a), Some(b)) if a != b => format!("{} → {}", text::bytes(a), text::bytes(b)),
        (Some(n), _) | (None, Some(n)) => text::bytes(n),
        (None, None) => String::new(),
    };
    vec![Cell::new(said, look), path.into(), Cell::new(size, Look::Dim)]
}

/// As JSON.
pub fn json(told: &Told<'_>) -> Value {
    let side = |side: &DataRef| {
        json!({
            "name": side.name, "dataset": side.dataset, "version": side.version.as_ref().map(|v| v.number), "path": side.path,
            "digest": side.content.digest, "size": side.content.size,
        })
    };
    json!({"old": side(told.old), "new": side(told.new), "same": is_same(told.found), "difference": told.found})
}

/// The differences as rows: of tables one for each changed cell and each row shown, of folders one a file.
pub(super) fn rows(told: &Told<'_>) -> (Vec<&'static str>, Vec<Vec<Cell>>) {
    let number = |n: Option<u64>| n.map_or(String::new(), |n| n.to_string());
    match told.found {
        Difference::Table { rows: diff, .. } => {
            let mut rows: Vec<Vec<Cell>> = Vec::new();
            let all = [&diff.examples_changed, &diff.examples_added, &diff.examples_removed];
            let in_files = all.iter().any(|e| e.iter().any(|e| e.old_file.is_some() || e.new_file.is_some()));
            let mut add = |kind: &str, example: &Example, cell: (&str, &str, &str)| {
                let mut row: Vec<Cell> = vec![
                    kind.into(),
                    number(example.old_line).into(),
                    number(example.new_line).into(),
                    example.key.join(" ").into(),
                    cell.0.into(),
                    cell.1.into(),
                    cell.2.into(),
                ];
                if in_files {
                    row.extend([&example.old_file, &example.new_file].map(|f| f.clone().unwrap_or_default().into()));
                }
                rows.push(row);
            };
            for example in &diff.examples_changed {
                example.cells.iter().for_each(|c| add("changed", example, (&c.column, &c.from, &c.to)));
            }
            diff.examples_added.iter().for_each(|e| add("added", e, ("", "", "")));
            diff.examples_removed.iter().for_each(|e| add("removed", e, ("", "", "")));
            let mut header = vec!["change", "old line", "new line", "key", "column", "was", "is"];
            header.extend(if in_files { &["old file", "new file"][..] } else { &[] });
            (header, rows)
        }
        Difference::Folder(diff) => {
            let row = |f: &FileChange| -> Vec<Cell> {
                let from = f.from.clone().unwrap_or_default();
                vec![
                    word(f.change).0.into(),
                    f.path.as_str().into(),
                    from.into(),
                    number(f.old_size).into(),
                    number(f.new_size).into(),
                ]
            };
            (vec!["change", "path", "from", "old size", "new size"], diff.files.iter().map(row).collect())
        }
        Difference::Same | Difference::File => {
            let row = vec!["changed".into(), told.new.path.as_str().into()];
            (vec!["change", "path"], if is_same(told.found) { Vec::new() } else { vec![row] })
        }
    }
}

/// As CSV.
pub fn csv(told: &Told<'_>) -> String {
    let (header, rows) = rows(told);
    let names: Vec<String> = header.iter().map(|h| h.replace(' ', "_")).collect();
    table::csv(&names.iter().map(String::as_str).collect::<Vec<_>>(), &rows)
}

/// As Markdown.
pub fn markdown(told: &Told<'_>) -> String {
    let (header, rows) = rows(told);
    table::markdown(&header, &rows)
}
