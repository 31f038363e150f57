//! Events as lines, where there is no terminal.

use textum_core::event::{Event, EventSink};

use super::{Ui, escape};
use crate::render;

/// Prints a line an event.
pub struct Plain<'u> {
    ui: &'u Ui,
}

impl<'u> Plain<'u> {
    /// Lines for this person.
    pub fn new(ui: &'u Ui) -> Plain<'u> {
        Plain { ui }
    }
}

impl EventSink for Plain<'_> {
    fn event(&self, event: Event) {
        if let Some(line) = render::events::line(&escape::event(&event), &self.ui.err_style) {
            self.ui.say(&line);
        }
    }
}
