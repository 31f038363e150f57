//! What can be wrong with a manifest, with its place in the text and the mend.

use std::ops::Range;
use std::path::PathBuf;

/// One mistake.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Diagnostic {
    /// What is wrong, in a sentence without the place.
    pub title: String,
    /// The offending text, as a range of bytes.
    pub span: Range<usize>,
    /// What is said beside the underlined text.
    pub label: String,
    /// A second place that belongs to it.
    pub also: Option<(Range<usize>, String)>,
    /// What to write instead.
    pub help: String,
}

/// A manifest with mistakes in it: all that could be found at once.
#[derive(Debug, thiserror::Error)]
#[error("{} has {} mistake{}", path.display(), mistakes.len(), if mistakes.len() == 1 { "" } else { "s" })]
pub struct ManifestError {
    /// The manifest's path.
    pub path: PathBuf,
    /// Its text.
    pub text: String,
    /// The mistakes, in the order of their places.
    pub mistakes: Vec<Diagnostic>,
}

impl Diagnostic {
    /// A mistake at a place.
    pub fn new(span: Range<usize>, title: impl Into<String>, label: impl Into<String>, help: impl Into<String>) -> Diagnostic {
        Diagnostic { title: title.into(), span, label: label.into(), also: None, help: help.into() }
    }

    /// Adds a second place.
    pub fn with(mut self, span: Range<usize>, label: impl Into<String>) -> Diagnostic {
        self.also = Some((span, label.into()));
        self
    }
}
