//! Groups of rows by themselves, and held against one another.

use std::collections::BTreeMap;

use super::bootstrap::{Draws, Stop, draws, intervals, middles};
use super::{Evaluation, EvaluationError, Intervals, Judged, Labels, Predictions, judge_of};
use crate::record::receipt::Metric;

/// A group with fewer rows is not looked at for the weakest, and not held against others.
pub const FEW_ROWS: usize = 10;

/// What a group comes to.
pub struct Group {
    /// The value that its rows have.
    pub name: String,
    /// Its rows.
    pub rows: usize,
    /// Its figures, as the judge names them.
    pub values: Vec<f64>,
    /// The interval of each of them, if intervals are wanted.
    pub intervals: Vec<Option<(f64, f64)>>,
}

/// Only these rows.
pub fn subset(rows: &Predictions, members: &[u32]) -> Predictions {
    let numbers = |from: &Vec<f64>| members.iter().filter_map(|i| from.get(*i as usize).copied()).collect::<Vec<_>>();
    let labels = |all: &[(String, Labels)]| all.iter().map(|(name, of)| (name.clone(), of.rows(members))).collect();
    Predictions {
        truth: rows.truth.rows(members),
        predicted: rows.predicted.rows(members),
        numbers: numbers(&rows.numbers),
        true_numbers: numbers(&rows.true_numbers),
        classes: rows.classes.clone(),
        scores: rows.scores.iter().map(numbers).collect(),
        low: numbers(&rows.low),
        high: numbers(&rows.high),
        query: rows.query.rows(members),
        weights: numbers(&rows.weights),
        by: labels(&rows.by),
        between: labels(&rows.between),
        rows: members.len(),
    }
}

/// The rows of each group, in the order of the groups' names.
pub fn members_of(labels: &Labels) -> BTreeMap<&str, Vec<u32>> {
    let mut members: BTreeMap<&str, Vec<u32>> = BTreeMap::new();
    for (row, group) in labels.iter().enumerate() {
        members.entry(group).or_default().push(row as u32);
    }
    members
}

/// How rows are drawn for intervals.
pub fn said<'s>(intervals: &Intervals, stop: Stop<'s>) -> Draws<'s> {
    Draws { level: intervals.level.parse().unwrap_or(0.95), count: intervals.resamples, seed: intervals.seed, stop }
}

/// Each group by itself.
pub fn groups(evaluation: &Evaluation, rows: &Predictions, labels: &Labels, stop: Stop<'_>) -> Result<Vec<Group>, EvaluationError> {
    let mut found = Vec::new();
    for (name, members) in members_of(labels) {
        // What is no group for the judge: names of groups among groups are of no use.
        let own = Predictions { by: Vec::new(), between: Vec::new(), ..subset(rows, &members) };
        let judge = judge_of(evaluation, &own)?;
        let weights = own.weights();
        let intervals = match &evaluation.intervals {
            Some(wanted) => intervals(&*judge, &weights, said(wanted, stop)),
            None => Vec::new(),
        };
        found.push(Group { name: name.to_string(), rows: members.len(), values: judge.values(&weights), intervals });
    }
    Ok(found)
}

/// A rate: what is summed over rows, and over which of them.
type Rate = (&'static str, Box<dyn Fn(usize) -> (f64, f64) + Sync>);

/// The rates that groups are held against one another by.
fn rates(evaluation: &Evaluation, rows: &Predictions) -> Vec<Rate> {
    let share = |hit: bool, of: bool| (f64::from(u8::from(hit && of)), f64::from(u8::from(of)));
    match &evaluation.judged {
        Judged::Score { positive, threshold, .. } => {
            let threshold = threshold.parse().unwrap_or(0.5);
            let chosen: Vec<bool> = rows.numbers.iter().map(|p| *p >= threshold).collect();
            let both: std::sync::Arc<Vec<(bool, bool)>> =
                std::sync::Arc::new(chosen.into_iter().zip(rows.truth.are(positive)).collect());
            let rate = |of: fn(bool, bool) -> (bool, bool)| {
                let both = both.clone();
                Box::new(move |row: usize| {
                    let (hit, counts) = of(both[row].0, both[row].1);
                    share(hit, counts)
                }) as Box<dyn Fn(usize) -> (f64, f64) + Sync>
            };
            vec![
                ("selection", rate(|p, _| (p, true))),
                ("recall", rate(|p, t| (p, t))),
                ("false_positive_rate", rate(|p, t| (p, !t))),
                ("precision", rate(|p, t| (t, p))),
                ("accuracy", rate(|p, t| (p == t, true))),
            ]
        }
        Judged::Value { .. } => {
            let errors: std::sync::Arc<Vec<f64>> =
                std::sync::Arc::new(rows.numbers.iter().zip(&rows.true_numbers).map(|(p, t)| p - t).collect());
            let other = errors.clone();
            vec![("mae", Box::new(move |row| (errors[row].abs(), 1.0))), ("bias", Box::new(move |row| (other[row], 1.0)))]
        }
        Judged::Label { .. } | Judged::Scores { .. } => {
            let right: Vec<bool> = match &evaluation.judged {
                Judged::Label { .. } => super::classes::ClassLabels::new(&rows.predicted, &rows.truth).right(),
                _ => {
                    let best = |row: usize| {
                        let by = |a: &usize, b: &usize| rows.scores[*a][row].total_cmp(&rows.scores[*b][row]);
                        (0..rows.classes.len()).rev().max_by(by).map(|c| rows.classes[c].as_str())
                    };
                    rows.truth.iter().enumerate().map(|(row, t)| best(row) == Some(t)).collect()
                }
            };
            vec![("accuracy", Box::new(move |row| share(right[row], true)))]
        }
        Judged::Rank { .. } => Vec::new(),
    }
}

/// A rate between groups.
pub struct Between {
    /// The rate.
    pub rate: &'static str,
    /// What it is in each group.
    pub each: Vec<f64>,
    /// The greatest less the least, and its interval.
    pub difference: f64,
    /// The least over the greatest.
    pub ratio: f64,
    /// The interval of the difference, if intervals are wanted.
    pub interval: Option<(f64, f64)>,
}

/// Groups held against one another.
pub struct Held {
    /// The column.
    pub column: String,
    /// The groups that have enough rows, and how many.
    pub groups: Vec<(String, usize)>,
    /// Each rate.
    pub rates: Vec<Between>,
}

fn spread(each: &[f64]) -> (f64, f64) {
    let told = || each.iter().copied().filter(|v| v.is_finite());
    let (low, high) = (told().fold(f64::INFINITY, f64::min), told().fold(f64::NEG_INFINITY, f64::max));
    match told().count() {
        0 | 1 => (f64::NAN, f64::NAN),
        _ => (high - low, if high > 0.0 && low >= 0.0 { low / high } else { f64::NAN }),
    }
}

/// Holds the values of a column against one another.
pub fn between(evaluation: &Evaluation, rows: &Predictions, column: &str, labels: &Labels, stop: Stop<'_>) -> Held {
    let members = members_of(labels);
    let large: Vec<(&str, &Vec<u32>)> = members.iter().filter(|(_, m)| m.len() >= FEW_ROWS).map(|(g, m)| (*g, m)).collect();
    let mut place = vec![usize::MAX; rows.rows];
    large.iter().enumerate().for_each(|(at, (_, m))| m.iter().for_each(|row| place[*row as usize] = at));
    let count = large.len();
    let rates = rates(evaluation, rows);
    let weights = rows.weights();
    // Of each rate, what it is in each group.
    let each = |weights: &[f64]| -> Vec<Vec<f64>> {
        let of = |(_, rate): &Rate| {
            let mut sums = vec![(0.0, 0.0); count];
            for (row, w) in weights.iter().enumerate().filter(|(row, w)| **w > 0.0 && place[*row] < count) {
                let (sum, over) = rate(row);
                sums[place[row]].0 += w * sum;
                sums[place[row]].1 += w * over;
            }
            sums.into_iter().map(|(sum, over)| sum / over).collect()
        };
        rates.iter().map(of).collect()
    };
    let whole = each(&weights);
    let intervals = match &evaluation.intervals {
        Some(wanted) => {
            let how = said(wanted, stop);
            let drawn = draws(&weights, how, |weights| each(weights).iter().map(|e| spread(e).0).collect::<Vec<_>>());
            let found = middles(&drawn, how.level);
            if found.is_empty() { vec![None; rates.len()] } else { found }
        }
        None => vec![None; rates.len()],
    };
    let told = rates.iter().zip(whole).zip(intervals).map(|(((rate, _), each), interval)| {
        let (difference, ratio) = spread(&each);
        Between { rate, each, difference, ratio, interval }
    });
    Held {
        column: column.to_string(),
        groups: large.iter().map(|(g, m)| ((*g).to_string(), m.len())).collect(),
        rates: told.collect(),
    }
}

/// A number of JSON, also where it is none.
pub fn json(value: f64) -> serde_json::Value {
    serde_json::json!(Metric(value))
}
