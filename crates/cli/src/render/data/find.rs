//! Where rows were found.

use serde_json::{Value, json};
use textum_core::data::{FoundIn, Version};
use textum_core::record::ledger::DatasetUse;

use crate::render::table::{self, Cell, Look, table};
use crate::render::text;
use crate::ui::Style;

/// Everything that is told of a search.
pub struct Told<'a> {
    /// The condition.
    pub condition: &'a str,
    /// What was found in each state.
    pub found: &'a [FoundIn],
    /// The runs that found one of the versions with such rows in the tree, newest first.
    pub uses: &'a [DatasetUse],
    /// The versions with such rows.
    pub versions: &'a [Version],
}

const HEADER: [&str; 3] = ["version", "rows", "of"];

fn rows(told: &Told<'_>) -> Vec<Vec<Cell>> {
    let number = |n: Option<u64>| n.map_or("–".to_string(), text::count);
    let each = told.found.iter().map(|f| {
        let look = if f.rows.is_some_and(|n| n > 0) { Look::Bold } else { Look::Dim };
        let mut row = vec![Cell::new(&f.name, look), Cell::new(number(f.rows), look), Cell::new(number(f.of), Look::Dim)];
        if let Some(why) = &f.why {
            row.push(Cell::new(why, Look::Bad));
        }
        row
    });
    each.collect()
}

/// For people.
pub fn text(told: &Told<'_>, style: &Style) -> String {
    let with = told.found.iter().filter(|f| f.rows.is_some_and(|n| n > 0)).count();
    let unread = told.found.iter().filter(|f| f.rows.is_none()).count();
    let states =
        if told.found.len() == 1 { told.found[0].name.clone() } else { format!("{with} of {} versions", told.found.len()) };
    let headline = match (with, told.found.len()) {
        (0, _) => "no such row in any version".to_string(),
        (_, 1) => format!("{} in {states}", text::counted(told.found[0].rows.unwrap_or(0), "such row")),
        _ => format!("such rows are in {states}"),
    };
    let unread = if unread > 0 {
        format!("; {} could not be looked through", text::counted(unread as u64, "version"))
    } else {
        String::new()
    };
    let mut out =
        format!("{}\n{}\n\n", style.bold(&format!("{headline}{unread}")), style.dim(&format!("where {}", told.condition)));
    out.push_str(&table(&HEADER, &rows(told), "  ", style));
    if with > 0 && told.found.iter().any(|f| f.version.is_some()) {
        out.push('\n');
        out.push_str(&runs(told, style));
    }
    if let Some(found) = told.found.iter().rev().find(|f| !f.examples.is_empty()) {
        out.push_str(&examples(found, style));
    }
    out
}

fn runs(told: &Told<'_>, style: &Style) -> String {
    let read: Vec<&DatasetUse> = told.uses.iter().filter(|u| u.read).collect();
    if read.is_empty() {
        return "  no run has read a version with such rows\n".into();
    }
    let rows: Vec<Vec<Cell>> = read
        .iter()
        .take(12)
        .map(|u| {
            let version = told.versions.iter().find(|v| v.content.digest == u.digest).map(Version::name).unwrap_or_default();
            vec![u.run.as_str().into(), version.into(), Cell::new(&u.state, Look::Dim)]
        })
        .collect();
    let mut out = format!(
        "  {}\n{}",
        style.dim(&format!("read by {}", text::counted(read.len() as u64, "run"))),
        table(&[], &rows, "  ", style)
    );
    if read.len() > 12 {
        out.push_str(&style.dim(&format!("  and {} more\n", read.len() - 12)));
    }
    out
}

/// Most columns of a row that is shown.
const COLUMNS: usize = 8;

fn examples(found: &FoundIn, style: &Style) -> String {
    let cut = found.columns.len() > COLUMNS;
    let mut header: Vec<&str> = vec!["line"];
    header.extend(found.columns.iter().take(COLUMNS).map(String::as_str));
    if cut {
        header.push("…");
    }
    let rows: Vec<Vec<Cell>> = found
        .examples
        .iter()
        .enumerate()
        .map(|(at, (line, cells))| {
            let place = match (found.files.get(at), line) {
                // The row is the file, whose name stands in it.
                (Some(_), 0) => String::new(),
                (Some(file), _) => format!("{file} {line}"),
                (None, _) => line.to_string(),
            };
            let mut row = vec![Cell::new(place, Look::Dim)];
            row.extend(cells.iter().take(COLUMNS).map(|c| Cell::from(c.chars().take(28).collect::<String>())));
            row
        })
        .collect();
    let title = format!("the first of them in {}", found.name);
    format!("\n  {}\n{}", style.dim(&title), table(&header, &rows, "  ", style))
}

/// As JSON.
pub fn json(told: &Told<'_>) -> Value {
    let runs: Vec<Value> = told
        .uses
        .iter()
        .map(|u| {
            let version = told.versions.iter().find(|v| v.content.digest == u.digest).map(|v| v.number);
            json!({"run": u.run, "started": u.started, "state": u.state, "version": version, "read": u.read})
        })
        .collect();
    let found: Vec<Value> = told
        .found
        .iter()
        .map(|f| {
            let example = |(at, (line, cells)): (usize, &(u64, Vec<String>))| match f.files.get(at) {
                Some(file) => json!({"file": file, "line": line, "cells": cells}),
                None => json!({"line": line, "cells": cells}),
            };
            let examples: Vec<Value> = f.examples.iter().enumerate().map(example).collect();
            json!({
                "name": f.name, "version": f.version, "rows": f.rows, "of": f.of, "why": f.why, "columns": f.columns,
                "examples": examples,
            })
        })
        .collect();
    json!({"where": told.condition, "found": found, "runs": runs})
}

/// As CSV.
pub fn csv(told: &Told<'_>) -> String {
    table::csv(&HEADER, &plain(told))
}

/// As Markdown.
pub fn markdown(told: &Told<'_>) -> String {
    table::markdown(&HEADER, &plain(told))
}

fn plain(told: &Told<'_>) -> Vec<Vec<Cell>> {
    let number = |n: Option<u64>| n.map_or(String::new(), |n| n.to_string());
    told.found.iter().map(|f| vec![f.name.as_str().into(), number(f.rows).into(), number(f.of).into()]).collect()
}
