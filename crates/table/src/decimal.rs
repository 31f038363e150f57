//! Numbers as they are written, compared exactly: a double keeps 15 to 17 digits, and an id of 19 digits is more.

use std::borrow::Cow;
use std::cmp::Ordering;

use super::kind::{Kind, kind_of, number};

/// A finite number: ± 0.DIGITS × 10^exponent, its digits without zeros at either end. Zero has no digits.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Decimal<'c> {
    negative: bool,
    digits: Cow<'c, [u8]>,
    exponent: i64,
}

/// A cell this short holds at most 15 digits, which a double tells apart exactly.
const SHORT: usize = 15;

fn trimmed(digits: &[u8]) -> &[u8] {
    let end = digits.iter().rposition(|d| *d != b'0').map_or(0, |at| at + 1);
    &digits[..end]
}

impl<'c> Decimal<'c> {
    /// The number in a cell; `None` for anything else, infinities too.
    fn of(cell: &'c [u8]) -> Option<Decimal<'c>> {
        if !matches!(kind_of(cell), Kind::Integer | Kind::Number) {
            return None;
        }
        let negative = cell.first() == Some(&b'-');
        let rest = cell.strip_prefix(b"-").or(cell.strip_prefix(b"+")).unwrap_or(cell);
        let (mantissa, exponent) = match rest.iter().position(|b| matches!(b, b'e' | b'E')) {
            Some(at) => (&rest[..at], std::str::from_utf8(&rest[at + 1..]).ok()?.parse::<i64>().ok()?),
            None => (rest, 0),
        };
        if !mantissa.iter().all(|b| b.is_ascii_digit() || *b == b'.') {
            return None;
        }
        let point = mantissa.iter().position(|b| *b == b'.');
        let whole = point.unwrap_or(mantissa.len());
        let all: Cow<'c, [u8]> = match point {
            None => Cow::Borrowed(mantissa),
            Some(at) => Cow::Owned([&mantissa[..at], &mantissa[at + 1..]].concat()),
        };
        let leading = all.iter().take_while(|d| **d == b'0').count();
        let digits: Cow<'c, [u8]> = match all {
            Cow::Borrowed(all) => Cow::Borrowed(trimmed(&all[leading..])),
            Cow::Owned(all) => Cow::Owned(trimmed(&all[leading..]).to_vec()),
        };
        if digits.is_empty() {
            return Some(Decimal { negative: false, digits, exponent: 0 });
        }
        let exponent = exponent.checked_add(whole as i64)?.checked_sub(leading as i64)?;
        Some(Decimal { negative, digits, exponent })
    }

    fn compare(&self, other: &Decimal<'_>) -> Ordering {
        let sign = |d: &Decimal<'_>| match (d.digits.is_empty(), d.negative) {
            (true, _) => 0,
            (false, true) => -1,
            (false, false) => 1,
        };
        let size = || self.exponent.cmp(&other.exponent).then_with(|| self.digits.cmp(&other.digits));
        sign(self).cmp(&sign(other)).then_with(|| match sign(self) {
            0 => Ordering::Equal,
            1 => size(),
            _ => size().reverse(),
        })
    }
}

/// How two cells stand to each other as numbers; `None` when one is no number.
pub fn compare_numbers(a: &[u8], b: &[u8]) -> Option<Ordering> {
    let (x, y) = (number(a)?, number(b)?);
    if (a.len() <= SHORT && b.len() <= SHORT) || !x.is_finite() || !y.is_finite() {
        return x.partial_cmp(&y);
    }
    match (Decimal::of(a), Decimal::of(b)) {
        (Some(a), Some(b)) => Some(a.compare(&b)),
        _ => x.partial_cmp(&y),
    }
}

/// Of a cell whose number a double may not keep: a text that is the same for the same number. `None` for all
/// other cells.
pub fn long_number(cell: &[u8]) -> Option<String> {
    if cell.len() <= SHORT {
        return None;
    }
    let decimal = Decimal::of(cell).filter(|d| d.digits.len() > SHORT)?;
    let sign = if decimal.negative { "-" } else { "" };
    Some(format!("{sign}0.{}e{}", String::from_utf8_lossy(&decimal.digits), decimal.exponent))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_a_double_confuses_is_told_apart() {
        let less = |a: &str, b: &str| assert_eq!(compare_numbers(a.as_bytes(), b.as_bytes()), Some(Ordering::Less), "{a} {b}");
        less("9007199254740992", "9007199254740993");
        less("1234567890123456788", "1234567890123456789");
        less("-9223372036854775808", "-9223372036854775807");
        less("0.1", "0.1000000000000000055");
        less("-1e400", "0");
        less("18446744073709551615", "18446744073709551616");
        let same = |a: &str, b: &str| assert_eq!(compare_numbers(a.as_bytes(), b.as_bytes()), Some(Ordering::Equal), "{a} {b}");
        same("1234567890123456789", "1234567890123456789.000");
        same("12345678901234567890", "1.234567890123456789e19");
        same("-0.0", "0");
        same("+7", "7.0");
        assert_eq!(compare_numbers(b"7", b"seven"), None);
        assert_eq!(long_number(b"123456789012345"), None);
        assert_eq!(long_number(b"1234567890123456789.0"), long_number(b"1234567890123456789"));
    }

    proptest! {
        #[test]
        fn whole_numbers_stand_as_they_do_everywhere(a in any::<i64>(), b in any::<i64>(), near in -3i64..4) {
            for b in [b, a.saturating_add(near)] {
                let (x, y) = (a.to_string(), b.to_string());
                prop_assert_eq!(compare_numbers(x.as_bytes(), y.as_bytes()), Some(a.cmp(&b)));
                prop_assert_eq!(long_number(x.as_bytes()) == long_number(y.as_bytes()) && long_number(x.as_bytes()).is_some(), a == b && long_number(x.as_bytes()).is_some());
            }
        }

        #[test]
        fn a_number_is_the_same_however_it_is_written(digits in "[1-9][0-9]{14,20}", point in 1usize..14, zeros in 0usize..5) {
            let written = format!("{}.{}{}", &digits[..point], &digits[point..], "0".repeat(zeros));
            let scientific = format!("{digits}e{}", point as i64 - digits.len() as i64);
            prop_assert_eq!(compare_numbers(written.as_bytes(), scientific.as_bytes()), Some(Ordering::Equal));
        }
    }
}
