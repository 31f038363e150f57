//! In which versions of a dataset rows are, and which runs used those.

use serde::Serialize;

use super::DataError;
use super::data_ref::DataRef;
use super::version::Version;
use crate::project::workspace::Project;
use crate::table::Row;
use crate::table::filter::{Condition, FilterError, Named};
use crate::table::row::text;

/// What was found in one state of a dataset.
#[derive(Clone, Debug, Serialize)]
pub struct FoundIn {
    /// The state.
    pub name: String,
    /// The version that it is.
    pub version: Option<u64>,
    /// Rows that meet the condition; `None` when it could not be read.
    pub rows: Option<u64>,
    /// Rows in all.
    pub of: Option<u64>,
    /// Why it could not be read.
    pub why: Option<String>,
    /// The columns.
    pub columns: Vec<String>,
    /// Some of the rows, with their lines.
    pub examples: Vec<(u64, Vec<String>)>,
    /// Of a table in several files: the file of each of them.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub files: Vec<String>,
}

/// Looks for rows in a state. A column that this state does not have is told as the reason why it could not
/// be looked through.
pub fn find_rows(
    project: &Project,
    side: &DataRef,
    condition: &Condition<Named>,
    examples: usize,
) -> Result<Result<FoundIn, FilterError>, DataError> {
    let mut found = FoundIn {
        name: side.name.clone(),
        version: side.version.as_ref().map(|v: &Version| v.number),
        rows: None,
        of: None,
        why: None,
        columns: Vec::new(),
        examples: Vec::new(),
        files: Vec::new(),
    };
    let table = side.any_table(project)?;
    let parts = table.part_paths();
    let mut opened = table.open()?;
    found.columns.clone_from(&opened.columns);
    let condition = match condition.for_columns(&opened.columns) {
        Ok(condition) => condition,
        Err(e) => return Ok(Err(e)),
    };
    let mut row = Row::default();
    let (mut rows, mut of) = (0, 0);
    while opened.rows.next(&mut row)? {
        of += 1;
        if condition.holds(&row) {
            rows += 1;
            if found.examples.len() < examples {
                let cells = (0..found.columns.len()).map(|at| text(row.cell(at))).collect();
                found.examples.push((row.line, cells));
                found.files.extend(parts.get(row.part as usize).cloned());
            }
        }
    }
    (found.rows, found.of) = (Some(rows), Some(of));
    Ok(Ok(found))
}
