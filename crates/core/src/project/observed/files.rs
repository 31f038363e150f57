//! Digests of files anywhere, remembered by their metadata.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use rayon::prelude::*;

use super::super::fingerprint::{Memory, Remembered, Stat, now_nanos, save_memory};
use crate::store::{self, Digest, ItemKind};

/// Digests of files, by absolute path.
pub struct FileDigests {
    cache: Option<PathBuf>,
    known: Mutex<Known>,
}

#[derive(Default)]
struct Known {
    files: HashMap<String, (Stat, Digest)>,
    changed: bool,
}

/// A file as it stands now.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FileNow {
    /// Its metadata.
    pub stat: Stat,
    /// Whether it may be executed.
    pub exec: bool,
    /// Its digest.
    pub digest: Digest,
}

impl FileDigests {
    /// What is remembered in a folder, if there is one.
    pub fn open(cache: Option<&Path>) -> FileDigests {
        let cache = cache.map(|c| c.join("observed"));
        let memory = cache.as_deref().map(Memory::load).unwrap_or_default();
        let files = memory.iter().map(|f| (f.path.to_string(), (f.stat, f.digest))).collect();
        FileDigests { cache, known: Mutex::new(Known { files, changed: false }) }
    }

    /// The file at a path now; `None` for anything that is no file or cannot be read.
    pub fn look(&self, path: &Path) -> Option<FileNow> {
        use std::os::unix::fs::PermissionsExt;
        let meta = fs::metadata(path).ok().filter(fs::Metadata::is_file)?;
        let (stat, exec) = (Stat::of(&meta), meta.permissions().mode() & 0o111 != 0);
        let name = path.to_str();
        if let Some(known) = name.and_then(|name| self.known().files.get(name).copied()).filter(|known| known.0 == stat) {
            return Some(FileNow { stat, exec, digest: known.1 });
        }
        let looked = now_nanos();
        let (digest, _) = store::hash_file(path).ok()?;
        let unchanged = fs::metadata(path).is_ok_and(|m| Stat::of(&m) == stat);
        if let (Some(name), true) = (name, unchanged && !stat.is_racy(looked)) {
            let mut known = self.known();
            known.files.insert(name.to_string(), (stat, digest));
            known.changed = true;
        }
        Some(FileNow { stat, exec, digest })
    }

    /// The files at many paths, looked at side by side.
    pub fn look_all(&self, paths: &[PathBuf]) -> Vec<Option<FileNow>> {
        const FEW: usize = 64;
        if paths.len() <= FEW {
            return paths.iter().map(|p| self.look(p)).collect();
        }
        paths.par_iter().with_min_len(FEW).map(|p| self.look(p)).collect()
    }

    fn known(&self) -> std::sync::MutexGuard<'_, Known> {
        self.known.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Keeps what was learnt for the next look.
    pub fn save(&self) {
        let Some(cache) = &self.cache else { return };
        let mut known = self.known();
        if !std::mem::take(&mut known.changed) {
            return;
        }
        let remembered = |(path, (stat, digest)): (&'_ String, &(Stat, Digest))| (path.clone(), *stat, *digest);
        let mut files: Vec<(String, Stat, Digest)> = known.files.iter().map(remembered).collect();
        files.sort_unstable_by(|a, b| a.0.cmp(&b.0));
        let records =
            files.iter().map(|(path, stat, digest)| Remembered { path, kind: ItemKind::File, stat: *stat, digest: *digest });
        save_memory(cache, records, None);
    }
}
