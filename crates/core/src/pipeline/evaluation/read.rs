//! The table of predictions, its cells checked line by line.

use std::collections::HashSet;
use std::path::Path;

use super::bootstrap::Stop;
use super::labels::Gatherer;
use super::{By, ClassColumns, Evaluation, Judged, Labels};
use crate::fsio::IoError;
use crate::table::decimal::compare_numbers;
use crate::table::{Row, Table, TableError, kind, row};
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
    /// It could not be found.
    #[error(transparent)]
    Data(#[from] Box<crate::data::DataError>),
    /// A class of the truth has no probability.
    #[error("{table}: the class `{class}` has no column with its probability: those with one are {}", classes.join(", "))]
    NoScore {
        /// The table.
        table: String,
        /// The class.
        class: String,
        /// The classes that have one.
        classes: Vec<String>,
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
    /// The classes that have a probability each, sorted.
    pub classes: Vec<String>,
    /// Their probabilities: by class, then by row.
    pub scores: Vec<Vec<f64>>,
    /// The ends of a predicted interval.
    pub low: Vec<f64>,
    /// The same, its upper end.
    pub high: Vec<f64>,
    /// Which rows are ranked together.
    pub query: Labels,
    /// How much each row counts; empty where all count once.
    pub weights: Vec<f64>,
    /// Groupings: what each is called, and the group of each row.
    pub by: Vec<(String, Labels)>,
    /// Columns between whose values is compared, and the value of each row.
    pub between: Vec<(String, Labels)>,
    /// Rows.
    pub rows: usize,
}

/// So many bad lines are named.
const FEW: usize = 5;
/// What the probabilities of a row may be off from 1, for each class: they are written with few digits.
const OFF: f64 = 0.005;

/// The places of the columns that are read.
struct Wanted {
    truth: usize,
    /// Of what is predicted: one, or one a class.
    predicted: Vec<usize>,
    query: Option<usize>,
    weight: Option<usize>,
    interval: Option<[usize; 2]>,
    by: Vec<(String, Vec<usize>)>,
    between: Vec<(String, usize)>,
    classes: Vec<String>,
}

impl Wanted {
    fn of(evaluation: &Evaluation, columns: &[String]) -> Result<Wanted, TableError> {
        let name = evaluation.predictions.as_str();
        let column = |wanted: &str| {
            columns.iter().position(|c| c == wanted).ok_or_else(|| TableError::NoColumn {
                table: name.to_string(),
                column: wanted.to_string(),
                near: nearest(wanted, columns.iter().map(String::as_str)).map(str::to_string),
                columns: columns.to_vec(),
            })
        };
        let (mut query, mut interval, mut classes) = (None, None, Vec::new());
        let predicted = match &evaluation.judged {
            Judged::Score { score, .. } => vec![column(score)?],
            Judged::Label { label } => vec![column(label)?],
            Judged::Rank { rank, query: of, .. } => {
                query = Some(column(of)?);
                vec![column(rank)?]
            }
            Judged::Value { value, interval: ends, .. } => {
                interval = ends.as_ref().map(|[low, high]| Ok::<_, TableError>([column(low)?, column(high)?])).transpose()?;
                vec![column(value)?]
            }
            Judged::Scores { scores } => {
                let mut each: Vec<(String, usize)> = match scores {
                    ClassColumns::Each(each) => {
                        each.iter().map(|(class, name)| Ok((class.clone(), column(name)?))).collect::<Result<_, TableError>>()?
                    }
                    ClassColumns::Prefix(prefix) => {
                        let named =
                            columns.iter().enumerate().filter_map(|(at, c)| Some((c.strip_prefix(prefix)?.to_string(), at)));
                        named.filter(|(class, _)| !class.is_empty()).collect()
                    }
                };
                each.sort();
                if each.len() < 2 {
                    let asked = if let ClassColumns::Prefix(prefix) = scores { format!("{prefix}…") } else { "scores".into() };
                    return Err(TableError::NoColumn {
                        table: name.to_string(),
                        column: asked,
                        near: None,
                        columns: columns.to_vec(),
                    });
                }
                classes = each.iter().map(|(class, _)| class.clone()).collect();
                each.into_iter().map(|(_, at)| at).collect()
            }
        };
        let mut by = Vec::new();
        for grouping in evaluation.by.iter().flat_map(By::groupings) {
            by.push((grouping.join(" × "), grouping.into_iter().map(column).collect::<Result<_, _>>()?));
        }
        let weight = evaluation.weight.as_deref().map(column).transpose()?;
        let between = evaluation.between.iter().map(|c| Ok((c.clone(), column(c)?))).collect::<Result<_, TableError>>()?;
        Ok(Wanted { truth: column(&evaluation.truth)?, predicted, query, weight, interval, by, between, classes })
    }
}

/// Predictions while they are read.
#[derive(Default)]
struct Reading {
    found: Predictions,
    truth: Gatherer,
    predicted: Gatherer,
    query: Gatherer,
    by: Vec<Gatherer>,
    between: Vec<Gatherer>,
}

impl Predictions {
    /// Reads what an evaluation needs from its table below `root`.
    pub fn read(root: &Path, evaluation: &Evaluation, stop: Stop<'_>) -> Result<Predictions, EvaluationError> {
        let table = crate::data::table_in_tree(root, &evaluation.predictions, &Default::default()).map_err(Box::new)?;
        Predictions::of(&table.stopped_by(stop), evaluation)
    }

    /// Reads what an evaluation needs from this table.
    pub fn of(table: &Table<'_>, evaluation: &Evaluation) -> Result<Predictions, EvaluationError> {
        let name = evaluation.predictions.as_str();
        let mut opened = table.open()?;
        let wanted = Wanted::of(evaluation, &opened.columns)?;
        let column = |at: usize| opened.columns.get(at).cloned().unwrap_or_default();
        let names = Names { truth: column(wanted.truth), predicted: wanted.predicted.iter().map(|at| column(*at)).collect() };
        let files = table.part_paths();
        let mut reading = Reading::default();
        reading.found.scores = vec![Vec::new(); wanted.classes.len()];
        reading.by.resize_with(wanted.by.len(), Gatherer::default);
        reading.between.resize_with(wanted.between.len(), Gatherer::default);
        let (mut bad, mut count) = (Vec::new(), 0usize);
        let mut row = Row::default();
        while opened.rows.next(&mut row)? {
            match check(evaluation, &wanted, &names, &row) {
                None => reading.take(evaluation, &wanted, &row),
                Some(what) => {
                    count += 1;
                    if bad.len() < FEW {
                        let file = files.get(row.part as usize).map_or(String::new(), |f| format!("{f} "));
                        bad.push(format!("{file}line {}: {what}", row.line));
                    }
                }
            }
        }
        if count > bad.len() {
            bad.push(format!("and {} more lines", count - bad.len()));
        }
        let mut found = reading.end(wanted);
        match (bad.is_empty(), found.rows == 0) {
            (false, _) => Err(EvaluationError::Cells { table: name.to_string(), lines: bad }),
            (true, true) => Err(EvaluationError::Empty(name.to_string())),
            (true, false) => {
                found.same_labels(evaluation)?;
                Ok(found)
            }
        }
    }

    /// How much each row counts.
    pub fn weights(&self) -> Vec<f64> {
        if self.weights.is_empty() { vec![1.0; self.rows] } else { self.weights.clone() }
    }

    /// Labels that are the same are written the same; of two classes, the positive one as the evaluation has it.
    fn same_labels(&mut self, evaluation: &Evaluation) -> Result<(), EvaluationError> {
        match &evaluation.judged {
            Judged::Value { .. } | Judged::Rank { .. } => Ok(()),
            Judged::Scores { .. } => {
                self.truth = std::mem::take(&mut self.truth).renamed(plain);
                self.classes = std::mem::take(&mut self.classes).iter().map(|c| plain(c)).collect();
                let unknown = self.truth.distinct().into_iter().find(|t| !self.classes.iter().any(|c| c == t)).map(str::to_string);
                match unknown {
                    None => Ok(()),
                    Some(class) => Err(EvaluationError::NoScore {
                        table: evaluation.predictions.to_string(),
                        class,
                        classes: self.classes.clone(),
                    }),
                }
            }
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

/// What the columns are called, for messages.
struct Names {
    truth: String,
    predicted: Vec<String>,
}

/// What is wrong with a row, if anything is.
fn check(evaluation: &Evaluation, wanted: &Wanted, names: &Names, row: &Row) -> Option<String> {
    let truth = row.cell(wanted.truth);
    if kind::is_missing(truth) {
        return Some(format!("{} is missing", names.truth));
    }
    let missing = names.predicted.iter().zip(&wanted.predicted).find(|(_, at)| kind::is_missing(row.cell(**at)));
    if let Some((name, _)) = missing {
        return Some(format!("{name} is missing"));
    }
    if let Some(at) = wanted.weight
        && kind::number(row.cell(at)).is_none_or(|w| !w.is_finite() || w < 0.0)
    {
        return Some(format!("the weight is `{}`, which is no number from 0 on", row::text(row.cell(at))));
    }
    let no_number = |column: &str, cell: &[u8]| format!("{column} is `{}`, which is no number", row::text(cell));
    let numbers = || names.predicted.iter().zip(&wanted.predicted).map(|(name, at)| (name, row.cell(*at)));
    let predicted_number = || numbers().find(|(_, cell)| kind::number(cell).is_none()).map(|(name, cell)| no_number(name, cell));
    let probability = || {
        predicted_number().or_else(|| {
            let odd = numbers().find(|(_, cell)| kind::number(cell).is_none_or(|v| !(0.0..=1.0).contains(&v)));
            odd.map(|(name, cell)| format!("{name} is {}, which is no probability", row::text(cell)))
        })
    };
    let true_number = || kind::number(truth).is_none().then(|| no_number(&names.truth, truth));
    match &evaluation.judged {
        Judged::Label { .. } => None,
        Judged::Score { .. } => probability(),
        Judged::Scores { .. } => probability().or_else(|| {
            let sum: f64 = numbers().filter_map(|(_, cell)| kind::number(cell)).sum();
            let off = (sum - 1.0).abs() > OFF * names.predicted.len() as f64 + 1e-9;
            off.then(|| format!("the probabilities of its classes make {sum:.4}, not 1"))
        }),
        Judged::Rank { .. } => true_number().or_else(predicted_number).or_else(|| {
            kind::number(truth)
                .filter(|v| *v < 0.0)
                .map(|_| format!("{} is {}: relevance begins with 0", names.truth, row::text(truth)))
        }),
        Judged::Value { .. } => true_number().or_else(predicted_number).or_else(|| {
            let ends = wanted.interval?.map(|at| kind::number(row.cell(at)));
            let fine = matches!(ends, [Some(low), Some(high)] if low <= high);
            (!fine).then(|| "the ends of its interval are no numbers in their order".to_string())
        }),
    }
}

impl Reading {
    fn take(&mut self, evaluation: &Evaluation, wanted: &Wanted, row: &Row) {
        let number = |at: usize| kind::number(row.cell(at)).unwrap_or(f64::NAN);
        let truth = row.cell(wanted.truth);
        let found = &mut self.found;
        match &evaluation.judged {
            Judged::Score { .. } => found.numbers.extend(wanted.predicted.iter().map(|at| number(*at))),
            Judged::Label { .. } => wanted.predicted.iter().for_each(|at| self.predicted.push(row.cell(*at))),
            Judged::Scores { .. } => {
                // As they stand: scaled to make 1 exactly, equal ones would no longer be equal.
                found.scores.iter_mut().zip(&wanted.predicted).for_each(|(scores, at)| scores.push(number(*at)));
            }
            Judged::Rank { .. } | Judged::Value { .. } => {
                found.numbers.extend(wanted.predicted.iter().map(|at| number(*at)));
                found.true_numbers.extend(kind::number(truth));
            }
        }
        // Of a quantity the truth is a number, as a rule another one in each row.
        if !matches!(evaluation.judged, Judged::Value { .. } | Judged::Rank { .. }) {
            self.truth.push(truth);
        }
        if let Some([low, high]) = wanted.interval {
            found.low.push(number(low));
            found.high.push(number(high));
        }
        wanted.query.iter().for_each(|at| self.query.push(row.cell(*at)));
        found.weights.extend(wanted.weight.iter().map(|at| number(*at)));
        for (gatherer, (_, places)) in self.by.iter_mut().zip(&wanted.by) {
            match places[..] {
                [one] => gatherer.push(row.cell(one)),
                _ => {
                    let cells: Vec<&[u8]> = places.iter().map(|at| row.cell(*at)).collect();
                    gatherer.push(&cells.join(" × ".as_bytes()));
                }
            }
        }
        self.between.iter_mut().zip(&wanted.between).for_each(|(gatherer, (_, at))| gatherer.push(row.cell(*at)));
        found.rows += 1;
    }

    fn end(self, wanted: Wanted) -> Predictions {
        let mut found = self.found;
        (found.truth, found.predicted, found.query) = (self.truth.end(), self.predicted.end(), self.query.end());
        let named = |gatherers: Vec<Gatherer>, names: Vec<String>| {
            names.into_iter().zip(gatherers.into_iter().map(Gatherer::end)).collect()
        };
        found.by = named(self.by, wanted.by.into_iter().map(|(name, _)| name).collect());
        found.between = named(self.between, wanted.between.into_iter().map(|(name, _)| name).collect());
        found.classes = wanted.classes;
        found
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
