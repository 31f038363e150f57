//! By what a picture is known again in another size or coding: 63 bits out of its cosine transform.
//!
//! Source: C. Zauner, "Implementation and Benchmarking of Perceptual Image Hash Functions" (2010), section 3.2.1, "DCT based
//! hash". The picture is made grey and shrunk to 32 × 32 by means of areas; of its two-dimensional discrete cosine transform
//! (type II) the 8 × 8 lowest frequencies are taken but for the very lowest, which is the brightness; each gives a bit:
//! whether it is above their median. Two pictures are as far apart as bits differ.

use std::f64::consts::PI;
use std::fmt;
use std::str::FromStr;

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
        // What shines through is white, as on a page.
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
    let mut sums = vec![[0.0; SIDE]; height.min(1 << 16)];
    let grey = picture.to_luma_alpha8();
    for (y, row) in grey.rows().enumerate() {
        let line: Vec<f64> =
            row.map(|p| (f64::from(p.0[0]) * f64::from(p.0[1]) + 255.0 * (255.0 - f64::from(p.0[1]))) / 255.0).collect();
        sums[y] = means(&line);
    }
    let mut out = [[0.0; SIDE]; SIDE];
    for x in 0..SIDE {
        let column: Vec<f64> = sums.iter().map(|row| row[x]).collect();
        means(&column).iter().enumerate().for_each(|(y, mean)| out[y][x] = *mean);
    }
    Some(out)
}

/// The means of 32 equal parts of a line; a part takes what it covers of each of its values.
fn means(line: &[f64]) -> [f64; SIDE] {
    let length = line.len() as f64 / SIDE as f64;
    std::array::from_fn(|part| {
        let (from, to) = (part as f64 * length, (part + 1) as f64 * length);
        let (first, last) = (from as usize, (to.ceil() as usize).min(line.len()));
        let covered = |at: usize| (to.min(at as f64 + 1.0) - from.max(at as f64)).max(0.0);
        (first..last).map(|at| line[at] * covered(at)).sum::<f64>() / length
    })
}

/// The lowest frequencies of the two-dimensional cosine transform of type II, not scaled.
fn transform(grey: &[[f64; SIDE]; SIDE]) -> [[f64; LOW]; LOW] {
    let cosine = |k: usize, n: usize| (PI / SIDE as f64 * (n as f64 + 0.5) * k as f64).cos();
    let rows: Vec<[f64; LOW]> =
        grey.iter().map(|row| std::array::from_fn(|k| (0..SIDE).map(|n| row[n] * cosine(k, n)).sum())).collect();
    std::array::from_fn(|j| std::array::from_fn(|k| (0..SIDE).map(|n| rows[n][k] * cosine(j, n)).sum()))
}
