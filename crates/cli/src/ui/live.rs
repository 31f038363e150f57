//! Events as a live view: a line a stage at work, which goes when the stage is settled.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};
use std::time::Duration;

use indicatif::{MultiProgress, ProgressBar, ProgressStyle};
use textum_core::event::{Event, EventSink};

use super::Ui;
use crate::render;

/// Keeps a line for each stage at work.
pub struct Live<'u> {
    ui: &'u Ui,
    all: MultiProgress,
    at_work: Mutex<HashMap<String, ProgressBar>>,
}

impl<'u> Live<'u> {
    /// A live view for this person.
    pub fn new(ui: &'u Ui) -> Live<'u> {
        Live { ui, all: MultiProgress::new(), at_work: Mutex::default() }
    }

    fn begin(&self, stage: &str, before: Option<f64>) {
        let bar = self.all.add(ProgressBar::new_spinner());
        let template = if self.ui.err_style.on() {
            "  {spinner:.cyan} {prefix}  {elapsed} {msg:.dim}"
        } else {
            "  {spinner} {prefix}  {elapsed} {msg}"
        };
        if let Ok(style) = ProgressStyle::with_template(template) {
            bar.set_style(style.tick_chars("⠋⠙⠹⠸⠼⠴⠦⠧⠇⠏ "));
        }
        bar.set_prefix(stage.to_string());
        if let Some(seconds) = before {
            bar.set_message(format!("({} the last time)", render::text::seconds(seconds)));
        }
        bar.enable_steady_tick(Duration::from_millis(120));
        self.at_work.lock().unwrap_or_else(PoisonError::into_inner).insert(stage.to_string(), bar);
    }
}

impl EventSink for Live<'_> {
    fn event(&self, event: Event) {
        match &event {
            Event::StageStarted { stage, before } => return self.begin(stage, *before),
            Event::StageSettled { stage, .. } | Event::Rebuilt { stage, .. } => {
                if let Some(bar) = self.at_work.lock().unwrap_or_else(PoisonError::into_inner).remove(stage) {
                    bar.finish_and_clear();
                }
            }
            _ => {}
        }
        if let Some(line) = render::events::line(&event, &self.ui.err_style) {
            let _ = self.all.println(line);
        }
    }
}
