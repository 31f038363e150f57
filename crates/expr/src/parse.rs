//! The grammar of rules, by recursive descent.

use std::ops::Range;

use super::{How, Part, Rule, RuleError, Sum, Test};

/// How deep parentheses and signs may go.
const DEEPEST: usize = 100;

#[derive(Clone, Debug, PartialEq)]
enum Word {
    Name(String),
    Number(f64),
    How(How),
    Sign(char),
}

struct Parser<'t> {
    text: &'t str,
    words: Vec<(Word, Range<usize>)>,
    next: usize,
    depth: usize,
}

type Parsed<T> = Result<T, RuleError>;

fn words(text: &str) -> Parsed<Vec<(Word, Range<usize>)>> {
    let wrong = |at: Range<usize>, what: String, help: &str| RuleError { at, what, help: help.to_string() };
    let mut found = Vec::new();
    let mut at = 0;
    while let Some(c) = text[at..].chars().next() {
        let from = at;
        let run = |fits: fn(char) -> bool| from + text[from..].find(|c| !fits(c)).unwrap_or(text.len() - from);
        at += c.len_utf8();
        let word = match c {
            c if c.is_whitespace() => continue,
            '(' | ')' | '+' | '-' | '*' | '/' => Word::Sign(c),
            '`' => {
                let end = text[at..]
                    .find('`')
                    .ok_or_else(|| wrong(from..text.len(), "this name has no end".into(), "end it with a backtick"))?;
                let name = text[at..at + end].to_string();
                at += end + 1;
                Word::Name(name)
            }
            '<' | '>' | '=' | '!' => {
                at = run(|c| "<>=!".contains(c));
                Word::How(match &text[from..at] {
                    "<" => How::Less,
                    "<=" => How::AtMost,
                    ">" => How::More,
                    ">=" => How::AtLeast,
                    "=" => How::Equal,
                    "!=" => How::Unequal,
                    other => return Err(wrong(from..at, format!("`{other}` is no comparison"), "use <, <=, >, >=, = or !=")),
                })
            }
            c if c.is_ascii_digit() || c == '.' => {
                at = run(|c| c.is_ascii_alphanumeric() || c == '.');
                // The sign of an exponent belongs to the number.
                if text[from..at].ends_with(['e', 'E']) && text[at..].starts_with(['-', '+']) {
                    let digits = text[at + 1..].find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len() - at - 1);
                    at += 1 + digits;
                }
                let written = &text[from..at];
                let number = written.parse::<f64>().ok().filter(|n| n.is_finite());
                Word::Number(number.ok_or_else(|| wrong(from..at, format!("`{written}` is no number"), "write numbers as in 0.8"))?)
            }
            c if c.is_alphabetic() || c == '_' => {
                at = run(|c| c.is_alphanumeric() || matches!(c, '_' | '.'));
                Word::Name(text[from..at].to_string())
            }
            other => {
                let help = "metrics with other characters in their names go in `backticks`";
                return Err(wrong(from..at, format!("`{other}` has no meaning here"), help));
            }
        };
        found.push((word, from..at));
    }
    Ok(found)
}

/// Reads a rule.
pub fn parse(text: &str) -> Parsed<Rule> {
    let mut parser = Parser { text, words: words(text)?, next: 0, depth: 0 };
    if parser.words.is_empty() {
        return Err(RuleError { at: 0..0, what: "the condition is empty".into(), help: "write one, as in \"auc >= 0.80\"".into() });
    }
    let root = parser.either()?;
    if parser.next < parser.words.len() {
        return Err(parser.expected("`and`, `or` or the end", "join two tests with `and` or `or`"));
    }
    Ok(Rule { text: text.to_string(), root })
}

impl Parser<'_> {
    fn here(&self) -> Range<usize> {
        self.words.get(self.next).map_or(self.text.len()..self.text.len(), |(_, at)| at.clone())
    }

    fn expected(&self, what: &str, help: &str) -> RuleError {
        RuleError { at: self.here(), what: format!("{what} is expected here"), help: help.to_string() }
    }

    fn keyword(&mut self, keyword: &str) -> bool {
        let found = matches!(self.words.get(self.next), Some((Word::Name(name), _)) if name == keyword);
        self.next += usize::from(found);
        found
    }

    fn sign(&mut self, signs: &str) -> Option<char> {
        let Some((Word::Sign(c), _)) = self.words.get(self.next) else { return None };
        let found = Some(*c).filter(|c| signs.contains(*c));
        self.next += usize::from(found.is_some());
        found
    }

    fn either(&mut self) -> Parsed<Part> {
        let mut parts = vec![self.both()?];
        while self.keyword("or") {
            parts.push(self.both()?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Part::Any(parts) })
    }

    fn both(&mut self) -> Parsed<Part> {
        let mut parts = vec![self.part()?];
        while self.keyword("and") {
            parts.push(self.part()?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Part::All(parts) })
    }

    fn deeper(&mut self) -> Parsed<()> {
        self.depth += 1;
        match self.depth {
            DEEPEST.. => {
                Err(RuleError { at: self.here(), what: "this is nested too deeply".into(), help: "take parentheses away".into() })
            }
            _ => Ok(()),
        }
    }

    fn part(&mut self) -> Parsed<Part> {
        self.deeper()?;
        let part = self.part_within();
        self.depth -= 1;
        part
    }

    fn part_within(&mut self) -> Parsed<Part> {
        if self.keyword("not") {
            return Ok(Part::Not(Box::new(self.part()?)));
        }
        // A parenthesis may hold a condition or a sum: whichever reads further is what was meant.
        let start = self.next;
        if self.sign("(").is_none() {
            return self.test();
        }
        let condition = self.either().and_then(|inner| match self.sign(")") {
            Some(_) => Ok(inner),
            None => Err(self.expected("`)`", "close the parenthesis")),
        });
        let begins_a_sum = matches!(self.words.get(self.next), Some((Word::How(_) | Word::Sign('+' | '-' | '*' | '/'), _)));
        if condition.is_ok() && !begins_a_sum {
            return condition;
        }
        let (reached, depth) = (self.next, self.depth);
        self.next = start;
        let as_sum = self.test();
        match (condition, as_sum) {
            (_, Ok(test)) => Ok(test),
            (Err(e), Err(other)) => Err(if e.at.start >= other.at.start { e } else { other }),
            (Ok(condition), Err(_)) => {
                (self.next, self.depth) = (reached, depth);
                Ok(condition)
            }
        }
    }

    fn test(&mut self) -> Parsed<Part> {
        let from = self.here().start;
        let left = self.sum()?;
        let (how, right) = if self.keyword("is") {
            let how = if self.keyword("not") { How::NotFinite } else { How::Finite };
            if !self.keyword("finite") {
                return Err(self.expected("`finite`", "write `is finite` or `is not finite`"));
            }
            (how, Sum::Number(0.0))
        } else if let Some((Word::How(how), _)) = self.words.get(self.next) {
            let how = *how;
            self.next += 1;
            (how, self.sum()?)
        } else {
            return Err(self.expected("a comparison", "use <, <=, >, >=, =, != or `is finite`"));
        };
        let steps = if self.keyword("for") { self.steps()? } else { 1 };
        let to = self.words.get(self.next.saturating_sub(1)).map_or(from, |(_, at)| at.end);
        Ok(Part::Test(Test { left, how, right, steps, at: from..to }))
    }

    fn steps(&mut self) -> Parsed<u32> {
        let help = "write how many steps on end, as in `for 5 steps`";
        let count = match self.words.get(self.next) {
            Some((Word::Number(n), _)) if *n >= 1.0 && n.fract() == 0.0 && *n <= f64::from(u32::MAX) => *n as u32,
            _ => return Err(self.expected("a whole number from 1 on", help)),
        };
        self.next += 1;
        if self.keyword("steps") || self.keyword("step") { Ok(count) } else { Err(self.expected("`steps`", help)) }
    }

    fn sum(&mut self) -> Parsed<Sum> {
        let mut sum = self.product()?;
        while let Some(sign) = self.sign("+-") {
            sum = Sum::Pair(Box::new(sum), sign, Box::new(self.product()?));
        }
        Ok(sum)
    }

    fn product(&mut self) -> Parsed<Sum> {
        let mut product = self.factor()?;
        while let Some(sign) = self.sign("*/") {
            product = Sum::Pair(Box::new(product), sign, Box::new(self.factor()?));
        }
        Ok(product)
    }

    fn factor(&mut self) -> Parsed<Sum> {
        const KEYWORDS: [&str; 7] = ["and", "or", "not", "is", "for", "steps", "finite"];
        self.deeper()?;
        let factor = if self.sign("-").is_some() {
            Sum::Minus(Box::new(self.factor()?))
        } else if self.sign("(").is_some() {
            let inner = self.sum()?;
            if self.sign(")").is_none() {
                return Err(self.expected("`)`", "close the parenthesis"));
            }
            inner
        } else {
            let found = match self.words.get(self.next) {
                Some((Word::Number(n), _)) => Some(Sum::Number(*n)),
                Some((Word::Name(name), _)) if !KEYWORDS.contains(&name.as_str()) => Some(Sum::Name(name.clone())),
                _ => None,
            };
            let help = "write a number such as 0.8 or the name of a metric";
            let found = found.ok_or_else(|| self.expected("a number or a metric", help))?;
            self.next += 1;
            found
        };
        self.depth -= 1;
        Ok(factor)
    }
}
