//! The tests of conditions on rows; how they are joined is the same for all conditions.

use textum_expr::syntax::{Cursor, Parsed, Word, parse_logic};

use crate::kind::Kind;

use super::{Condition, Named, Operand, Operator, Test};

/// Kinds of cells, by the words that columns' types are told by.
const KINDS: [(&str, Kind); 5] =
    [("number", Kind::Number), ("integer", Kind::Integer), ("date", Kind::Date), ("boolean", Kind::Boolean), ("text", Kind::Text)];

/// Reads a condition.
pub fn parse(text: &str) -> Parsed<Condition<Named>> {
    parse_logic(text, "'loom = \"L17\" and humidity > 80'", &mut test).map(Condition)
}

/// Reads one test.
pub fn test(cursor: &mut Cursor<'_>) -> Parsed<Test<Named>> {
    let first = operand(cursor)?;
    if cursor.keyword("is") {
        let negated = cursor.keyword("not");
        if cursor.keyword("missing") {
            return Ok(Test::Missing(first, negated));
        }
        return match KINDS.iter().find(|(word, _)| cursor.keyword(word)) {
            Some((_, kind)) => Ok(Test::Kind(first, *kind, negated)),
            None => {
                Err(cursor.expected("`missing` or a kind", "write `is missing`, `is number`, `is date` or `is not` before them"))
            }
        };
    }
    let negated = cursor.keyword("not");
    if cursor.keyword("in") {
        return Ok(Test::OneOf(first, list(cursor)?, negated));
    }
    if cursor.keyword("between") {
        let low = operand(cursor)?;
        if !cursor.keyword("and") {
            return Err(cursor.expected("`and`", "write both ends, as in `between 0 and 100`"));
        }
        return Ok(Test::Between(first, [low, operand(cursor)?], negated));
    }
    if negated {
        return Err(cursor.expected("`in` or `between`", "write `not in (…)`, or put `not` before the whole test"));
    }
    if cursor.keyword("contains") {
        return Ok(Test::Compare(first, Operator::Contains, operand(cursor)?));
    }
    match cursor.comparison() {
        Some(how) => Ok(Test::Compare(first, Operator::Of(how), operand(cursor)?)),
        None => Err(cursor.expected("a comparison", "use =, !=, <, <=, >, >=, `contains`, `in (…)` or `is missing`")),
    }
}

/// Values in parentheses or without.
fn list(cursor: &mut Cursor<'_>) -> Parsed<Vec<Operand<Named>>> {
    let in_parentheses = cursor.sign("(").is_some();
    let mut values = vec![operand(cursor)?];
    while cursor.sign(",").is_some() {
        values.push(operand(cursor)?);
    }
    // A parenthesis around the whole test is not the list's.
    if in_parentheses && cursor.sign(")").is_none() {
        return Err(cursor.expected("`,` or `)`", "close the list of values"));
    }
    Ok(values)
}

fn operand(cursor: &mut Cursor<'_>) -> Parsed<Operand<Named>> {
    const KEYWORDS: [&str; 8] = ["and", "or", "not", "in", "is", "missing", "contains", "between"];
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
