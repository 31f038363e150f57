//! Depots, what travelled, and what they hold.

use std::path::Path;

use serde_json::{Value, json};
use textum_core::config::manifest::DepotDecl;
use textum_core::depot::{DepotReport, Fetched, Probe, Swept};
use textum_core::share::{RemoteFigures, SyncOutcome};

use super::csv::Data;
use super::table::{Cell, Look, markdown, table};
use super::text;
use crate::failure::Failure;
use crate::ui::Style;

/// What a probe found, line by line.
fn findings(found: &Probe) -> Vec<(String, Look)> {
    let mut lines = Vec::new();
    match &found.writes {
        Ok(()) => lines.push(("can be read and written".to_string(), Look::Good)),
        Err(why) => lines.push((format!("can be read, but not written: {why}"), Look::Bad)),
    }
    match found.only_if_absent {
        Some(true) => lines.push(("makes an object only if there is none: fit for a registry".to_string(), Look::Good)),
        Some(false) => {
            let line = "does not make an object only if there is none: fit for content and receipts, not for a registry";
            lines.push((line.to_string(), Look::Plain));
        }
        None => {}
    }
    if let Some(ahead) = found.clock_ahead.filter(|ahead| ahead.abs() >= 2.0) {
        let way = if ahead > 0.0 { "ahead of" } else { "behind" };
        lines.push((format!("its clock is {} {way} this machine's", text::seconds(ahead.abs())), Look::Bad));
    }
    if let (Some(write), Some(read)) = (found.write_rate, found.read_rate) {
        let rates = format!("{}/s up, {}/s down", text::bytes(write as u64), text::bytes(read as u64));
        lines.push((format!("{rates}, {} a request", text::seconds(found.seconds_per_request)), Look::Dim));
    }
    lines
}

fn dressed(lines: &[(String, Look)], style: &Style) -> String {
    let line = |(text, look): &(String, Look)| {
        let text = match look {
            Look::Good => style.good(text),
            Look::Bad => style.bad(text),
            Look::Dim => style.dim(text),
            _ => text.clone(),
        };
        format!("  {text}\n")
    };
    lines.iter().map(line).collect()
}

fn probe_json(found: &Probe) -> Value {
    json!({
        "reads": found.reads, "writes": found.writes.is_ok(), "why_not": found.writes.as_ref().err(),
        "only_if_absent": found.only_if_absent, "clock_ahead": found.clock_ahead, "write_bytes_per_second": found.write_rate,
        "read_bytes_per_second": found.read_rate, "seconds_per_request": found.seconds_per_request,
    })
}

/// A depot that was declared.
pub fn added_text(decl: &DepotDecl, made: bool, found: &Probe, file: &Path, style: &Style) -> String {
    let made = if made { "made" } else { "there already" };
    format!(
        "depot {}: {}, {made}; declared in {}\n\n{}\nnext: `textum sync`\n",
        style.bold(&decl.name),
        decl.address,
        file.file_name().map(|n| n.to_string_lossy()).unwrap_or_default(),
        dressed(&findings(found), style)
    )
}

/// The same as JSON.
pub fn added_json(decl: &DepotDecl, id: &str, made: bool, found: &Probe, file: &Path) -> Value {
    json!({"depot": decl.name, "url": decl.address.to_string(), "id": id, "made": made, "file": file, "probe": probe_json(found)})
}

fn rows(depots: &[DepotDecl]) -> Vec<Vec<Cell>> {
    let options = |d: &DepotDecl| d.options.iter().map(|(k, v)| format!("{k}={v}")).collect::<Vec<_>>().join(" ");
    let live = |d: &DepotDecl| if d.live { "live" } else { "" };
    depots
        .iter()
        .map(|d| vec![Cell::new(&d.name, Look::Bold), d.address.to_string().into(), options(d).into(), live(d).into()])
        .collect()
}

const COLUMNS: [&str; 4] = ["depot", "url", "options", "live"];

/// The depots that are declared.
pub fn list_text(depots: &[DepotDecl], style: &Style) -> String {
    table(&[], &rows(depots), "  ", style)
}

/// The same as a table in Markdown.
pub fn list_markdown(depots: &[DepotDecl]) -> String {
    markdown(&COLUMNS, &rows(depots))
}

/// The same as data.
pub fn list_csv(depots: &[DepotDecl]) -> String {
    let mut data = Data::new(COLUMNS);
    for row in rows(depots) {
        data.add(row.into_iter().map(|cell| cell.text));
    }
    data.text()
}

/// The same as JSON.
pub fn list_json(depots: &[DepotDecl]) -> Value {
    let of = |d: &DepotDecl| json!({"depot": d.name, "url": d.address.to_string(), "options": d.options, "live": d.live});
    depots.iter().map(of).collect()
}

/// A depot, and what was found out about it.
pub type Checked<'d> = (&'d DepotDecl, Result<(String, Probe), Failure>);

/// What was found out by trying.
pub fn check_text(found: &[Checked<'_>], style: &Style) -> String {
    let one = |(decl, result): &Checked<'_>| {
        let lines = match result {
            Ok((_, probe)) => findings(probe),
            Err(failure) => vec![(format!("cannot be used: {}", failure.message), Look::Bad), (failure.help.clone(), Look::Dim)],
        };
        format!("{}  {}\n{}", style.bold(&decl.name), decl.address, dressed(&lines, style))
    };
    found.iter().map(one).collect::<Vec<_>>().join("\n")
}

/// The same as JSON.
pub fn check_json(found: &[Checked<'_>]) -> Value {
    let one = |(decl, result): &Checked<'_>| match result {
        Ok((id, probe)) => {
            json!({"depot": decl.name, "url": decl.address.to_string(), "id": id, "probe": probe_json(probe), "error": null})
        }
        Err(e) => json!({"depot": decl.name, "url": decl.address.to_string(), "id": null, "probe": null, "error": e.message}),
    };
    found.iter().map(one).collect()
}

/// What travelled.
pub fn sync_text(depot: &str, outcome: &SyncOutcome, dry_run: bool, seconds: f64, style: &Style) -> String {
    let sent = outcome.sent.bytes + outcome.documents.bytes;
    let came = outcome.received.bytes + outcome.fetched.bytes;
    let nothing = outcome.documents.documents + outcome.received.documents + outcome.sent.contents + outcome.fetched.contents == 0
        && outcome.would_fetch == 0;
    let mut out = match (dry_run, nothing) {
        (_, true) => return format!("{}: here and {depot} have the same\n", style.bold("nothing to do")),
        (true, false) => format!("{} {depot}: nothing was moved but receipts\n\n", style.bold("would sync with")),
        (false, false) => format!("{} {depot} in {}\n\n", style.bold("synced with"), text::seconds(seconds)),
    };
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    let mut row = |way: &str, what: String, bytes: u64| {
        let size = if bytes > 0 { text::bytes(bytes) } else { String::new() };
        rows.push(vec![Cell::new(way, Look::Accent), what.into(), Cell::new(size, Look::Dim)]);
    };
    if outcome.received.documents > 0 {
        let runs = match outcome.runs.len() {
            0 => String::new(),
            n => format!(", {} that {} not here", text::counted(n as u64, "run"), if n == 1 { "was" } else { "were" }),
        };
        row("down", format!("{}{runs}", text::counted(outcome.received.documents, "receipt")), outcome.received.bytes);
    }
    if outcome.fetched.contents > 0 {
        row("down", text::counted(outcome.fetched.contents, "content"), outcome.fetched.bytes);
    }
    if outcome.would_fetch > 0 {
        row("down", format!("{} would come", text::counted(outcome.would_fetch, "content")), 0);
    }
    if outcome.sent.contents > 0 {
        let would = if dry_run { " would go" } else { "" };
        let bytes = if dry_run { outcome.would_send } else { outcome.sent.bytes };
        row("up", format!("{}{would}", text::counted(outcome.sent.contents, "content")), bytes);
    }
    if outcome.documents.documents > 0 {
        let would = if dry_run { " would go" } else { "" };
        row("up", format!("{}{would}", text::counted(outcome.documents.documents, "receipt")), outcome.documents.bytes);
    }
    out.push_str(&table(&[], &rows, "  ", style));
    if !dry_run && sent + came > 10_000_000 && seconds > 0.5 {
        out.push_str(&style.dim(&format!("\n  {}/s\n", text::bytes(((sent + came) as f64 / seconds) as u64))));
    }
    out
}

/// The same as JSON.
pub fn sync_json(depot: &str, outcome: &SyncOutcome, dry_run: bool, seconds: f64) -> Value {
    json!({
        "depot": depot, "dry_run": dry_run, "seconds": seconds,
        "down": {"documents": outcome.received.documents, "runs": outcome.runs, "contents": outcome.fetched.contents,
                 "bytes": outcome.received.bytes + outcome.fetched.bytes, "would_fetch": outcome.would_fetch},
        "up": {"documents": outcome.documents.documents, "contents": outcome.sent.contents, "packs": outcome.sent.packs,
               "bytes": outcome.sent.bytes + outcome.documents.bytes, "would_send": outcome.would_send,
               "not_here": outcome.sent.not_here},
        "damaged": outcome.damaged,
    })
}

/// What was fetched on the way of something else.
pub fn fetched_line(fetched: &[(String, Fetched)]) -> Option<String> {
    let one = |(name, f): &(String, Fetched)| format!("{} from {name}", text::bytes(f.bytes));
    let parts: Vec<String> = fetched.iter().map(one).collect();
    (!parts.is_empty()).then(|| format!("fetched {}", parts.join(", ")))
}

/// Whether a depot is whole.
pub fn verify_text(depot: &str, report: &DepotReport, deep: bool, style: &Style) -> String {
    let looked = format!(
        "{} in {}, {} of receipts{}",
        text::counted(report.entries, "entry").replace("entrys", "entries"),
        text::counted(report.packs, "pack"),
        text::counted(report.document_packs, "pack"),
        if deep { format!("; {} were read", text::bytes(report.read)) } else { String::new() }
    );
    let problems = report.damage.iter().filter(|d| !d.healed).count() + usize::from(!report.missing.is_empty());
    let mut out = match problems {
        0 => format!("{} in {depot}: {looked}\n", style.good("all is there")),
        n => format!("{} in {depot}: {looked}\n\n", style.bad(&text::counted(n as u64, "problem"))),
    };
    for damage in &report.damage {
        let lost = match damage.entries {
            0 => String::new(),
            n => format!("; {} lost by it", text::counted(n, "entry").replace("entrys", "entries")),
        };
        let word = if damage.healed { style.accent("mended:") } else { style.bad("damaged:") };
        out.push_str(&format!("  {word} {}: {}{lost}\n", damage.object, damage.what));
    }
    if !report.missing.is_empty() {
        let count = text::counted(report.missing.len() as u64, "content");
        out.push_str(&format!("  {count} of receipts not there, which this machine has: `textum sync --content all` sends them\n"));
    }
    out
}

/// The same as JSON.
pub fn verify_json(depot: &str, report: &DepotReport) -> Value {
    let damage =
        |d: &textum_core::depot::DepotDamage| json!({"object": d.object, "what": d.what, "entries": d.entries, "healed": d.healed});
    json!({
        "depot": depot, "packs": report.packs, "document_packs": report.document_packs, "entries": report.entries,
        "read": report.read, "damage": report.damage.iter().map(damage).collect::<Vec<_>>(), "missing": report.missing,
    })
}

/// What was dropped, or would be.
pub fn prune_text(depot: &str, swept: &Swept, grace: &str, dry_run: bool, style: &Style) -> String {
    let entries = |n: u64| text::counted(n, "entry").replace("entrys", "entries");
    let would = if dry_run { "would be " } else { "" };
    let mut out = match (swept.dropped + swept.orphans, swept.marked) {
        (0, 0) if swept.waiting == 0 => {
            return format!("{}: receipts speak of all that is in {depot}\n", style.bold("nothing to drop"));
        }
        (0, _) => format!("{} in {depot}\n\n", style.bold("nothing is dropped yet")),
        _ => format!("{} in {depot}\n\n", style.bold(&format!("{} {would}freed", text::bytes(swept.freed)))),
    };
    if swept.dropped > 0 {
        out.push_str(&format!(
            "  {} {would}dropped: marked {grace} ago or more, and nothing speaks of them\n",
            entries(swept.dropped)
        ));
    }
    if swept.orphans > 0 {
        out.push_str(&format!("  {} of syncs that were cut off {would}removed\n", text::counted(swept.orphans, "object")));
    }
    if swept.marked > 0 {
        let size = text::bytes(swept.marked_bytes);
        out.push_str(&format!(
            "  {} ({size}) {would}marked: they go after {grace}, if nothing speaks of them then\n",
            entries(swept.marked)
        ));
    }
    if swept.waiting > 0 {
        out.push_str(&format!("  {} marked before that wait for the end of the {grace}\n", entries(swept.waiting)));
    }
    if swept.spared > 0 {
        out.push_str(&format!("  {} spared: something speaks of them again\n", entries(swept.spared)));
    }
    out
}

/// The same as JSON.
pub fn prune_json(depot: &str, swept: &Swept, dry_run: bool) -> Value {
    json!({
        "depot": depot, "dry_run": dry_run, "dropped": swept.dropped, "freed": swept.freed, "orphans": swept.orphans,
        "marked": swept.marked, "marked_bytes": swept.marked_bytes, "waiting": swept.waiting, "spared": swept.spared,
    })
}

fn figures(found: &RemoteFigures) -> Vec<(&'static str, String, u64)> {
    let f = &found.figures;
    vec![
        ("packs of content", text::count(f.packs), f.content_bytes),
        ("packs of receipts", text::count(f.document_packs), f.document_bytes),
        ("indexes", text::count(f.indexes), f.index_bytes),
        ("entries", text::count(f.entries), f.raw_bytes),
        ("entries that are to go", text::count(f.marked), 0),
    ]
}

/// What a depot holds.
pub fn stats_text(depot: &str, found: &RemoteFigures, style: &Style) -> String {
    let f = &found.figures;
    let all = f.content_bytes + f.document_bytes + f.index_bytes;
    let mut out = format!("{} in {depot}\n\n", style.bold(&text::bytes(all)));
    let rows: Vec<Vec<Cell>> = figures(found)
        .into_iter()
        .map(|(what, count, bytes)| {
            let size = if bytes > 0 { text::bytes(bytes) } else { String::new() };
            let note = if what == "entries" { "before they are compressed" } else { "" };
            vec![what.into(), Cell::from(count), Cell::from(size), Cell::new(note, Look::Dim)]
        })
        .collect();
    out.push_str(&table(&[], &rows, "  ", style));
    if !found.projects.is_empty() {
        out.push_str(&format!("\n  receipts of {}\n", text::some(&found.projects, 8)));
    }
    out
}

/// The same as JSON.
pub fn stats_json(depot: &str, found: &RemoteFigures) -> Value {
    let f = &found.figures;
    json!({
        "depot": depot, "packs": f.packs, "content_bytes": f.content_bytes, "entries": f.entries, "raw_bytes": f.raw_bytes,
        "document_packs": f.document_packs, "document_bytes": f.document_bytes, "indexes": f.indexes,
        "index_bytes": f.index_bytes, "marked": f.marked, "projects": found.projects,
    })
}

/// The same as data.
pub fn stats_csv(found: &RemoteFigures) -> String {
    let mut data = Data::new(["what", "count", "bytes"]);
    for (what, count, bytes) in figures(found) {
        data.add([what.to_string(), count.replace([' ', ','], ""), bytes.to_string()]);
    }
    data.text()
}
