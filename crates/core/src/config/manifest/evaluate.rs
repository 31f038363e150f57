//! `evaluate = { … }` in a manifest: what is to be judged, and how.

use std::collections::BTreeMap;
use std::fmt;

use serde::{Deserialize, Serialize};
use textum_base::{Better, ProjectPath};

/// The version of the definitions of the metrics. It counts as an input: other definitions, other results.
pub const DEFINITIONS: u32 = 3;

/// What is to be judged, and how. Numbers that decide a result are texts, so that they are exact.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Evaluation {
    /// [`DEFINITIONS`].
    pub definitions: u32,
    /// The table of predictions, below the project.
    pub predictions: ProjectPath,
    /// The column with the truth.
    pub truth: String,
    /// What is predicted.
    #[serde(flatten)]
    pub judged: Judged,
    /// Columns by whose values everything is computed too.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<By>,
    /// A column with the weight of each row.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight: Option<String>,
    /// How intervals are found, if they are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub intervals: Option<Intervals>,
    /// Columns between whose values selection and errors are held against one another.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub between: Vec<String>,
}

/// Columns by whose values everything is computed too.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(untagged)]
pub enum By {
    /// One column.
    One(String),
    /// Several, each by itself or crossed with others.
    Several(Vec<Crossed>),
}

/// A column, or several whose values make groups together.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Crossed {
    /// One column.
    One(String),
    /// Each combination of their values is a group.
    Several(Vec<String>),
}

impl Crossed {
    /// The columns.
    pub fn columns(&self) -> Vec<&str> {
        match self {
            Crossed::One(column) => vec![column],
            Crossed::Several(columns) => columns.iter().map(String::as_str).collect(),
        }
    }
}

impl By {
    /// The groupings, each with its columns.
    pub fn groupings(&self) -> Vec<Vec<&str>> {
        match self {
            By::One(column) => vec![vec![column]],
            By::Several(all) => all.iter().map(Crossed::columns).collect(),
        }
    }
}

/// Intervals by the bootstrap: rows drawn again and again.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Intervals {
    /// How probable it is that the interval holds the value, as text.
    pub level: String,
    /// How often rows are drawn.
    pub resamples: u32,
    /// What the draws begin with.
    pub seed: u64,
}

/// What wrong decisions cost, as texts.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Cost {
    /// Of a row that is predicted positive and is not.
    pub false_positive: String,
    /// Of a row that is positive and not predicted to be.
    pub false_negative: String,
}

/// What is predicted.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Judged {
    /// The probability of the positive one of two classes.
    Score {
        /// The column.
        score: String,
        /// The truth that is the positive class.
        positive: String,
        /// From which probability on the positive class is predicted, as text, so that it is exact.
        threshold: String,
        /// Bins of the calibration.
        bins: u32,
        /// What wrong decisions cost, if that is known.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        cost: Option<Cost>,
    },
    /// A probability for each of several classes.
    Scores {
        /// The column of each class.
        scores: ClassColumns,
    },
    /// A class.
    Label {
        /// The column.
        label: String,
    },
    /// An order of the rows of each query.
    Rank {
        /// The column by which rows stand in order, the highest first.
        rank: String,
        /// The column that tells which rows belong together.
        query: String,
        /// How many of the first rows are looked at.
        at: u32,
    },
    /// A quantity.
    Value {
        /// The column.
        value: String,
        /// The quantile that is predicted, if it is one, as text.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        quantile: Option<String>,
        /// Columns with the ends of an interval that is predicted.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        interval: Option<[String; 2]>,
    },
}

/// The columns with the probabilities of classes.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(untagged)]
pub enum ClassColumns {
    /// All columns that begin with this; the rest of their names is the class.
    Prefix(String),
    /// The column of each class.
    Each(BTreeMap<String, String>),
}

impl Evaluation {
    /// The directions of its metrics, which need not be declared.
    pub fn directions(&self) -> Vec<(String, Better)> {
        use Better::{Higher, Lower};
        let higher = |names: &[&'static str]| names.iter().map(|n| (*n, Higher)).collect::<Vec<_>>();
        let lower = |names: &[&'static str]| names.iter().map(|n| (*n, Lower)).collect::<Vec<_>>();
        let mut known: Vec<(&str, Better)> = match &self.judged {
            Judged::Score { cost, .. } => {
                let mut lower = lower(&["log_loss", "brier", "calibration_error"]);
                lower.extend(cost.iter().flat_map(|_| [("cost", Lower), ("lowest_cost", Lower)]));
                [higher(&["auc", "average_precision", "accuracy", "f1", "precision", "recall", "specificity", "mcc"]), lower]
                    .concat()
            }
            Judged::Scores { .. } => [
                higher(&["auc", "pairwise_auc", "average_precision", "accuracy", "balanced_accuracy", "f1", "precision", "recall"]),
                higher(&["top_2", "top_3"]),
                lower(&["log_loss", "brier"]),
            ]
            .concat(),
            Judged::Label { .. } => higher(&["accuracy", "balanced_accuracy", "f1", "precision", "recall"]),
            Judged::Rank { .. } => higher(&["ndcg", "ndcg_at", "mrr", "recall_at"]),
            Judged::Value { quantile, .. } => {
                let mut lower = lower(&["rmse", "mae", "median_error", "mape", "max_error"]);
                lower.extend(quantile.iter().map(|_| ("quantile_loss", Lower)));
                [lower, higher(&["r2"])].concat()
            }
        };
        known.dedup_by_key(|(name, _)| *name);
        let weakest = self.by.iter().map(|_| (format!("weakest.{}", self.headline().0), self.headline().1));
        known.iter().map(|(name, better)| ((*name).to_string(), *better)).chain(weakest).collect()
    }

    /// The metric by which groups are compared, and its direction.
    pub fn headline(&self) -> (&'static str, Better) {
        match self.judged {
            Judged::Score { .. } | Judged::Scores { .. } => ("auc", Better::Higher),
            Judged::Label { .. } => ("accuracy", Better::Higher),
            Judged::Rank { .. } => ("ndcg", Better::Higher),
            Judged::Value { .. } => ("rmse", Better::Lower),
        }
    }
}

impl fmt::Display for Evaluation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let predicted = match &self.judged {
            Judged::Score { score, positive, threshold, bins, cost } => {
                let cost =
                    cost.as_ref().map(|c| format!(", costs {} and {}", c.false_positive, c.false_negative)).unwrap_or_default();
                let bins = if *bins == 10 { String::new() } else { format!(", {bins} bins") };
                format!("score {score}, positive {positive}, threshold {threshold}{bins}{cost}")
            }
            Judged::Scores { scores: ClassColumns::Prefix(prefix) } => format!("scores {prefix}…"),
            Judged::Scores { scores: ClassColumns::Each(each) } => {
                format!("scores {}", each.values().cloned().collect::<Vec<_>>().join(", "))
            }
            Judged::Label { label } => format!("label {label}"),
            Judged::Rank { rank, query, at } => format!("rank {rank} within {query}, at {at}"),
            Judged::Value { value, quantile, interval } => {
                let quantile = quantile.as_ref().map(|q| format!(", quantile {q}")).unwrap_or_default();
                let interval = interval.as_ref().map(|[low, high]| format!(", interval {low} to {high}")).unwrap_or_default();
                format!("value {value}{quantile}{interval}")
            }
        };
        let by = self.by.as_ref().map(By::groupings).unwrap_or_default();
        let by: Vec<String> = by.iter().map(|columns| columns.join(" × ")).collect();
        let by = if by.is_empty() { String::new() } else { format!(", by {}", by.join(", ")) };
        write!(f, "evaluate {} (truth {}, {predicted}{by}", self.predictions, self.truth)?;
        self.weight.iter().try_for_each(|weight| write!(f, ", weight {weight}"))?;
        if !self.between.is_empty() {
            write!(f, ", between {}", self.between.join(", "))?;
        }
        if let Some(Intervals { level, resamples, seed }) = &self.intervals {
            write!(f, ", intervals {level} by {resamples} draws from {seed}")?;
        }
        write!(f, ")")
    }
}
