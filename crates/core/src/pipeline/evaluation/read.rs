//! The table of predictions, its cells checked line by line.

use std::collections::HashSet;
use std::path::Path;

use super::labels::Gatherer;
use super::{Evaluation, Judged, Labels};
use crate::fsio::IoError;
use crate::table::decimal::compare_numbers;
use crate::table::{Origin, Row, Table, TableError, kind, row};
use textum_base::nearest;

/// Why predictions could not be judged.
#[derive(Debug, thiserror::Error)]
pub enum EvaluationError {
    /// The table could not be read.
    #[error(transparent)]
    Table(#[from] TableError),
    /// A result could not be written.
    #[error(transparent)]
    Io(#[from] IoError),
    /// Cells are not what they must be.
    #[error("{table}: {}", lines.join("; "))]
    Cells {
        /// The table.
        table: String,
        /// The first of them, each with its line, and how many more there are.
        lines: Vec<String>,
    },
    /// There are no rows.
    #[error("{0} has no rows: there is nothing to judge")]
    Empty(String),
    /// What is to be the positive class never occurs.
    #[error("{table}: no row has the positive class `{positive}` in {truth}: it holds {}", occurring.join(", "))]
    NoPositive {
        /// The table.
        table: String,
        /// The column with the truth.
        truth: String,
        /// The positive class.
        positive: String,
        /// What occurs, the first few.
        occurring: Vec<String>,
    },
}

/// The columns that are judged, row by row.
#[derive(Clone, Debug, Default)]
pub struct Predictions {
    /// The truth of each row.
    pub truth: Labels,
    /// What was predicted, as text.
    pub predicted: Labels,
    /// The same as a number, where one is asked for.
    pub numbers: Vec<f64>,
    /// The truth as a number, where one is asked for.
    pub true_numbers: Vec<f64>,
    /// The group of each row; empty when no column for that is named.
    pub groups: Labels,
    /// Rows.
    pub rows: usize,
}

/// So many bad lines are named.
const FEW: usize = 5;

impl Predictions {
    /// Reads what an evaluation needs from its table below `root`.
    pub fn read(root: &Path, evaluation: &Evaluation) -> Result<Predictions, EvaluationError> {
        let name = evaluation.predictions.as_str();
        let table = Table::new(name, name, Origin::File(root.join(name)))?;
        let mut opened = table.open()?;
        let column = |wanted: &str| {
            opened.columns.iter().position(|c| c == wanted).ok_or_else(|| TableError::NoColumn {
                table: name.to_string(),
                column: wanted.to_string(),
                near: nearest(wanted, opened.columns.iter().map(String::as_str)).map(str::to_string),
                columns: opened.columns.clone(),
            })
        };
        let wanted = match &evaluation.judged {
            Judged::Score { score, .. } => score,
            Judged::Label { label } => label,
            Judged::Value { value } => value,
        };
        let (truth, predicted) = (column(&evaluation.truth)?, column(wanted)?);
        let group = evaluation.by.as_deref().map(column).transpose()?;
        let names = (evaluation.truth.clone(), wanted.clone());
        let mut found = Predictions::default();
        let (mut truths, mut predictions, mut groups) = (Gatherer::default(), Gatherer::default(), Gatherer::default());
        let (mut bad, mut count) = (Vec::new(), 0usize);
        let mut row = Row::default();
        let mut number_of_row = 0u64;
        while opened.rows.next(&mut row)? {
            number_of_row += 1;
            let place = if row.line > 0 { format!("line {}", row.line) } else { format!("row {number_of_row}") };
            let (t, p) = (row.cell(truth), row.cell(predicted));
            if let Some(what) = check(evaluation, &names, t, p) {
                count += 1;
                if bad.len() < FEW {
                    bad.push(format!("{place}: {what}"));
                }
                continue;
            }
            match &evaluation.judged {
                Judged::Score { .. } => found.numbers.extend(kind::number(p)),
                Judged::Value { .. } => {
                    found.numbers.extend(kind::number(p));
                    found.true_numbers.extend(kind::number(t));
                }
                Judged::Label { .. } => predictions.push(p),
            }
            // Of a quantity the truth is a number, as a rule another one in each row.
            if !matches!(evaluation.judged, Judged::Value { .. }) {
                truths.push(t);
            }
            group.into_iter().for_each(|g| groups.push(row.cell(g)));
            found.rows += 1;
        }
        (found.truth, found.predicted, found.groups) = (truths.end(), predictions.end(), groups.end());
        if count > bad.len() {
            bad.push(format!("and {} more lines", count - bad.len()));
        }
        match (bad.is_empty(), found.rows == 0) {
            (false, _) => Err(EvaluationError::Cells { table: name.to_string(), lines: bad }),
            (true, true) => Err(EvaluationError::Empty(name.to_string())),
            (true, false) => {
                found.same_labels(evaluation)?;
                Ok(found)
            }
        }
    }

    /// Labels that are the same are written the same; of two classes, the positive one as the evaluation has it.
    fn same_labels(&mut self, evaluation: &Evaluation) -> Result<(), EvaluationError> {
        match &evaluation.judged {
            Judged::Value { .. } => Ok(()),
            Judged::Label { .. } => {
                self.truth = std::mem::take(&mut self.truth).renamed(plain);
                self.predicted = std::mem::take(&mut self.predicted).renamed(plain);
                Ok(())
            }
            Judged::Score { positive, .. } => {
                let positives = positives_among(&self.truth, positive).ok_or_else(|| EvaluationError::NoPositive {
                    table: evaluation.predictions.to_string(),
                    truth: evaluation.truth.clone(),
                    positive: positive.clone(),
                    occurring: occurring(&self.truth),
                })?;
                let same = |label: &str| if positives.contains(label) { positive.clone() } else { label.to_string() };
                self.truth = std::mem::take(&mut self.truth).renamed(same);
                Ok(())
            }
        }
    }
}

/// Two classes that tables are often written with, in any case: the positive one first.
const PAIRS: [(&str, &str); 5] = [("1", "0"), ("true", "false"), ("yes", "no"), ("t", "f"), ("y", "n")];
/// So many labels are named when the one that is looked for is not among them.
const FEW_LABELS: usize = 12;

/// A whole number written with a point is that whole number: `1.0` is `1`.
fn plain(label: &str) -> String {
    if let Some((whole, fraction)) = label.split_once('.')
        && kind::kind_of(label.as_bytes()) == kind::Kind::Number
        && fraction.bytes().all(|b| b == b'0')
        && !whole.is_empty()
    {
        return whole.to_string();
    }
    label.to_string()
}

fn occurring(labels: &Labels) -> Vec<String> {
    let all = labels.distinct();
    let more = all.len().saturating_sub(FEW_LABELS);
    let named = all.into_iter().take(FEW_LABELS).map(|l| format!("`{l}`"));
    named.chain((more > 0).then(|| format!("and {more} more"))).collect()
}

/// The labels that mean the positive class: as it is written, as the same number, or as the same side of a
/// common pair when nothing but that pair occurs. `None` when it never occurs.
fn positives_among(labels: &Labels, positive: &str) -> Option<HashSet<String>> {
    let all = labels.distinct();
    let same = |label: &str| {
        label == positive || compare_numbers(label.as_bytes(), positive.as_bytes()) == Some(std::cmp::Ordering::Equal)
    };
    let found: HashSet<String> = all.iter().filter(|l| same(l)).map(|l| (*l).to_string()).collect();
    if !found.is_empty() {
        return Some(found);
    }
    let lower = |text: &str| plain(&text.to_lowercase());
    let meant = lower(positive);
    let first = PAIRS.iter().any(|(yes, _)| *yes == meant);
    if !first && !PAIRS.iter().any(|(_, no)| *no == meant) {
        return None;
    }
    let (yes, no) = PAIRS.iter().find(|(yes, no)| all.iter().all(|l| [*yes, *no].contains(&lower(l).as_str())))?;
    let wanted = if first { yes } else { no };
    let found: HashSet<String> = all.into_iter().filter(|l| lower(l) == *wanted).map(str::to_string).collect();
    (!found.is_empty()).then_some(found)
}

/// What is wrong with a row, if anything is.
fn check(evaluation: &Evaluation, (truth, predicted): &(String, String), t: &[u8], p: &[u8]) -> Option<String> {
    if kind::is_missing(t) {
        return Some(format!("{truth} is missing"));
    }
    if kind::is_missing(p) {
        return Some(format!("{predicted} is missing"));
    }
    let no_number = |column: &str, cell: &[u8]| format!("{column} is `{}`, which is no number", row::text(cell));
    match &evaluation.judged {
        Judged::Score { .. } => match kind::number(p) {
            None => Some(no_number(predicted, p)),
            Some(v) if !(0.0..=1.0).contains(&v) => Some(format!("{predicted} is {}, which is no probability", row::text(p))),
            Some(_) => None,
        },
        Judged::Value { .. } => match (kind::number(t), kind::number(p)) {
            (None, _) => Some(no_number(truth, t)),
            (_, None) => Some(no_number(predicted, p)),
            _ => None,
        },
        Judged::Label { .. } => None,
    }
}

#[cfg(test)]
mod tests {
    use super::positives_among;

    #[test]
    fn the_positive_class_is_found_or_refused() {
        let among = |labels: &[&str], positive: &str| {
            let labels: crate::pipeline::evaluation::Labels = labels.iter().copied().collect();
            let mut found: Vec<String> = positives_among(&labels, positive)?.into_iter().collect();
            found.sort();
            Some(found.join(" "))
        };
        assert_eq!(among(&["0", "1"], "1").as_deref(), Some("1"));
        assert_eq!(among(&["0.0", "1.0"], "1").as_deref(), Some("1.0"));
        assert_eq!(among(&["True", "False"], "1").as_deref(), Some("True"));
        assert_eq!(among(&["YES", "no"], "1").as_deref(), Some("YES"));
        assert_eq!(among(&["yes", "no"], "0").as_deref(), Some("no"));
        assert_eq!(among(&["stopped", "ran"], "stopped").as_deref(), Some("stopped"));
        assert_eq!(among(&["stopped", "ran"], "1"), None);
        assert_eq!(among(&["False"], "1"), None, "it must occur");
        assert_eq!(among(&["true", "maybe"], "1"), None, "no pair");
        assert_eq!(among(&["true", "false"], "stop"), None);
    }
}
