//! A report about a run: a page, or Markdown that is short enough for a review comment.

use base64::Engine;
use minijinja::value::Serde;
use serde_json::{Value, json};
use textum_core::config::manifest::Better;
use textum_core::inspect::comparison::{Comparison, LineKind, Side};
use textum_core::inspect::curve::Curve;
use textum_core::record::receipt::{Metric, PlaceRecord, RunStageState, RunState};
use textum_core::store::Digest;

use super::compare::{differs, headline, same};
use super::data::Versions;
use super::events::gate_values;
use super::plot::{Across, Drawn, figures};
use super::table::{Cell, Look};
use super::{compare, text};
use crate::failure::{DAMAGE, Failure};
use crate::ui::escape;

/// So many metrics stand at the top.
const MOST_CARDS: usize = 12;

const PAGE: &str = include_str!("../../assets/pages/report.html");

/// A figure that a stage wrote.
pub struct Picture {
    /// Its path.
    pub path: String,
    /// Its media type.
    pub kind: &'static str,
    /// Its bytes.
    pub bytes: Vec<u8>,
}

/// A rule that a stage held a table against.
pub struct RuleLine {
    /// The stage.
    pub stage: String,
    /// The rule.
    pub rule: String,
    /// `holds`, `broken`, `warned` or `unknown`.
    pub state: String,
    /// How far it holds.
    pub told: String,
}

impl RuleLine {
    /// Its state in a word for people.
    fn word(&self) -> &str {
        match self.state.as_str() {
            "warned" => "warning",
            "unknown" => "not judged",
            other => other,
        }
    }
}

/// A metric, its value, and how it changed: words, and whether to the better.
type Card = (String, Metric, Option<(String, Option<bool>)>);

/// Everything that a report tells.
pub struct Told<'t> {
    /// The project's name.
    pub project: &'t str,
    /// The baseline, if there is one, and the run.
    pub sides: &'t [Side],
    /// In what they differ.
    pub comparison: Option<&'t Comparison>,
    /// The run's label.
    pub label: Option<String>,
    /// What people said of it.
    pub notes: Vec<String>,
    /// The digest of its receipt.
    pub receipt: Digest,
    /// The metrics whose curves are drawn.
    pub metrics: &'t [String],
    /// The curves.
    pub curves: &'t [Curve],
    /// Figures of its stages.
    pub pictures: Vec<Picture>,
    /// Rules that tables were held against.
    pub rules: Vec<RuleLine>,
    /// Where it comes from, as a tree.
    pub lineage: &'t str,
    /// The versions of datasets.
    pub versions: &'t Versions,
    /// The direction in which metrics get better.
    pub directions: &'t [(String, Better)],
}

fn short(run: &str) -> &str {
    run.rsplit('-').next().unwrap_or(run)
}

impl Told<'_> {
    fn own(&self) -> Option<&Side> {
        self.sides.last()
    }

    fn state(&self) -> &'static str {
        match self.own().map(|s| s.run.state) {
            Some(RunState::Done) => "done",
            Some(RunState::Failed) => "failed",
            Some(RunState::Stopped) => "stopped",
            _ => "interrupted",
        }
    }

    /// The metrics that matter, each with its change against the baseline.
    fn cards(&self) -> Vec<Card> {
        let Some(own) = self.own() else { return Vec::new() };
        let mut names: Vec<&String> = self.directions.iter().map(|(n, _)| n).filter(|n| own.run.metrics.contains_key(*n)).collect();
        if names.is_empty() {
            names = own.run.metrics.keys().take(4).collect();
        }
        // Declared ones come first; all of them stand in the table of metrics.
        names.truncate(MOST_CARDS);
        let change = |name: &String| {
            let row = self.comparison?.metrics.iter().find(|m| m.name == *name)?;
            compare::change(row)
        };
        names.into_iter().filter_map(|n| Some((n.clone(), *own.run.metrics.get(n)?, change(n)))).collect()
    }

    fn told_compare(&self) -> Option<compare::Told<'_>> {
        Some(compare::Told { comparison: self.comparison?, sides: self.sides, all: false })
    }
}

fn look(look: Look) -> &'static str {
    match look {
        Look::Good => "good",
        Look::Bad => "bad",
        Look::Dim => "dim",
        _ => "",
    }
}

fn cards(told: &Told<'_>) -> Vec<Value> {
    told.cards()
        .into_iter()
        .map(|(name, value, change)| {
            let (words, better) = change.unwrap_or_default();
            let look = better.map_or("dim", |b| if b { "good" } else { "bad" });
            json!({"name": name, "value": text::metric(&value), "change": words, "look": look})
        })
        .collect()
}

fn sections(told: &Told<'_>, comparison: Option<&compare::Told<'_>>) -> Vec<Value> {
    comparison
        .into_iter()
        .flat_map(compare::sections)
        .map(|(name, rows)| {
            let rows: Vec<Vec<Value>> = rows
                .iter()
                .map(|row| {
                    let cells = row.iter().cloned().chain(std::iter::repeat(Cell::default())).take(told.sides.len() + 2);
                    cells.map(|c| json!({"text": c.text.trim(), "look": look(c.look)})).collect()
                })
                .collect();
            json!({"name": name, "rows": rows})
        })
        .collect()
}

fn code(told: &Told<'_>) -> Vec<Value> {
    told.comparison
        .iter()
        .flat_map(|c| &c.code)
        .map(|file| {
            let lines: Vec<Value> = file
                .hunks
                .iter()
                .flat_map(|h| &h.lines)
                .map(|l| match l.kind {
                    LineKind::Same => json!({"text": format!("  {}", l.text), "look": "ctx"}),
                    LineKind::Added => json!({"text": format!("+ {}", l.text), "look": "add"}),
                    LineKind::Removed => json!({"text": format!("- {}", l.text), "look": "del"}),
                })
                .collect();
            json!({"path": file.path, "added": file.added, "removed": file.removed, "lines": lines})
        })
        .collect()
}

/// The machine of a stage, and how long it waited for room where that is another place.
fn where_executed(place: &PlaceRecord) -> String {
    let waited = place.waited_ms.map(|ms| format!(", waited {}", text::seconds(ms as f64 / 1000.0))).unwrap_or_default();
    match &place.name {
        Some(name) => format!("{name}, {}{waited}", place.host),
        None => place.host.clone(),
    }
}

fn stages(own: &Side) -> Vec<Value> {
    let run = &own.run;
    let longest = own.stages.iter().flatten().map(|r| r.seconds).fold(0.0, f64::max);
    run.stages.iter().zip(&own.stages).map(|(stage, receipt)| {
        let took = receipt.as_ref().map_or(0.0, |r| r.seconds);
        let from = receipt.as_ref().filter(|r| r.run != run.run).map(|r| format!("from run {}", r.run)).unwrap_or_default();
        let width = if longest > 0.0 { took / longest * 16.0 } else { 0.0 };
        let place = receipt.as_ref().map(|r| where_executed(&r.place)).unwrap_or_default();
        json!({"name": stage.stage, "state": state_of(stage.state), "took": text::seconds(took), "width": format!("{width:.2}"), "from": from, "place": place})
    }).collect()
}

/// The page.
pub fn html(told: &Told<'_>) -> Result<String, Failure> {
    let Some(own) = told.own() else { return Ok(String::new()) };
    let run = &own.run;
    let names = told.sides.iter().map(|s| (s.run.run.clone(), short(&s.run.run).to_string())).collect();
    let drawn = Drawn { curves: told.curves, metrics: told.metrics, across: Across::Step, names: &names, log: false };
    let engine = base64::engine::general_purpose::STANDARD;
    let pictures: Vec<Value> = told
        .pictures
        .iter()
        .map(|p| json!({"path": p.path, "uri": format!("data:{};base64,{}", p.kind, engine.encode(&p.bytes))}))
        .collect();
    let comparison = told.told_compare();
    let gates: Vec<Value> = run
        .gates
        .iter()
        .map(|g| json!({"held": g.held, "after": g.after, "check": g.check, "values": gate_values(g).join(", ")}))
        .collect();
    let rules: Vec<Value> = told
        .rules
        .iter()
        .map(|r| json!({"stage": r.stage, "rule": r.rule, "state": r.word(), "good": r.state == "holds", "told": r.told}))
        .collect();
    let better = |name: &String| match told.directions.iter().find(|(n, _)| n == name) {
        Some((_, Better::Higher)) => "higher is better",
        Some((_, Better::Lower)) => "lower is better",
        None => "",
    };
    let metrics: Vec<Value> =
        run.metrics.iter().map(|(n, v)| json!({"name": n, "value": text::metric(v), "better": better(n)})).collect();
    let mut inputs: Vec<Value> = run.params.iter().map(|(n, v)| json!({"name": n, "value": text::param(v)})).collect();
    inputs.extend(run.data.iter().map(|(n, d)| {
        let version = told.versions.get(&(n.clone(), d.content.digest)).map_or_else(|| n.clone(), |v| v.name());
        json!({"name": version, "value": format!("{}  {}  {}", d.path, d.content.digest.short(), text::bytes(d.content.size))})
    }));
    let curves: Vec<String> = figures(&drawn).iter().map(|f| f.svg()).collect();
    let commit = run
        .git
        .as_ref()
        .map(|g| format!("{}{}", text::commit(&g.commit), if g.dirty { " with changes not committed" } else { "" }));
    let mut environment = minijinja::Environment::new();
    environment.set_undefined_behavior(minijinja::UndefinedBehavior::Strict);
    let mut render = || -> Result<String, minijinja::Error> {
        environment.add_template("report.html", PAGE)?;
        environment.get_template("report.html")?.render(Serde(json!({
            "project": told.project, "run": run.run, "short": short(&run.run), "label": told.label, "state": told.state(),
            "took": text::seconds(run.seconds), "reason": run.reason, "headline": comparison.as_ref().map(headline),
            "began": text::moment(&run.started), "by": run.by, "commit": commit, "receipt": told.receipt.short(), "notes": told.notes,
            "cards": cards(told), "gates": gates, "rules": rules, "against": told.sides.first().map(|s| s.run.run.as_str()), "same": told.comparison.map(same),
            "columns": told.sides.iter().map(|s| short(&s.run.run)).collect::<Vec<_>>(), "sections": sections(told, comparison.as_ref()), "code": code(told),
            "curves": curves, "figures": pictures, "metrics": metrics, "inputs": inputs, "stages": stages(own), "lineage": told.lineage,
        })))
    };
    render().map_err(|e| Failure::new(DAMAGE, format!("the page cannot be made: {e}"), "please report this"))
}

fn state_of(state: RunStageState) -> String {
    super::events::state_word(state, &crate::ui::Style::new(false))
}

/// Markdown for a review comment.
pub fn markdown(told: &Told<'_>) -> String {
    let Some(own) = told.own() else { return String::new() };
    let run = &own.run;
    let label = told.label.as_ref().map(|l| format!(" ({})", escape::markdown(l))).unwrap_or_default();
    let project = escape::markdown(told.project);
    let mut out = format!("### {project}: run `{}`{label} {} in {}\n\n", short(&run.run), told.state(), text::seconds(run.seconds));
    if let Some(reason) = &run.reason {
        out.push_str(&format!("{}\n\n", escape::markdown(reason)));
    }
    told.notes.iter().for_each(|note| out.push_str(&format!("> {}\n\n", escape::markdown(note))));
    let cards: Vec<String> = told
        .cards()
        .into_iter()
        .map(|(name, value, change)| {
            let change = change.map(|(words, _)| format!(" ({words})")).unwrap_or_default();
            format!("**{} {}**{change}", escape::markdown(&name), text::metric(&value))
        })
        .collect();
    if !cards.is_empty() {
        out.push_str(&format!("{}\n\n", cards.join(" · ")));
    }
    for gate in &run.gates {
        let word = if gate.held { "holds" } else { "**does not hold**" };
        out.push_str(&format!("- gate after {} {word}: `{}` ({})\n", gate.after, gate.check, gate_values(gate).join(", ")));
    }
    for rule in told.rules.iter().filter(|r| r.state != "holds") {
        let (stage, told) = (escape::markdown(&rule.stage), escape::markdown(&rule.told));
        out.push_str(&format!("- {stage}: {}: `{}`: {told}\n", rule.word(), rule.rule.replace('`', "'")));
    }
    if !run.gates.is_empty() || told.rules.iter().any(|r| r.state != "holds") {
        out.push('\n');
    }
    if let Some(comparison) = told.told_compare() {
        let parts = differs(comparison.comparison);
        let what = if parts.is_empty() { "the same inputs".to_string() } else { parts.join(", ") };
        out.push_str(&format!("Against `{}`: {what}\n\n", short(&comparison.sides[0].run.run)));
        out.push_str(compare::markdown(&comparison).split_once("\n\n").map_or("", |(_, rest)| rest));
        out.push('\n');
    } else {
        let params: Vec<String> = run.params.iter().map(|(n, v)| format!("`{n}` {}", escape::markdown(&text::param(v)))).collect();
        out.push_str(&format!("{}\n\n", params.join(", ")));
    }
    for curve in told.curves.iter().filter(|c| c.run == run.run) {
        let best = curve.best.map(|b| format!(", best {} at step {}", text::figure(b.value), b.step)).unwrap_or_default();
        let last = curve.points.last().map_or(f64::NAN, |p| p.value);
        out.push_str(&format!(
            "- {}: {} steps, last {}{best}\n",
            escape::markdown(&curve.metric),
            curve.points.len(),
            text::figure(last)
        ));
    }
    out.push_str(&format!("\n<sub>{} · {} · receipt {}</sub>\n", run.run, text::moment(&run.started), told.receipt.short()));
    out
}
