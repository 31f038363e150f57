//! Places where stages execute.

use serde_json::{Value, json};
use textum_core::config::manifest::Manifest;
use textum_core::pipeline::executor::PlaceCheck;

use super::each;
use super::table::{Cell, Look, table};
use super::text;
use crate::ui::Style;

fn stages(manifest: &Manifest, place: &str) -> Vec<String> {
    let there: Vec<_> = manifest.stages.iter().filter(|s| s.place.as_deref() == Some(place)).collect();
    each::lines(&there, |s| &s.name, false).iter().map(each::Line::title).collect()
}

/// The places of a manifest, for people.
pub fn list(manifest: &Manifest, style: &Style) -> String {
    if manifest.places.is_empty() {
        return "all stages execute on this machine: [place.NAME] in textum.toml declares another place\n".to_string();
    }
    let row = |place: &textum_core::config::manifest::PlaceDecl| -> Vec<Cell> {
        let stages = stages(manifest, &place.name);
        let stages =
            if stages.is_empty() { Cell::new("no stage says so: --place", Look::Dim) } else { text::some(&stages, 6).into() };
        vec![
            Cell::new(&place.name, Look::Bold),
            json!(place.kind).as_str().unwrap_or_default().into(),
            place.options.join(" ").into(),
            place.jobs.to_string().into(),
            stages,
        ]
    };
    let rows: Vec<Vec<Cell>> = manifest.places.iter().map(row).collect();
    table(&["place", "kind", "options", "jobs", "stages"], &rows, "", style)
}

/// The same as JSON.
pub fn list_json(manifest: &Manifest) -> Value {
    let of = |place: &textum_core::config::manifest::PlaceDecl| {
        let stages: Vec<&str> =
            manifest.stages.iter().filter(|s| s.place.as_deref() == Some(&place.name)).map(|s| s.name.as_str()).collect();
        json!({"place": place.name, "kind": place.kind, "options": place.options, "jobs": place.jobs, "stages": stages})
    };
    manifest.places.iter().map(of).collect()
}

/// What was found of places, for people.
pub fn check(checked: &[(String, PlaceCheck)], style: &Style) -> String {
    let mut out = String::new();
    for (name, found) in checked {
        let word = if found.is_fine() { style.good("can be used") } else { style.bad("cannot be used") };
        out.push_str(&format!("{} {word}\n", style.bold(name)));
        let mut rows: Vec<Vec<Cell>> = Vec::new();
        let mut fact = |name: &str, value: String| rows.push(vec![Cell::new(name, Look::Dim), value.into()]);
        if let Some(engine) = &found.engine {
            fact("engine", engine.clone());
        }
        found.partitions.iter().enumerate().for_each(|(i, p)| fact(if i == 0 { "partitions" } else { "" }, p.clone()));
        if let Some(node) = &found.node {
            fact("node", node.clone());
        }
        if let Some(seconds) = found.seconds {
            fact("a trivial job", text::seconds(seconds));
        }
        if let Some(skew) = found.skew {
            let said = if skew.abs() < 1.5 { "as here".to_string() } else { format!("{skew:+.0} s from the one here") };
            fact("clock", said);
        }
        if let Some(textum) = &found.textum {
            fact("textum there", textum.clone());
        }
        found.faults.iter().for_each(|fault| fact("fault", style.bad(fault)));
        out.push_str(&table(&[], &rows, "  ", style));
    }
    if checked.is_empty() {
        out.push_str("all stages execute on this machine: [place.NAME] in textum.toml declares another place\n");
    }
    out
}

/// The same as JSON.
pub fn check_json(checked: &[(String, PlaceCheck)]) -> Value {
    checked.iter().map(|(name, found)| json!({"place": name, "fine": found.is_fine(), "check": found})).collect()
}
