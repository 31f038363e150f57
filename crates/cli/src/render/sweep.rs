//! What became of a sweep.

use serde_json::{Value, json};
use textum_core::config::manifest::Better;
use textum_core::config::sweep::Varied;
use textum_core::pipeline::exec::{SweepOutcome, VariantOutcome};

use super::table::{Cell, Look, table};
use super::text;
use crate::ui::Style;

/// More variants than this are shown by their best only.
const MOST_ROWS: usize = 30;

/// For people: a row a variant, the best first.
pub fn text(outcome: &SweepOutcome, varied: &[Varied], directions: &[(String, Better)], style: &Style) -> String {
    let count = |state: &str| outcome.variants.iter().filter(|v| v.state == state).count();
    let parts =
        [("done", "done"), ("there", "there already"), ("failed", "failed"), ("stopped", "stopped"), ("not begun", "not begun")];
    let said: Vec<String> = parts.iter().filter(|(s, _)| count(s) > 0).map(|(s, words)| format!("{} {words}", count(s))).collect();
    let all = outcome.variants.len();
    let mut out = format!(
        "{} {}  {}: {} in {}\n\n",
        style.bold("sweep"),
        outcome.sweep,
        text::counted(all as u64, "run"),
        said.join(", "),
        text::seconds(outcome.seconds)
    );
    let known = |name: &String| outcome.variants.iter().any(|v| v.metrics.contains_key(name));
    let directed: Vec<&(String, Better)> = directions.iter().filter(|(n, _)| known(n)).collect();
    let mut metrics: Vec<String> = directed.iter().map(|(n, _)| n.clone()).collect();
    if metrics.is_empty() {
        metrics = outcome.variants.iter().flat_map(|v| v.metrics.keys()).take(1).cloned().collect();
    }
    metrics.truncate(4);
    let mut rows: Vec<&VariantOutcome> = outcome.variants.iter().collect();
    let value = |v: &VariantOutcome, name: &str| v.metrics.get(name).map(|m| m.0).filter(|v| v.is_finite());
    let good = |v: &VariantOutcome| matches!(v.state.as_str(), "done" | "there");
    let better = directed.first().map(|(n, b)| (n.as_str(), *b));
    if let Some((name, direction)) = better {
        let key = |v: &VariantOutcome| {
            let v = value(v, name).filter(|_| good(v)).map(|x| if direction == Better::Higher { -x } else { x });
            v.unwrap_or(f64::INFINITY)
        };
        rows.sort_by(|a, b| key(a).total_cmp(&key(b)));
    }
    let best = better.and_then(|(name, _)| rows.first().filter(|v| good(v)).and_then(|v| value(v, name)));
    let cells = |v: &&VariantOutcome| {
        let look = if good(v) { Look::Dim } else { Look::Bad };
        let mut cells: Vec<Cell> =
            vec![Cell::new(v.run.clone().unwrap_or_else(|| "–".into()), Look::Bold), Cell::new(&v.state, look)];
        cells.extend(v.setting.iter().map(|(_, value)| Cell::from(text::param(&value.to_string()))));
        for (i, name) in metrics.iter().enumerate() {
            let shown = v.metrics.get(name).map_or("–".to_string(), text::metric);
            let is_best = i == 0 && all > 1 && good(v) && best.is_some() && value(v, name) == best;
            cells.push(if is_best { Cell::new(format!("{shown} *"), Look::Good) } else { shown.into() });
        }
        cells
    };
    let header: Vec<&str> = ["run", "state"]
        .into_iter()
        .chain(varied.iter().map(|v| v.name.as_str()))
        .chain(metrics.iter().map(String::as_str))
        .collect();
    let shown: Vec<Vec<Cell>> = rows.iter().take(MOST_ROWS).map(cells).collect();
    out.push_str(&table(&header, &shown, "  ", style));
    if all > MOST_ROWS {
        out.push_str(&style.dim(&format!("  {} more: textum runs {} --all\n", all - MOST_ROWS, outcome.sweep)));
    }
    for failed in outcome.variants.iter().filter(|v| v.state == "failed").take(5) {
        let run = failed.run.as_deref().and_then(|r| r.rsplit('-').next()).unwrap_or("–");
        out.push_str(&format!("\n  {} {}", style.bad(&format!("{run} failed:")), failed.reason.as_deref().unwrap_or_default()));
    }
    if count("failed") > 0 {
        out.push('\n');
    }
    let first = varied.first().map_or("", |v| v.name.as_str());
    if let Some((name, _)) = better.filter(|_| all > 1) {
        out.push_str(&format!("\n  {} textum plot {} --metric {name} --against {first}\n", style.accent("next:"), outcome.sweep));
    }
    out
}

/// The same as JSON.
pub fn json(outcome: &SweepOutcome) -> Value {
    let variants: Vec<Value> = outcome
        .variants
        .iter()
        .map(|v| {
            let set: serde_json::Map<String, Value> = v.setting.iter().cloned().collect();
            json!({
                "run": v.run, "state": v.state, "set": set, "metrics": v.metrics, "seconds": v.seconds, "reason": v.reason,
            })
        })
        .collect();
    json!({"sweep": outcome.sweep, "seconds": outcome.seconds, "stopped": outcome.stopped, "variants": variants})
}
