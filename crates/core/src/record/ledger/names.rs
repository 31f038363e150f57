//! What a person can name: runs by their last part, `last`, `best:METRIC`; digests by their beginning.

use std::collections::HashSet;

use rusqlite::params;

use super::{Ledger, LedgerError};
use crate::config::manifest::{Better, nearest};
use crate::store::{Digest, Store};

/// Why a name stands for nothing.
#[derive(Debug, thiserror::Error)]
pub enum NameError {
    /// Nothing has this name.
    #[error("there is no run `{name}`{}", near.as_ref().map_or(String::new(), |n| format!(": did you mean `{n}`?")))]
    NoRun {
        /// The name given.
        name: String,
        /// The most similar run.
        near: Option<String>,
    },
    /// There are no runs at all.
    #[error("there are no runs yet")]
    NoRuns,
    /// There are fewer runs than counted back.
    #[error("`{name}`: there {} only {count} run{}", if *count == 1 { "is" } else { "are" }, if *count == 1 { "" } else { "s" })]
    TooFar {
        /// The name given.
        name: String,
        /// How many there are.
        count: usize,
    },
    /// No done run has the metric.
    #[error("`{name}`: no finished run has the metric `{metric}`")]
    NoMetric {
        /// The name given.
        name: String,
        /// The metric.
        metric: String,
    },
    /// The manifest does not say which direction is better.
    #[error("`best:{0}`: the manifest does not say whether higher or lower is better")]
    NoDirection(String),
    /// Several things have this name.
    #[error("`{name}` is ambiguous: {}", candidates.join(", "))]
    Ambiguous {
        /// The name given.
        name: String,
        /// What it could be.
        candidates: Vec<String>,
    },
    /// No content with such a digest is known.
    #[error("no content with the digest `{0}` is recorded")]
    NoDigest(String),
    /// A digest takes at least six digits.
    #[error("`{0}` is no digest: it takes `b3:` and at least 6 hex digits")]
    NotADigest(String),
    /// The ledger could not answer.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
}

/// A run and a stage of it, as in `7f3a:fit` or `best:auc:fit:0`: `best:METRIC` has a colon of its own, and so has a stage out
/// of `each`.
pub fn run_and_stage(text: &str) -> (&str, Option<&str>) {
    let from = if text.starts_with("best:") { "best:".len() } else { 0 };
    match text[from..].find(':') {
        Some(at) => (&text[..from + at], Some(&text[from + at + 1..])),
        None => (text, None),
    }
}

/// A new run's id, such as `20261123-0542-7f3a`: time in UTC, and a last part that no other run has, neither
/// one of the ledger nor one of those just `given`. Where runs are `shared` with machines that cannot be asked, it is long
/// enough not to be another's.
pub fn new_run_id(ledger: &Ledger, given: &HashSet<String>, shared: bool) -> Result<String, LedgerError> {
    let now = textum_base::clock::now().strftime("%Y%m%d-%H%M").to_string();
    let lengths = if shared { [8; 7] } else { [4, 4, 4, 5, 5, 6, 8] };
    for digits in lengths {
        let number = rand::random::<u32>() >> (32 - 4 * digits);
        let suffix = format!("{number:0width$x}", width = digits as usize);
        let taken = ledger.rows("SELECT 1 FROM runs WHERE suffix = ?1", params![suffix], |_| Ok(()))?;
        // A last part of digits alone, or with one `e`, reads like a number: take another.
        let reads_like_a_number = suffix.parse::<f64>().is_ok();
        if taken.is_empty() && !reads_like_a_number && !given.contains(&suffix) {
            return Ok(format!("{now}-{suffix}"));
        }
    }
    Ok(format!("{now}-{:016x}", rand::random::<u64>()))
}

/// Whether a text can be the name of a run: one line, and nothing that means something else.
pub fn is_label(text: &str) -> bool {
    let means_else = text.starts_with("last") || text.starts_with("best:") || text.starts_with("b3:");
    !means_else && !text.contains(['#', ':', '@']) && !text.contains(char::is_control)
}

impl Ledger {
    /// The run that a name stands for: its id, the beginning of its last part, `last`, `last~N`,
    /// `best:METRIC`.
    pub fn resolve_run(&self, name: &str, directions: &[(String, Better)]) -> Result<String, NameError> {
        if let Some(metric) = name.strip_prefix("best:") {
            let direction = directions.iter().find(|(n, _)| n == metric);
            let (_, better) = direction.ok_or_else(|| NameError::NoDirection(metric.to_string()))?;
            let best = self.best_run(metric, *better == Better::Higher)?;
            return best.ok_or_else(|| NameError::NoMetric { name: name.into(), metric: metric.into() });
        }
        if let Some(back) = back_from_last(name) {
            let ids = self.run_ids()?;
            let count = ids.len();
            let found = ids.into_iter().nth(back);
            return found.ok_or(if count == 0 { NameError::NoRuns } else { NameError::TooFar { name: name.into(), count } });
        }
        let sql = "SELECT id FROM runs WHERE id = ?1 OR label = ?1";
        let mut found: Vec<String> = self.rows(sql, params![name], |r| r.get(0))?;
        if found.is_empty() {
            let sql = "SELECT id FROM runs WHERE substr(suffix, 1, length(?1)) = ?1 OR substr(id, 1, length(?1)) = ?1 ORDER BY ordered DESC";
            found = self.rows(sql, params![name], |r| r.get(0))?;
        }
        match found.len() {
            1 => Ok(found.remove(0)),
            0 => {
                let ids = self.run_ids()?;
                let suffixes: Vec<&str> = ids.iter().filter_map(|id| id.rsplit('-').next()).collect();
                let near = nearest(name, suffixes).map(str::to_string);
                let name = if name.chars().count() > 80 {
                    format!("{}…", name.chars().take(60).collect::<String>())
                } else {
                    name.into()
                };
                Err(if ids.is_empty() { NameError::NoRuns } else { NameError::NoRun { name, near } })
            }
            _ => Err(NameError::Ambiguous { name: name.into(), candidates: found.into_iter().take(10).collect() }),
        }
    }

    /// The digest that `b3:` and at least six hex digits stand for: content, or a stage key.
    pub fn resolve_digest(&self, name: &str, store: &Store) -> Result<Digest, NameError> {
        let hex = name.strip_prefix("b3:").unwrap_or(name).to_ascii_lowercase();
        if hex.len() < 6 || hex.len() > 64 || !hex.bytes().all(|b| b.is_ascii_hexdigit()) {
            return Err(NameError::NotADigest(name.into()));
        }
        let mut found = store.begin_with(&hex, 11).map_err(LedgerError::from)?;
        let range = |fill: char| Digest::from_hex(&format!("{hex}{}", fill.to_string().repeat(64 - hex.len())));
        if let (true, Some(low), Some(high)) = (found.is_empty(), range('0'), range('f')) {
            // Content that is not stored, but that receipts speak of; and stage keys.
            let sql = "SELECT DISTINCT digest FROM paths WHERE digest BETWEEN ?1 AND ?2 UNION \
                       SELECT DISTINCT key FROM stage_receipts WHERE key BETWEEN ?1 AND ?2 LIMIT 11";
            found = self
                .rows(sql, params![low.as_bytes(), high.as_bytes()], |r| r.get::<_, [u8; 32]>(0))?
                .into_iter()
                .map(Digest::from_bytes)
                .collect();
        }
        match found.len() {
            0 => Err(NameError::NoDigest(name.into())),
            1 => Ok(found[0]),
            _ => {
                let candidates = found.iter().take(10).map(|d| format!("b3:{}…", &d.hex()[..hex.len().clamp(12, 64)])).collect();
                Err(NameError::Ambiguous { name: name.into(), candidates })
            }
        }
    }
}

fn back_from_last(name: &str) -> Option<usize> {
    match name.strip_prefix("last")? {
        "" => Some(0),
        rest => rest.strip_prefix('~')?.parse().ok(),
    }
}

#[cfg(test)]
mod tests {
    use super::run_and_stage;

    #[test]
    fn a_stage_stands_behind_its_run() {
        let cases = [
            ("7f3a", ("7f3a", None)),
            ("7f3a:fit", ("7f3a", Some("fit"))),
            ("7f3a:fit:0:tree", ("7f3a", Some("fit:0:tree"))),
            ("best:auc", ("best:auc", None)),
            ("best:auc:fit:0", ("best:auc", Some("fit:0"))),
        ];
        cases.iter().for_each(|(text, found)| assert_eq!(run_and_stage(text), *found));
    }
}
