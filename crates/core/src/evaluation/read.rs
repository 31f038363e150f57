//! The table of predictions, its cells checked line by line.

use std::path::Path;

use super::{Evaluation, Judged};
use crate::fsio::IoError;
use crate::manifest::nearest;
use crate::table::{Origin, Row, Table, TableError, kind, row};

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
}

/// The columns that are judged, row by row.
#[derive(Clone, Debug, Default)]
pub struct Predictions {
    /// The truth of each row.
    pub truth: Vec<String>,
    /// What was predicted, as text.
    pub predicted: Vec<String>,
    /// The same as a number, where one is asked for.
    pub numbers: Vec<f64>,
    /// The truth as a number, where one is asked for.
    pub true_numbers: Vec<f64>,
    /// The group of each row; empty when no column for that is named.
    pub groups: Vec<String>,
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
                Judged::Label { .. } => found.predicted.push(row::text(p)),
            }
            found.truth.push(row::text(t));
            found.groups.extend(group.map(|g| row::text(row.cell(g))));
        }
        if count > bad.len() {
            bad.push(format!("and {} more lines", count - bad.len()));
        }
        match (bad.is_empty(), found.truth.is_empty()) {
            (false, _) => Err(EvaluationError::Cells { table: name.to_string(), lines: bad }),
            (true, true) => Err(EvaluationError::Empty(name.to_string())),
            (true, false) => Ok(found),
        }
    }
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
