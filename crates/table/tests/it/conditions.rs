//! Conditions against a second reading of what they mean: random ones are written as text, parsed, and held
//! against random values; the truth must be that of the plain evaluator below.

use proptest::prelude::*;
use textum_expr::{Known, Truth, parse};
use textum_table::{Row, filter};

#[derive(Clone, Debug)]
enum Sum {
    Number(u8),
    Name(usize),
    Minus(Box<Sum>),
    Pair(Box<Sum>, char, Box<Sum>),
}

#[derive(Clone, Debug)]
enum Rule {
    Test(Sum, &'static str, Sum),
    Finite(Sum, bool),
    Not(Box<Rule>),
    Both(Box<Rule>, Box<Rule>),
    Either(Box<Rule>, Box<Rule>),
}

const NAMES: [&str; 5] = ["loss", "`val loss`", "nan_metric", "missing", "baseline"];

fn known(name: &str) -> Known {
    match name {
        "loss" => Known::Value(0.5),
        "val loss" => Known::Value(-3.0),
        "nan_metric" => Known::Value(f64::NAN),
        "baseline" => Known::NothingToCompare,
        _ => Known::Unknown,
    }
}

fn sum() -> impl Strategy<Value = Sum> {
    let leaf = prop_oneof![any::<u8>().prop_map(Sum::Number), (0..NAMES.len()).prop_map(Sum::Name)];
    leaf.prop_recursive(3, 8, 2, |inner| {
        prop_oneof![
            inner.clone().prop_map(|s| Sum::Minus(Box::new(s))),
            (inner.clone(), prop::sample::select(vec!['+', '-', '*', '/']), inner).prop_map(|(a, sign, b)| Sum::Pair(
                Box::new(a),
                sign,
                Box::new(b)
            )),
        ]
    })
}

fn rule() -> impl Strategy<Value = Rule> {
    let leaf = prop_oneof![
        4 => (sum(), prop::sample::select(vec!["<", "<=", ">", ">=", "=", "!="]), sum()).prop_map(|(a, how, b)| Rule::Test(a, how, b)),
        1 => (sum(), any::<bool>()).prop_map(|(s, not)| Rule::Finite(s, not)),
    ];
    leaf.prop_recursive(4, 16, 2, |inner| {
        prop_oneof![
            inner.clone().prop_map(|r| Rule::Not(Box::new(r))),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| Rule::Both(Box::new(a), Box::new(b))),
            (inner.clone(), inner).prop_map(|(a, b)| Rule::Either(Box::new(a), Box::new(b))),
        ]
    })
}

impl Sum {
    fn text(&self) -> String {
        match self {
            Sum::Number(n) => n.to_string(),
            Sum::Name(n) => NAMES[*n].to_string(),
            Sum::Minus(inner) => format!("-({})", inner.text()),
            Sum::Pair(a, sign, b) => format!("({}) {sign} ({})", a.text(), b.text()),
        }
    }

    /// A value; nothing to compare with; or no such thing, which outweighs the other.
    fn value(&self) -> Result<f64, bool> {
        match self {
            Sum::Number(n) => Ok(f64::from(*n)),
            Sum::Name(n) => match known(NAMES[*n].trim_matches('`')) {
                Known::Value(v) => Ok(v),
                other => Err(other == Known::Unknown),
            },
            Sum::Minus(inner) => inner.value().map(|v| -v),
            Sum::Pair(a, sign, b) => match (a.value(), b.value()) {
                (Ok(a), Ok(b)) => Ok(match sign {
                    '+' => a + b,
                    '-' => a - b,
                    '*' => a * b,
                    _ => a / b,
                }),
                (a, b) => Err(a == Err(true) || b == Err(true)),
            },
        }
    }
}

impl Rule {
    fn text(&self) -> String {
        match self {
            Rule::Test(a, how, b) => format!("{} {how} {}", a.text(), b.text()),
            Rule::Finite(s, not) => format!("{} is {}finite", s.text(), if *not { "not " } else { "" }),
            Rule::Not(inner) => format!("not ({})", inner.text()),
            Rule::Both(a, b) => format!("({}) and ({})", a.text(), b.text()),
            Rule::Either(a, b) => format!("({}) or ({})", a.text(), b.text()),
        }
    }

    fn truth(&self) -> Truth {
        let told = |holds: bool| if holds { Truth::True } else { Truth::False };
        match self {
            Rule::Test(a, how, b) => match (a.value(), b.value()) {
                (Err(true), _) | (_, Err(true)) => Truth::Unknown,
                (Err(false), _) | (_, Err(false)) => Truth::Vacuous,
                (Ok(a), Ok(b)) if !a.is_finite() || !b.is_finite() => Truth::Unknown,
                (Ok(a), Ok(b)) => told(match *how {
                    "<" => a < b,
                    "<=" => a <= b,
                    ">" => a > b,
                    ">=" => a >= b,
                    "=" => a == b,
                    _ => a != b,
                }),
            },
            Rule::Finite(s, not) => match s.value() {
                Ok(v) => told(v.is_finite() != *not),
                Err(true) => Truth::Unknown,
                Err(false) => Truth::Vacuous,
            },
            Rule::Not(inner) => match inner.truth() {
                Truth::True => Truth::False,
                Truth::False => Truth::True,
                other => other,
            },
            Rule::Both(a, b) => match (a.truth(), b.truth()) {
                (Truth::False, _) | (_, Truth::False) => Truth::False,
                (Truth::Unknown, _) | (_, Truth::Unknown) => Truth::Unknown,
                (Truth::True, _) | (_, Truth::True) => Truth::True,
                _ => Truth::Vacuous,
            },
            Rule::Either(a, b) => match (a.truth(), b.truth()) {
                (Truth::True, _) | (_, Truth::True) => Truth::True,
                (Truth::Vacuous, _) | (_, Truth::Vacuous) => Truth::Vacuous,
                (Truth::Unknown, _) | (_, Truth::Unknown) => Truth::Unknown,
                _ => Truth::False,
            },
        }
    }
}

/// A condition on rows: a test of one of three columns, or of two.
#[derive(Clone, Debug)]
enum Where {
    Compare(usize, &'static str, Side),
    Missing(usize, bool),
    OneOf(usize, Vec<i64>, bool),
    Not(Box<Where>),
    Both(Box<Where>, Box<Where>),
    Either(Box<Where>, Box<Where>),
}

#[derive(Clone, Debug)]
enum Side {
    Column(usize),
    Number(i64),
}

const COLUMNS: [&str; 3] = ["humidity", "stops", "shed no"];

fn condition() -> impl Strategy<Value = Where> {
    let side = prop_oneof![(0usize..3).prop_map(Side::Column), (-3i64..4).prop_map(Side::Number)];
    let leaf = prop_oneof![
        4 => (0usize..3, prop::sample::select(vec!["<", "<=", ">", ">=", "=", "!="]), side)
            .prop_map(|(c, how, side)| Where::Compare(c, how, side)),
        1 => (0usize..3, any::<bool>()).prop_map(|(c, not)| Where::Missing(c, not)),
        1 => (0usize..3, prop::collection::vec(-3i64..4, 1..4), any::<bool>()).prop_map(|(c, v, not)| Where::OneOf(c, v, not)),
    ];
    leaf.prop_recursive(4, 16, 2, |inner| {
        prop_oneof![
            inner.clone().prop_map(|r| Where::Not(Box::new(r))),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| Where::Both(Box::new(a), Box::new(b))),
            (inner.clone(), inner).prop_map(|(a, b)| Where::Either(Box::new(a), Box::new(b))),
        ]
    })
}

impl Where {
    fn text(&self) -> String {
        let column = |c: usize| format!("`{}`", COLUMNS[c]);
        match self {
            Where::Compare(c, how, Side::Column(d)) => format!("{} {how} {}", column(*c), column(*d)),
            Where::Compare(c, how, Side::Number(n)) => format!("{} {how} {n}", column(*c)),
            Where::Missing(c, not) => format!("{} is {}missing", column(*c), if *not { "not " } else { "" }),
            Where::OneOf(c, values, not) => {
                let values: Vec<String> = values.iter().map(i64::to_string).collect();
                format!("{} {}in ({})", column(*c), if *not { "not " } else { "" }, values.join(", "))
            }
            Where::Not(inner) => format!("not ({})", inner.text()),
            Where::Both(a, b) => format!("({}) and ({})", a.text(), b.text()),
            Where::Either(a, b) => format!("({}) or ({})", a.text(), b.text()),
        }
    }

    fn holds(&self, row: &[Option<i64>; 3]) -> bool {
        match self {
            Where::Compare(c, how, side) => {
                let other = match side {
                    Side::Column(d) => row[*d],
                    Side::Number(n) => Some(*n),
                };
                let (Some(a), Some(b)) = (row[*c], other) else { return false };
                match *how {
                    "<" => a < b,
                    "<=" => a <= b,
                    ">" => a > b,
                    ">=" => a >= b,
                    "=" => a == b,
                    _ => a != b,
                }
            }
            Where::Missing(c, not) => row[*c].is_none() != *not,
            Where::OneOf(c, values, not) => row[*c].is_some_and(|v| values.contains(&v)) != *not,
            Where::Not(inner) => !inner.holds(row),
            Where::Both(a, b) => a.holds(row) && b.holds(row),
            Where::Either(a, b) => a.holds(row) || b.holds(row),
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 600, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_rule_means_what_the_plain_evaluator_says(rule in rule()) {
        let text = rule.text();
        let parsed = parse(&text).map_err(|e| TestCaseError::fail(format!("{text}: {e}")))?;
        prop_assert_eq!(parsed.truth(&known), rule.truth(), "{}", text);
        // Nothing is held that is not known to be so, whichever way it is put.
        let denied = parse(&format!("not ({text})")).unwrap();
        prop_assert!(!(parsed.truth(&known) == Truth::Unknown && denied.truth(&known).is_held()), "{}", text);
    }

    #[test]
    fn a_condition_on_rows_means_what_the_plain_evaluator_says(
        condition in condition(),
        cells in prop::array::uniform3(prop::option::of(-3i64..4)),
        spelling in 0u8..3,
    ) {
        let text = condition.text();
        let columns = COLUMNS.map(String::from);
        let parsed = filter::parse(&text).map_err(|e| TestCaseError::fail(format!("{text}: {e}")))?;
        let mut row = Row::default();
        for cell in cells {
            // The same number, written in one of several ways.
            let written = cell.map_or(String::new(), |n| match spelling {
                0 => n.to_string(),
                1 => format!("{n}.0"),
                _ => format!("{n}e0"),
            });
            row.push(written.as_bytes());
        }
        let found = parsed.for_columns(&columns).unwrap().holds(&row);
        prop_assert_eq!(found, condition.holds(&cells), "{} of {:?}", text, cells);
    }
}
