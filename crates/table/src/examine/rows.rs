//! Rules on each row by itself.

use std::collections::BTreeMap;

use super::rule::{Demand, Rule};
use super::{Breaking, ExamineError, Examining, Found, Place, each_row, place_of};
use crate::Row;
use crate::decimal::compare_numbers;
use crate::filter::{Condition, FilterError, Named};
use crate::kind::{is_missing, number};
use crate::row::text;

enum What {
    Meets(Condition<usize>),
    /// Before this cell; after nothing where the other table has none.
    Before(usize, Option<Vec<u8>>),
}

struct RowRule<'r> {
    at: usize,
    rule: &'r Rule,
    what: What,
    share: Option<f64>,
    /// The columns that are shown of a breaking row.
    shown: Vec<usize>,
    judged: u64,
    breaking: u64,
    unknown: u64,
    examples: Vec<Breaking>,
}

/// The rules that each row meets or not.
pub struct RowRules<'r> {
    rules: Vec<RowRule<'r>>,
    columns: Vec<String>,
    most: usize,
}

/// The place of a column that a rule names.
pub fn column_at(rule: &Rule, named: &Named, columns: &[String]) -> Result<usize, ExamineError> {
    columns.iter().position(|c| *c == named.name).ok_or_else(|| {
        let help = match textum_base::nearest(&named.name, columns.iter().map(String::as_str)) {
            Some(near) => format!("did you mean `{near}`?"),
            None => format!("the columns are {}", columns.join(", ")),
        };
        let source = FilterError { at: named.at.clone(), what: format!("there is no column `{}`", named.name), help };
        ExamineError::Rule { rule: rule.text.clone(), source }
    })
}

/// Whether a cell comes before another: by number, else by bytes, which puts dates in their order.
fn is_before(a: &[u8], b: &[u8]) -> bool {
    match (number(a), number(b)) {
        (Some(_), Some(_)) => compare_numbers(a, b) == Some(std::cmp::Ordering::Less),
        _ => a < b,
    }
}

/// The first cell of a column, in order.
fn first_of(rule: &Rule, named: &Named, other: &str, what: &Examining<'_, '_>) -> Result<Option<Vec<u8>>, ExamineError> {
    let Some(table) = what.others.get(other) else { return Ok(None) };
    let at = column_at(rule, named, &table.open()?.columns)?;
    let mut first: Option<Vec<u8>> = None;
    each_row(table, |row| {
        let cell = row.cell(at);
        if !is_missing(cell) && first.as_ref().is_none_or(|first| is_before(cell, first)) {
            first = Some(cell.to_vec());
        }
        Ok(())
    })?;
    Ok(first)
}

impl<'r> RowRules<'r> {
    /// Those among all rules.
    pub fn new(rules: &'r [Rule], columns: &[String], what: &Examining<'_, '_>) -> Result<RowRules<'r>, ExamineError> {
        let mut found = Vec::new();
        for (at, rule) in rules.iter().enumerate() {
            let (kind, share, shown) = match &rule.demand {
                Demand::Meets(condition, share) => {
                    let condition = condition.with_words_as_texts(&|name| columns.iter().any(|c| c == name));
                    let mut names = Vec::new();
                    condition.names(&mut names);
                    let wrong = |source| ExamineError::Rule { rule: rule.text.clone(), source };
                    let placed = condition.for_columns(columns).map_err(wrong)?;
                    let shown = names.iter().filter_map(|n| columns.iter().position(|c| *c == n.name)).collect();
                    (What::Meets(placed), *share, shown)
                }
                Demand::Before(named, other) => {
                    let place = column_at(rule, named, columns)?;
                    (What::Before(place, first_of(rule, named, other, what)?), None, vec![place])
                }
                _ => continue,
            };
            let none = (0, 0, 0, Vec::new());
            let (judged, breaking, unknown, examples) = none;
            found.push(RowRule { at, rule, what: kind, share, shown, judged, breaking, unknown, examples });
        }
        Ok(RowRules { rules: found, columns: columns.to_vec(), most: what.examples })
    }

    /// Holds them against a row.
    pub fn take(&mut self, row: &Row, files: &[String]) {
        for rule in &mut self.rules {
            let meets = match &rule.what {
                What::Meets(condition) => condition.judge(row),
                What::Before(at, Some(first)) => (!is_missing(row.cell(*at))).then(|| is_before(row.cell(*at), first)),
                What::Before(_, None) => None,
            };
            match meets {
                None => rule.unknown += 1,
                Some(true) => rule.judged += 1,
                Some(false) => {
                    rule.judged += 1;
                    rule.breaking += 1;
                    if rule.examples.len() < self.most {
                        let place: Place = place_of(row, files);
                        let cells = rule.shown.iter().map(|at| (self.columns[*at].clone(), text(row.cell(*at)))).collect();
                        rule.examples.push(Breaking { place, cells, like: None });
                    }
                }
            }
        }
    }

    /// What came of them, by their place among all.
    pub fn found(self) -> BTreeMap<usize, Found> {
        let told = |rule: RowRule<'_>| {
            let mut found = Found::of_rows(rule.rule, rule.judged, rule.breaking, rule.unknown);
            if let Some(share) = rule.share {
                found.share = Some(share);
                // Counted, so that 98 of 100 rows are 98 %.
                found.holds = Some((rule.judged - rule.breaking) as f64 >= share * rule.judged as f64 - 1e-9);
            }
            found.examples = rule.examples;
            (rule.at, found)
        };
        self.rules.into_iter().map(told).collect()
    }
}
