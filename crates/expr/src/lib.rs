//! Conditions on metrics: of a gate, or of when a stage is to be stopped.
//!
//! How tests are joined stands in [`syntax`]; conditions on rows of tables are joined in the same way. A test is
//!
//! ```text
//! test    := (sum ("<" | "<=" | ">" | ">=" | "=" | "!=") sum | sum "is" "not"? "finite") ("for" N "steps")?
//! sum     := product (("+" | "-") product)*
//! product := factor (("*" | "/") factor)*
//! factor  := number | name | "-" factor | "(" sum ")"
//! ```
//!
//! Three truths: a comparison with a metric that is not there, or is not finite, is neither true nor false but
//! unknown (Kleene, "On notation for ordinal numbers", JSL 1938): `not` of it is unknown too, and what is unknown
//! does not hold. So neither `loss < 1` nor `not loss > 1` lets a NaN through.
//!
//! ```
//! use textum_expr::{Known, Truth, parse};
//!
//! let rule = parse("auc >= 0.7 and not loss > 0.5").map_err(|e| e.what)?;
//! let with_loss = |loss: f64| {
//!     rule.truth(&|name| match name {
//!         "auc" => Known::Value(0.9),
//!         "loss" => Known::Value(loss),
//!         _ => Known::Unknown,
//!     })
//! };
//! assert_eq!(with_loss(0.4), Truth::True);
//! assert_eq!(with_loss(0.6), Truth::False);
//! assert_eq!(with_loss(f64::NAN), Truth::Unknown);
//! # Ok::<(), String>(())
//! ```

#![cfg_attr(test, allow(clippy::disallowed_methods))]

mod parse;
pub mod syntax;
mod watch;

use std::collections::BTreeSet;
use std::ops::Range;

pub use parse::parse;
pub use syntax::SyntaxError as RuleError;
use syntax::{Comparison, Logic};
pub use watch::StopWatch;

/// A condition on metrics.
#[derive(Clone, Debug, PartialEq)]
pub struct Rule {
    /// As it was written.
    pub text: String,
    pub(crate) root: Logic<Test>,
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
    Compared(Comparison),
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
    /// There is nothing to compare with yet: the test that names it asks for nothing.
    NothingToCompare,
    /// There is no such thing.
    Unknown,
}

/// Whether a condition holds, as far as it can be said.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Truth {
    /// It does not.
    False,
    /// Something that it names is not there, or is not finite.
    Unknown,
    /// There is nothing to compare with yet.
    Vacuous,
    /// It does.
    True,
}

impl Truth {
    fn of(holds: bool) -> Truth {
        if holds { Truth::True } else { Truth::False }
    }

    /// Whether what is asked for is met: nothing to compare with is no reason to refuse.
    pub fn is_held(self) -> bool {
        matches!(self, Truth::True | Truth::Vacuous)
    }

    fn not(self) -> Truth {
        match self {
            Truth::True => Truth::False,
            Truth::False => Truth::True,
            other => other,
        }
    }

    /// All of these: the least of them, but that what is vacuous takes nothing away from what is true.
    fn all(parts: &[Truth]) -> Truth {
        let least = parts.iter().copied().min().unwrap_or(Truth::True);
        if least == Truth::Vacuous && parts.contains(&Truth::True) { Truth::True } else { least }
    }

    /// Any of these: the most of them.
    fn any(parts: &[Truth]) -> Truth {
        parts.iter().copied().max().unwrap_or(Truth::False)
    }
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

    pub(crate) fn truth(&self, of: &dyn Fn(&str) -> Known) -> Truth {
        let (a, b) = match (self.left.value(of), self.right.value(of)) {
            (Known::Value(a), Known::Value(b)) => (a, b),
            (Known::Unknown, _) | (_, Known::Unknown) => return Truth::Unknown,
            _ => return Truth::Vacuous,
        };
        let finite = a.is_finite() && b.is_finite();
        match self.how {
            How::Finite => Truth::of(a.is_finite()),
            How::NotFinite => Truth::of(!a.is_finite()),
            _ if !finite => Truth::Unknown,
            How::Compared(Comparison::Less) => Truth::of(a < b),
            How::Compared(Comparison::AtMost) => Truth::of(a <= b),
            How::Compared(Comparison::More) => Truth::of(a > b),
            How::Compared(Comparison::AtLeast) => Truth::of(a >= b),
            How::Compared(Comparison::Equal) => Truth::of(a == b),
            How::Compared(Comparison::Unequal) => Truth::of(a != b),
        }
    }
}

/// What tests come to together, given what each comes to.
pub(crate) fn joined(logic: &Logic<Test>, test: &mut dyn FnMut(&Test) -> Truth) -> Truth {
    // All parts are asked, so that each test sees every step.
    match logic {
        Logic::Any(parts) => Truth::any(&parts.iter().map(|p| joined(p, test)).collect::<Vec<_>>()),
        Logic::All(parts) => Truth::all(&parts.iter().map(|p| joined(p, test)).collect::<Vec<_>>()),
        Logic::Not(inner) => joined(inner, test).not(),
        Logic::Test(t) => test(t),
    }
}

impl Rule {
    /// The names in it, each once.
    pub fn names(&self) -> BTreeSet<&str> {
        self.root.tests().into_iter().flat_map(Test::names).collect()
    }

    /// The metrics whose best values it asks for; `None` where it cannot be told of which metric `best` is.
    pub fn best_of(&self) -> Vec<Option<&str>> {
        let of_test = |test| {
            Test::names(test).into_iter().filter_map(move |name| match name {
                "best" => Some(watch::subject(test)),
                other => other.strip_prefix("best.").map(Some),
            })
        };
        self.root.tests().into_iter().flat_map(of_test).collect()
    }

    /// Whether it holds, given what each name stands for.
    pub fn truth(&self, of: &dyn Fn(&str) -> Known) -> Truth {
        joined(&self.root, &mut |test| test.truth(of))
    }

    /// Whether it asks for several steps on end, which only makes sense while a stage runs.
    pub fn counts_steps(&self) -> bool {
        self.root.tests().iter().any(|t| t.steps > 1)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn truth(text: &str) -> Truth {
        let of = |name: &str| match name {
            "auc" => Known::Value(0.8),
            "loss" => Known::Value(f64::NAN),
            "huge" => Known::Value(f64::INFINITY),
            "of.L1" => Known::Value(2.0),
            "baseline.auc" => Known::NothingToCompare,
            _ => Known::Unknown,
        };
        parse(text).unwrap_or_else(|e| panic!("{text}: {e:?}")).truth(&of)
    }

    #[test]
    fn rules_mean_what_they_say() {
        for yes in [
            "auc >= 0.80",
            "auc > 0.5 and not auc > 0.9",
            "(auc + 0.1) * 2 > 1.7",
            "auc*2-1<=0.6000001",
            "`of.L1` = 2 or nothing > 1",
            "loss is not finite",
            "huge is not finite",
            "not loss is finite",
            "-auc < -0.5 and (auc > 1 or of.L1 / 4 = 0.5)",
            "auc >= baseline.auc and auc > 0.5",
        ] {
            assert_eq!(truth(yes), Truth::True, "{yes}");
        }
        for no in
            ["not auc = 0.8", "loss is finite", "auc > 0.9 and loss > 1", "nothing > 1 and auc > 0.9", "not huge is not finite"]
        {
            assert_eq!(truth(no), Truth::False, "{no}");
        }
        for unknown in [
            "loss < 1",
            "loss > 1",
            "loss != 1",
            "not loss > 1",
            "not (loss > 1 or auc > 0.9)",
            "huge > 1",
            "not huge < 1",
            "auc / 0 > 1",
            "nothing > 0",
            "not losss > 1",
            "nothing is finite",
            "nothing is not finite",
            "auc > 0.5 and nothing > 1",
            "loss > 1 and auc >= baseline.auc",
        ] {
            assert_eq!(truth(unknown), Truth::Unknown, "{unknown}");
            assert!(!truth(unknown).is_held());
        }
        for vacuous in ["auc >= baseline.auc - 0.01", "not auc < baseline.auc", "auc > 0.9 or auc > baseline.auc"] {
            assert_eq!(truth(vacuous), Truth::Vacuous, "{vacuous}");
            assert!(truth(vacuous).is_held());
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
            prop_assert_eq!(rule.truth(&|_| Known::Value(expected)), Truth::True);
        }

        /// Held against every way in which the unknown could turn out: a condition is true only if it is so
        /// whatever the unknown is, and false likewise.
        #[test]
        fn what_is_unknown_decides_nothing(shape in 0usize..6, left in -2i32..3, bound in -2i32..3) {
            let conditions = ["x > {b}", "not x > {b}", "x > {b} and l >= 0", "x > {b} or l >= 0", "not (x > {b} or l < 0)", "not (x > {b} and l < 0)"];
            let text = conditions[shape].replace("{b}", &bound.to_string());
            let rule = parse(&text).unwrap();
            let with = |x: Known| rule.truth(&|name| if name == "x" { x } else { Known::Value(f64::from(left)) });
            let all: Vec<Truth> = (-4..5).map(|x| with(Known::Value(f64::from(x)))).collect();
            let certain = if all.iter().all(|t| *t == all[0]) { all[0] } else { Truth::Unknown };
            for nothing in [Known::Unknown, Known::Value(f64::NAN), Known::Value(f64::INFINITY)] {
                prop_assert_eq!(with(nothing), certain, "{}", text);
            }
        }
    }
}
