//! Recorded code, line by line.

use std::collections::BTreeSet;

use serde::Serialize;
use similar::{ChangeTag, TextDiff};

use super::{CompareError, Side, sources};
use crate::record::receipt::ContentKind;
use crate::store::{Digest, Store};

/// Larger files are not compared line by line. In bytes.
const LARGE: u64 = 1 << 20;
/// Lines that are shown around a change.
const AROUND: usize = 2;

/// A file of code that is not the same in all runs.
#[derive(Clone, Debug, Serialize)]
pub struct CodeChange {
    /// Its path.
    pub path: String,
    /// Its digest in each run; none where the run did not read it.
    pub digests: Vec<Option<Digest>>,
    /// Lines added and removed from the first run that has it to the last that has another.
    pub added: usize,
    /// Lines removed.
    pub removed: usize,
    /// The changed stretches; empty for a file that is no text, or too large, or there on one side only.
    pub hunks: Vec<Hunk>,
}

/// A changed stretch with a few lines around it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Hunk {
    /// The number of its first line in the first file, from 1.
    pub from: usize,
    /// The number of its first line in the second file, from 1.
    pub to: usize,
    /// Its lines.
    pub lines: Vec<HunkLine>,
}

/// A line of a stretch.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct HunkLine {
    /// What became of it.
    pub kind: LineKind,
    /// Its text, without its end.
    pub text: String,
}

/// What became of a line.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum LineKind {
    /// It is in both.
    Same,
    /// Only the second has it.
    Added,
    /// Only the first has it.
    Removed,
}

/// The files that differ, and how many do not.
pub(super) fn compare(store: &Store, sides: &[Side]) -> Result<(Vec<CodeChange>, usize), CompareError> {
    let all: Vec<_> = sides.iter().map(|side| sources(store, side)).collect::<Result<_, _>>()?;
    let paths: BTreeSet<&String> = all.iter().flat_map(|s| s.keys()).collect();
    let mut changed = Vec::new();
    let mut same = 0;
    for path in paths {
        let found: Vec<_> = all.iter().map(|s| s.get(path).copied()).collect();
        let digests: Vec<Option<Digest>> = found.iter().map(|f| f.map(|f| f.0)).collect();
        if digests.windows(2).all(|w| w[0] == w[1]) {
            same += 1;
            continue;
        }
        let mut change = CodeChange { path: path.clone(), digests, added: 0, removed: 0, hunks: Vec::new() };
        let first = found.iter().flatten().next();
        let last = found.iter().flatten().rev().find(|f| first.is_some_and(|first| first.0 != f.0));
        if let (Some(a), Some(b)) = (first, last) {
            let text = |f: &(Digest, ContentKind, u64)| -> Result<Option<String>, CompareError> {
                if f.1 == ContentKind::Folder || f.2 > LARGE || !store.can_have(&f.0)? {
                    return Ok(None);
                }
                Ok(String::from_utf8(store.read(&f.0)?).ok())
            };
            if let (Some(old), Some(new)) = (text(a)?, text(b)?) {
                fill(&mut change, &old, &new);
            }
        }
        changed.push(change);
    }
    Ok((changed, same))
}

fn fill(change: &mut CodeChange, old: &str, new: &str) {
    let diff = TextDiff::from_lines(old, new);
    for group in diff.grouped_ops(AROUND) {
        let Some(first) = group.first() else { continue };
        let mut hunk = Hunk { from: first.old_range().start + 1, to: first.new_range().start + 1, lines: Vec::new() };
        for op in &group {
            for line in diff.iter_changes(op) {
                let kind = match line.tag() {
                    ChangeTag::Equal => LineKind::Same,
                    ChangeTag::Insert => LineKind::Added,
                    ChangeTag::Delete => LineKind::Removed,
                };
                change.added += usize::from(kind == LineKind::Added);
                change.removed += usize::from(kind == LineKind::Removed);
                hunk.lines.push(HunkLine { kind, text: line.value().trim_end_matches(['\n', '\r']).to_string() });
            }
        }
        change.hunks.push(hunk);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_changed_line_stands_among_its_neighbours() {
        let mut change = CodeChange { path: "fit.py".into(), digests: vec![], added: 0, removed: 0, hunks: vec![] };
        fill(&mut change, "a\nb\nc\nd\ne\nf\n", "a\nb\nc\nD\ne\nf\ng\n");
        assert_eq!((change.added, change.removed, change.hunks.len()), (2, 1, 1));
        let hunk = &change.hunks[0];
        assert_eq!((hunk.from, hunk.to, hunk.lines[2].clone()), (2, 2, HunkLine { kind: LineKind::Removed, text: "d".into() }));
    }
}
