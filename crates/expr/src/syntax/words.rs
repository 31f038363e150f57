//! A condition's text into words, each with its place.

use std::ops::Range;

use super::{Parsed, SyntaxError};

/// A word of a condition.
#[derive(Clone, Debug, PartialEq)]
pub enum Word {
    /// A name or a keyword.
    Name(String),
    /// A name in backticks, never a keyword.
    Quoted(String),
    /// A text in quotes.
    Text(String),
    /// A number, as it was written, without a sign.
    Number(String, f64),
    /// A comparison.
    Comparison(Comparison),
    /// One of `(`, `)`, `,`, `+`, `-`, `*`, `/` and `%`.
    Sign(char),
}

/// How two things are compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Comparison {
    /// `=`
    Equal,
    /// `!=`
    Unequal,
    /// `<`
    Less,
    /// `<=`
    AtMost,
    /// `>`
    More,
    /// `>=`
    AtLeast,
}

fn wrong(at: Range<usize>, what: impl Into<String>, help: impl Into<String>) -> SyntaxError {
    SyntaxError { at, what: what.into(), help: help.into() }
}

/// The words of a text.
pub(super) fn words(text: &str) -> Parsed<Vec<(Word, Range<usize>)>> {
    let mut found = Vec::new();
    let mut at = 0;
    while let Some(c) = text[at..].chars().next() {
        let from = at;
        let run = |fits: fn(char) -> bool| from + text[from..].find(|c| !fits(c)).unwrap_or(text.len() - from);
        at += c.len_utf8();
        let word = match c {
            c if c.is_whitespace() => continue,
            '(' | ')' | ',' | '+' | '-' | '*' | '/' | '%' => Word::Sign(c),
            '\'' | '"' | '`' => {
                let (inside, end) = quoted(text, from, c)?;
                at = end;
                if c == '`' { Word::Quoted(inside) } else { Word::Text(inside) }
            }
            '=' | '!' | '<' | '>' => {
                at = run(|c| "<>=!".contains(c));
                Word::Comparison(comparison(&text[from..at], from..at)?)
            }
            c if c.is_ascii_digit() || c == '.' => {
                at = run(|c| c.is_ascii_alphanumeric() || c == '.');
                // The sign of an exponent belongs to the number.
                if text[from..at].ends_with(['e', 'E']) && text[at..].starts_with(['-', '+']) {
                    let digits = text[at + 1..].find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len() - at - 1);
                    at += 1 + digits;
                }
                let written = &text[from..at];
                let number = written.parse::<f64>().ok().filter(|n| n.is_finite());
                let help = "write numbers as in 80 or 0.5; a text goes in quotes";
                Word::Number(written.to_string(), number.ok_or_else(|| wrong(from..at, format!("`{written}` is no number"), help))?)
            }
            c if c.is_alphabetic() || c == '_' => {
                at = run(|c| c.is_alphanumeric() || matches!(c, '_' | '.' | '@'));
                Word::Name(text[from..at].to_string())
            }
            other => {
                let help = "names with other characters go in `backticks`, texts in quotes";
                return Err(wrong(from..at, format!("`{other}` has no meaning here"), help));
            }
        };
        found.push((word, from..at));
    }
    Ok(found)
}

fn comparison(signs: &str, at: Range<usize>) -> Parsed<Comparison> {
    Ok(match signs {
        "=" => Comparison::Equal,
        "!=" => Comparison::Unequal,
        "<" => Comparison::Less,
        "<=" => Comparison::AtMost,
        ">" => Comparison::More,
        ">=" => Comparison::AtLeast,
        other => {
            let help = if other == "==" { "write `=`" } else { "use <, <=, >, >=, = or !=" };
            return Err(wrong(at, format!("`{other}` is no comparison"), help));
        }
    })
}

fn quoted(text: &str, from: usize, quote: char) -> Parsed<(String, usize)> {
    let mut inside = String::new();
    let mut chars = text[from + 1..].char_indices();
    while let Some((at, c)) = chars.next() {
        match c {
            c if c == quote => return Ok((inside, from + 1 + at + 1)),
            '\\' if quote != '`' => inside.extend(chars.next().map(|(_, c)| c)),
            c => inside.push(c),
        }
    }
    Err(wrong(from..text.len(), "this quotation has no end", format!("end it with {quote}")))
}
