//! Events as a live view: a line a stage that was begun. It goes when the command has its result, which
//! says all of it again.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use indicatif::{MultiProgress, ProgressBar, ProgressStyle};
use textum_core::event::{Event, EventSink};
use textum_core::record::receipt::Metric;

use super::{Ui, escape};
use crate::render;

/// Keeps a line for each stage.
pub struct Live<'u> {
    ui: &'u Ui,
    all: MultiProgress,
    bars: Mutex<HashMap<String, ProgressBar>>,
}

/// Lines of stages that have ended are kept up to so many; then the oldest goes.
const MOST_ENDED: usize = 12;

impl<'u> Live<'u> {
    /// A live view for this person.
    pub fn new(ui: &'u Ui) -> Live<'u> {
        Live { ui, all: MultiProgress::new(), bars: Mutex::default() }
    }

    fn begin(&self, stage: &str, before: Option<f64>) {
        let bar = self.all.add(ProgressBar::new_spinner());
        let colored = self.ui.err_style.on();
        let template =
            if colored { "  {spinner:.cyan} {prefix}  {elapsed} {msg:.dim}" } else { "  {spinner} {prefix}  {elapsed} {msg}" };
        if let Ok(style) = ProgressStyle::with_template(template) {
            bar.set_style(style.tick_chars("⠋⠙⠹⠸⠼⠴⠦⠧⠇⠏ "));
        }
        bar.set_prefix(stage.to_string());
        if let Some(seconds) = before {
            bar.set_message(format!("({} the last time)", render::text::seconds(seconds)));
        }
        bar.enable_steady_tick(Duration::from_millis(120));
        self.bars.lock().unwrap_or_else(PoisonError::into_inner).insert(stage.to_string(), bar);
    }

    /// What a stage last told stands behind its name.
    fn told(&self, stage: &str, step: Option<u64>, progress: Option<f64>, metrics: &[(String, Metric)]) {
        let bars = self.bars.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(bar) = bars.get(stage) else { return };
        let done = progress.map(|p| format!("{:.0} %", p * 100.0));
        let step = step.map(|s| format!("step {s}"));
        let values = metrics.iter().take(4).map(|(n, v)| format!("{n} {}", render::text::metric(v)));
        let parts: Vec<String> = done.into_iter().chain(step).chain(values).collect();
        bar.set_message(parts.join("  "));
    }

    /// A stage has ended: its line says how. A stage that was never begun needs no line.
    fn end(&self, stage: &str, line: &str) {
        let mut bars = self.bars.lock().unwrap_or_else(PoisonError::into_inner);
        let Some(bar) = bars.get(stage) else { return };
        if let Ok(style) = ProgressStyle::with_template("{msg}") {
            bar.set_style(style);
        }
        bar.finish_with_message(line.to_string());
        if bars.values().filter(|b| b.is_finished()).count() > MOST_ENDED
            && let Some(oldest) = bars.iter().find(|(name, b)| b.is_finished() && *name != stage).map(|(name, _)| name.clone())
            && let Some(bar) = bars.remove(&oldest)
        {
            bar.finish_and_clear();
        }
    }
}

impl EventSink for Live<'_> {
    fn event(&self, event: Event) {
        let event = escape::event(&event);
        let line = render::events::line(&event, &self.ui.err_style).map(|line| escape::text(&line));
        match (&event, line) {
            (Event::StageStarted { stage, before }, _) => self.begin(stage, *before),
            (Event::Told { stage, step, progress, metrics }, _) => self.told(stage, *step, *progress, metrics),
            (Event::StageSettled { stage, .. } | Event::Rebuilt { stage, .. }, Some(line)) => self.end(stage, &line),
            (_, Some(line)) => drop(self.all.println(line)),
            _ => {}
        }
    }
}

impl Drop for Live<'_> {
    fn drop(&mut self) {
        let _ = self.all.clear();
    }
}
