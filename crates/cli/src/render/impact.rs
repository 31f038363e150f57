//! What was made of something.

use textum_core::publish::Impact;

use super::table::{Cell, Look, table};
use super::text;
use crate::ui::{Style, escape};

/// So many runs are listed.
const RUNS: usize = 20;
/// So many boxes stand in a column of the picture.
const BOXES: usize = 24;

fn headline(found: &Impact) -> String {
    let live = found.versions.iter().filter(|v| !v.aliases.is_empty()).count() as u64;
    let named = if live > 0 { format!(" ({live} of them named by an alias)") } else { String::new() };
    format!(
        "{}, {}{named}, {}",
        text::counted(found.runs.len() as u64, "run"),
        text::counted(found.versions.len() as u64, "published version"),
        text::counted(found.predictions.len() as u64, "prediction")
    )
}

/// For people.
pub fn text(found: &Impact, style: &Style) -> String {
    let mut out = format!("{}: {}\n", style.bold(&escape::line(&found.target)), headline(found));
    let mut section = |name: &str, rows: &[Vec<Cell>]| {
        if !rows.is_empty() {
            out.push_str(&format!("\n{}\n{}", style.accent(name), table(&[], rows, "  ", style)));
        }
    };
    let versions: Vec<Vec<Cell>> = found
        .versions
        .iter()
        .map(|v| {
            let from = v.run.as_ref().map_or(String::new(), |(project, run)| format!("run {run} of {project}"));
            let state = if v.retired { "retired" } else { "" };
            vec![
                Cell::from(v.version.clone()),
                Cell::new(v.aliases.join(", "), Look::Bad),
                Cell::new(from, Look::Dim),
                Cell::from(state),
            ]
        })
        .collect();
    section("published", &versions);
    let predictions: Vec<Vec<Cell>> = found
        .predictions
        .iter()
        .map(|p| {
            vec![
                Cell::from(p.path.clone()),
                Cell::new(p.digest.short(), Look::Dim),
                Cell::from(format!("by {}", p.by)),
                Cell::new(format!("run {} of {}", p.run, p.project), Look::Dim),
            ]
        })
        .collect();
    section("predictions", &predictions);
    let data: Vec<Vec<Cell>> = found.data.iter().map(|d| vec![Cell::from(d.clone())]).collect();
    section("data", &data);
    let mut runs: Vec<Vec<Cell>> = found
        .runs
        .iter()
        .rev()
        .take(RUNS)
        .map(|r| vec![Cell::from(r.run.clone()), Cell::from(r.project.clone()), Cell::new(text::some(&r.stages, 6), Look::Dim)])
        .collect();
    if found.runs.len() > RUNS {
        runs.push(vec![Cell::new(format!("and {} more", text::count((found.runs.len() - RUNS) as u64)), Look::Dim)]);
    }
    section("runs", &runs);
    if found.runs.is_empty() && found.versions.is_empty() {
        out.push_str("\n  nothing that is recorded was made of it\n");
    }
    out
}

/// As Graphviz.
pub fn dot(found: &Impact) -> String {
    let quoted = escape::graphviz;
    let mut out = String::from("digraph impact {\n  rankdir=LR;\n");
    out.push_str(&format!("  target [label={}, shape=note];\n", quoted(&found.target)));
    for run in &found.runs {
        out.push_str(&format!("  {} [label={}, shape=box];\n", quoted(&run.run), quoted(&format!("{}\n{}", run.run, run.project))));
        out.push_str(&format!("  target -> {};\n", quoted(&run.run)));
    }
    for version in &found.versions {
        let label = format!("{}\n{}", version.version, version.aliases.join(", "));
        out.push_str(&format!("  {} [label={}, shape=box3d];\n", quoted(&version.version), quoted(&label)));
        let known = |run: &&String| found.runs.iter().any(|r| r.run == **run);
        let from = version.run.as_ref().map(|(_, run)| run).filter(known).map_or("target".to_string(), |run| quoted(run));
        out.push_str(&format!("  {from} -> {};\n", quoted(&version.version)));
    }
    for p in &found.predictions {
        let id = format!("{}:{}@{}", p.project, p.path, p.digest.short());
        out.push_str(&format!("  {} [label={}, shape=note];\n", quoted(&id), quoted(&format!("{}\n{}", p.path, p.project))));
        out.push_str(&format!("  {} -> {};\n", quoted(&p.by), quoted(&id)));
    }
    out.push_str("}\n");
    out
}

/// A box of the picture: its two lines, whether it is in use, and the box of the column before that it comes from.
struct Place {
    head: String,
    below: String,
    warn: bool,
    from: usize,
}

/// Columns from what it is about to what was predicted.
fn columns(found: &Impact) -> Vec<(&'static str, Vec<Place>)> {
    let runs: Vec<&textum_core::publish::TouchedRun> = {
        // Runs behind something published come first: the others may be many.
        let behind = |run: &str| found.versions.iter().any(|v| v.run.as_ref().is_some_and(|(_, r)| r == run));
        let mut all: Vec<_> = found.runs.iter().filter(|r| !found.predictions.iter().any(|p| p.run == r.run)).collect();
        all.sort_by_key(|r| !behind(&r.run));
        all.into_iter().take(BOXES).collect()
    };
    let run_at = |run: Option<&String>| runs.iter().position(|r| Some(&r.run) == run).unwrap_or(0);
    let versions: Vec<Place> = found
        .versions
        .iter()
        .take(BOXES)
        .map(|v| Place {
            head: v.version.clone(),
            below: if v.retired { "retired".to_string() } else { v.aliases.join(", ") },
            warn: !v.aliases.is_empty(),
            from: run_at(v.run.as_ref().map(|(_, run)| run)),
        })
        .collect();
    let version_at = |by: &str| versions.iter().position(|v| v.head == by).unwrap_or(0);
    let predictions: Vec<Place> = found
        .predictions
        .iter()
        .take(BOXES)
        .map(|p| Place { head: p.path.clone(), below: p.project.clone(), warn: true, from: version_at(&p.by) })
        .collect();
    let target = vec![Place { head: found.target.clone(), below: String::new(), warn: false, from: 0 }];
    let run_boxes: Vec<Place> =
        runs.iter().map(|r| Place { head: r.run.clone(), below: r.project.clone(), warn: false, from: 0 }).collect();
    let mut all = vec![("what it is about", target)];
    for (name, boxes) in [("runs", run_boxes), ("published", versions), ("predictions", predictions)] {
        if !boxes.is_empty() {
            all.push((name, boxes));
        }
    }
    all
}

fn xml(text: &str, most: usize) -> String {
    let cut: String =
        if text.chars().count() > most { text.chars().take(most - 1).chain(['…']).collect() } else { text.to_string() };
    textum_core::figure::escape(&cut)
}

/// The picture: a column for each kind, lines from what something was made of.
fn picture(found: &Impact) -> String {
    const WIDE: u32 = 220;
    const HIGH: u32 = 40;
    const GAP: u32 = 12;
    const BETWEEN: u32 = 70;
    let columns = columns(found);
    let most = columns.iter().map(|(_, boxes)| boxes.len()).max().unwrap_or(1) as u32;
    let height = 30 + most * (HIGH + GAP);
    let width = columns.len() as u32 * (WIDE + BETWEEN) - BETWEEN + 2;
    let y_of = |column: usize, at: usize| {
        let count = columns[column].1.len() as u32;
        let free = (most - count) * (HIGH + GAP) / 2;
        30 + free.min(120) + at as u32 * (HIGH + GAP)
    };
    let mut out = format!(
        "<svg viewBox=\"0 0 {width} {height}\" width=\"{width}\" height=\"{height}\" role=\"img\" aria-label=\"what was made of it\">\n"
    );
    for (c, (name, boxes)) in columns.iter().enumerate() {
        let x = c as u32 * (WIDE + BETWEEN) + 1;
        out.push_str(&format!("<text class=\"kind\" x=\"{x}\" y=\"16\">{name}</text>\n"));
        for (at, place) in boxes.iter().enumerate() {
            let y = y_of(c, at);
            if c > 0 {
                let (x0, y0, y1) = (x - BETWEEN, y_of(c - 1, place.from.min(columns[c - 1].1.len() - 1)) + HIGH / 2, y + HIGH / 2);
                let middle = x - BETWEEN / 2;
                out.push_str(&format!("<path d=\"M{x0} {y0} C{middle} {y0} {middle} {y1} {x} {y1}\"/>\n"));
            }
            let class = if place.warn { " class=\"warn\"" } else { "" };
            out.push_str(&format!("<rect{class} x=\"{x}\" y=\"{y}\" width=\"{WIDE}\" height=\"{HIGH}\" rx=\"3\"/>\n"));
            let mid = if place.below.is_empty() { y + 25 } else { y + 17 };
            out.push_str(&format!("<text x=\"{}\" y=\"{mid}\">{}</text>\n", x + 9, xml(&place.head, 30)));
            if !place.below.is_empty() {
                out.push_str(&format!("<text class=\"below\" x=\"{}\" y=\"{}\">{}</text>\n", x + 9, y + 32, xml(&place.below, 32)));
            }
        }
    }
    out.push_str("</svg>\n");
    out
}

/// As a page of its own.
pub fn page(found: &Impact) -> String {
    let mut rows = String::new();
    for run in &found.runs {
        rows.push_str(&format!(
            "<tr><td>{}</td><td>{}</td><td>{}</td></tr>\n",
            xml(&run.run, 60),
            xml(&run.project, 60),
            xml(&run.stages.join(", "), 120)
        ));
    }
    let style = ":root { color-scheme: light dark; --ink: #1d2328; --dim: #68727b; --line: #c9cfd4; --accent: #0b7285; --bad: #b3362b; --paper: #fff; }\n\
        @media (prefers-color-scheme: dark) { :root { --ink: #e4e8eb; --dim: #98a2aa; --line: #434c54; --accent: #4fb6c9; --bad: #e8766a; --paper: #14181b; } }\n\
        body { margin: 2rem auto; max-width: 76rem; padding: 0 1.5rem; font: 14px/1.5 system-ui, sans-serif; color: var(--ink); background: var(--paper); }\n\
        h1 { font-size: 1.25rem; margin: 0 0 .3rem; } p { color: var(--dim); margin: .2rem 0 1.2rem; } h2 { font-size: .95rem; margin: 2rem 0 .4rem; }\n\
        .wide { overflow-x: auto; } table { border-collapse: collapse; width: 100%; } td { padding: .2rem .8rem .2rem 0; border-bottom: 1px solid var(--line); }\n\
        svg text { font: 13px system-ui, sans-serif; fill: var(--ink); } svg .below, svg .kind { font-size: 11.5px; fill: var(--dim); }\n\
        svg rect { fill: none; stroke: var(--line); } svg rect.warn { stroke: var(--bad); stroke-width: 2; } svg path { fill: none; stroke: var(--line); }";
    let about = xml(&found.target, 200);
    let runs =
        if rows.is_empty() { String::new() } else { format!("<h2>Runs</h2>\n<div class=\"wide\"><table>\n{rows}</table></div>\n") };
    format!(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n<meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n\
         <title>What was made of {about}</title>\n<style>\n{style}\n</style>\n</head>\n<body>\n<h1>What was made of {about}</h1>\n<p>{}. Framed in red: in use, by an alias or in a table of predictions.</p>\n\
         <div class=\"wide\">\n{}</div>\n{runs}</body>\n</html>\n",
        xml(&headline(found), 200),
        picture(found)
    )
}
