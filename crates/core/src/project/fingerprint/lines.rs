//! By how many lines two texts differ: a headline for "the data has changed".

use std::collections::HashMap;

/// How a text differs from an earlier state of it, line by line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum LineChange {
    /// As many lines as before; this many of them differ.
    Changed {
        /// Lines that differ.
        differing: u64,
        /// Lines in all.
        of: u64,
    },
    /// Lines have come and gone.
    Moved {
        /// Lines that are new.
        added: u64,
        /// Lines that are gone.
        removed: u64,
        /// Lines in all now.
        of: u64,
    },
}

fn split(bytes: &[u8]) -> Vec<&[u8]> {
    bytes.strip_suffix(b"\n").unwrap_or(bytes).split(|b| *b == b'\n').collect()
}

/// Compares two texts; `None` when one of them is no text (has a zero byte).
pub fn line_change(old: &[u8], new: &[u8]) -> Option<LineChange> {
    if memchr::memchr(0, old).is_some() || memchr::memchr(0, new).is_some() {
        return None;
    }
    let (old, new) = (split(old), split(new));
    let of = new.len() as u64;
    if old.len() == new.len() {
        let differing = old.iter().zip(&new).filter(|(a, b)| a != b).count() as u64;
        return Some(LineChange::Changed { differing, of });
    }
    let mut balance: HashMap<&[u8], i64> = HashMap::new();
    for line in &old {
        *balance.entry(line).or_default() -= 1;
    }
    for line in &new {
        *balance.entry(line).or_default() += 1;
    }
    let added = balance.values().filter(|n| **n > 0).sum::<i64>() as u64;
    let removed = balance.values().filter(|n| **n < 0).sum::<i64>().unsigned_abs();
    Some(LineChange::Moved { added, removed, of })
}
