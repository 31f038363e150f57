//! Numbers for the states of a dataset, and what `NAME@NUMBER` stands for.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use super::DataError;
use crate::config::manifest::nearest;
use crate::record::ledger::{DataRow, Ledger, LedgerError};
use crate::record::receipt::{Content, StorageMode};
use crate::store::Digest;
use textum_base::SourcePath;

/// A state of a dataset. The same content is the same version, whenever it comes back.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Version {
    /// The dataset's name.
    pub dataset: String,
    /// Its number, from 1.
    pub number: u64,
    /// Its path when it was first seen.
    pub path: SourcePath,
    /// What it is.
    #[serde(flatten)]
    pub content: Content,
    /// How it is kept.
    pub hold: StorageMode,
    /// Of a table: its rows.
    pub rows: Option<u64>,
    /// When it was first seen, RFC 3339 in UTC.
    pub recorded: String,
    /// Who recorded it first, and where.
    pub by: String,
    /// What people said of it, oldest first.
    pub notes: Vec<String>,
}

impl Version {
    /// Its name, such as `shifts@2`.
    pub fn name(&self) -> String {
        format!("{}@{}", self.dataset, self.number)
    }
}

/// Gives each content its number: the one it claims, or, when an earlier receipt has that, the next that
/// nobody claims. `rows` must be in the order of numbers claimed, then of time.
pub(super) fn number(rows: Vec<DataRow>) -> Vec<Version> {
    let claimed: BTreeSet<u64> = rows.iter().map(|r| r.number).collect();
    let mut taken: BTreeSet<u64> = BTreeSet::new();
    let mut found: Vec<Version> = Vec::new();
    let mut known: BTreeMap<Digest, usize> = BTreeMap::new();
    for row in rows {
        let at = match known.get(&row.content.digest).copied() {
            Some(at) => at,
            None => {
                let free = |n: &u64| !taken.contains(n) && (*n == row.number || !claimed.contains(n));
                let number = (row.number..).find(free).unwrap_or(row.number);
                taken.insert(number);
                known.insert(row.content.digest, found.len());
                found.push(Version {
                    dataset: row.name,
                    number,
                    path: row.path,
                    content: row.content,
                    hold: row.hold,
                    rows: None,
                    recorded: row.recorded.clone(),
                    by: row.by.clone(),
                    notes: Vec::new(),
                });
                found.len() - 1
            }
        };
        let version = &mut found[at];
        version.rows = version.rows.or(row.rows);
        // Bytes that were taken in once are there, whatever was said of them at another time.
        if row.hold == StorageMode::Store {
            version.hold = StorageMode::Store;
        }
        if row.recorded < version.recorded {
            (version.recorded, version.by) = (row.recorded, row.by);
        }
        version.notes.extend(row.note);
    }
    found.sort_by_key(|v| v.number);
    found
}

/// All versions of a dataset, oldest number first.
pub fn versions(ledger: &Ledger, name: &str) -> Result<Vec<Version>, LedgerError> {
    Ok(number(ledger.data_receipts(name)?))
}

/// The version of a dataset with this content.
pub fn version_of(ledger: &Ledger, name: &str, content: &Digest) -> Result<Option<Version>, LedgerError> {
    Ok(versions(ledger, name)?.into_iter().find(|v| v.content.digest == *content))
}

/// `NAME@NUMBER` into its parts; `None` for any other text.
pub fn split_name(text: &str) -> Option<(&str, u64)> {
    let (name, number) = text.rsplit_once('@')?;
    let number = number.parse().ok()?;
    (!name.is_empty()).then_some((name, number))
}

/// The version with this number.
pub fn version_with(ledger: &Ledger, name: &str, number: u64) -> Result<Version, DataError> {
    let all = versions(ledger, name)?;
    if all.is_empty() {
        let names = ledger.dataset_names()?;
        let near = nearest(name, names.iter().map(String::as_str)).map(str::to_string);
        return Err(DataError::NoDataset { name: name.to_string(), near });
    }
    let known: Vec<String> = all.iter().map(Version::name).collect();
    all.into_iter().find(|v| v.number == number).ok_or(DataError::NoVersion { name: format!("{name}@{number}"), known })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn row(number: u64, content: u8, at: u32) -> DataRow {
        DataRow {
            receipt: Digest::of(&[number as u8, content, at as u8]),
            name: "shifts".into(),
            number,
            path: SourcePath::new("shifts.csv").unwrap(),
            content: Content::file(Digest::of(&[content]), 1),
            hold: StorageMode::Store,
            rows: None,
            recorded: format!("2026-11-23T00:{at:05}Z"),
            by: String::new(),
            note: None,
        }
    }

    proptest! {
        #[test]
        fn numbers_are_those_claimed_and_never_shared(claims in prop::collection::vec((1u64..6, 0u8..5, 0u32..40), 0..12)) {
            let mut rows: Vec<DataRow> = claims.iter().map(|(n, c, t)| row(*n, *c, *t)).collect();
            rows.sort_by(|a, b| (a.number, &a.recorded, a.receipt).cmp(&(b.number, &b.recorded, b.receipt)));
            let found = number(rows.clone());
            let contents: BTreeSet<Digest> = rows.iter().map(|r| r.content.digest).collect();
            let numbers: BTreeSet<u64> = found.iter().map(|v| v.number).collect();
            prop_assert_eq!(found.len(), contents.len(), "one version a content");
            prop_assert_eq!(numbers.len(), found.len(), "a number of its own for each");
            for (i, first) in rows.iter().enumerate().filter(|(i, r)| !rows[..*i].iter().any(|o| o.content == r.content)) {
                let claimed_before = rows[..i].iter().enumerate().any(|(j, o)| {
                    o.number == first.number && !rows[..j].iter().any(|e| e.content == o.content)
                });
                let version = found.iter().find(|v| v.content == first.content).unwrap();
                prop_assert!(claimed_before || version.number == first.number, "{:?} claimed {} first", version, first.number);
            }
            let mut one_more = rows.clone();
            let next = found.iter().map(|v| v.number).max().unwrap_or(0) + 1;
            one_more.push(row(next, 99, 50));
            let again = number(one_more);
            prop_assert!(found.iter().all(|v| again.contains(v)), "a later version changes no earlier number");
        }
    }
}
