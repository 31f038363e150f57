//! What all conditions have in common, whatever they are about: words, and how tests are joined by `and`, `or`, `not`
//! and parentheses. What a test is, the caller says.
//!
//! ```text
//! either := both ("or" both)*
//! both   := part ("and" part)*
//! part   := "not" part | "(" either ")" | test
//! name   := letters, digits, `_`, `.` and `@`; or anything in backticks, which is never a keyword
//! text   := in double or single quotes; a backslash takes the next character as it is
//! ```
//!
//! Keywords are told from names without regard to case.

mod words;

use std::ops::Range;

pub use words::{Comparison, Word};

/// How deep parentheses, signs and `not` may go.
const DEEPEST: usize = 201;

/// A condition that does not parse, or names what is not there.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{what}")]
pub struct SyntaxError {
    /// Where in the text, in bytes.
    pub at: Range<usize>,
    /// What is wrong.
    pub what: String,
    /// What to write instead.
    pub help: String,
}

/// What parsing gives.
pub type Parsed<T> = Result<T, SyntaxError>;

/// Tests joined.
#[derive(Clone, Debug, PartialEq)]
pub enum Logic<T> {
    /// One of them holds.
    Any(Vec<Logic<T>>),
    /// All of them hold.
    All(Vec<Logic<T>>),
    /// It does not hold.
    Not(Box<Logic<T>>),
    /// One test.
    Test(T),
}

impl<T> Logic<T> {
    /// All tests in it, in the order in which they are written.
    pub fn tests(&self) -> Vec<&T> {
        fn collect<'l, T>(logic: &'l Logic<T>, out: &mut Vec<&'l T>) {
            match logic {
                Logic::Any(parts) | Logic::All(parts) => parts.iter().for_each(|p| collect(p, out)),
                Logic::Not(inner) => collect(inner, out),
                Logic::Test(test) => out.push(test),
            }
        }
        let mut out = Vec::new();
        collect(self, &mut out);
        out
    }

    /// The same with other tests.
    pub fn map<U, E>(&self, each: &mut dyn FnMut(&T) -> Result<U, E>) -> Result<Logic<U>, E> {
        let mut all = |parts: &[Logic<T>]| parts.iter().map(|p| p.map(each)).collect::<Result<Vec<_>, E>>();
        Ok(match self {
            Logic::Any(parts) => Logic::Any(all(parts)?),
            Logic::All(parts) => Logic::All(all(parts)?),
            Logic::Not(inner) => Logic::Not(Box::new(inner.map(each)?)),
            Logic::Test(test) => Logic::Test(each(test)?),
        })
    }
}

/// A place in the words of a condition.
pub struct Cursor<'t> {
    text: &'t str,
    words: Vec<(Word, Range<usize>)>,
    next: usize,
    depth: usize,
}

/// Reads a condition whose tests are read by `test`. `example` is shown to whoever wrote nothing.
pub fn parse_logic<T>(text: &str, example: &str, test: &mut dyn FnMut(&mut Cursor<'_>) -> Parsed<T>) -> Parsed<Logic<T>> {
    let mut cursor = Cursor::of(text, example)?;
    let root = cursor.logic(test)?;
    cursor.end("`and`, `or` or the end", "join two tests with `and` or `or`")?;
    Ok(root)
}

impl<'t> Cursor<'t> {
    /// The words of a text, from the first one on. `example` is shown to whoever wrote nothing.
    pub fn of(text: &'t str, example: &str) -> Parsed<Cursor<'t>> {
        let cursor = Cursor { text, words: words::words(text)?, next: 0, depth: 0 };
        match cursor.words.is_empty() {
            true => {
                Err(SyntaxError { at: 0..0, what: "the condition is empty".into(), help: format!("write one, as in {example}") })
            }
            false => Ok(cursor),
        }
    }

    /// Reads tests that are joined, as far as they go.
    pub fn logic<T>(&mut self, test: &mut dyn FnMut(&mut Cursor<'_>) -> Parsed<T>) -> Parsed<Logic<T>> {
        self.either(test)
    }

    /// Nothing may follow.
    pub fn end(&self, what: &str, help: &str) -> Parsed<()> {
        if self.peek().is_none() { Ok(()) } else { Err(self.expected(what, help)) }
    }

    /// Which of the words comes next, for going back to it.
    pub fn mark(&self) -> usize {
        self.next
    }

    /// Goes back to a word.
    pub fn back_to(&mut self, mark: usize) {
        self.next = mark;
    }

    /// Takes a name of something outside: a text in quotes, or everything up to the next blank, such as `build/test.csv`.
    pub fn outside(&mut self) -> Option<String> {
        match self.peek()? {
            Word::Text(text) => {
                let text = text.clone();
                self.advance();
                Some(text)
            }
            _ => {
                let from = self.here().start;
                let end = self.text[from..].find(char::is_whitespace).map_or(self.text.len(), |length| from + length);
                while self.words.get(self.next).is_some_and(|(_, at)| at.start < end) {
                    self.next += 1;
                }
                Some(self.text[from..end].to_string())
            }
        }
    }

    /// The next word.
    pub fn peek(&self) -> Option<&Word> {
        self.words.get(self.next).map(|(word, _)| word)
    }

    /// Where the next word stands; at the end of the text, the end.
    pub fn here(&self) -> Range<usize> {
        self.words.get(self.next).map_or(self.text.len()..self.text.len(), |(_, at)| at.clone())
    }

    /// Where the last word that was taken ends.
    pub fn end_of_last(&self) -> usize {
        self.next.checked_sub(1).and_then(|last| self.words.get(last)).map_or(0, |(_, at)| at.end)
    }

    /// Takes the next word.
    pub fn advance(&mut self) {
        self.next += 1;
    }

    /// The error that something else is expected here.
    pub fn expected(&self, what: &str, help: &str) -> SyntaxError {
        SyntaxError { at: self.here(), what: format!("{what} is expected here"), help: help.to_string() }
    }

    /// Takes the next word if it is this keyword.
    pub fn keyword(&mut self, keyword: &str) -> bool {
        let found = matches!(self.peek(), Some(Word::Name(name)) if name.eq_ignore_ascii_case(keyword));
        self.next += usize::from(found);
        found
    }

    /// Takes the next word if it is one of these signs.
    pub fn sign(&mut self, signs: &str) -> Option<char> {
        let Some(Word::Sign(c)) = self.peek() else { return None };
        let found = Some(*c).filter(|c| signs.contains(*c));
        self.next += usize::from(found.is_some());
        found
    }

    /// Takes the next word if it is a comparison.
    pub fn comparison(&mut self) -> Option<Comparison> {
        let Some(Word::Comparison(how)) = self.peek() else { return None };
        let how = *how;
        self.next += 1;
        Some(how)
    }

    /// Reads something one level deeper; how deep one may go has an end.
    pub fn deeper<T>(&mut self, read: &mut dyn FnMut(&mut Self) -> Parsed<T>) -> Parsed<T> {
        if self.depth + 1 >= DEEPEST {
            let help = "take parentheses away".to_string();
            return Err(SyntaxError { at: self.here(), what: "this is nested too deeply".into(), help });
        }
        self.depth += 1;
        let result = read(self);
        self.depth -= 1;
        result
    }

    fn either<T>(&mut self, test: &mut dyn FnMut(&mut Cursor<'_>) -> Parsed<T>) -> Parsed<Logic<T>> {
        let mut parts = vec![self.both(test)?];
        while self.keyword("or") {
            parts.push(self.both(test)?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Logic::Any(parts) })
    }

    fn both<T>(&mut self, test: &mut dyn FnMut(&mut Cursor<'_>) -> Parsed<T>) -> Parsed<Logic<T>> {
        let mut parts = vec![self.part(test)?];
        while self.keyword("and") {
            parts.push(self.part(test)?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Logic::All(parts) })
    }

    fn part<T>(&mut self, test: &mut dyn FnMut(&mut Cursor<'_>) -> Parsed<T>) -> Parsed<Logic<T>> {
        self.deeper(&mut |cursor| cursor.part_within(test))
    }

    fn part_within<T>(&mut self, test: &mut dyn FnMut(&mut Cursor<'_>) -> Parsed<T>) -> Parsed<Logic<T>> {
        if self.keyword("not") {
            return Ok(Logic::Not(Box::new(self.part(test)?)));
        }
        let start = self.next;
        if self.sign("(").is_none() {
            return test(self).map(Logic::Test);
        }
        // A parenthesis may hold a condition or the beginning of a test: whichever reads further is what was meant.
        let condition = self.either(test).and_then(|inner| match self.sign(")") {
            Some(_) => Ok(inner),
            None => Err(self.expected("`)`", "close the parenthesis")),
        });
        let goes_on = matches!(self.peek(), Some(Word::Comparison(_) | Word::Sign('+' | '-' | '*' | '/')));
        if condition.is_ok() && !goes_on {
            return condition;
        }
        let reached = self.next;
        self.next = start;
        match (condition, test(self)) {
            (_, Ok(test)) => Ok(Logic::Test(test)),
            (Err(e), Err(other)) => Err(if e.at.start >= other.at.start { e } else { other }),
            (Ok(condition), Err(_)) => {
                self.next = reached;
                Ok(condition)
            }
        }
    }
}
