//! The store: what it holds, and what goes.

use std::collections::BTreeMap;

use serde_json::{Value, json};
use textum_core::maintain::upkeep::{PrunePlan, Stats, WhyKept};
use textum_core::store::Freed;

use super::table::{self, Cell, Look, table};
use super::text;
use crate::ui::Style;

const SHARES: [&str; 5] = ["what", "states", "as copies", "stored", "of it shared"];

fn share_rows(stats: &Stats) -> Vec<Vec<Cell>> {
    let each = stats.shares.iter().map(|s| {
        vec![
            Cell::new(&s.name, Look::Bold),
            text::count(s.states).into(),
            if s.logical > 0 { text::bytes(s.logical) } else { "–".into() }.into(),
            text::bytes(s.alone + s.shared).into(),
            if s.shared > 0 { Cell::new(text::bytes(s.shared), Look::Dim) } else { "".into() },
        ]
    });
    each.collect()
}

/// How many times smaller.
fn times(from: u64, to: u64) -> String {
    if to == 0 { "–".into() } else { format!("{:.1}×", from as f64 / to as f64) }
}

/// Statistics for people.
pub fn stats_text(stats: &Stats, plan: &PrunePlan, style: &Style) -> String {
    let headline = format!(
        "{} in {}, for {} of recorded states ({} smaller)",
        text::bytes(stats.stored),
        text::counted(stats.packs, "pack"),
        text::bytes(stats.logical),
        times(stats.logical, stats.stored)
    );
    let mut out = format!("{}\n\n", style.bold(&headline));
    let steps = [
        ("every state as a copy", stats.logical, String::new()),
        ("the same content once", stats.distinct, times(stats.logical, stats.distinct)),
        ("the same piece once", stats.pieces, times(stats.distinct, stats.pieces)),
        ("compressed, with receipts", stats.stored, times(stats.pieces, stats.stored)),
    ];
    let rows: Vec<Vec<Cell>> = steps
        .iter()
        .map(|(name, bytes, times)| vec![(*name).into(), text::bytes(*bytes).into(), Cell::new(times.as_str(), Look::Dim)])
        .collect();
    out.push_str(&table(&[], &rows, "  ", style));
    out.push_str(&format!("\n{}", table(&SHARES, &share_rows(stats), "  ", style)));
    let rows: Vec<Vec<Cell>> = stats
        .largest
        .iter()
        .map(|l| {
            vec![
                l.name.as_str().into(),
                text::bytes(l.size).into(),
                text::bytes(l.stored).into(),
                Cell::new(l.digest.short(), Look::Dim),
            ]
        })
        .collect();
    out.push_str(&format!("\n{}", table(&["largest", "size", "stored", ""], &rows, "  ", style)));
    out.push_str(&match plan.frees {
        0 => "\n  `textum prune` would free nothing\n".to_string(),
        bytes => format!("\n  `textum prune` would free {}\n", text::bytes(bytes)),
    });
    out
}

/// Statistics as CSV.
pub fn stats_csv(stats: &Stats) -> String {
    table::csv(&["what", "states", "logical", "alone", "shared"], &plain(stats))
}

/// Statistics as Markdown.
pub fn stats_markdown(stats: &Stats) -> String {
    table::markdown(&SHARES, &share_rows(stats))
}

fn plain(stats: &Stats) -> Vec<Vec<Cell>> {
    let row = |s: &textum_core::maintain::upkeep::Share| -> Vec<Cell> {
        let numbers = [s.states, s.logical, s.alone, s.shared];
        std::iter::once(s.name.as_str().into()).chain(numbers.iter().map(|n| n.to_string().into())).collect()
    };
    stats.shares.iter().map(row).collect()
}

/// Statistics as JSON.
pub fn stats_json(stats: &Stats, plan: &PrunePlan) -> Value {
    json!({
        "packs": stats.packs, "logical": stats.logical, "distinct": stats.distinct, "pieces": stats.pieces, "stored": stats.stored,
        "shares": stats.shares, "largest": stats.largest, "prune_frees": plan.frees,
    })
}

/// What is dropped, by stage and path: of how many runs, and how large.
fn by_path(plan: &PrunePlan) -> Vec<Vec<Cell>> {
    let mut found: BTreeMap<(&str, &str), (u64, u64, f64)> = BTreeMap::new();
    for output in &plan.outputs {
        let entry = found.entry((&output.stage, &output.path)).or_default();
        *entry = (entry.0 + 1, entry.1 + output.size, entry.2 + output.seconds);
    }
    let row = |((stage, path), (count, size, seconds)): ((&str, &str), (u64, u64, f64))| -> Vec<Cell> {
        vec![
            Cell::new(path, Look::Bold),
            stage.into(),
            text::counted(count, "state").into(),
            text::bytes(size).into(),
            Cell::new(text::seconds(seconds / count as f64), Look::Dim),
        ]
    };
    found.into_iter().map(row).collect()
}

fn reason(why: WhyKept) -> &'static str {
    match why {
        WhyKept::LastOutput => "no stage reads them: they are what the pipeline was run for (--last-outputs drops them too)",
        WhyKept::Model => "they belong to a model of the manifest",
        WhyKept::Named => "named with --keep",
        WhyKept::NotDeterministic => "their stage, or one before it, came out otherwise from the same inputs",
        WhyKept::NotProved => "nothing has proved that they come out the same again: `textum rebuild RUN` does",
        WhyKept::Undeclared => {
            "their stage, or one before it, seems to have read what it does not declare: `textum rebuild RUN` settles it"
        }
        WhyKept::Elsewhere => {
            "their stage, or one before it, was seen to read what is not in the store: files elsewhere, or over the network"
        }
        WhyKept::EnvironmentGone => "the interpreter or packages that they were made with are not those of now",
        WhyKept::Reference => "they hang on a reference, whose bytes are not Textum's to keep",
        WhyKept::NotRebuildable => "something that they were made from is not in the store",
    }
}

/// What would be dropped, or was.
pub fn prune_text(plan: &PrunePlan, freed: Option<&Freed>, style: &Style) -> String {
    let outputs = text::counted(plan.outputs.len() as u64, "output");
    let headline = match freed {
        Some(freed) => format!("freed {} of {}: {outputs} dropped", text::bytes(freed.bytes), text::bytes(plan.stored)),
        None if plan.dropping.entries.is_empty() && plan.sandboxes.is_empty() => {
            format!("nothing to drop: all {} are needed", text::bytes(plan.stored))
        }
        None => format!("would free {} of {}: {outputs} of old runs", text::bytes(plan.frees), text::bytes(plan.stored)),
    };
    let mut out = format!("{}\n", style.bold(&headline));
    let rows = by_path(plan);
    if !rows.is_empty() {
        out.push_str(&format!("\n{}", table(&["output", "stage", "states", "size", "took each"], &rows, "  ", style)));
        out.push_str("\n  each of them has come out the same before: `textum rebuild RUN:PATH` makes it again\n");
    }
    if plan.unspoken > 0 {
        let count = text::counted(plan.unspoken, "piece");
        out.push_str(&format!("\n  and {count} of content that no receipt speaks of, left by what was cut off\n"));
    }
    if !plan.sandboxes.is_empty() {
        let (count, size) = (text::counted(plan.sandboxes.len() as u64, "old run"), plan.sandboxes.iter().map(|s| s.size).sum());
        let verb = if freed.is_some() { "removed" } else { "would be removed" };
        out.push_str(&format!("\n  the sandboxes of {count} ({}) {verb}: what they declare is recorded\n", text::bytes(size)));
    }
    let mut kept: Vec<String> =
        plan.kept.iter().map(|(why, count)| format!("{}: {}", text::counted(*count, "output"), reason(*why))).collect();
    let mut runs: BTreeMap<&str, Vec<String>> = BTreeMap::new();
    for (run, why) in &plan.kept_runs {
        runs.entry(why).or_default().push(run.rsplit('-').next().unwrap_or(run).to_string());
    }
    kept.extend(runs.iter().map(|(why, runs)| format!("all outputs of {}: {why}", text::some(runs, 6))));
    if !kept.is_empty() {
        out.push_str(&format!("\n  {}\n", style.dim("what stays beside datasets, code, settings, logs, metrics and receipts")));
        kept.iter().for_each(|line| out.push_str(&format!("  {line}\n")));
    }
    if plan.at_work {
        out.push_str("\n  a run is at work: content that no receipt speaks of yet may be its, and stays\n");
    }
    out
}

/// What would be dropped, or was, as JSON.
pub fn prune_json(plan: &PrunePlan, freed: Option<&Freed>) -> Value {
    json!({
        "dropped": freed.is_some(), "stored": plan.stored, "frees": freed.map_or(plan.frees, |f| f.bytes), "outputs": plan.outputs,
        "sandboxes": plan.sandboxes, "unspoken": plan.unspoken, "kept": plan.kept, "kept_runs": plan.kept_runs,
    })
}
