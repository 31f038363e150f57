//! Rules out of what a table looks like: a start, to be edited by somebody who knows what the columns mean.

use super::rule::parse;
use crate::kind::{Kind, kind_of};
use crate::profile::{ColumnProfile, Profile};

/// A column with at most so many values, each there several times, is a set of categories.
pub const CATEGORIES: usize = 12;
/// More whole numbers than these are a quantity.
const FEW_NUMBERS: u64 = 3;
/// So many times, on average.
const OFTEN: u64 = 5;

/// A column's name as rules write it.
fn named(column: &str) -> String {
    const WORDS: [&str; 26] = [
        "and",
        "or",
        "not",
        "in",
        "is",
        "missing",
        "contains",
        "between",
        "true",
        "false",
        "rows",
        "columns",
        "drift",
        "no",
        "of",
        "from",
        "by",
        "mean",
        "median",
        "minimum",
        "maximum",
        "deviation",
        "distinct",
        "most",
        "among",
        "before",
    ];
    let plain = column.starts_with(|c: char| c.is_alphabetic() || c == '_')
        && column.chars().all(|c| c.is_alphanumeric() || c == '_')
        && !WORDS.iter().any(|w| column.eq_ignore_ascii_case(w));
    if plain { column.to_string() } else { format!("`{column}`") }
}

/// A value as rules write it.
fn value(text: &str) -> String {
    let plain = named(text) == text || matches!(kind_of(text.as_bytes()), Kind::Integer | Kind::Number);
    let quoted = || format!("'{}'", text.replace('\\', "\\\\").replace('\'', "\\'"));
    if plain { text.to_string() } else { quoted() }
}

/// A number rounded away from the values to two digits of their span, so that there is room.
fn rounded(number: f64, span: f64, up: bool) -> f64 {
    let step = 10f64.powf((span.abs().max(f64::MIN_POSITIVE)).log10().floor() - 1.0);
    let steps = number / step;
    let at = if up { steps.ceil() } else { steps.floor() };
    // Of a power of ten that is no binary number, as it is written.
    format!("{:.*}", usize::try_from((-step.log10().round() as i64).max(0)).unwrap_or(0), at * step).parse().unwrap_or(number)
}

fn range(column: &ColumnProfile, name: &str) -> Option<String> {
    let numbers = column.numbers.as_ref().filter(|n| n.min.is_finite() && n.max.is_finite() && !column.identifier)?;
    let span = if numbers.max > numbers.min { numbers.max - numbers.min } else { numbers.max.abs().max(1.0) };
    let low = rounded(numbers.min - span * 0.1, span, false);
    // What is never below nothing hardly is meant to be.
    let low = if numbers.min >= 0.0 { low.max(0.0) } else { low };
    let high = rounded(numbers.max + span * 0.1, span, true);
    let (low, high) = if column.r#type == "integer" { (low.floor(), high.ceil()) } else { (low, high) };
    Some(format!("{name} between {low} and {high}"))
}

fn categories(column: &ColumnProfile, name: &str) -> Option<String> {
    let few = column.distinct as usize <= CATEGORIES && column.frequent.len() == column.distinct as usize;
    // Few whole numbers are names, more of them a quantity.
    let is_quantity = column.numbers.is_some() && (column.r#type != "integer" || column.distinct > FEW_NUMBERS);
    if !few || column.distinct < 2 || column.count < OFTEN * column.distinct || is_quantity || column.r#type == "date" {
        return None;
    }
    let mut values: Vec<String> = column.frequent.iter().map(|f| value(&f.value)).collect();
    values.sort();
    Some(format!("{name} in {}", values.join(", ")))
}

fn of_column(column: &ColumnProfile, key: &[String], rows: u64) -> Vec<String> {
    let name = named(&column.name);
    let mut found = Vec::new();
    let told_by_key = key.len() == 1 && key[0] == column.name;
    if column.identifier && !told_by_key && column.missing == 0 {
        found.push(format!("{name} is unique"));
    }
    let kind = match column.r#type.as_str() {
        kind @ ("integer" | "number" | "date" | "boolean") => Some(kind),
        _ => None,
    };
    let values = categories(column, &name);
    found.extend(kind.filter(|_| values.is_none()).map(|kind| format!("{name} is {kind}")));
    found.extend(if values.is_some() { values } else { range(column, &name) });
    match column.missing {
        0 if column.count > 0 => found.push(format!("{name} is not missing")),
        missing if rows > 0 => {
            let percent = (150.0 * missing as f64 / rows as f64 + 1.0).ceil().min(100.0);
            if percent < 100.0 {
                found.push(format!("missing of {name} below {percent} %"));
            }
        }
        _ => {}
    }
    found
}

/// Rules that a table with this profile meets, with room. The profile must tell as many frequent values as there may be
/// categories. `key`: the columns that tell its rows apart, as declared.
pub fn propose(profile: &Profile, key: &[String]) -> Vec<String> {
    let mut found = Vec::new();
    if profile.rows > 0 {
        found.push(format!("rows between {} and {}", profile.rows / 2, profile.rows * 2));
    }
    let columns: Vec<String> = profile.columns.iter().map(|c| named(&c.name)).collect();
    if !columns.is_empty() {
        found.push(format!("columns include {}", columns.join(", ")));
    }
    match key {
        [] => {}
        [one] => found.push(format!("{} is unique", named(one))),
        several => found.push(format!("({}) is unique", several.iter().map(|k| named(k)).collect::<Vec<_>>().join(", "))),
    }
    found.extend(profile.columns.iter().flat_map(|column| of_column(column, key, profile.rows)));
    // A name with a backtick in it cannot be written.
    found.retain(|rule| parse(rule).is_ok());
    found
}
