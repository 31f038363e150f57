//! One part of two tables joined: which rows are in one only, and which have other cells.

use std::cmp::Ordering;
use std::collections::HashSet;

use super::common::{Common, Hint, RowSample};
use super::keyed::{ByHash, Chained, doubled, end_of, in_order, key_of, key_text, parted, records};
use super::partition::{Record, cell_at};
use super::pattern::Sample;
use super::{CellChange, ColumnChange, Example, Layout};
use crate::kind::number;
use crate::row::text;

/// More hints than these are none.
const MOST_HINTS: usize = 4;

/// Places in a tally's `common`.
const ALL: usize = 0;
/// Rows changed.
pub const CHANGED: usize = 1;
/// Rows added.
pub const ADDED: usize = 2;
/// Rows removed.
pub const REMOVED: usize = 3;

/// Rows that are alike: their cells, the lines of those in the first table that the second has not, and the
/// other way round.
type Alike<'r> = (&'r [u8], Vec<u64>, Vec<u64>);

/// The examples with the smallest lines.
#[derive(Clone, Debug, Default)]
pub struct Examples {
    most: usize,
    kept: Vec<(u64, Example)>,
}

impl Examples {
    /// Whether one with this line would be kept for now.
    fn wants(&self, line: u64) -> bool {
        self.most > 0 && (self.kept.len() < self.most.saturating_mul(2) || self.kept.iter().any(|(l, _)| *l > line))
    }

    fn add(&mut self, line: u64, example: Example) {
        self.kept.push((line, example));
        if self.kept.len() > self.most.saturating_mul(4) {
            self.shrink();
        }
    }

    fn shrink(&mut self) {
        self.kept.sort_by_key(|(line, _)| *line);
        self.kept.truncate(self.most);
    }

    /// The examples, by line.
    pub fn done(mut self) -> Vec<Example> {
        self.shrink();
        self.kept.into_iter().map(|(_, e)| e).collect()
    }
}

/// Rows of a table whose key another row before them had.
#[derive(Clone, Debug, Default)]
pub struct Twice {
    /// How many.
    pub rows: u64,
    /// Some: the key, its first line, this line.
    pub examples: Vec<(String, u64, u64)>,
}

impl Twice {
    fn add(&mut self, first: u64, again: u64, key: impl FnOnce() -> String) {
        self.rows += 1;
        if self.examples.len() < 3 {
            self.examples.push((key(), first.min(again), first.max(again)));
        }
    }
}

/// What the joined parts come to.
#[derive(Clone, Debug, Default)]
pub struct Tally {
    pub added: u64,
    pub removed: u64,
    pub changed: u64,
    /// Rows whose cells differ by less than what counts.
    pub near: u64,
    cells: Vec<u64>,
    beyond: u64,
    samples: Vec<Sample>,
    pub examples_changed: Examples,
    pub examples_added: Examples,
    pub examples_removed: Examples,
    /// Of the first table and the second.
    pub twice: [Twice; 2],
    /// Of all rows, then of those changed, added and removed.
    common: [Common; 4],
    all: RowSample,
    /// Of those changed, added and removed.
    these: [RowSample; 3],
}

/// Whether two numbers are the same but for `within`, of the larger of them or of 1.
fn are_near(a: &[u8], b: &[u8], within: f64) -> bool {
    match (number(a), number(b)) {
        (Some(a), Some(b)) => (a - b).abs() <= within * a.abs().max(b.abs()).max(1.0),
        _ => false,
    }
}

/// Whether no cell differs by more than that.
fn is_near(old: &Record<'_>, new: &Record<'_>, layout: &Layout) -> bool {
    let (mut a, mut b) = (0, 0);
    let near = layout.names.iter().all(|_| {
        let ((from, next_a), (to, next_b)) = (cell_at(old.cells, a), cell_at(new.cells, b));
        (a, b) = (next_a, next_b);
        from == to || are_near(from, to, layout.within)
    });
    near && old.cells[a..] == new.cells[b..]
}

impl Tally {
    /// Nothing yet, for so many columns and examples.
    pub fn new(columns: usize, examples: usize) -> Tally {
        let some = Examples { most: examples, kept: Vec::new() };
        Tally {
            cells: vec![0; columns],
            samples: vec![Sample::default(); columns],
            examples_changed: some.clone(),
            examples_added: some.clone(),
            examples_removed: some,
            common: [ALL, CHANGED, ADDED, REMOVED].map(|_| Common::new(columns)),
            ..Tally::default()
        }
    }

    /// Joins a part by key.
    pub fn join_by_key(&mut self, old: &[u8], new: &[u8], layout: &Layout) {
        // Tables are mostly exported in the order of their keys: then none is there twice, and the two are
        // gone through side by side.
        if in_order(old, layout.keys) && in_order(new, layout.keys) {
            return self.join_in_order(old, new, layout);
        }
        let mut table = Chained::default();
        for record in records(old) {
            let key_end = end_of(record.cells, layout.keys);
            match table.find(record.hash, &record.cells[..key_end]) {
                Some(at) => {
                    let first = table.rows[at].record.line;
                    self.twice[0].add(first, record.line, || key_text(record.cells, layout.keys).join(", "));
                }
                None => table.insert(record, key_end),
            }
        }
        let mut added = Chained::default();
        for record in records(new) {
            self.met(&record);
            let key_end = end_of(record.cells, layout.keys);
            let key = &record.cells[..key_end];
            let name = || key_text(record.cells, layout.keys).join(", ");
            match table.find(record.hash, key) {
                Some(at) => match table.rows[at].met {
                    Some(first) => self.twice[1].add(first, record.line, name),
                    None => {
                        table.rows[at].met = Some(record.line);
                        let before = table.rows[at].record;
                        if before.cells != record.cells {
                            self.change(&before, &record, layout);
                        }
                    }
                },
                None => match added.find(record.hash, key) {
                    Some(at) => self.twice[1].add(added.rows[at].record.line, record.line, name),
                    None => {
                        added.insert(record, key_end);
                        self.add(&record, layout);
                    }
                },
            }
        }
        for known in table.rows.iter().filter(|k| k.met.is_none()) {
            self.remove(&known.record, layout);
        }
    }

    fn join_in_order(&mut self, old: &[u8], new: &[u8], layout: &Layout) {
        let (mut old, mut new) = (records(old).peekable(), records(new).peekable());
        loop {
            let order = match (old.peek(), new.peek()) {
                (None, None) => return,
                (Some(_), None) => Ordering::Less,
                (None, Some(_)) => Ordering::Greater,
                // The same bytes are the same row: the usual case, without looking for the key.
                (Some(a), Some(b)) if a.cells == b.cells => Ordering::Equal,
                (Some(a), Some(b)) => key_of(a, layout.keys).cmp(key_of(b, layout.keys)),
            };
            let before = if order != Ordering::Greater { old.next() } else { None };
            let now = if order != Ordering::Less { new.next() } else { None };
            if let Some(now) = &now {
                self.met(now);
            }
            match (before, now) {
                (Some(before), Some(now)) if before.cells != now.cells => self.change(&before, &now, layout),
                (Some(before), None) => self.remove(&before, layout),
                (None, Some(now)) => self.add(&now, layout),
                _ => {}
            }
        }
    }

    fn met(&mut self, record: &Record<'_>) {
        self.common[ALL].add(record.cells);
        self.all.add(record.hash, record.line, record.cells);
    }

    fn add(&mut self, record: &Record<'_>, layout: &Layout) {
        self.added += 1;
        self.common[ADDED].add(record.cells);
        self.these[ADDED - 1].add(record.hash, record.line, record.cells);
        only_in_one(&mut self.examples_added, record, layout, false);
    }

    fn remove(&mut self, record: &Record<'_>, layout: &Layout) {
        self.removed += 1;
        self.met(record);
        self.common[REMOVED].add(record.cells);
        self.these[REMOVED - 1].add(record.hash, record.line, record.cells);
        only_in_one(&mut self.examples_removed, record, layout, true);
    }

    fn change(&mut self, old: &Record<'_>, new: &Record<'_>, layout: &Layout) {
        if layout.within > 0.0 && is_near(old, new, layout) {
            self.near += 1;
            return;
        }
        self.changed += 1;
        self.common[CHANGED].add(new.cells);
        self.these[CHANGED - 1].add(new.hash, new.line, new.cells);
        let wanted = self.examples_changed.wants(new.line);
        let mut cells = Vec::new();
        let (mut a, mut b) = (0, 0);
        for (at, name) in layout.names.iter().enumerate() {
            let ((from, next_a), (to, next_b)) = (cell_at(old.cells, a), cell_at(new.cells, b));
            (a, b) = (next_a, next_b);
            if from == to || (layout.within > 0.0 && are_near(from, to, layout.within)) {
                continue;
            }
            self.cells[at] += 1;
            self.samples[at].add(new.hash, from, to);
            if wanted {
                cells.push(CellChange { column: name.clone(), from: text(from), to: text(to) });
            }
        }
        self.beyond += u64::from(old.cells[a..] != new.cells[b..]);
        if wanted {
            let key = key_text(new.cells, layout.keys);
            let example =
                Example { key, old_line: Some(old.line), new_line: Some(new.line), old_file: None, new_file: None, cells };
            self.examples_changed.add(new.line, example);
        }
    }

    /// Joins a part by key, but for rows whose key is there twice in either table: those as whole rows.
    pub fn join_by_single_keys(&mut self, old: &[u8], new: &[u8], layout: &Layout) {
        let doubled: HashSet<&[u8]> = [old, new].into_iter().flat_map(|part| doubled(part, layout.keys)).collect();
        let ((old, old_doubled), (new, new_doubled)) = (parted(old, &doubled, layout.keys), parted(new, &doubled, layout.keys));
        self.join_by_key(&old, &new, layout);
        self.join_rows(&old_doubled, &new_doubled, layout, layout.keys);
    }

    /// Joins a part as a multiset of whole rows, of which so many cells are shown.
    pub fn join_rows(&mut self, old: &[u8], new: &[u8], layout: &Layout, shown: usize) {
        let mut counts: ByHash<Vec<Alike<'_>>> = ByHash::default();
        for (part, is_new) in [(old, false), (new, true)] {
            for record in records(part) {
                self.met(&record);
                let alike = counts.entry(record.hash).or_default();
                let at = match alike.iter().position(|(cells, ..)| *cells == record.cells) {
                    Some(at) => at,
                    None => {
                        alike.push((record.cells, Vec::new(), Vec::new()));
                        alike.len() - 1
                    }
                };
                let (_, olds, news) = &mut alike[at];
                // Rows that both have cancel each other out at once.
                if is_new && !olds.is_empty() {
                    olds.pop();
                } else {
                    (if is_new { news } else { olds }).push(record.line);
                }
            }
        }
        for (cells, olds, news) in counts.values().flatten() {
            let hash = 0;
            for (lines, is_old) in [(olds, true), (news, false)] {
                for line in lines {
                    let record = Record { hash, line: *line, cells, end: 0 };
                    let (count, examples) = match is_old {
                        true => (&mut self.removed, &mut self.examples_removed),
                        false => (&mut self.added, &mut self.examples_added),
                    };
                    *count += 1;
                    let kind = if is_old { REMOVED } else { ADDED };
                    self.common[kind].add(cells);
                    self.these[kind - 1].add(*line, *line, cells);
                    let whole = Layout { names: Vec::new(), keys: shown, within: layout.within };
                    only_in_one(examples, &record, &whole, is_old);
                }
            }
        }
    }

    /// Puts two together.
    pub fn merge(mut self, other: Tally) -> Tally {
        self.added += other.added;
        self.removed += other.removed;
        self.changed += other.changed;
        self.near += other.near;
        self.beyond += other.beyond;
        self.common.iter_mut().zip(other.common).for_each(|(a, b)| a.merge(b));
        self.all.merge(other.all);
        self.these.iter_mut().zip(other.these).for_each(|(a, b)| a.merge(b));
        self.cells.iter_mut().zip(&other.cells).for_each(|(a, b)| *a += b);
        self.samples.iter_mut().zip(other.samples).for_each(|(a, b)| a.merge(b));
        for (mine, theirs) in [
            (&mut self.examples_changed, other.examples_changed),
            (&mut self.examples_added, other.examples_added),
            (&mut self.examples_removed, other.examples_removed),
        ] {
            mine.kept.extend(theirs.kept);
            mine.shrink();
        }
        for (mine, theirs) in self.twice.iter_mut().zip(other.twice) {
            mine.rows += theirs.rows;
            mine.examples.extend(theirs.examples);
            mine.examples.sort_by_key(|e| e.2);
            mine.examples.truncate(3);
        }
        self
    }

    /// What the rows of a kind have in common and not all rows have: columns and values.
    pub fn common(&self, kind: usize, names: &[String], keys: usize) -> Vec<(String, String)> {
        // A single row has all its cells in common with itself.
        let rows = [0, self.changed, self.added, self.removed][kind];
        if rows < 2 {
            return Vec::new();
        }
        let apart = self.common[kind].apart_from(&self.common[ALL]);
        let told = apart.into_iter().filter(|(at, _)| *at >= keys && (kind != CHANGED || self.cells[*at] == 0));
        let columns = names.len().saturating_sub(keys);
        told.filter(|(at, value)| self.all.is_beyond_chance(*at, value, rows, columns))
            .map(|(at, value)| (names[at].clone(), text(value)))
            .collect()
    }

    /// Values that most rows of a kind have and few others, where not all of them have it.
    pub fn hints(&self, kind: usize, names: &[String], keys: usize, of: u64) -> Vec<Hint> {
        let rows = [0, self.changed, self.added, self.removed][kind];
        let columns: Vec<(usize, &String)> =
            names.iter().enumerate().skip(keys).filter(|(at, _)| kind != CHANGED || self.cells[*at] == 0).collect();
        let mut found = self.these[kind - 1].hints(&self.all, rows, of, &columns);
        let told = self.common(kind, names, keys);
        found.retain(|hint| told.iter().all(|(column, _)| *column != hint.column));
        found.truncate(MOST_HINTS);
        found
    }

    /// The columns with changed cells.
    pub fn columns(&self, names: &[String]) -> Vec<ColumnChange> {
        let each = names.iter().zip(&self.cells).zip(&self.samples).filter(|((_, cells), _)| **cells > 0);
        let found =
            each.map(|((name, cells), sample)| ColumnChange { column: name.clone(), cells: *cells, pattern: sample.pattern() });
        let beyond = (self.beyond > 0).then(|| ColumnChange {
            column: "(fields beyond the last column)".into(),
            cells: self.beyond,
            pattern: None,
        });
        found.chain(beyond).collect()
    }
}

fn only_in_one(examples: &mut Examples, record: &Record<'_>, layout: &Layout, old: bool) {
    if examples.wants(record.line) {
        let line = Some(record.line);
        let (old_line, new_line) = if old { (line, None) } else { (None, line) };
        let key = key_text(record.cells, layout.keys);
        examples.add(record.line, Example { key, old_line, new_line, old_file: None, new_file: None, cells: Vec::new() });
    }
}
