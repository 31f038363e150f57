//! Conditions on rows, held against a second evaluator that takes the definitions literally; and the texts that people
//! write them as.

use std::cmp::Ordering;

use proptest::prelude::*;
use textum_expr::syntax::{Comparison, Logic};
use textum_table::Row;
use textum_table::filter::{self, Operator, parse};

const COLUMNS: [&str; 3] = ["loom", "humidity", "shed no"];

/// What is written, and what it means: built together, so that neither is made from the other.
#[derive(Clone, Debug)]
enum Said {
    Column(usize),
    Number(String),
    Text(String),
}

#[derive(Clone, Debug)]
enum Test {
    Compare(Said, &'static str, Said),
    Missing(usize, bool),
    OneOf(usize, Vec<Said>, bool),
    Not(Box<Test>),
    And(Box<Test>, Box<Test>),
    Or(Box<Test>, Box<Test>),
}

fn quoted(text: &str, quote: char) -> String {
    let escaped: String = text.chars().flat_map(|c| if c == quote || c == '\\' { vec!['\\', c] } else { vec![c] }).collect();
    format!("{quote}{escaped}{quote}")
}

impl Said {
    fn text(&self) -> String {
        match self {
            Said::Column(at) => {
                if *at == 2 {
                    "`shed no`".into()
                } else {
                    COLUMNS[*at].into()
                }
            }
            Said::Number(number) => number.clone(),
            Said::Text(text) => quoted(text, if text.len().is_multiple_of(2) { '"' } else { '\'' }),
        }
    }

    fn cell<'r>(&'r self, row: &'r [String]) -> &'r str {
        match self {
            Said::Column(at) => &row[*at],
            Said::Number(text) | Said::Text(text) => text,
        }
    }

    /// Whether it is taken for a number: a cell or a bare number that is one, never a text in quotes.
    fn number(&self, row: &[String]) -> Option<f64> {
        match self {
            Said::Text(_) => None,
            other => plain_number(other.cell(row)),
        }
    }

    fn is_missing(&self, row: &[String]) -> bool {
        matches!(self, Said::Column(_)) && ["", "NA", "N/A", "NaN", "nan", "null", "NULL", "None"].contains(&self.cell(row))
    }
}

fn plain_number(text: &str) -> Option<f64> {
    let first = text.chars().next()?;
    if !(first.is_ascii_digit() || "+-.".contains(first)) {
        return None;
    }
    text.parse().ok()
}

fn order(a: &Said, b: &Said, row: &[String]) -> Option<Ordering> {
    match (a.number(row), b.number(row)) {
        (Some(x), Some(y)) => x.partial_cmp(&y),
        (None, None) => Some(a.cell(row).as_bytes().cmp(b.cell(row).as_bytes())),
        _ => (a.cell(row) == b.cell(row)).then_some(Ordering::Equal),
    }
}

impl Test {
    fn text(&self) -> String {
        match self {
            Test::Compare(a, operator, b) => format!("{} {operator} {}", a.text(), b.text()),
            Test::Missing(at, yes) => format!("{} is {}missing", Said::Column(*at).text(), if *yes { "" } else { "not " }),
            Test::OneOf(at, values, yes) => {
                let values: Vec<String> = values.iter().map(Said::text).collect();
                format!("{} {}in ({})", Said::Column(*at).text(), if *yes { "" } else { "not " }, values.join(", "))
            }
            Test::Not(inner) => format!("not ({})", inner.text()),
            Test::And(a, b) => format!("({}) and ({})", a.text(), b.text()),
            Test::Or(a, b) => format!("({}) or ({})", a.text(), b.text()),
        }
    }

    fn holds(&self, row: &[String]) -> bool {
        match self {
            Test::Compare(a, operator, b) => {
                if a.is_missing(row) || b.is_missing(row) {
                    return false;
                }
                let order = order(a, b, row);
                match *operator {
                    "=" => order == Some(Ordering::Equal),
                    "!=" => order != Some(Ordering::Equal),
                    "<" => order == Some(Ordering::Less),
                    "<=" => matches!(order, Some(Ordering::Less | Ordering::Equal)),
                    ">" => order == Some(Ordering::Greater),
                    ">=" => matches!(order, Some(Ordering::Greater | Ordering::Equal)),
                    _ => a.cell(row).contains(b.cell(row)),
                }
            }
            Test::Missing(at, yes) => Said::Column(*at).is_missing(row) == *yes,
            Test::OneOf(at, values, yes) => {
                let is = |v: &Said| Test::Compare(Said::Column(*at), "=", v.clone()).holds(row);
                values.iter().any(is) == *yes
            }
            Test::Not(inner) => !inner.holds(row),
            Test::And(a, b) => a.holds(row) && b.holds(row),
            Test::Or(a, b) => a.holds(row) || b.holds(row),
        }
    }
}

fn cell() -> impl Strategy<Value = String> {
    prop_oneof![
        3 => (-30i32..30).prop_map(|n| n.to_string()),
        2 => (-300i32..300).prop_map(|n| format!("{}", f64::from(n) / 8.0)),
        1 => (0u8..3).prop_map(|n| format!("{n}.0")),
        2 => "[a-c]{0,3}",
        2 => prop::sample::select(vec!["", "NA", "null", "NaN", "None", "L17", "2026-03-01", "true", "a\"b", "a'b", "a\\b", "ü"]).prop_map(String::from),
    ]
}

fn said() -> impl Strategy<Value = Said> {
    prop_oneof![
        3 => (0usize..3).prop_map(Said::Column),
        2 => (-30i32..30).prop_map(|n| Said::Number(n.to_string())),
        1 => (-300i32..300).prop_map(|n| Said::Number(format!("{}", f64::from(n) / 8.0))),
        2 => cell().prop_map(Said::Text),
    ]
}

fn test() -> impl Strategy<Value = Test> {
    let operators = prop::sample::select(vec!["=", "!=", "<", "<=", ">", ">=", "contains"]);
    let leaf = prop_oneof![
        4 => (said(), operators, said()).prop_map(|(a, o, b)| Test::Compare(a, o, b)),
        1 => (0usize..3, any::<bool>()).prop_map(|(at, yes)| Test::Missing(at, yes)),
        1 => (0usize..3, prop::collection::vec(said(), 1..4), any::<bool>()).prop_map(|(at, values, yes)| Test::OneOf(at, values, yes)),
    ];
    leaf.prop_recursive(4, 16, 2, |inner| {
        prop_oneof![
            inner.clone().prop_map(|t| Test::Not(Box::new(t))),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| Test::And(Box::new(a), Box::new(b))),
            (inner.clone(), inner).prop_map(|(a, b)| Test::Or(Box::new(a), Box::new(b))),
        ]
    })
}

fn row(cells: &[String]) -> Row {
    let mut row = Row::default();
    cells.iter().for_each(|c| row.push(c.as_bytes()));
    row
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(3000))]
    #[test]
    fn a_condition_holds_where_its_definition_says(test in test(), cells in prop::array::uniform3(cell())) {
        let text = test.text();
        let columns = COLUMNS.map(String::from);
        let parsed = parse(&text).map_err(|e| TestCaseError::fail(format!("{text}: {e:?}")))?;
        let placed = parsed.for_columns(&columns).map_err(|e| TestCaseError::fail(format!("{text}: {e:?}")))?;
        prop_assert_eq!(placed.holds(&row(&cells)), test.holds(&cells), "{} of {:?}", text, cells);
        // A column named in it is one of the table's, each told once.
        let mut names = Vec::new();
        parsed.names(&mut names);
        let mut distinct: Vec<&str> = names.iter().map(|n| n.name.as_str()).collect();
        distinct.sort_unstable();
        distinct.dedup();
        prop_assert_eq!(distinct.len(), names.len());
        prop_assert!(names.iter().all(|n| COLUMNS.contains(&n.name.as_str()) && text[n.at.clone()].contains(&n.name)));
    }
}

#[test]
fn and_binds_closer_than_or_and_not_closer_than_both() {
    let holds = |text: &str, a: &str, b: &str, c: &str| {
        let columns = ["a", "b", "c"].map(String::from);
        parse(text).unwrap().for_columns(&columns).unwrap().holds(&row(&[a, b, c].map(String::from)))
    };
    for bits in 0..8u8 {
        let on = |n: u8| bits >> n & 1 == 1;
        let (a, b, c) = (on(0), on(1), on(2));
        let cells = |v: bool| if v { "1" } else { "0" };
        let is = |text: &str| holds(text, cells(a), cells(b), cells(c));
        assert_eq!(is("a = 1 or b = 1 and c = 1"), a || (b && c));
        assert_eq!(is("a = 1 and b = 1 or c = 1"), (a && b) || c);
        assert_eq!(is("not a = 1 and b = 1"), !a && b);
        assert_eq!(is("not a = 1 or b = 1"), !a || b);
        assert_eq!(is("not (a = 1 or b = 1)"), !(a || b));
        assert_eq!(is("NOT a = 1 AND b = 1 OR c = 1"), (!a && b) || c);
        assert_eq!(is("not not a = 1"), a);
    }
}

#[test]
fn long_numbers_are_compared_by_all_their_digits() {
    let columns = ["id".to_string()];
    let holds = |text: &str, cell: &str| parse(text).unwrap().for_columns(&columns).unwrap().holds(&row(&[cell.to_string()]));
    assert!(holds("id > 9007199254740992", "9007199254740993"));
    assert!(!holds("id = 9007199254740992", "9007199254740993"));
    assert!(holds("id = 1e3", "1000.0") && holds("id <= 0.1", "0.1") && holds("id < 1e-300", "1e-301"));
    assert!(holds("id = -0", "0") && holds("id >= 0", "-0.0"));
}

#[test]
fn bare_words_stand_for_texts_only_where_they_are_no_columns() {
    let is_column = |name: &str| name == "shed" || name == "team";
    let parsed = parse("shed = A and team != shed and team in (Ahorn, shed)").unwrap().with_words_as_texts(&is_column);
    let mut names = Vec::new();
    parsed.names(&mut names);
    assert_eq!(names.iter().map(|n| n.name.as_str()).collect::<Vec<_>>(), ["shed", "team"]);
    let Logic::All(parts) = &parsed.0 else { panic!("{parsed:?}") };
    assert!(
        matches!(&parts[0], Logic::Test(filter::Test::Compare(_, Operator::Of(Comparison::Equal), textum_table::filter::Operand::Value(v, None))) if v == b"A")
    );
    let unknown = parsed.for_columns(&["team".to_string()]).unwrap_err();
    assert_eq!(unknown.what, "there is no column `shed`");
}
