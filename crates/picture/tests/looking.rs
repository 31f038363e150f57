//! Pictures of every format: what is told of them, whole, cut off, changed; and which are taken for the same.

#![allow(clippy::disallowed_methods, clippy::unwrap_used, clippy::expect_used)]

use std::io::Cursor;

use image::codecs::jpeg::JpegEncoder;
use image::{DynamicImage, ImageFormat, Rgb, RgbImage, imageops::FilterType};
use proptest::prelude::*;
use textum_picture::{ALIKE, Likeness, is_picture, look, thumbnail};

/// A picture of some soft spots, such as cameras see: another for each seed.
fn spots(seed: u64, width: u32, height: u32) -> DynamicImage {
    let bytes = textum_testkit::noise(seed, 12 * 6);
    let part = |i: usize| f64::from(bytes[i]) / 255.0;
    let at = |x: f64, y: f64, channel: usize| {
        let spot = |s: usize| {
            let (cx, cy, size) = (part(s * 6), part(s * 6 + 1), 0.05 + 0.3 * part(s * 6 + 2));
            let height = part(s * 6 + 3 + channel) * 510.0 - 255.0;
            height * (-((x - cx).powi(2) + (y - cy).powi(2)) / (2.0 * size * size)).exp()
        };
        (127.0 + (0..12).map(spot).sum::<f64>()).clamp(0.0, 255.0) as u8
    };
    let pixel = |x: u32, y: u32| {
        let (x, y) = (f64::from(x) / f64::from(width), f64::from(y) / f64::from(height));
        Rgb([at(x, y, 0), at(x, y, 1), at(x, y, 2)])
    };
    RgbImage::from_fn(width, height, pixel).into()
}

fn coded(picture: &DynamicImage, format: ImageFormat) -> Vec<u8> {
    let mut out = Vec::new();
    picture.write_to(&mut Cursor::new(&mut out), format).unwrap();
    out
}

fn jpeg(picture: &DynamicImage, quality: u8) -> Vec<u8> {
    let mut out = Vec::new();
    JpegEncoder::new_with_quality(&mut out, quality).encode_image(picture).unwrap();
    out
}

fn likeness(bytes: &[u8]) -> Likeness {
    look(bytes).unwrap().likeness.unwrap()
}

#[test]
fn each_format_tells_its_size_and_mode() {
    let picture = spots(1, 64, 48);
    let formats = [
        (ImageFormat::Png, "png"),
        (ImageFormat::Jpeg, "jpeg"),
        (ImageFormat::Gif, "gif"),
        (ImageFormat::Bmp, "bmp"),
        (ImageFormat::WebP, "webp"),
    ];
    for (format, name) in formats {
        let seen = look(&coded(&picture, format)).unwrap();
        assert_eq!((seen.format, seen.width, seen.height, &seen.fault), (name, 64, 48, &None));
        assert!(seen.likeness.unwrap().apart(likeness(&coded(&picture, ImageFormat::Png))) <= ALIKE, "{name}");
    }
    let modes = [
        (DynamicImage::from(picture.to_luma8()), "grey"),
        (picture.to_luma_alpha8().into(), "grey+alpha"),
        (picture.to_rgba8().into(), "colour+alpha"),
        (picture.to_luma16().into(), "grey 16"),
        (picture.to_rgb16().into(), "colour 16"),
    ];
    for (picture, mode) in modes {
        assert_eq!(look(&coded(&picture, ImageFormat::Png)).unwrap().mode, mode);
    }
    assert!(look(b"warp,weft\n1,2\n").is_none() && look(b"").is_none() && !is_picture(b"GIF"));
}

#[test]
fn what_is_cut_off_is_told_in_every_format() {
    let picture = spots(2, 120, 90);
    for format in [ImageFormat::Png, ImageFormat::Jpeg, ImageFormat::Gif, ImageFormat::Bmp, ImageFormat::WebP] {
        let whole = coded(&picture, format);
        for share in [30, 50, 70, 95] {
            let seen = look(&whole[..whole.len() * share / 100]).unwrap();
            assert!(seen.fault.is_some() && seen.likeness.is_none(), "{format:?} {share} %: {seen:?}");
            assert!(
                thumbnail(&whole[..whole.len() * share / 100], 20).is_none()
                    || seen.fault.as_deref() == Some("it ends in the middle")
            );
        }
    }
    let mut flipped = coded(&picture, ImageFormat::Png);
    let middle = flipped.len() / 2;
    flipped[middle] ^= 0x55;
    assert!(look(&flipped).unwrap().fault.is_some());
}

#[test]
fn a_bomb_is_not_unpacked() {
    // A header that tells of 60,000 × 60,000 pixels: 14 GB if anybody believed it.
    let mut bomb = coded(&spots(3, 8, 8), ImageFormat::Bmp);
    bomb[18..22].copy_from_slice(&60_000u32.to_le_bytes());
    bomb[22..26].copy_from_slice(&60_000u32.to_le_bytes());
    assert!(look(&bomb).unwrap().fault.is_some());
}

#[test]
fn the_same_picture_is_known_again_and_others_are_not() {
    for seed in 0..8 {
        let picture = spots(seed, 100 + 7 * seed as u32, 80);
        let own = likeness(&coded(&picture, ImageFormat::Png));
        // Grey as JPEG and most programs mean it: ITU-R BT.601.
        let luma = |p: &Rgb<u8>| (0.299 * f64::from(p.0[0]) + 0.587 * f64::from(p.0[1]) + 0.114 * f64::from(p.0[2])) as u8;
        let colour = picture.to_rgb8();
        let grey = image::GrayImage::from_fn(colour.width(), colour.height(), |x, y| image::Luma([luma(colour.get_pixel(x, y))]));
        let grey = DynamicImage::from(grey);
        let others = [
            coded(&picture.resize_exact(51, 37, FilterType::Triangle), ImageFormat::Png),
            coded(&picture.resize_exact(240, 200, FilterType::CatmullRom), ImageFormat::Bmp),
            jpeg(&picture, 40),
            jpeg(&grey, 70),
            coded(&picture, ImageFormat::WebP),
        ];
        for (i, other) in others.iter().enumerate() {
            assert!(own.apart(likeness(other)) <= ALIKE, "picture {seed}, {i}: {} bits", own.apart(likeness(other)));
        }
    }
    // 150 pictures that have nothing to do with one another make 11,175 pairs.
    let all: Vec<Likeness> = (100..250).map(|seed| likeness(&coded(&spots(seed, 40, 40), ImageFormat::Bmp))).collect();
    let alike = Likeness::nearest(&all, &all, true).iter().flatten().count();
    assert!(alike <= 2, "{alike} of them are taken for another one");
}

#[test]
fn what_shows_nothing_is_like_nothing() {
    let blank = DynamicImage::from(RgbImage::from_pixel(40, 40, Rgb([7, 200, 9])));
    assert_eq!(look(&coded(&blank, ImageFormat::Png)).unwrap().likeness, None);
    let likeness: Likeness = "00ff00ff00ff00ff".parse().unwrap();
    assert_eq!((likeness.to_string(), likeness.apart(Likeness(0))), ("00ff00ff00ff00ff".into(), 32));
}

#[test]
fn the_nearest_is_found_and_none_is_its_own() {
    let of = |bits: &[u64]| bits.iter().copied().map(Likeness).collect::<Vec<_>>();
    let these = of(&[0, 0b111, 0xffff_ffff, 0]);
    assert_eq!(Likeness::nearest(&these, &these, true), [Some((3, 0)), Some((3, 3)), None, None]);
    assert_eq!(
        Likeness::nearest(&these, &of(&[0b1, 0xffff_fff0]), false),
        [Some((0, 1)), Some((0, 2)), Some((1, 4)), Some((0, 1))]
    );
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(textum_testkit::many("TEXTUM_PICTURES", 200)))]

    /// Whatever stands in the bytes: something is said of them, and nothing is brought down.
    #[test]
    fn changed_bytes_are_told_of(format in 0usize..5, changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..20)) {
        let format = [ImageFormat::Png, ImageFormat::Jpeg, ImageFormat::Gif, ImageFormat::Bmp, ImageFormat::WebP][format];
        static SPOTS: std::sync::OnceLock<DynamicImage> = std::sync::OnceLock::new();
        let mut bytes = coded(SPOTS.get_or_init(|| spots(9, 20, 16)), format);
        for (at, byte) in changes {
            let at = at.index(bytes.len());
            bytes[at] = byte;
        }
        if let Some(seen) = look(&bytes) {
            prop_assert!(seen.fault.is_none() || seen.likeness.is_none());
        }
        let _ = thumbnail(&bytes, 16);
    }
}
