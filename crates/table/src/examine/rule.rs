//! Rules on a table, as in `humidity between 0 and 100 in 98 %`.
//!
//! Words, names, numbers and texts are those of all conditions ([`textum_expr::syntax`]), and what a row must meet is a
//! condition of [`crate::filter`]. A rule is
//!
//! ```text
//! rule    := ("rows" | "files") bounds
//!          | names "is" "unique"
//!          | "columns" "as" "in" table | "columns" ("are" | "include") name ("," name)*
//!          | figure "of" name bounds
//!          | "drift" ("of" name)? "from" table "below" number | "drift" ("of" name)? "below" number
//!          | "no" "row" "of" table ("by" names | "without" names)? ("near" number)?
//!          | "no" ("file" | "picture") "of" table | "pictures" "are" "unique"
//!          | names "among" names "of" table
//!          | name "before" table
//!          | condition ("in" number "%")?
//! names   := name | "(" name ("," name)* ")"
//! bounds  := "between" number "and" number | ("=" | "<" | "<=" | ">" | ">=" | "below" | "above") number
//! figure  := "mean" | "median" | "minimum" | "maximum" | "deviation" | "distinct" | "missing" | "most"
//! table   := "against" | a path, a dataset or a version; in quotes where it has blanks
//! ```

use std::ops::Range;

use textum_expr::syntax::{Comparison, Cursor, Parsed, SyntaxError, Word};

use crate::filter::{Condition, Named, test};

/// What a table that a rule holds against is called.
pub const AGAINST: &str = "against";

/// A number that must lie somewhere.
#[derive(Clone, Copy, Debug, PartialEq)]
pub struct Bounds {
    /// At least this; more than this where the flag is set.
    pub low: Option<(f64, bool)>,
    /// At most this; less than this where the flag is set.
    pub high: Option<(f64, bool)>,
}

/// A figure of a column.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Figure {
    /// Of its numbers.
    Mean,
    /// The value at rank ⌈n/2⌉.
    Median,
    /// The least number.
    Minimum,
    /// The greatest number.
    Maximum,
    /// The standard deviation of a sample.
    Deviation,
    /// How many different values there are.
    Distinct,
    /// Which share of the rows has none, 0 to 1.
    Missing,
    /// Which share of the rows has the most frequent value, 0 to 1.
    Most,
}

/// By what a row of another table is known.
#[derive(Clone, Debug, PartialEq)]
pub enum Likeness {
    /// All columns that both have, but for these.
    Without(Vec<Named>),
    /// These columns.
    By(Vec<Named>),
}

/// What a rule demands.
#[derive(Clone, Debug, PartialEq)]
pub enum Demand {
    /// So many rows.
    Rows(Bounds),
    /// No two rows with the same cells here.
    Unique(Vec<Named>),
    /// The same columns of the same types as in this table.
    ColumnsAsIn(String),
    /// These columns: exactly, or among others where the flag is set.
    Columns(Vec<String>, bool),
    /// A figure of a column.
    Figure(Figure, Named, Bounds),
    /// Less drift than this from a table, of one column or of each.
    Drift(Option<Named>, String, f64),
    /// No row that this table has too: but for so many cells.
    NoRowOf(String, Likeness, u32),
    /// No picture that this table has too, be it in another size or coding; of none: none twice in the table itself.
    NoPictureOf(Option<String>),
    /// Each row's cells are those of a row of this table, in these columns of it.
    Among(Vec<Named>, String, Vec<String>),
    /// Each row comes before the first of this table, by a column.
    Before(Named, String),
    /// Each row, or such a share of them (0 to 1), meets this.
    Meets(Condition<Named>, Option<f64>),
}

/// A rule.
#[derive(Clone, Debug, PartialEq)]
pub struct Rule {
    /// As it was written.
    pub text: String,
    /// What it demands.
    pub demand: Demand,
}

/// The column of a table of files by which pictures are known again, and that by which any file is.
pub const LIKENESS: &str = "likeness";
const CONTENT: &str = "content";

const EXAMPLE: &str = "\"humidity between 0 and 100\"";

/// Reads a rule.
pub fn parse(text: &str) -> Parsed<Rule> {
    let mut cursor = Cursor::of(text, EXAMPLE)?;
    // A word with which a rule begins may be a column's name too: then what follows tells.
    let readers: [fn(&mut Cursor<'_>) -> Parsed<Demand>; 9] =
        [rows, columns, drift, no_row, pictures, figure, unique, among, before];
    let mut furthest: Option<SyntaxError> = None;
    for read in readers {
        let start = cursor.mark();
        match read(&mut cursor).and_then(|demand| cursor.end("the end of the rule", "write one rule at a time").map(|()| demand)) {
            Ok(demand) => return Ok(Rule { text: text.to_string(), demand }),
            // One that got beyond its first words was meant.
            Err(e) if !e.help.is_empty() && furthest.as_ref().is_none_or(|f| f.at.start < e.at.start) => furthest = Some(e),
            Err(_) => {}
        }
        cursor.back_to(start);
    }
    match meets(&mut cursor) {
        Ok(demand) => Ok(Rule { text: text.to_string(), demand }),
        Err(e) => Err(furthest.filter(|f| f.at.start >= e.at.start).unwrap_or(e)),
    }
}

/// It is none of this sort: nothing need be told of it.
fn other(cursor: &Cursor<'_>) -> SyntaxError {
    cursor.expected("another rule", "")
}

fn rows(cursor: &mut Cursor<'_>) -> Parsed<Demand> {
    // The rows of a table of files are files.
    if !cursor.keyword("rows") && !cursor.keyword("files") {
        return Err(other(cursor));
    }
    Ok(Demand::Rows(bounds(cursor)?))
}

fn number(cursor: &mut Cursor<'_>) -> Parsed<f64> {
    let sign = if cursor.sign("-").is_some() { -1.0 } else { 1.0 };
    let Some(Word::Number(_, number)) = cursor.peek() else {
        return Err(cursor.expected("a number", "write a number such as 0.25"));
    };
    let number = sign * *number;
    cursor.advance();
    // A share may be written as a percentage.
    Ok(if cursor.sign("%").is_some() { number / 100.0 } else { number })
}

fn bounds(cursor: &mut Cursor<'_>) -> Parsed<Bounds> {
    let only = |low, high| Ok(Bounds { low, high });
    if cursor.keyword("between") {
        let low = number(cursor)?;
        if !cursor.keyword("and") {
            return Err(cursor.expected("`and`", "write both ends, as in `between 5000 and 20000`"));
        }
        return only(Some((low, false)), Some((number(cursor)?, false)));
    }
    if cursor.keyword("below") {
        return only(None, Some((number(cursor)?, true)));
    }
    if cursor.keyword("above") {
        return only(Some((number(cursor)?, true)), None);
    }
    match cursor.comparison() {
        Some(Comparison::Less) => only(None, Some((number(cursor)?, true))),
        Some(Comparison::AtMost) => only(None, Some((number(cursor)?, false))),
        Some(Comparison::More) => only(Some((number(cursor)?, true)), None),
        Some(Comparison::AtLeast) => only(Some((number(cursor)?, false)), None),
        Some(Comparison::Equal) => {
            let number = number(cursor)?;
            only(Some((number, false)), Some((number, false)))
        }
        _ => Err(cursor.expected("bounds", "write `between 1 and 5`, `below 5`, `above 1` or a comparison")),
    }
}

fn name(cursor: &mut Cursor<'_>) -> Parsed<Named> {
    let at = cursor.here();
    match cursor.peek() {
        Some(Word::Name(name) | Word::Quoted(name)) => {
            let name = name.clone();
            cursor.advance();
            Ok(Named { name, at })
        }
        _ => Err(cursor.expected("a column", "write a column's name; odd ones go in `backticks`")),
    }
}

fn listed(cursor: &mut Cursor<'_>) -> Parsed<Vec<Named>> {
    let mut found = vec![name(cursor)?];
    while cursor.sign(",").is_some() {
        found.push(name(cursor)?);
    }
    Ok(found)
}

fn names(cursor: &mut Cursor<'_>) -> Parsed<Vec<Named>> {
    if cursor.sign("(").is_none() {
        return Ok(vec![name(cursor)?]);
    }
    let found = listed(cursor)?;
    match cursor.sign(")") {
        Some(_) => Ok(found),
        None => Err(cursor.expected("`,` or `)`", "close the list of columns")),
    }
}

fn table(cursor: &mut Cursor<'_>) -> Parsed<String> {
    cursor.outside().ok_or_else(|| cursor.expected("a table", "write `against`, a path, a dataset or a version of one"))
}

fn unique(cursor: &mut Cursor<'_>) -> Parsed<Demand> {
    let columns = names(cursor)?;
    match cursor.keyword("is") && cursor.keyword("unique") {
        true => Ok(Demand::Unique(columns)),
        false => Err(other(cursor)),
    }
}

fn columns(cursor: &mut Cursor<'_>) -> Parsed<Demand> {
    if !cursor.keyword("columns") {
        return Err(other(cursor));
    }
    if cursor.keyword("as") {
        return match cursor.keyword("in") {
            true => Ok(Demand::ColumnsAsIn(table(cursor)?)),
            false => Err(cursor.expected("`in`", "write `columns as in against`")),
        };
    }
    let among_others = cursor.keyword("include");
    if !among_others && !cursor.keyword("are") {
        return Err(cursor.expected("`as in`, `are` or `include`", "write `columns are loom, humidity`"));
    }
    Ok(Demand::Columns(listed(cursor)?.into_iter().map(|n| n.name).collect(), among_others))
}

fn figure(cursor: &mut Cursor<'_>) -> Parsed<Demand> {
    const FIGURES: [(&str, Figure); 8] = [
        ("mean", Figure::Mean),
        ("median", Figure::Median),
        ("minimum", Figure::Minimum),
        ("maximum", Figure::Maximum),
        ("deviation", Figure::Deviation),
        ("distinct", Figure::Distinct),
        ("missing", Figure::Missing),
        ("most", Figure::Most),
    ];
    let found = FIGURES.iter().find(|(word, _)| cursor.keyword(word));
    match found {
        Some((_, figure)) if cursor.keyword("of") => Ok(Demand::Figure(*figure, name(cursor)?, bounds(cursor)?)),
        _ => Err(other(cursor)),
    }
}

fn drift(cursor: &mut Cursor<'_>) -> Parsed<Demand> {
    if !cursor.keyword("drift") {
        return Err(other(cursor));
    }
    let column = if cursor.keyword("of") { Some(name(cursor)?) } else { None };
    let from = if cursor.keyword("from") { table(cursor)? } else { AGAINST.to_string() };
    match cursor.keyword("below") {
        true => Ok(Demand::Drift(column, from, number(cursor)?)),
        false => Err(cursor.expected("`below`", "write `drift below 0.25`")),
    }
}

fn no_row(cursor: &mut Cursor<'_>) -> Parsed<Demand> {
    if !(cursor.keyword("no") && cursor.keyword("row") && cursor.keyword("of")) {
        return Err(other(cursor));
    }
    let of = table(cursor)?;
    let likeness = if cursor.keyword("by") {
        Likeness::By(names(cursor)?)
    } else if cursor.keyword("without") {
        Likeness::Without(names(cursor)?)
    } else {
        Likeness::Without(Vec::new())
    };
    let near = match cursor.keyword("near") {
        false => 0,
        true => match cursor.peek() {
            Some(Word::Number(_, n)) if *n == 1.0 || *n == 2.0 => {
                let n = *n as u32;
                cursor.advance();
                n
            }
            _ => return Err(cursor.expected("1 or 2", "write in how many cells a near row may differ: `near 1` or `near 2`")),
        },
    };
    Ok(Demand::NoRowOf(of, likeness, near))
}

fn pictures(cursor: &mut Cursor<'_>) -> Parsed<Demand> {
    if cursor.keyword("pictures") {
        return match cursor.keyword("are") && cursor.keyword("unique") {
            true => Ok(Demand::NoPictureOf(None)),
            false => Err(cursor.expected("`are unique`", "write `pictures are unique`")),
        };
    }
    if !cursor.keyword("no") {
        return Err(other(cursor));
    }
    let is_file = cursor.keyword("file");
    if !(is_file || cursor.keyword("picture")) {
        return Err(other(cursor));
    }
    if !cursor.keyword("of") {
        return Err(cursor.expected("`of`", "write `no file of FOLDER` or `no picture of FOLDER`"));
    }
    let of = table(cursor)?;
    let content = Named { name: CONTENT.to_string(), at: 0..cursor.end_of_last() };
    Ok(if is_file { Demand::NoRowOf(of, Likeness::By(vec![content]), 0) } else { Demand::NoPictureOf(Some(of)) })
}

fn among(cursor: &mut Cursor<'_>) -> Parsed<Demand> {
    let mine = names(cursor)?;
    if !cursor.keyword("among") {
        return Err(other(cursor));
    }
    let from = cursor.here().start;
    let theirs: Vec<String> = names(cursor)?.into_iter().map(|n| n.name).collect();
    if !cursor.keyword("of") {
        return Err(cursor.expected("`of`", "write `loom among loom of looms`"));
    }
    if mine.len() != theirs.len() {
        let at: Range<usize> = from..cursor.end_of_last();
        let help = "name as many columns on both sides".to_string();
        return Err(SyntaxError { at, what: "these are not as many columns".into(), help });
    }
    Ok(Demand::Among(mine, table(cursor)?, theirs))
}

fn before(cursor: &mut Cursor<'_>) -> Parsed<Demand> {
    let column = name(cursor)?;
    match cursor.keyword("before") {
        true => Ok(Demand::Before(column, table(cursor)?)),
        false => Err(other(cursor)),
    }
}

fn meets(cursor: &mut Cursor<'_>) -> Parsed<Demand> {
    let condition = Condition(cursor.logic(&mut test)?);
    let mut share = None;
    if cursor.keyword("in") {
        let at = cursor.here();
        let found = number(cursor)?;
        let is_percent = cursor.end_of_last() > at.end;
        if !is_percent || !(0.0..=1.0).contains(&found) {
            let help = "write a percentage of the rows, as in `in 98 %`".to_string();
            return Err(SyntaxError { at, what: "a percentage is expected here".into(), help });
        }
        share = Some(found);
    }
    cursor.end("`and`, `or`, `in … %` or the end", "join two tests with `and` or `or`")?;
    Ok(Demand::Meets(condition, share))
}

impl Rule {
    /// The tables that it holds this one against, by what they are called.
    pub fn tables(&self) -> Vec<&str> {
        match &self.demand {
            Demand::ColumnsAsIn(table)
            | Demand::Drift(_, table, _)
            | Demand::NoRowOf(table, ..)
            | Demand::Among(_, table, _)
            | Demand::NoPictureOf(Some(table))
            | Demand::Before(_, table) => vec![table],
            _ => Vec::new(),
        }
    }
}

impl Bounds {
    /// Whether a number lies within.
    pub fn hold(&self, value: f64) -> bool {
        let low = self.low.is_none_or(|(low, open)| if open { value > low } else { value >= low });
        low && self.high.is_none_or(|(high, open)| if open { value < high } else { value <= high })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rules_are_read_as_they_are_meant() {
        let demand = |text: &str| parse(text).unwrap_or_else(|e| panic!("{text}: {e:?}")).demand;
        let between = |low, high| Bounds { low: Some((low, false)), high: Some((high, false)) };
        assert_eq!(demand("rows between 5000 and 20000"), Demand::Rows(between(5000.0, 20000.0)));
        assert_eq!(demand("rows = 3"), Demand::Rows(between(3.0, 3.0)));
        assert!(matches!(demand("shift_id is unique"), Demand::Unique(names) if names.len() == 1));
        assert!(matches!(demand("(loom, `day of year`) is unique"), Demand::Unique(names) if names[1].name == "day of year"));
        assert!(matches!(demand("humidity between 0 and 100 in 98 %"), Demand::Meets(_, Some(s)) if s == 0.98));
        assert!(matches!(demand("shed in A, B, C"), Demand::Meets(_, None)));
        assert!(matches!(demand("shed in (A, B) in 99.5%"), Demand::Meets(_, Some(s)) if s == 0.995));
        assert!(matches!(demand("warp_tension is number"), Demand::Meets(..)));
        assert!(matches!(demand("columns as in against"), Demand::ColumnsAsIn(t) if t == AGAINST));
        assert!(matches!(demand("columns include loom, shed"), Demand::Columns(c, true) if c == ["loom", "shed"]));
        assert!(matches!(demand("drift below 0.25"), Demand::Drift(None, t, b) if t == AGAINST && b == 0.25));
        assert!(
            matches!(demand("drift of loom from shifts@1 below 0.1"), Demand::Drift(Some(n), t, _) if n.name == "loom" && t == "shifts@1")
        );
        assert!(
            matches!(demand("no row of build/test.csv"), Demand::NoRowOf(t, Likeness::Without(w), 0) if t == "build/test.csv" && w.is_empty())
        );
        assert!(
            matches!(demand("no row of 'a b.csv' without stopped near 2"), Demand::NoRowOf(t, Likeness::Without(w), 2) if t == "a b.csv" && w.len() == 1)
        );
        assert!(matches!(demand("no row of test by (loom, day)"), Demand::NoRowOf(_, Likeness::By(w), 0) if w.len() == 2));
        assert!(matches!(demand("loom among id of looms@2"), Demand::Among(_, t, c) if t == "looms@2" && c == ["id"]));
        assert!(matches!(demand("began before build/test.csv"), Demand::Before(n, _) if n.name == "began"));
        assert!(
            matches!(demand("missing of humidity below 5 %"), Demand::Figure(Figure::Missing, _, b) if b.high == Some((0.05, true)))
        );
        // Words of rules are names where they stand like names.
        assert!(matches!(demand("mean > 3"), Demand::Meets(..)));
        assert!(matches!(demand("`rows` > 3 and humidity is not missing"), Demand::Meets(..)));
        assert!(matches!(demand("columns is unique"), Demand::Unique(_)));
    }

    #[test]
    fn what_is_wrong_with_a_rule_is_pointed_at() {
        let error = |text: &str| parse(text).unwrap_err();
        for (text, at, what) in [
            ("", 0..0, "empty"),
            ("rows between 5 20", 15..17, "`and`"),
            ("columns as against", 11..18, "`in`"),
            ("drift 0.25", 6..10, "`below`"),
            ("humidity between 0 and 100 in 98", 30..32, "percentage"),
            ("humidity between 0 and 100 in 198 %", 30..33, "percentage"),
            ("no row of test near 3", 20..21, "1 or 2"),
            ("(a, b) among c of t", 13..17, "as many"),
            ("humidity between 0 and 100 98", 27..29, "the end"),
            ("mean of humidity", 16..16, "bounds"),
            ("humidity", 8..8, "comparison"),
        ] {
            let found = error(text);
            assert_eq!((found.at.clone(), found.what.contains(what)), (at, true), "{text}: {found:?}");
        }
    }

    proptest::proptest! {
        #[test]
        fn no_text_brings_the_reader_down(text in "(rows|drift|no|row|of|is|unique|in|a|b|between|and|[0-9]{1,2}|%|,|\\(|\\)|'|`| ){0,24}") {
            if let Err(e) = parse(&text) {
                proptest::prop_assert!(e.at.start <= e.at.end && e.at.end <= text.len() && text.is_char_boundary(e.at.start));
            }
        }
    }
}
