//! Where looking for what was made of something begins: contents, and executions.

use std::collections::HashSet;

use textum_base::Digest;

use super::PublishError;
use crate::data::{DataError, Version, find_data, find_rows, versions};
use crate::inspect::lineage::{Origin, Target};
use crate::project::workspace::Project;
use crate::record::receipt::{StageReceipt, files_in};
use crate::table::filter::{Condition, Named};

/// Where it begins: contents, and executions.
#[derive(Clone, Debug, Default)]
pub struct Seeds {
    /// Contents that are what it is about.
    pub contents: HashSet<Digest>,
    /// Executions that are.
    pub executions: HashSet<Digest>,
    /// Contents at which following ends: what was made of them does not count.
    pub stops: HashSet<Digest>,
}

/// Seeds out of what a person has named: of a run its results, of anything else its content.
pub fn seeds_of(project: &Project, target: &Target) -> Result<Seeds, PublishError> {
    let mut seeds = Seeds::default();
    match &target.origin {
        // What earlier runs had made and this one used again is not of its making, unless nothing is.
        Origin::Run(run) => {
            seeds.executions.extend(project.ledger.executed_in(&run.run)?.into_iter().map(|row| row.receipt));
            if seeds.executions.is_empty() {
                seeds.executions.extend(project.ledger.results_in(&run.run)?);
            }
        }
        _ => {
            seeds.contents.insert(target.digest);
            // Of a folder its files are meant too.
            seeds.contents.extend(files_in(&project.store, &target.digest));
        }
    }
    Ok(seeds)
}

/// Executions with this value of a parameter among what decided them.
pub fn seeds_of_param(project: &Project, name: &str, value: &str) -> Result<Seeds, PublishError> {
    let mut seeds = Seeds::default();
    let mut looked: HashSet<Digest> = HashSet::new();
    for run in project.ledger.runs_with_param(name, value)? {
        for receipt in project.ledger.results_in(&run)? {
            if looked.insert(receipt) {
                let loaded = StageReceipt::load(&project.store, &receipt)?;
                if loaded.inputs.params.get(name).is_some_and(|v| v == value) {
                    seeds.executions.insert(receipt);
                }
            }
        }
    }
    Ok(seeds)
}

/// Executions that used a package, in this version if one is named.
pub fn seeds_of_package(project: &Project, name: &str, version: Option<&str>) -> Result<Seeds, PublishError> {
    let executions = project.ledger.users_of_package(name, version)?.into_iter().collect();
    Ok(Seeds { executions, ..Seeds::default() })
}

/// Versions of a dataset that have rows which meet a condition; and how many of each. What was erased has none any more.
pub fn seeds_of_rows(
    project: &Project,
    dataset: &str,
    condition: &Condition<Named>,
    text: &str,
) -> Result<(Seeds, Vec<(Version, u64)>), PublishError> {
    let mut seeds = Seeds::default();
    let mut found = Vec::new();
    let (mut looked_at, mut no_column) = (0, None);
    for version in versions(&project.ledger, dataset)? {
        if project.ledger.erased(&version.content.digest)?.is_some() {
            continue;
        }
        let side = find_data(project, &version.name(), project.workspace.root())?;
        match find_rows(project, &side, condition, 0)? {
            Ok(looked) => {
                looked_at += 1;
                if let Some(rows) = looked.rows.filter(|rows| *rows > 0) {
                    seeds.contents.insert(version.content.digest);
                    found.push((version, rows));
                }
            }
            // A version without the column has no such rows.
            Err(source) => drop(no_column.get_or_insert(source)),
        }
    }
    match no_column {
        Some(source) if looked_at == 0 => Err(DataError::Filter { text: text.to_string(), source }.into()),
        _ => Ok((seeds, found)),
    }
}
