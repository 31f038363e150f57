//! What a cell is, and what a column of cells therefore is.

use serde::{Deserialize, Serialize};

/// What a cell is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// Nothing: empty, or a word for "not there".
    Missing,
    /// A whole number.
    Integer,
    /// A number with a point or an exponent.
    Number,
    /// `true` or `false`.
    Boolean,
    /// A date, `YYYY-MM-DD`, with or without a time.
    Date,
    /// Anything else.
    Text,
}

/// Words for "not there" that tables are written with, beside nothing at all.
const MISSING: [&[u8]; 7] = [b"NA", b"N/A", b"NaN", b"nan", b"null", b"NULL", b"None"];

/// Whether a cell says "not there".
pub fn is_missing(cell: &[u8]) -> bool {
    cell.is_empty() || (cell.len() <= 4 && MISSING.contains(&cell))
}

/// What a cell is.
pub fn kind_of(cell: &[u8]) -> Kind {
    let Some(&first) = cell.first() else { return Kind::Missing };
    if first.is_ascii_digit() || matches!(first, b'-' | b'+' | b'.') {
        let kind = number_kind(cell);
        return if kind == Kind::Text && is_date(cell) { Kind::Date } else { kind };
    }
    match cell {
        b"true" | b"false" | b"True" | b"False" | b"TRUE" | b"FALSE" => Kind::Boolean,
        b"inf" | b"Infinity" => Kind::Number,
        _ if is_missing(cell) => Kind::Missing,
        _ => Kind::Text,
    }
}

fn number_kind(cell: &[u8]) -> Kind {
    let mut rest = match cell[0] {
        b'-' | b'+' => &cell[1..],
        _ => cell,
    };
    let digits = |rest: &mut &[u8]| {
        let count = rest.iter().take_while(|b| b.is_ascii_digit()).count();
        *rest = &rest[count..];
        count
    };
    let before = digits(&mut rest);
    if rest.is_empty() {
        return if before > 0 { Kind::Integer } else { Kind::Text };
    }
    let mut after = 0;
    if rest[0] == b'.' {
        rest = &rest[1..];
        after = digits(&mut rest);
    }
    if before + after == 0 {
        return if matches!(rest, b"inf" | b"Infinity") { Kind::Number } else { Kind::Text };
    }
    if let [b'e' | b'E', exponent @ ..] = rest {
        rest = exponent.strip_prefix(b"-").or(exponent.strip_prefix(b"+")).unwrap_or(exponent);
        if digits(&mut rest) == 0 {
            return Kind::Text;
        }
    }
    if rest.is_empty() { Kind::Number } else { Kind::Text }
}

fn is_date(cell: &[u8]) -> bool {
    let digit = |at: usize| cell[at].is_ascii_digit();
    cell.len() >= 10
        && (0..4).all(digit)
        && cell[4] == b'-'
        && digit(5)
        && digit(6)
        && cell[7] == b'-'
        && digit(8)
        && digit(9)
        && (cell.len() == 10 || matches!(cell[10], b'T' | b' '))
}

/// A cell's number, if it is one.
pub fn number(cell: &[u8]) -> Option<f64> {
    let first = *cell.first()?;
    if !(first.is_ascii_digit() || matches!(first, b'-' | b'+' | b'.' | b'i' | b'I')) {
        return None;
    }
    std::str::from_utf8(cell).ok()?.parse().ok()
}

/// How many cells of each kind a column has.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct KindCounts {
    /// Cells that are missing.
    pub missing: u64,
    /// Whole numbers.
    pub integer: u64,
    /// Numbers with a point or exponent.
    pub number: u64,
    /// Booleans.
    pub boolean: u64,
    /// Dates.
    pub date: u64,
    /// Anything else.
    pub text: u64,
}

impl KindCounts {
    /// Counts a cell.
    pub fn add(&mut self, kind: Kind) {
        match kind {
            Kind::Missing => self.missing += 1,
            Kind::Integer => self.integer += 1,
            Kind::Number => self.number += 1,
            Kind::Boolean => self.boolean += 1,
            Kind::Date => self.date += 1,
            Kind::Text => self.text += 1,
        }
    }

    /// Cells that are not missing.
    pub fn present(&self) -> u64 {
        self.integer + self.number + self.boolean + self.date + self.text
    }

    /// The column's type in a word: `integer`, `number`, `boolean`, `date`, `text`, `mixed` where numbers
    /// stand among other things, `empty`.
    pub fn name(&self) -> &'static str {
        let numbers = self.integer + self.number;
        match self.present() {
            0 => "empty",
            n if n == self.integer => "integer",
            n if n == numbers => "number",
            n if n == self.boolean => "boolean",
            n if n == self.date => "date",
            _ if numbers > 0 => "mixed",
            _ => "text",
        }
    }

    /// Whether its cells are numbers, or missing.
    pub fn is_numeric(&self) -> bool {
        matches!(self.name(), "integer" | "number")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cells_are_what_people_take_them_for() {
        let cases: [(&str, Kind); 16] = [
            ("", Kind::Missing),
            ("NA", Kind::Missing),
            ("17", Kind::Integer),
            ("-0", Kind::Integer),
            ("1.5", Kind::Number),
            (".5", Kind::Number),
            ("1e-9", Kind::Number),
            ("-inf", Kind::Number),
            ("true", Kind::Boolean),
            ("2026-03-01", Kind::Date),
            ("2026-03-01T06:00", Kind::Date),
            ("1.2.3", Kind::Text),
            ("1e", Kind::Text),
            ("-", Kind::Text),
            ("12a", Kind::Text),
            ("2026-03-0", Kind::Text),
        ];
        for (cell, kind) in cases {
            assert_eq!(kind_of(cell.as_bytes()), kind, "{cell}");
            let is_number = matches!(kind, Kind::Integer | Kind::Number);
            assert_eq!(number(cell.as_bytes()).is_some(), is_number, "{cell} as a number");
        }
    }
}
