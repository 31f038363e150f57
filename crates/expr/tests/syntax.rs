//! How tests are joined, whatever they are about: random conditions are written as text with as few or as many
//! parentheses as one likes, read again, and held against what was meant.
#![allow(clippy::disallowed_methods, clippy::unwrap_used, missing_docs)]

use proptest::prelude::*;
use textum_expr::syntax::{Comparison, Cursor, Logic, Parsed, Word, parse_logic};

/// A test that is no more than a name.
fn name(cursor: &mut Cursor<'_>) -> Parsed<String> {
    match cursor.peek() {
        Some(Word::Name(name) | Word::Quoted(name)) => {
            let name = name.clone();
            cursor.advance();
            Ok(name)
        }
        _ => Err(cursor.expected("a name", "write one")),
    }
}

fn read(text: &str) -> Parsed<Logic<String>> {
    parse_logic(text, "'a and b'", &mut name)
}

/// What was meant.
#[derive(Clone, Debug)]
enum Meant {
    Name(usize),
    Not(Box<Meant>),
    And(Box<Meant>, Box<Meant>),
    Or(Box<Meant>, Box<Meant>),
}

const NAMES: [&str; 4] = ["loom", "`and`", "shed.no", "`a b`"];
const PLAIN: [&str; 4] = ["loom", "and", "shed.no", "a b"];

impl Meant {
    fn holds(&self, values: u32) -> bool {
        match self {
            Meant::Name(at) => values >> at & 1 == 1,
            Meant::Not(inner) => !inner.holds(values),
            Meant::And(a, b) => a.holds(values) && b.holds(values),
            Meant::Or(a, b) => a.holds(values) || b.holds(values),
        }
    }

    /// As text; `loose`: with a parenthesis around everything.
    fn text(&self, loose: bool, above: u8) -> String {
        // `not` binds closest, then `and`, then `or`.
        let (strength, text) = match self {
            Meant::Name(at) => (3, NAMES[*at].to_string()),
            Meant::Not(inner) => (2, format!("NOT {}", inner.text(loose, 2))),
            Meant::And(a, b) => (1, format!("{} and {}", a.text(loose, 1), b.text(loose, 1))),
            Meant::Or(a, b) => (0, format!("{} Or {}", a.text(loose, 0), b.text(loose, 0))),
        };
        if strength < above || (loose && strength < 3) { format!("({text})") } else { text }
    }
}

fn meant() -> impl Strategy<Value = Meant> {
    let leaf = (0..NAMES.len()).prop_map(Meant::Name);
    leaf.prop_recursive(4, 16, 2, |inner| {
        prop_oneof![
            inner.clone().prop_map(|m| Meant::Not(Box::new(m))),
            (inner.clone(), inner.clone()).prop_map(|(a, b)| Meant::And(Box::new(a), Box::new(b))),
            (inner.clone(), inner).prop_map(|(a, b)| Meant::Or(Box::new(a), Box::new(b))),
        ]
    })
}

fn holds(logic: &Logic<String>, values: u32) -> bool {
    match logic {
        Logic::Any(parts) => parts.iter().any(|p| holds(p, values)),
        Logic::All(parts) => parts.iter().all(|p| holds(p, values)),
        Logic::Not(inner) => !holds(inner, values),
        Logic::Test(name) => values >> PLAIN.iter().position(|n| n == name).unwrap() & 1 == 1,
    }
}

proptest! {
    #[test]
    fn what_is_read_is_what_was_meant_with_and_without_parentheses(meant in meant()) {
        for loose in [false, true] {
            let text = meant.text(loose, 0);
            let logic = read(&text).unwrap_or_else(|e| panic!("{text}: {e:?}"));
            for values in 0..16 {
                prop_assert_eq!(holds(&logic, values), meant.holds(values), "{} with {:04b}", text, values);
            }
            prop_assert!(logic.tests().iter().all(|name| PLAIN.contains(&name.as_str())));
        }
    }

    #[test]
    fn whatever_is_written_errors_point_into_it(text in "[a-z0-9 ()<>=!,+*/'\"`\\\\.é-]{0,30}") {
        if let Err(e) = read(&text) {
            prop_assert!(e.at.start <= e.at.end && e.at.end <= text.len(), "{:?}", e);
            prop_assert!(text.is_char_boundary(e.at.start) && text.is_char_boundary(e.at.end));
            prop_assert!(!e.help.is_empty());
        }
    }
}

#[test]
fn words_are_told_apart_and_what_is_none_is_pointed_at() {
    let mut found = Vec::new();
    let mut all = |cursor: &mut Cursor<'_>| {
        while let Some(word) = cursor.peek() {
            found.push(word.clone());
            cursor.advance();
        }
        Ok(())
    };
    parse_logic("a@1 <= 1.5e-3 `b c` 'd\\'e' \"f\" != -2", "", &mut all).unwrap();
    let expected = [
        Word::Name("a@1".into()),
        Word::Comparison(Comparison::AtMost),
        Word::Number("1.5e-3".into(), 0.0015),
        Word::Quoted("b c".into()),
        Word::Text("d'e".into()),
        Word::Text("f".into()),
        Word::Comparison(Comparison::Unequal),
        Word::Sign('-'),
        Word::Number("2".into(), 2.0),
    ];
    assert_eq!(found, expected);
    for (text, at, what) in [
        ("", 0..0, "empty"),
        ("loom and", 8..8, "a name"),
        ("loom loom", 5..9, "`and`, `or` or the end"),
        ("(loom", 5..5, "`)`"),
        ("loom == 1", 5..7, "no comparison"),
        ("loom #", 5..6, "no meaning"),
        ("'loom", 0..5, "no end"),
        ("1.2.3", 0..5, "no number"),
        ("9e999", 0..5, "no number"),
    ] {
        let error = read(text).unwrap_err();
        assert_eq!((error.at.clone(), error.what.contains(what)), (at, true), "{text}: {error:?}");
    }
    assert!(read(&format!("{}a{}", "(".repeat(5000), ")".repeat(5000))).unwrap_err().what.contains("too deeply"));
}
