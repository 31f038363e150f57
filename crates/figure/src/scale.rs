//! From values to places along an axis, and where its marks stand.

use super::Scale;

/// Round numbers that divide a range into about so many steps.
pub fn nice_ticks(from: f64, to: f64, about: usize) -> Vec<f64> {
    let span = to - from;
    if !(span > 0.0 && span.is_finite()) {
        return vec![from];
    }
    let rough = span / about.max(1) as f64;
    let unit = 10f64.powf(rough.log10().floor());
    let step = [1.0, 2.0, 2.5, 5.0, 10.0].into_iter().map(|m| m * unit).find(|s| *s >= rough * 0.999).unwrap_or(unit * 10.0);
    let first = (from / step - 1e-9).ceil() as i64;
    let last = (to / step + 1e-9).floor() as i64;
    (first..=last).map(|n| if n == 0 { 0.0 } else { n as f64 * step }).collect()
}

/// A number as it is written at an axis.
pub fn number(value: f64) -> String {
    let size = value.abs();
    if value == 0.0 {
        return "0".into();
    }
    if !(1e-4..1e7).contains(&size) {
        return format!("{value:e}").replace('-', "−");
    }
    let digits = (4 - size.log10().floor() as i32).clamp(0, 8) as usize;
    let text = format!("{value:.digits$}");
    let text = if text.contains('.') { text.trim_end_matches('0').trim_end_matches('.').to_string() } else { text };
    text.replace('-', "−")
}

/// A scale with its range and where that lies on the page.
#[derive(Clone, Debug)]
pub struct Placed<'s> {
    scale: &'s Scale,
    range: (f64, f64),
    page: (f64, f64),
}

impl<'s> Placed<'s> {
    /// A scale for these values.
    pub fn new(scale: &'s Scale, range: Option<(f64, f64)>, values: impl Iterator<Item = f64>, page: (f64, f64)) -> Placed<'s> {
        if let Scale::Names(names) = scale {
            return Placed { scale, range: (-0.5, names.len() as f64 - 0.5), page };
        }
        let drawable = |v: &f64| v.is_finite() && (*scale != Scale::Log || *v > 0.0);
        let (mut low, mut high) = values.filter(drawable).fold((f64::MAX, f64::MIN), |(l, h), v| (l.min(v), h.max(v)));
        if low > high {
            (low, high) = if *scale == Scale::Log { (0.1, 10.0) } else { (0.0, 1.0) };
        }
        if let Some((from, to)) = range {
            (low, high) = (from, to);
        } else if *scale == Scale::Log {
            (low, high) = (low / 1.15, high * 1.15);
        } else {
            let margin = if high > low { (high - low) * 0.04 } else { (low.abs() * 0.1).max(0.5) };
            (low, high) = (low - margin, high + margin);
        }
        // A range that has no end, or none that a logarithm has, would have marks without end.
        let is_log = *scale == Scale::Log;
        let has_ends = if is_log { low > 0.0 && (high / low).is_finite() } else { (high - low).is_finite() };
        if !(has_ends && low < high) {
            (low, high) = if is_log { (0.1, 10.0) } else { (0.0, 1.0) };
        }
        Placed { scale, range: (low, high), page }
    }

    /// Where a value is; `None` when it cannot be drawn.
    pub fn place(&self, value: f64) -> Option<f64> {
        let share = match self.scale {
            Scale::Log if value > 0.0 => (value / self.range.0).ln() / (self.range.1 / self.range.0).ln(),
            Scale::Log => return None,
            _ => (value - self.range.0) / (self.range.1 - self.range.0),
        };
        // Far beyond the page is far enough: programs that show SVG reckon with less than double precision.
        share.is_finite().then(|| (self.page.0 + share * (self.page.1 - self.page.0)).clamp(-1e5, 1e5))
    }

    /// Where the marks of the axis stand and what is written there.
    pub fn ticks(&self, about: usize) -> Vec<(f64, String)> {
        let (low, high) = self.range;
        match self.scale {
            Scale::Names(names) => names.iter().enumerate().map(|(i, n)| (i as f64, n.clone())).collect(),
            Scale::Bare => Vec::new(),
            Scale::Even => nice_ticks(low, high, about).into_iter().map(|v| (v, number(v))).collect(),
            Scale::Log => {
                let decades = (high / low).log10();
                let steps: &[f64] = if decades > 3.0 { &[1.0] } else { &[1.0, 2.0, 5.0] };
                let exponents = low.log10().floor() as i32..=high.log10().ceil() as i32;
                let all = exponents.flat_map(|e| steps.iter().map(move |s| s * 10f64.powi(e)));
                all.filter(|v| (low..=high).contains(v)).map(|v| (v, number(v))).collect()
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ticks_are_round_and_within() {
        assert_eq!(nice_ticks(0.0, 1.0, 5), [0.0, 0.2, 0.4, 0.6000000000000001, 0.8, 1.0]);
        assert_eq!(nice_ticks(-3.0, 12.0, 5), [0.0, 5.0, 10.0].to_vec().into_iter().collect::<Vec<f64>>());
        assert_eq!(nice_ticks(2.0, 2.0, 5), [2.0]);
        assert_eq!([number(0.25), number(-1200.0), number(1e-7), number(0.6000000000000001)], ["0.25", "−1200", "1e−7", "0.6"]);
        let log = Placed::new(&Scale::Log, None, [0.01, 1.0, -4.0, f64::NAN].into_iter(), (0.0, 100.0));
        assert!(log.place(0.0).is_none() && log.place(0.1).is_some_and(|p| (p - 50.0).abs() < 1e-9));
    }
}
