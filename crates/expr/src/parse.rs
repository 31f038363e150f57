//! The tests of rules, by recursive descent; how they are joined is `syntax`'s.

use super::syntax::{Cursor, Parsed, Word, parse_logic};
use super::{How, Rule, Sum, Test};

/// Reads a rule.
pub fn parse(text: &str) -> Parsed<Rule> {
    Ok(Rule { text: text.to_string(), root: parse_logic(text, "\"auc >= 0.80\"", &mut test)? })
}

fn test(cursor: &mut Cursor<'_>) -> Parsed<Test> {
    let from = cursor.here().start;
    let left = sum(cursor)?;
    let (how, right) = if cursor.keyword("is") {
        let how = if cursor.keyword("not") { How::NotFinite } else { How::Finite };
        if !cursor.keyword("finite") {
            return Err(cursor.expected("`finite`", "write `is finite` or `is not finite`"));
        }
        (how, Sum::Number(0.0))
    } else if let Some(how) = cursor.comparison() {
        (How::Compared(how), sum(cursor)?)
    } else {
        return Err(cursor.expected("a comparison", "use <, <=, >, >=, =, != or `is finite`"));
    };
    let steps = if cursor.keyword("for") { steps(cursor)? } else { 1 };
    Ok(Test { left, how, right, steps, at: from..cursor.end_of_last() })
}

fn steps(cursor: &mut Cursor<'_>) -> Parsed<u32> {
    let help = "write how many steps on end, as in `for 5 steps`";
    let count = match cursor.peek() {
        Some(Word::Number(_, n)) if *n >= 1.0 && n.fract() == 0.0 && *n <= f64::from(u32::MAX) => *n as u32,
        _ => return Err(cursor.expected("a whole number from 1 on", help)),
    };
    cursor.advance();
    if cursor.keyword("steps") || cursor.keyword("step") { Ok(count) } else { Err(cursor.expected("`steps`", help)) }
}

fn sum(cursor: &mut Cursor<'_>) -> Parsed<Sum> {
    let mut sum = product(cursor)?;
    while let Some(sign) = cursor.sign("+-") {
        sum = Sum::Pair(Box::new(sum), sign, Box::new(product(cursor)?));
    }
    Ok(sum)
}

fn product(cursor: &mut Cursor<'_>) -> Parsed<Sum> {
    let mut product = cursor.deeper(&mut factor)?;
    while let Some(sign) = cursor.sign("*/") {
        product = Sum::Pair(Box::new(product), sign, Box::new(cursor.deeper(&mut factor)?));
    }
    Ok(product)
}

fn factor(cursor: &mut Cursor<'_>) -> Parsed<Sum> {
    const KEYWORDS: [&str; 7] = ["and", "or", "not", "is", "for", "steps", "finite"];
    if cursor.sign("-").is_some() {
        return Ok(Sum::Minus(Box::new(cursor.deeper(&mut factor)?)));
    }
    if cursor.sign("(").is_some() {
        let inner = sum(cursor)?;
        return match cursor.sign(")") {
            Some(_) => Ok(inner),
            None => Err(cursor.expected("`)`", "close the parenthesis")),
        };
    }
    let found = match cursor.peek() {
        Some(Word::Number(_, n)) => Sum::Number(*n),
        Some(Word::Quoted(name)) => Sum::Name(name.clone()),
        Some(Word::Name(name)) if !KEYWORDS.iter().any(|k| name.eq_ignore_ascii_case(k)) => Sum::Name(name.clone()),
        _ => return Err(cursor.expected("a number or a metric", "write a number such as 0.8 or the name of a metric")),
    };
    cursor.advance();
    Ok(found)
}
