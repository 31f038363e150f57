//! Why the ledger could not answer, told apart by what SQLite says: only a file that is damaged is called so.

use std::path::{Path, PathBuf};

use rusqlite::ErrorCode;

use crate::fsio::IoError;
use crate::record::receipt::ReceiptError;
use crate::store::StoreError;

/// Why the ledger could not answer.
#[derive(Debug, thiserror::Error)]
pub enum LedgerError {
    /// Its file holds other than SQLite or Textum wrote.
    #[error("the ledger {} is damaged: {source}", path.display())]
    Damaged {
        /// Its path.
        path: PathBuf,
        /// What SQLite said.
        source: rusqlite::Error,
    },
    /// Its file is no database at all.
    #[error("the ledger {} is not a database", path.display())]
    NotADatabase {
        /// Its path.
        path: PathBuf,
    },
    /// Another process holds it for longer than anybody should.
    #[error("the ledger {} is in use by another process", path.display())]
    Busy {
        /// Its path.
        path: PathBuf,
    },
    /// There is no room to write it.
    #[error("there is no room on the disk to write the ledger {}", path.display())]
    Full {
        /// Its path.
        path: PathBuf,
    },
    /// It may not be written, or not even opened.
    #[error("the ledger {} may not be written: {source}", path.display())]
    Refused {
        /// Its path.
        path: PathBuf,
        /// What SQLite said.
        source: rusqlite::Error,
    },
    /// The disk failed it.
    #[error("the ledger {} could not be read or written: {source}", path.display())]
    Disk {
        /// Its path.
        path: PathBuf,
        /// What SQLite said.
        source: rusqlite::Error,
    },
    /// It was written by an older Textum.
    #[error("the ledger was written by an older Textum")]
    Older,
    /// It was written by a newer Textum.
    #[error("the ledger {} is of version {found}, this Textum knows version {known}", path.display())]
    Newer {
        /// Its path.
        path: PathBuf,
        /// Its version.
        found: i64,
        /// The newest version known here.
        known: i64,
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

impl LedgerError {
    /// What an answer of SQLite means.
    pub(super) fn of(path: &Path, source: rusqlite::Error) -> LedgerError {
        let path = path.to_path_buf();
        // The whole question, which may be the whole schema, tells a reader nothing.
        let source = match source {
            rusqlite::Error::SqlInputError { error, msg, .. } => rusqlite::Error::SqliteFailure(error, Some(msg)),
            other => other,
        };
        let Some(code) = source.sqlite_error_code() else { return LedgerError::Damaged { path, source } };
        match code {
            ErrorCode::NotADatabase => LedgerError::NotADatabase { path },
            ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked | ErrorCode::FileLockingProtocolFailed => {
                LedgerError::Busy { path }
            }
            ErrorCode::DiskFull => LedgerError::Full { path },
            ErrorCode::ReadOnly
            | ErrorCode::CannotOpen
            | ErrorCode::PermissionDenied
            | ErrorCode::AuthorizationForStatementDenied => LedgerError::Refused { path, source },
            ErrorCode::SystemIoFailure | ErrorCode::OutOfMemory | ErrorCode::OperationInterrupted => {
                LedgerError::Disk { path, source }
            }
            _ => LedgerError::Damaged { path, source },
        }
    }

    /// Whether nothing is wrong with the ledger itself: it is busy, full, or not ours to write. What it says can
    /// then be had without writing it.
    pub fn is_circumstance(&self) -> bool {
        match self {
            LedgerError::Busy { .. } | LedgerError::Full { .. } | LedgerError::Refused { .. } => true,
            LedgerError::Io(e) => e.is_refused() || e.is_full(),
            LedgerError::Disk { source, .. } => has_failed_to_write(source),
            _ => false,
        }
    }
}

/// A quota that is used up, for example, is told by these: what is there can be read still.
fn has_failed_to_write(source: &rusqlite::Error) -> bool {
    use rusqlite::ffi::{SQLITE_IOERR_DIR_FSYNC, SQLITE_IOERR_FSYNC, SQLITE_IOERR_TRUNCATE, SQLITE_IOERR_WRITE};
    let extended = source.sqlite_error().map_or(0, |e| e.extended_code);
    [SQLITE_IOERR_WRITE, SQLITE_IOERR_FSYNC, SQLITE_IOERR_DIR_FSYNC, SQLITE_IOERR_TRUNCATE].contains(&extended)
}

#[cfg(test)]
mod tests {
    use rusqlite::ffi;

    use super::*;

    #[test]
    fn only_damage_is_called_damage() {
        let of = |code: i32| LedgerError::of(Path::new("l"), rusqlite::Error::SqliteFailure(ffi::Error::new(code), None));
        assert!(matches!(of(ffi::SQLITE_BUSY), LedgerError::Busy { .. }));
        assert!(matches!(of(ffi::SQLITE_FULL), LedgerError::Full { .. }));
        assert!(matches!(of(ffi::SQLITE_IOERR_WRITE), LedgerError::Disk { .. }));
        assert!(matches!(of(ffi::SQLITE_READONLY), LedgerError::Refused { .. }));
        assert!(matches!(of(ffi::SQLITE_CANTOPEN), LedgerError::Refused { .. }));
        assert!(matches!(of(ffi::SQLITE_IOERR_READ), LedgerError::Disk { .. }));
        assert!(matches!(of(ffi::SQLITE_NOTADB), LedgerError::NotADatabase { .. }));
        assert!(matches!(of(ffi::SQLITE_CORRUPT), LedgerError::Damaged { .. }));
        let asked = rusqlite::Connection::open_in_memory().unwrap().execute_batch("SELECT yarn FROM nowhere").unwrap_err();
        let said = LedgerError::of(Path::new("l"), asked).to_string();
        assert_eq!(said, "the ledger l is damaged: no such table: nowhere");
        for circumstance in
            [ffi::SQLITE_BUSY, ffi::SQLITE_FULL, ffi::SQLITE_READONLY, ffi::SQLITE_CANTOPEN, ffi::SQLITE_IOERR_WRITE]
        {
            assert!(of(circumstance).is_circumstance());
        }
        for real in [ffi::SQLITE_CORRUPT, ffi::SQLITE_NOTADB, ffi::SQLITE_IOERR_READ] {
            assert!(!of(real).is_circumstance());
        }
    }
}
