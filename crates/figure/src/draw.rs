//! A figure as SVG.

use std::fmt::Write;

use super::scale::Placed;
use super::{Figure, Mark, Scale};

const INK: &str = "#22252a";
const FAINT: &str = "#6b7078";
const GRID: &str = "#e6e8eb";

/// About how wide a text is, in pixels, at a size of 12.
fn width_of(text: &str) -> f64 {
    text.chars()
        .map(|c| {
            if "iljtf.,:;'|!()[] ".contains(c) {
                4.2
            } else if c.is_uppercase() || "mwMW%@".contains(c) {
                9.2
            } else {
                7.3
            }
        })
        .sum()
}

/// Words as XML takes them. Characters that XML 1.0 has no place for ("Char", section 2.2) would make the whole picture
/// unreadable: they are replaced.
pub fn escape(text: &str) -> String {
    let allowed = |c: char| if c.is_control() || matches!(c, '\u{fffe}' | '\u{ffff}') { '\u{fffd}' } else { c };
    let text: String = text.chars().map(allowed).collect();
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

fn text(out: &mut String, at: (f64, f64), said: &str, anchor: &str, size: f64, color: &str, more: &str) {
    let (x, y) = at;
    let _ = write!(
        out,
        "<text x=\"{x:.1}\" y=\"{y:.1}\" text-anchor=\"{anchor}\" font-size=\"{size}\" fill=\"{color}\"{more}>{}</text>",
        escape(said)
    );
}

/// Values of a figure along x and y, for its ranges.
fn values(figure: &Figure) -> (Vec<f64>, Vec<f64>) {
    let (mut xs, mut ys) = (Vec::new(), Vec::new());
    let mut take = |x: f64, y: f64| {
        xs.push(x);
        ys.push(y);
    };
    for mark in &figure.marks {
        match mark {
            Mark::Line { points, .. } => points.iter().for_each(|(x, y)| take(*x, *y)),
            Mark::Points { points, .. } => points.iter().for_each(|(x, y, _)| take(*x, *y)),
            Mark::Bars { bars, .. } => bars.iter().for_each(|(a, b, h)| {
                take(*a, 0.0);
                take(*b, *h);
            }),
            Mark::Cells { cells } => cells.iter().for_each(|(x, y, _, _)| take(*x, *y)),
            Mark::Star { at, .. } | Mark::Text { at, .. } => take(at.0, at.1),
        }
    }
    (xs, ys)
}

/// The room that the names of lines take beside them.
pub fn room_for_names(figure: &Figure) -> f64 {
    let named = |m: &Mark| match m {
        Mark::Line { name: Some(name), .. } => Some(width_of(name) + 8.0),
        _ => None,
    };
    figure.marks.iter().filter_map(named).fold(0.0, f64::max)
}

/// How it is said that letters are bold.
pub const BOLD: &str = " font-weight=\"600\"";

/// Letters that stand over lines have an edge of the ground around them.
const HALO: &str = " paint-order=\"stroke\" stroke=\"#ffffff\" stroke-width=\"3\"";

/// Moves labels apart that would stand on one another; keeps their order.
fn spread(places: &mut [(f64, usize)], gap: f64, bounds: (f64, f64)) {
    places.sort_by(|a, b| a.0.total_cmp(&b.0));
    for i in 1..places.len() {
        places[i].0 = places[i].0.max(places[i - 1].0 + gap);
    }
    if let Some(last) = places.last_mut() {
        last.0 = last.0.min(bounds.1);
    }
    for i in (1..places.len()).rev() {
        places[i - 1].0 = places[i - 1].0.min(places[i].0 - gap);
    }
}

/// Draws a figure.
pub fn svg(figure: &Figure) -> String {
    let (width, height) = figure.size;
    let y_names = match &figure.y.scale {
        Scale::Names(names) => names.iter().map(|n| width_of(n)).fold(0.0, f64::max),
        _ => 38.0,
    };
    let left = 34.0 + y_names.min(width * 0.3);
    let right = width - 22.0 - room_for_names(figure).max(figure.room).min(width * 0.42);
    let (top, bottom) = (if figure.subtitle.is_empty() { 48.0 } else { 66.0 }, height - 54.0);
    let (xs, ys) = values(figure);
    let x = Placed::new(&figure.x.scale, figure.x.range, xs.into_iter(), (left, right));
    let y = Placed::new(&figure.y.scale, figure.y.range, ys.into_iter(), (bottom, top));
    let mut out = format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {width} {height}\" width=\"{width}\" height=\"{height}\" \
         font-family=\"'Textum Plain','DejaVu Sans',sans-serif\"><rect width=\"{width}\" height=\"{height}\" fill=\"#fff\"/>"
    );
    text(&mut out, (18.0, 26.0), &figure.title, "start", 15.0, INK, BOLD);
    text(&mut out, (18.0, 45.0), &figure.subtitle, "start", 12.0, FAINT, "");
    axes(&mut out, figure, &x, &y, (left, right, top, bottom));
    let mut labels = Vec::new();
    for mark in &figure.marks {
        draw(&mut out, mark, &x, &y, (right, top, bottom), &mut labels);
    }
    let mut places: Vec<(f64, usize)> = labels.iter().enumerate().map(|(i, (at, _, _))| (*at, i)).collect();
    spread(&mut places, 15.0, (top, bottom));
    for (at, i) in places {
        let (_, name, color) = &labels[i];
        text(&mut out, (right + 8.0, at + 4.0), name, "start", 12.0, color, "");
    }
    out.push_str("</svg>\n");
    out
}

fn axes(out: &mut String, figure: &Figure, x: &Placed<'_>, y: &Placed<'_>, (left, right, top, bottom): (f64, f64, f64, f64)) {
    let grid = |scale: &Scale| !matches!(scale, Scale::Names(_));
    for (value, said) in y.ticks(((bottom - top) / 48.0) as usize) {
        let Some(at) = y.place(value) else { continue };
        if grid(&figure.y.scale) {
            let _ = write!(out, "<path d=\"M{left:.1},{at:.1}H{right:.1}\" stroke=\"{GRID}\"/>");
        }
        text(out, (left - 8.0, at + 4.0), &said, "end", 12.0, FAINT, "");
    }
    let ticks = x.ticks(((right - left) / 84.0) as usize);
    // Names that do not fit beside each other are written aslant.
    let widest = ticks.iter().map(|(_, t)| width_of(t)).fold(0.0, f64::max);
    let aslant = !grid(&figure.x.scale) && widest * ticks.len() as f64 > (right - left);
    for (value, said) in &ticks {
        let Some(at) = x.place(*value) else { continue };
        if grid(&figure.x.scale) {
            let _ = write!(out, "<path d=\"M{at:.1},{bottom:.1}v5\" stroke=\"{FAINT}\"/>");
        }
        let (anchor, more) = match aslant {
            true => ("end", format!(" transform=\"rotate(-35 {at:.1} {:.1})\"", bottom + 16.0)),
            false => ("middle", String::new()),
        };
        text(out, (at, bottom + 19.0), said, anchor, 12.0, FAINT, &more);
    }
    if figure.y.scale != Scale::Bare {
        let _ = write!(out, "<path d=\"M{left:.1},{top:.1}V{bottom:.1}H{right:.1}\" fill=\"none\" stroke=\"{FAINT}\"/>");
    }
    text(out, ((left + right) / 2.0, bottom + 42.0), &figure.x.label, "middle", 12.0, INK, "");
    let middle = (top + bottom) / 2.0;
    text(out, (16.0, middle), &figure.y.label, "middle", 12.0, INK, &format!(" transform=\"rotate(-90 16 {middle:.1})\""));
}

type Label = (f64, String, String);

/// A line through points, broken where one has no place; where its last point stands.
fn line(out: &mut String, points: &[(f64, f64)], color: &str, dashed: bool, x: &Placed<'_>, y: &Placed<'_>) -> Option<(f64, f64)> {
    let mut path = String::new();
    let mut open = false;
    let mut last = None;
    for (px, py) in points {
        match x.place(*px).zip(y.place(*py)).filter(|_| py.is_finite()) {
            Some((a, b)) => {
                let _ = write!(path, "{}{a:.1},{b:.1}", if open { "L" } else { "M" });
                (open, last) = (true, Some((a, b)));
            }
            None => open = false,
        }
    }
    let dashes = if dashed { " stroke-dasharray=\"5 4\"" } else { "" };
    let _ =
        write!(out, "<path d=\"{path}\" fill=\"none\" stroke=\"{color}\" stroke-width=\"1.8\" stroke-linejoin=\"round\"{dashes}/>");
    last
}

fn draw(out: &mut String, mark: &Mark, x: &Placed<'_>, y: &Placed<'_>, page: (f64, f64, f64), labels: &mut Vec<Label>) {
    let place = |px: f64, py: f64| Some((x.place(px)?, y.place(py)?));
    let (right, top, bottom) = page;
    match mark {
        Mark::Line { points, name, color, dashed } => {
            let last = line(out, points, color, *dashed, x, y);
            if let (Some(name), Some((a, b))) = (name, last) {
                if a < right - 1.0 {
                    let _ = write!(out, "<circle cx=\"{a:.1}\" cy=\"{b:.1}\" r=\"2.6\" fill=\"{color}\"/>");
                }
                labels.push((b.clamp(top, bottom), name.clone(), color.clone()));
            }
        }
        Mark::Points { points, color, radius } => {
            for (px, py, said) in points {
                let Some((a, b)) = place(*px, *py).filter(|_| py.is_finite()) else { continue };
                let _ = write!(
                    out,
                    "<circle cx=\"{a:.1}\" cy=\"{b:.1}\" r=\"{radius}\" fill=\"{color}\" fill-opacity=\"0.75\"><title>{}</title></circle>",
                    escape(said)
                );
            }
        }
        Mark::Bars { bars, color } => {
            for (from, to, tall) in bars {
                let (Some((a, b)), Some((c, d))) = (place(*from, 0.0), place(*to, *tall)) else { continue };
                let _ = write!(
                    out,
                    "<rect x=\"{:.1}\" y=\"{:.1}\" width=\"{:.1}\" height=\"{:.1}\" fill=\"{color}\" fill-opacity=\"0.8\"/>",
                    a + 0.5,
                    d.min(b),
                    (c - a - 1.0).max(0.5),
                    (b - d).abs()
                );
            }
        }
        Mark::Cells { cells } => {
            for (column, row, shade, said) in cells {
                let (Some((a, b)), Some((c, d))) = (place(column - 0.5, row - 0.5), place(column + 0.5, row + 0.5)) else {
                    continue;
                };
                let shade = shade.clamp(0.0, 1.0);
                let mix = |from: f64, to: f64| (from + (to - from) * shade) as u8;
                let color = format!("#{:02x}{:02x}{:02x}", mix(240.0, 11.0), mix(244.0, 95.0), mix(247.0, 130.0));
                let _ = write!(
                    out,
                    "<rect x=\"{:.1}\" y=\"{:.1}\" width=\"{:.1}\" height=\"{:.1}\" fill=\"{color}\"/>",
                    a + 1.0,
                    d.min(b) + 1.0,
                    (c - a - 2.0).max(1.0),
                    ((b - d).abs() - 2.0).max(1.0)
                );
                let ink = if shade > 0.55 { "#fff" } else { INK };
                text(out, ((a + c) / 2.0, (b + d) / 2.0 + 4.0), said, "middle", 12.0, ink, "");
            }
        }
        Mark::Text { at, text: said, beside } => {
            let Some((a, b)) = place(at.0, at.1) else { return };
            match beside {
                true => text(out, (a + 6.0, b + 4.0), said, "start", 12.0, FAINT, HALO),
                false => text(out, (a, b + 4.0), said, "middle", 12.0, FAINT, ""),
            }
        }
        Mark::Star { at, text: said, color } => {
            let Some((a, b)) = place(at.0, at.1) else { return };
            let _ =
                write!(out, "<circle cx=\"{a:.1}\" cy=\"{b:.1}\" r=\"5\" fill=\"#fff\" stroke=\"{color}\" stroke-width=\"2\"/>");
            let (anchor, shift) = if a > right - width_of(said) - 12.0 { ("end", -9.0) } else { ("start", 9.0) };
            let lift = if b < top + 16.0 { 16.0 } else { -8.0 };
            text(out, (a + shift, b + lift), said, anchor, 12.0, color, "");
        }
    }
}
