//! What was erased: which content, when, by whom and why.

use std::collections::HashSet;

use rusqlite::params;
use serde::Serialize;

use super::{Ledger, LedgerError};
use crate::store::{Digest, Store};

/// That something was erased.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Erasure {
    /// The receipt of it.
    pub receipt: Digest,
    /// When, RFC 3339 in UTC.
    pub erased: String,
    /// Who, and where.
    pub by: String,
    /// Why.
    pub because: String,
    /// The dataset whose rows were to be forgotten.
    pub dataset: String,
}

/// An erasing, and what of something it took.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ErasedOf {
    /// The erasing.
    #[serde(flatten)]
    pub erasure: Erasure,
    /// What it took: paths.
    pub what: Vec<String>,
}

impl std::fmt::Display for ErasedOf {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}: {}", self.what.join(", "), self.erasure)
    }
}

impl std::fmt::Display for Erasure {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let day = self.erased.split('T').next().unwrap_or_default();
        write!(f, "erased on {day} by {}: {}", self.by, self.because)
    }
}

fn erasure(r: &rusqlite::Row<'_>) -> rusqlite::Result<Erasure> {
    let receipt = Digest::from_bytes(r.get::<_, [u8; 32]>(0)?);
    Ok(Erasure { receipt, erased: r.get(1)?, by: r.get(2)?, because: r.get(3)?, dataset: r.get(4)? })
}

impl Ledger {
    /// How a content was erased, if it was; the first time, where it was more than once.
    pub fn erased(&self, content: &Digest) -> Result<Option<Erasure>, LedgerError> {
        let sql = "SELECT a.receipt, a.erased, a.by_whom, a.because, a.dataset FROM erasures a JOIN erased e ON e.receipt = a.receipt \
                   WHERE e.digest = ?1 ORDER BY a.erased, a.receipt LIMIT 1";
        Ok(self.rows(sql, params![content.as_bytes()], erasure)?.pop())
    }

    /// How a version that had the rows itself was erased, if this is one.
    pub fn erased_version(&self, content: &Digest) -> Result<Option<Erasure>, LedgerError> {
        let sql = "SELECT a.receipt, a.erased, a.by_whom, a.because, a.dataset FROM erasures a JOIN erased e ON e.receipt = a.receipt \
                   WHERE e.digest = ?1 AND e.source LIMIT 1";
        Ok(self.rows(sql, params![content.as_bytes()], erasure)?.pop())
    }

    /// Which of these contents, each with where it stood, were erased and are not here.
    pub fn erased_of<'c>(
        &self,
        store: &Store,
        contents: impl Iterator<Item = (&'c str, &'c Digest)>,
    ) -> Result<Vec<ErasedOf>, LedgerError> {
        let mut found: Vec<ErasedOf> = Vec::new();
        if self.erasures()?.is_empty() {
            return Ok(found);
        }
        for (path, digest) in contents {
            let Some(erasure) = self.erased(digest)?.filter(|_| !store.contains(digest).unwrap_or(false)) else { continue };
            match found.iter_mut().find(|e| e.erasure.receipt == erasure.receipt) {
                Some(known) if known.what.iter().any(|w| w == path) => {}
                Some(known) => known.what.push(path.to_string()),
                None => found.push(ErasedOf { erasure, what: vec![path.to_string()] }),
            }
        }
        Ok(found)
    }

    /// All that was ever erased, the first first.
    pub fn erasures(&self) -> Result<Vec<Erasure>, LedgerError> {
        self.rows("SELECT receipt, erased, by_whom, because, dataset FROM erasures ORDER BY erased, receipt", &[], erasure)
    }

    /// Every content that a receipt says was erased.
    pub fn erased_by(&self, receipt: &Digest) -> Result<HashSet<Digest>, LedgerError> {
        let sql = "SELECT digest FROM erased WHERE receipt = ?1";
        let all = self.rows(sql, params![receipt.as_bytes()], |r| Ok(Digest::from_bytes(r.get::<_, [u8; 32]>(0)?)))?;
        Ok(all.into_iter().collect())
    }
}
