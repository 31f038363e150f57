//! Where a name leads: looked up part by part, as the kernel does it for the thread that asks.
//!
//! Links that the command made itself, and those of the kernel (`/proc/self/fd/3`, `/dev/stdin`), are replaced by what they
//! lead to: what is reached is what counts. Links that were there before stay in the name, which is asked for again later.
//!
//! Sources: `path_resolution(7)`, `proc_pid_fd(5)`, `proc_pid_cwd(5)`.

use std::collections::HashMap;
use std::ffi::OsStr;
use std::fs::{self, Metadata};
use std::io::ErrorKind;
use std::os::unix::ffi::OsStrExt;
use std::path::{Component, Path, PathBuf};
use std::rc::Rc;

use nix::unistd::Pid;

/// What a name leads to.
#[derive(Clone, Debug)]
pub struct Place {
    /// The name to ask by later: the command's own links and the kernel's are replaced by what they lead to.
    pub name: PathBuf,
    /// The file itself, without any link on the way.
    pub real: PathBuf,
    /// What was passed on the way.
    pub way: Rc<Way>,
    /// Its metadata, if it is there.
    pub meta: Option<Metadata>,
}

/// What was passed on the way to a name and is not in it.
#[derive(Clone, Debug, Default)]
pub struct Way {
    /// Links: each with what it leads to.
    pub links: Vec<(PathBuf, PathBuf)>,
    /// Folders that were gone back from by `..`, or led to by a link of the command's own.
    pub through: Vec<PathBuf>,
}

/// As many links are followed as the kernel follows.
const MOST_LINKS: usize = 40;
/// Folders are looked up again after this number of them.
const MOST_KNOWN: usize = 1 << 16;

/// A step on the way.
#[derive(Clone, Debug, Default)]
struct At {
    name: PathBuf,
    real: PathBuf,
    way: Way,
    /// Whether a part of it is not there.
    is_missing: bool,
    followed: usize,
}

/// A folder whose way is known.
struct Folder {
    name: PathBuf,
    /// The folder itself, if it has another name.
    real: Option<PathBuf>,
    way: Rc<Way>,
}

/// Folders whose way is known, by the names that they were asked for by.
#[derive(Default)]
pub struct Resolver {
    known: HashMap<Vec<u8>, Folder, foldhash::fast::RandomState>,
}

/// A path cut into its folder and a last name in it; nothing for one that ends in a folder, or goes through the kernel's own
/// files: some of these are other ones for each thread.
fn split(path: &Path) -> Option<(&[u8], &OsStr)> {
    let bytes = path.as_os_str().as_bytes();
    let at = bytes.iter().rposition(|b| *b == b'/')?;
    let (folder, last) = (&bytes[..at], &bytes[at + 1..]);
    let is_name = !last.is_empty() && last != b"." && last != b"..";
    (is_name && !bytes.starts_with(b"/proc") && !bytes.starts_with(b"/dev")).then(|| (folder, OsStr::from_bytes(last)))
}

impl Resolver {
    /// Forgets all: a link or a folder has changed.
    pub fn forget(&mut self) {
        self.known.clear();
    }

    /// Where an absolute name leads for a thread; `follow`: also its last part, if that is a link. `own`: whether the command
    /// made what is at a path.
    pub fn find(&mut self, thread: Pid, asked: &Path, follow: bool, own: &dyn Fn(&Path) -> bool) -> Place {
        let walk = Walk { thread, own };
        let Some((folder, last)) = split(asked) else { return place(walk.along(At::root(), asked, follow), follow) };
        if !self.known.contains_key(folder) {
            let at = walk.along(At::root(), Path::new(OsStr::from_bytes(folder)), true);
            if at.is_missing {
                return place(walk.along(At::root(), asked, follow), follow);
            }
            if self.known.len() >= MOST_KNOWN {
                self.known.clear();
            }
            let real = (at.real != at.name).then_some(at.real);
            self.known.insert(folder.to_vec(), Folder { name: at.name, real, way: Rc::new(at.way) });
        }
        let Some(known) = self.known.get(folder) else { return place(walk.along(At::root(), asked, follow), follow) };
        // Nearly all names are of files that are no links, or of nothing: one look tells.
        let name = known.name.join(last);
        let real = known.real.as_ref().map_or_else(|| name.clone(), |real| real.join(last));
        match fs::symlink_metadata(&real) {
            Ok(meta) if !(follow && meta.is_symlink()) => Place { name, real, way: known.way.clone(), meta: Some(meta) },
            Err(e) if e.kind() == ErrorKind::NotFound => Place { name: real.clone(), real, way: known.way.clone(), meta: None },
            _ => {
                let real = known.real.clone().unwrap_or_else(|| known.name.clone());
                let at = At { name: known.name.clone(), real, way: (*known.way).clone(), ..At::default() };
                place(walk.along(at, Path::new(last), follow), follow)
            }
        }
    }
}

/// What a walk has come to. A link that leads nowhere is not there by the name of what it leads to.
fn place(mut at: At, follow: bool) -> Place {
    let meta = match (at.is_missing, follow) {
        (true, _) => None,
        (false, true) => fs::metadata(&at.real).ok(),
        (false, false) => fs::symlink_metadata(&at.real).ok(),
    };
    if meta.is_none() && at.name != at.real {
        at.name.clone_from(&at.real);
    }
    Place { name: at.name, real: at.real, way: Rc::new(at.way), meta }
}

impl At {
    fn root() -> At {
        At { name: PathBuf::from("/"), real: PathBuf::from("/"), ..At::default() }
    }

    fn enter(&mut self, part: &OsStr) {
        self.name.push(part);
        self.real.push(part);
    }

    fn leave(&mut self) {
        self.way.through.push(self.real.clone());
        self.real.pop();
        // The name of a folder that a link leads to has no folder of its own above it.
        self.name.clone_from(&self.real);
    }
}

struct Walk<'w> {
    thread: Pid,
    own: &'w dyn Fn(&Path) -> bool,
}

impl Walk<'_> {
    fn along(&self, mut at: At, path: &Path, follow: bool) -> At {
        let ends_in_folder = path.as_os_str().as_bytes().ends_with(b"/");
        let mut parts = path.components().peekable();
        while let Some(part) = parts.next() {
            let is_last = parts.peek().is_none() && !ends_in_folder;
            match part {
                Component::RootDir => {
                    (at.name, at.real) = (PathBuf::from("/"), PathBuf::from("/"));
                }
                Component::ParentDir => at.leave(),
                Component::Normal(part) => {
                    at = self.step(at, part, !is_last || follow);
                    if at.is_missing {
                        // What comes after it is not there either.
                        for rest in parts {
                            match rest {
                                Component::ParentDir => at.leave(),
                                Component::Normal(part) => at.enter(part),
                                _ => {}
                            }
                        }
                        return at;
                    }
                }
                Component::CurDir | Component::Prefix(_) => {}
            }
        }
        at
    }

    fn step(&self, mut at: At, part: &OsStr, follow: bool) -> At {
        let this = match at.real.as_os_str() == "/proc" && (part == "self" || part == "thread-self") {
            true => at.real.join(self.thread.to_string()),
            false => at.real.join(part),
        };
        if let Some(target) = kernels_link(&this) {
            if !follow {
                at.enter(part);
                return at;
            }
            // What has no name in the tree (a pipe, a deleted file) stays where it was found.
            let target = target.filter(|t| t.is_absolute() && !t.as_os_str().as_bytes().ends_with(b" (deleted)"));
            if let Some(target) = target {
                (at.name, at.real) = (target.clone(), target);
            } else {
                (at.name, at.real) = (this.clone(), this);
            }
            return at;
        }
        match fs::symlink_metadata(&this) {
            Err(_) => {
                at.enter(part);
                at.is_missing = true;
                at
            }
            Ok(meta) if !(meta.is_symlink() && follow) || at.followed >= MOST_LINKS => {
                at.name.push(part);
                at.real = this;
                at
            }
            Ok(_) => {
                let target = fs::read_link(&this).unwrap_or_default();
                let is_own = (self.own)(&this) || this.starts_with("/dev") || this.starts_with("/proc");
                let name = at.name.join(part);
                let from = At { name: at.real.clone(), followed: at.followed + 1, ..at.clone() };
                let mut led = self.along(from, &target, true);
                if is_own && !led.is_missing {
                    led.way.through.push(led.real.clone());
                } else if !is_own {
                    led.way.links.push((this, target));
                    if !led.is_missing {
                        led.name = name;
                    }
                }
                led
            }
        }
    }
}

/// What a link of the kernel's leads to, if a path in `/proc` is one: a file that a process has open, its folder or root.
fn kernels_link(path: &Path) -> Option<Option<PathBuf>> {
    let below = path.strip_prefix("/proc").ok()?;
    let parts: Vec<&str> = below.iter().filter_map(OsStr::to_str).collect();
    let of_process = match parts.as_slice() {
        [_, "task", _, rest @ ..] => rest,
        [_, rest @ ..] => rest,
        [] => return None,
    };
    match of_process {
        ["cwd" | "root" | "exe"] | ["fd" | "map_files", _] => Some(fs::read_link(path).ok()),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::symlink;

    use super::*;

    fn here() -> Pid {
        nix::unistd::getpid()
    }

    #[test]
    fn own_links_are_replaced_and_those_of_others_stay_in_the_name() {
        let folder = tempfile::tempdir().unwrap();
        let root = fs::canonicalize(folder.path()).unwrap();
        fs::create_dir_all(root.join("far/inner")).unwrap();
        fs::write(root.join("far/x.csv"), "x").unwrap();
        fs::write(root.join("far/inner/y.csv"), "y").unwrap();
        symlink("far/inner", root.join("link")).unwrap();
        symlink("x.csv", root.join("far/own")).unwrap();
        symlink("far/nothing", root.join("dangling")).unwrap();
        symlink("loop", root.join("loop")).unwrap();
        let own = |path: &Path| path.file_name().is_some_and(|n| n == "own");
        let mut resolver = Resolver::default();
        let mut find = |asked: &str, follow| {
            let found = resolver.find(here(), &root.join(asked), follow, &own);
            let below = |p: &Path| p.strip_prefix(&root).unwrap().display().to_string();
            (below(&found.name), below(&found.real), found.way.links.len(), found.meta.is_some())
        };
        let of = |name: &str, real: &str, links, there| (name.to_string(), real.to_string(), links, there);
        for _ in 0..2 {
            assert_eq!(find("./far//x.csv", true), of("far/x.csv", "far/x.csv", 0, true));
            assert_eq!(find("link/y.csv", true), of("link/y.csv", "far/inner/y.csv", 1, true));
            assert_eq!(find("link/../x.csv", true), of("far/x.csv", "far/x.csv", 1, true));
            assert_eq!(find("far/own", true), of("far/x.csv", "far/x.csv", 0, true));
            assert_eq!(find("far/own", false), of("far/own", "far/own", 0, true));
            assert_eq!(find("link/../own", true), of("far/x.csv", "far/x.csv", 1, true));
            assert_eq!(find("dangling", true), of("far/nothing", "far/nothing", 1, false));
            assert_eq!(find("link/none/deeper", true), of("far/inner/none/deeper", "far/inner/none/deeper", 1, false));
            assert_eq!(find("nothing/../far", true), of("far", "far", 0, false));
            assert!(!find("loop", true).3);
        }
    }

    #[test]
    fn links_of_the_kernel_lead_to_what_is_open() {
        let folder = tempfile::tempdir().unwrap();
        let path = fs::canonicalize(folder.path()).unwrap().join("open");
        fs::write(&path, "x").unwrap();
        let file = fs::File::open(&path).unwrap();
        let number = std::os::fd::AsRawFd::as_raw_fd(&file);
        let mut resolver = Resolver::default();
        let mut find = |asked: &str| resolver.find(here(), Path::new(asked), true, &|_| false).real;
        assert_eq!(find(&format!("/proc/self/fd/{number}")), path);
        assert_eq!(find(&format!("/dev/fd/{number}")), path);
        assert_eq!(find(&format!("/proc/thread-self/root{}", path.display())), path);
        assert_eq!(find("/proc/self/cwd"), std::env::current_dir().unwrap());
        assert!(find("/proc/self/status").starts_with("/proc"));
    }
}
