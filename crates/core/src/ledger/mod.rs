//! The SQLite index of receipts, for quick questions. It only ever holds what documents in the store
//! say, and takes new ones in by looking at the packs that it has not seen: writing, catching up with
//! other processes and rebuilding are the same code.

mod checkpoints;
mod datasets;
mod fold;
mod names;
mod query;
mod select;

use std::path::{Path, PathBuf};

use rusqlite::{Connection, OpenFlags};

pub use checkpoints::{CheckpointError, CheckpointRow, Remark};
pub use datasets::{DataRow, DatasetUse};
pub use names::{NameError, new_run_id};
pub use query::{PathRow, RebuildRow, RunRow, StageRow};
pub use select::{Field, FieldError, Group, Selection, SortKey, VersionNumbers, metric_of};

use crate::fsio::IoError;
use crate::receipt::ReceiptError;
use crate::store::{Store, StoreError};

const SCHEMA: &str = include_str!("schema.sql");
const VERSION: i64 = 3;

/// The open ledger.
pub struct Ledger {
    db: Connection,
    path: PathBuf,
}

/// Why the ledger could not answer.
#[derive(Debug, thiserror::Error)]
pub enum LedgerError {
    /// Its file is not what it must be.
    #[error("the ledger {} is damaged: {source}", path.display())]
    Damaged {
        /// Its path.
        path: PathBuf,
        /// What SQLite said.
        source: rusqlite::Error,
    },
    /// It was written by an older Textum.
    #[error("the ledger was written by an older Textum")]
    Older,
    /// It was written by a newer Textum.
    #[error("the ledger {} is of version {found}, this Textum knows version {VERSION}", path.display())]
    Newer {
        /// Its path.
        path: PathBuf,
        /// Its version.
        found: i64,
    },
    /// The operating system refused.
    #[error(transparent)]
    Io(#[from] IoError),
    /// The store could not be read.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// A document could not be read.
    #[error(transparent)]
    Receipt(#[from] ReceiptError),
}

fn remove_files(path: &Path) -> Result<(), IoError> {
    for suffix in ["", "-wal", "-shm"] {
        let mut name = path.as_os_str().to_os_string();
        name.push(suffix);
        crate::fsio::remove_any(Path::new(&name))?;
    }
    Ok(())
}

impl Ledger {
    /// Opens the ledger, makes it if there is none, and takes in what the store has that it has not.
    pub fn open(path: &Path, store: &Store) -> Result<Ledger, LedgerError> {
        let ledger = match Ledger::connect(path) {
            // Made by an older Textum: what it says is made anew from the receipts.
            Err(LedgerError::Older) => {
                remove_files(path)?;
                Ledger::connect(path)?
            }
            other => other?,
        };
        ledger.catch_up(store)?;
        Ok(ledger)
    }

    /// A ledger in memory, for a project that has no state yet: empty, and gone when dropped.
    pub fn in_memory() -> Result<Ledger, LedgerError> {
        let path = PathBuf::from("(memory)");
        let db = Connection::open_in_memory().map_err(|source| LedgerError::Damaged { path: path.clone(), source })?;
        let ledger = Ledger { db, path };
        ledger.prepare()?;
        Ok(ledger)
    }

    fn connect(path: &Path) -> Result<Ledger, LedgerError> {
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let db =
            Connection::open_with_flags(path, flags).map_err(|source| LedgerError::Damaged { path: path.to_path_buf(), source })?;
        let ledger = Ledger { db, path: path.to_path_buf() };
        ledger.prepare()?;
        Ok(ledger)
    }

    fn prepare(&self) -> Result<(), LedgerError> {
        let fail = |e| self.damaged(e);
        self.db.busy_timeout(std::time::Duration::from_secs(60)).map_err(fail)?;
        let version = || self.db.query_row("PRAGMA user_version", [], |r| r.get::<_, i64>(0));
        match version().map_err(fail)? {
            VERSION => {}
            0 => {
                // The ledger is derived: it must not be torn, but need not survive a lost machine.
                self.db.execute_batch("PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL").map_err(fail)?;
                self.db.execute_batch("BEGIN IMMEDIATE").map_err(fail)?;
                // Another process may have made the tables while we waited for the lock.
                let made = version().map_err(fail)? == 0;
                let text = if made { format!("{SCHEMA}; PRAGMA user_version = {VERSION}; COMMIT") } else { "COMMIT".into() };
                self.db.execute_batch(&text).map_err(fail)?;
            }
            1..VERSION => return Err(LedgerError::Older),
            found => return Err(LedgerError::Newer { path: self.path.clone(), found }),
        }
        // Plans that do not depend on the values asked for: a prepared question is not planned anew each time.
        self.db.set_db_config(rusqlite::config::DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true).map_err(fail)?;
        self.db.execute_batch("PRAGMA synchronous = NORMAL; PRAGMA cache_size = -16000").map_err(fail)
    }

    /// Answers several questions from one state of the ledger, and faster than one by one.
    pub fn at_once<T>(&self, ask: impl FnOnce() -> T) -> Result<T, LedgerError> {
        self.db.execute_batch("BEGIN").map_err(|e| self.damaged(e))?;
        let answer = ask();
        self.db.execute_batch("COMMIT").map_err(|e| self.damaged(e))?;
        Ok(answer)
    }

    fn damaged(&self, source: rusqlite::Error) -> LedgerError {
        LedgerError::Damaged { path: self.path.clone(), source }
    }

    /// Throws the ledger away and makes it anew from the store.
    pub fn rebuild(path: &Path, store: &Store) -> Result<Ledger, LedgerError> {
        remove_files(path)?;
        Ledger::open(path, store)
    }

    /// Whether SQLite finds its file in order; the first complaint otherwise.
    pub fn check(&self) -> Result<Option<String>, LedgerError> {
        let said: String = self.db.query_row("PRAGMA quick_check(1)", [], |r| r.get(0)).map_err(|e| self.damaged(e))?;
        Ok((said != "ok").then_some(said))
    }

    /// Whether a ledger made anew from the store would hold the same rows.
    pub fn agrees_with_a_new_one(&self, store: &Store) -> Result<bool, LedgerError> {
        let fresh = Ledger::in_memory()?;
        fresh.catch_up(store)?;
        Ok(self.contents()? == fresh.contents()?)
    }

    /// A digest of each table's rows but for the list of packs, which folding changes.
    fn contents(&self) -> Result<Vec<(String, blake3::Hash)>, LedgerError> {
        let sql = "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT IN ('packs') ORDER BY name";
        let tables: Vec<String> = self.rows(sql, &[], |r| r.get(0))?;
        let mut found = Vec::new();
        for table in tables {
            let mut hasher = blake3::Hasher::new();
            self.rows(&format!("SELECT * FROM {table}"), &[], |row| {
                for column in 0..row.as_ref().column_count() {
                    hasher.update(format!("{:?}\0", row.get_ref(column)?).as_bytes());
                }
                Ok(())
            })?;
            found.push((table, hasher.finalize()));
        }
        Ok(found)
    }
}
