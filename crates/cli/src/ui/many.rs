//! Files moved aside are told one by one as long as they are few, and summed up when they are many; that stages are not
//! observed is told once for each reason, and what cannot be checked once for each kind.

use std::collections::BTreeSet;
use std::path::PathBuf;
use std::sync::{Mutex, PoisonError};

use textum_core::event::{Event, EventSink};
use textum_core::record::receipt::Unchecked;

use super::Ui;

/// So many are told one by one.
const FEW: usize = 6;

/// Passes events on, but for most of many files moved aside.
pub struct SumsUp<'u> {
    ui: &'u Ui,
    to: Box<dyn EventSink + Send + 'u>,
    aside: Mutex<(usize, Option<PathBuf>)>,
    /// Why stages were not observed, as far as that was told.
    reasons: Mutex<BTreeSet<String>>,
    /// What stages had from where nothing can be checked.
    unchecked: Mutex<Vec<(String, Unchecked)>>,
}

impl<'u> SumsUp<'u> {
    /// Passes events on to another.
    pub fn new(ui: &'u Ui, to: Box<dyn EventSink + Send + 'u>) -> SumsUp<'u> {
        SumsUp { ui, to, aside: Mutex::default(), reasons: Mutex::default(), unchecked: Mutex::default() }
    }
}

impl EventSink for SumsUp<'_> {
    fn event(&self, event: Event) {
        if let Event::Aside { path, to } = &event {
            let mut aside = self.aside.lock().unwrap_or_else(PoisonError::into_inner);
            aside.0 += 1;
            // The folder of this run below `aside`: what is moved keeps its path below it.
            aside.1 = to.ancestors().nth(path.split('/').count()).map(PathBuf::from);
            if aside.0 > FEW {
                return;
            }
        }
        if let Event::Unchecked { stages } = event {
            return self.unchecked.lock().unwrap_or_else(PoisonError::into_inner).extend(stages);
        }
        if let Event::NotObserved { why, .. } = &event {
            let mut told = self.reasons.lock().unwrap_or_else(PoisonError::into_inner);
            if !told.insert(why.clone()) {
                return;
            }
        }
        self.to.event(event);
    }
}

impl Drop for SumsUp<'_> {
    fn drop(&mut self) {
        let stages = std::mem::take(self.unchecked.get_mut().unwrap_or_else(PoisonError::into_inner));
        if !stages.is_empty() {
            self.to.event(Event::Unchecked { stages });
        }
        let (count, folder) = self.aside.get_mut().unwrap_or_else(PoisonError::into_inner);
        if *count > FEW {
            let folder = folder.as_deref().map(crate::render::text::near).unwrap_or_default();
            let more = *count - FEW;
            self.ui.insist(&format!("  {} {more} more such files are now in {folder}", self.ui.err_style.accent("aside")));
        }
    }
}
