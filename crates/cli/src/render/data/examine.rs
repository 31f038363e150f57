//! What came of rules.

use serde_json::{Value, json};
use textum_core::pipeline::examination::{Inspection, Judged, fault, measure};
use textum_core::table::examine::Breaking;

use super::oddities;
use crate::render::table::{self, Cell, Look, table};
use crate::render::text;
use crate::ui::Style;

fn state(judged: &Judged) -> (&'static str, Look) {
    match judged.found.holds {
        None => ("not judged", Look::Dim),
        Some(true) => ("holds", Look::Good),
        Some(false) if judged.fails() => ("broken", Look::Bad),
        Some(false) => ("warning", Look::Accent),
    }
}

/// Rules are cut here in a table for people.
const WIDE: usize = 56;

fn rows(inspection: &Inspection) -> Vec<Vec<Cell>> {
    let row = |j: &Judged| -> Vec<Cell> {
        let (word, look) = state(j);
        let unknown = match j.found.unknown {
            0 => String::new(),
            n => format!("{} missing", text::count(n)),
        };
        let rule = match j.decl.rule.char_indices().nth(WIDE) {
            Some((at, _)) => format!("{}…", &j.decl.rule[..at]),
            None => j.decl.rule.clone(),
        };
        vec![Cell::new(word, look), rule.into(), measure(&j.found).into(), Cell::new(unknown, Look::Dim)]
    };
    inspection.judged.iter().map(row).collect()
}

fn headline(inspection: &Inspection) -> String {
    let count = |is: fn(&Judged) -> bool| inspection.judged.iter().filter(|j| is(j)).count();
    let (broken, warned) = (count(Judged::fails), count(Judged::warns));
    let of = text::counted(inspection.judged.len() as u64, "rule");
    let what = match (broken, warned) {
        (0, 0) if count(|j| j.found.holds.is_none()) == 0 => format!("all of {of} hold"),
        (0, 0) => format!("no rule of {} is broken", inspection.judged.len()),
        (0, warned) => format!("{warned} of {of} broken, as a warning"),
        (broken, 0) => format!("{broken} of {of} broken"),
        (broken, warned) => format!("{broken} of {of} broken, and {warned} as a warning"),
    };
    format!("{}: {what}", inspection.table)
}

fn example(breaking: &Breaking) -> Vec<Cell> {
    let cells: Vec<String> =
        breaking.cells.iter().map(|(c, v)| format!("{c} {}", if v.is_empty() { "(missing)" } else { v })).collect();
    let like = breaking.like.as_ref().map_or(String::new(), |at| format!("as {at}"));
    vec![Cell::new(breaking.place.to_string(), Look::Dim), text::some(&cells, 6).into(), Cell::new(like, Look::Dim)]
}

/// So many rules that hold are listed.
const MOST_HELD: usize = 12;

/// For people. With `all`, rules that hold are listed however many there are.
pub fn text(inspection: &Inspection, all: bool, style: &Style) -> String {
    let mut out = format!("{}\n", style.bold(&headline(inspection)));
    for odd in oddities(&inspection.table, &inspection.examined.oddities) {
        out.push_str(&format!("  {odd}\n"));
    }
    let held = inspection.judged.iter().filter(|j| j.found.holds == Some(true)).count();
    // Many rules that hold hide the few that do not.
    let fold = !all && held > MOST_HELD;
    let shown: Vec<Vec<Cell>> = rows(inspection).into_iter().filter(|row| !(fold && row[0].text == "holds")).collect();
    if !shown.is_empty() {
        out.push_str(&format!("\n{}", table(&[], &shown, "  ", style)));
    }
    if fold {
        let others = if held == inspection.judged.len() { "" } else { "others " };
        out.push_str(&style.dim(&format!("\n  {held} {others}hold; -v lists them\n")));
    }
    for judged in inspection.judged.iter().filter(|j| j.found.holds == Some(false)) {
        let (shown, all) = (judged.found.examples.len(), judged.found.breaking);
        if shown > 0 {
            let of = if shown as u64 == all { String::new() } else { format!(", the first {shown} of {}", text::count(all)) };
            let rows: Vec<Vec<Cell>> = judged.found.examples.iter().map(example).collect();
            out.push_str(&format!("\n  {}\n{}", style.dim(&format!("{}{of}", judged.decl.rule)), table(&[], &rows, "  ", style)));
        }
    }
    out
}

/// As Markdown.
pub fn markdown(inspection: &Inspection) -> String {
    let header = ["", "rule", "found", ""];
    format!("{}\n\n{}", headline(inspection), table::markdown(&header, &rows(inspection)))
}

/// As JSON.
pub fn json(inspection: &Inspection) -> Value {
    let rule = |j: &Judged| {
        let told: Vec<String> = j.found.columns.iter().map(fault).collect();
        json!({
            "rule": j.decl.rule, "on": j.found.on, "severity": j.decl.severity, "name": j.decl.name, "holds": j.found.holds, "of": j.found.of,
            "breaking": j.found.breaking, "unknown": j.found.unknown, "value": j.found.value, "columns": told,
            "examples": j.found.examples,
        })
    };
    json!({
        "name": inspection.table, "rows": inspection.examined.rows, "fine": inspection.is_fine(),
        "rules": inspection.judged.iter().map(rule).collect::<Vec<_>>(), "oddities": inspection.examined.oddities,
    })
}

/// A file of proposed rules.
pub fn rules_file(name: &str, rows: u64, rules: &[String]) -> String {
    let mut out = format!(
        "# What {name} ({}) meets, with room: a start to be edited.\n# Hold a table against it with `textum data examine NAME --rules FILE`, or put it into a stage: examine = {{ data = …, rules = … }}\nrules = [\n",
        text::counted(rows, "row")
    );
    for rule in rules {
        // A text of JSON is one of TOML too.
        out.push_str(&format!("  {},\n", Value::from(rule.as_str())));
    }
    out.push_str("]\n");
    out
}
