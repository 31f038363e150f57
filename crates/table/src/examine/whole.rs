//! Rules on a table as a whole: its rows, its columns, their figures and their drift.

use std::collections::BTreeMap;

use super::rows::column_at;
use super::rule::{Demand, Figure, Rule};
use super::{ColumnFault, ExamineError, Examining, Found, On};
use crate::profile::{ColumnProfile, Profile, ProfileOptions, profile};

/// The profiles that rules ask for: of the table itself, with its drift from others.
#[derive(Default)]
struct Profiles {
    own: Option<Profile>,
    /// Drift from a table, by what that is called; its own types beside.
    from: BTreeMap<String, (Profile, Profile)>,
}

impl Profiles {
    fn own(&mut self, what: &Examining<'_, '_>) -> Result<&Profile, ExamineError> {
        if self.own.is_none() {
            self.own = Some(profile(what.table, None, &ProfileOptions { frequent: 1, ..ProfileOptions::default() }, what.scratch)?);
        }
        self.own.as_ref().ok_or_else(|| ExamineError::NoTable { rule: String::new(), table: what.table.name.clone() })
    }

    fn from(&mut self, other: &str, rule: &Rule, what: &Examining<'_, '_>) -> Result<&(Profile, Profile), ExamineError> {
        let none = || ExamineError::NoTable { rule: rule.text.clone(), table: other.to_string() };
        let table = what.others.get(other).ok_or_else(none)?;
        if !self.from.contains_key(other) {
            let options = ProfileOptions { frequent: 1, ..ProfileOptions::default() };
            let theirs = profile(table, None, &options, what.scratch)?;
            let ours = profile(what.table, Some(table), &options, what.scratch)?;
            self.from.insert(other.to_string(), (ours, theirs));
        }
        self.from.get(other).ok_or_else(none)
    }
}

fn on_columns(rule: &Rule, of: u64, faults: Vec<ColumnFault>) -> Found {
    let mut found = Found::of_rows(rule, of, faults.len() as u64, 0);
    (found.columns, found.on) = (faults, On::Columns);
    found
}

/// A figure of a column; nothing where it has none.
fn figure_of(figure: Figure, column: &ColumnProfile, rows: u64) -> Option<f64> {
    let numbers = column.numbers.as_ref();
    let of_rows = |count: u64| (rows > 0).then(|| count as f64 / rows as f64);
    match figure {
        Figure::Mean => numbers.map(|n| n.mean),
        Figure::Median => numbers.map(|n| n.median),
        Figure::Minimum => numbers.map(|n| n.min),
        Figure::Maximum => numbers.map(|n| n.max),
        Figure::Deviation => numbers.map(|n| n.deviation),
        Figure::Distinct => Some(column.distinct as f64),
        Figure::Missing => of_rows(column.missing),
        Figure::Most => of_rows(column.frequent.first().map_or(0, |f| f.count)),
    }
}

fn columns_as_in(rule: &Rule, ours: &Profile, theirs: &Profile) -> Found {
    let of = |profile: &Profile| profile.columns.iter().map(|c| (c.name.clone(), c.r#type.clone())).collect::<Vec<_>>();
    let (here, there) = (of(ours), of(theirs));
    let mut faults = Vec::new();
    for (column, from) in &there {
        match here.iter().find(|(c, _)| c == column) {
            None => faults.push(ColumnFault::Absent { column: column.clone() }),
            // A whole number is a number too; a column without any value is of no type.
            Some((_, to))
                if to == from || to == "empty" || from == "empty" || (to, from.as_str()) == (&"integer".into(), "number") => {}
            Some((_, to)) => faults.push(ColumnFault::Type { column: column.clone(), from: from.clone(), to: to.clone() }),
        }
    }
    let beyond = here.iter().filter(|(c, _)| there.iter().all(|(t, _)| t != c));
    faults.extend(beyond.map(|(column, _)| ColumnFault::Beyond { column: column.clone() }));
    on_columns(rule, there.len() as u64, faults)
}

/// What came of the rules of this sort, by their place among all.
pub fn found(
    rules: &[Rule],
    columns: &[String],
    rows: u64,
    what: &Examining<'_, '_>,
) -> Result<BTreeMap<usize, Found>, ExamineError> {
    let mut profiles = Profiles::default();
    let mut all = BTreeMap::new();
    for (at, rule) in rules.iter().enumerate() {
        let found = match &rule.demand {
            Demand::Rows(bounds) => {
                let mut found = Found::of_rows(rule, rows, 0, 0);
                (found.value, found.on) = (Some(rows as f64), On::Figure);
                found.holds = Some(bounds.hold(rows as f64));
                found
            }
            Demand::Columns(named, among_others) => {
                let absent = named.iter().filter(|n| !columns.contains(n)).map(|n| ColumnFault::Absent { column: n.clone() });
                let beyond = columns.iter().filter(|c| !among_others && !named.contains(c));
                let beyond = beyond.map(|c| ColumnFault::Beyond { column: c.clone() });
                on_columns(rule, named.len() as u64, absent.chain(beyond).collect())
            }
            Demand::ColumnsAsIn(table) => {
                let (ours, theirs) = profiles.from(table, rule, what)?;
                columns_as_in(rule, ours, theirs)
            }
            Demand::Figure(figure, named, bounds) => {
                let at = column_at(rule, named, columns)?;
                let own = profiles.own(what)?;
                let value = own.columns.get(at).and_then(|c| figure_of(*figure, c, rows));
                let mut found = Found::of_rows(rule, rows, 0, 0);
                (found.value, found.holds) = (value, value.map(|v| bounds.hold(v)));
                found.on = if matches!(figure, Figure::Missing | Figure::Most) { On::Share } else { On::Figure };
                found
            }
            Demand::Drift(named, table, below) => {
                if let Some(named) = named {
                    column_at(rule, named, columns)?;
                }
                let (ours, _) = profiles.from(table, rule, what)?;
                let asked = ours.columns.iter().filter(|c| named.as_ref().is_none_or(|n| n.name == c.name));
                let drifts: Vec<(&String, f64, f64)> =
                    asked.filter_map(|c| c.drift.as_ref().map(|d| (&c.name, d.effect(), d.p))).collect();
                let faults = drifts.iter().filter(|(_, effect, p)| *effect >= *below && *p < crate::profile::CHANCE);
                let faults =
                    faults.map(|(column, effect, p)| ColumnFault::Drift { column: (*column).clone(), effect: *effect, p: *p });
                let mut found = on_columns(rule, drifts.len() as u64, faults.collect());
                // What chance gives is none.
                found.value = drifts.iter().filter(|d| d.2 < crate::profile::CHANCE).map(|d| d.1).reduce(f64::max);
                found.holds = if drifts.is_empty() { None } else { found.holds };
                found
            }
            _ => continue,
        };
        all.insert(at, found);
    }
    Ok(all)
}
