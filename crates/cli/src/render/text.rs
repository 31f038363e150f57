//! Small texts: sizes, durations, times, numbers.

use jiff::{Timestamp, Zoned};
use textum_core::record::receipt::Metric;

/// A number of bytes, such as `412 kB`.
pub fn bytes(number: u64) -> String {
    const UNITS: [&str; 6] = ["B", "kB", "MB", "GB", "TB", "PB"];
    let mut value = number as f64;
    let mut unit = 0;
    while value >= 999.5 && unit + 1 < UNITS.len() {
        value /= 1000.0;
        unit += 1;
    }
    if unit == 0 || value >= 99.5 { format!("{value:.0} {}", UNITS[unit]) } else { format!("{value:.1} {}", UNITS[unit]) }
}

/// A whole number with a comma every three digits.
pub fn count(number: u64) -> String {
    let digits = number.to_string();
    let mut out = String::new();
    for (i, c) in digits.chars().enumerate() {
        if i > 0 && (digits.len() - i).is_multiple_of(3) {
            out.push(',');
        }
        out.push(c);
    }
    out
}

/// A number of things: `1 file`, `6,000 files`.
pub fn counted(number: u64, thing: &str) -> String {
    format!("{} {thing}{}", count(number), if number == 1 { "" } else { "s" })
}

/// A duration, such as `0.4 s`, `12 s` or `3 min 4 s`.
pub fn seconds(value: f64) -> String {
    match value {
        v if v < 0.0995 => format!("{:.0} ms", v * 1000.0),
        v if v < 9.95 => format!("{v:.1} s"),
        v if v < 59.5 => format!("{v:.0} s"),
        v if v < 3599.5 => {
            let whole = v.round() as u64;
            format!("{} min {} s", whole / 60, whole % 60)
        }
        v => {
            let minutes = (v / 60.0).round() as u64;
            format!("{} h {} min", minutes / 60, minutes % 60)
        }
    }
}

/// How long ago a time was, in words; a date when that is far back.
pub fn ago(time: &str, now: Timestamp) -> String {
    let Ok(then) = time.parse::<Timestamp>() else { return time.to_string() };
    let seconds = now.as_second() - then.as_second();
    match seconds {
        i64::MIN..=4 => "just now".to_string(),
        5..=59 => format!("{seconds} s ago"),
        60..=3599 => format!("{} min ago", seconds / 60),
        3600..=86_399 => format!("{} h ago", seconds / 3600),
        86_400..=604_799 => counted((seconds / 86_400) as u64, "day") + " ago",
        _ => then.to_zoned(jiff::tz::TimeZone::system()).strftime("%-d %b %Y").to_string(),
    }
}

/// A time as a clock shows it here, such as `23 Nov 2026 08:04:12`.
pub fn moment(time: &str) -> String {
    match time.parse::<Timestamp>() {
        Ok(then) => Zoned::new(then, jiff::tz::TimeZone::system()).strftime("%-d %b %Y %H:%M:%S").to_string(),
        Err(_) => time.to_string(),
    }
}

/// A metric's value with as many digits as tell something.
pub fn metric(value: &Metric) -> String {
    let v = value.0;
    if !v.is_finite() || v == v.trunc() && v.abs() < 1e9 {
        return format!("{v}");
    }
    match v.abs() {
        a if a >= 1000.0 => format!("{v:.1}"),
        a if a >= 0.001 => format!("{v:.4}"),
        _ => format!("{v:.3e}"),
    }
}

/// A figure with four digits that tell something.
pub fn figure(value: f64) -> String {
    let size = value.abs();
    if !value.is_finite() || (value == value.trunc() && size < 1e12) {
        return format!("{value}");
    }
    if !(1e-3..1e7).contains(&size) {
        return format!("{value:.2e}");
    }
    let digits = (3 - size.log10().floor() as i32).clamp(0, 6) as usize;
    let text = format!("{value:.digits$}");
    if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_string() } else { text }
}

/// A parameter's JSON text as people write it: strings without quotes.
pub fn param(text: &str) -> String {
    serde_json::from_str::<String>(text).unwrap_or_else(|_| text.to_string())
}

/// A path as seen from the folder that the command was started in.
pub fn near(path: &std::path::Path) -> String {
    let here = std::env::current_dir().and_then(std::fs::canonicalize).ok();
    let below = here.as_deref().and_then(|here| path.strip_prefix(here).ok());
    below.unwrap_or(path).display().to_string()
}

/// The beginning of a commit's name, which may be any text: it comes from a document.
pub fn commit(name: &str) -> String {
    name.chars().take(12).collect()
}

/// A list, cut short with the number of what is left out.
pub fn some(items: &[String], most: usize) -> String {
    if items.len() <= most {
        return items.join(", ");
    }
    format!("{} and {} more", items[..most].join(", "), items.len() - most)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_read_well() {
        assert_eq!(
            [bytes(0), bytes(999), bytes(4096), bytes(412_345), bytes(2_147_483_648)],
            ["0 B", "999 B", "4.1 kB", "412 kB", "2.1 GB"]
        );
        assert_eq!([count(7), count(1000), count(1_234_567)], ["7", "1,000", "1,234,567"]);
        assert_eq!([seconds(0.004), seconds(1.26), seconds(59.7), seconds(7260.0)], ["4 ms", "1.3 s", "1 min 0 s", "2 h 1 min"]);
        assert_eq!([metric(&Metric(0.86321)), metric(&Metric(12.0)), metric(&Metric(f64::NAN))], ["0.8632", "12", "NaN"]);
        assert_eq!([figure(1e7), figure(60.78125), figure(0.000_412), figure(-0.5)], ["10000000", "60.78", "4.12e-4", "-0.5"]);
    }
}
