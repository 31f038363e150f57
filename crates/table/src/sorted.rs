//! Numbers in order, any number of them, in bounded memory: sorted runs in a nameless file, merged.

use std::cmp::Reverse;
use std::collections::BinaryHeap;
use std::collections::binary_heap::PeekMut;
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

/// Entries read from a run at a time.
const READ: usize = 4096;

/// Takes numbers in, in any order.
pub struct Gather {
    folder: PathBuf,
    most: usize,
    buffer: Vec<u64>,
    file: Option<File>,
    runs: Vec<Run>,
    written: u64,
    count: u64,
}

/// Numbers that can be gone through in order, any number of times.
pub struct Sorted {
    memory: Vec<u64>,
    file: Option<File>,
    runs: Vec<Run>,
    count: u64,
}

/// Numbers in order in the file.
#[derive(Clone, Copy, Debug)]
struct Run {
    offset: u64,
    entries: usize,
    /// Whether each number is there once, with how often it was taken in; else as often as it was.
    counted: bool,
}

impl Run {
    /// The length of an entry in bytes.
    fn entry(self) -> usize {
        if self.counted { 16 } else { 8 }
    }
}

impl Gather {
    /// Keeps at most `most` numbers in memory, the others in `folder`.
    pub fn new(folder: &Path, most: usize) -> Gather {
        Gather {
            folder: folder.to_path_buf(),
            most: most.max(READ),
            buffer: Vec::new(),
            file: None,
            runs: Vec::new(),
            written: 0,
            count: 0,
        }
    }

    /// Takes a number in.
    pub fn push(&mut self, value: u64) -> io::Result<()> {
        self.buffer.push(value);
        if self.buffer.len() >= self.most { self.spill() } else { Ok(()) }
    }

    fn spill(&mut self) -> io::Result<()> {
        self.buffer.sort_unstable();
        let distinct = self.buffer.chunk_by(|a, b| a == b).count();
        let counted = distinct <= self.buffer.len() / 2;
        let file = match &mut self.file {
            Some(file) => file,
            None => self.file.insert(tempfile::tempfile_in(&self.folder)?),
        };
        let mut out = BufWriter::with_capacity(READ * 16, At { file, at: self.written });
        if counted {
            for same in self.buffer.chunk_by(|a, b| a == b) {
                out.write_all(&same[0].to_le_bytes())?;
                out.write_all(&(same.len() as u64).to_le_bytes())?;
            }
        } else {
            self.buffer.iter().try_for_each(|v| out.write_all(&v.to_le_bytes()))?;
        }
        out.flush()?;
        drop(out);
        let run = Run { offset: self.written, entries: if counted { distinct } else { self.buffer.len() }, counted };
        self.written += (run.entries * run.entry()) as u64;
        self.count += self.buffer.len() as u64;
        self.runs.push(run);
        self.buffer.clear();
        Ok(())
    }

    /// Ends the taking in.
    pub fn finish(mut self) -> io::Result<Sorted> {
        if self.file.is_some() && !self.buffer.is_empty() {
            self.spill()?;
            self.buffer = Vec::new();
        }
        self.buffer.sort_unstable();
        let count = self.count + self.buffer.len() as u64;
        Ok(Sorted { memory: self.buffer, file: self.file, runs: self.runs, count })
    }
}

/// Writes at a place of a file, whatever its position is.
struct At<'f> {
    file: &'f File,
    at: u64,
}

impl Write for At<'_> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let written = self.file.write_at(bytes, self.at)?;
        self.at += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

impl Sorted {
    /// How many numbers there are.
    pub fn len(&self) -> u64 {
        self.count
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.count == 0
    }

    /// The numbers in order. Should the file not be readable any more, they end early: see [`Sorted::len`].
    pub fn iter(&self) -> impl Iterator<Item = u64> + '_ {
        self.counted().flat_map(|(value, count)| std::iter::repeat_n(value, usize::try_from(count).unwrap_or(usize::MAX)))
    }

    /// Each number once, in order, with how often it is there.
    pub fn counted(&self) -> Box<dyn Iterator<Item = (u64, u64)> + '_> {
        match &self.file {
            None => Box::new(self.memory.chunk_by(|a, b| a == b).map(|same| (same[0], same.len() as u64))),
            Some(file) => Box::new(Merge::of(file, &self.runs)),
        }
    }
}

/// What is next in a run.
struct Cursor<'f> {
    file: &'f File,
    run: Run,
    read: usize,
    bytes: Vec<u8>,
    at: usize,
}

impl Cursor<'_> {
    fn next(&mut self) -> Option<(u64, u64)> {
        let entry = self.run.entry();
        if self.at == self.bytes.len() {
            let count = READ.min(self.run.entries - self.read);
            self.bytes.resize(count * entry, 0);
            self.at = 0;
            let from = self.run.offset + (self.read * entry) as u64;
            if count == 0 || self.file.read_exact_at(&mut self.bytes, from).is_err() {
                self.bytes.clear();
                self.read = self.run.entries;
                return None;
            }
            self.read += count;
        }
        let number = |bytes: &[u8]| bytes.first_chunk().map(|b| u64::from_le_bytes(*b));
        let (value, rest) = self.bytes[self.at..self.at + entry].split_at(8);
        self.at += entry;
        Some((number(value)?, if self.run.counted { number(rest)? } else { 1 }))
    }
}

/// Several runs as one.
struct Merge<'f> {
    cursors: Vec<Cursor<'f>>,
    /// The next number of each run, with the count that belongs to it.
    heads: BinaryHeap<Reverse<(u64, u32, u64)>>,
}

impl<'f> Merge<'f> {
    fn of(file: &'f File, runs: &[Run]) -> Merge<'f> {
        let cursor = |run: &Run| Cursor { file, run: *run, read: 0, bytes: Vec::new(), at: 0 };
        let mut cursors: Vec<Cursor<'f>> = runs.iter().map(cursor).collect();
        let head = |(i, c): (usize, &mut Cursor<'f>)| c.next().map(|(value, count)| Reverse((value, i as u32, count)));
        let heads = cursors.iter_mut().enumerate().filter_map(head).collect();
        Merge { cursors, heads }
    }

    /// Takes the least number, and puts the one that comes after it in its run in its place.
    fn take(&mut self) -> Option<(u64, u64)> {
        let mut least = self.heads.peek_mut()?;
        let Reverse((value, run, count)) = *least;
        match self.cursors[run as usize].next() {
            Some((next, its_count)) => *least = Reverse((next, run, its_count)),
            None => drop(PeekMut::pop(least)),
        }
        Some((value, count))
    }
}

impl Iterator for Merge<'_> {
    type Item = (u64, u64);

    fn next(&mut self) -> Option<(u64, u64)> {
        let (value, mut count) = self.take()?;
        while self.heads.peek().is_some_and(|Reverse((next, ..))| *next == value) {
            count += self.take()?.1;
        }
        Some((value, count))
    }
}

/// A number as one that sorts in the same order.
pub fn ordered(value: f64) -> u64 {
    let bits = (value + 0.0).to_bits();
    if bits >> 63 == 1 { !bits } else { bits | 1 << 63 }
}

/// The number that [`ordered`] was given.
pub fn unordered(bits: u64) -> f64 {
    f64::from_bits(if bits >> 63 == 1 { bits & !(1 << 63) } else { !bits })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(48))]

        #[test]
        fn numbers_come_back_in_order_whether_they_fit_or_not(
            seed in any::<u64>(), count in 0usize..30_000, spread in prop::sample::select(vec![16e6, 1e4, 50.0, 1.0]),
        ) {
            let mut state = seed | 1;
            let values: Vec<f64> = (0..count).map(|_| {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                ((state >> 40) as f64 % spread - spread / 2.0) / 7.0
            }).collect();
            let mut gather = Gather::new(&std::env::temp_dir(), 1);
            values.iter().for_each(|v| gather.push(ordered(*v)).unwrap());
            let sorted = gather.finish().unwrap();
            let mut expected = values;
            expected.sort_unstable_by(f64::total_cmp);
            prop_assert_eq!(sorted.len(), count as u64);
            prop_assert!(sorted.iter().map(unordered).eq(expected.iter().copied()));
            let counted: Vec<(f64, u64)> = sorted.counted().map(|(bits, count)| (unordered(bits), count)).collect();
            let by_hand: Vec<(f64, u64)> = expected.chunk_by(|a, b| a == b).map(|same| (same[0], same.len() as u64)).collect();
            prop_assert_eq!(counted, by_hand);
        }
    }
}
