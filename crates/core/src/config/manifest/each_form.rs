//! The values of `each` as they are written.

use schemars::JsonSchema;
use serde::Deserialize;

use super::strict::in_a_table;

/// The values for which there is one of a stage.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum EachForm {
    /// A range or a list in a text, as in "0..4": both ends belong to it.
    Values(String),
    /// A list.
    List(Vec<EachValueForm>),
    /// What stands in a column of a table.
    Column(#[serde(deserialize_with = "in_a_table")] ColumnForm),
}

/// A value.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub enum EachValueForm {
    /// A whole number.
    Whole(i64),
    /// A number.
    Number(f64),
    /// A text.
    Text(String),
}

/// A column of a table that no stage writes.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct ColumnForm {
    /// The column.
    pub column: String,
    /// The table: a path or a dataset.
    pub of: String,
}
