//! A section and who may do what in it.

use serde_json::{Value, json};
use textum_core::registry::registry::Holder;
use textum_core::registry::{Entry, Section};

use super::super::table::{Cell, Look, table};
use super::super::text;
use crate::ui::{Style, escape};

/// A section in a line.
pub fn section_line(section: &Section, style: &Style) -> String {
    let accepts = if section.accepts.word() == "any" { "anything" } else { section.accepts.word() };
    let mut parts = vec![format!("accepts {accepts}")];
    parts.extend(
        section.guards.iter().map(|(alias, n)| format!("{alias} is guarded by {}", text::counted(u64::from(*n), "reviewer"))),
    );
    if section.signed {
        parts.push("signed entries only".to_string());
    }
    let purpose = section.purpose.as_ref().map_or(String::new(), |p| format!("{}; ", escape::line(p)));
    let open = if section.is_open() { "; anybody may do anything in it" } else { "" };
    format!("{}  {purpose}{}{open}", style.bold(&section.name), parts.join(", "))
}

/// A section as it is now; `is_made` if it was just made or changed.
pub fn section_text(section: &Section, is_made: bool, style: &Style) -> String {
    let mut out = format!("{}\n", section_line(section, style));
    let row = |h: &Holder| {
        vec![
            Cell::from(h.role.word()),
            Cell::from(h.holder.clone().unwrap_or_default()),
            Cell::new(h.key.0.clone(), Look::Dim),
            Cell::from(h.until.as_ref().map_or(String::new(), |u| format!("until {u}"))),
        ]
    };
    out.push_str(&table(&[], &section.holders.iter().map(row).collect::<Vec<_>>(), "  ", style));
    if is_made && section.is_open() {
        out.push_str(&style.dim("  nobody keeps it: whoever gives the first role does, signed by a key\n"));
    }
    out
}

/// The same as JSON.
pub fn section_json(section: &Section, entry: Option<&Entry>) -> Value {
    json!({"section": section, "entry": entry.map(|e| e.number)})
}
