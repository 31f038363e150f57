//! Conditions on rows, such as `loom = "L17" and humidity > 80`.
//!
//! How tests are joined stands in [`textum_expr::syntax`]; rules on metrics are joined in the same way. A test is
//!
//! ```text
//! test      := operand ("=" | "!=" | "<" | "<=" | ">" | ">=" | "contains") operand
//!            | operand "is" "not"? ("missing" | "number" | "integer" | "date" | "boolean" | "text")
//!            | operand "not"? "in" "(" operand ("," operand)* ")"
//!            | operand "not"? "in" operand ("," operand)*
//!            | operand "not"? "between" operand "and" operand
//! operand   := column | ("+" | "-")? number | text | "true" | "false"
//! ```
//!
//! A missing cell meets no test but `is missing`; whoever asks for three answers is told that it is not known. Two numbers are compared as numbers, all else by bytes,
//! which puts dates written as `2026-03-01` in their order.

mod parse;

use std::ops::Range;

pub use parse::{parse, test};
pub use textum_expr::syntax::SyntaxError as FilterError;
use textum_expr::syntax::{Comparison, Logic};

use super::Row;
use super::decimal::compare_numbers;
use super::kind::{Kind, is_missing, kind_of, number};

/// How two operands are compared.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Operator {
    /// By their order.
    Of(Comparison),
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
pub struct Condition<C>(pub Logic<Test<C>>);

/// One test of a condition.
#[derive(Clone, Debug, PartialEq)]
pub enum Test<C> {
    /// Two operands compared.
    Compare(Operand<C>, Operator, Operand<C>),
    /// The cell is missing; or, where the flag is set, it is not.
    Missing(Operand<C>, bool),
    /// The first is one of the others; or, where the flag is set, none.
    OneOf(Operand<C>, Vec<Operand<C>>, bool),
    /// The first is neither less than the second nor more than the third; or, where the flag is set, it is.
    Between(Operand<C>, [Operand<C>; 2], bool),
    /// The cell is of this kind (a whole number is a number too); or, where the flag is set, it is not.
    Kind(Operand<C>, Kind, bool),
}

/// A column as it is named in a condition, and where.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Named {
    /// The name.
    pub name: String,
    /// Where it stands in the text.
    pub at: Range<usize>,
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

/// What an operand becomes, given whether it is the one that is tested.
type Change<'f, C, D> = dyn FnMut(&Operand<C>, bool) -> Result<Operand<D>, FilterError> + 'f;

impl<C> Test<C> {
    /// Its operands, the one that is tested first.
    fn operands(&self) -> Vec<&Operand<C>> {
        match self {
            Test::Compare(a, _, b) => vec![a, b],
            Test::Missing(operand, _) => vec![operand],
            Test::OneOf(operand, values, _) => std::iter::once(operand).chain(values).collect(),
            Test::Between(operand, [low, high], _) => vec![operand, low, high],
            Test::Kind(operand, ..) => vec![operand],
        }
    }

    /// The same with each operand changed, given whether it is the one that is tested.
    fn map<D>(&self, change: &mut Change<'_, C, D>) -> Result<Test<D>, FilterError> {
        Ok(match self {
            Test::Compare(a, operator, b) => Test::Compare(change(a, true)?, *operator, change(b, false)?),
            Test::Missing(operand, negated) => Test::Missing(change(operand, true)?, *negated),
            Test::OneOf(operand, values, negated) => {
                let first = change(operand, true)?;
                Test::OneOf(first, values.iter().map(|v| change(v, false)).collect::<Result<_, _>>()?, *negated)
            }
            Test::Between(operand, [low, high], negated) => {
                Test::Between(change(operand, true)?, [change(low, false)?, change(high, false)?], *negated)
            }
            Test::Kind(operand, kind, negated) => Test::Kind(change(operand, true)?, *kind, *negated),
        })
    }
}

impl Condition<Named> {
    /// The same with bare words on the right of a test taken for texts where they are no columns.
    pub fn with_words_as_texts(&self, is_column: &dyn Fn(&str) -> bool) -> Condition<Named> {
        let mut change =
            |operand: &Operand<Named>, first: bool| Ok(if first { operand.clone() } else { operand.as_text(is_column) });
        self.0.map(&mut |test| test.map(&mut change)).map_or_else(|_: FilterError| self.clone(), Condition)
    }

    /// The columns that it names, each once, with the first place.
    pub fn names(&self, out: &mut Vec<Named>) {
        for operand in self.0.tests().into_iter().flat_map(Test::operands) {
            if let Operand::Column(named) = operand
                && !out.iter().any(|o| o.name == named.name)
            {
                out.push(named.clone());
            }
        }
    }

    /// The condition for a table with these columns.
    pub fn for_columns(&self, columns: &[String]) -> Result<Condition<usize>, FilterError> {
        let find = |named: &Named| {
            columns.iter().position(|c| *c == named.name).ok_or_else(|| {
                let near = textum_base::nearest(&named.name, columns.iter().map(String::as_str));
                let help = match near {
                    Some(near) => format!("did you mean `{near}`?"),
                    None => format!("the columns are {}; a text goes in quotes", columns.join(", ")),
                };
                FilterError { at: named.at.clone(), what: format!("there is no column `{}`", named.name), help }
            })
        };
        let mut place = |operand: &Operand<Named>, _| {
            Ok(match operand {
                Operand::Column(named) => Operand::Column(find(named)?),
                Operand::Value(bytes, number) => Operand::Value(bytes.clone(), *number),
            })
        };
        self.0.map(&mut |test| test.map(&mut place)).map(Condition)
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
    let Operator::Of(how) = operator else {
        return memchr::memmem::find(a.bytes(row), b.bytes(row)).is_some();
    };
    let order = match (a.number(row), b.number(row)) {
        (Some(_), Some(_)) => compare_numbers(a.bytes(row), b.bytes(row)),
        // A number is neither before nor after a word, but `"24"` in quotes is the cell 24.
        (Some(_), None) | (None, Some(_)) => (a.bytes(row) == b.bytes(row)).then_some(Equal),
        (None, None) => Some(a.bytes(row).cmp(b.bytes(row))),
    };
    match how {
        Comparison::Equal => order == Some(Equal),
        Comparison::Unequal => order != Some(Equal),
        Comparison::Less => order == Some(Less),
        Comparison::AtMost => matches!(order, Some(Less | Equal)),
        Comparison::More => order == Some(Greater),
        Comparison::AtLeast => matches!(order, Some(Greater | Equal)),
    }
}

impl Test<usize> {
    fn holds(&self, row: &Row) -> bool {
        match self {
            Test::Compare(a, operator, b) => compare(a, *operator, b, row),
            Test::Missing(operand, negated) => operand.is_missing(row) != *negated,
            Test::OneOf(operand, values, negated) => {
                values.iter().any(|v| compare(operand, Operator::Of(Comparison::Equal), v, row)) != *negated
            }
            Test::Between(operand, ends, negated) => !self.is_unknown(row) && between(operand, ends, row) != *negated,
            Test::Kind(operand, kind, negated) => !self.is_unknown(row) && is_of(operand.bytes(row), *kind) != *negated,
        }
    }

    /// Whether a cell that it needs is missing.
    fn is_unknown(&self, row: &Row) -> bool {
        match self {
            Test::Missing(..) => false,
            // One that equals is enough, whatever others there are.
            Test::OneOf(operand, values, _) => {
                operand.is_missing(row) || (!self.any(operand, values, row) && values.iter().any(|v| v.is_missing(row)))
            }
            _ => self.operands().iter().any(|operand| operand.is_missing(row)),
        }
    }

    fn any(&self, operand: &Operand<usize>, values: &[Operand<usize>], row: &Row) -> bool {
        values.iter().any(|v| compare(operand, Operator::Of(Comparison::Equal), v, row))
    }
}

fn between(operand: &Operand<usize>, [low, high]: &[Operand<usize>; 2], row: &Row) -> bool {
    compare(operand, Operator::Of(Comparison::AtLeast), low, row) && compare(operand, Operator::Of(Comparison::AtMost), high, row)
}

/// Whether a cell that is there is of a kind. What is no other kind is a text; all that is there can be one.
fn is_of(cell: &[u8], kind: Kind) -> bool {
    match kind {
        Kind::Text => true,
        Kind::Number => matches!(kind_of(cell), Kind::Number | Kind::Integer),
        other => kind_of(cell) == other,
    }
}

impl Condition<usize> {
    /// Whether a row meets it; `None` where that cannot be told since a cell is missing (Kleene's three values).
    pub fn judge(&self, row: &Row) -> Option<bool> {
        fn judge(logic: &Logic<Test<usize>>, row: &Row) -> Option<bool> {
            // Of many, the one value that decides; else unknown if any is.
            let joined = |parts: &[Logic<Test<usize>>], decides: bool| {
                let mut all = Some(!decides);
                for part in parts {
                    match judge(part, row) {
                        Some(value) if value == decides => return Some(decides),
                        None => all = None,
                        Some(_) => {}
                    }
                }
                all
            };
            match logic {
                Logic::Any(parts) => joined(parts, true),
                Logic::All(parts) => joined(parts, false),
                Logic::Not(inner) => judge(inner, row).map(|value| !value),
                Logic::Test(test) => (!test.is_unknown(row)).then(|| test.holds(row)),
            }
        }
        judge(&self.0, row)
    }

    /// Whether a row meets it.
    pub fn holds(&self, row: &Row) -> bool {
        fn holds(logic: &Logic<Test<usize>>, row: &Row) -> bool {
            match logic {
                Logic::Any(parts) => parts.iter().any(|p| holds(p, row)),
                Logic::All(parts) => parts.iter().all(|p| holds(p, row)),
                Logic::Not(inner) => !holds(inner, row),
                Logic::Test(test) => test.holds(row),
            }
        }
        holds(&self.0, row)
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
