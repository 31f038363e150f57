//! One accent, green and red for better and worse; every colour is doubled by a sign or a word.

use super::escape::colour;

/// How text is coloured; off: not at all.
#[derive(Clone, Copy, Debug)]
pub struct Style {
    on: bool,
}

impl Style {
    /// A style that colours or does not.
    pub fn new(on: bool) -> Style {
        Style { on }
    }

    /// Whether it colours.
    pub fn on(&self) -> bool {
        self.on
    }

    fn wrap(&self, code: &str, text: &str) -> String {
        if self.on && !text.is_empty() { format!("{}{text}{}", colour(code), colour("0")) } else { text.to_string() }
    }

    /// What matters most.
    pub fn bold(&self, text: &str) -> String {
        self.wrap("1", text)
    }

    /// What matters least.
    pub fn dim(&self, text: &str) -> String {
        self.wrap("2", text)
    }

    /// The one accent.
    pub fn accent(&self, text: &str) -> String {
        self.wrap("36", text)
    }

    /// Better, added.
    pub fn good(&self, text: &str) -> String {
        self.wrap("32", text)
    }

    /// Worse, removed, wrong.
    pub fn bad(&self, text: &str) -> String {
        self.wrap("31", text)
    }
}
