//! Datasets: what there is, what changed, what is in them.

pub mod diff;
pub mod diff_page;
pub mod examine;
pub mod find;
pub mod list;
pub mod profile;
pub mod versions;

use std::collections::BTreeMap;

use textum_core::data::{Change, Version};
use textum_core::store::Digest;
use textum_core::table::Oddities;

use super::text;

/// All versions of datasets, by name and content.
pub type Versions = BTreeMap<(String, Digest), Version>;

/// A change in few words.
pub fn change(change: &Change) -> String {
    let mut parts = Vec::new();
    match change {
        Change::Table { added, removed, changed, columns, schema, .. } => {
            if added + removed > 0 {
                parts.push(format!("+{} −{} rows", text::count(*added), text::count(*removed)));
            }
            if *changed > 0 {
                let within = if columns.is_empty() { String::new() } else { format!(" in {}", text::some(columns, 2)) };
                parts.push(format!("{} changed{within}", text::counted(*changed, "row")));
            }
            if *schema > 0 {
                parts.push(format!("{} came, went or changed type", text::counted(*schema, "column")));
            }
            if parts.is_empty() {
                parts.push("the same rows, written otherwise".into());
            }
        }
        Change::Folder { added, removed, changed, moved, .. } => {
            if added + removed > 0 {
                parts.push(format!("+{} −{} files", text::count(*added), text::count(*removed)));
            }
            if *changed > 0 {
                parts.push(format!("{} changed", text::counted(*changed, "file")));
            }
            if *moved > 0 {
                parts.push(format!("{} moved", text::counted(*moved, "file")));
            }
            if parts.is_empty() {
                parts.push("empty folders only".into());
            }
        }
        Change::Other => parts.push("other bytes".into()),
    }
    parts.join(", ")
}

/// What is odd about a table, a line each.
pub fn oddities(name: &str, found: &Oddities) -> Vec<String> {
    let mut lines = Vec::new();
    if found.no_header {
        lines.push(format!("{name} has no header: its columns are numbered"));
    }
    if found.ragged > 0 {
        let at: Vec<String> = found.ragged_lines.iter().map(|l| format!("line {l}")).collect();
        let more = if found.ragged > at.len() as u64 { ", …" } else { "" };
        lines.push(format!(
            "{name} has {} with more or fewer fields than columns ({}{more}): what lacks is taken as missing",
            text::counted(found.ragged, "row"),
            at.join(", ")
        ));
    }
    if let Some(encoding) = &found.encoding {
        lines.push(format!("{name} is {encoding}: it was read as such; `table = {{ encoding = \"…\" }}` says otherwise"));
    }
    if found.byte_order_mark {
        lines.push(format!("{name} begins with a byte-order mark, which does not count"));
    }
    lines
}
