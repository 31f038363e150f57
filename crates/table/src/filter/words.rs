//! A condition's text into words, each with its place.

use std::ops::Range;

use super::{FilterError, Operator};

/// A word of a condition.
#[derive(Clone, Debug, PartialEq)]
pub enum Word {
    /// A name or a keyword.
    Name(String),
    /// A name in backticks, never a keyword.
    Quoted(String),
    /// A text in quotes.
    Text(String),
    /// A number, as it was written.
    Number(String, f64),
    /// A comparison.
    Operator(Operator),
    /// `(`
    Open,
    /// `)`
    Close,
    /// `,`
    Comma,
}

fn wrong(at: Range<usize>, what: impl Into<String>, help: impl Into<String>) -> FilterError {
    FilterError { at, what: what.into(), help: help.into() }
}

/// The words of a text.
pub fn words(text: &str) -> Result<Vec<(Word, Range<usize>)>, FilterError> {
    let mut found = Vec::new();
    let mut at = 0;
    while let Some(c) = text[at..].chars().next() {
        let from = at;
        at += c.len_utf8();
        let word = match c {
            c if c.is_whitespace() => continue,
            '(' => Word::Open,
            ')' => Word::Close,
            ',' => Word::Comma,
            '\'' | '"' | '`' => {
                let (inside, end) = quoted(text, from, c)?;
                at = end;
                if c == '`' { Word::Quoted(inside) } else { Word::Text(inside) }
            }
            '=' | '!' | '<' | '>' => {
                let signs = text[from..].len() - text[from..].trim_start_matches(['=', '!', '<', '>']).len();
                at = from + signs;
                Word::Operator(operator(&text[from..at], from..at)?)
            }
            c if c.is_ascii_digit() || matches!(c, '-' | '+' | '.') => {
                let rest = &text[from + 1..];
                let more = rest.len() - rest.trim_start_matches(|c: char| c.is_ascii_alphanumeric() || c == '.').len();
                at = from + 1 + more;
                // The sign of an exponent belongs to the number.
                if text[from..at].ends_with(['e', 'E']) && text[at..].starts_with(['-', '+']) {
                    let digits = text[at + 1..].len() - text[at + 1..].trim_start_matches(|c: char| c.is_ascii_digit()).len();
                    at += 1 + digits;
                }
                let written = &text[from..at];
                let help = "write numbers as in 80 or 0.5; a text goes in quotes";
                let number = written.parse().map_err(|_| wrong(from..at, format!("`{written}` is no number"), help))?;
                Word::Number(written.to_string(), number)
            }
            c if c.is_alphabetic() || c == '_' => {
                let rest = &text[from..];
                let length =
                    rest.len() - rest.trim_start_matches(|c: char| c.is_alphanumeric() || matches!(c, '_' | '.' | '@')).len();
                at = from + length;
                Word::Name(text[from..at].to_string())
            }
            other => {
                let help = "names of columns with other characters go in `backticks`, texts in quotes";
                return Err(wrong(from..at, format!("`{other}` has no meaning here"), help));
            }
        };
        found.push((word, from..at));
    }
    Ok(found)
}

fn operator(signs: &str, at: Range<usize>) -> Result<Operator, FilterError> {
    Ok(match signs {
        "=" => Operator::Equal,
        "!=" => Operator::Unequal,
        "<" => Operator::Less,
        "<=" => Operator::AtMost,
        ">" => Operator::More,
        ">=" => Operator::AtLeast,
        other => {
            let help = if other == "==" { "write `=`" } else { "use =, !=, <, <=, > or >=" };
            return Err(wrong(at, format!("`{other}` is no comparison"), help));
        }
    })
}

fn quoted(text: &str, from: usize, quote: char) -> Result<(String, usize), FilterError> {
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
