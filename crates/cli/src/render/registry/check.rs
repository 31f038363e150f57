//! What was found when a whole log was read anew.

use serde_json::{Value, json};
use textum_core::publish::RegistryReport;
use textum_core::registry::{Judged, Signed};

use super::super::text;
use super::entries;
use super::history::deed;
use crate::ui::{Style, escape};

/// So many of a kind are told one by one.
const TOLD: usize = 20;

fn more(count: usize, what: &str) -> String {
    if count > TOLD { format!("  and {} more {what}\n", text::count((count - TOLD) as u64)) } else { String::new() }
}

/// What was found when the whole log was read anew.
pub fn check_text(found: &RegistryReport, at: &str, style: &Style) -> String {
    let signed = found.registry.entries.iter().filter(|e| matches!(e.signed, Signed::By(_))).count();
    let invalid: Vec<&Judged> = found.registry.entries.iter().filter(|e| e.invalid.is_some()).collect();
    let versions = found.registry.versions().count() as u64;
    let whole = found.damage.is_empty() && found.missing.is_empty();
    let head = if whole { style.good("whole") } else { style.bad("not whole") };
    let mut out = format!(
        "the registry at {} is {head}: {} in one chain, {signed} of them signed; {}\n",
        escape::line(at),
        entries(found.registry.entries.len() as u64),
        text::counted(versions, "version")
    );
    for damage in &found.damage {
        out.push_str(&format!("  {} entry {} {}\n", style.bad("✗"), damage.number, escape::line(&damage.what)));
    }
    for (name, count) in found.missing.iter().take(TOLD) {
        out.push_str(&format!(
            "  {} {} of {name} {}\n",
            style.bad("✗"),
            text::counted(*count, "content"),
            if *count == 1 { "is not there" } else { "are not there" }
        ));
    }
    out.push_str(&more(found.missing.len(), "versions lack content"));
    for (name, count) in found.erased.iter().take(TOLD) {
        let verb = if *count == 1 { "was" } else { "were" };
        out.push_str(&format!("  {} {} of {name} {verb} erased\n", style.dim("·"), text::counted(*count, "content")));
    }
    for e in invalid.iter().take(TOLD) {
        let why = e.invalid.as_deref().unwrap_or_default();
        let line = format!("entry {} has no effect: {} ({why})", e.entry.number, deed(&e.entry.action));
        out.push_str(&format!("  {} {}\n", style.dim("·"), escape::line(&line)));
    }
    out.push_str(&more(invalid.len(), "entries have no effect"));
    for number in found.backwards.iter().take(TOLD) {
        out.push_str(&format!("  {} the clock of entry {number} was behind that of the entry before it\n", style.dim("·")));
    }
    if !found.damage.is_empty() {
        out.push_str("  nothing is published or moved until that is settled: whoever has read more of it can tell what it was\n");
    }
    out
}

/// The same as JSON.
pub fn check_json(found: &RegistryReport) -> Value {
    let damage: Vec<Value> = found.damage.iter().map(|d| json!({"entry": d.number, "what": d.what})).collect();
    let missing: Vec<Value> = found.missing.iter().map(|(name, n)| json!({"version": name, "contents": n})).collect();
    let erased: Vec<Value> = found.erased.iter().map(|(name, n)| json!({"version": name, "contents": n})).collect();
    let invalid = found.registry.entries.iter().filter_map(|e| Some(json!({"entry": e.entry.number, "why": e.invalid.as_ref()?})));
    json!({
        "whole": found.damage.is_empty() && found.missing.is_empty(), "entries": found.registry.entries.len(),
        "damage": damage, "missing": missing, "erased": erased, "invalid": invalid.collect::<Vec<_>>(), "backwards": found.backwards,
    })
}
