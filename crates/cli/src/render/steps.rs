//! The steps of a run.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Value, json};
use textum_core::config::manifest::Better;
use textum_core::inspect::curve::{StageSteps, Step};
use textum_core::record::receipt::Metric;
use unicode_width::UnicodeWidthStr;

use super::table::{Cell, Look, table};
use super::text;
use crate::ui::Style;

/// So many steps are shown unless all are asked for.
const MOST: usize = 40;

/// The steps worth showing: checkpoints, the best of each metric, the last ones; and how many are left out.
fn chosen(stage: &StageSteps, all: bool) -> Vec<&Step> {
    if all || stage.steps.len() <= MOST {
        return stage.steps.iter().collect();
    }
    let mut keep: BTreeSet<u64> = stage.signals.metrics.values().filter_map(|s| s.best_step).collect();
    keep.extend(stage.steps.iter().rev().take(8).map(|s| s.step));
    keep.extend(stage.steps.first().map(|s| s.step));
    let stored: Vec<u64> = stage.steps.iter().filter(|s| s.checkpoint.is_some()).map(|s| s.step).collect();
    let spread = if stored.is_empty() { stage.steps.iter().map(|s| s.step).collect() } else { stored };
    let room = MOST.saturating_sub(keep.len()).max(1);
    keep.extend(spread.iter().step_by(spread.len().div_ceil(room)));
    stage.steps.iter().filter(|s| keep.contains(&s.step)).collect()
}

fn value(metric: &Option<Metric>) -> String {
    metric.as_ref().map_or("–".to_string(), text::metric)
}

/// For people.
pub fn text(run: &str, stages: &[StageSteps], better: &[(String, Better)], all: bool, width: usize, style: &Style) -> String {
    let mut out = String::new();
    for stage in stages {
        let shown = chosen(stage, all);
        let total = stage.steps.len() as u64;
        let stored = stage.steps.iter().filter(|s| s.checkpoint.is_some()).count() as u64;
        let from = stage.from.as_ref().map(|(run, step)| format!(", going on from {run}#{step}")).unwrap_or_default();
        out.push_str(&format!(
            "{} {run}  {}: {}, {}{from}\n\n",
            style.bold("run"),
            stage.stage,
            text::counted(total, "step"),
            text::counted(stored, "checkpoint")
        ));
        let fitting = |used: &mut usize, name: &String| {
            *used += name.width().max(8) + 2;
            *used <= width.saturating_sub(36)
        };
        let mut used = 0;
        let metrics: Vec<&String> = stage.metrics.iter().take_while(|m| fitting(&mut used, m)).collect();
        let mut header = vec!["step", "after"];
        header.extend(metrics.iter().map(|m| m.as_str()));
        header.push("checkpoint");
        let row = |s: &&Step| {
            let mut cells: Vec<Cell> =
                vec![Cell::new(s.step.to_string(), Look::Bold), Cell::new(text::seconds(s.seconds), Look::Dim)];
            for (i, name) in metrics.iter().enumerate() {
                let is_best = stage.signals.metrics.get(*name).is_some_and(|series| series.best_step == Some(s.step));
                let shown = value(&s.values[i]);
                cells.push(if is_best { Cell::new(format!("{shown} *"), Look::Good) } else { shown.into() });
            }
            cells.push(match &s.checkpoint {
                Some(c) => format!("{} {}", c.content.digest.short(), text::bytes(c.content.size)).into(),
                None => Cell::default(),
            });
            cells
        };
        out.push_str(&table(&header, &shown.iter().map(row).collect::<Vec<_>>(), "  ", style));
        let mut said = Vec::new();
        if metrics.iter().any(|m| stage.signals.metrics.get(*m).is_some_and(|s| s.best_step.is_some())) {
            said.push("* the best of its metric".to_string());
        } else if !metrics.is_empty() && !metrics.iter().any(|m| better.iter().any(|(n, _)| n == *m)) {
            said.push("no best: [metric.NAME] better says which direction is better".to_string());
        }
        if shown.len() < stage.steps.len() {
            said.push(format!("{} of {} steps shown: --all shows all", shown.len(), text::count(total)));
        }
        if metrics.len() < stage.metrics.len() {
            let rest: Vec<String> = stage.metrics[metrics.len()..].to_vec();
            said.push(format!("no room for {}", text::some(&rest, 6)));
        }
        for (count, words) in [
            (stage.signals.out_of_order, "came after a later step"),
            (stage.signals.repeated, "told a step a second time"),
            (stage.signals.malformed, "could not be understood"),
        ] {
            if count > 0 {
                said.push(format!("{} {words}", text::counted(count, "line")));
            }
        }
        for (line, what) in stage.signals.first_malformed.iter().take(3) {
            said.push(format!("line {line}: {what}"));
        }
        said.iter().for_each(|s| out.push_str(&format!("  {}\n", style.dim(s))));
        if let Some(last) = stage.steps.iter().rev().find(|s| s.checkpoint.is_some()) {
            let suffix = run.rsplit('-').next().unwrap_or_default();
            let stage = if stages.len() > 1 { format!(":{}", stage.stage) } else { String::new() };
            out.push_str(&format!("\n  {} textum run --from {suffix}{stage}#{}\n", style.accent("next:"), last.step));
        }
        out.push('\n');
    }
    out.trim_end().to_string() + "\n"
}

fn cells(stages: &[StageSteps]) -> (Vec<String>, Vec<Vec<Cell>>) {
    let metrics: BTreeSet<&String> = stages.iter().flat_map(|s| &s.metrics).collect();
    let mut header: Vec<String> = ["stage", "step", "seconds"].map(String::from).to_vec();
    header.extend(metrics.iter().map(|m| (*m).clone()));
    header.push("checkpoint".into());
    let mut rows = Vec::new();
    for stage in stages {
        for step in &stage.steps {
            let mut row: Vec<Cell> =
                vec![stage.stage.as_str().into(), step.step.to_string().into(), format!("{:.3}", step.seconds).into()];
            for name in &metrics {
                let found = stage.metrics.iter().position(|m| m == *name).and_then(|i| step.values[i]);
                row.push(found.map_or(String::new(), |m| m.to_string()).into());
            }
            row.push(step.checkpoint.as_ref().map_or(String::new(), |c| c.content.digest.to_string()).into());
            rows.push(row);
        }
    }
    (header, rows)
}

/// As comma-separated values.
pub fn csv(stages: &[StageSteps]) -> String {
    let (header, rows) = cells(stages);
    super::table::csv(&header.iter().map(String::as_str).collect::<Vec<_>>(), &rows)
}

/// As a Markdown table.
pub fn markdown(stages: &[StageSteps]) -> String {
    let (header, rows) = cells(stages);
    super::table::markdown(&header.iter().map(String::as_str).collect::<Vec<_>>(), &rows)
}

/// As JSON.
pub fn json(run: &str, stages: &[StageSteps]) -> Value {
    let stages: Vec<Value> = stages
        .iter()
        .map(|stage| {
            let steps: Vec<Value> = stage
                .steps
                .iter()
                .map(|s| {
                    let values: BTreeMap<&String, Metric> =
                        stage.metrics.iter().zip(&s.values).filter_map(|(n, v)| Some((n, (*v)?))).collect();
                    let checkpoint = s.checkpoint.as_ref().map(|c| {
                        json!({"digest": c.content.digest, "size": c.content.size, "path": c.path, "made": c.made, "receipt": c.receipt})
                    });
                    json!({"step": s.step, "seconds": s.seconds, "metrics": values, "checkpoint": checkpoint})
                })
                .collect();
            let from = stage.from.as_ref().map(|(run, step)| json!({"run": run, "step": step}));
            json!({"stage": stage.stage, "from": from, "signals": stage.signals, "steps": steps})
        })
        .collect();
    json!({"run": run, "stages": stages})
}
