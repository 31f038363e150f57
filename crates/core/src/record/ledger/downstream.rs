//! What was made of something: the questions that go from inputs to results.

use std::collections::HashSet;

use rusqlite::params;

use super::{Ledger, LedgerError};
use crate::store::Digest;

fn digest(row: &rusqlite::Row<'_>, column: usize) -> rusqlite::Result<Digest> {
    Ok(Digest::from_bytes(row.get::<_, [u8; 32]>(column)?))
}

/// An execution, and the run that it was part of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExecutionRow {
    /// Its receipt.
    pub receipt: Digest,
    /// The run.
    pub run: String,
    /// The stage.
    pub stage: String,
}

fn execution(row: &rusqlite::Row<'_>) -> rusqlite::Result<ExecutionRow> {
    Ok(ExecutionRow { receipt: digest(row, 0)?, run: row.get(1)?, stage: row.get(2)? })
}

/// More questions than this, one by one, cost more than going through all rows once.
const MANY: usize = 500;

impl Ledger {
    /// Rows of which the first column is one of these digests. `sql` has `{}` where the condition goes.
    fn among<T>(
        &self,
        digests: &HashSet<Digest>,
        (sql, column): (&str, &str),
        mut row: impl FnMut(&rusqlite::Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>, LedgerError> {
        if digests.len() > MANY {
            let sql = sql.replace("{}", "1");
            let all = self.rows(&sql, &[], |r| digests.contains(&digest(r, 0)?).then(|| row(r)).transpose())?;
            return Ok(all.into_iter().flatten().collect());
        }
        let sql = sql.replace("{}", &format!("{column} = ?1"));
        let mut found = Vec::new();
        for one in digests {
            found.extend(self.rows(&sql, params![one.as_bytes()], &mut row)?);
        }
        Ok(found)
    }

    /// The executions that read one of these contents: the content, and the receipt.
    pub fn readers_of(&self, contents: &HashSet<Digest>) -> Result<Vec<(Digest, Digest)>, LedgerError> {
        let sql = "SELECT digest, receipt FROM paths WHERE {} AND role = 'read'";
        self.among(contents, (sql, "digest"), |r| Ok((digest(r, 0)?, digest(r, 1)?)))
    }

    /// What executions brought forth: contents, and whether each is a folder.
    pub fn made_by(&self, receipts: &HashSet<Digest>) -> Result<Vec<(Digest, bool)>, LedgerError> {
        let sql = "SELECT receipt, digest, kind FROM paths WHERE {} AND role = 'write'";
        self.among(receipts, (sql, "receipt"), |r| Ok((digest(r, 1)?, r.get_ref(2)?.as_str()? == "folder")))
    }

    /// The executions with these receipts.
    pub fn executions(&self, receipts: &HashSet<Digest>) -> Result<Vec<ExecutionRow>, LedgerError> {
        self.among(receipts, ("SELECT digest, run, stage FROM stage_receipts WHERE {}", "digest"), execution)
    }

    /// The runs that have the result of one of these executions, and which.
    pub fn runs_with_results(&self, receipts: &HashSet<Digest>) -> Result<Vec<(Digest, String)>, LedgerError> {
        let sql = "SELECT receipt, run FROM run_stages WHERE {} AND receipt IS NOT NULL";
        self.among(receipts, (sql, "receipt"), |r| Ok((digest(r, 0)?, r.get(1)?)))
    }

    /// Whether any stage has kept a checkpoint.
    pub fn has_checkpoints(&self) -> Result<bool, LedgerError> {
        Ok(!self.rows("SELECT 1 FROM checkpoints LIMIT 1", &[], |_| Ok(()))?.is_empty())
    }

    /// The executions that read a file of this path without declaring it, with the documents of what they read.
    pub fn undeclared_readers(&self) -> Result<Vec<(Digest, Digest)>, LedgerError> {
        let sql = "SELECT digest, observed_inputs FROM stage_receipts \
                   WHERE observed_inputs IS NOT NULL AND digest IN (SELECT receipt FROM undeclared)";
        self.rows(sql, &[], |r| Ok((digest(r, 0)?, digest(r, 1)?)))
    }

    /// The executions that used a package, in this version if one is named.
    pub fn users_of_package(&self, name: &str, version: Option<&str>) -> Result<Vec<Digest>, LedgerError> {
        let sql = "SELECT s.digest FROM stage_receipts s JOIN used u ON u.inputs = s.observed_inputs \
                   WHERE u.name = ?1 AND (?2 IS NULL OR u.version = ?2)";
        self.rows(sql, params![name, version], |r| digest(r, 0))
    }

    /// The runs with this value of a parameter, as JSON text.
    pub fn runs_with_param(&self, name: &str, value: &str) -> Result<Vec<String>, LedgerError> {
        self.rows("SELECT run FROM run_params WHERE name = ?1 AND value = ?2", params![name, value], |r| r.get(0))
    }

    /// The executions whose results a run has, those of earlier runs among them.
    pub fn results_in(&self, run: &str) -> Result<Vec<Digest>, LedgerError> {
        self.rows("SELECT receipt FROM run_stages WHERE run = ?1 AND receipt IS NOT NULL", params![run], |r| digest(r, 0))
    }

    /// An execution by its receipt.
    pub fn execution(&self, receipt: &Digest) -> Result<Option<ExecutionRow>, LedgerError> {
        let sql = "SELECT digest, run, stage FROM stage_receipts WHERE digest = ?1";
        Ok(self.rows(sql, params![receipt.as_bytes()], execution)?.pop())
    }

    /// Contents that a stage of a run kept as checkpoints.
    pub fn checkpoint_contents(&self, run: &str, stage: &str) -> Result<Vec<Digest>, LedgerError> {
        self.rows("SELECT digest FROM checkpoints WHERE run = ?1 AND stage = ?2", params![run, stage], |r| digest(r, 0))
    }

    /// The executions of stages that keep checkpoints: they may have gone on from one.
    pub fn executions_with_checkpoints(&self) -> Result<Vec<Digest>, LedgerError> {
        let sql = "SELECT digest FROM stage_receipts WHERE stage IN (SELECT DISTINCT stage FROM checkpoints)";
        self.rows(sql, &[], |r| digest(r, 0))
    }

    /// The versions of datasets with one of these contents: name and number.
    pub fn versions_with(&self, contents: &HashSet<Digest>) -> Result<Vec<(String, u64)>, LedgerError> {
        let sql = "SELECT DISTINCT name, number, digest FROM data_receipts ORDER BY name, number";
        let all = self.rows(sql, &[], |r| Ok((r.get::<_, String>(0)?, r.get::<_, i64>(1)? as u64, digest(r, 2)?)))?;
        Ok(all.into_iter().filter(|(_, _, d)| contents.contains(d)).map(|(name, number, _)| (name, number)).collect())
    }
}
