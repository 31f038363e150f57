//! Digests of files anywhere, remembered by their metadata.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, PoisonError};

use rayon::prelude::*;

use super::super::fingerprint::{Memory, Remembered, Stat, is_private, now_nanos, save_memory};
use crate::store::{self, Digest, ItemKind};

/// Digests of files, by absolute path.
pub struct FileDigests {
    cache: Option<PathBuf>,
    remembered: Files,
    /// What was learnt since; it holds before what is remembered.
    learnt: Mutex<Files>,
}

type Files = HashMap<String, (Stat, Digest), foldhash::fast::RandomState>;

/// A file as it stands now.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FileNow {
    /// Its metadata.
    pub stat: Stat,
    /// Whether it may be executed.
    pub exec: bool,
    /// Whether only its owner may read it.
    pub private: bool,
    /// Its digest.
    pub digest: Digest,
}

impl FileDigests {
    /// What is remembered in a folder, if there is one.
    pub fn open(cache: Option<&Path>) -> FileDigests {
        let cache = cache.map(|c| c.join("observed"));
        let memory = cache.as_deref().map(Memory::load).unwrap_or_default();
        let files = memory.iter().map(|f| (f.path.to_string(), (f.stat, f.digest))).collect();
        FileDigests { cache, remembered: files, learnt: Mutex::default() }
    }

    /// The file at a path now; `None` for anything that is no file or cannot be read.
    pub fn look(&self, path: &Path) -> Option<FileNow> {
        use std::os::unix::fs::PermissionsExt;
        // What is the kernel's is another one at every look, and may have no end.
        if ["/proc", "/sys", "/dev"].iter().any(|p| path.starts_with(p)) {
            return None;
        }
        let meta = fs::metadata(path).ok().filter(fs::Metadata::is_file)?;
        let mode = meta.permissions().mode();
        let (stat, exec, private) = (Stat::of(&meta), mode & 0o111 != 0, is_private(mode));
        let name = path.to_str();
        let fits = |known: &&(Stat, Digest)| known.0 == stat;
        let remembered = name.and_then(|name| self.remembered.get(name)).filter(fits).map(|known| known.1);
        let known = remembered.or_else(|| name.and_then(|name| self.learnt().get(name).filter(fits).map(|known| known.1)));
        if let Some(digest) = known {
            return Some(FileNow { stat, exec, private, digest });
        }
        let looked = now_nanos();
        let (digest, _) = store::hash_file(path).ok()?;
        let unchanged = fs::metadata(path).is_ok_and(|m| Stat::of(&m) == stat);
        if let (Some(name), true) = (name, unchanged && !stat.is_racy(looked)) {
            self.learnt().insert(name.to_string(), (stat, digest));
        }
        Some(FileNow { stat, exec, private, digest })
    }

    /// The files at many paths, looked at side by side.
    pub fn look_all<T: Sync>(&self, all: &[T], path: impl Fn(&T) -> PathBuf + Sync) -> Vec<Option<FileNow>> {
        const FEW: usize = 64;
        let look = |one: &T| self.look(&path(one));
        if all.len() <= FEW {
            return all.iter().map(look).collect();
        }
        all.par_iter().with_min_len(FEW).map(look).collect()
    }

    fn learnt(&self) -> std::sync::MutexGuard<'_, Files> {
        self.learnt.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Keeps what was learnt for the next look.
    pub fn save(&self) {
        let Some(cache) = &self.cache else { return };
        let learnt = self.learnt();
        if learnt.is_empty() {
            return;
        }
        let kept = self.remembered.iter().filter(|(path, _)| !learnt.contains_key(*path));
        let mut files: Vec<(&String, &(Stat, Digest))> = kept.chain(learnt.iter()).collect();
        files.sort_unstable_by(|a, b| a.0.cmp(b.0));
        let records =
            files.iter().map(|(path, (stat, digest))| Remembered { path, kind: ItemKind::File, stat: *stat, digest: *digest });
        save_memory(cache, records, None);
    }
}
