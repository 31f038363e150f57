//! Records by their keys: whether those are in order, which of them several rows have, and rows found by them.

use std::collections::{HashMap, HashSet};
use std::hash::BuildHasherDefault;

use super::partition::{Record, cell_at};
use crate::row::text;

/// Hashes are evenly spread already.
#[derive(Default)]
pub(super) struct AsItIs(u64);

impl std::hash::Hasher for AsItIs {
    fn finish(&self) -> u64 {
        self.0
    }
    fn write(&mut self, _: &[u8]) {}
    fn write_u64(&mut self, value: u64) {
        self.0 = value;
    }
}

pub(super) type ByHash<V> = HashMap<u64, V, BuildHasherDefault<AsItIs>>;

/// The records of a part, in their order.
pub(super) fn records(part: &[u8]) -> impl Iterator<Item = Record<'_>> {
    let mut at = 0;
    std::iter::from_fn(move || {
        let record = Record::at(part, at)?;
        at = record.end;
        Some(record)
    })
}

/// Where the first `count` cells end.
pub(super) fn end_of(cells: &[u8], count: usize) -> usize {
    (0..count).fold(0, |at, _| cell_at(cells, at).1)
}

/// The bytes of a record's key, with the lengths of its cells: what sorts by length first.
pub(super) fn key_of<'r>(record: &Record<'r>, keys: usize) -> &'r [u8] {
    &record.cells[..end_of(record.cells, keys)]
}

/// Whether each key comes after the one before it.
pub(super) fn in_order(part: &[u8], keys: usize) -> bool {
    let mut last: &[u8] = &[];
    records(part).all(|record| key_of(&record, keys) > std::mem::replace(&mut last, key_of(&record, keys)))
}

/// The cells of a key.
pub(super) fn key_text(cells: &[u8], keys: usize) -> Vec<String> {
    let mut at = 0;
    (0..keys)
        .map(|_| {
            let (cell, next) = cell_at(cells, at);
            at = next;
            text(cell)
        })
        .collect()
}

/// The keys of a part that several of its rows have.
pub(super) fn doubled(part: &[u8], keys: usize) -> Vec<&[u8]> {
    let (mut met, mut again) = (HashSet::new(), Vec::new());
    for record in records(part) {
        let key = key_of(&record, keys);
        if !met.insert(key) {
            again.push(key);
        }
    }
    again
}

/// The records whose key is none of these, and the others.
pub(super) fn parted(part: &[u8], doubled: &HashSet<&[u8]>, keys: usize) -> (Vec<u8>, Vec<u8>) {
    let (mut single, mut others) = (Vec::new(), Vec::new());
    let mut from = 0;
    for record in records(part) {
        let to = if doubled.contains(key_of(&record, keys)) { &mut others } else { &mut single };
        to.extend_from_slice(&part[from..record.end]);
        from = record.end;
    }
    (single, others)
}

/// A row of the first table: whether the second has it.
pub(super) struct Known<'r> {
    pub(super) record: Record<'r>,
    pub(super) key_end: usize,
    pub(super) met: Option<u64>,
    pub(super) next: u32,
}

/// The end of a chain.
const NONE: u32 = u32::MAX;

/// Rows by the hash of their key; those with the same hash in a chain.
#[derive(Default)]
pub(super) struct Chained<'r> {
    first: ByHash<u32>,
    pub(super) rows: Vec<Known<'r>>,
}

impl<'r> Chained<'r> {
    /// Where the row with this key stands.
    pub(super) fn find(&self, hash: u64, key: &[u8]) -> Option<usize> {
        let mut at = *self.first.get(&hash)?;
        while at != NONE {
            let known = &self.rows[at as usize];
            if known.record.cells[..known.key_end] == *key {
                return Some(at as usize);
            }
            at = known.next;
        }
        None
    }

    /// Takes a row in.
    pub(super) fn insert(&mut self, record: Record<'r>, key_end: usize) {
        let at = self.rows.len() as u32;
        let next = self.first.insert(record.hash, at).unwrap_or(NONE);
        self.rows.push(Known { record, key_end, met: None, next });
    }
}
