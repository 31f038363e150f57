//! A chart drawn in characters.

use ratatui::buffer::Buffer;
use ratatui::layout::Rect;
use ratatui::style::{Color, Modifier, Style as Painted};
use ratatui::widgets::{Axis, Chart, Widget};
use textum_core::figure::nice_ticks;
use unicode_width::UnicodeWidthStr;

use super::braille::Grid;
use super::plot::{Across, Drawn};
use super::text;
use crate::ui::Style;

/// Colours of series on a terminal, from its own palette.
pub const PALETTE: [Color; 6] = [Color::Cyan, Color::Magenta, Color::Yellow, Color::Green, Color::Blue, Color::Red];
/// Rows of a chart.
const ROWS: u16 = 18;
/// A wider chart tells no more.
const WIDEST: usize = 120;

/// A series of a chart.
#[derive(Clone)]
pub struct Series {
    /// Its name.
    pub name: String,
    /// Its points.
    pub points: Vec<(f64, f64)>,
    /// Its colour, by number; `usize::MAX`: grey.
    pub color: usize,
    /// What is said of it below.
    pub note: String,
    /// Whether each point is a dot of its own.
    pub dots: bool,
}

impl Series {
    /// Its colour on the terminal.
    pub fn paint(&self) -> Color {
        if self.color == usize::MAX { Color::DarkGray } else { PALETTE[self.color % PALETTE.len()] }
    }
}

/// The range of some values with a little room around it.
fn range(values: impl Iterator<Item = f64>) -> (f64, f64) {
    let (low, high) = values.filter(|v| v.is_finite()).fold((f64::MAX, f64::MIN), |(l, h), v| (l.min(v), h.max(v)));
    if low > high {
        (0.0, 1.0)
    } else if low == high {
        (low - low.abs().max(1.0) * 0.1, high + high.abs().max(1.0) * 0.1)
    } else {
        (low, high)
    }
}

/// Marks of an axis: its ends and what is round between them.
fn marks((low, high): (f64, f64), count: usize, log: bool) -> Vec<String> {
    let step = (high - low) / (count.max(2) - 1) as f64;
    let value = |i: usize| low + step * i as f64;
    (0..count.max(2)).map(|i| text::figure(if log { 10f64.powf(value(i)) } else { value(i) })).collect()
}

/// Widens a range to round numbers.
fn rounded((low, high): (f64, f64), about: usize) -> ((f64, f64), usize) {
    let ticks = nice_ticks(low, high, about);
    let step = if ticks.len() > 1 { ticks[1] - ticks[0] } else { high - low };
    let from = (low / step + 1e-9).floor() * step;
    let to = (high / step - 1e-9).ceil() * step;
    ((from, to), ((to - from) / step).round() as usize + 1)
}

/// Draws series into an area of a buffer; `across` is a range that charts on one page share.
pub fn draw(
    series: &[Series],
    label: (&str, &str),
    area: Rect,
    names: Option<&[String]>,
    log: bool,
    across: Option<(f64, f64)>,
    buffer: &mut Buffer,
) {
    let shared = across.into_iter().flat_map(|(from, to)| [from, to]);
    let x = range(series.iter().flat_map(|s| s.points.iter().map(|p| p.0)).chain(shared));
    let y = range(series.iter().flat_map(|s| s.points.iter().map(|p| p.1)));
    let (y, y_marks) = rounded(y, 4);
    let (x, x_marks) = if log || names.is_some() { (x, 4) } else { rounded(x, (area.width / 16).max(2) as usize) };
    let dim = Painted::new().add_modifier(Modifier::DIM);
    let across = match names {
        Some(names) => names.to_vec(),
        None => marks(x, x_marks.clamp(2, 9), log),
    };
    let x_axis = Axis::default().title(label.0.to_string()).bounds([x.0, x.1]).labels(across.clone()).style(dim);
    let y_axis =
        Axis::default().title(label.1.to_string()).bounds([y.0, y.1]).labels(marks(y, y_marks.clamp(2, 8), false)).style(dim);
    Chart::new(Vec::new()).x_axis(x_axis).y_axis(y_axis).legend_position(None).render(area, buffer);
    // The axes leave the lines what is right of one and above the other; an area too small for them has no corner.
    let Some(corner) = area.positions().find(|p| buffer[*p].symbol() == "└") else { return };
    let inside = Rect::new(corner.x + 1, area.y, area.right().saturating_sub(corner.x + 1), corner.y - area.y);
    mark_below(&across, inside, area, dim, buffer);
    let mut grid = Grid::new(inside, x, y);
    for (number, s) in series.iter().enumerate() {
        grid.line(&s.points, number as u16);
        if s.dots {
            grid.points(&s.points, number as u16);
        }
    }
    grid.put(&series.iter().map(Series::paint).collect::<Vec<_>>(), buffer);
}

/// Writes the marks of the lower axis, each below its place: the widget spaces them by their number instead.
fn mark_below(marks: &[String], inside: Rect, area: Rect, look: Painted, buffer: &mut Buffer) {
    let row = inside.bottom() + 1;
    if row >= area.bottom() || inside.width == 0 {
        return;
    }
    buffer.set_string(area.x, row, " ".repeat(usize::from(area.width)), Painted::reset());
    let mut free = area.x;
    for (number, mark) in marks.iter().enumerate() {
        let share = number as f64 / (marks.len().max(2) - 1) as f64;
        let place = inside.x + (share * f64::from(inside.width - 1)).round() as u16;
        let wide = mark.width() as u16;
        let from = place.saturating_sub(wide / 2).clamp(area.x, area.right().saturating_sub(wide).max(area.x));
        if from >= free {
            buffer.set_string(from, row, mark, look);
            free = from + wide + 1;
        }
    }
}

/// Draws series as lines of text.
pub fn chart(
    series: &[Series],
    (x, y): (&str, &str),
    width: usize,
    names: Option<&[String]>,
    log: bool,
    across: Option<(f64, f64)>,
    style: &Style,
) -> String {
    let area = Rect::new(0, 0, width.min(WIDEST) as u16, ROWS);
    let mut buffer = Buffer::empty(area);
    draw(series, (x, y), area, names, log, across, &mut buffer);
    let mut out = printed(&buffer, style);
    for s in series.iter().filter(|s| !s.name.is_empty() || !s.note.is_empty()) {
        out.push_str(&format!("  {} {}  {}\n", colored("──", s.paint(), style), s.name, style.dim(&s.note)));
    }
    out
}

/// A buffer as lines of text.
pub fn printed(buffer: &Buffer, style: &Style) -> String {
    let mut out = String::new();
    for y in 0..buffer.area.height {
        let mut line = String::new();
        let mut from = 0;
        // Cells of one look are painted together.
        while from < buffer.area.width {
            let look = buffer[(from, y)].style();
            let mut to = from;
            let mut run = String::new();
            while to < buffer.area.width && buffer[(to, y)].style() == look {
                run.push_str(buffer[(to, y)].symbol());
                to += 1;
            }
            let color = look.fg.unwrap_or(Color::Reset);
            line.push_str(&match (color, look.add_modifier.contains(Modifier::DIM)) {
                (Color::Reset, true) => style.dim(&run),
                (Color::Reset, false) => run,
                (color, _) => colored(&run, color, style),
            });
            from = to;
        }
        out.push_str(line.trim_end());
        out.push('\n');
    }
    out
}

fn colored(text: &str, color: Color, style: &Style) -> String {
    let code = match color {
        Color::Cyan => "36",
        Color::Magenta => "35",
        Color::Yellow => "33",
        Color::Green => "32",
        Color::Blue => "34",
        Color::Red => "31",
        _ => "90",
    };
    style.wrap(code, text)
}

/// Curves in the terminal, a chart for each metric.
pub fn curves(drawn: &Drawn<'_>, width: usize, style: &Style) -> String {
    let mut out = String::new();
    let across = drawn.across_all();
    for metric in drawn.metrics {
        let colored = drawn.colored(metric);
        let mut series: Vec<Series> = Vec::new();
        for (i, (curve, color)) in colored.iter().enumerate() {
            let mut points: Vec<(f64, f64)> = drawn.points(curve, 4000).into_iter().filter(|p| p.1.is_finite()).collect();
            if drawn.log {
                points.retain(|p| p.1 > 0.0);
                points.iter_mut().for_each(|p| p.1 = p.1.log10());
            }
            let best = curve.best.map(|b| format!(", best {} at step {}", text::figure(b.value), b.step)).unwrap_or_default();
            let from = curve.from.as_ref().map(|(run, step)| format!(", from {run}#{step}")).unwrap_or_default();
            let last = curve.points.last().map_or(String::new(), |p| text::figure(p.value));
            let count = text::counted(curve.points.len() as u64, "step");
            let grey = *color == textum_core::figure::GREY;
            series.push(Series {
                name: if grey { String::new() } else { drawn.name(curve) },
                points,
                color: if grey { usize::MAX } else { i },
                note: if grey { String::new() } else { format!("{count}, last {last}{best}{from}") },
                dots: curve.points.len() <= 12,
            });
        }
        // What is grey is drawn first, so that it stands behind.
        series.reverse();
        let x = if drawn.across == Across::Time { "seconds" } else { "step" };
        let y = if drawn.log { format!("log10 {metric}") } else { metric.clone() };
        let text = chart(&series, (x, &y), width, None, false, across, style);
        out.push_str(&format!("{}\n{text}", style.bold(metric)));
        let grey = series.iter().filter(|s| s.color == usize::MAX).count();
        if grey > 0 {
            out.push_str(&format!("  {}\n", style.dim(&format!("and {grey} more in grey"))));
        }
        out.push('\n');
    }
    out.trim_end().to_string() + "\n"
}

#[cfg(test)]
mod tests {
    use super::*;

    fn series(points: Vec<(f64, f64)>) -> Series {
        Series { name: String::new(), points, color: 0, note: String::new(), dots: false }
    }

    #[test]
    fn marks_stand_below_their_places() {
        for width in [40, 71, 97, 120] {
            let points: Vec<(f64, f64)> = (0..=20).map(|i| (f64::from(i), f64::from(i * i))).collect();
            let text = chart(&[series(points)], ("x", "y"), width, None, false, None, &Style::new(false));
            let lines: Vec<Vec<char>> = text.lines().map(|l| l.chars().collect()).collect();
            let axis = lines.iter().position(|l| l.contains(&'└')).unwrap();
            let left = lines[axis].iter().position(|c| *c == '└').unwrap() + 1;
            let wide = lines[axis].len() - left;
            let marks: String = lines[axis + 1].iter().collect();
            let mut told = 0;
            for mark in marks.split_whitespace() {
                let value: f64 = mark.parse().unwrap();
                let at = marks.find(&format!(" {mark}")).map_or(0, |i| i + 1) as f64 + (mark.len() / 2) as f64;
                let place = left as f64 + value / 20.0 * (wide - 1) as f64;
                // Those at the ends must not leave the chart.
                assert!((at - place).abs() <= 2.0, "{mark} at {at}, not {place}, of {width}:\n{text}");
                told += 1;
            }
            assert!(told >= 3, "{text}");
            // A curve that rises ends at the upper right.
            let top: String = lines[..2].iter().flatten().collect();
            assert!(top.chars().any(|c| ('\u{2801}'..='\u{28ff}').contains(&c)), "{text}");
        }
    }
}
