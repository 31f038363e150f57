//! Questions to the ledger.

use std::collections::{HashMap, HashSet};

use rusqlite::{Row, ToSql, params};

use super::{Ledger, LedgerError};
use crate::record::receipt::{Content, Metric, PathContent};
use crate::store::Digest;
use textum_base::{ProjectPath, SourcePath};

/// For how many seconds any of these runs was at work: each began (RFC 3339) and took so many seconds, and some side by side.
pub fn seconds_at_work<'r>(runs: impl Iterator<Item = &'r RunRow>) -> f64 {
    let at = |run: &RunRow| Some((run.started.parse::<jiff::Timestamp>().ok()?.as_duration().as_secs_f64(), run.seconds.max(0.0)));
    let mut all: Vec<(f64, f64)> = runs.filter_map(at).collect();
    all.sort_by(|a, b| a.0.total_cmp(&b.0));
    let add = |(sum, until): (f64, f64), (from, took): (f64, f64)| {
        let to = from + took;
        if to <= until { (sum, until) } else { (sum + to - from.max(until), to) }
    };
    all.into_iter().fold((0.0, f64::MIN), add).0
}

/// A run, as the list of runs shows it.
#[derive(Clone, Debug)]
pub struct RunRow {
    /// The run's id.
    pub run: String,
    /// Its receipt.
    pub receipt: Digest,
    /// When it began, RFC 3339 in UTC.
    pub started: String,
    /// How long it took.
    pub seconds: f64,
    /// `done`, `failed`, `stopped` or `interrupted`.
    pub state: String,
    /// A name given by a person.
    pub label: Option<String>,
    /// Whether it worked in a sandbox.
    pub sandbox: bool,
    /// The git commit.
    pub commit: Option<String>,
    /// The sweep that it is part of.
    pub sweep: Option<String>,
    /// Who ran it, and where: `NAME@HOST`.
    pub by: String,
    /// Every parameter's JSON text.
    pub params: Vec<(String, String)>,
    /// Every metric.
    pub metrics: Vec<(String, Metric)>,
    /// Every dataset's digest.
    pub data: Vec<(String, Digest)>,
}

/// An execution of a stage.
#[derive(Clone, Debug)]
pub struct StageRow {
    /// Its receipt.
    pub receipt: Digest,
    /// The run that it was part of.
    pub run: String,
    /// The stage.
    pub stage: String,
    /// How long it took.
    pub seconds: f64,
}

/// A done execution, as it is asked for by its key.
#[derive(Clone, Debug)]
pub struct ResultRow {
    /// Its receipt.
    pub receipt: Digest,
    /// The run that it was part of.
    pub run: String,
    /// Whether it has metrics.
    pub has_metrics: bool,
    /// `yes`, `part`, `away`, `no`, `off` or `trusted`; none for what was recorded before stages were observed.
    pub observed: Option<String>,
    /// The document of its observed inputs.
    pub observed_inputs: Option<Digest>,
    /// The record of its whole environment.
    pub environment: Option<Digest>,
    /// The machine that it was executed on.
    pub host: String,
    /// Whether it was sealed.
    pub sealed: bool,
}

/// A content that an execution read, wrote or left behind.
#[derive(Clone, Debug)]
pub struct PathRow {
    /// The stage receipt.
    pub receipt: Digest,
    /// `read`, `write` or `left`.
    pub role: String,
    /// The path.
    pub path: String,
    /// `file`, `exec` or `folder`.
    pub kind: String,
    /// The digest.
    pub digest: Digest,
}

/// A rebuild of a run.
#[derive(Clone, Debug)]
pub struct RebuildRow {
    /// Its receipt.
    pub receipt: Digest,
    /// What was asked for.
    pub target: String,
    /// When, RFC 3339 in UTC.
    pub started: String,
    /// The verdict.
    pub verdict: String,
    /// Who, and where.
    pub by: String,
}

fn digest(row: &Row<'_>, column: usize) -> rusqlite::Result<Digest> {
    Ok(Digest::from_bytes(row.get::<_, [u8; 32]>(column)?))
}

impl Ledger {
    pub(super) fn rows<T>(
        &self,
        sql: &str,
        args: &[&dyn ToSql],
        make: impl FnMut(&Row<'_>) -> rusqlite::Result<T>,
    ) -> Result<Vec<T>, LedgerError> {
        let db = self.db.borrow();
        let read = || -> rusqlite::Result<Vec<T>> {
            let mut statement = db.prepare_cached(sql)?;
            let rows = statement.query_map(args, make)?;
            rows.collect()
        };
        read().map_err(|e| self.failed(e))
    }

    /// The newest done execution with this key.
    pub fn result_of(&self, key: &Digest) -> Result<Option<Digest>, LedgerError> {
        let sql = "SELECT digest FROM stage_receipts WHERE key = ?1 AND state = 'done' ORDER BY ordered DESC, digest LIMIT 1";
        Ok(self.rows(sql, params![key.as_bytes()], |r| digest(r, 0))?.pop())
    }

    /// The done executions with this key, newest first.
    pub fn results_of(&self, key: &Digest) -> Result<Vec<ResultRow>, LedgerError> {
        let sql = "SELECT digest, run, metrics > 0, observed, observed_inputs, environment, host, sealed FROM stage_receipts \
                   WHERE key = ?1 AND state = 'done' ORDER BY ordered DESC, digest";
        self.rows(sql, params![key.as_bytes()], |r| {
            let optional = |column| Ok::<_, rusqlite::Error>(r.get::<_, Option<[u8; 32]>>(column)?.map(Digest::from_bytes));
            Ok(ResultRow {
                receipt: digest(r, 0)?,
                run: r.get(1)?,
                has_metrics: r.get(2)?,
                observed: r.get(3)?,
                observed_inputs: optional(4)?,
                environment: optional(5)?,
                host: r.get(6)?,
                sealed: r.get(7)?,
            })
        })
    }

    /// What an execution brought forth, sorted by path.
    pub fn outputs_of(&self, receipt: &Digest) -> Result<Vec<PathContent>, LedgerError> {
        let sql = "SELECT path, kind, digest, size, files, private FROM paths WHERE receipt = ?1 AND role = 'write' ORDER BY path";
        self.rows(sql, params![receipt.as_bytes()], |r| {
            let kind = super::datasets::kind_of(r.get_ref(1)?.as_str()?);
            let files = r.get::<_, Option<i64>>(4)?.map(|n| n as u64);
            let private = super::datasets::private_of(r.get(5)?);
            let content = Content { kind, files, private, ..Content::file(digest(r, 2)?, r.get::<_, i64>(3)? as u64) };
            Ok(PathContent { path: project_path(r, 0)?, content })
        })
    }

    /// The newest done execution of a stage.
    pub fn last_done(&self, stage: &str) -> Result<Option<StageRow>, LedgerError> {
        let sql = "SELECT digest, run, stage, seconds FROM stage_receipts WHERE stage = ?1 AND state = 'done' ORDER BY ordered DESC, digest LIMIT 1";
        Ok(self.rows(sql, params![stage], stage_row)?.pop())
    }

    /// How long the newest done execution of a stage took at a place, in seconds.
    pub fn last_seconds_at(&self, stage: &str, place: &str) -> Result<Option<f64>, LedgerError> {
        let sql = "SELECT seconds FROM stage_receipts WHERE stage = ?1 AND state = 'done' AND place = ?2 ORDER BY ordered DESC, digest LIMIT 1";
        Ok(self.rows(sql, params![stage, place], |r| r.get(0))?.pop())
    }

    /// Whether any execution read anything without declaring it: nothing need be asked of each stage where none did.
    pub fn has_undeclared(&self) -> Result<bool, LedgerError> {
        Ok(!self.rows("SELECT 1 FROM undeclared LIMIT 1", &[], |_| Ok(()))?.is_empty())
    }

    /// What the newest done execution of a stage read without declaring it.
    pub fn last_undeclared(&self, stage: &str) -> Result<Vec<String>, LedgerError> {
        let sql = "SELECT u.path FROM undeclared u WHERE u.receipt = (SELECT digest FROM stage_receipts \
                   WHERE stage = ?1 AND state = 'done' ORDER BY ordered DESC, digest LIMIT 1) ORDER BY u.path";
        self.rows(sql, params![stage], |r| r.get(0))
    }

    /// The executions that were part of a run, oldest first.
    pub fn executed_in(&self, run: &str) -> Result<Vec<StageRow>, LedgerError> {
        let sql = "SELECT digest, run, stage, seconds FROM stage_receipts WHERE run = ?1 ORDER BY ordered, digest";
        self.rows(sql, params![run], stage_row)
    }

    /// Where a content was read, written or left behind; newest execution first.
    pub fn places_of(&self, content: &Digest) -> Result<Vec<PathRow>, LedgerError> {
        let sql = "SELECT p.receipt, p.role, p.path, p.kind, p.digest FROM paths p JOIN stage_receipts s ON s.digest = p.receipt \
                   WHERE p.digest = ?1 ORDER BY s.ordered DESC, p.receipt, p.path";
        self.rows(sql, params![content.as_bytes()], |r| {
            Ok(PathRow { receipt: digest(r, 0)?, role: r.get(1)?, path: r.get(2)?, kind: r.get(3)?, digest: digest(r, 4)? })
        })
    }

    /// Whether a stage that did not finish left this content behind: Textum's, though not recorded.
    pub fn was_left(&self, content: &Digest) -> Result<bool, LedgerError> {
        let sql = "SELECT 1 FROM paths WHERE digest = ?1 AND role IN ('left', 'write') LIMIT 1";
        Ok(!self.rows(sql, params![content.as_bytes()], |_| Ok(()))?.is_empty())
    }

    /// All folders ever read or written, newest first, each once.
    pub fn folders(&self) -> Result<Vec<Digest>, LedgerError> {
        let sql = "SELECT p.digest FROM paths p JOIN stage_receipts s ON s.digest = p.receipt WHERE p.kind = 'folder' \
                   GROUP BY p.digest ORDER BY max(s.ordered) DESC";
        self.rows(sql, &[], |r| digest(r, 0))
    }

    /// All documents there are, with their types.
    pub fn all_documents(&self) -> Result<Vec<(Digest, String)>, LedgerError> {
        self.rows("SELECT digest, type FROM documents ORDER BY digest", &[], |r| Ok((digest(r, 0)?, r.get(1)?)))
    }

    /// The run that a document is about, if it is the receipt of a run, an execution or a checkpoint.
    pub fn run_of_document(&self, document: &Digest) -> Result<Option<String>, LedgerError> {
        let sql = "SELECT id FROM runs WHERE receipt = ?1 UNION SELECT run FROM stage_receipts WHERE digest = ?1 \
                   UNION SELECT run FROM checkpoints WHERE receipt = ?1";
        Ok(self.rows(sql, params![document.as_bytes()], |r| r.get(0))?.pop())
    }

    /// The ids of all runs, newest first.
    pub fn run_ids(&self) -> Result<Vec<String>, LedgerError> {
        self.rows("SELECT id FROM runs ORDER BY ordered DESC, id DESC", &[], |r| r.get(0))
    }

    /// When the newest run, and the newest execution, sort as begun.
    pub fn newest_times(&self) -> Result<Option<String>, LedgerError> {
        let sql = "SELECT max(t) FROM (SELECT max(ordered) AS t FROM runs UNION ALL SELECT max(ordered) FROM stage_receipts)";
        Ok(self.rows(sql, &[], |r| r.get(0))?.pop().flatten())
    }

    /// The receipts of the newest runs, newest first.
    pub fn newest_run_receipts(&self, most: usize) -> Result<Vec<Digest>, LedgerError> {
        self.rows("SELECT receipt FROM runs ORDER BY ordered DESC, id DESC LIMIT ?1", params![most as i64], |r| digest(r, 0))
    }

    /// The newest run that was done in the working tree.
    pub fn last_done_run(&self) -> Result<Option<String>, LedgerError> {
        let sql = "SELECT id FROM runs WHERE state = 'done' AND NOT sandbox ORDER BY ordered DESC, id DESC LIMIT 1";
        Ok(self.rows(sql, &[], |r| r.get(0))?.pop())
    }

    /// The newest run that ended in one of two ways, before a run if one is given.
    pub fn newest_that(&self, states: [&str; 2], before: Option<&str>) -> Result<Option<String>, LedgerError> {
        let sql = "SELECT id FROM runs WHERE state IN (?1, ?2) AND (?3 IS NULL OR ordered < (SELECT ordered FROM runs WHERE id = ?3)) ORDER BY ordered DESC, id DESC LIMIT 1";
        Ok(self.rows(sql, params![states[0], states[1], before], |r| r.get(0))?.pop())
    }

    /// The newest runs, newest first; all of them when `most` is `None`.
    pub fn runs(&self, most: Option<usize>) -> Result<Vec<RunRow>, LedgerError> {
        let limit = most.map_or(-1, |n| n as i64);
        let sql = "SELECT id, receipt, started, seconds, state, label, sandbox, commit_id, sweep, by_whom FROM runs ORDER BY ordered DESC, id DESC LIMIT ?1";
        let mut runs = self.rows(sql, params![limit], run_row)?;
        self.fill_all(&mut runs)?;
        Ok(runs)
    }

    /// A run by its full id.
    pub fn run(&self, id: &str) -> Result<Option<RunRow>, LedgerError> {
        let sql = "SELECT id, receipt, started, seconds, state, label, sandbox, commit_id, sweep, by_whom FROM runs WHERE id = ?1";
        let Some(mut run) = self.rows(sql, params![id], run_row)?.pop() else { return Ok(None) };
        self.fill(&mut run)?;
        Ok(Some(run))
    }

    /// Fills in what runs have; of many at once, in three questions rather than three for each.
    pub(super) fn fill_all(&self, runs: &mut [RunRow]) -> Result<(), LedgerError> {
        const MANY: usize = 64;
        if runs.len() <= MANY {
            return runs.iter_mut().try_for_each(|run| self.fill(run));
        }
        let place: HashMap<String, usize> = runs.iter().enumerate().map(|(at, r)| (r.run.clone(), at)).collect();
        let of = |r: &Row<'_>| -> rusqlite::Result<Option<usize>> { Ok(place.get(r.get_ref(0)?.as_str()?).copied()) };
        self.rows("SELECT run, name, value FROM run_params ORDER BY run, name", &[], |r| {
            if let Some(at) = of(r)? {
                runs[at].params.push((r.get(1)?, r.get(2)?));
            }
            Ok(())
        })?;
        self.rows("SELECT run, name, value FROM run_metrics ORDER BY run, name", &[], |r| {
            if let Some(at) = of(r)? {
                runs[at].metrics.push((r.get(1)?, Metric(r.get::<_, Option<f64>>(2)?.unwrap_or(f64::NAN))));
            }
            Ok(())
        })?;
        self.rows("SELECT run, name, digest FROM run_data ORDER BY run, name", &[], |r| {
            if let Some(at) = of(r)? {
                runs[at].data.push((r.get(1)?, digest(r, 2)?));
            }
            Ok(())
        })?;
        Ok(())
    }

    /// The runs with these ids, newest first.
    pub fn runs_with(&self, ids: &HashSet<String>) -> Result<Vec<RunRow>, LedgerError> {
        let sql = "SELECT id, receipt, started, seconds, state, label, sandbox, commit_id, sweep, by_whom FROM runs ORDER BY ordered DESC, id DESC";
        let mut runs = self.rows(sql, &[], run_row)?;
        runs.retain(|r| ids.contains(&r.run));
        self.fill_all(&mut runs)?;
        Ok(runs)
    }

    pub(super) fn fill(&self, run: &mut RunRow) -> Result<(), LedgerError> {
        let id = params![run.run];
        run.params = self.rows("SELECT name, value FROM run_params WHERE run = ?1", id, |r| Ok((r.get(0)?, r.get(1)?)))?;
        run.metrics = self.rows("SELECT name, value FROM run_metrics WHERE run = ?1", id, |r| {
            Ok((r.get(0)?, Metric(r.get::<_, Option<f64>>(1)?.unwrap_or(f64::NAN))))
        })?;
        run.data = self.rows("SELECT name, digest FROM run_data WHERE run = ?1", id, |r| Ok((r.get(0)?, digest(r, 1)?)))?;
        Ok(())
    }

    /// The run in which a metric was best among done runs; of several, the newest.
    pub fn best_run(&self, metric: &str, higher: bool) -> Result<Option<String>, LedgerError> {
        let direction = if higher { "DESC" } else { "ASC" };
        let sql = format!(
            "SELECT m.run FROM run_metrics m JOIN runs r ON r.id = m.run WHERE m.name = ?1 AND m.value IS NOT NULL \
             AND abs(m.value) < 9e999 AND r.state = 'done' ORDER BY m.value {direction}, r.ordered DESC LIMIT 1"
        );
        Ok(self.rows(&sql, params![metric], |r| r.get(0))?.pop())
    }

    /// The rebuilds of a run, oldest first.
    pub fn rebuilds_of(&self, run: &str) -> Result<Vec<RebuildRow>, LedgerError> {
        let sql = "SELECT receipt, target, started, verdict, by_whom FROM rebuilds WHERE run = ?1 ORDER BY started, receipt";
        self.rows(sql, params![run], |r| {
            Ok(RebuildRow { receipt: digest(r, 0)?, target: r.get(1)?, started: r.get(2)?, verdict: r.get(3)?, by: r.get(4)? })
        })
    }
}

/// A path that the ledger says: it is held against the same rules as one of a receipt.
pub(super) fn project_path(row: &Row<'_>, column: usize) -> rusqlite::Result<ProjectPath> {
    let failed = |fault| rusqlite::Error::FromSqlConversionFailure(column, rusqlite::types::Type::Text, Box::new(fault));
    ProjectPath::new(row.get_ref(column)?.as_str()?).map_err(failed)
}

/// As [`project_path`], for what may be a reference.
pub(super) fn source_path(row: &Row<'_>, column: usize) -> rusqlite::Result<SourcePath> {
    let failed = |fault| rusqlite::Error::FromSqlConversionFailure(column, rusqlite::types::Type::Text, Box::new(fault));
    SourcePath::new(row.get_ref(column)?.as_str()?).map_err(failed)
}

fn stage_row(r: &Row<'_>) -> rusqlite::Result<StageRow> {
    Ok(StageRow { receipt: digest(r, 0)?, run: r.get(1)?, stage: r.get(2)?, seconds: r.get(3)? })
}

pub(super) fn run_row(r: &Row<'_>) -> rusqlite::Result<RunRow> {
    Ok(RunRow {
        run: r.get(0)?,
        receipt: digest(r, 1)?,
        started: r.get(2)?,
        seconds: r.get(3)?,
        state: r.get(4)?,
        label: r.get(5)?,
        sandbox: r.get(6)?,
        commit: r.get(7)?,
        sweep: r.get(8)?,
        by: r.get(9)?,
        params: Vec::new(),
        metrics: Vec::new(),
        data: Vec::new(),
    })
}
