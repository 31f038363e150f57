//! The shape of what judges data and models in `textum.toml`: `evaluate` and `examine` of a stage.

use indexmap::IndexMap;
use schemars::JsonSchema;
use serde::Deserialize;

use super::strict::in_a_table;

/// Predictions to be judged against the truth: exactly one of `score`, `scores`, `label`, `rank` and `value` says what they
/// are.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct EvaluateForm {
    /// The table with a row for each prediction.
    pub predictions: String,
    /// The column with the truth.
    pub truth: String,
    /// Of two classes: the column with the probability of the positive one, 0 to 1.
    pub score: Option<String>,
    /// Of several classes: the column with the probability of each, as in { warp = "p_warp", weft = "p_weft" }; or what the
    /// names of these columns begin with, as in "p_".
    pub scores: Option<ScoresForm>,
    /// Of classes: the column with the predicted one.
    pub label: Option<String>,
    /// Of an order: the column by which rows stand in it, the highest first. The truth is how relevant a row is.
    pub rank: Option<String>,
    /// With `rank`: the column that tells which rows are ranked together.
    pub query: Option<String>,
    /// With `rank`: so many of the first rows are looked at; 10 unless said.
    pub at: Option<u32>,
    /// Of a quantity: the column with the predicted one.
    pub value: Option<String>,
    /// With `score`: the truth that is the positive class; "1" unless said.
    pub positive: Option<String>,
    /// With `score`: from which probability on the positive class is predicted; 0.5 unless said.
    pub threshold: Option<f64>,
    /// A column: everything is computed for each of its values too. Or several, as in ["loom", "team", ["loom", "team"]],
    /// where those in brackets are crossed.
    pub by: Option<ByForm>,
    /// With `score`: the number of bins of the calibration; 10 unless said.
    pub bins: Option<u32>,
    /// A column with the weight of each row.
    pub weight: Option<String>,
    /// Intervals of all metrics by the bootstrap: their level, as in 0.95.
    pub intervals: Option<IntervalsForm>,
    /// With `score`: what wrong decisions cost, so that the cheapest threshold is told.
    pub cost: Option<CostForm>,
    /// With `value`: the quantile that is predicted.
    pub quantile: Option<f64>,
    /// With `value`: two columns, the ends of an interval that is predicted.
    pub interval: Option<[String; 2]>,
    /// Columns between whose values selection and errors are held against one another.
    #[serde(default)]
    pub between: Vec<String>,
}

/// The columns with the probabilities of classes.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum ScoresForm {
    /// What their names begin with.
    Prefix(String),
    /// The column of each class.
    Each(IndexMap<String, String>),
}

/// Columns by whose values everything is computed.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum ByForm {
    /// One.
    One(String),
    /// Several.
    Several(Vec<CrossedForm>),
}

/// A column, or some that are crossed.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum CrossedForm {
    /// One.
    One(String),
    /// Crossed.
    Several(Vec<String>),
}

/// Intervals: their level, or that and how they are drawn.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum IntervalsForm {
    /// The level.
    Level(f64),
    /// All that can be said.
    Said(#[serde(deserialize_with = "in_a_table")] SaidIntervalsForm),
}

/// How intervals are drawn.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct SaidIntervalsForm {
    /// How probable it is that the interval holds the value.
    pub level: f64,
    /// How often rows are drawn; 1000 times unless said.
    pub resamples: Option<u32>,
    /// What the draws begin with; 0 unless said.
    pub seed: Option<u64>,
}

/// What wrong decisions cost.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct CostForm {
    /// Of a row that is predicted positive and is not.
    pub false_positive: f64,
    /// Of a row that is positive and not predicted to be.
    pub false_negative: f64,
}

/// A table and the rules that it is held against.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ExamineForm {
    /// The table: a path, a dataset, or a recorded version of one such as "shifts@2".
    pub data: String,
    /// The table that `against` means in rules, named in the same way.
    pub against: Option<String>,
    /// The rules, as in "humidity between 0 and 100 in 98 %".
    pub rules: Vec<RuleForm>,
    /// So many rows that break a rule are shown; 5 unless said.
    pub examples: Option<u32>,
}

/// A rule: its text, or that and what becomes of it.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum RuleForm {
    /// A broken one fails the stage.
    Plain(String),
    /// What becomes of it is said.
    Told(#[serde(deserialize_with = "in_a_table")] ToldRuleForm),
}

/// A rule and what becomes of it.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ToldRuleForm {
    /// The rule.
    pub rule: String,
    /// "fail" (unless said): a broken rule fails the stage. "warn": it is told.
    pub severity: Option<SeverityForm>,
    /// Metrics of this rule are called by it: `NAME.breaking`, `NAME.share`, `NAME.value`.
    pub name: Option<String>,
}

/// What becomes of a broken rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum SeverityForm {
    /// The stage fails.
    Fail,
    /// It is told.
    Warn,
}
