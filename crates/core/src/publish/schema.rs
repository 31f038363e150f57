//! What a model takes in: told from a table, and held against others.

use textum_registry::{Column, ColumnKind, Schema};

use super::PublishError;
use crate::table::kind::{Kind, KindCounts, kind_of};
use crate::table::row::text;
use crate::table::{Row, Table};

/// So many faults are told one by one.
pub const TOLD: usize = 20;

/// What is wrong with a table that is to go into a model.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
pub struct SchemaFault {
    /// The line in the file, from 1; none: it is about the columns.
    pub line: Option<u64>,
    /// The column.
    pub column: String,
    /// What is wrong.
    pub what: String,
}

fn kind_name(counts: &KindCounts, times: bool) -> ColumnKind {
    match counts.name() {
        "integer" => ColumnKind::Integer,
        "number" => ColumnKind::Number,
        "boolean" => ColumnKind::Boolean,
        "date" if times => ColumnKind::Time,
        "date" => ColumnKind::Date,
        _ => ColumnKind::Text,
    }
}

/// What a table's columns are, but for the target; and the first rows without it, as CSV.
pub fn schema_of(table: &Table<'_>, target: Option<&str>, rows: u32) -> Result<(Schema, Vec<u8>, u64), PublishError> {
    let mut opened = table.open()?;
    let names = opened.columns.clone();
    if let Some(target) = target.filter(|t| !names.iter().any(|n| n == t)) {
        let near = textum_base::nearest(target, names.iter().map(String::as_str)).map(|n| format!("; did you mean `{n}`?"));
        let what = format!("{} has no column `{target}`{}", table.name, near.unwrap_or_default());
        return Err(PublishError::wrong(what, "`target` names the column that is predicted"));
    }
    let taken: Vec<usize> = (0..names.len()).filter(|at| Some(names[*at].as_str()) != target).collect();
    if taken.is_empty() {
        let what = format!("{} has no column to predict from", table.name);
        return Err(PublishError::wrong(what, "`input` names a table with the columns that the model takes in"));
    }
    let mut counts = vec![KindCounts::default(); names.len()];
    let mut times = vec![false; names.len()];
    let mut example = csv::Writer::from_writer(Vec::new());
    let unwritable =
        |e: csv::Error| PublishError::wrong(format!("{} cannot be written as CSV: {e}", table.name), "name another table");
    example.write_record(taken.iter().map(|at| &names[*at])).map_err(unwritable)?;
    let mut row = Row::default();
    let mut seen: u64 = 0;
    while opened.rows.next(&mut row)? {
        for at in &taken {
            let cell = row.cell(*at);
            counts[*at].add(kind_of(cell));
            times[*at] |= cell.len() > 10;
        }
        if seen < u64::from(rows) {
            example.write_record(taken.iter().map(|at| row.cell(*at))).map_err(unwritable)?;
        }
        seen += 1;
    }
    if seen == 0 {
        let what = format!("{} has no rows: there would be no example", table.name);
        return Err(PublishError::wrong(what, "`input` names a table with some rows like those that come in"));
    }
    let column = |at: &usize| Column {
        name: names[*at].clone(),
        kind: kind_name(&counts[*at], times[*at]),
        missing: counts[*at].missing > 0,
    };
    let schema = Schema { columns: taken.iter().map(column).collect(), target: target.map(str::to_string) };
    let bytes = example.into_inner().map_err(|e| PublishError::wrong(e.to_string(), "try again"))?;
    Ok((schema, bytes, seen.min(u64::from(rows))))
}

/// Whether a cell is what a column takes.
fn fits(cell: &[u8], column: &Column) -> bool {
    match (kind_of(cell), column.kind) {
        (Kind::Missing, _) => column.missing,
        (_, ColumnKind::Text)
        | (Kind::Integer, ColumnKind::Integer | ColumnKind::Number)
        | (Kind::Number, ColumnKind::Number)
        | (Kind::Boolean, ColumnKind::Boolean)
        | (Kind::Date, ColumnKind::Time) => true,
        (Kind::Date, ColumnKind::Date) => cell.len() == 10,
        _ => false,
    }
}

/// Holds a table against what a model takes in: its faults, the first of them with line and column, and how many there are.
/// The target may be among the columns: it is left out.
pub fn check_rows(schema: &Schema, table: &Table<'_>) -> Result<(Vec<SchemaFault>, u64, u64), PublishError> {
    let mut opened = table.open()?;
    let names = opened.columns.clone();
    let mut faults = Vec::new();
    let of_columns = |column: &str, what: String| SchemaFault { line: None, column: column.to_string(), what };
    for column in &schema.columns {
        if !names.contains(&column.name) {
            let near = textum_base::nearest(&column.name, names.iter().map(String::as_str));
            let near = near.map_or(String::new(), |n| format!("; there is `{n}`"));
            faults.push(of_columns(&column.name, format!("is missing{near}")));
        }
    }
    for (at, name) in names.iter().enumerate() {
        if names[..at].contains(name) {
            faults.push(of_columns(name, "is there twice".to_string()));
        } else if schema.target.as_ref() != Some(name) && schema.columns.iter().all(|c| c.name != *name) {
            faults.push(of_columns(name, "is not known to the model".to_string()));
        }
    }
    let places: Vec<(usize, &Column)> =
        schema.columns.iter().filter_map(|c| Some((names.iter().position(|n| *n == c.name)?, c))).collect();
    let (mut count, mut rows) = (faults.len() as u64, 0);
    let mut row = Row::default();
    while opened.rows.next(&mut row)? {
        rows += 1;
        if row.len() != names.len() {
            count += 1;
            if faults.len() < TOLD {
                let what = format!("the row has {} fields, the header {}", row.len(), names.len());
                faults.push(SchemaFault { line: Some(row.line), column: String::new(), what });
            }
        }
        for (at, column) in places.iter().filter(|(at, _)| *at < row.len()) {
            let cell = row.cell(*at);
            if fits(cell, column) {
                continue;
            }
            count += 1;
            if faults.len() < TOLD {
                let what = match kind_of(cell) {
                    Kind::Missing => format!("is missing; the model knows it as {} in every row", column.kind.word()),
                    _ => format!("is {:?}, not {}", text(cell).chars().take(40).collect::<String>(), column.kind.word()),
                };
                faults.push(SchemaFault { line: Some(row.line), column: column.name.clone(), what });
            }
        }
    }
    Ok((faults, count, rows))
}
