//! Whether anybody touched what a stage reads while it ran: edited it, put it back, exchanged a folder above it.
//!
//! A content that is the same at both ends proves nothing: it may have been another one in between. The time of
//! the last change of a file's metadata cannot be set by anybody, and moves with every write, rename and exchange.

use std::collections::BTreeMap;
use std::fs::{self, Metadata};
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::{Deserialize, Serialize};

use super::ScanError;
use super::stat::{Stat, now_nanos};
use super::walk::walk;
use crate::fsio::IoError;
use crate::store::Digest;

/// A folder: its inode, and the times of its last change, of entries and of itself.
type FolderStat = (u64, i64, i64);

fn folder_stat(meta: &Metadata) -> FolderStat {
    let stat = Stat::of(meta);
    (stat.inode, stat.mtime, stat.ctime)
}

/// How something that is read stands, by everything that changes when it is touched.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Standstill {
    /// Of a file its metadata; of a folder the digest of the paths and metadata of all its files.
    what: Digest,
    /// The folders above it and in it.
    folders: BTreeMap<PathBuf, FolderStat>,
    /// The youngest change among its files, in nanoseconds since 1970.
    youngest: i64,
}

fn of_stat(hasher: &mut blake3::Hasher, stat: &Stat) {
    for number in [stat.size, stat.mtime as u64, stat.ctime as u64, stat.inode] {
        hasher.update(&number.to_le_bytes());
    }
}

impl Standstill {
    /// How a path below a root stands now; `None` when nothing does.
    pub fn look(root: &Path, path: &str) -> Result<Option<Standstill>, ScanError> {
        let full = root.join(path);
        let meta = match fs::metadata(&full) {
            Err(e) if matches!(e.kind(), std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory) => return Ok(None),
            other => other.map_err(IoError::of("look at", &full))?,
        };
        let mut folders = BTreeMap::new();
        let mut take = |folder: &Path| {
            if let Ok(meta) = fs::metadata(folder) {
                folders.insert(folder.to_path_buf(), folder_stat(&meta));
            }
        };
        full.ancestors().skip(1).take_while(|a| a.starts_with(root) && *a != root).for_each(&mut take);
        let mut hasher = blake3::Hasher::new();
        let mut youngest = i64::MIN;
        if meta.is_dir() {
            take(&full);
            let mut last = "";
            let seen = walk(&full)?;
            for item in &seen {
                hasher.update(item.path.as_bytes());
                hasher.update(&[0]);
                of_stat(&mut hasher, &item.stat);
                youngest = youngest.max(item.stat.last_change());
                if let Some((parent, _)) = item.path.rsplit_once('/').filter(|(parent, _)| *parent != last) {
                    take(&full.join(parent));
                    last = parent;
                }
            }
        } else {
            let stat = Stat::of(&meta);
            of_stat(&mut hasher, &stat);
            youngest = stat.last_change();
            // A link on the way is part of what is read: it could lead elsewhere for a while.
            if let Ok(link) = fs::symlink_metadata(&full).map(|m| Stat::of(&m)) {
                of_stat(&mut hasher, &link);
            }
        }
        Ok(Some(Standstill { what: Digest::from(hasher.finalize()), folders, youngest }))
    }

    /// How it stands, looked at when a change in the next moment could not bear the time of the last one.
    pub fn look_trusted(root: &Path, path: &str) -> Result<Option<Standstill>, ScanError> {
        let found = Standstill::look(root, path)?;
        match found.as_ref().map(Standstill::until_trusted).filter(|wait| !wait.is_zero()) {
            Some(wait) => {
                std::thread::sleep(wait);
                Standstill::look(root, path)
            }
            None => Ok(found),
        }
    }

    /// How long to wait until a change could not bear the time of one that was before; at most a few hundredths
    /// of a second.
    pub fn until_trusted(&self) -> Duration {
        Stat { ctime: self.youngest, mtime: self.youngest, ..Stat::default() }.until_trusted(now_nanos())
    }

    /// Whether it has been touched between two looks. A folder in which entries came and went says nothing of
    /// its files; one that was itself renamed or exchanged does.
    pub fn was_touched(&self, later: &Standstill) -> bool {
        let exchanged = |(folder, then): (&PathBuf, &FolderStat)| {
            later.folders.get(folder).is_none_or(|now| now.0 != then.0 || (now.1 == then.1 && now.2 != then.2))
        };
        self.what != later.what || self.folders.iter().any(exchanged)
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    fn settle(root: &Path, path: &str) -> Standstill {
        let found = Standstill::look(root, path).unwrap().unwrap();
        std::thread::sleep(found.until_trusted());
        Standstill::look(root, path).unwrap().unwrap()
    }

    /// Reading and what goes on around a file leave it alone; whatever puts the same bytes back does not.
    #[test]
    fn what_is_put_back_is_noticed_and_what_goes_on_around_is_not() {
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path();
        fs::create_dir_all(root.join("data/in")).unwrap();
        fs::write(root.join("data/in/a.csv"), "a").unwrap();
        fs::write(root.join("data/in/b.csv"), "b").unwrap();
        symlink("in/a.csv", root.join("data/link.csv")).unwrap();
        let harmless: [(&str, &dyn Fn()); 3] = [
            ("reading", &|| drop(fs::read(root.join("data/in/a.csv")))),
            ("a file beside it", &|| fs::write(root.join("data/c.csv"), "c").unwrap()),
            ("compiled files", &|| {
                fs::create_dir_all(root.join("data/in/__pycache__")).unwrap();
                fs::write(root.join("data/in/__pycache__/x.pyc"), "x").unwrap();
            }),
        ];
        let back = |path: &Path| {
            let times = fs::metadata(path).unwrap();
            let file = fs::File::options().write(true).open(path).unwrap();
            file.set_times(fs::FileTimes::new().set_modified(times.modified().unwrap())).unwrap();
        };
        let touching: [(&str, &dyn Fn()); 4] = [
            ("written and its time set back", &|| {
                let path = root.join("data/in/a.csv");
                fs::write(&path, "B").unwrap();
                fs::write(&path, "a").unwrap();
                back(&path);
            }),
            ("renamed away and back", &|| {
                fs::rename(root.join("data/in/a.csv"), root.join("x")).unwrap();
                fs::rename(root.join("x"), root.join("data/in/a.csv")).unwrap();
            }),
            ("its folder exchanged and put back", &|| {
                fs::rename(root.join("data"), root.join("away")).unwrap();
                fs::rename(root.join("away"), root.join("data")).unwrap();
            }),
            ("touched", &|| back(&root.join("data/in/a.csv"))),
        ];
        for path in ["data/in/a.csv", "data/in", "data/link.csv"] {
            for (what, doing) in harmless {
                let before = settle(root, path);
                doing();
                assert!(!before.was_touched(&Standstill::look(root, path).unwrap().unwrap()), "{path}: {what}");
            }
            for (what, doing) in touching {
                let before = settle(root, path);
                doing();
                assert!(before.was_touched(&Standstill::look(root, path).unwrap().unwrap()), "{path}: {what}");
            }
        }
        assert!(Standstill::look(root, "nothing/here").unwrap().is_none());
    }
}
