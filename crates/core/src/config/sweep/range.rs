//! The values of a varied parameter.
//!
//! ```text
//! values := value ("," value)* | FROM ".." TO (":" STEP)? | "log(" FROM ".." TO "," COUNT ")" | "even(" FROM ".." TO "," COUNT ")"
//! ```
//!
//! A value with a comma goes in double quotes. Both ends of a range belong to it.

/// More values than this in one range, and more settings of several, are taken for a mistake.
pub(super) const MOST: u128 = 1_000_000;

/// Why values do not parse.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum RangeError {
    /// Nothing is there.
    #[error("there are no values: write them as in 0.1,0.2 or 2..5 or log(0.001..0.1, 5)")]
    Empty,
    /// It goes backwards.
    #[error("the range {0} goes backwards: write the smaller end first")]
    Backwards(String),
    /// It goes nowhere.
    #[error("the range {0} has a step that is not above 0: each value is the one before plus the step")]
    Step(String),
    /// A range that is no range.
    #[error("`{0}` is no range: write 2..5, 0..1:0.25, even(0..1, 5) or log(0.001..0.1, 5)")]
    Form(String),
    /// It has no end in sight.
    #[error("the range {0} has more than a million values")]
    Endless(String),
    /// A logarithm needs more.
    #[error("log({0}): both ends must be above 0")]
    NotPositive(String),
    /// A list in double quotes has no end.
    #[error("a value in double quotes has no end")]
    Quote,
}

/// The texts of all values.
pub fn values(text: &str) -> Result<Vec<String>, RangeError> {
    let text = text.trim();
    for (name, log) in [("log(", true), ("even(", false)] {
        if let Some(inside) = text.strip_prefix(name).and_then(|t| t.strip_suffix(')')) {
            return spread(inside, log);
        }
    }
    if let Some((from, to)) = text.split_once("..").filter(|_| !text.contains([',', '"'])) {
        return range(text, from, to);
    }
    let items = list(text)?;
    if items.is_empty() || items.iter().any(String::is_empty) { Err(RangeError::Empty) } else { Ok(items) }
}

fn list(text: &str) -> Result<Vec<String>, RangeError> {
    let (mut items, mut item, mut quoted, mut depth) = (Vec::new(), String::new(), false, 0usize);
    let mut was_quoted = false;
    for c in text.chars() {
        match c {
            '"' if depth == 0 => {
                quoted = !quoted;
                was_quoted = true;
            }
            ',' if !quoted && depth == 0 => items.push(std::mem::take(&mut item).trim().to_string()),
            c => {
                // The items of a list such as [1, 2] are one value.
                depth = if c == '[' && !quoted {
                    depth + 1
                } else if c == ']' && !quoted {
                    depth.saturating_sub(1)
                } else {
                    depth
                };
                item.push(c);
            }
        }
    }
    if quoted {
        return Err(RangeError::Quote);
    }
    if !item.trim().is_empty() || !items.is_empty() || was_quoted {
        items.push(item.trim().to_string());
    }
    Ok(items)
}

fn number(text: &str, whole: &str) -> Result<f64, RangeError> {
    text.trim().parse::<f64>().ok().filter(|v| v.is_finite()).ok_or_else(|| RangeError::Form(whole.to_string()))
}

/// A number without the last digits, which come from computing.
fn round(value: f64) -> f64 {
    format!("{value:.12e}").parse().unwrap_or(value)
}

fn range(text: &str, from: &str, to: &str) -> Result<Vec<String>, RangeError> {
    let (to, step) = to.split_once(':').map_or((to, None), |(to, step)| (to, Some(step)));
    if let (Ok(a), Ok(b), None) = (from.trim().parse::<i64>(), to.trim().parse::<i64>(), step) {
        if a > b {
            return Err(RangeError::Backwards(text.to_string()));
        }
        if (b as i128 - a as i128) as u128 >= MOST {
            return Err(RangeError::Endless(text.to_string()));
        }
        return Ok((a..=b).map(|v| v.to_string()).collect());
    }
    let (a, b) = (number(from, text)?, number(to, text)?);
    let step = number(step.ok_or_else(|| RangeError::Form(text.to_string()))?, text)?;
    if step <= 0.0 {
        return Err(RangeError::Step(text.to_string()));
    }
    if a > b {
        return Err(RangeError::Backwards(text.to_string()));
    }
    let count = ((b - a) / step + 1e-9).floor();
    if count >= MOST as f64 {
        return Err(RangeError::Endless(text.to_string()));
    }
    Ok((0..=count as u64).map(|i| round(a + i as f64 * step).to_string()).collect())
}

fn spread(inside: &str, log: bool) -> Result<Vec<String>, RangeError> {
    let form = || RangeError::Form(format!("{}({inside})", if log { "log" } else { "even" }));
    let (ends, count) = inside.rsplit_once(',').ok_or_else(form)?;
    let (from, to) = ends.split_once("..").ok_or_else(form)?;
    let (a, b) = (number(from, inside)?, number(to, inside)?);
    let count: u64 = count.trim().parse().map_err(|_| form())?;
    if count == 0 {
        Err(RangeError::Empty)
    } else if u128::from(count) >= MOST {
        Err(RangeError::Endless(inside.to_string()))
    } else if a > b {
        Err(RangeError::Backwards(inside.to_string()))
    } else if log && a <= 0.0 {
        Err(RangeError::NotPositive(inside.to_string()))
    } else if count == 1 {
        Ok(vec![round(a).to_string()])
    } else {
        Ok((0..count)
            .map(|i| {
                let share = i as f64 / (count - 1) as f64;
                let value = if log { a * (b / a).powf(share) } else { a + (b - a) * share };
                // The ends are as they were written.
                round(if i == count - 1 { b } else { value }).to_string()
            })
            .collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_form_gives_its_values() {
        let of = |text: &str| values(text).map(|v| v.join(" ")).unwrap_or_else(|e| e.to_string());
        assert_eq!(of("0.05, 0.1,0.2"), "0.05 0.1 0.2");
        assert_eq!(of("-1..2"), "-1 0 1 2");
        assert_eq!(of("0..1:0.25"), "0 0.25 0.5 0.75 1");
        assert_eq!(of("0.1..0.3:0.1"), "0.1 0.2 0.3");
        assert_eq!(of("log(0.001..0.1, 5)"), "0.001 0.003162277660168 0.01 0.03162277660168 0.1");
        assert_eq!(of("even(0..1, 3)"), "0 0.5 1");
        assert_eq!(of("\"a,b\",c"), "a,b c");
        assert_eq!(of("[1, 2],[3]"), "[1, 2] [3]");
        assert!(of("..").contains("no range") && of("1..x").contains("no range") && of("0.5..2").contains("no range"));
        assert!(of("0..9999999999").contains("million") && of("0..1:0.0000000001").contains("million"));
        assert!(
            of("log(0..1, 3)").contains("above 0") && of("log(1..2, 0)").contains("no values") && of(",").contains("no values")
        );
        assert!(of("3..1").contains("backwards") && of("1..2:0").contains("not above 0") && of("\"a").contains("no end"));
    }
}
