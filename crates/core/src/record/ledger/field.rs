//! What runs are told apart by: parameters, metrics, versions of data, packages, and what a run says of itself.

use std::collections::HashMap;

use rusqlite::params;

use super::{Ledger, LedgerError, RunRow};
use crate::config::manifest::nearest;
use crate::store::Digest;
use crate::table::filter::FilterError;

/// Something that runs are told apart by.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Field {
    /// The id.
    Run,
    /// The label.
    Label,
    /// How it ended.
    State,
    /// When it began.
    Started,
    /// Seconds it took.
    Took,
    /// The sweep that it is part of.
    Sweep,
    /// Who ran it, and where.
    By,
    /// A parameter.
    Param(String),
    /// A metric.
    Metric(String),
    /// The version of a dataset.
    Data(String),
    /// The version of a package or interpreter that a stage was seen to use.
    Used(String),
    /// The files of the project that its stages read without declaring them.
    Undeclared,
    /// The places beside this machine where its stages were executed.
    Place,
}

impl Field {
    /// Whether it is only known by asking all runs at once: for conditions and groups, not for columns or an order.
    pub fn is_only_for_conditions(&self) -> bool {
        matches!(self, Field::Used(_) | Field::Undeclared | Field::Place)
    }
}

/// Why a selection means nothing.
#[derive(Debug, thiserror::Error)]
pub enum FieldError {
    /// No run has such a thing.
    #[error("no run has a parameter or metric `{name}`{}", near.as_ref().map_or(String::new(), |n| format!(": did you mean `{n}`?")))]
    Unknown {
        /// The name given.
        name: String,
        /// The most similar known name.
        near: Option<String>,
    },
    /// The condition does not parse or names what is not there.
    #[error("{source}")]
    Filter {
        /// The condition.
        text: String,
        /// What is wrong with it.
        source: FilterError,
    },
    /// The ledger could not answer.
    #[error(transparent)]
    Ledger(#[from] LedgerError),
}

/// The numbers of versions, by the dataset's name and the content.
pub type VersionNumbers = HashMap<(String, Digest), u64>;

impl Ledger {
    /// What a name stands for: `run`, `label`, `state`, `started`, `took`, `sweep`, `by`, `data.NAME`, `used.PACKAGE`,
    /// `undeclared`, `place`, a parameter or a metric. Where a parameter and a metric share a name, `params.NAME` and `metric.NAME` tell them apart.
    pub fn field(&self, name: &str) -> Result<Field, FieldError> {
        let has = |table: &str, name: &str| -> Result<bool, LedgerError> {
            let sql = format!("SELECT 1 FROM {table} WHERE name = ?1 LIMIT 1");
            Ok(!self.rows(&sql, params![name], |_| Ok(()))?.is_empty())
        };
        match name {
            "run" => return Ok(Field::Run),
            "label" => return Ok(Field::Label),
            "state" => return Ok(Field::State),
            "started" => return Ok(Field::Started),
            "took" => return Ok(Field::Took),
            "sweep" => return Ok(Field::Sweep),
            "by" => return Ok(Field::By),
            "undeclared" => return Ok(Field::Undeclared),
            "place" => return Ok(Field::Place),
            _ => {}
        }
        let prefixes = [("data.", "run_data"), ("params.", "run_params"), ("metric.", "run_metrics"), ("used.", "used")];
        for (prefix, table) in prefixes {
            if let Some(rest) = name.strip_prefix(prefix)
                && has(table, rest)?
            {
                let rest = rest.to_string();
                return Ok(match table {
                    "run_data" => Field::Data(rest),
                    "run_params" => Field::Param(rest),
                    "used" => Field::Used(rest),
                    _ => Field::Metric(rest),
                });
            }
        }
        if has("run_metrics", name)? {
            return Ok(Field::Metric(name.to_string()));
        }
        if has("run_params", name)? {
            return Ok(Field::Param(name.to_string()));
        }
        let mut known = self.rows("SELECT DISTINCT name FROM run_params", &[], |r| r.get::<_, String>(0))?;
        known.extend(self.rows("SELECT DISTINCT name FROM run_metrics", &[], |r| r.get::<_, String>(0))?);
        known.extend(self.rows("SELECT DISTINCT 'data.' || name FROM run_data", &[], |r| r.get::<_, String>(0))?);
        known.extend(self.rows("SELECT DISTINCT 'used.' || name FROM used", &[], |r| r.get::<_, String>(0))?);
        known.extend(["run", "label", "state", "started", "took", "sweep", "by", "undeclared", "place"].map(String::from));
        let near = nearest(name, known.iter().map(String::as_str)).map(str::to_string);
        Err(FieldError::Unknown { name: name.to_string(), near })
    }

    /// The values of a field in all runs, as text.
    pub(super) fn values(&self, field: &Field, versions: &VersionNumbers) -> Result<Values, LedgerError> {
        let map = match field {
            Field::Param(name) => self.rows("SELECT run, value FROM run_params WHERE name = ?1", params![name], |r| {
                let text: String = r.get(1)?;
                Ok((r.get(0)?, serde_json::from_str::<String>(&text).unwrap_or(text)))
            })?,
            Field::Metric(name) => self.rows("SELECT run, value FROM run_metrics WHERE name = ?1", params![name], |r| {
                Ok((r.get(0)?, r.get::<_, Option<f64>>(1)?.map_or("NaN".into(), |v| v.to_string())))
            })?,
            Field::Data(name) => self.rows("SELECT run, digest FROM run_data WHERE name = ?1", params![name], |r| {
                let digest = Digest::from_bytes(r.get(1)?);
                let number = versions.get(&(name.clone(), digest));
                Ok((r.get(0)?, number.map_or_else(|| digest.to_string(), |n| format!("{name}@{n}"))))
            })?,
            // Several stages of a run may have used several versions: then all of them, in the order of the stages.
            Field::Used(name) => {
                let sql = "SELECT s.run, u.version FROM used u JOIN stage_receipts r ON r.observed_inputs = u.inputs \
                           JOIN run_stages s ON s.receipt = r.digest WHERE u.name = ?1 ORDER BY s.run, s.position";
                joined(self.rows(sql, params![name], |r| Ok((r.get(0)?, r.get(1)?)))?)
            }
            Field::Undeclared => {
                let sql =
                    "SELECT s.run, u.path FROM undeclared u JOIN run_stages s ON s.receipt = u.receipt ORDER BY s.run, u.path";
                joined(self.rows(sql, &[], |r| Ok((r.get(0)?, r.get(1)?)))?)
            }
            Field::Place => {
                let sql = "SELECT DISTINCT s.run, r.place FROM run_stages s JOIN stage_receipts r ON r.digest = s.receipt \
                           WHERE r.place <> 'local' UNION SELECT id, 'local' FROM runs WHERE NOT EXISTS (SELECT 1 FROM run_stages s \
                           JOIN stage_receipts r ON r.digest = s.receipt WHERE s.run = id AND r.place <> 'local') ORDER BY 1, 2";
                joined(self.rows(sql, &[], |r| Ok((r.get(0)?, r.get(1)?)))?)
            }
            own => return Ok(Values::Own(own.clone())),
        };
        Ok(Values::Map(map.into_iter().collect()))
    }
}

/// The different values of each run in one text.
fn joined(rows: Vec<(String, String)>) -> Vec<(String, String)> {
    let mut all: Vec<(String, Vec<String>)> = Vec::new();
    for (run, value) in rows {
        match all.last_mut().filter(|(last, _)| *last == run) {
            Some((_, values)) if values.contains(&value) => {}
            Some((_, values)) => values.push(value),
            None => all.push((run, vec![value])),
        }
    }
    all.into_iter().map(|(run, values)| (run, values.join(", "))).collect()
}

/// The values of a field: those that a run's row has itself, or by run.
pub(super) enum Values {
    /// Which of its own.
    Own(Field),
    /// By run.
    Map(HashMap<String, String>),
}

impl Values {
    /// The value of a run.
    pub(super) fn of(&self, run: &RunRow) -> String {
        match self {
            Values::Map(map) => map.get(&run.run).cloned().unwrap_or_default(),
            Values::Own(Field::Run) => run.run.clone(),
            Values::Own(Field::Label) => run.label.clone().unwrap_or_default(),
            Values::Own(Field::State) => run.state.clone(),
            Values::Own(Field::Started) => run.started.clone(),
            Values::Own(Field::By) => run.by.clone(),
            Values::Own(Field::Took) => run.seconds.to_string(),
            Values::Own(_) => run.sweep.clone().unwrap_or_default(),
        }
    }
}
