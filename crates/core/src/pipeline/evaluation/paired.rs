//! The same rows judged by two models: is the one better, or was it luck?

use std::collections::HashMap;

use statrs::distribution::{Binomial, ContinuousCDF, DiscreteCDF, Normal};

use super::bootstrap::{draws, middles};
use super::classes::ClassLabels;
use super::groups::{FEW_ROWS, members_of, subset};
use super::judge::descending;
use super::{Evaluation, EvaluationError, Intervals, Judged, Predictions, judge_of};
use crate::table::examine::Key;
use crate::table::{Row, Table, TableError, row};
use textum_base::Better;

/// Why two models could not be held against one another.
#[derive(Debug, thiserror::Error)]
pub enum PairedError {
    /// Predictions could not be read.
    #[error(transparent)]
    Evaluation(#[from] EvaluationError),
    /// A table could not be read.
    #[error(transparent)]
    Table(#[from] TableError),
    /// They are not of the same rows.
    #[error("the predictions are not of the same rows: {0}")]
    OtherRows(String),
}

/// A metric of both, and how they differ.
#[derive(Clone, Debug, serde::Serialize)]
pub struct Difference {
    /// The metric.
    pub metric: String,
    /// Of the first.
    pub a: f64,
    /// Of the second.
    pub b: f64,
    /// The second less the first.
    pub difference: f64,
    /// Its interval.
    pub interval: Option<(f64, f64)>,
    /// How probable a difference this far from none would be by the draws, if there were none.
    pub p: Option<f64>,
    /// Whether the second is better: nothing where that is not told by the metric's direction, or may be luck.
    pub better: Option<bool>,
}

/// A group, judged by both.
#[derive(Clone, Debug, serde::Serialize)]
pub struct Segment {
    /// By what rows are grouped.
    pub by: String,
    /// The group.
    pub group: String,
    /// Its rows.
    pub rows: usize,
    /// Its headline metric, of the first and of the second.
    pub a: f64,
    /// Of the second.
    pub b: f64,
}

/// A row on which both disagree.
#[derive(Clone, Debug, serde::Serialize)]
pub struct Disagreement {
    /// Its key, or its number in the first table.
    pub row: String,
    /// The truth.
    pub truth: String,
    /// What the first predicted.
    pub a: String,
    /// What the second predicted.
    pub b: String,
}

/// Two models on the same rows.
#[derive(Clone, Debug, serde::Serialize)]
pub struct Paired {
    /// Rows that both have judged.
    pub rows: usize,
    /// Rows that only the first has judged.
    pub only_a: usize,
    /// Rows that only the second has judged.
    pub only_b: usize,
    /// Each metric.
    pub metrics: Vec<Difference>,
    /// Tests of their own: of the areas by DeLong, of the accuracies by McNemar, with their p.
    pub tests: Vec<(&'static str, f64)>,
    /// Groups, those that gained or lost most first.
    pub segments: Vec<Segment>,
    /// The rows on which they disagree most.
    pub disagreements: Vec<Disagreement>,
}

/// The rows of a table by their keys.
pub struct Rows {
    keys: Vec<(Vec<u8>, String)>,
}

impl Rows {
    /// The keys of a table's rows.
    pub fn of(table: &Table<'_>, key: &[String]) -> Result<Rows, TableError> {
        let mut opened = table.open()?;
        let mut places = Vec::new();
        for column in key {
            let at = opened.columns.iter().position(|c| c == column).ok_or_else(|| TableError::NoColumn {
                table: table.name.clone(),
                column: column.clone(),
                near: textum_base::nearest(column, opened.columns.iter().map(String::as_str)).map(str::to_string),
                columns: opened.columns.clone(),
            })?;
            places.push(at);
        }
        let (mut read, mut taken, mut keys) = (Row::default(), Key::default(), Vec::new());
        while opened.rows.next(&mut read)? {
            taken.take(&read, places.iter().copied());
            let shown: Vec<String> = places.iter().map(|at| row::text(read.cell(*at))).collect();
            keys.push((taken.bytes.clone(), shown.join(" ")));
        }
        Ok(Rows { keys })
    }
}

/// Which rows of both are the same.
struct Matched {
    a: Vec<u32>,
    b: Vec<u32>,
    names: Vec<String>,
}

fn matched(a: (&Predictions, Option<&Rows>), b: (&Predictions, Option<&Rows>)) -> Result<Matched, PairedError> {
    let other = |what: String| Err(PairedError::OtherRows(what));
    let (Some(keys_a), Some(keys_b)) = (a.1, b.1) else {
        if a.0.rows != b.0.rows {
            return other(format!("{} and {} of them; name the columns that tell rows apart with --key", a.0.rows, b.0.rows));
        }
        let same = a.0.truth.iter().eq(b.0.truth.iter()) && a.0.true_numbers == b.0.true_numbers;
        if !same {
            return other("the truth differs in the same places; name the columns that tell rows apart with --key".into());
        }
        let all: Vec<u32> = (0..a.0.rows as u32).collect();
        return Ok(Matched { names: (1..=a.0.rows).map(|n| format!("row {n}")).collect(), a: all.clone(), b: all });
    };
    let mut known: HashMap<&[u8], u32> = HashMap::new();
    for (at, (key, shown)) in keys_b.keys.iter().enumerate() {
        if known.insert(key, at as u32).is_some() {
            return other(format!("the key {shown} stands there twice"));
        }
    }
    let mut found = Matched { a: Vec::new(), b: Vec::new(), names: Vec::new() };
    let mut met = std::collections::HashSet::new();
    for (at, (key, shown)) in keys_a.keys.iter().enumerate() {
        if !met.insert(key.as_slice()) {
            return other(format!("the key {shown} stands there twice"));
        }
        if let Some(same) = known.get(key.as_slice()) {
            found.a.push(at as u32);
            found.b.push(*same);
            found.names.push(shown.clone());
        }
    }
    if found.a.is_empty() { other("they have no key in common".into()) } else { Ok(found) }
}

/// The p of a difference by its draws: twice the share of them beyond none, one more counted so that it is never 0.
fn p_of(draws: &[f64]) -> Option<f64> {
    let told: Vec<f64> = draws.iter().copied().filter(|d| d.is_finite()).collect();
    if told.len() * 2 <= draws.len() {
        return None;
    }
    let beyond = |is: fn(&f64) -> bool| told.iter().filter(|d| is(d)).count() as f64;
    let smaller = beyond(|d| *d <= 0.0).min(beyond(|d| *d >= 0.0));
    Some((2.0 * (smaller + 1.0) / (told.len() as f64 + 1.0)).min(1.0))
}

/// For each positive row the share of negative ones below it, for each negative row the share of positive ones above it.
fn placements(scores: &[f64], truth: &[bool]) -> (Vec<f64>, Vec<f64>) {
    let order = descending(scores);
    let (n, m) = (truth.iter().filter(|t| **t).count() as f64, truth.iter().filter(|t| !**t).count() as f64);
    let (mut above, mut of_rows, mut at) = ((0.0, 0.0), vec![0.0; scores.len()], 0);
    while at < order.len() {
        let end = at + order[at..].iter().take_while(|r| scores[**r as usize] == scores[order[at] as usize]).count();
        let tied = &order[at..end];
        let own = tied.iter().filter(|r| truth[**r as usize]).count() as f64;
        let others = tied.len() as f64 - own;
        for row in tied {
            let row = *row as usize;
            of_rows[row] = match truth[row] {
                true => (m - above.1 - others / 2.0) / m,
                false => (above.0 + own / 2.0) / n,
            };
        }
        above = (above.0 + own, above.1 + others);
        at = end;
    }
    let of = |wanted: bool| of_rows.iter().zip(truth).filter(|(_, t)| **t == wanted).map(|(v, _)| *v).collect();
    (of(true), of(false))
}

/// DeLong, DeLong and Clarke-Pearson, "Comparing the Areas under Two or More Correlated Receiver Operating Characteristic
/// Curves", 1988: the p of no difference. NaN where there is no spread.
pub fn delong(a: &[f64], b: &[f64], truth: &[bool]) -> f64 {
    let ((pa, na), (pb, nb)) = (placements(a, truth), placements(b, truth));
    let mean = |v: &[f64]| v.iter().sum::<f64>() / v.len() as f64;
    let difference = mean(&pb) - mean(&pa);
    // The variance of the differences of placements is that of the difference of the areas.
    let variance = |x: &[f64], y: &[f64]| {
        let apart: Vec<f64> = x.iter().zip(y).map(|(x, y)| y - x).collect();
        let center = mean(&apart);
        apart.iter().map(|d| (d - center).powi(2)).sum::<f64>() / (apart.len() as f64 - 1.0) / apart.len() as f64
    };
    let error = (variance(&pa, &pb) + variance(&na, &nb)).sqrt();
    match Normal::new(0.0, 1.0) {
        Ok(normal) if error > 0.0 => 2.0 * normal.sf((difference / error).abs()),
        _ => f64::NAN,
    }
}

/// McNemar, "Note on the Sampling Error of the Difference between Correlated Proportions or Percentages", 1947, with the exact
/// binomial: the p of no difference, given in how many rows only the one and only the other was right.
pub fn mcnemar(only_a: u64, only_b: u64) -> f64 {
    let all = only_a + only_b;
    match Binomial::new(0.5, all) {
        Ok(_) if all == 0 => 1.0,
        Ok(binomial) => (2.0 * binomial.cdf(only_a.min(only_b))).min(1.0),
        Err(_) => f64::NAN,
    }
}

/// Whether each row is decided right, where it is decided.
fn right(evaluation: &Evaluation, rows: &Predictions) -> Option<Vec<bool>> {
    match &evaluation.judged {
        Judged::Label { .. } => Some(ClassLabels::new(&rows.predicted, &rows.truth).right()),
        Judged::Score { positive, threshold, .. } => {
            let threshold = threshold.parse().unwrap_or(0.5);
            Some(rows.numbers.iter().zip(rows.truth.are(positive)).map(|(p, t)| (*p >= threshold) == t).collect())
        }
        _ => None,
    }
}

fn tests(evaluation: &Evaluation, a: &Predictions, b: &Predictions) -> Vec<(&'static str, f64)> {
    let mut found = Vec::new();
    if let Judged::Score { positive, .. } = &evaluation.judged {
        found.push(("DeLong, of auc", delong(&a.numbers, &b.numbers, &a.truth.are(positive))));
    }
    if let (Some(a), Some(b)) = (right(evaluation, a), right(evaluation, b)) {
        let only = |x: &[bool], y: &[bool]| x.iter().zip(y).filter(|(x, y)| **x && !**y).count() as u64;
        found.push(("McNemar, of accuracy", mcnemar(only(&a, &b), only(&b, &a))));
    }
    found.retain(|(_, p)| p.is_finite());
    found
}

fn segments(evaluation: &Evaluation, a: &Predictions, b: &Predictions) -> Result<Vec<Segment>, EvaluationError> {
    let metric = evaluation.headline().0;
    let value = |rows: &Predictions, members: &[u32]| -> Result<f64, EvaluationError> {
        let own = subset(rows, members);
        let judge = judge_of(evaluation, &own)?;
        let at = judge.names().iter().position(|n| n == metric);
        Ok(at.map_or(f64::NAN, |at| judge.values(&own.weights())[at]))
    };
    let mut found = Vec::new();
    for (by, labels) in &a.by {
        for (group, members) in members_of(labels).into_iter().filter(|(_, m)| m.len() >= FEW_ROWS) {
            let (x, y) = (value(a, &members)?, value(b, &members)?);
            if x.is_finite() && y.is_finite() {
                found.push(Segment { by: by.clone(), group: group.to_string(), rows: members.len(), a: x, b: y });
            }
        }
    }
    found.sort_by(|x, y| (y.b - y.a).abs().total_cmp(&(x.b - x.a).abs()));
    Ok(found)
}

fn disagreements(evaluation: &Evaluation, a: &Predictions, b: &Predictions, names: &[String], most: usize) -> Vec<Disagreement> {
    let is_label = matches!(evaluation.judged, Judged::Label { .. });
    let said = |rows: &Predictions, at: usize| match is_label {
        true => rows.predicted.at(at).to_string(),
        false => rows.numbers.get(at).map_or(String::new(), ToString::to_string),
    };
    let apart = |at: usize| match is_label {
        true => f64::from(u8::from(a.predicted.at(at) != b.predicted.at(at))),
        false => a.numbers.get(at).zip(b.numbers.get(at)).map_or(0.0, |(x, y)| (x - y).abs()),
    };
    let mut order: Vec<usize> = (0..a.rows).filter(|at| apart(*at) > 0.0).collect();
    order.sort_by(|x, y| apart(*y).total_cmp(&apart(*x)));
    let truth = |at: usize| a.true_numbers.get(at).map_or_else(|| a.truth.at(at).to_string(), ToString::to_string);
    let told = |at: usize| Disagreement { row: names[at].clone(), truth: truth(at), a: said(a, at), b: said(b, at) };
    order.into_iter().take(most).map(told).collect()
}

/// Holds two models against one another, by rows with the same key, or by rows in the same places. `better`: the direction
/// of a metric.
pub fn paired(
    evaluation: &Evaluation,
    a: (&Predictions, Option<&Rows>),
    b: (&Predictions, Option<&Rows>),
    how: &Intervals,
    better: &dyn Fn(&str) -> Option<Better>,
    most: usize,
) -> Result<Paired, PairedError> {
    let same = matched(a, b)?;
    let (only_a, only_b) = (a.0.rows - same.a.len(), b.0.rows - same.b.len());
    let (mine, theirs) = (subset(a.0, &same.a), subset(b.0, &same.b));
    if !mine.truth.iter().eq(theirs.truth.iter()) || mine.true_numbers != theirs.true_numbers {
        return Err(PairedError::OtherRows("the truth of a row is not the same in both".into()));
    }
    let (judge_a, judge_b) = (judge_of(evaluation, &mine)?, judge_of(evaluation, &theirs)?);
    // Classes that only one of them predicts have no figure in the other.
    let shared: Vec<(usize, usize, String)> = judge_a
        .names()
        .into_iter()
        .enumerate()
        .filter_map(|(at, name)| Some((at, judge_b.names().iter().position(|n| *n == name)?, name)))
        .filter(|(.., name)| !matches!(name.as_str(), "rows" | "queries" | "without_relevant" | "mape_left_out"))
        .filter(|(.., name)| !name.starts_with("class.") && !name.ends_with("positives") && !name.ends_with("negatives"))
        .collect();
    let weights = mine.weights();
    let both = |weights: &[f64]| -> Vec<f64> {
        let (x, y) = (judge_a.values(weights), judge_b.values(weights));
        shared.iter().map(|(i, j, _)| y[*j] - x[*i]).collect()
    };
    let how = super::groups::said(how, &|| false);
    let drawn = draws(&weights, how, both);
    let ends = middles(&drawn, how.level);
    let (x, y) = (judge_a.values(&weights), judge_b.values(&weights));
    let metrics = shared.iter().enumerate().map(|(at, (i, j, name))| {
        let (a, b) = (x[*i], y[*j]);
        let p = p_of(&drawn.iter().map(|d| d[at]).collect::<Vec<_>>());
        let beyond = ends[at].filter(|(low, high)| *low > 0.0 || *high < 0.0);
        let better = beyond.and_then(|_| Some((b > a) == (better(name)? == Better::Higher)));
        Difference { metric: name.clone(), a, b, difference: b - a, interval: ends[at], p, better }
    });
    Ok(Paired {
        rows: same.a.len(),
        only_a,
        only_b,
        metrics: metrics.collect(),
        tests: tests(evaluation, &mine, &theirs),
        segments: segments(evaluation, &mine, &theirs)?,
        disagreements: disagreements(evaluation, &mine, &theirs, &same.names, most),
    })
}

#[cfg(test)]
mod tests_of {
    use super::*;

    #[test]
    fn tests_give_the_p_of_independent_libraries() {
        // scipy.stats.binomtest(3, 13).pvalue and binomtest(4, 8).pvalue.
        assert!((mcnemar(3, 10) - 0.092_285_156_25).abs() < 1e-12 && mcnemar(4, 4) == 1.0 && mcnemar(0, 0) == 1.0);
        // The definition taken literally: structural components over all pairs.
        let (a, b) = ([0.9, 0.8, 0.4, 0.35, 0.6, 0.2, 0.7], [0.6, 0.9, 0.5, 0.5, 0.4, 0.3, 0.8]);
        let truth = [true, true, false, true, false, false, true];
        let kernel = |x: f64, y: f64| {
            if x > y {
                1.0
            } else if x == y {
                0.5
            } else {
                0.0
            }
        };
        let (mut of_positive, mut of_negative) = (Vec::new(), Vec::new());
        for (i, _) in truth.iter().enumerate().filter(|(_, t)| **t) {
            let one = |s: &[f64; 7]| (0..7).filter(|j| !truth[*j]).map(|j| kernel(s[i], s[j])).sum::<f64>() / 3.0;
            of_positive.push(one(&b) - one(&a));
        }
        for (j, _) in truth.iter().enumerate().filter(|(_, t)| !**t) {
            let one = |s: &[f64; 7]| (0..7).filter(|i| truth[*i]).map(|i| kernel(s[i], s[j])).sum::<f64>() / 4.0;
            of_negative.push(one(&b) - one(&a));
        }
        let spread = |v: &[f64]| {
            let mean = v.iter().sum::<f64>() / v.len() as f64;
            v.iter().map(|x| (x - mean).powi(2)).sum::<f64>() / (v.len() as f64 - 1.0) / v.len() as f64
        };
        let difference = of_positive.iter().sum::<f64>() / 4.0;
        let z = difference / (spread(&of_positive) + spread(&of_negative)).sqrt();
        let expected = 2.0 * Normal::new(0.0, 1.0).unwrap().sf(z.abs());
        assert!((delong(&a, &b, &truth) - expected).abs() < 1e-12, "{} {expected}", delong(&a, &b, &truth));
        assert!(delong(&a, &a, &truth).is_nan(), "the same scores");
    }
}
