//! The grammar of conditions, by recursive descent.

use std::ops::Range;

use super::words::{Word, words};
use super::{Condition, FilterError, Named, Operand, Operator};

/// How deep parentheses and `not` may go.
const DEEPEST: usize = 200;

struct Parser<'t> {
    text: &'t str,
    words: Vec<(Word, Range<usize>)>,
    next: usize,
    depth: usize,
}

/// Reads a condition.
pub fn parse(text: &str) -> Result<Condition<Named>, FilterError> {
    let mut parser = Parser { text, words: words(text)?, next: 0, depth: 0 };
    if parser.words.is_empty() {
        let help = "write one, as in 'loom = \"L17\" and humidity > 80'".to_string();
        return Err(FilterError { at: 0..0, what: "the condition is empty".into(), help });
    }
    let condition = parser.either()?;
    match parser.words.get(parser.next) {
        None => Ok(condition),
        Some(_) => Err(parser.expected("`and`, `or` or the end", "join two tests with `and` or `or`")),
    }
}

impl Parser<'_> {
    fn here(&self) -> Range<usize> {
        self.words.get(self.next).map_or(self.text.len()..self.text.len(), |(_, at)| at.clone())
    }

    fn expected(&self, what: &str, help: &str) -> FilterError {
        FilterError { at: self.here(), what: format!("{what} is expected here"), help: help.to_string() }
    }

    fn keyword(&mut self, keyword: &str) -> bool {
        let found = matches!(self.words.get(self.next), Some((Word::Name(name), _)) if name.eq_ignore_ascii_case(keyword));
        self.next += usize::from(found);
        found
    }

    fn sign(&mut self, sign: &Word) -> bool {
        let found = self.words.get(self.next).is_some_and(|(word, _)| word == sign);
        self.next += usize::from(found);
        found
    }

    fn either(&mut self) -> Result<Condition<Named>, FilterError> {
        let mut parts = vec![self.both()?];
        while self.keyword("or") {
            parts.push(self.both()?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Condition::Any(parts) })
    }

    fn both(&mut self) -> Result<Condition<Named>, FilterError> {
        let mut parts = vec![self.part()?];
        while self.keyword("and") {
            parts.push(self.part()?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Condition::All(parts) })
    }

    fn part(&mut self) -> Result<Condition<Named>, FilterError> {
        self.depth += 1;
        if self.depth >= DEEPEST {
            return Err(FilterError {
                at: self.here(),
                what: "this is nested too deeply".into(),
                help: "take parentheses away".into(),
            });
        }
        let result = self.part_within();
        self.depth -= 1;
        result
    }

    fn part_within(&mut self) -> Result<Condition<Named>, FilterError> {
        if self.keyword("not") {
            return Ok(Condition::Not(Box::new(self.part()?)));
        }
        if self.sign(&Word::Open) {
            let inner = self.either()?;
            return match self.sign(&Word::Close) {
                true => Ok(inner),
                false => Err(self.expected("`)`", "close the parenthesis")),
            };
        }
        self.test()
    }

    fn test(&mut self) -> Result<Condition<Named>, FilterError> {
        let first = self.operand()?;
        if self.keyword("is") {
            let negated = self.keyword("not");
            if !self.keyword("missing") {
                return Err(self.expected("`missing`", "write `is missing` or `is not missing`"));
            }
            let missing = Condition::Missing(first);
            return Ok(if negated { Condition::Not(Box::new(missing)) } else { missing });
        }
        let negated = self.keyword("not");
        if self.keyword("in") {
            let one_of = Condition::OneOf(first, self.list()?);
            return Ok(if negated { Condition::Not(Box::new(one_of)) } else { one_of });
        }
        if negated {
            return Err(self.expected("`in`", "write `not in (…)`, or put `not` before the whole test"));
        }
        if self.keyword("contains") {
            return Ok(Condition::Compare(first, Operator::Contains, self.operand()?));
        }
        match self.words.get(self.next) {
            Some((Word::Operator(operator), _)) => {
                let operator = *operator;
                self.next += 1;
                Ok(Condition::Compare(first, operator, self.operand()?))
            }
            _ => Err(self.expected("a comparison", "use =, !=, <, <=, >, >=, `contains`, `in (…)` or `is missing`")),
        }
    }

    fn list(&mut self) -> Result<Vec<Operand<Named>>, FilterError> {
        if !self.sign(&Word::Open) {
            return Err(self.expected("`(`", "write the values in parentheses, as in `in (\"A\", \"B\")`"));
        }
        let mut values = vec![self.operand()?];
        while self.sign(&Word::Comma) {
            values.push(self.operand()?);
        }
        match self.sign(&Word::Close) {
            true => Ok(values),
            false => Err(self.expected("`,` or `)`", "close the list of values")),
        }
    }

    fn operand(&mut self) -> Result<Operand<Named>, FilterError> {
        const KEYWORDS: [&str; 7] = ["and", "or", "not", "in", "is", "missing", "contains"];
        let at = self.here();
        let found = match self.words.get(self.next).map(|(word, _)| word) {
            Some(Word::Name(name)) if matches!(name.as_str(), "true" | "false") => Operand::Value(name.clone().into_bytes(), None),
            Some(Word::Name(name)) if !KEYWORDS.iter().any(|k| name.eq_ignore_ascii_case(k)) => {
                Operand::Column(Named { name: name.clone(), at })
            }
            Some(Word::Quoted(name)) => Operand::Column(Named { name: name.clone(), at }),
            Some(Word::Text(text)) => Operand::Value(text.clone().into_bytes(), None),
            Some(Word::Number(written, number)) => Operand::Value(written.clone().into_bytes(), Some(*number)),
            _ => return Err(self.expected("a column or a value", "write a column's name, a number, or a text in quotes")),
        };
        self.next += 1;
        Ok(found)
    }
}
