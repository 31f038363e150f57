//! How a rebuilt output differs from the recorded one.

use std::collections::BTreeMap;
use std::path::Path;

use crate::record::receipt::{Content, ContentKind, Metric};
use crate::store::{Digest, Store, parse_listing};

/// The first output that differs, and how.
#[derive(Clone, Debug)]
pub struct FirstDifference {
    /// The stage.
    pub stage: String,
    /// The output, down to the file in a folder.
    pub path: String,
    /// How.
    pub how: Difference,
}

/// How two contents differ.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Difference {
    /// They part at a byte (from 0); in a text, at a line (from 1).
    Bytes {
        /// Offset of the first differing byte.
        at: u64,
        /// Its line, if both are texts.
        line: Option<u64>,
        /// Recorded size in bytes.
        recorded: u64,
        /// Rebuilt size in bytes.
        rebuilt: u64,
    },
    /// Too large to be held against each other here, or the recorded bytes are not stored.
    Unknown {
        /// Recorded size in bytes.
        recorded: u64,
        /// Rebuilt size in bytes.
        rebuilt: u64,
    },
    /// It was not there when recorded.
    New,
    /// It was not brought forth again.
    Gone,
}

/// Contents above this are not compared byte by byte. In bytes.
const MOST_BYTES: u64 = 256 << 20;

/// Finds how what stands at `full` differs from a recorded content. Gives the path below as well when it
/// is a folder.
pub fn difference(store: &Store, recorded: &Content, full: &Path) -> (Option<String>, Difference) {
    if recorded.kind != ContentKind::Folder {
        return (None, file_difference(store, &recorded.digest, recorded.size, full));
    }
    let listing = store.listing(&recorded.digest).unwrap_or_default();
    let items = parse_listing(&listing).unwrap_or_default();
    let mut before: BTreeMap<&str, (Option<Digest>, u64)> = items.iter().map(|i| (&*i.path, (i.digest, i.size))).collect();
    for seen in crate::project::fingerprint::walk(full).unwrap_or_default() {
        let below = full.join(&seen.path);
        match before.remove(seen.path.as_str()) {
            None => return (Some(seen.path), Difference::New),
            Some((Some(digest), size)) if crate::store::hash_file(&below).is_ok_and(|(d, _)| d != digest) => {
                let how = file_difference(store, &digest, size, &below);
                return (Some(seen.path), how);
            }
            Some(_) => {}
        }
    }
    match before.keys().next() {
        Some(path) => (Some((*path).to_string()), Difference::Gone),
        None => (None, Difference::Unknown { recorded: recorded.size, rebuilt: recorded.size }),
    }
}

fn file_difference(store: &Store, digest: &Digest, size: u64, full: &Path) -> Difference {
    let Ok(meta) = std::fs::metadata(full) else { return Difference::Gone };
    let rebuilt = meta.len();
    let unknown = Difference::Unknown { recorded: size, rebuilt };
    if size > MOST_BYTES || rebuilt > MOST_BYTES {
        return unknown;
    }
    let (Ok(old), Ok(new)) = (store.read(digest), std::fs::read(full)) else { return unknown };
    let at = old.iter().zip(&new).position(|(a, b)| a != b).unwrap_or(old.len().min(new.len()));
    let is_text = memchr::memchr(0, &old).is_none() && memchr::memchr(0, &new).is_none();
    let line = is_text.then(|| 1 + memchr::memchr_iter(b'\n', &old[..at]).count() as u64);
    Difference::Bytes { at: at as u64, line, recorded: size, rebuilt }
}

/// Whether two sets of metrics are the same names with values that agree within a relative tolerance.
pub fn metrics_agree(recorded: &BTreeMap<String, Metric>, rebuilt: &BTreeMap<String, Metric>, tolerance: f64) -> bool {
    let close = |a: f64, b: f64| a == b || (a.is_nan() && b.is_nan()) || (a - b).abs() <= tolerance * a.abs().max(b.abs());
    !recorded.is_empty()
        && recorded.len() == rebuilt.len()
        && recorded.iter().all(|(name, a)| rebuilt.get(name).is_some_and(|b| close(a.0, b.0)))
}
