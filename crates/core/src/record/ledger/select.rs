//! The runs that a person asks for: filtered, sorted, grouped by whatever they are told apart by.

use std::collections::{BTreeMap, HashMap};

use rusqlite::params;

use super::field::{Field, FieldError, Values, VersionNumbers};
use super::query::run_row;
use super::{Ledger, LedgerError, RunRow};
use crate::config::manifest::Better;
use crate::record::receipt::{DatasetState, Metric};
use crate::store::Digest;
use crate::table::Row;
use crate::table::filter::{Condition, FilterError, Named};

/// By what runs are sorted.
#[derive(Clone, Debug)]
pub struct SortKey {
    /// By this.
    pub field: Field,
    /// The largest first.
    pub descending: bool,
}

/// Which runs are asked for.
#[derive(Clone, Debug, Default)]
pub struct Selection {
    /// In this order; by time, newest first, when not said.
    pub by: Option<SortKey>,
    /// Only those that meet this: its text, and what it says.
    pub condition: Option<(String, Condition<Named>)>,
    /// Only those of this sweep.
    pub sweep: Option<String>,
    /// So many at most.
    pub most: Option<usize>,
}

/// Runs with one value of a field.
#[derive(Clone, Debug)]
pub struct Group {
    /// The value, as text.
    pub value: String,
    /// The runs.
    pub runs: usize,
    /// Those that were done.
    pub done: usize,
    /// Finite values of the metric among the done ones.
    pub with_metric: usize,
    /// The run with the best value, and that.
    pub best: Option<(String, f64)>,
    /// The worst value.
    pub worst: Option<f64>,
    /// The value in the middle.
    pub median: Option<f64>,
}

const COLUMNS: &str = "r.id, r.receipt, r.started, r.seconds, r.state, r.label, r.sandbox, r.commit_id, r.sweep, r.by_whom";

impl Ledger {
    /// The runs asked for, and how many more there are beyond the limit.
    pub fn select(&self, asked: &Selection, versions: &VersionNumbers) -> Result<(Vec<RunRow>, usize), FieldError> {
        let condition = asked.condition.as_ref().map(|(text, c)| self.place(text, c)).transpose()?;
        // With nothing to be looked at run by run, the limit can be left to SQLite.
        let limit = match (&condition, asked.most) {
            (None, Some(most)) => most as i64,
            _ => -1,
        };
        let mut runs = self.in_order(asked, limit)?;
        let total = match &condition {
            Some(placed) => {
                runs = self.keep(runs, placed, versions)?;
                runs.len()
            }
            None => self.count(asked.sweep.as_deref())?,
        };
        if let Some(most) = asked.most {
            runs.truncate(most);
        }
        self.fill_all(&mut runs)?;
        let shown = runs.len();
        Ok((runs, total.saturating_sub(shown)))
    }

    /// The names of all sweeps, the newest first.
    pub fn sweeps(&self) -> Result<Vec<String>, LedgerError> {
        let sql = "SELECT sweep FROM runs WHERE sweep IS NOT NULL GROUP BY sweep ORDER BY max(ordered) DESC";
        self.rows(sql, &[], |r| r.get(0))
    }

    /// The ids of all runs with the sweeps that they are part of, newest first.
    pub fn ids_and_sweeps(&self) -> Result<Vec<(String, Option<String>)>, LedgerError> {
        self.rows("SELECT id, sweep FROM runs ORDER BY ordered DESC, id DESC", &[], |r| Ok((r.get(0)?, r.get(1)?)))
    }

    fn count(&self, sweep: Option<&str>) -> Result<usize, LedgerError> {
        // Two questions, so that each is answered out of an index.
        let number = |r: &rusqlite::Row<'_>| r.get::<_, i64>(0);
        let found = match sweep {
            Some(sweep) => self.rows("SELECT count(*) FROM runs WHERE sweep = ?1", params![sweep], number)?,
            None => self.rows("SELECT count(*) FROM runs", &[], number)?,
        };
        Ok(found.into_iter().next().unwrap_or(0) as usize)
    }

    /// The runs in the order asked for; those without the value, or with one that is not finite, last.
    fn in_order(&self, asked: &Selection, limit: i64) -> Result<Vec<RunRow>, LedgerError> {
        let newest = "r.ordered DESC, r.id DESC";
        let within = "(?1 IS NULL OR r.sweep = ?1)";
        let Some(key) = &asked.by else {
            let sql = format!("SELECT {COLUMNS} FROM runs r WHERE {within} ORDER BY {newest} LIMIT ?2");
            return self.rows(&sql, params![asked.sweep, limit], run_row);
        };
        let way = if key.descending { "DESC" } else { "ASC" };
        let column = match &key.field {
            Field::Run => "r.id",
            Field::Label => "r.label",
            Field::State => "r.state",
            Field::Started => "r.started",
            Field::Took => "r.seconds",
            Field::Sweep => "r.sweep",
            Field::By => "r.by_whom",
            // Refused by whoever asks; in the order of time all the same.
            Field::Used(_) | Field::Undeclared | Field::Place => "r.ordered",
            Field::Metric(name) => {
                let sql = format!(
                    "SELECT {COLUMNS} FROM run_metrics m CROSS JOIN runs r ON r.id = m.run WHERE m.name = ?3 AND m.value IS NOT NULL \
                     AND abs(m.value) < 9e999 AND {within} ORDER BY m.value {way} LIMIT ?2"
                );
                let mut found = self.rows(&sql, params![asked.sweep, limit, name], run_row)?;
                if limit < 0 || (found.len() as i64) < limit {
                    let sql = format!(
                        "SELECT {COLUMNS} FROM runs r WHERE {within} AND NOT EXISTS (SELECT 1 FROM run_metrics m WHERE m.run = r.id \
                         AND m.name = ?3 AND m.value IS NOT NULL AND abs(m.value) < 9e999) ORDER BY {newest} LIMIT ?2"
                    );
                    let left = if limit < 0 { -1 } else { limit - found.len() as i64 };
                    found.extend(self.rows(&sql, params![asked.sweep, left, name], run_row)?);
                }
                return Ok(found);
            }
            Field::Param(name) => {
                // Values are JSON texts: numbers sort as numbers, all else as text after them.
                let sql = format!(
                    "SELECT {COLUMNS} FROM runs r LEFT JOIN run_params p ON p.run = r.id AND p.name = ?3 WHERE {within} \
                     ORDER BY p.value IS NULL, json_extract(p.value, '$') {way}, {newest} LIMIT ?2"
                );
                return self.rows(&sql, params![asked.sweep, limit, name], run_row);
            }
            Field::Data(name) => {
                let sql = format!(
                    "SELECT {COLUMNS} FROM runs r LEFT JOIN run_data d ON d.run = r.id AND d.name = ?3 LEFT JOIN (SELECT digest, \
                     min(number) AS number FROM data_receipts WHERE name = ?3 GROUP BY digest) v ON v.digest = d.digest WHERE {within} \
                     ORDER BY v.number IS NULL, v.number {way}, {newest} LIMIT ?2"
                );
                return self.rows(&sql, params![asked.sweep, limit, name], run_row);
            }
        };
        let sql =
            format!("SELECT {COLUMNS} FROM runs r WHERE {within} ORDER BY {column} IS NULL, {column} {way}, {newest} LIMIT ?2");
        self.rows(&sql, params![asked.sweep, limit], run_row)
    }

    /// The fields that a condition names, and the condition over them. A bare word on the right of a test
    /// that is no field is a text: `state = done`.
    fn place(&self, text: &str, condition: &Condition<Named>) -> Result<(Vec<Field>, Condition<usize>), FieldError> {
        let wrong = |source: FilterError| FieldError::Filter { text: text.to_string(), source };
        let condition = condition.with_words_as_texts(&|name| self.field(name).is_ok());
        let mut names = Vec::new();
        condition.names(&mut names);
        let mut fields = Vec::new();
        for named in &names {
            let field = self.field(&named.name).map_err(|e| match e {
                FieldError::Unknown { name, near } => {
                    let help =
                        near.map_or("`textum runs --all` shows what there is".to_string(), |n| format!("did you mean `{n}`?"));
                    wrong(FilterError { at: named.at.clone(), what: format!("no run has a parameter or metric `{name}`"), help })
                }
                other => other,
            })?;
            fields.push(field);
        }
        let columns: Vec<String> = names.into_iter().map(|n| n.name).collect();
        Ok((fields, condition.for_columns(&columns).map_err(wrong)?))
    }

    fn keep(
        &self,
        runs: Vec<RunRow>,
        (fields, condition): &(Vec<Field>, Condition<usize>),
        versions: &VersionNumbers,
    ) -> Result<Vec<RunRow>, LedgerError> {
        let columns: Vec<Values> = fields.iter().map(|f| self.values(f, versions)).collect::<Result<_, _>>()?;
        let mut row = Row::default();
        let mut kept = Vec::new();
        for run in runs {
            row.clear();
            columns.iter().for_each(|values| row.push(values.of(&run).as_bytes()));
            if condition.holds(&row) {
                kept.push(run);
            }
        }
        Ok(kept)
    }

    /// The selected runs by the values of a field, each group with what a metric was in it.
    pub fn groups(
        &self,
        runs: &[RunRow],
        field: &Field,
        metric: Option<(&str, Better)>,
        versions: &VersionNumbers,
    ) -> Result<Vec<Group>, LedgerError> {
        let values = self.values(field, versions)?;
        let mut found: Vec<(String, Vec<&RunRow>)> = Vec::new();
        let mut place: HashMap<String, usize> = HashMap::new();
        for run in runs {
            let value = values.of(run);
            let at = *place.entry(value.clone()).or_insert_with(|| {
                found.push((value, Vec::new()));
                found.len() - 1
            });
            found[at].1.push(run);
        }
        let number = |text: &str| text.parse::<f64>().ok();
        found.sort_by(|a, b| match (number(&a.0), number(&b.0)) {
            (Some(x), Some(y)) => x.total_cmp(&y),
            _ => a.0.cmp(&b.0),
        });
        let group = |(value, runs): (String, Vec<&RunRow>)| {
            let of = |run: &RunRow| {
                let (name, _) = metric?;
                run.metrics.iter().find(|(n, _)| n == name).map(|(_, m)| m.0).filter(|v| v.is_finite())
            };
            let done: Vec<&&RunRow> = runs.iter().filter(|r| r.state == "done").collect();
            let mut with: Vec<(&str, f64)> = done.iter().filter_map(|r| Some((r.run.as_str(), of(r)?))).collect();
            with.sort_by(|a, b| a.1.total_cmp(&b.1));
            if metric.is_some_and(|(_, b)| b == Better::Higher) {
                with.reverse();
            }
            let middle = with.len() / 2;
            Group {
                value,
                runs: runs.len(),
                done: done.len(),
                with_metric: with.len(),
                best: with.first().map(|(run, v)| ((*run).to_string(), *v)),
                worst: with.last().map(|(_, v)| *v),
                median: match with.len() {
                    0 => None,
                    n if n % 2 == 1 => Some(with[middle].1),
                    _ => Some((with[middle - 1].1 + with[middle].1) / 2.0),
                },
            }
        };
        Ok(found.into_iter().map(group).collect())
    }

    /// A done run of a sweep whose stages have just these keys; the newest of several.
    pub fn run_with_keys(&self, sweep: &str, keys: &[(String, Digest)]) -> Result<Option<String>, LedgerError> {
        let Some((stage, key)) = keys.last() else { return Ok(None) };
        let sql = "SELECT r.id FROM run_stages s JOIN runs r ON r.id = s.run WHERE s.key = ?1 AND s.stage = ?2 AND r.sweep = ?3 \
                   AND r.state = 'done' ORDER BY r.ordered DESC, r.id DESC";
        for run in self.rows(sql, params![key.as_bytes(), stage, sweep], |r| r.get::<_, String>(0))? {
            let sql = "SELECT stage, key FROM run_stages WHERE run = ?1 ORDER BY position";
            let mut has =
                self.rows(sql, params![run], |r| Ok((r.get(0)?, r.get::<_, Option<[u8; 32]>>(1)?.map(Digest::from_bytes))))?;
            let mut wanted: Vec<(String, Option<Digest>)> = keys.iter().map(|(s, k)| (s.clone(), Some(*k))).collect();
            has.sort();
            wanted.sort();
            if has == wanted {
                return Ok(Some(run));
            }
        }
        Ok(None)
    }

    /// The newest run that has just these results, by stage; one with the same states of datasets before others.
    pub fn run_with_results(
        &self,
        results: &[(&str, Digest)],
        data: &BTreeMap<String, DatasetState>,
    ) -> Result<Option<String>, LedgerError> {
        let Some((stage, receipt)) = results.last() else { return Ok(None) };
        let sql = "SELECT r.id FROM run_stages s JOIN runs r ON r.id = s.run WHERE s.receipt = ?1 AND s.stage = ?2 \
                   ORDER BY r.ordered DESC, r.id DESC";
        let mut fitting = None;
        for run in self.rows(sql, params![receipt.as_bytes(), stage], |r| r.get::<_, String>(0))? {
            let sql = "SELECT stage, receipt FROM run_stages WHERE run = ?1 AND receipt IS NOT NULL";
            let has = self.rows(sql, params![run], |r| Ok((r.get::<_, String>(0)?, Digest::from_bytes(r.get(1)?))))?;
            if !results.iter().all(|(s, d)| has.iter().any(|(stage, receipt)| stage == s && receipt == d)) {
                continue;
            }
            let sql = "SELECT name, digest FROM run_data WHERE run = ?1";
            let states = self.rows(sql, params![run], |r| Ok((r.get::<_, String>(0)?, Digest::from_bytes(r.get(1)?))))?;
            if states.iter().all(|(name, digest)| data.get(name).is_none_or(|d| d.content.digest == *digest)) {
                return Ok(Some(run));
            }
            fitting.get_or_insert(run);
        }
        Ok(fitting)
    }
}

/// A metric of a run, by name.
pub fn metric_of(run: &RunRow, name: &str) -> Option<Metric> {
    run.metrics.iter().find(|(n, _)| n == name).map(|(_, m)| *m)
}
