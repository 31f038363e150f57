//! Pictures in files: their size and mode, whether they are whole, and which are alike in another size or coding.
//!
//! Bytes that somebody else has made are decoded by public crates, with a limit on memory; one that gives up over them has
//! found a broken picture.
//!
//! ```
//! let mut png = Vec::new();
//! image::GrayImage::from_fn(40, 30, |x, y| image::Luma([(x * y % 251) as u8]))
//!     .write_to(&mut std::io::Cursor::new(&mut png), image::ImageFormat::Png)?;
//! let seen = textum_picture::look(&png).expect("it is a picture");
//! assert_eq!((seen.format, seen.width, seen.height, seen.mode, seen.fault), ("png", 40, 30, "grey", None));
//! let half = textum_picture::look(&png[..png.len() / 2]).expect("it still begins like one");
//! assert!(half.fault.is_some());
//! # Ok::<(), image::ImageError>(())
//! ```

mod likeness;
mod thumbnail;

use std::cell::Cell;
use std::io::Cursor;
use std::panic::{AssertUnwindSafe, catch_unwind};

use image::{ColorType, DynamicImage, ImageDecoder, ImageError, ImageFormat, ImageReader, Limits};

pub use likeness::{ALIKE, Likeness};
pub use thumbnail::thumbnail;

/// A picture that takes more memory than this is not decoded. In bytes.
const MOST_BYTES: u64 = 1 << 30;
/// No side is longer than this, in pixels.
const LONGEST: u32 = 1 << 16;

thread_local! {
    static GUARDED: Cell<bool> = const { Cell::new(false) };
}

/// Whether this thread is decoding a picture: a panic of a decoder is caught and becomes a fault of the picture, so that
/// nothing need be printed of it.
pub fn is_guarded() -> bool {
    GUARDED.get()
}

/// What is known of a picture.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Picture {
    /// `png`, `jpeg`, `gif`, `bmp` or `webp`: by its bytes, whatever its name says.
    pub format: &'static str,
    /// Width in pixels; 0 where it cannot be told.
    pub width: u32,
    /// Height in pixels; 0 where it cannot be told.
    pub height: u32,
    /// What a pixel is: `grey`, `grey+alpha`, `colour` or `colour+alpha`, with the bits of a channel where those are not 8.
    pub mode: &'static str,
    /// By what it is known again; none of a picture that is broken, or that shows nothing.
    pub likeness: Option<Likeness>,
    /// Why it cannot be shown whole.
    pub fault: Option<String>,
}

fn format_name(format: ImageFormat) -> Option<&'static str> {
    Some(match format {
        ImageFormat::Png => "png",
        ImageFormat::Jpeg => "jpeg",
        ImageFormat::Gif => "gif",
        ImageFormat::Bmp => "bmp",
        ImageFormat::WebP => "webp",
        _ => return None,
    })
}

fn mode_name(color: ColorType) -> &'static str {
    match color {
        ColorType::L8 => "grey",
        ColorType::La8 => "grey+alpha",
        ColorType::Rgb8 => "colour",
        ColorType::Rgba8 => "colour+alpha",
        ColorType::L16 => "grey 16",
        ColorType::La16 => "grey+alpha 16",
        ColorType::Rgb16 => "colour 16",
        ColorType::Rgba16 => "colour+alpha 16",
        _ => "colour 32",
    }
}

/// The format that bytes begin like; `None` when they are no picture.
fn format_of(bytes: &[u8]) -> Option<(ImageFormat, &'static str)> {
    let format = image::guess_format(bytes).ok()?;
    Some((format, format_name(format)?))
}

/// Whether bytes begin like a picture.
pub fn is_picture(start: &[u8]) -> bool {
    format_of(start).is_some()
}

/// What a fault says, without what only a developer understands.
fn fault_of(error: &ImageError) -> String {
    match error {
        ImageError::IoError(e) if e.kind() == std::io::ErrorKind::UnexpectedEof => "it ends in the middle".to_string(),
        ImageError::Limits(_) => "it is too large to be looked at".to_string(),
        other => other.to_string().trim_end_matches('.').replace('\n', " "),
    }
}

/// What was decoded, with its mode as it stands in the file.
fn decode(bytes: &[u8], format: ImageFormat, seen: &mut Picture) -> Result<DynamicImage, ImageError> {
    let mut reader = ImageReader::with_format(Cursor::new(bytes), format);
    let mut limits = Limits::default();
    limits.max_alloc = Some(MOST_BYTES);
    limits.max_image_width = Some(LONGEST);
    limits.max_image_height = Some(LONGEST);
    reader.limits(limits);
    let decoder = reader.into_decoder()?;
    (seen.width, seen.height) = decoder.dimensions();
    seen.mode = mode_name(decoder.color_type());
    DynamicImage::from_decoder(decoder)
}

/// Decodes; what makes a decoder panic is broken.
fn guarded<T>(decode: impl FnOnce() -> Result<T, ImageError>) -> Result<T, String> {
    GUARDED.set(true);
    let result = catch_unwind(AssertUnwindSafe(decode));
    GUARDED.set(false);
    match result {
        Ok(decoded) => decoded.map_err(|e| fault_of(&e)),
        Err(_) => Err("its decoder gave up".to_string()),
    }
}

/// Whether the bytes have the end that their format demands: decoders show what is there of a picture that was cut off.
fn has_its_end(bytes: &[u8], format: ImageFormat) -> bool {
    match format {
        // The end of image, perhaps with padding or a trailer behind it.
        ImageFormat::Jpeg => bytes.windows(2).rev().take(1 << 16).any(|w| w == [0xff, 0xd9]),
        ImageFormat::Png => bytes.windows(8).rev().take(1 << 16).any(|w| w == *b"IEND\xae\x42\x60\x82"),
        ImageFormat::Gif => bytes.iter().rev().take(1 << 10).any(|b| *b == 0x3b),
        ImageFormat::WebP => match bytes.get(4..8) {
            Some(&[a, b, c, d]) => bytes.len() as u64 >= u64::from(u32::from_le_bytes([a, b, c, d])) + 8,
            _ => false,
        },
        _ => true,
    }
}

/// What is known of a picture in these bytes; `None` when they are none.
pub fn look(bytes: &[u8]) -> Option<Picture> {
    let (kind, format) = format_of(bytes)?;
    let mut seen = Picture { format, width: 0, height: 0, mode: "", likeness: None, fault: None };
    match guarded(|| decode(bytes, kind, &mut seen)) {
        Err(fault) => seen.fault = Some(fault),
        Ok(_) if !has_its_end(bytes, kind) => seen.fault = Some("it ends in the middle".to_string()),
        Ok(decoded) => seen.likeness = Likeness::of(&decoded),
    }
    Some(seen)
}
