//! Numbers in order, any number of them, in bounded memory: sorted runs in a nameless file, merged.

use std::fs::File;
use std::io;
use std::os::unix::fs::FileExt;
use std::path::{Path, PathBuf};

use itertools::Itertools;

/// Values read from a run at a time.
const READ: usize = 4096;

/// Takes numbers in, in any order.
pub struct Gather {
    folder: PathBuf,
    most: usize,
    buffer: Vec<u64>,
    file: Option<File>,
    runs: Vec<(u64, usize)>,
    written: u64,
}

/// Numbers that can be gone through in order, any number of times.
pub struct Sorted {
    memory: Vec<u64>,
    file: Option<File>,
    runs: Vec<(u64, usize)>,
}

impl Gather {
    /// Keeps at most `most` numbers in memory, the others in `folder`.
    pub fn new(folder: &Path, most: usize) -> Gather {
        Gather { folder: folder.to_path_buf(), most: most.max(READ), buffer: Vec::new(), file: None, runs: Vec::new(), written: 0 }
    }

    /// Takes a number in.
    pub fn push(&mut self, value: u64) -> io::Result<()> {
        self.buffer.push(value);
        if self.buffer.len() >= self.most { self.spill() } else { Ok(()) }
    }

    fn spill(&mut self) -> io::Result<()> {
        self.buffer.sort_unstable();
        let file = match &mut self.file {
            Some(file) => file,
            None => self.file.insert(tempfile::tempfile_in(&self.folder)?),
        };
        let mut bytes = Vec::with_capacity(READ * 8);
        let mut at = self.written;
        for values in self.buffer.chunks(READ) {
            bytes.clear();
            values.iter().for_each(|v| bytes.extend_from_slice(&v.to_le_bytes()));
            file.write_all_at(&bytes, at)?;
            at += bytes.len() as u64;
        }
        self.runs.push((self.written, self.buffer.len()));
        self.written = at;
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
        Ok(Sorted { memory: self.buffer, file: self.file, runs: self.runs })
    }
}

impl Sorted {
    /// How many numbers there are.
    pub fn len(&self) -> u64 {
        self.memory.len() as u64 + self.runs.iter().map(|r| r.1 as u64).sum::<u64>()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The numbers in order. Should the file not be readable any more, they end early: see [`Sorted::len`].
    pub fn iter(&self) -> Box<dyn Iterator<Item = u64> + '_> {
        match &self.file {
            None => Box::new(self.memory.iter().copied()),
            Some(file) => Box::new(self.runs.iter().map(|(offset, length)| run(file, *offset, *length)).kmerge()),
        }
    }

    /// Each number once, with how often it is there.
    pub fn counted(&self) -> impl Iterator<Item = (u64, u64)> + '_ {
        self.iter().dedup_with_count().map(|(count, value)| (value, count as u64))
    }
}

fn run(file: &File, offset: u64, length: usize) -> impl Iterator<Item = u64> + '_ {
    let starts = (0..length).step_by(READ);
    starts.flat_map(move |start| {
        let count = READ.min(length - start);
        let mut bytes = vec![0; count * 8];
        let read = file.read_exact_at(&mut bytes, offset + start as u64 * 8);
        if read.is_err() {
            bytes.clear();
        }
        bytes.as_chunks::<8>().0.iter().map(|b| u64::from_le_bytes(*b)).collect::<Vec<_>>()
    })
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
        #[test]
        fn numbers_come_back_in_order_whether_they_fit_or_not(seed in any::<u64>(), count in 0usize..30_000) {
            let mut state = seed | 1;
            let values: Vec<f64> = (0..count).map(|_| {
                state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
                ((state >> 40) as f64 - 8e6) / 7.0
            }).collect();
            let mut gather = Gather::new(&std::env::temp_dir(), 1);
            values.iter().for_each(|v| gather.push(ordered(*v)).unwrap());
            let sorted = gather.finish().unwrap();
            let mut expected = values;
            expected.sort_unstable_by(f64::total_cmp);
            prop_assert_eq!(sorted.len(), count as u64);
            prop_assert!(sorted.iter().map(unordered).eq(expected));
        }
    }
}
