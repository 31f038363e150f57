//! Places where stages execute.

use serde_json::{Value, json};
use textum_core::config::manifest::{Manifest, PlaceDecl};
use textum_core::pipeline::executor::{HeldMachine, PlaceCheck, Released};

use super::each;
use super::table::{Cell, Look, table};
use super::text;
use crate::ui::Style;

/// So many characters tell how a place is reached.
const MOST: usize = 60;

fn stages(manifest: &Manifest, place: &str) -> Vec<String> {
    let there: Vec<_> = manifest.stages.iter().filter(|s| s.place.as_deref() == Some(place)).collect();
    each::lines(&there, |s| &s.name, false).iter().map(each::Line::title).collect()
}

/// The places of a manifest, for people.
pub fn list(manifest: &Manifest, held: &[HeldMachine], style: &Style) -> String {
    if manifest.places.is_empty() && held.is_empty() {
        return "all stages execute on this machine: [place.NAME] in textum.toml declares another place\n".to_string();
    }
    let row = |place: &textum_core::config::manifest::PlaceDecl| -> Vec<Cell> {
        let stages = stages(manifest, &place.name);
        let stages =
            if stages.is_empty() { Cell::new("no stage says so: --place", Look::Dim) } else { text::some(&stages, 6).into() };
        vec![
            Cell::new(&place.name, Look::Bold),
            json!(place.kind).as_str().unwrap_or_default().into(),
            how(place).into(),
            place.jobs.to_string().into(),
            stages,
        ]
    };
    let rows: Vec<Vec<Cell>> = manifest.places.iter().map(row).collect();
    let mut out = table(&["place", "kind", "how", "jobs", "stages"], &rows, "", style);
    for machine in held {
        let address = machine.address.as_deref().unwrap_or("a machine whose address is not known");
        let long = text::seconds(machine.held_for().as_secs_f64());
        out.push_str(&format!("{} {}: {address}, for {long}, as {}\n", style.accent("held"), machine.place, machine.hold));
    }
    out
}

/// How a place is reached, in a few words.
fn how(place: &PlaceDecl) -> String {
    let mut words: Vec<String> = Vec::new();
    if let Some(machine) = &place.machine {
        words.extend(machine.address.clone().or_else(|| machine.begin.as_ref().map(|begin| format!("rented by {begin}"))));
        words.extend(machine.lease.map(|seconds| format!("lease {}", text::seconds(seconds as f64))));
    }
    words.extend(place.commands.as_ref().map(|c| c.submit.clone()));
    words.extend(place.options.iter().cloned());
    if place.retries > 0 {
        words.push(format!("{} more", text::counted(u64::from(place.retries), "try")));
    }
    let all = words.join(" ");
    let short: String = all.chars().take(MOST).collect();
    if short.len() < all.len() { format!("{}…", short.trim_end()) } else { all }
}

/// What became of machines that were to be given back, for people.
pub fn release(ends: &[(HeldMachine, Result<Released, String>)], style: &Style) -> String {
    let line = |(machine, end): &(HeldMachine, Result<Released, String>)| {
        let (name, long) = (style.bold(&machine.place), text::seconds(machine.held_for().as_secs_f64()));
        match end {
            Ok(Released::GivenBack(_)) => format!("{name} {}, after {long}\n", style.good("is given back")),
            Ok(Released::InUse(_)) => format!("{name} {}: a run uses it, for {long} now\n", style.accent("is held")),
            Ok(Released::Nothing) => format!("{name} is not held\n"),
            Err(why) => format!("{name} {}: {why}\n", style.bad("is still held")),
        }
    };
    if ends.is_empty() { "no machine is held\n".to_string() } else { ends.iter().map(line).collect() }
}

/// The same as JSON.
pub fn release_json(ends: &[(HeldMachine, Result<Released, String>)]) -> Value {
    let of = |(machine, end): &(HeldMachine, Result<Released, String>)| {
        let state = match end {
            Ok(Released::GivenBack(_)) => "given back",
            Ok(Released::InUse(_)) => "in use",
            Ok(Released::Nothing) => "not held",
            Err(_) => "still held",
        };
        let why = end.as_ref().err();
        json!({"place": machine.place, "hold": machine.hold, "address": machine.address, "seconds": machine.held_for().as_secs_f64(), "state": state, "why": why})
    };
    ends.iter().map(of).collect()
}

/// The same as JSON.
pub fn list_json(manifest: &Manifest, held: &[HeldMachine]) -> Value {
    let of = |place: &textum_core::config::manifest::PlaceDecl| {
        let stages: Vec<&str> =
            manifest.stages.iter().filter(|s| s.place.as_deref() == Some(&place.name)).map(|s| s.name.as_str()).collect();
        let held = held.iter().find(|h| h.place == place.name);
        json!({"place": place.name, "kind": place.kind, "options": place.options, "jobs": place.jobs, "stages": stages, "held": held})
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
        if found.observes.is_some() {
            fact("stages there", stages_there(found));
        }
        found.faults.iter().for_each(|fault| fact("fault", style.bad(fault)));
        out.push_str(&table(&[], &rows, "  ", style));
    }
    if checked.is_empty() {
        out.push_str("all stages execute on this machine: [place.NAME] in textum.toml declares another place\n");
    }
    out
}

/// Whether stages are observed where nothing is shared, and can be sealed.
fn stages_there(found: &PlaceCheck) -> String {
    match (&found.because, found.seals) {
        (Some(why), _) => format!("are not observed: {why}"),
        (None, Some(true)) => "are observed, and sealed where they are to be".to_string(),
        (None, _) => "are observed; the kernel there cannot seal them".to_string(),
    }
}

/// The same as JSON.
pub fn check_json(checked: &[(String, PlaceCheck)]) -> Value {
    checked.iter().map(|(name, found)| json!({"place": name, "fine": found.is_fine(), "check": found})).collect()
}
