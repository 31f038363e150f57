//! Folding many small packs into one, so that ten thousand runs do not leave ten thousand files.

use std::fs;

use super::catalog::{Catalog, list_packs, records_of};
use super::pack::{self};
use super::{Store, StoreError, ingest};
use textum_base::fsio::{self, FileLock, IoError, TryLock};

/// Packs below this many bytes are folded.
const SMALL: u64 = 4 << 20;
/// Only when there are this many of them.
const MANY: usize = 128;

impl Store {
    /// Folds the small packs into one when there are many. Content is never away in between: the new
    /// pack is published before the old ones go. Returns how many were folded.
    pub fn fold_small_packs(&self) -> Result<usize, StoreError> {
        let folder = self.packs_folder();
        if !folder.exists() {
            // Nothing has been stored yet.
            return Ok(0);
        }
        let small: Vec<_> = list_packs(&folder)?.into_iter().filter(|(_, length)| *length < SMALL).collect();
        if small.len() < MANY {
            return Ok(0);
        }
        // A dropping that was cut off is finished before: it would want the lock that folding holds.
        drop(self.session()?);
        let TryLock::Taken(_lock) = FileLock::try_exclusive(&self.folder().join("fold.lock"))? else {
            return Ok(0);
        };
        if self.has_unfinished_dropping() {
            return Ok(0);
        }
        let writer = self.writer()?;
        let mut folded = Vec::new();
        for (name, _) in small {
            let path = Catalog::path_of(&folder, &name);
            // A damaged pack stays as it is, for `verify` to tell of.
            let Ok(records) = records_of(&folder, &name) else { continue };
            let file = fs::File::open(&path).map_err(IoError::of("open", &path))?;
            let read: Result<Vec<_>, _> = records.iter().map(|r| pack::read_entry(&file, &path, r.offset, &r.entry)).collect();
            let Ok(payloads) = read else { continue };
            for (record, raw) in records.iter().zip(&payloads) {
                writer.append(ingest::code(record.entry.kind, record.entry.digest, raw))?;
            }
            folded.push(path);
        }
        writer.publish()?;
        for path in &folded {
            fsio::remove_any(path)?;
            let _ = fsio::remove_any(&path.with_extension("index"));
        }
        self.reload()?;
        Ok(folded.len())
    }
}
