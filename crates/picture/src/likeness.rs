//! By what a picture is known again in another size or coding: 63 bits out of its cosine transform.
//!
//! Source: C. Zauner, "Implementation and Benchmarking of Perceptual Image Hash Functions" (2010), section 3.2.1, "DCT based
//! hash". The picture is made grey and shrunk to 32 × 32 by means of areas; of its two-dimensional discrete cosine transform
//! (type II) the 8 × 8 lowest frequencies are taken but for the very lowest, which is the brightness; each gives a bit:
//! whether it is above their median. Two pictures are as far apart as bits differ.

use std::f64::consts::PI;
use std::fmt;
use std::str::FromStr;
use std::sync::LazyLock;

use image::DynamicImage;
use rayon::prelude::*;

/// Pictures that are apart by so many bits at most are alike.
pub const ALIKE: u32 = 6;

const SIDE: usize = 32;
const LOW: usize = 8;
/// Grey values of 0 to 255 that lie closer together than this show nothing: any two such pictures would be alike.
const SHOWS: f64 = 4.0;

/// 63 bits by which a picture is known again.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Likeness(pub u64);

impl fmt::Display for Likeness {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{:016x}", self.0)
    }
}

impl FromStr for Likeness {
    type Err = std::num::ParseIntError;
    fn from_str(text: &str) -> Result<Likeness, Self::Err> {
        u64::from_str_radix(text, 16).map(Likeness)
    }
}

impl Likeness {
    /// That of a picture; `None` of one that shows nothing.
    pub(crate) fn of(picture: &DynamicImage) -> Option<Likeness> {
        let grey = shrunk(picture)?;
        let (low, high) = grey.iter().flatten().fold((f64::MAX, f64::MIN), |(a, b), v| (a.min(*v), b.max(*v)));
        if high - low < SHOWS {
            return None;
        }
        let transformed = transform(&grey);
        let taken: Vec<f64> = (0..LOW * LOW).skip(1).map(|i| transformed[i / LOW][i % LOW]).collect();
        let mut sorted = taken.clone();
        sorted.sort_by(f64::total_cmp);
        let median = sorted[sorted.len() / 2];
        let bits = taken.iter().enumerate().filter(|(_, v)| **v > median).fold(0, |bits, (i, _)| bits | 1 << i);
        Some(Likeness(bits))
    }

    /// In how many bits they differ.
    pub fn apart(self, other: Likeness) -> u32 {
        (self.0 ^ other.0).count_ones()
    }

    /// For each of these the nearest of those that is alike, by their numbers, if there is one. Those with the same number
    /// count as one and the same where `same` is set: then only later ones are looked at.
    pub fn nearest(these: &[Likeness], those: &[Likeness], same: bool) -> Vec<Option<(usize, u32)>> {
        let one = |(number, this): (usize, &Likeness)| {
            let from = if same { number + 1 } else { 0 };
            let others = those.iter().enumerate().skip(from).map(|(other, that)| (other, this.apart(*that)));
            others.filter(|(_, apart)| *apart <= ALIKE).min_by_key(|(_, apart)| *apart)
        };
        these.par_iter().enumerate().map(one).collect()
    }
}

/// The means of areas, 0 to 255.
fn shrunk(picture: &DynamicImage) -> Option<[[f64; SIDE]; SIDE]> {
    let (width, height) = (picture.width() as usize, picture.height() as usize);
    if width == 0 || height == 0 {
        return None;
    }
    // What shines through is white, as on a page.
    let grey: Vec<u8> = match picture {
        DynamicImage::ImageLuma8(picture) => picture.as_raw().clone(),
        DynamicImage::ImageRgb8(picture) => picture.pixels().map(|p| luma(p.0)).collect(),
        DynamicImage::ImageRgba8(picture) => picture.pixels().map(|p| on_white([luma([p.0[0], p.0[1], p.0[2]]), p.0[3]])).collect(),
        other if other.color().has_alpha() => other.to_luma_alpha8().pixels().map(|p| on_white(p.0)).collect(),
        other => other.to_luma8().into_raw(),
    };
    let across = shares(width);
    let mut rows: Vec<[f64; SIDE]> = Vec::with_capacity(height);
    for line in grey.chunks_exact(width) {
        rows.push(std::array::from_fn(|part| across[part].mean(|at| f64::from(line[at]))));
    }
    let down = shares(height);
    Some(std::array::from_fn(|y| std::array::from_fn(|x| down[y].mean(|at| rows[at][x]))))
}

/// How bright a colour is: ITU-R BT.601, as in JPEG.
fn luma([red, green, blue]: [u8; 3]) -> u8 {
    ((299 * u32::from(red) + 587 * u32::from(green) + 114 * u32::from(blue) + 500) / 1000) as u8
}

fn on_white([grey, alpha]: [u8; 2]) -> u8 {
    let (grey, alpha) = (u32::from(grey), u32::from(alpha));
    ((grey * alpha + 255 * (255 - alpha)) / 255) as u8
}

/// What one of 32 equal parts of a line covers: whole values, and a share of the first and of the last.
struct Share {
    first: usize,
    last: usize,
    of_first: f64,
    of_last: f64,
    length: f64,
}

impl Share {
    fn mean(&self, value: impl Fn(usize) -> f64) -> f64 {
        if self.first == self.last {
            return value(self.first);
        }
        let whole: f64 = (self.first + 1..self.last).map(&value).sum();
        (value(self.first) * self.of_first + whole + value(self.last) * self.of_last) / self.length
    }
}

/// The parts of a line of so many values.
fn shares(values: usize) -> Vec<Share> {
    let length = values as f64 / SIDE as f64;
    let part = |part: usize| {
        let (from, to) = (part as f64 * length, (part + 1) as f64 * length);
        let first = (from as usize).min(values - 1);
        let last = ((to.ceil() as usize).max(1) - 1).clamp(first, values - 1);
        Share { first, last, of_first: first as f64 + 1.0 - from, of_last: to - last as f64, length }
    };
    (0..SIDE).map(part).collect()
}

/// The lowest frequencies of the two-dimensional cosine transform of type II, not scaled.
fn transform(grey: &[[f64; SIDE]; SIDE]) -> [[f64; LOW]; LOW] {
    static COSINES: LazyLock<[[f64; SIDE]; LOW]> = LazyLock::new(|| {
        let cosine = |k: usize, n: usize| (PI / SIDE as f64 * (n as f64 + 0.5) * k as f64).cos();
        std::array::from_fn(|k| std::array::from_fn(|n| cosine(k, n)))
    });
    let cosine = |k: usize, n: usize| COSINES[k][n];
    let rows: Vec<[f64; LOW]> =
        grey.iter().map(|row| std::array::from_fn(|k| (0..SIDE).map(|n| row[n] * cosine(k, n)).sum())).collect();
    std::array::from_fn(|j| std::array::from_fn(|k| (0..SIDE).map(|n| rows[n][k] * cosine(j, n)).sum()))
}
