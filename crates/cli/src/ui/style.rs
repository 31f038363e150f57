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

    /// Text in the colour of a code of ECMA-48's SGR.
    pub fn wrap(&self, code: &str, text: &str) -> String {
        // A colour ends with the words: what comes after them still ends the line.
        let words = text.trim_end_matches('\n');
        if !self.on || words.trim().is_empty() {
            return text.to_string();
        }
        format!("{}{words}{}{}", colour(code), colour("0"), &text[words.len()..])
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
