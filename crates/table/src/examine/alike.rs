//! Rules on rows that are like others: in the table itself, or in another one.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::io;

use super::key::Key;
use super::rows::column_at;
use super::rule::{Demand, Likeness, Rule};
use super::{Breaking, ExamineError, Examining, Found, Place, each_row, place_of};
use crate::filter::{FilterError, Named};
use crate::row::text;
use crate::sorted::{Gather, Sorted};
use crate::{Row, Table};

/// Hashes of all rules that are kept in memory before they go to disk.
const MEMORY: usize = 1 << 20;

/// So many rows are told apart by their cells. Of more, their hashes are trusted.
const EXACT: usize = 1 << 20;

/// What a rule is about.
enum Sort<'r> {
    Unique,
    NoRowOf(&'r str),
    Among(&'r str),
}

struct AlikeRule<'r> {
    at: usize,
    rule: &'r Rule,
    sort: Sort<'r>,
    /// The columns here, and those of the other table.
    mine: Vec<usize>,
    theirs: Vec<usize>,
    /// Places among the columns that may differ, one choice after another.
    left_out: Vec<Vec<usize>>,
    hashes: Gather,
    judged: u64,
    unknown: u64,
}

/// The rules of this sort.
pub struct AlikeRules<'r> {
    rules: Vec<AlikeRule<'r>>,
    key: Key,
}

/// All ways to leave so many of `columns` out.
fn choices(columns: usize, near: u32) -> Vec<Vec<usize>> {
    match near {
        0 => vec![Vec::new()],
        1 => (0..columns).map(|a| vec![a]).collect(),
        _ => (0..columns).flat_map(|a| (a + 1..columns).map(move |b| vec![a, b])).collect(),
    }
}

/// The columns of both that a likeness is told by.
fn shared(rule: &Rule, likeness: &Likeness, mine: &[String], theirs: &[String]) -> Result<(Vec<usize>, Vec<usize>), ExamineError> {
    let names: Vec<String> = match likeness {
        Likeness::By(names) => {
            names.iter().try_for_each(|n| column_at(rule, n, mine).and(column_at(rule, n, theirs)).map(drop))?;
            names.iter().map(|n| n.name.clone()).collect()
        }
        Likeness::Without(left) => {
            left.iter().try_for_each(|n| column_at(rule, n, mine).map(drop))?;
            mine.iter().filter(|c| theirs.contains(c) && left.iter().all(|n| n.name != **c)).cloned().collect()
        }
    };
    let places = |of: &[String]| names.iter().filter_map(|n| of.iter().position(|c| c == n)).collect();
    Ok((places(mine), places(theirs)))
}

impl<'r> AlikeRules<'r> {
    /// Those among all rules.
    pub fn new(rules: &'r [Rule], columns: &[String], what: &Examining<'_, '_>) -> Result<AlikeRules<'r>, ExamineError> {
        let mut found: Vec<AlikeRule<'r>> = Vec::new();
        let of = |table: &str| -> Result<Vec<String>, ExamineError> {
            Ok(what.others.get(table).map(Table::open).transpose()?.map_or(Vec::new(), |o| o.columns))
        };
        for (at, rule) in rules.iter().enumerate() {
            let place =
                |names: &[Named], of: &[String]| names.iter().map(|n| column_at(rule, n, of)).collect::<Result<Vec<_>, _>>();
            let (sort, mine, theirs, near) = match &rule.demand {
                Demand::Unique(names) => (Sort::Unique, place(names, columns)?, Vec::new(), 0),
                Demand::NoRowOf(table, likeness, near) => {
                    let (mine, theirs) = shared(rule, likeness, columns, &of(table)?)?;
                    if mine.len() <= *near as usize {
                        let what = format!("`{table}` has too few of the same columns to be told apart by");
                        let source = FilterError { at: 0..rule.text.len(), what, help: "name other columns".into() };
                        return Err(ExamineError::Rule { rule: rule.text.clone(), source });
                    }
                    (Sort::NoRowOf(table), mine, theirs, *near)
                }
                Demand::Among(names, table, others) => {
                    let others: Vec<Named> = others.iter().map(|n| Named { name: n.clone(), at: 0..rule.text.len() }).collect();
                    (Sort::Among(table), place(names, columns)?, place(&others, &of(table)?)?, 0)
                }
                _ => continue,
            };
            let left_out = choices(mine.len(), near);
            let hashes = Gather::new(what.scratch, MEMORY);
            found.push(AlikeRule { at, rule, sort, mine, theirs, left_out, hashes, judged: 0, unknown: 0 });
        }
        Ok(AlikeRules { rules: found, key: Key::default() })
    }

    /// Takes a row in.
    pub fn take(&mut self, row: &Row) -> io::Result<()> {
        for rule in &mut self.rules {
            if !rule.is_told(row, &rule.mine, &mut self.key) {
                rule.unknown += 1;
                continue;
            }
            rule.judged += 1;
            for choice in 0..rule.left_out.len() {
                rule.take(row, &rule.mine, choice, &mut self.key);
                rule.hashes.push(self.key.hash())?;
            }
        }
        Ok(())
    }

    /// What came of them, by their place among all.
    pub fn found(self, what: &Examining<'_, '_>, files: &[String]) -> Result<BTreeMap<usize, Found>, ExamineError> {
        self.rules.into_iter().map(|rule| Ok((rule.at, rule.found(what, files)?))).collect()
    }
}

impl AlikeRule<'_> {
    /// Whether a row can be like another: of a key all cells are there, of a whole row any.
    fn is_told(&self, row: &Row, places: &[usize], key: &mut Key) -> bool {
        key.take(row, places.iter().copied());
        match (&self.sort, &self.rule.demand) {
            (Sort::NoRowOf(_), Demand::NoRowOf(_, Likeness::Without(_), _)) => !key.all_missing,
            _ => !key.any_missing,
        }
    }

    /// The cells that tell a row with some of them left out, and which those are.
    fn take(&self, row: &Row, places: &[usize], choice: usize, key: &mut Key) {
        let left = &self.left_out[choice];
        key.take(row, places.iter().enumerate().filter(|(at, _)| !left.contains(at)).map(|(_, place)| *place));
        if !left.is_empty() {
            key.bytes.extend_from_slice(&(choice as u32).to_be_bytes());
        }
    }

    /// Each key of a row.
    fn each_key(&self, row: &Row, places: &[usize], key: &mut Key, visit: &mut dyn FnMut(&Key)) {
        if self.is_told(row, places, key) {
            for choice in 0..self.left_out.len() {
                self.take(row, places, choice, key);
                visit(key);
            }
        }
    }

    /// The hashes of the other table's rows, in order.
    fn hashes_of(&self, table: &Table<'_>, what: &Examining<'_, '_>) -> Result<Sorted, ExamineError> {
        let mut hashes = Gather::new(what.scratch, MEMORY);
        let mut key = Key::default();
        each_row(table, |row| {
            let mut done = Ok(());
            self.each_key(row, &self.theirs, &mut key, &mut |key| {
                if done.is_ok() {
                    done = hashes.push(key.hash());
                }
            });
            done.map_err(what.no_room()).map_err(ExamineError::from)
        })?;
        Ok(hashes.finish().map_err(what.no_room())?)
    }

    fn found(mut self, what: &Examining<'_, '_>, files: &[String]) -> Result<Found, ExamineError> {
        let hashes = std::mem::replace(&mut self.hashes, Gather::new(what.scratch, 0));
        let mine = hashes.finish().map_err(what.no_room())?;
        match self.sort {
            Sort::Unique => self.twice(&mine, what, files),
            Sort::NoRowOf(other) => self.in_both(&mine, other, what, files),
            Sort::Among(other) => self.not_among(&mine, other, what, files),
        }
    }

    fn example(&self, row: &Row, files: &[String], columns: &[String], like: Option<Place>) -> Breaking {
        const SHOWN: usize = 8;
        let shown = self.mine.iter().take(SHOWN).map(|at| (columns[*at].clone(), text(row.cell(*at)))).collect();
        Breaking { place: place_of(row, files), cells: shown, like }
    }

    fn twice(&self, hashes: &Sorted, what: &Examining<'_, '_>, files: &[String]) -> Result<Found, ExamineError> {
        let again: u64 = hashes.counted().map(|(_, count)| count - 1).sum();
        let mut found = Found::of_rows(self.rule, self.judged, again, self.unknown);
        let several: HashSet<u64> = hashes.counted().filter(|(_, count)| *count > 1).map(|(h, _)| h).take(EXACT).collect();
        if several.is_empty() {
            return Ok(found);
        }
        let trusted = several.len() == EXACT;
        let columns = what.table.open()?.columns;
        let mut first: HashMap<Box<[u8]>, Place> = HashMap::new();
        let (mut key, mut breaking) = (Key::default(), 0);
        each_row(what.table, |row| {
            if self.is_told(row, &self.mine, &mut key) && several.contains(&key.hash()) {
                match first.get(key.bytes.as_slice()) {
                    Some(like) => {
                        breaking += 1;
                        if found.examples.len() < what.examples {
                            let example = self.example(row, files, &columns, Some(like.clone()));
                            found.examples.push(example);
                        }
                    }
                    None => drop(first.insert(key.bytes.as_slice().into(), place_of(row, files))),
                }
            }
            Ok(())
        })?;
        if !trusted {
            (found.breaking, found.holds) = (breaking, Some(breaking == 0));
        }
        Ok(found)
    }

    fn in_both(&self, mine: &Sorted, other: &str, what: &Examining<'_, '_>, files: &[String]) -> Result<Found, ExamineError> {
        let Some(table) = what.others.get(other) else { return Ok(Found::of_rows(self.rule, 0, 0, 0)) };
        let theirs = self.hashes_of(table, what)?;
        let mut in_both: HashSet<u64> = HashSet::new();
        let mut b = theirs.counted().peekable();
        for (hash, _) in mine.counted() {
            while b.next_if(|(h, _)| *h < hash).is_some() {}
            if b.peek().is_some_and(|(h, _)| *h == hash) {
                in_both.insert(hash);
            }
        }
        let mut found = Found::of_rows(self.rule, self.judged, 0, self.unknown);
        if in_both.is_empty() {
            return Ok(found);
        }
        let (their_files, mut key) = (table.part_paths(), Key::default());
        let mut known: HashMap<Box<[u8]>, Place> = HashMap::new();
        each_row(table, |row| {
            self.each_key(row, &self.theirs, &mut key, &mut |key| {
                if known.len() < EXACT && in_both.contains(&key.hash()) && !known.contains_key(key.bytes.as_slice()) {
                    known.insert(key.bytes.as_slice().into(), place_of(row, &their_files));
                }
            });
            Ok(())
        })?;
        let trusted = known.len() >= EXACT;
        let columns = what.table.open()?.columns;
        each_row(what.table, |row| {
            let (mut like, mut is_like) = (None, false);
            self.each_key(row, &self.mine, &mut key, &mut |key| {
                if !is_like {
                    like = known.get(key.bytes.as_slice()).cloned();
                    is_like = like.is_some() || (trusted && in_both.contains(&key.hash()));
                }
            });
            if is_like {
                found.breaking += 1;
                if found.examples.len() < what.examples {
                    found.examples.push(self.example(row, files, &columns, like));
                }
            }
            Ok(())
        })?;
        found.holds = Some(found.breaking == 0);
        Ok(found)
    }

    /// A row is missing among those of the other table if its hash is: of the same hash it is taken for the same.
    fn not_among(&self, mine: &Sorted, other: &str, what: &Examining<'_, '_>, files: &[String]) -> Result<Found, ExamineError> {
        let Some(table) = what.others.get(other) else { return Ok(Found::of_rows(self.rule, 0, 0, 0)) };
        let theirs = self.hashes_of(table, what)?;
        let (mut b, mut alone, mut breaking) = (theirs.counted().peekable(), HashSet::new(), 0);
        for (hash, count) in mine.counted() {
            while b.next_if(|(h, _)| *h < hash).is_some() {}
            if b.peek().is_none_or(|(h, _)| *h != hash) {
                breaking += count;
                if alone.len() < EXACT {
                    alone.insert(hash);
                }
            }
        }
        let mut found = Found::of_rows(self.rule, self.judged, breaking, self.unknown);
        if breaking == 0 {
            return Ok(found);
        }
        let (columns, mut key) = (what.table.open()?.columns, Key::default());
        each_row(what.table, |row| {
            if found.examples.len() < what.examples && self.is_told(row, &self.mine, &mut key) && alone.contains(&key.hash()) {
                found.examples.push(self.example(row, files, &columns, None));
            }
            Ok(())
        })?;
        Ok(found)
    }
}
