//! Questions about datasets: their recorded states, and the runs that used them.

use rusqlite::{Row, params};

use super::{Ledger, LedgerError};
use crate::record::receipt::{Content, ContentKind, Private, StorageMode};
use crate::store::Digest;
use textum_base::SourcePath;

/// A data receipt.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DataRow {
    /// Its digest.
    pub receipt: Digest,
    /// The dataset's name.
    pub name: String,
    /// The number that it claims.
    pub number: u64,
    /// The dataset's path then.
    pub path: SourcePath,
    /// What stood there.
    pub content: Content,
    /// How it is kept.
    pub hold: StorageMode,
    /// Of a table: its rows.
    pub rows: Option<u64>,
    /// When, RFC 3339 in UTC.
    pub recorded: String,
    /// Who recorded it, and where.
    pub by: String,
    /// Words given by a person.
    pub note: Option<String>,
}

/// A run that used a state of a dataset.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DatasetUse {
    /// The run's id.
    pub run: String,
    /// When it began, RFC 3339 in UTC.
    pub started: String,
    /// How it ended.
    pub state: String,
    /// The state's digest.
    pub digest: Digest,
    /// Whether a stage of the run read the dataset or something in it.
    pub read: bool,
}

/// The kind with this word.
pub(super) fn kind_of(word: &str) -> ContentKind {
    match word {
        "folder" => ContentKind::Folder,
        "exec" => ContentKind::Exec,
        _ => ContentKind::File,
    }
}

/// Which files are private, as the ledger keeps it.
pub(super) fn private_of(text: Option<String>) -> Private {
    text.and_then(|t| serde_json::from_str(&t).ok()).unwrap_or_default()
}

fn data_row(r: &Row<'_>) -> rusqlite::Result<DataRow> {
    let digest = |column: usize| r.get::<_, [u8; 32]>(column).map(Digest::from_bytes);
    let number = |column: usize| Ok::<_, rusqlite::Error>(r.get::<_, Option<i64>>(column)?.map(|n| n as u64));
    Ok(DataRow {
        receipt: digest(0)?,
        name: r.get(1)?,
        number: number(2)?.unwrap_or(0),
        path: super::query::source_path(r, 3)?,
        content: Content {
            kind: kind_of(r.get_ref(4)?.as_str()?),
            digest: digest(5)?,
            size: number(6)?.unwrap_or(0),
            files: number(7)?,
            private: private_of(r.get(13)?),
        },
        hold: if r.get_ref(8)?.as_str()? == "reference" { StorageMode::Reference } else { StorageMode::Store },
        rows: number(9)?,
        recorded: r.get(10)?,
        by: r.get(11)?,
        note: r.get(12)?,
    })
}

const COLUMNS: &str = "receipt, name, number, path, kind, digest, size, files, hold, rows, recorded, by_whom, note, private";

impl Ledger {
    /// The data receipts of a dataset, in the order of the numbers that they claim, then of time.
    pub fn data_receipts(&self, name: &str) -> Result<Vec<DataRow>, LedgerError> {
        let sql = format!("SELECT {COLUMNS} FROM data_receipts WHERE name = ?1 ORDER BY number, recorded, receipt");
        self.rows(&sql, params![name], data_row)
    }

    /// When a content was last dropped from the store, RFC 3339 in UTC, if it ever was.
    pub fn dropped(&self, content: &Digest) -> Result<Option<String>, LedgerError> {
        let sql = "SELECT max(pruned) FROM dropped WHERE digest = ?1";
        Ok(self.rows(sql, params![content.as_bytes()], |r| r.get(0))?.pop().flatten())
    }

    /// The names of all datasets that were ever recorded.
    pub fn dataset_names(&self) -> Result<Vec<String>, LedgerError> {
        self.rows("SELECT DISTINCT name FROM data_receipts ORDER BY name", &[], |r| r.get(0))
    }

    /// The runs that found the dataset in some state, newest first.
    pub fn uses_of(&self, name: &str) -> Result<Vec<DatasetUse>, LedgerError> {
        let sql = "SELECT d.run, r.started, r.state, d.digest, EXISTS (\
                   SELECT 1 FROM run_stages s JOIN paths p ON p.receipt = s.receipt AND p.role = 'read' WHERE s.run = d.run \
                   AND (p.path = d.path OR substr(p.path, 1, length(d.path) + 1) = d.path || '/' \
                   OR substr(d.path, 1, length(p.path) + 1) = p.path || '/')) \
                   FROM run_data d JOIN runs r ON r.id = d.run WHERE d.name = ?1 ORDER BY r.ordered DESC, d.run DESC";
        self.rows(sql, params![name], |r| {
            Ok(DatasetUse {
                run: r.get(0)?,
                started: r.get(1)?,
                state: r.get(2)?,
                digest: Digest::from_bytes(r.get(3)?),
                read: r.get(4)?,
            })
        })
    }
}
