//! The tests of conditions on rows; how they are joined is the same for all conditions.

use textum_expr::syntax::{Cursor, Parsed, Word, parse_logic};

use super::{Condition, Named, Operand, Operator, Test};

/// Reads a condition.
pub fn parse(text: &str) -> Parsed<Condition<Named>> {
    parse_logic(text, "'loom = \"L17\" and humidity > 80'", &mut test).map(Condition)
}

fn test(cursor: &mut Cursor<'_>) -> Parsed<Test<Named>> {
    let first = operand(cursor)?;
    if cursor.keyword("is") {
        let negated = cursor.keyword("not");
        return match cursor.keyword("missing") {
            true => Ok(Test::Missing(first, negated)),
            false => Err(cursor.expected("`missing`", "write `is missing` or `is not missing`")),
        };
    }
    let negated = cursor.keyword("not");
    if cursor.keyword("in") {
        return Ok(Test::OneOf(first, list(cursor)?, negated));
    }
    if negated {
        return Err(cursor.expected("`in`", "write `not in (…)`, or put `not` before the whole test"));
    }
    if cursor.keyword("contains") {
        return Ok(Test::Compare(first, Operator::Contains, operand(cursor)?));
    }
    match cursor.comparison() {
        Some(how) => Ok(Test::Compare(first, Operator::Of(how), operand(cursor)?)),
        None => Err(cursor.expected("a comparison", "use =, !=, <, <=, >, >=, `contains`, `in (…)` or `is missing`")),
    }
}

fn list(cursor: &mut Cursor<'_>) -> Parsed<Vec<Operand<Named>>> {
    if cursor.sign("(").is_none() {
        return Err(cursor.expected("`(`", "write the values in parentheses, as in `in (\"A\", \"B\")`"));
    }
    let mut values = vec![operand(cursor)?];
    while cursor.sign(",").is_some() {
        values.push(operand(cursor)?);
    }
    match cursor.sign(")") {
        Some(_) => Ok(values),
        None => Err(cursor.expected("`,` or `)`", "close the list of values")),
    }
}

fn operand(cursor: &mut Cursor<'_>) -> Parsed<Operand<Named>> {
    const KEYWORDS: [&str; 7] = ["and", "or", "not", "in", "is", "missing", "contains"];
    let at = cursor.here();
    let sign = cursor.sign("-+");
    let signed = |number: f64| if sign == Some('-') { -number } else { number };
    let found = match (cursor.peek(), sign) {
        // As bytes it is what was written.
        (Some(Word::Number(written, number)), _) => {
            let text: String = sign.into_iter().chain(written.chars()).collect();
            Operand::Value(text.into_bytes(), Some(signed(*number)))
        }
        (Some(Word::Name(name)), None) if matches!(name.as_str(), "true" | "false") => {
            Operand::Value(name.clone().into_bytes(), None)
        }
        (Some(Word::Name(name)), None) if !KEYWORDS.iter().any(|k| name.eq_ignore_ascii_case(k)) => {
            Operand::Column(Named { name: name.clone(), at })
        }
        (Some(Word::Quoted(name)), None) => Operand::Column(Named { name: name.clone(), at }),
        (Some(Word::Text(text)), None) => Operand::Value(text.clone().into_bytes(), None),
        _ => return Err(cursor.expected("a column or a value", "write a column's name, a number, or a text in quotes")),
    };
    cursor.advance();
    Ok(found)
}
