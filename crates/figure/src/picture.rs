//! SVG as PNG, with letters of our own: a machine without fonts draws the same.

use std::sync::Arc;

use resvg::{tiny_skia, usvg};

use crate::PictureError;
use crate::draw::BOLD;

const LETTERS: &[u8] = include_bytes!("../assets/plain.ttf");

/// There are no bold letters of our own: those that are to be bold get an outline in the colour that they are filled with.
fn with_bold_as_strokes(svg: &str) -> String {
    let mut out = String::with_capacity(svg.len());
    for (number, part) in svg.split("<text ").enumerate() {
        if number > 0 {
            out.push_str("<text ");
        }
        let (attributes, rest) = part.split_once('>').unwrap_or((part, ""));
        let color = attributes.split_once(" fill=\"").and_then(|(_, after)| after.split_once('"')).map(|(color, _)| color);
        match color.filter(|_| number > 0 && attributes.contains(BOLD)) {
            Some(color) => {
                let outline = format!(" stroke=\"{color}\" stroke-width=\"0.5\"");
                out.push_str(&format!("{}>{rest}", attributes.replace(BOLD, &outline)));
            }
            None => out.push_str(part),
        }
    }
    out
}

/// Draws SVG as a PNG, so many times as large.
pub fn png(svg: &str, scale: f32) -> Result<Vec<u8>, PictureError> {
    let mut fonts = usvg::fontdb::Database::new();
    fonts.load_font_data(LETTERS.to_vec());
    fonts.set_sans_serif_family("Textum Plain");
    let options = usvg::Options { fontdb: Arc::new(fonts), font_family: "Textum Plain".into(), ..usvg::Options::default() };
    let tree = usvg::Tree::from_str(&with_bold_as_strokes(svg), &options).map_err(|e| PictureError(e.to_string()))?;
    let size = tree.size().to_int_size().scale_by(scale).ok_or_else(|| PictureError("it has no size".into()))?;
    let mut pixels = tiny_skia::Pixmap::new(size.width(), size.height()).ok_or_else(|| PictureError("it is too large".into()))?;
    resvg::render(&tree, tiny_skia::Transform::from_scale(scale, scale), &mut pixels.as_mut());
    pixels.encode_png().map_err(|e| PictureError(e.to_string()))
}

#[cfg(test)]
mod tests {
    use resvg::tiny_skia::Pixmap;

    use crate::{Axis, Figure, Mark};

    #[test]
    fn bold_letters_take_more_ink() {
        let ink = |svg: &str| {
            let picture = Pixmap::decode_png(&super::png(svg, 2.0).unwrap()).unwrap();
            picture.pixels().iter().map(|p| u64::from(255 - p.green())).sum::<u64>()
        };
        let svg = Figure::new("loom stops", Axis::even(""), Axis::even("")).svg();
        assert_eq!(svg.matches(super::BOLD).count(), 1);
        let (bold, plain) = (ink(&svg), ink(&svg.replace(super::BOLD, "")));
        let nothing = ink(&svg.replace("loom stops", ""));
        assert!(bold - nothing > (plain - nothing) * 11 / 10, "{bold} {plain} {nothing}");
        // Words that look like it stay words.
        let words = Figure::new("a font-weight=\"600\" <text b", Axis::even(""), Axis::even("")).svg();
        assert!(super::png(&words, 1.0).is_ok());
    }

    #[test]
    fn letters_and_lines_get_onto_the_picture() {
        let empty = Figure::new("", Axis::even(""), Axis::even(""));
        let full = Figure::new("loss <by> step", Axis::even("step"), Axis::even("loss")).with(Mark::Line {
            points: vec![(0.0, 1.0), (1.0, f64::NAN), (2.0, 0.5)],
            name: Some("7f3a".into()),
            color: "#0b6e8f".into(),
            dashed: false,
        });
        let (a, b) = (super::png(&empty.svg(), 1.0).unwrap(), super::png(&full.svg(), 1.0).unwrap());
        assert!(a.starts_with(b"\x89PNG") && b.len() > a.len() + 500, "{} {}", a.len(), b.len());
        assert!(full.svg().contains("loss &lt;by&gt; step"));
    }
}
