//! A folder by its handle. Everything below it is reached through that handle with `openat2` and
//! `RESOLVE_BENEATH` (crate `cap-std`): no link leads out of it, neither one that stands there nor one that
//! is exchanged at this moment.

use std::io;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicU64, Ordering};

use cap_std::ambient_authority;
use cap_std::fs::{Dir, Metadata, MetadataExt, OpenOptions, OpenOptionsExt};

use super::fault::{self, Step};
use super::{IoError, OutFile};
use crate::path::ProjectPath;

/// A folder and what is below it.
#[derive(Debug)]
pub struct TreeDir {
    dir: Dir,
    path: PathBuf,
}

/// What stands at a path.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Standing {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link.
    Link,
    /// A pipe, socket or device.
    Other,
}

/// A file by its size, the time of the last change of its content, and its inode: renaming it changes none of
/// these.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Stamp {
    size: u64,
    modified: Option<std::time::SystemTime>,
    inode: u64,
}

fn is_gone(e: &io::Error) -> bool {
    matches!(e.kind(), io::ErrorKind::NotFound | io::ErrorKind::NotADirectory)
}

/// An attempt to leave comes without a number of the system's.
fn led_out(e: &io::Error) -> bool {
    e.kind() == io::ErrorKind::PermissionDenied && e.raw_os_error().is_none()
}

impl TreeDir {
    /// The folder at a path, which must be there.
    pub fn open(path: &Path) -> Result<TreeDir, IoError> {
        let dir = Dir::open_ambient_dir(path, ambient_authority()).map_err(IoError::of("open the folder", path))?;
        Ok(TreeDir { dir, path: path.to_path_buf() })
    }

    /// The folder at a path, made if it is not there.
    pub fn create(path: &Path) -> Result<TreeDir, IoError> {
        std::fs::create_dir_all(path).map_err(IoError::of("create the folder", path))?;
        TreeDir::open(path)
    }

    /// A folder below this one, which must be there.
    pub fn folder(&self, path: &ProjectPath) -> Result<TreeDir, IoError> {
        let dir = self.dir.open_dir(path).map_err(|e| self.failed("open the folder", path, e))?;
        Ok(TreeDir { dir, path: self.path.join(path) })
    }

    /// Where it is, for messages.
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// The full path of something in it, for messages and for looking.
    pub fn full(&self, path: &ProjectPath) -> PathBuf {
        self.path.join(path)
    }

    fn failed(&self, action: &'static str, path: impl AsRef<Path>, e: io::Error) -> IoError {
        let out = "a link on the way leads out of the folder that it must stay in";
        let source = if led_out(&e) { io::Error::new(io::ErrorKind::PermissionDenied, out) } else { e };
        IoError { action, path: self.path.join(path), source }
    }

    fn metadata(&self, path: &ProjectPath) -> Result<Option<Metadata>, IoError> {
        match self.dir.symlink_metadata(path) {
            Ok(meta) => Ok(Some(meta)),
            Err(e) if is_gone(&e) => Ok(None),
            Err(e) => Err(self.failed("look at", path, e)),
        }
    }

    /// What stands at a path; `None` when nothing does.
    pub fn standing(&self, path: &ProjectPath) -> Result<Option<Standing>, IoError> {
        Ok(self.metadata(path)?.map(|meta| match meta.file_type() {
            kind if kind.is_dir() => Standing::Folder,
            kind if kind.is_symlink() => Standing::Link,
            kind if kind.is_file() => Standing::File,
            _ => Standing::Other,
        }))
    }

    /// What tells whether a regular file has been written since, whatever name it bears: `None` for anything else.
    pub fn stamp(&self, path: &ProjectPath) -> Result<Option<Stamp>, IoError> {
        let regular = self.metadata(path)?.filter(|m| m.is_file());
        Ok(regular.map(|m| Stamp { size: m.len(), modified: m.modified().ok().map(|t| t.into_std()), inode: m.ino() }))
    }

    /// Makes a folder and those above it.
    pub fn create_folder(&self, path: &ProjectPath) -> Result<(), IoError> {
        self.dir.create_dir_all(path).map_err(|e| self.failed("create the folder", path, e))
    }

    /// Makes the folder that something is to stand in.
    pub fn create_parent(&self, path: &ProjectPath) -> Result<(), IoError> {
        match path.parent() {
            Some(parent) => self.dir.create_dir_all(parent).map_err(|e| self.failed("create the folder", parent, e)),
            None => Ok(()),
        }
    }

    /// Makes a file where nothing stands; its mode is what the umask makes of `mode`.
    pub fn create_file(&self, path: &ProjectPath, mode: u32) -> Result<OutFile, IoError> {
        let mut options = OpenOptions::new();
        options.read(true).write(true).create_new(true).mode(mode);
        let file = self.dir.open_with(path, &options).map_err(|e| self.failed("create", path, e))?;
        Ok(OutFile::of(file.into_std(), &self.full(path)))
    }

    /// Makes a symbolic link with any text where nothing stands.
    pub fn create_link(&self, text: &str, path: &ProjectPath) -> Result<(), IoError> {
        self.dir.symlink_contents(text, path).map_err(|e| self.failed("create the link", path, e))
    }

    /// The text of a symbolic link.
    pub fn link_text(&self, path: &ProjectPath) -> Result<PathBuf, IoError> {
        self.dir.read_link_contents(path).map_err(|e| self.failed("read the link", path, e))
    }

    /// Gives a file of this folder a second name below another one, where nothing stands.
    pub fn share(&self, from: &ProjectPath, to: &TreeDir, path: &ProjectPath) -> Result<(), IoError> {
        self.dir.hard_link(from, &to.dir, path).map_err(|e| to.failed("share", path, e))
    }

    /// Opens a regular file for reading; a link at its end is not followed, and a pipe is not waited for.
    pub fn open_file(&self, path: &ProjectPath) -> Result<std::fs::File, IoError> {
        let mut options = OpenOptions::new();
        options.read(true).custom_flags((rustix::fs::OFlags::NOFOLLOW | rustix::fs::OFlags::NONBLOCK).bits() as i32);
        let file = self.dir.open_with(path, &options).map_err(|e| self.failed("open", path, e))?.into_std();
        match file.metadata() {
            Ok(meta) if meta.is_file() => Ok(file),
            Ok(_) => Err(self.failed("open", path, io::Error::new(io::ErrorKind::InvalidInput, "it is not a regular file"))),
            Err(e) => Err(self.failed("open", path, e)),
        }
    }

    /// Moves something to a path below another folder; what stands there is replaced if it can be.
    pub fn rename(&self, from: &ProjectPath, to: &TreeDir, path: &ProjectPath) -> Result<(), IoError> {
        let target = to.full(path);
        fault::before(Step::Rename, &target)
            .and_then(|()| self.dir.rename(from, &to.dir, path))
            .map_err(|e| to.failed("write", path, e))?;
        fault::renamed(&self.full(from), &target);
        Ok(())
    }

    /// A folder in this one for what is not whole yet; it is removed when dropped.
    pub fn scratch(&self) -> Result<Scratch, IoError> {
        static COUNT: AtomicU64 = AtomicU64::new(0);
        loop {
            let number = COUNT.fetch_add(1, Ordering::Relaxed);
            let clock = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).map_or(0, |d| d.as_nanos());
            let name = format!("{}{number:x}-{clock:x}", super::part_prefix());
            match self.dir.create_dir(&name) {
                Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {}
                Err(e) => return Err(self.failed("create a folder in", "", e)),
                Ok(()) => {
                    let fail = |e| self.failed("open the folder", &name, e);
                    let parent = self.dir.try_clone().map_err(fail)?;
                    let dir = TreeDir { dir: self.dir.open_dir(&name).map_err(fail)?, path: self.path.join(&name) };
                    return Ok(Scratch { dir, parent, name });
                }
            }
        }
    }

    /// A path at which nothing stands, with its folder made: the given one, or one with a number after each name
    /// that is taken, be it by a file where a folder is wanted.
    pub fn free_path(&self, path: &ProjectPath) -> Result<ProjectPath, IoError> {
        let refused = |fault| IoError::of("find a free name for", &self.full(path))(io::Error::other(fault));
        let mut free: Option<ProjectPath> = None;
        for (at, name) in path.split('/').enumerate() {
            let is_last = at == path.matches('/').count();
            let wanted = match &free {
                None => ProjectPath::listed(name).map_err(refused)?,
                Some(folder) => folder.join(name).map_err(refused)?,
            };
            let mut candidate = wanted.clone();
            for number in 2.. {
                match self.standing(&candidate)? {
                    None => break,
                    Some(Standing::Folder) if !is_last => break,
                    Some(_) => candidate = wanted.with_suffix(number),
                }
            }
            free = Some(candidate);
        }
        let free = free.unwrap_or_else(|| path.clone());
        self.create_parent(&free)?;
        Ok(free)
    }

    /// Moves what stands at a path to that path below another folder, or to a free one like it: nothing there is
    /// ever overwritten. Returns where it went.
    pub fn move_aside(&self, path: &ProjectPath, to: &TreeDir) -> Result<ProjectPath, IoError> {
        let target = to.free_path(path)?;
        fault::before(Step::Rename, &to.full(&target))
            .and_then(|()| self.dir.rename(path, &to.dir, &target))
            .map_err(|e| self.failed("move aside", path, e))?;
        Ok(target)
    }

    /// Removes a file, link or whole folder; nothing there is no error.
    pub fn remove(&self, path: &ProjectPath) -> Result<(), IoError> {
        let result = fault::before(Step::Remove, &self.full(path)).and_then(|()| match self.dir.symlink_metadata(path) {
            Ok(meta) if meta.is_dir() => self.dir.remove_dir_all(path),
            Ok(_) => self.dir.remove_file(path),
            Err(e) => Err(e),
        });
        match result {
            Err(e) if is_gone(&e) => Ok(()),
            other => other.map_err(|e| self.failed("remove", path, e)),
        }
    }

    /// Removes a folder if nothing is in it.
    pub fn remove_if_empty(&self, path: &ProjectPath) {
        let _ = self.dir.remove_dir(path);
    }

    /// Whether what a path leads to, links followed, is not below this folder.
    pub fn leads_out(&self, path: &str) -> bool {
        self.dir.metadata(path).is_err_and(|e| led_out(&e))
    }
}

/// A folder for what is not whole yet.
#[derive(Debug)]
pub struct Scratch {
    dir: TreeDir,
    parent: Dir,
    name: String,
}

impl Scratch {
    /// Its handle.
    pub fn dir(&self) -> &TreeDir {
        &self.dir
    }
}

impl Drop for Scratch {
    fn drop(&mut self) {
        // What is left of it is swept by whoever comes after, like that of a process that died.
        let _ = self.parent.remove_dir_all(&self.name);
    }
}

#[cfg(test)]
mod tests {
    use std::fs;
    use std::os::unix::fs::symlink;

    use super::*;

    fn path(text: &str) -> ProjectPath {
        ProjectPath::new(text).unwrap()
    }

    #[test]
    fn nothing_below_a_folder_reaches_what_is_outside_of_it() {
        let around = tempfile::tempdir().unwrap();
        let (inside, outside) = (around.path().join("in"), around.path().join("out"));
        fs::create_dir_all(inside.join("real")).unwrap();
        fs::create_dir_all(&outside).unwrap();
        fs::write(outside.join("precious"), "a").unwrap();
        symlink("../out", inside.join("relative")).unwrap();
        symlink(&outside, inside.join("absolute")).unwrap();
        symlink("real", inside.join("fine")).unwrap();
        let tree = TreeDir::open(&inside).unwrap();
        let other = TreeDir::create(&around.path().join("aside")).unwrap();
        fs::write(around.path().join("new"), "b").unwrap();
        let from = TreeDir::open(around.path()).unwrap();
        for name in ["relative", "absolute"] {
            let below = path(&format!("{name}/precious"));
            assert!(tree.remove(&below).is_err());
            assert!(tree.move_aside(&below, &other).is_err());
            assert!(tree.create_folder(&path(&format!("{name}/new"))).is_err());
            assert!(from.rename(&path("new"), &tree, &below).is_err());
            assert!(tree.leads_out(&below));
            // The link itself is in the folder, and may go.
            tree.remove(&path(name)).unwrap();
        }
        assert_eq!(fs::read(outside.join("precious")).unwrap(), b"a");
        from.rename(&path("new"), &tree, &path("fine/new")).unwrap();
        assert_eq!(fs::read(inside.join("real/new")).unwrap(), b"b");
    }

    #[test]
    fn moving_aside_overwrites_nothing() {
        let around = tempfile::tempdir().unwrap();
        let tree = TreeDir::create(&around.path().join("in")).unwrap();
        let aside = TreeDir::create(&around.path().join("aside")).unwrap();
        for (text, expected) in [("1", "a/x"), ("2", "a/x.2"), ("3", "a/x.3")] {
            fs::create_dir_all(tree.path().join("a")).unwrap();
            fs::write(tree.path().join("a/x"), text).unwrap();
            let to = tree.move_aside(&path("a/x"), &aside).unwrap();
            assert_eq!((to.as_str(), fs::read_to_string(aside.full(&to)).unwrap().as_str()), (expected, text));
        }
    }
}
