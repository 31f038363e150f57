//! The SQLite index of receipts, for quick questions. It only ever holds what documents in the store
//! say, and takes new ones in by looking at the packs that it has not seen: writing, catching up with
//! other processes and rebuilding are the same code.

mod checkpoints;
mod datasets;
mod downstream;
mod erasures;
mod error;
mod field;
mod fold;
mod names;
mod query;
mod select;

use std::cell::RefCell;
use std::collections::HashSet;
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};

use rusqlite::config::DbConfig;
use rusqlite::types::ValueRef;
use rusqlite::{Connection, ErrorCode, OpenFlags, Transaction, TransactionBehavior};

pub use checkpoints::{CheckpointError, CheckpointRow, Remark};
pub use datasets::{DataRow, DatasetUse};
pub use downstream::ExecutionRow;
pub use erasures::{ErasedOf, Erasure};
pub use error::LedgerError;
pub use field::{Field, FieldError, VersionNumbers};
pub use names::{NameError, is_label, new_run_id, run_and_stage};
pub use query::{PathRow, RebuildRow, ResultRow, RunRow, StageRow, seconds_at_work};
pub use select::{Group, Selection, SortKey, metric_of};

use crate::fsio::IoError;
use crate::store::{Digest, Store};

const SCHEMA: &str = include_str!("schema.sql");
const VERSION: i64 = 9;
/// How long a question waits for another process.
const PATIENCE: std::time::Duration = std::time::Duration::from_secs(5);

/// The open ledger.
pub struct Ledger {
    db: RefCell<Connection>,
    path: PathBuf,
}

impl Ledger {
    /// Opens the ledger, makes it if there is none, and takes in what the store has that it has not. Where it
    /// cannot be written (a full disk, somebody else's project, a process that does not let go) it is read into
    /// memory and brought up to date there: it is derived, so nothing is lost by that.
    pub fn open(path: &Path, store: &Store) -> Result<Ledger, LedgerError> {
        match Ledger::open_in_place(path, store) {
            Err(e) if e.is_circumstance() => Ledger::open_aside(path, store),
            other => other,
        }
    }

    fn open_in_place(path: &Path, store: &Store) -> Result<Ledger, LedgerError> {
        let ledger = Ledger::connect(path)?;
        match ledger.prepare() {
            // Made by an older Textum: what it says is made anew from the receipts.
            Err(LedgerError::Older) => ledger.fill_anew(store)?,
            other => {
                other?;
                ledger.fold_new(store)?;
            }
        }
        Ok(ledger)
    }

    /// The ledger in memory: what its file says if that can be read, and what the packs say beyond it.
    fn open_aside(path: &Path, store: &Store) -> Result<Ledger, LedgerError> {
        let ledger = Ledger::in_memory()?;
        if let Ok(file) = Connection::open_with_flags(path, OpenFlags::SQLITE_OPEN_READ_ONLY | OpenFlags::SQLITE_OPEN_NO_MUTEX)
            && version_of(&file).is_ok_and(|v| v == VERSION)
            && let Ok(copy) = copy_to_memory(&file)
        {
            let ledger = Ledger { db: RefCell::new(copy), path: PathBuf::from("(memory)") };
            ledger.fold_new(store)?;
            return Ok(ledger);
        }
        ledger.fold_new(store)?;
        Ok(ledger)
    }

    /// Takes in the documents of all packs that have not been seen. If the file cannot take them, the ledger goes
    /// on in memory.
    pub fn catch_up(&self, store: &Store) -> Result<usize, LedgerError> {
        match self.fold_new(store) {
            Err(e) if e.is_circumstance() => {
                let aside = Ledger::open_aside(&self.path, store)?;
                self.db.swap(&aside.db);
                self.fold_new(store)
            }
            other => other,
        }
    }

    /// A ledger in memory, for a project that has no state yet: empty, and gone when dropped.
    pub fn in_memory() -> Result<Ledger, LedgerError> {
        let path = PathBuf::from("(memory)");
        let db = Connection::open_in_memory().map_err(|e| LedgerError::of(&path, e))?;
        let ledger = Ledger { db: RefCell::new(db), path };
        ledger.prepare()?;
        Ok(ledger)
    }

    fn connect(path: &Path) -> Result<Ledger, LedgerError> {
        // Made here rather than by SQLite, so that the umask decides who else may write it. One that is there is not
        // opened: closing it again would drop the locks that another connection of this process holds on it.
        let made = File::options().append(true).create_new(true).open(path).map(drop);
        made.or_else(|e| if e.kind() == io::ErrorKind::AlreadyExists { Ok(()) } else { Err(e) })
            .map_err(IoError::of("open the ledger", path))?;
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE | OpenFlags::SQLITE_OPEN_CREATE | OpenFlags::SQLITE_OPEN_NO_MUTEX;
        let db = Connection::open_with_flags(path, flags).map_err(|e| LedgerError::of(path, e))?;
        db.busy_timeout(PATIENCE).map_err(|e| LedgerError::of(path, e))?;
        Ok(Ledger { db: RefCell::new(db), path: path.to_path_buf() })
    }

    fn prepare(&self) -> Result<(), LedgerError> {
        let fail = |e| self.failed(e);
        let db = self.db.borrow();
        match version_of(&db).map_err(fail)? {
            VERSION => {}
            0 => {
                tune(&db).map_err(fail)?;
                db.execute_batch("BEGIN IMMEDIATE").map_err(fail)?;
                // Another process may have made the tables while we waited for the lock.
                let made = version_of(&db).map_err(fail)? == 0;
                let text = if made { format!("{SCHEMA}; PRAGMA user_version = {VERSION}; COMMIT") } else { "COMMIT".into() };
                db.execute_batch(&text).map_err(fail)?;
            }
            1..VERSION => return Err(LedgerError::Older),
            found => return Err(LedgerError::Newer { path: self.path.clone(), found, known: VERSION }),
        }
        tune(&db).map_err(fail)
    }

    /// Answers several questions from one state of the ledger, and faster than one by one.
    pub fn at_once<T>(&self, ask: impl FnOnce() -> T) -> Result<T, LedgerError> {
        self.db.borrow().execute_batch("BEGIN").map_err(|e| self.failed(e))?;
        let answer = ask();
        self.db.borrow().execute_batch("COMMIT").map_err(|e| self.failed(e))?;
        Ok(answer)
    }

    fn failed(&self, source: rusqlite::Error) -> LedgerError {
        LedgerError::of(&self.path, source)
    }

    /// Makes the ledger anew from the store. Its file stays the same one: others may have it open, and a file of
    /// the same name beside theirs would be taken for part of it.
    pub fn rebuild(path: &Path, store: &Store) -> Result<Ledger, LedgerError> {
        let ledger = Ledger::connect(path)?;
        match ledger.fill_anew(store) {
            // Its tables cannot even be dropped.
            Err(LedgerError::Damaged { .. } | LedgerError::NotADatabase { .. }) => {
                ledger.empty().and_then(|()| ledger.say_that_it_is_empty()).map_err(|e| ledger.failed(e))?;
                ledger.fill_anew(store)?;
            }
            other => other?,
        }
        Ok(ledger)
    }

    /// Replaces all that a sound ledger says, at once for whoever reads it.
    fn fill_anew(&self, store: &Store) -> Result<(), LedgerError> {
        let db = self.db.borrow();
        tune(&db).map_err(|e| self.failed(e))?;
        let packs = store.packs()?;
        store.reload()?;
        let tx = Transaction::new_unchecked(&db, TransactionBehavior::Immediate).map_err(|e| self.failed(e))?;
        let made = || -> rusqlite::Result<()> {
            let mut tables = tx.prepare("SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%'")?;
            let tables: Vec<String> = tables.query_map([], |r| r.get(0))?.collect::<rusqlite::Result<_>>()?;
            for table in tables {
                tx.execute_batch(&format!("DROP TABLE \"{}\"", table.replace('"', "\"\"")))?;
            }
            tx.execute_batch(&format!("{SCHEMA}; PRAGMA user_version = {VERSION}"))
        };
        made().map_err(|e| self.failed(e))?;
        let indexes = without_indexes(&tx).map_err(|e| self.failed(e))?;
        self.fold_into(&tx, store, packs)?;
        indexes.iter().try_for_each(|sql| tx.execute_batch(sql)).map_err(|e| self.failed(e))?;
        tx.commit().map_err(|e| self.failed(e))
    }

    /// Makes a database without tables of whatever the file holds.
    fn empty(&self) -> rusqlite::Result<()> {
        let db = self.db.borrow();
        // Source: SQLite's page on `sqlite3_db_config`. What asking for the version says of a damaged file is no news.
        let _ = version_of(&db);
        db.set_db_config(DbConfig::SQLITE_DBCONFIG_RESET_DATABASE, true)?;
        let emptied = db.execute_batch("VACUUM");
        db.set_db_config(DbConfig::SQLITE_DBCONFIG_RESET_DATABASE, false)?;
        emptied
    }

    /// So that whoever opens it now makes the tables, unless somebody has done so already.
    fn say_that_it_is_empty(&self) -> rusqlite::Result<()> {
        let db = self.db.borrow();
        let tx = Transaction::new_unchecked(&db, TransactionBehavior::Immediate)?;
        let tables: i64 = tx.query_row("SELECT count(*) FROM sqlite_schema", [], |r| r.get(0))?;
        if tables == 0 {
            tx.execute_batch("PRAGMA user_version = 0")?;
        }
        tx.commit()
    }

    /// Whether SQLite finds its file in order, indexes held against tables; the first complaint otherwise.
    pub fn check(&self) -> Result<Option<String>, LedgerError> {
        let ask = || self.db.borrow().query_row("PRAGMA integrity_check(1)", [], |r| r.get::<_, String>(0));
        let said = ask().map_err(|e| self.failed(e))?;
        Ok((said != "ok").then_some(said))
    }

    /// A ledger made anew, in memory, from these packs; to be held against one that is opened after they were listed.
    pub fn made_anew(store: &Store, packs: Vec<Digest>) -> Result<MadeAnew, LedgerError> {
        let ledger = Ledger::in_memory()?;
        // Nothing is asked of it but its rows, and it is thrown away if it cannot be finished.
        let bare = |db: &Connection| {
            db.query_row("PRAGMA journal_mode = OFF", [], |_| Ok(()))?;
            without_indexes(db).map(drop)
        };
        bare(&ledger.db.borrow()).map_err(|e| ledger.failed(e))?;
        ledger.fold(store, packs)?;
        let tables = ledger.contents()?;
        Ok(MadeAnew { ledger, tables })
    }

    /// A digest of each table's rows, in the order of its key, but for the list of packs, which folding changes.
    fn contents(&self) -> Result<Vec<(String, blake3::Hash)>, LedgerError> {
        // A table that somebody else put there may have no key, and any name: it is a difference, no error.
        let sql = "SELECT format('\"%w\"', name), coalesce((SELECT group_concat(format('\"%w\"', name) ORDER BY pk) \
                   FROM pragma_table_info(m.name) WHERE pk > 0), '1') FROM sqlite_schema m WHERE type = 'table' AND name <> 'packs' AND name NOT LIKE 'sqlite_%' ORDER BY m.name";
        let tables: Vec<(String, String)> = self.rows(sql, &[], |r| Ok((r.get(0)?, r.get(1)?)))?;
        let mut found = Vec::new();
        for (table, key) in tables {
            let mut hasher = blake3::Hasher::new();
            self.rows(&format!("SELECT * FROM {table} ORDER BY {key}"), &[], |row| {
                for column in 0..row.as_ref().column_count() {
                    take_value(&mut hasher, row.get_ref(column)?);
                }
                Ok(())
            })?;
            found.push((table, hasher.finalize()));
        }
        Ok(found)
    }
}

/// A ledger made anew from the receipts, and what its tables hold.
pub struct MadeAnew {
    ledger: Ledger,
    tables: Vec<(String, blake3::Hash)>,
}

impl MadeAnew {
    /// Whether another one, which has seen all that this was made of, holds the same rows. What it has seen since is
    /// taken in first. Nothing that the packs held must go away meanwhile.
    pub fn agrees_with(mut self, other: &Ledger, store: &Store) -> Result<bool, LedgerError> {
        let packs = |ledger: &Ledger| ledger.rows("SELECT name FROM packs", &[], |r| r.get::<_, [u8; 32]>(0));
        let (seen, tables) = other.at_once(|| Ok::<_, LedgerError>((packs(other)?, other.contents()?)))??;
        let seen: HashSet<[u8; 32]> = seen.into_iter().collect();
        let mine: HashSet<[u8; 32]> = packs(&self.ledger)?.into_iter().collect();
        let since = store.packs()?.into_iter().filter(|p| seen.contains(p.as_bytes()) && !mine.contains(p.as_bytes()));
        if self.ledger.fold(store, since.collect())? > 0 {
            self.tables = self.ledger.contents()?;
        }
        Ok(tables == self.tables)
    }
}

/// A value with its type, so that no two rows look alike that are not.
fn take_value(hasher: &mut blake3::Hasher, value: ValueRef<'_>) {
    let (kind, bytes): (u8, &[u8]) = match value {
        ValueRef::Null => (0, &[]),
        ValueRef::Integer(i) => (1, &i.to_le_bytes()),
        ValueRef::Real(r) => (2, &r.to_bits().to_le_bytes()),
        ValueRef::Text(text) => (3, text),
        ValueRef::Blob(blob) => (4, blob),
    };
    hasher.update(&[kind]).update(&(bytes.len() as u64).to_le_bytes()).update(bytes);
}

/// Takes the indexes away that folding does not look into, and gives the words that make them again: many rows are put in
/// faster without, and an index over all of them is made faster than row by row.
fn without_indexes(db: &Connection) -> rusqlite::Result<Vec<String>> {
    let sql = "SELECT name, sql FROM sqlite_schema WHERE type = 'index' AND sql IS NOT NULL AND name <> 'remarks_by_run'";
    let found: Vec<(String, String)> =
        db.prepare(sql)?.query_map([], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<rusqlite::Result<_>>()?;
    found.iter().try_for_each(|(name, _)| db.execute_batch(&format!("DROP INDEX \"{name}\"")))?;
    Ok(found.into_iter().map(|(_, sql)| sql).collect())
}

fn version_of(db: &Connection) -> rusqlite::Result<i64> {
    db.query_row("PRAGMA user_version", [], |r| r.get(0))
}

fn tune(db: &Connection) -> rusqlite::Result<()> {
    // Plans that do not depend on the values asked for: a prepared question is not planned anew each time.
    db.set_db_config(DbConfig::SQLITE_DBCONFIG_ENABLE_QPSG, true)?;
    // A log written ahead would need memory that processes share by a file, and a process that touches that memory
    // when the disk is full is killed by the system (SIGBUS) on many file systems. An older ledger may still be
    // kept so, and in use: then it stays until nobody else has it open.
    let mode = db.query_row("PRAGMA journal_mode = TRUNCATE", [], |_| Ok(()));
    match mode {
        Err(e) if !matches!(e.sqlite_error_code(), Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked)) => return Err(e),
        _ => {}
    }
    // The ledger is derived: it must not be torn, but need not survive a lost machine.
    db.execute_batch("PRAGMA synchronous = NORMAL; PRAGMA cache_size = -16000")
}

fn copy_to_memory(from: &Connection) -> rusqlite::Result<Connection> {
    let mut copy = Connection::open_in_memory()?;
    rusqlite::backup::Backup::new(from, &mut copy)?.run_to_completion(1 << 16, std::time::Duration::ZERO, None)?;
    tune(&copy)?;
    Ok(copy)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn tables_that_another_made_meanwhile_are_not_said_to_be_missing() {
        let folder = tempfile::tempdir().unwrap();
        let (path, store) = (folder.path().join("ledger.db"), Store::open(&folder.path().join("store")));
        drop(Ledger::open(&path, &store).unwrap());
        let mut bytes = std::fs::read(&path).unwrap();
        bytes[..100].fill(0);
        std::fs::write(&path, bytes).unwrap();
        let mends = Ledger::connect(&path).unwrap();
        mends.empty().unwrap();
        Ledger::open(&path, &store).unwrap();
        mends.say_that_it_is_empty().unwrap();
        Ledger::open(&path, &store).unwrap();
        mends.fill_anew(&store).unwrap();
        assert!(Ledger::open(&path, &store).unwrap().check().unwrap().is_none());
    }

    #[test]
    fn a_ledger_made_anew_has_all_indexes_and_one_to_compare_with_needs_none() {
        let folder = tempfile::tempdir().unwrap();
        let (path, store) = (folder.path().join("ledger.db"), Store::open(&folder.path().join("store")));
        let indexes = |ledger: &Ledger| {
            let sql = "SELECT name, sql FROM sqlite_schema WHERE type = 'index' AND sql IS NOT NULL ORDER BY name";
            ledger.rows(sql, &[], |r| Ok((r.get::<_, String>(0)?, r.get::<_, String>(1)?))).unwrap()
        };
        let all = indexes(&Ledger::open(&path, &store).unwrap());
        assert!(all.len() > 10);
        assert_eq!(indexes(&Ledger::rebuild(&path, &store).unwrap()), all);
        let bare = indexes(&Ledger::made_anew(&store, Vec::new()).unwrap().ledger);
        assert_eq!(bare.iter().map(|(name, _)| name.as_str()).collect::<Vec<_>>(), ["remarks_by_run"]);
    }

    #[test]
    fn what_a_ledger_says_does_not_depend_on_its_indexes() {
        let told = |bare: bool| {
            let ledger = Ledger::in_memory().unwrap();
            if bare {
                without_indexes(&ledger.db.borrow()).unwrap();
            }
            // In the order of a covering index these would be the other way round.
            for (run, value) in [("a", "2"), ("b", "1")] {
                let sql = "INSERT INTO run_params VALUES (?1, 'rate', ?2)";
                ledger.db.borrow().execute(sql, [run, value]).unwrap();
            }
            ledger.contents().unwrap()
        };
        assert_eq!(told(true), told(false));
    }

    #[test]
    fn a_table_that_is_not_ours_is_a_difference_and_no_error() {
        let folder = tempfile::tempdir().unwrap();
        let (path, store) = (folder.path().join("ledger.db"), Store::open(&folder.path().join("store")));
        let ledger = Ledger::open(&path, &store).unwrap();
        let agrees = || Ledger::made_anew(&store, Vec::new()).unwrap().agrees_with(&ledger, &store).unwrap();
        assert!(agrees());
        // Statistics are SQLite's own.
        ledger.db.borrow().execute_batch("ANALYZE").unwrap();
        assert!(agrees());
        for sql in ["CREATE TABLE \"of \"\"ours\"\" not\" (\"a b\" TEXT)", "CREATE TABLE x (\"a,b\" TEXT PRIMARY KEY)"] {
            ledger.db.borrow().execute_batch(sql).unwrap();
            assert!(!agrees(), "{sql}");
        }
        drop(Ledger::rebuild(&path, &store).unwrap());
        assert!(agrees());
    }
}
