//! Small pictures for a page.

use std::io::Cursor;

use image::ImageFormat;

use super::{Picture, decode, format_of, guarded};

/// The picture in these bytes as a PNG whose longer side has at most so many pixels; `None` when it cannot be shown.
pub fn thumbnail(bytes: &[u8], side: u32) -> Option<Vec<u8>> {
    let (kind, format) = format_of(bytes)?;
    let mut seen = Picture { format, width: 0, height: 0, mode: "", likeness: None, fault: None };
    let small = guarded(|| {
        let whole = decode(bytes, kind, &mut seen)?;
        let small = if whole.width().max(whole.height()) > side { whole.thumbnail(side, side) } else { whole };
        let mut png = Vec::new();
        small.to_rgba8().write_to(&mut Cursor::new(&mut png), ImageFormat::Png)?;
        Ok(png)
    });
    small.ok()
}
