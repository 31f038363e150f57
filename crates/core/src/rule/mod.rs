//! Conditions on metrics: of a gate, or of when a stage is to be stopped.
//!
//! ```text
//! either  := both ("or" both)*
//! both    := part ("and" part)*
//! part    := "not" part | "(" either ")" | test ("for" N "steps")?
//! test    := sum ("<" | "<=" | ">" | ">=" | "=" | "!=") sum
//!          | sum "is" "not"? "finite"
//! sum     := product (("+" | "-") product)*
//! product := factor (("*" | "/") factor)*
//! factor  := number | name | "-" factor | "(" sum ")"
//! name    := letters, digits, `_` and `.`; or anything in backticks
//! ```
//!
//! No comparison with NaN holds, `!=` included: a metric that is not a number never opens a gate.

mod parse;
mod watch;

use std::collections::BTreeSet;
use std::ops::Range;

pub use parse::parse;
pub use watch::StopWatch;
pub(crate) use watch::subject;

/// A condition that does not parse.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{what}")]
pub struct RuleError {
    /// Where in the text, in bytes.
    pub at: Range<usize>,
    /// What is wrong.
    pub what: String,
    /// What to write instead.
    pub help: String,
}

/// A condition on metrics.
#[derive(Clone, Debug, PartialEq)]
pub struct Rule {
    /// As it was written.
    pub text: String,
    pub(crate) root: Part,
}

/// A condition, or a part of one.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Part {
    Any(Vec<Part>),
    All(Vec<Part>),
    Not(Box<Part>),
    Test(Test),
}

/// Two sums compared.
#[derive(Clone, Debug, PartialEq)]
pub(crate) struct Test {
    pub left: Sum,
    pub how: How,
    pub right: Sum,
    /// In how many steps on end it must hold.
    pub steps: u32,
    /// Where it stands in the text.
    pub at: Range<usize>,
}

/// How two sums are compared. `Finite` and `NotFinite` look at the left one only.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum How {
    Less,
    AtMost,
    More,
    AtLeast,
    Equal,
    Unequal,
    Finite,
    NotFinite,
}

/// A sum, product, name or number.
#[derive(Clone, Debug, PartialEq)]
pub(crate) enum Sum {
    Number(f64),
    Name(String),
    Minus(Box<Sum>),
    Pair(Box<Sum>, char, Box<Sum>),
}

/// What a name stands for when a rule is held against metrics.
#[derive(Clone, Copy, Debug, PartialEq)]
pub enum Known {
    /// A value.
    Value(f64),
    /// There is nothing to compare with: the test that names it holds.
    NothingToCompare,
    /// There is no such thing: the test that names it does not hold.
    Unknown,
}

impl Sum {
    fn names<'s>(&'s self, out: &mut Vec<&'s str>) {
        match self {
            Sum::Number(_) => {}
            Sum::Name(name) => out.push(name),
            Sum::Minus(inner) => inner.names(out),
            Sum::Pair(a, _, b) => {
                a.names(out);
                b.names(out);
            }
        }
    }

    pub(crate) fn value(&self, of: &dyn Fn(&str) -> Known) -> Known {
        match self {
            Sum::Number(n) => Known::Value(*n),
            Sum::Name(name) => of(name),
            Sum::Minus(inner) => match inner.value(of) {
                Known::Value(v) => Known::Value(-v),
                other => other,
            },
            Sum::Pair(a, sign, b) => match (a.value(of), b.value(of)) {
                (Known::Value(a), Known::Value(b)) => Known::Value(match sign {
                    '+' => a + b,
                    '-' => a - b,
                    '*' => a * b,
                    _ => a / b,
                }),
                (Known::Unknown, _) | (_, Known::Unknown) => Known::Unknown,
                _ => Known::NothingToCompare,
            },
        }
    }
}

impl Test {
    pub(crate) fn names(&self) -> Vec<&str> {
        let mut names = Vec::new();
        self.left.names(&mut names);
        self.right.names(&mut names);
        names
    }

    pub(crate) fn holds(&self, of: &dyn Fn(&str) -> Known) -> bool {
        let (a, b) = match (self.left.value(of), self.right.value(of)) {
            (Known::Value(a), Known::Value(b)) => (a, b),
            (Known::Unknown, _) | (_, Known::Unknown) => return false,
            _ => return true,
        };
        match self.how {
            How::Less => a < b,
            How::AtMost => a <= b,
            How::More => a > b,
            How::AtLeast => a >= b,
            How::Equal => a == b,
            // No comparison with NaN holds, this one included.
            How::Unequal => a != b && !a.is_nan() && !b.is_nan(),
            How::Finite => a.is_finite(),
            How::NotFinite => !a.is_finite(),
        }
    }
}

impl Part {
    pub(crate) fn tests<'p>(&'p self, out: &mut Vec<&'p Test>) {
        match self {
            Part::Any(parts) | Part::All(parts) => parts.iter().for_each(|p| p.tests(out)),
            Part::Not(inner) => inner.tests(out),
            Part::Test(test) => out.push(test),
        }
    }

    pub(crate) fn holds(&self, test: &mut dyn FnMut(&Test) -> bool) -> bool {
        match self {
            // All parts are asked, so that each test sees every step.
            Part::Any(parts) => parts.iter().map(|p| p.holds(test)).filter(|held| *held).count() > 0,
            Part::All(parts) => parts.iter().map(|p| p.holds(test)).filter(|held| !*held).count() == 0,
            Part::Not(inner) => !inner.holds(test),
            Part::Test(t) => test(t),
        }
    }
}

impl Rule {
    /// The names in it, each once.
    pub fn names(&self) -> BTreeSet<&str> {
        self.tests().into_iter().flat_map(Test::names).collect()
    }

    pub(crate) fn tests(&self) -> Vec<&Test> {
        let mut tests = Vec::new();
        self.root.tests(&mut tests);
        tests
    }

    /// Whether it holds, given what each name stands for.
    pub fn holds(&self, of: &dyn Fn(&str) -> Known) -> bool {
        self.root.holds(&mut |test| test.holds(of))
    }

    /// Whether it asks for several steps on end, which only makes sense while a stage runs.
    pub fn counts_steps(&self) -> bool {
        self.tests().iter().any(|t| t.steps > 1)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn holds(text: &str) -> bool {
        let of = |name: &str| match name {
            "auc" => Known::Value(0.8),
            "loss" => Known::Value(f64::NAN),
            "of.L1" => Known::Value(2.0),
            "baseline.auc" => Known::NothingToCompare,
            _ => Known::Unknown,
        };
        parse(text).unwrap_or_else(|e| panic!("{text}: {e:?}")).holds(&of)
    }

    #[test]
    fn rules_mean_what_they_say() {
        for yes in [
            "auc >= 0.80",
            "auc > 0.5 and not auc > 0.9",
            "(auc + 0.1) * 2 > 1.7",
            "auc*2-1<=0.6000001",
            "`of.L1` = 2 or nothing > 1",
            "auc >= baseline.auc - 0.01",
            "loss is not finite",
            "-auc < -0.5 and (auc > 1 or of.L1 / 4 = 0.5)",
        ] {
            assert!(holds(yes), "{yes}");
        }
        for no in ["loss < 1", "loss > 1", "loss != 1", "nothing > 0", "nothing is finite", "not auc = 0.8", "loss is finite"] {
            assert!(!holds(no), "{no}");
        }
    }

    #[test]
    fn what_is_wrong_is_pointed_at() {
        for (text, at, what) in [
            ("", 0..0, "empty"),
            ("auc", 3..3, "a comparison"),
            ("auc > ", 6..6, "a number or a metric"),
            ("auc => 3", 4..6, "no comparison"),
            ("auc > 1 auc", 8..11, "`and`"),
            ("(auc > 1", 8..8, "`)`"),
            ("auc > 1 for x steps", 12..13, "a whole number"),
            ("auc > #", 6..7, "no meaning"),
        ] {
            let found = parse(text).unwrap_err();
            assert_eq!((found.at.clone(), found.what.contains(what)), (at, true), "{text}: {found:?}");
        }
    }

    proptest! {
        #[test]
        fn no_text_brings_the_parser_down(text in "[a-z0-9 ()<>=!+*/.`-]{0,40}") {
            if let Err(e) = parse(&text) {
                prop_assert!(e.at.start <= e.at.end && e.at.end <= text.len());
            }
        }

        #[test]
        fn sums_are_computed_as_everywhere(a in -100i32..100, b in -100i32..100, c in 1i32..100) {
            let expected = f64::from(a) + f64::from(b) * f64::from(c) - f64::from(a) / f64::from(c);
            let rule = parse(&format!("{a} + {b} * {c} - {a} / {c} = x")).unwrap();
            prop_assert!(rule.holds(&|_| Known::Value(expected)));
        }
    }
}
