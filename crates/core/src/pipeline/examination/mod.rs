//! A table held against rules: what came of it in lines, metrics, tables and a figure.

mod report;
mod words;

use std::collections::BTreeMap;
use std::io::Write;
use std::path::{Path, PathBuf};

use crate::config::manifest::{Examination, ExaminedTable, RuleDecl, Severity};
use crate::data::{DataError, any_table_in_store, any_table_in_tree};
use crate::fsio::IoError;
use crate::pipeline::evaluation::Stop;
use crate::record::receipt::{Read, StorageMode};
use crate::store::Store;
use crate::table::Table;
use crate::table::examine::{ExamineError, Examined, Examining, Found, Others, Rule, examine, parse};

pub use report::{RULES, figure, rows_csv, rules_csv};
pub use words::{fault, measure};

/// Why a table could not be held against rules.
#[derive(Debug, thiserror::Error)]
pub enum ExaminationError {
    /// A table could not be found.
    #[error(transparent)]
    Data(#[from] DataError),
    /// It could not be examined.
    #[error(transparent)]
    Examine(#[from] ExamineError),
    /// What was found could not be written.
    #[error(transparent)]
    Io(#[from] IoError),
    /// A version's bytes are not in the store.
    #[error("the version {0} is a reference: its bytes are not kept, so nothing can be held against them")]
    Reference(String),
}

/// Where tables are.
pub struct Places<'p> {
    /// The folder that paths are below.
    pub root: &'p Path,
    /// The store.
    pub store: &'p Store,
    /// The recorded versions that are named.
    pub versions: &'p [Read],
    /// Whether somebody has asked to stop.
    pub stop: Stop<'p>,
}

impl Places<'_> {
    fn table(&self, at: &ExaminedTable) -> Result<Table<'_>, ExaminationError> {
        let Some(name) = &at.version else {
            return Ok(any_table_in_tree(self.root, &at.path, &at.dialect, self.stop)?.stopped_by(self.stop));
        };
        let version = self.versions.iter().find(|v| Some(v.at.content.digest) == at.digest);
        let Some(version) = version.filter(|v| v.hold == StorageMode::Store) else {
            return Err(ExaminationError::Reference(name.clone()));
        };
        let found = any_table_in_store(self.store, name, &version.at.path, &version.at.content, &at.dialect, self.stop)?;
        Ok(found.stopped_by(self.stop))
    }
}

/// What came of a rule, and what becomes of it.
pub struct Judged {
    /// The rule.
    pub decl: RuleDecl,
    /// What came of it.
    pub found: Found,
}

impl Judged {
    /// Whether it is broken, so that the stage fails.
    pub fn fails(&self) -> bool {
        self.found.holds == Some(false) && self.decl.severity == Severity::Fail
    }

    /// Whether it is broken, and only told.
    pub fn warns(&self) -> bool {
        self.found.holds == Some(false) && self.decl.severity == Severity::Warn
    }
}

/// Everything that came of an examination.
pub struct Inspection {
    /// What the table is called.
    pub table: String,
    /// Its rows and what is odd about it.
    pub examined: Examined,
    /// What came of each rule, in their order.
    pub judged: Vec<Judged>,
}

impl Inspection {
    /// Whether no rule that must hold is broken.
    pub fn is_fine(&self) -> bool {
        !self.judged.iter().any(Judged::fails)
    }
}

/// Holds a table against rules.
pub fn inspect(
    name: &str,
    table: &Table<'_>,
    others: &Others<'_>,
    rules: &[RuleDecl],
    examples: usize,
    scratch: &Path,
) -> Result<Inspection, ExaminationError> {
    let parsed: Result<Vec<Rule>, ExamineError> = rules
        .iter()
        .map(|decl| parse(&decl.rule).map_err(|source| ExamineError::Rule { rule: decl.rule.clone(), source }))
        .collect();
    let mut examined = examine(&Examining { table, others, examples, scratch }, &parsed?)?;
    let found = std::mem::take(&mut examined.found);
    let judged = rules.iter().cloned().zip(found).map(|(decl, found)| Judged { decl, found }).collect();
    Ok(Inspection { table: name.to_string(), examined, judged })
}

/// Does what a stage is to examine: its lines go to the log, metrics to one file, the rest into a folder. Whether it is fine.
pub fn examine_into(
    examination: &Examination,
    places: &Places<'_>,
    metrics: Option<&str>,
    folder: Option<&str>,
    log: &mut dyn Write,
) -> Result<bool, ExaminationError> {
    let name = examination.data.version.as_deref().unwrap_or(&examination.data.path);
    let table = places.table(&examination.data)?;
    let mut others: BTreeMap<String, Table<'_>> = BTreeMap::new();
    for (called, at) in &examination.tables {
        others.insert(called.clone(), places.table(at)?);
    }
    let scratch: PathBuf = crate::table::scratch(places.store.folder());
    let inspection = inspect(name, &table, &others, &examination.rules, examination.examples as usize, &scratch)?;
    report::log(&inspection, log);
    report::write(&inspection, places.root, metrics, folder)?;
    Ok(inspection.is_fine())
}
