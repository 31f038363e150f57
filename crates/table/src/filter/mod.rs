//! Conditions on rows, such as `loom = "L17" and humidity > 80`.
//!
//! ```text
//! either    := both ("or" both)*
//! both      := part ("and" part)*
//! part      := "not" part | "(" either ")" | test
//! test      := operand ("=" | "!=" | "<" | "<=" | ">" | ">=" | "contains") operand
//!            | operand "is" "not"? "missing"
//!            | operand "not"? "in" "(" operand ("," operand)* ")"
//! operand   := column | number | text | "true" | "false"
//! column    := letters, digits, `_` and `.`; or anything in backticks
//! text      := in double or single quotes; a backslash takes the next character as it is
//! ```
//!
//! A missing cell meets no test but `is missing`. Two numbers are compared as numbers, all else by bytes,
//! which puts dates written as `2026-03-01` in their order.

mod parse;
mod words;

use std::ops::Range;

pub use parse::parse;

use super::Row;
use super::decimal::compare_numbers;
use super::kind::{is_missing, number};

/// A condition that does not parse, or names a column that is not there.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{what}")]
pub struct FilterError {
    /// Where in the text, in bytes.
    pub at: Range<usize>,
    /// What is wrong.
    pub what: String,
    /// What to write instead.
    pub help: String,
}

/// How two operands are compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Operator {
    /// The same.
    Equal,
    /// Another.
    Unequal,
    /// Before.
    Less,
    /// Before, or the same.
    AtMost,
    /// After.
    More,
    /// After, or the same.
    AtLeast,
    /// The second is somewhere in the first.
    Contains,
}

/// One side of a test. `C` is what a column is told by: its name, or its place.
#[derive(Clone, Debug, PartialEq)]
pub enum Operand<C> {
    /// A column's cell.
    Column(C),
    /// A given value: its bytes, and its number if it is one.
    Value(Vec<u8>, Option<f64>),
}

/// A condition.
#[derive(Clone, Debug, PartialEq)]
pub enum Condition<C> {
    /// One of them holds.
    Any(Vec<Condition<C>>),
    /// All of them hold.
    All(Vec<Condition<C>>),
    /// It does not hold.
    Not(Box<Condition<C>>),
    /// Two operands compared.
    Compare(Operand<C>, Operator, Operand<C>),
    /// The cell is missing.
    Missing(Operand<C>),
    /// The first is one of the others.
    OneOf(Operand<C>, Vec<Operand<C>>),
}

/// A column as it is named in a condition, and where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Named {
    /// The name.
    pub name: String,
    /// Where it stands in the text.
    pub at: Range<usize>,
}

impl<C> Operand<C> {
    fn place<D>(&self, find: &mut impl FnMut(&C) -> Result<D, FilterError>) -> Result<Operand<D>, FilterError> {
        Ok(match self {
            Operand::Column(column) => Operand::Column(find(column)?),
            Operand::Value(bytes, number) => Operand::Value(bytes.clone(), *number),
        })
    }
}

impl<C> Condition<C> {
    fn place<D>(&self, find: &mut impl FnMut(&C) -> Result<D, FilterError>) -> Result<Condition<D>, FilterError> {
        let mut all = |parts: &[Condition<C>]| parts.iter().map(|p| p.place(find)).collect::<Result<Vec<_>, _>>();
        Ok(match self {
            Condition::Any(parts) => Condition::Any(all(parts)?),
            Condition::All(parts) => Condition::All(all(parts)?),
            Condition::Not(inner) => Condition::Not(Box::new(inner.place(find)?)),
            Condition::Compare(a, operator, b) => Condition::Compare(a.place(find)?, *operator, b.place(find)?),
            Condition::Missing(operand) => Condition::Missing(operand.place(find)?),
            Condition::OneOf(operand, values) => {
                let values = values.iter().map(|v| v.place(find)).collect::<Result<_, _>>()?;
                Condition::OneOf(operand.place(find)?, values)
            }
        })
    }
}

impl Operand<Named> {
    fn as_text(&self, is_column: &dyn Fn(&str) -> bool) -> Operand<Named> {
        match self {
            Operand::Column(named) if !is_column(&named.name) => {
                Operand::Value(named.name.clone().into_bytes(), crate::kind::number(named.name.as_bytes()))
            }
            other => other.clone(),
        }
    }
}

impl Condition<Named> {
    /// The same with bare words on the right of a test taken for texts where they are no columns.
    pub fn with_words_as_texts(&self, is_column: &dyn Fn(&str) -> bool) -> Condition<Named> {
        let all = |parts: &[Condition<Named>]| parts.iter().map(|p| p.with_words_as_texts(is_column)).collect();
        match self {
            Condition::Any(parts) => Condition::Any(all(parts)),
            Condition::All(parts) => Condition::All(all(parts)),
            Condition::Not(inner) => Condition::Not(Box::new(inner.with_words_as_texts(is_column))),
            Condition::Compare(a, operator, b) => Condition::Compare(a.clone(), *operator, b.as_text(is_column)),
            Condition::Missing(operand) => Condition::Missing(operand.clone()),
            Condition::OneOf(operand, values) => {
                Condition::OneOf(operand.clone(), values.iter().map(|v| v.as_text(is_column)).collect())
            }
        }
    }

    /// The columns that it names, each once, with the first place.
    pub fn names(&self, out: &mut Vec<Named>) {
        let mut add = |operand: &Operand<Named>| {
            if let Operand::Column(named) = operand
                && !out.iter().any(|o| o.name == named.name)
            {
                out.push(named.clone());
            }
        };
        match self {
            Condition::Compare(a, _, b) => {
                add(a);
                add(b);
            }
            Condition::Missing(operand) => add(operand),
            Condition::OneOf(operand, values) => {
                add(operand);
                values.iter().for_each(add);
            }
            Condition::Any(parts) | Condition::All(parts) => parts.iter().for_each(|p| p.names(out)),
            Condition::Not(inner) => inner.names(out),
        }
    }

    /// The condition for a table with these columns.
    pub fn for_columns(&self, columns: &[String]) -> Result<Condition<usize>, FilterError> {
        self.place(&mut |named: &Named| {
            columns.iter().position(|c| *c == named.name).ok_or_else(|| {
                let near = textum_base::nearest(&named.name, columns.iter().map(String::as_str));
                let help = match near {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("the columns are {}; a text goes in quotes", columns.join(", ")),
                };
                FilterError { at: named.at.clone(), what: format!("there is no column `{}`", named.name), help }
            })
        })
    }
}

impl Operand<usize> {
    fn bytes<'r>(&'r self, row: &'r Row) -> &'r [u8] {
        match self {
            Operand::Column(at) => row.cell(*at),
            Operand::Value(bytes, _) => bytes,
        }
    }

    fn number(&self, row: &Row) -> Option<f64> {
        match self {
            Operand::Column(at) => number(row.cell(*at)),
            Operand::Value(_, number) => *number,
        }
    }

    fn is_missing(&self, row: &Row) -> bool {
        matches!(self, Operand::Column(at) if is_missing(row.cell(*at)))
    }
}

fn compare(a: &Operand<usize>, operator: Operator, b: &Operand<usize>, row: &Row) -> bool {
    use std::cmp::Ordering::{Equal, Greater, Less};
    if a.is_missing(row) || b.is_missing(row) {
        return false;
    }
    if operator == Operator::Contains {
        return memchr::memmem::find(a.bytes(row), b.bytes(row)).is_some();
    }
    let order = match (a.number(row), b.number(row)) {
        (Some(_), Some(_)) => compare_numbers(a.bytes(row), b.bytes(row)),
        // A number is neither before nor after a word, but `"24"` in quotes is the cell 24.
        (Some(_), None) | (None, Some(_)) => (a.bytes(row) == b.bytes(row)).then_some(Equal),
        (None, None) => Some(a.bytes(row).cmp(b.bytes(row))),
    };
    match operator {
        Operator::Equal => order == Some(Equal),
        Operator::Unequal => order != Some(Equal),
        Operator::Less => order == Some(Less),
        Operator::AtMost => matches!(order, Some(Less | Equal)),
        Operator::More => order == Some(Greater),
        Operator::AtLeast => matches!(order, Some(Greater | Equal)),
        Operator::Contains => false,
    }
}

impl Condition<usize> {
    /// Whether a row meets it.
    pub fn holds(&self, row: &Row) -> bool {
        match self {
            Condition::Any(parts) => parts.iter().any(|p| p.holds(row)),
            Condition::All(parts) => parts.iter().all(|p| p.holds(row)),
            Condition::Not(inner) => !inner.holds(row),
            Condition::Compare(a, operator, b) => compare(a, *operator, b, row),
            Condition::Missing(operand) => operand.is_missing(row),
            Condition::OneOf(operand, values) => values.iter().any(|v| compare(operand, Operator::Equal, v, row)),
        }
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn holds(condition: &str, cells: [&str; 3]) -> bool {
        let columns = ["loom", "humidity", "shed no"].map(String::from);
        let mut row = Row::default();
        cells.iter().for_each(|c| row.push(c.as_bytes()));
        parse(condition).unwrap().for_columns(&columns).unwrap().holds(&row)
    }

    #[test]
    fn conditions_mean_what_they_say() {
        let row = ["L17", "81.5", "2"];
        for yes in [
            "loom = \"L17\" and humidity > 80",
            "loom = 'L17'",
            "not loom = 'L18'",
            "humidity = 81.50",
            "`shed no` in (1, 2)",
            "loom != 'x' and (humidity < 1 or humidity >= 81.5)",
            "loom contains '17'",
            "humidity is not missing",
            "loom not in ('a', 'b')",
            "`shed no` = '2'",
            "loom = 'x' or loom = 'L17' and humidity > 80",
            "loom < 'L2'",
        ] {
            assert!(holds(yes, row), "{yes}");
        }
        for no in ["loom = 'l17'", "humidity > '9'", "loom > 5", "humidity is missing", "not (loom = 'L17')"] {
            assert!(!holds(no, row), "{no}");
        }
        assert!(holds("humidity is missing", ["L1", "", ""]) && !holds("humidity != 3", ["L1", "NA", ""]));
    }

    #[test]
    fn what_is_wrong_is_pointed_at() {
        let columns = ["loom", "humidity"].map(String::from);
        let error = |text: &str| match parse(text) {
            Err(e) => e,
            Ok(parsed) => parsed.for_columns(&columns).unwrap_err(),
        };
        for (text, at, what) in [
            ("humidity >", 10..10, "a column or a value"),
            ("humidty > 3", 0..7, "no column `humidty`"),
            ("loom == 3", 5..7, "`==`"),
            ("(loom = 3", 9..9, "`)`"),
            ("loom = 'x", 7..9, "no end"),
            ("loom = 3 humidity", 9..17, "`and`"),
            ("", 0..0, "empty"),
            ("loom = # 3", 7..8, "`#`"),
            ("loom", 4..4, "a comparison"),
            ("loom = 1.2.3", 7..12, "no number"),
        ] {
            let found = error(text);
            assert_eq!((found.at.clone(), found.what.contains(what)), (at, true), "{text}: {found:?}");
        }
        assert_eq!(error("humidty > 3").help, "did you mean `humidity`?");
    }

    proptest! {
        #[test]
        fn no_text_brings_the_parser_down(text in "[a-z0-9 ()<>=!'\"`.,\\\\é]{0,40}") {
            if let Err(e) = parse(&text) {
                prop_assert!(e.at.start <= e.at.end && e.at.end <= text.len() && text.is_char_boundary(e.at.start));
            }
        }

        #[test]
        fn nesting_has_an_end(depth in 1usize..30_000) {
            let text = format!("{}a = 1{}", "(".repeat(depth), ")".repeat(depth));
            prop_assert_eq!(parse(&text).is_ok(), depth < 200);
        }
    }
}
