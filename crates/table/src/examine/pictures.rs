//! Rules on pictures that are alike, be it in another size or coding: in the table itself, or in another one.

use std::collections::BTreeMap;

use textum_picture::Likeness;

use super::rows::column_at;
use super::rule::{Demand, LIKENESS, Rule};
use super::{Breaking, ExamineError, Examining, Found, Place, each_row, place_of};
use crate::Row;
use crate::filter::Named;
use crate::row::text;

/// The pictures of a table.
#[derive(Default)]
struct Pictures {
    likeness: Vec<Likeness>,
    places: Vec<Place>,
    unknown: u64,
}

impl Pictures {
    fn take(&mut self, row: &Row, at: usize, files: &[String]) {
        match text(row.cell(at)).parse() {
            Ok(likeness) => {
                self.likeness.push(likeness);
                self.places.push(place_of(row, files));
            }
            // Broken, or without anything to be seen.
            Err(_) => self.unknown += 1,
        }
    }
}

struct PictureRule<'r> {
    at: usize,
    rule: &'r Rule,
    other: Option<&'r str>,
    column: usize,
}

/// The rules of this sort.
pub struct PictureRules<'r> {
    rules: Vec<PictureRule<'r>>,
    mine: Pictures,
}

fn column(rule: &Rule, columns: &[String]) -> Result<usize, ExamineError> {
    column_at(rule, &Named { name: LIKENESS.to_string(), at: 0..rule.text.len() }, columns)
}

impl<'r> PictureRules<'r> {
    /// Those among all rules.
    pub fn new(rules: &'r [Rule], columns: &[String]) -> Result<PictureRules<'r>, ExamineError> {
        let mut found = Vec::new();
        for (at, rule) in rules.iter().enumerate() {
            if let Demand::NoPictureOf(other) = &rule.demand {
                found.push(PictureRule { at, rule, other: other.as_deref(), column: column(rule, columns)? });
            }
        }
        Ok(PictureRules { rules: found, mine: Pictures::default() })
    }

    /// Takes a row in.
    pub fn take(&mut self, row: &Row, files: &[String]) {
        if let Some(rule) = self.rules.first() {
            self.mine.take(row, rule.column, files);
        }
    }

    /// What came of them, by their place among all.
    pub fn found(self, what: &Examining<'_, '_>) -> Result<BTreeMap<usize, Found>, ExamineError> {
        let mine = &self.mine;
        let mut all = BTreeMap::new();
        for rule in &self.rules {
            let theirs = match rule.other.and_then(|name| what.others.get(name)) {
                Some(table) => {
                    let at = column(rule.rule, &table.open()?.columns)?;
                    let (mut theirs, files) = (Pictures::default(), table.part_paths());
                    each_row(table, |row| {
                        theirs.take(row, at, &files);
                        Ok(())
                    })?;
                    Some(theirs)
                }
                None => None,
            };
            let others = theirs.as_ref().unwrap_or(mine);
            let nearest = Likeness::nearest(&mine.likeness, &others.likeness, theirs.is_none());
            let breaking = nearest.iter().flatten().count() as u64;
            let of = mine.likeness.len() as u64;
            let mut found = Found::of_rows(rule.rule, of + mine.unknown, breaking, mine.unknown);
            let alike = nearest.iter().zip(&mine.places).filter_map(|(near, place)| Some((place, (*near)?)));
            found.examples = alike
                .take(what.examples)
                .map(|(place, (other, apart))| Breaking {
                    place: place.clone(),
                    cells: vec![("bits apart".to_string(), apart.to_string())],
                    like: Some(others.places[other].clone()),
                })
                .collect();
            all.insert(rule.at, found);
        }
        Ok(all)
    }
}
