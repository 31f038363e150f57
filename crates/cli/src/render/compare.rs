//! In what runs differ.

use serde_json::{Value, json};
use textum_core::inspect::comparison::{CodeChange, Comparison, LineKind, MetricRow, Side, StageRow};
use textum_core::record::receipt::{RunStageState, RunState};

use super::table::{Cell, Look, markdown as markdown_table, table};
use super::{data, text};
use crate::ui::{Style, escape};

/// Lines of code that are shown of each file unless all are asked for.
const LINES: usize = 24;
/// Rows of packages that are shown.
const PACKAGES: usize = 12;

/// Runs compared, and their receipts.
pub struct Told<'t> {
    /// In what they differ.
    pub comparison: &'t Comparison,
    /// The runs.
    pub sides: &'t [Side],
    /// Whether all changed lines are shown.
    pub all: bool,
}

fn short(run: &str) -> String {
    run.rsplit('-').next().unwrap_or(run).to_string()
}

fn dash(value: Option<&String>) -> String {
    value.map_or("–".to_string(), |v| text::param(v))
}

/// What differs, in words: `2 parameters, data, code`.
pub fn differs(found: &Comparison) -> Vec<String> {
    let counted = |n: usize, what: &str| (n > 0).then(|| text::counted(n as u64, what));
    let mut parts: Vec<String> = Vec::new();
    parts.extend(counted(found.params.len(), "parameter"));
    parts.extend(counted(found.data.len(), "dataset"));
    parts.extend(counted(found.code.len(), "code file"));
    parts.extend(counted(found.commands.len(), "command"));
    parts.extend(counted(found.environment.len(), "part").map(|p| format!("{p} of the environment")));
    parts.extend((!found.from.is_empty()).then(|| "where training began".to_string()));
    parts
}

/// What is the same, in words.
pub fn same(found: &Comparison) -> String {
    let same = &found.same;
    let parts = [
        (same.params, "parameter"),
        (same.datasets, "dataset"),
        (same.files, "code file"),
        (same.commands, "command"),
        (same.packages, "package"),
    ];
    let words: Vec<String> = parts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| text::counted(*n as u64, what)).collect();
    if words.is_empty() { "nothing else is in all of them".into() } else { format!("everything else: {}", words.join(", ")) }
}

/// The one line that answers what the difference is.
pub fn headline(told: &Told<'_>) -> String {
    let found = told.comparison;
    let names: Vec<String> = found.runs.iter().map(|r| short(r)).collect();
    let parts = differs(found);
    let who = names.join(if names.len() == 2 { " and " } else { ", " });
    if !parts.is_empty() {
        return format!("{who} differ in {}", parts.join(", "));
    }
    let changed = found.metrics.iter().any(|m| m.values.windows(2).any(|w| w[0] != w[1]));
    match changed {
        true => format!("{who} had the same inputs, and still other metrics: something that is not recorded decides, or chance"),
        false => format!("{who} had the same inputs and the same metrics"),
    }
}

/// How much better or worse the last value is than the first: words, and whether it is better.
pub fn change(row: &MetricRow) -> Option<(String, Option<bool>)> {
    let value = |v: &Option<textum_core::record::receipt::Metric>| v.map(|m| m.0).filter(|v| v.is_finite());
    let (first, last) = (value(row.values.first()?)?, value(row.values.last()?)?);
    if first == last {
        return Some(("the same".into(), None));
    }
    let by = text::figure((last - first).abs());
    Some(match row.better {
        Some(word) => {
            let better = (word == "higher") == (last > first);
            (format!("{} by {by}", if better { "better" } else { "worse" }), Some(better))
        }
        None => (format!("{} by {by}", if last > first { "up" } else { "down" }), None),
    })
}

fn header(told: &Told<'_>) -> Vec<Vec<Cell>> {
    let mut rows: Vec<Vec<Cell>> = Vec::new();
    let of = |name: &str, pick: &dyn Fn(&Side) -> String| {
        std::iter::once(Cell::new(name, Look::Dim)).chain(told.sides.iter().map(|s| Cell::from(pick(s)))).collect::<Vec<Cell>>()
    };
    rows.push(
        std::iter::once(Cell::default()).chain(told.sides.iter().map(|s| Cell::new(short(&s.run.run), Look::Bold))).collect(),
    );
    rows.push(of("began", &|s| text::moment(&s.run.started)));
    if told.sides.iter().any(|s| s.run.state != RunState::Done) {
        rows.push(of("state", &|s| s.run.state.word().to_string()));
    }
    if told.sides.iter().any(|s| s.run.label.is_some()) {
        rows.push(of("label", &|s| s.run.label.clone().unwrap_or_else(|| "–".into())));
    }
    let commit = |s: &Side| {
        s.run
            .git
            .as_ref()
            .map_or("–".to_string(), |g| format!("{}{}", text::commit(&g.commit), if g.dirty { " + changes" } else { "" }))
    };
    if told.sides.iter().any(|s| s.run.git.is_some()) {
        rows.push(of("commit", &commit));
    }
    rows
}

/// A section of the table: its name, and its rows.
pub type Section = (&'static str, Vec<Vec<Cell>>);

pub fn sections(told: &Told<'_>) -> Vec<Section> {
    let found = told.comparison;
    let plain = |rows: &[textum_core::inspect::comparison::Differing]| -> Vec<Vec<Cell>> {
        let row = |d: &textum_core::inspect::comparison::Differing| {
            std::iter::once(Cell::from(format!("  {}", d.name)))
                .chain(d.values.iter().map(|v| Cell::from(dash(v.as_ref()))))
                .collect()
        };
        rows.iter().map(row).collect()
    };
    let mut all: Vec<Section> = vec![("parameters", plain(&found.params))];
    let data_rows = found.data.iter().map(|d| {
        let mut cells: Vec<Cell> = vec![format!("  {}", d.name).into()];
        cells.extend(d.values.iter().map(|v| Cell::from(v.clone().unwrap_or_else(|| "–".into()))));
        if let Some(change) = d.changes.iter().flatten().last() {
            cells.push(Cell::new(data::change(change), Look::Dim));
        }
        cells
    });
    all.push(("data", data_rows.collect()));
    all.push(("began from", {
        let row = |d: &textum_core::inspect::comparison::Differing| {
            let value = |v: &Option<String>| v.as_ref().map_or("clean".to_string(), |v| short(v));
            std::iter::once(Cell::from(format!("  {}", d.name))).chain(d.values.iter().map(|v| Cell::from(value(v)))).collect()
        };
        found.from.iter().map(row).collect()
    }));
    let mut environment = plain(&found.environment);
    if environment.len() > PACKAGES && !told.all {
        let more = environment.len() - PACKAGES;
        environment.truncate(PACKAGES);
        environment.push(vec![Cell::new(format!("  and {more} more: --all"), Look::Dim)]);
    }
    all.push(("environment", environment));
    all.push(("commands", plain(&found.commands)));
    let metric = |m: &MetricRow| {
        let mut cells: Vec<Cell> = vec![format!("  {}", m.name).into()];
        for (i, value) in m.values.iter().enumerate() {
            let shown = value.as_ref().map_or("–".to_string(), text::metric);
            cells.push(if m.best == Some(i) { Cell::new(shown, Look::Good) } else { shown.into() });
        }
        if let Some((words, better)) = change(m) {
            let (sign, look) = match better {
                Some(true) => ("+ ", Look::Good),
                Some(false) => ("− ", Look::Bad),
                None => ("  ", Look::Dim),
            };
            cells.push(Cell::new(format!("{sign}{words}"), look));
        }
        cells
    };
    let differing = |m: &&MetricRow| m.better.is_some() || m.values.windows(2).any(|w| w[0] != w[1]);
    all.push(("metrics", found.metrics.iter().filter(differing).map(metric).collect()));
    all.push(("stages", found.stages.iter().map(stage).collect()));
    all.retain(|(_, rows)| !rows.is_empty());
    all
}

fn stage(row: &StageRow) -> Vec<Cell> {
    let mut cells: Vec<Cell> = vec![format!("  {}", row.name).into()];
    for (state, seconds) in row.states.iter().zip(&row.seconds) {
        let took = seconds.map(text::seconds).unwrap_or_default();
        let word = match state {
            Some(RunStageState::Failed) => "failed ",
            Some(RunStageState::Stopped) => "stopped ",
            Some(RunStageState::Skipped) => "not begun",
            None => "–",
            _ => "",
        };
        cells.push(Cell::new(format!("{word}{took}"), if word.is_empty() { Look::Plain } else { Look::Bad }));
    }
    if row.same_result {
        cells.push(Cell::new("the same result", Look::Dim));
    }
    cells
}

fn code(change: &CodeChange, told: &Told<'_>, style: &Style) -> String {
    let there: Vec<&String> =
        told.comparison.runs.iter().zip(&change.digests).filter(|(_, d)| d.is_none()).map(|(r, _)| r).collect();
    let mut head = format!("  {}", change.path);
    if change.hunks.is_empty() {
        let digests: Vec<String> = change.digests.iter().map(|d| d.map_or("–".into(), |d| d.short())).collect();
        head.push_str(&format!("  {}", style.dim(&digests.join("  "))));
    } else {
        head.push_str(&format!("  {} {}", style.good(&format!("+{}", change.added)), style.bad(&format!("−{}", change.removed))));
    }
    if !there.is_empty() {
        let names: Vec<String> = there.iter().map(|r| short(r)).collect();
        head.push_str(&style.dim(&format!("  not read by {}", names.join(", "))));
    }
    let mut out = format!("{head}\n");
    let (mut shown, total) = (0, change.hunks.iter().map(|h| h.lines.len()).sum::<usize>());
    for hunk in &change.hunks {
        let mut number = hunk.to;
        for line in &hunk.lines {
            if shown >= LINES && !told.all {
                out.push_str(&style.dim(&format!("      and {} more lines: --all\n", total - shown)));
                return out;
            }
            shown += 1;
            let (mark, painted) = match line.kind {
                LineKind::Same => (' ', style.dim(&line.text)),
                LineKind::Added => ('+', style.good(&format!("+ {}", line.text))),
                LineKind::Removed => ('-', style.bad(&format!("- {}", line.text))),
            };
            let at = if line.kind == LineKind::Removed { "    ".to_string() } else { format!("{number:>4}") };
            number += usize::from(line.kind != LineKind::Removed);
            let body = if mark == ' ' { format!("  {painted}") } else { painted };
            out.push_str(&format!("    {} {body}\n", style.dim(&at)));
        }
        if hunk != change.hunks.last().unwrap_or(hunk) {
            out.push_str(&style.dim("       …\n"));
        }
    }
    out
}

/// For people.
pub fn text(told: &Told<'_>, style: &Style) -> String {
    let found = told.comparison;
    let mut out = format!("{}\n{}\n\n", style.bold(&headline(told)), style.dim(&same(found)));
    // One table for all sections, so that the columns of the runs stand under each other.
    let mut rows = header(told);
    let sections = sections(told);
    for (name, section) in &sections {
        rows.push(vec![Cell::new(*name, Look::Accent)]);
        rows.extend(section.iter().cloned());
    }
    out.push_str(&sectioned(&rows, style));
    if !found.code.is_empty() {
        out.push_str(&format!("{}\n", style.accent("code")));
        found.code.iter().for_each(|c| out.push_str(&code(c, told, style)));
    }
    out
}

/// Aligned columns; a row of one cell does not widen the first column.
fn sectioned(rows: &[Vec<Cell>], style: &Style) -> String {
    table(&[], rows, "", style)
}

/// As Markdown, short enough for a review comment.
pub fn markdown(told: &Told<'_>) -> String {
    let found = told.comparison;
    let mut out = format!("**{}** ({})\n\n", headline(told), same(found));
    let mut header = vec![String::new()];
    header.extend(found.runs.iter().map(|r| short(r)));
    header.push(String::new());
    let columns = header.len();
    let mut rows = Vec::new();
    for (name, section) in sections(told).into_iter().filter(|(n, _)| *n != "stages") {
        // Metrics without a direction come last; of many a few are enough here.
        let directed = found.metrics.iter().filter(|m| m.better.is_some()).count();
        let most = if name == "metrics" { directed.max(4) } else { usize::MAX };
        for mut row in section.into_iter().take(most) {
            let first = row.first().map_or(String::new(), |c| c.text.trim().to_string());
            if let Some(cell) = row.first_mut() {
                cell.text = if name == "metrics" { format!("**{first}**") } else { format!("{name}: `{first}`") };
            }
            row.resize(columns, Cell::default());
            rows.push(row);
        }
    }
    out.push_str(&markdown_table(&header.iter().map(String::as_str).collect::<Vec<_>>(), &rows));
    for change in &found.code {
        let lines: Vec<_> = change.hunks.iter().flat_map(|h| &h.lines).collect();
        // A fence that no line of the code can end.
        let longest = lines.iter().flat_map(|l| l.text.split(|c| c != '`')).map(str::len).max().unwrap_or(0);
        let fence = "`".repeat(longest.max(2) + 1);
        out.push_str(&format!(
            "\n<details><summary><code>{}</code> +{} −{}</summary>\n\n{fence}diff\n",
            escape::markdown(&change.path),
            change.added,
            change.removed
        ));
        for line in lines {
            let mark = match line.kind {
                LineKind::Same => ' ',
                LineKind::Added => '+',
                LineKind::Removed => '-',
            };
            out.push_str(&format!("{mark}{}\n", line.text));
        }
        out.push_str(&format!("{fence}\n\n</details>\n"));
    }
    out
}

/// As JSON.
pub fn json(told: &Told<'_>) -> Value {
    let sides: Vec<Value> = told
        .sides
        .iter()
        .map(|s| json!({"run": s.run.run, "started": s.run.started, "seconds": s.run.seconds, "state": s.run.state, "label": s.run.label}))
        .collect();
    let mut value = serde_json::to_value(told.comparison).unwrap_or_default();
    if let Some(table) = value.as_object_mut() {
        table.insert("same_inputs".into(), told.comparison.same_inputs().into());
        table.insert("sides".into(), sides.into());
    }
    value
}
