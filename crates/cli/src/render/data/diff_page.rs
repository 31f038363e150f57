//! How two states of a dataset differ, as a page; of folders of pictures with a contact sheet.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde_json::{Value, json};
use textum_core::data::{Difference, FileChangeKind, Sheet, Small, Tile};
use textum_core::table::compare::RowsDiff;

use super::diff::{Told, file_row, folder_headline, identity, of_all, pattern, percent, rows, shown, table_headline};
use crate::failure::{DAMAGE, Failure};
use crate::render::table::Cell;
use crate::render::text;

/// So many files are listed by name.
const FILES: usize = 500;

/// A picture on the page.
fn picture(small: &Small) -> Value {
    let seen = &small.picture;
    let size = if seen.width > 0 { format!("{} × {} ", seen.width, seen.height) } else { String::new() };
    json!({
        "data": small.png.as_ref().map(|png| format!("data:image/png;base64,{}", STANDARD.encode(png))),
        "what": format!("{size}{} {}", seen.mode, seen.format), "fault": seen.fault,
    })
}

/// What differs between two pictures beside what they show.
fn tile(tile: &Tile) -> Value {
    json!({"path": tile.change.path, "old": tile.old.as_ref().map(picture), "new": tile.new.as_ref().map(picture)})
}

fn sheets(sheet: &Sheet) -> Vec<Value> {
    let kinds = [
        (FileChangeKind::Changed, "changed", "Changed"),
        (FileChangeKind::Added, "added", "Added"),
        (FileChangeKind::Removed, "removed", "Removed"),
    ];
    let of = |(kind, class, title): (FileChangeKind, &str, &str)| {
        let tiles: Vec<Value> = sheet.tiles.iter().filter(|t| t.change.change == kind).map(tile).collect();
        (!tiles.is_empty()).then(|| json!({"title": format!("{title}: {}", text::counted(tiles.len() as u64, "picture")), "class": class, "tiles": tiles}))
    };
    kinds.into_iter().filter_map(of).collect()
}

fn cells(rows: Vec<Vec<Cell>>) -> Vec<Vec<String>> {
    rows.into_iter().map(|row| row.into_iter().map(|cell| cell.text).collect()).collect()
}

/// What is said of a table as a whole.
fn notes(told: &Told<'_>, diff: &RowsDiff) -> Vec<String> {
    let mut notes = vec![
        format!(
            "{} → {}: +{} −{}, {} changed",
            text::counted(diff.old_rows, "row"),
            text::count(diff.new_rows),
            text::count(diff.added),
            text::count(diff.removed),
            text::count(diff.changed)
        ),
        format!("told by {}", identity(&diff.identity)),
    ];
    let schema = &diff.schema;
    notes.extend(schema.added.iter().map(|c| format!("a new column {} ({})", c.name, c.r#type)));
    notes.extend(schema.removed.iter().map(|c| format!("no column {} any more ({})", c.name, c.r#type)));
    notes.extend(schema.types.iter().map(|t| format!("{}: {} → {}", t.column, t.from, t.to)));
    notes.extend(schema.renamed.iter().map(|r| format!("{} → {}: the same values under another name", r.from, r.to)));
    for (what, hints) in [("changed", &diff.hints_changed), ("added", &diff.hints_added), ("removed", &diff.hints_removed)] {
        notes.extend(hints.iter().map(|hint| {
            let value = shown(&hint.value);
            format!(
                "{} = {value} in {} of the rows {what}, in {} of the others",
                hint.column,
                percent(hint.share),
                percent(hint.of_others)
            )
        }));
    }
    if told.within > 0.0 {
        notes.push(format!("numbers that differ by {} at most are the same", text::figure(told.within)));
    }
    notes
}

/// As one page without outside references.
pub fn html(told: &Told<'_>, sheet: &Sheet) -> Result<String, Failure> {
    let names = format!("{} → {}", told.old.name, told.new.name);
    let sizes = format!("{} → {}", text::bytes(told.old.content.size), text::bytes(told.new.content.size));
    let (headline, mut lines) = match told.found {
        Difference::Same => ("the same content".to_string(), Vec::new()),
        Difference::File => ("other bytes".to_string(), vec![sizes]),
        Difference::Folder(diff) => {
            let files = format!("{} → {}, {sizes}", text::counted(diff.old.0, "file"), text::count(diff.new.0));
            (folder_headline(diff), vec![files])
        }
        Difference::Table { rows, .. } => (table_headline(rows), notes(told, rows)),
    };
    if sheet.left > 0 {
        lines.push(format!("{} more are not shown as pictures: --all shows all", text::counted(sheet.left, "file")));
    }
    let columns = match told.found {
        Difference::Table { rows, .. } => rows.columns.as_slice(),
        _ => &[],
    };
    let columns: Vec<[String; 3]> = columns
        .iter()
        .map(|c| [c.column.clone(), text::count(c.cells), c.pattern.as_ref().map(pattern).unwrap_or_default()])
        .collect();
    let (header, list) = match told.found {
        Difference::Folder(diff) => {
            (vec!["change", "path", "size"], diff.files.iter().take(FILES).map(file_row).collect::<Vec<_>>())
        }
        Difference::Table { .. } => rows(told),
        Difference::Same | Difference::File => (Vec::new(), Vec::new()),
    };
    let title = match told.found {
        Difference::Table { rows, .. } => {
            let parts = [
                (rows.examples_changed.len(), rows.changed, "changed rows"),
                (rows.examples_added.len(), rows.added, "rows added"),
                (rows.examples_removed.len(), rows.removed, "rows removed"),
            ];
            let told = parts.into_iter().filter(|(shown, ..)| *shown > 0).map(|(shown, all, what)| of_all(shown, all, what));
            format!("What differs: {}", told.collect::<Vec<_>>().join(", "))
        }
        _ => "All files that differ".to_string(),
    };
    let beyond = match told.found {
        Difference::Folder(diff) if diff.files.len() > FILES => Some(text::count((diff.files.len() - FILES) as u64)),
        _ => None,
    };
    let mut environment = minijinja::Environment::new();
    environment.set_undefined_behavior(minijinja::UndefinedBehavior::Strict);
    let render = |environment: &mut minijinja::Environment<'static>| -> Result<String, minijinja::Error> {
        environment.add_template("diff.html", include_str!("../../../assets/pages/diff.html"))?;
        environment.get_template("diff.html")?.render(minijinja::value::Serde(json!({
            "names": names, "headline": headline, "notes": lines, "sheets": sheets(sheet), "columns": columns,
            "header": header, "rows": cells(list), "beyond": beyond, "title": title,
        })))
    };
    render(&mut environment).map_err(|e| Failure::new(DAMAGE, format!("the page could not be made: {e}"), "please report this"))
}
