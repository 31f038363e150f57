//! The manifest's text as a tree in which every key and value knows its place.

use std::borrow::Cow;
use std::ops::Range;

use toml::Spanned;
use toml::de::{DeTable, DeValue};

use super::{Diagnostic, declared_name};

/// A step on the way to a value.
#[derive(Clone, Copy, Debug)]
pub enum Step<'a> {
    /// A key of a table.
    Key(&'a str),
    /// A position in an array.
    At(usize),
}

/// A parsed text.
pub struct Document<'t> {
    /// The root table.
    pub root: Spanned<DeTable<'t>>,
}

impl<'t> Document<'t> {
    /// Parses the text; every syntax error is a mistake with its place.
    pub fn parse(text: &'t str) -> Result<Document<'t>, Vec<Diagnostic>> {
        let (root, errors) = DeTable::parse_recoverable(text);
        if errors.is_empty() {
            return Ok(Document { root });
        }
        Err(errors
            .iter()
            .map(|error| {
                let span = error.span().unwrap_or(0..0);
                Diagnostic::new(
                    span.start.min(text.len())..span.end.min(text.len()),
                    "this is not TOML",
                    error.message().to_string(),
                    "see https://toml.io for the syntax; strings stand in double quotes, lists in [ ]",
                )
            })
            .collect())
    }

    /// The place of a value (for a table: of its key), or of the nearest thing above it.
    pub fn place(&self, steps: &[Step<'_>]) -> Range<usize> {
        // One of `each` stands where its stage does.
        let of_stage = matches!(steps, [Step::Key("stage"), ..]);
        let mut span = self.root.span();
        let mut table: Option<&DeTable<'t>> = Some(self.root.get_ref());
        let mut array: Option<&toml::de::DeArray<'t>> = None;
        for (at, step) in steps.iter().enumerate() {
            let step = &match step {
                Step::Key(name) if of_stage && at == 1 => Step::Key(declared_name(name)),
                other => *other,
            };
            let value: Option<&Spanned<DeValue<'t>>> = match (step, table, array) {
                (Step::Key(key), Some(t), _) => t.get_key_value(&Spanned::new(0..0, Cow::Borrowed(*key))).map(|(k, v)| {
                    span = if v.get_ref().is_table() { k.span() } else { v.span() };
                    v
                }),
                (Step::At(index), _, Some(a)) => {
                    let found: Option<&Spanned<DeValue<'t>>> = a.get(*index);
                    if let Some(v) = found {
                        span = v.span();
                    }
                    found
                }
                _ => None,
            };
            let Some(value) = value else { return span };
            table = value.get_ref().as_table();
            array = value.get_ref().as_array();
        }
        span
    }

    /// The place of a key itself.
    pub fn key_place(&self, steps: &[&str]) -> Range<usize> {
        let mut table = self.root.get_ref();
        let mut span = self.root.span();
        for (at, key) in steps.iter().enumerate() {
            let key = if at == 1 && steps[0] == "stage" { declared_name(key) } else { key };
            let Some((k, v)) = table.get_key_value(&Spanned::new(0..0, Cow::Borrowed(key))) else { return span };
            span = k.span();
            match v.get_ref().as_table() {
                Some(below) => table = below,
                None => return span,
            }
        }
        span
    }
}
