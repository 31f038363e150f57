//! One column: what is gathered cell by cell, and the figures that come of it.

use std::collections::HashMap;
use std::hash::BuildHasher;
use std::io;
use std::path::Path;

use serde::Serialize;

use super::drift::Drift;
use super::relation::{Relating, Relation};
use crate::decimal::long_number;
use crate::kind::{Kind, KindCounts, kind_of, number};
use crate::read::Value;
use crate::row::text;
use crate::sorted::{Gather, Sorted, ordered, unordered};

/// As long as a column has at most so many different texts they are counted by themselves.
const MOST_TEXTS: usize = 50_000;
/// Up to this whole number a double keeps each.
const EXACT: u64 = 1 << 53;
/// Bars of a histogram.
pub const BARS: usize = 16;

/// A value and how often it is there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Frequent {
    /// The value.
    pub value: String,
    /// How often.
    pub count: u64,
}

/// How numbers are spread, in bars of equal width.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Histogram {
    /// Left end of the first bar.
    pub from: f64,
    /// Right end of the last bar.
    pub to: f64,
    /// Values in each bar.
    pub counts: Vec<u64>,
}

/// Figures of the numbers in a column.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Numbers {
    /// The least.
    pub min: f64,
    /// A quarter is at most this.
    pub lower_quartile: f64,
    /// Half is at most this.
    pub median: f64,
    /// Three quarters are at most this.
    pub upper_quartile: f64,
    /// The greatest.
    pub max: f64,
    /// The mean.
    pub mean: f64,
    /// The standard deviation, with n − 1.
    pub deviation: f64,
    /// The skewness of a sample, G₁ (Joanes and Gill, "Comparing Measures of Sample Skewness and Kurtosis", 1998).
    pub skew: Option<f64>,
    /// Numbers beyond one and a half times the distance of the quartiles from them (Tukey, "Exploratory Data Analysis", 1977).
    pub outliers: u64,
}

/// A column in figures.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct ColumnProfile {
    /// Its name.
    pub name: String,
    /// Its type in a word.
    pub r#type: String,
    /// Cells of each kind.
    pub kinds: KindCounts,
    /// Cells that are not missing.
    pub count: u64,
    /// Cells that are missing.
    pub missing: u64,
    /// Different values.
    pub distinct: u64,
    /// Whether its values name rows and say nothing beside: such a column drifts with every row.
    pub identifier: bool,
    /// Figures of its numbers, if it is numeric.
    pub numbers: Option<Numbers>,
    /// First and last in the order of bytes, if it is not numeric: of dates, the earliest and the latest.
    pub range: Option<(String, String)>,
    /// How its numbers are spread.
    pub histogram: Option<Histogram>,
    /// The most frequent values.
    pub frequent: Vec<Frequent>,
    /// How it goes with the target.
    pub relation: Option<Relation>,
    /// How it has drifted.
    pub drift: Option<Drift>,
}

/// Mean and spread, one value after another (Welford, "Note on a Method for Calculating Corrected Sums of
/// Squares and Products", 1962).
#[derive(Clone, Debug, Default)]
pub struct Moments {
    /// How many.
    pub count: f64,
    /// Their mean.
    pub mean: f64,
    /// Sum of the squared distances from it.
    pub squares: f64,
    /// Sum of the distances to the power of three (Pébay, "Formulas for Robust, One-Pass Parallel Computation", 2008).
    pub cubes: f64,
}

impl Moments {
    /// Takes a value in.
    pub fn add(&mut self, value: f64) {
        self.count += 1.0;
        let distance = value - self.mean;
        let step = distance / self.count;
        let term = distance * step * (self.count - 1.0);
        self.cubes += term * step * (self.count - 2.0) - 3.0 * step * self.squares;
        self.mean += step;
        self.squares += distance * (value - self.mean);
    }

    fn skew(&self) -> Option<f64> {
        let n = self.count;
        if n < 3.0 || self.squares <= 0.0 {
            return None;
        }
        let g = (self.cubes / n) / (self.squares / n).powf(1.5);
        Some(g * (n * (n - 1.0)).sqrt() / (n - 2.0)).filter(|skew| skew.is_finite())
    }
}

/// Fewer values tell nothing of what they are.
const FEW_VALUES: u64 = 20;

/// Whether values name rows: each is there once, and they are texts, or whole numbers that are numbered through or are
/// said to be names by the column's.
fn is_identifier(name: &str, kinds: &KindCounts, distinct: u64, numbers: Option<&Numbers>) -> bool {
    if distinct < FEW_VALUES || distinct != kinds.present() {
        return false;
    }
    match (kinds.name(), numbers) {
        ("text" | "mixed", _) => true,
        ("integer", Some(n)) => {
            let lower = name.to_ascii_lowercase();
            let said =
                ["id", "key", "number", "nr", "uuid", "index"].iter().any(|w| lower == *w || lower.ends_with(&format!("_{w}")));
            said || name.ends_with("Id") || n.max - n.min < 1.5 * distinct as f64
        }
        _ => false,
    }
}

/// What is gathered of a column while its table is read.
pub struct Gathered {
    name: String,
    kinds: KindCounts,
    moments: Moments,
    infinite: bool,
    numbers: Gather,
    /// Of numbers that a double may not keep: what they are exactly, by hash, and as doubles.
    long: Gather,
    long_values: Gather,
    texts: Option<HashMap<Vec<u8>, u64>>,
    hashes: Gather,
    hasher: foldhash::fast::FixedState,
    least: Option<Vec<u8>>,
    greatest: Option<Vec<u8>>,
    pub relating: Option<Relating>,
}

/// A column whose values stand in order.
pub struct Settled {
    pub profile: ColumnProfile,
    /// Its numbers, in the order of [`ordered`].
    pub numbers: Sorted,
    /// Hashes of its other values.
    pub others: Sorted,
    /// Frequent values that are known by their hash only: the hash, and the place among the frequent.
    pub unnamed: HashMap<u64, usize>,
    hasher: foldhash::fast::FixedState,
}

impl Gathered {
    /// A column of this name, of whose values `most` of each sort are kept in memory.
    pub fn new(name: &str, scratch: &Path, most: usize) -> Gathered {
        Gathered {
            name: name.to_string(),
            kinds: KindCounts::default(),
            moments: Moments::default(),
            infinite: false,
            numbers: Gather::new(scratch, most),
            long: Gather::new(scratch, most),
            long_values: Gather::new(scratch, most),
            texts: Some(HashMap::new()),
            hashes: Gather::new(scratch, most),
            // The same in every table: hashes of two tables are compared.
            hasher: foldhash::fast::FixedState::with_seed(0x7E47),
            least: None,
            greatest: None,
            relating: None,
        }
    }

    /// Takes a cell in, with the target's cell of the same row.
    pub fn add(&mut self, cell: &[u8], target: Option<&[u8]>) -> io::Result<()> {
        let kind = kind_of(cell);
        self.kinds.add(kind);
        if let (Some(relating), Some(target)) = (&mut self.relating, target) {
            relating.add(cell, kind, target);
        }
        match kind {
            Kind::Missing => Ok(()),
            Kind::Integer | Kind::Number => {
                let Some(value) = number(cell) else { return Ok(()) };
                self.infinite |= value.is_infinite();
                self.moments.add(value);
                if let Some(exact) = long_number(cell) {
                    self.long.push(self.hasher.hash_one(exact.as_bytes()))?;
                    self.long_values.push(ordered(value))?;
                }
                self.numbers.push(ordered(value))
            }
            _ => self.add_text(cell),
        }
    }

    /// Takes a value in, as [`Gathered::add`] would its text.
    pub fn add_value(&mut self, value: Value<'_>) -> io::Result<()> {
        match value {
            Value::Missing => self.add(b"", None),
            Value::Text(text) => self.add(text, None),
            // All that a double can be is told apart by the double.
            Value::Double(number) => self.add_number(Kind::Number, number),
            Value::Integer(whole) if whole.unsigned_abs() <= EXACT => self.add_number(Kind::Integer, whole as f64),
            Value::Integer(whole) => self.add(whole.to_string().as_bytes(), None),
        }
    }

    fn add_number(&mut self, kind: Kind, value: f64) -> io::Result<()> {
        self.kinds.add(kind);
        self.moments.add(value);
        self.numbers.push(ordered(value))
    }

    fn add_text(&mut self, cell: &[u8]) -> io::Result<()> {
        if self.least.as_deref().is_none_or(|least| cell < least) {
            self.least = Some(cell.to_vec());
        }
        if self.greatest.as_deref().is_none_or(|greatest| cell > greatest) {
            self.greatest = Some(cell.to_vec());
        }
        let Some(texts) = &mut self.texts else { return self.hashes.push(self.hasher.hash_one(cell)) };
        match texts.get_mut(cell) {
            Some(count) => *count += 1,
            None => drop(texts.insert(cell.to_vec(), 1)),
        }
        if texts.len() > MOST_TEXTS {
            for (text, count) in self.texts.take().unwrap_or_default() {
                let hash = self.hasher.hash_one(text.as_slice());
                (0..count).try_for_each(|_| self.hashes.push(hash))?;
            }
        }
        Ok(())
    }

    /// The figures.
    pub fn settle(mut self, frequent: usize) -> io::Result<Settled> {
        let mut unnamed = HashMap::new();
        let mut top: Vec<Frequent> = Vec::new();
        let texts = self.texts.take();
        if let Some(texts) = &texts {
            for (text, count) in texts {
                let hash = self.hasher.hash_one(text.as_slice());
                (0..*count).try_for_each(|_| self.hashes.push(hash))?;
            }
        }
        let (numbers, others) = (self.numbers.finish()?, self.hashes.finish()?);
        let (long, long_values) = (self.long.finish()?, self.long_values.finish()?);
        let (mut distinct, mut most_numbers) = (0, Top::new(frequent));
        // Long numbers that are one double are told apart by what they are exactly.
        let mut longs = long_values.counted().peekable();
        for (bits, count) in numbers.counted() {
            let of_long = longs.next_if(|(b, _)| *b == bits).map_or(0, |(_, count)| count);
            if count > of_long {
                distinct += 1;
                most_numbers.offer(bits, count - of_long);
            }
        }
        top.extend(most_numbers.done().map(|(bits, count)| Frequent { value: unordered(bits).to_string(), count }));
        let mut most_long = Top::new(frequent);
        for (hash, count) in long.counted() {
            distinct += 1;
            most_long.offer(hash, count);
        }
        for (hash, count) in most_long.done() {
            unnamed.insert(hash, top.len());
            top.push(Frequent { value: String::new(), count });
        }
        let mut most_others = Top::new(frequent);
        match &texts {
            Some(texts) => {
                let mut all: Vec<_> = texts.iter().collect();
                distinct += all.len() as u64;
                all.sort_by(|a, b| b.1.cmp(a.1).then(a.0.cmp(b.0)));
                top.extend(all.iter().take(frequent).map(|(value, count)| Frequent { value: text(value), count: **count }));
            }
            None => {
                for (hash, count) in others.counted() {
                    distinct += 1;
                    most_others.offer(hash, count);
                }
                for (hash, count) in most_others.done() {
                    unnamed.insert(hash, top.len());
                    top.push(Frequent { value: String::new(), count });
                }
            }
        }
        if unnamed.is_empty() {
            order(&mut top, frequent);
        }
        let figures = (self.kinds.is_numeric() && !numbers.is_empty()).then(|| figures(&numbers, &self.moments));
        let spread = figures.as_ref().filter(|_| !self.infinite).map(|f| histogram(&numbers, f.min, f.max));
        let range = self.least.zip(self.greatest).map(|(a, b)| (text(&a), text(&b)));
        let name = self.name;
        let profile = ColumnProfile {
            name: name.clone(),
            r#type: self.kinds.name().to_string(),
            count: self.kinds.present(),
            missing: self.kinds.missing,
            distinct,
            identifier: is_identifier(&name, &self.kinds, distinct, figures.as_ref()),
            numbers: figures,
            range,
            histogram: spread,
            frequent: top,
            relation: self.relating.and_then(|r| r.relation()),
            drift: None,
            kinds: self.kinds,
        };
        Ok(Settled { profile, numbers, others, unnamed, hasher: self.hasher })
    }
}

impl Settled {
    /// As [`Settled::name`], for a value that has been taken in by [`Gathered::add_value`].
    pub fn name_value(&mut self, value: Value<'_>) {
        match value {
            Value::Text(text) => self.name(text),
            Value::Integer(whole) if whole.unsigned_abs() > EXACT => self.name(whole.to_string().as_bytes()),
            _ => {}
        }
    }

    /// Gives a frequent value its text, if this cell is it.
    pub fn name(&mut self, cell: &[u8]) {
        if self.unnamed.is_empty() || cell.is_empty() {
            return;
        }
        let hash = match long_number(cell) {
            Some(exact) => self.hasher.hash_one(exact.as_bytes()),
            None => self.hasher.hash_one(cell),
        };
        if let Some(at) = self.unnamed.get(&hash)
            && let Some(frequent) = self.profile.frequent.get_mut(*at)
            && frequent.value.is_empty()
        {
            frequent.value = text(cell);
        }
    }
}

/// The most frequent values first, at most so many.
pub fn order(frequent: &mut Vec<Frequent>, most: usize) {
    frequent.sort_by_key(|f| std::cmp::Reverse(f.count));
    frequent.truncate(most);
}

/// The values with the highest counts.
struct Top {
    most: usize,
    kept: Vec<(u64, u64)>,
}

impl Top {
    fn new(most: usize) -> Top {
        Top { most, kept: Vec::new() }
    }

    fn offer(&mut self, value: u64, count: u64) {
        if self.kept.len() < self.most || self.kept.last().is_some_and(|(_, least)| count > *least) {
            let at = self.kept.partition_point(|(_, c)| *c >= count);
            self.kept.insert(at, (value, count));
            self.kept.truncate(self.most);
        }
    }

    fn done(self) -> impl Iterator<Item = (u64, u64)> {
        self.kept.into_iter()
    }
}

/// Quartiles are values that are there: the one at rank ⌈q·n⌉.
fn figures(numbers: &Sorted, moments: &Moments) -> Numbers {
    let count = numbers.len();
    let rank = |q: f64| ((q * count as f64).ceil() as u64).clamp(1, count);
    let ranks = [1, rank(0.25), rank(0.5), rank(0.75), count];
    let mut found = [f64::NAN; 5];
    let mut next = 0;
    let mut seen = 0;
    for (bits, count) in numbers.counted() {
        seen += count;
        while next < 5 && ranks[next] <= seen {
            found[next] = unordered(bits);
            next += 1;
        }
    }
    let deviation = if moments.count > 1.0 { (moments.squares / (moments.count - 1.0)).sqrt() } else { 0.0 };
    let [min, lower_quartile, median, upper_quartile, max] = found;
    let fence = 1.5 * (upper_quartile - lower_quartile);
    let is_outlier = |bits: &u64| !(lower_quartile - fence..=upper_quartile + fence).contains(&unordered(*bits));
    let outliers = numbers.counted().filter(|(bits, _)| is_outlier(bits)).map(|(_, count)| count).sum();
    let mean = moments.mean;
    Numbers { min, lower_quartile, median, upper_quartile, max, mean, deviation, skew: moments.skew(), outliers }
}

fn histogram(numbers: &Sorted, from: f64, to: f64) -> Histogram {
    let mut counts = vec![0; BARS];
    let width = (to - from) / BARS as f64;
    for (bits, count) in numbers.counted() {
        let at = if width > 0.0 { ((unordered(bits) - from) / width) as usize } else { 0 };
        counts[at.min(BARS - 1)] += count;
    }
    Histogram { from, to, counts }
}
