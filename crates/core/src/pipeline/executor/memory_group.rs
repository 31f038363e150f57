//! A control group of the kernel's for each stage that says how much memory it needs: it is held to that exactly,
//! also between two looks. Where no group can be had, the stage is watched only (`processes::memory_of`).
//!
//! Source of names and meanings: the kernel's `admin-guide/cgroup-v2` and `admin-guide/cgroup-v1/memory`. Groups are
//! made below this process's own group alone, and in version 2 only where that holds nobody else: a group that has
//! processes hands no controllers on, and the groups of others belong to whoever set them up.
// The files of groups are the kernel's: they are not made, lost or torn as others are.
#![allow(clippy::disallowed_methods)]

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::sync::atomic::{AtomicU64, Ordering};

use rustix::process::{Pid, Signal, kill_process};

/// The two ways in which the kernel offers groups.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Version {
    One,
    Two,
}

impl Version {
    fn limit(self) -> &'static str {
        match self {
            Version::One => "memory.limit_in_bytes",
            Version::Two => "memory.max",
        }
    }

    /// The file with a line `oom_kill N`.
    fn kills(self) -> &'static str {
        match self {
            Version::One => "memory.oom_control",
            Version::Two => "memory.events",
        }
    }
}

/// The group below which those of stages are made.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Base {
    folder: PathBuf,
    version: Version,
}

/// The group of one stage. Dropped, what is left in it is killed, and it is removed.
#[derive(Debug)]
pub(super) struct MemoryGroup {
    folder: PathBuf,
    version: Version,
}

impl MemoryGroup {
    /// Makes a group that holds no more than `limit` bytes; `None` where the system has none to give.
    pub(super) fn make(limit: u64) -> Option<MemoryGroup> {
        static BASE: OnceLock<Option<Base>> = OnceLock::new();
        let base = BASE.get_or_init(|| {
            let read = |path: &str| fs::read_to_string(path).ok();
            let base = own_group(&read("/proc/self/mountinfo")?, &read("/proc/self/cgroup")?)?;
            sweep(&base.folder);
            match base.version {
                Version::One => Some(base),
                Version::Two => hand_on(base, std::process::id()),
            }
        });
        base.as_ref()?.make(limit)
    }

    /// The file by which a process that writes `0` to it joins the group.
    pub(super) fn door(&self) -> PathBuf {
        self.folder.join(MEMBERS)
    }

    /// Whether the kernel has killed one of its processes since they wanted more than the limit.
    pub(super) fn has_overstepped(&self) -> bool {
        kills_in(&self.folder.join(self.version.kills())) > 0
    }

    fn members(&self) -> Vec<Pid> {
        let text = fs::read_to_string(self.door()).unwrap_or_default();
        text.lines().filter_map(|line| Pid::from_raw(line.parse().ok()?)).collect()
    }
}

impl Drop for MemoryGroup {
    fn drop(&mut self) {
        // A process that starts others while it is killed may need more than one round. One that the kernel is
        // still taking down holds the group a moment longer: it is swept later.
        for _ in 0..100 {
            for pid in self.members() {
                let _ = kill_process(pid, Signal::KILL);
            }
            if fs::remove_dir(&self.folder).is_ok() {
                return;
            }
            std::thread::yield_now();
        }
    }
}

const MEMBERS: &str = "cgroup.procs";
const PREFIX: &str = "textum-";

impl Base {
    fn make(&self, limit: u64) -> Option<MemoryGroup> {
        static COUNT: AtomicU64 = AtomicU64::new(0);
        let name = format!("{PREFIX}{}-{}", std::process::id(), COUNT.fetch_add(1, Ordering::Relaxed));
        let folder = self.folder.join(name);
        fs::create_dir(&folder).ok()?;
        let group = MemoryGroup { folder, version: self.version };
        write(&group.folder.join(self.version.limit()), &limit.to_string()).ok()?;
        // What may not stay in memory must not go out to disk either; not every kernel keeps count of that.
        let _ = match self.version {
            Version::One => write(&group.folder.join("memory.memsw.limit_in_bytes"), &limit.to_string()),
            Version::Two => {
                write(&group.folder.join("memory.swap.max"), "0").and_then(|()| write(&group.folder.join("memory.oom.group"), "1"))
            }
        };
        Some(group)
    }
}

/// The files of a group are there already: one that is not must not be made.
fn write(file: &Path, text: &str) -> io::Result<()> {
    use io::Write;
    fs::OpenOptions::new().write(true).open(file)?.write_all(text.as_bytes())
}

fn kills_in(file: &Path) -> u64 {
    let text = fs::read_to_string(file).unwrap_or_default();
    text.lines().find_map(|line| line.strip_prefix("oom_kill ")?.trim().parse().ok()).unwrap_or(0)
}

/// This process's own group with the controller of memory, by the texts of `/proc/self/mountinfo` and
/// `/proc/self/cgroup`.
fn own_group(mounts: &str, groups: &str) -> Option<Base> {
    let of_memory = |line: &&str| line.split(':').nth(1).is_some_and(|names| names.split(',').any(|n| n == "memory"));
    let (version, line) = match groups.lines().find(of_memory) {
        Some(line) => (Version::One, line),
        None => (Version::Two, groups.lines().find(|l| l.starts_with("0::"))?),
    };
    let own = line.splitn(3, ':').nth(2)?;
    for mount in mounts.lines() {
        let (before, after) = mount.split_once(" - ")?;
        let (mut before, mut after) = (before.split(' ').skip(3), after.split(' '));
        let (root, point) = (before.next()?, before.next()?);
        let (kind, options) = (after.next()?, after.nth(1)?);
        let fits = match version {
            Version::One => kind == "cgroup" && options.split(',').any(|o| o == "memory"),
            Version::Two => kind == "cgroup2",
        };
        // Only a part of the tree of groups may be mounted, as it is in a container.
        let below = own.strip_prefix(root.trim_end_matches('/')).map(|p| p.trim_start_matches('/'));
        if let (true, Some(below)) = (fits, below) {
            // A space in a mount's path is written as a number; nobody mounts groups there.
            return Some(Base { folder: Path::new(point).join(below), version });
        }
    }
    None
}

/// Makes a group of version 2 hand the controller of memory on to the groups below it. For that this process, which
/// must be alone in it, moves into a group of its own below it.
fn hand_on(base: Base, own: u32) -> Option<Base> {
    let file = |name: &str| base.folder.join(name);
    let has_memory = |name: &str| fs::read_to_string(file(name)).is_ok_and(|text| text.split_whitespace().any(|c| c == "memory"));
    if !has_memory("cgroup.controllers") {
        return None;
    }
    let members = fs::read_to_string(file(MEMBERS)).ok()?;
    if !has_memory("cgroup.subtree_control") {
        if members.lines().any(|line| line != own.to_string()) {
            return None;
        }
        let leaf = file(&format!("{PREFIX}{own}-self"));
        fs::create_dir(&leaf).ok()?;
        let handed_on = write(&leaf.join(MEMBERS), "0").and_then(|()| write(&file("cgroup.subtree_control"), "+memory"));
        if handed_on.is_err() {
            let _ = write(&file(MEMBERS), "0");
            let _ = fs::remove_dir(&leaf);
            return None;
        }
    }
    Some(base)
}

/// Removes the groups of processes that are gone. A group in which somebody lives cannot be removed.
fn sweep(base: &Path) {
    for entry in fs::read_dir(base).into_iter().flatten().flatten() {
        let name = entry.file_name();
        let pid = name.to_str().and_then(|n| n.strip_prefix(PREFIX)?.split('-').next()?.parse::<u32>().ok());
        if pid.is_some_and(|pid| !Path::new("/proc").join(pid.to_string()).exists()) {
            let _ = fs::remove_dir(entry.path());
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_own_group_is_found_in_either_version_and_in_a_container() {
        let one = "31 23 0:28 / /sys/fs/cgroup rw - tmpfs tmpfs rw\n32 31 0:29 / /sys/fs/cgroup/cpu rw - cgroup cgroup rw,cpu\n\
                   35 31 0:32 / /sys/fs/cgroup/memory rw shared:4 - cgroup cgroup rw,memory\n41 31 0:38 / /sys/fs/cgroup/unified rw - cgroup2 cgroup2 rw\n";
        let found = own_group(one, "5:cpu,cpuacct:/\n4:memory:/shed/loom\n0::/\n").unwrap();
        assert_eq!(found, Base { folder: "/sys/fs/cgroup/memory/shed/loom".into(), version: Version::One });
        let two = "30 23 0:26 / /sys/fs/cgroup rw,nosuid - cgroup2 cgroup2 rw,nsdelegate\n";
        let found = own_group(two, "0::/user.slice/shed.scope\n").unwrap();
        assert_eq!(found, Base { folder: "/sys/fs/cgroup/user.slice/shed.scope".into(), version: Version::Two });
        // Seen from a container, the part of the tree that is mounted begins at its own group.
        let part = "30 23 0:26 /docker/7f /sys/fs/cgroup ro - cgroup2 cgroup2 rw\n";
        assert_eq!(own_group(part, "0::/docker/7f/shed\n").unwrap().folder, Path::new("/sys/fs/cgroup/shed"));
        assert_eq!(own_group(part, "0::/elsewhere\n"), None);
        assert_eq!(own_group("nonsense\n", "0::/\n"), None);
        assert_eq!(own_group(one, "0::\n").map(|b| b.version), Some(Version::Two));
        assert_eq!(own_group("", ""), None);
    }

    /// A folder stands in for a group: what the kernel would make of it is left out.
    #[test]
    fn a_group_of_version_two_is_handed_on_only_by_who_is_alone_in_it() {
        let folder = tempfile::tempdir().unwrap();
        let base = Base { folder: folder.path().to_path_buf(), version: Version::Two };
        let put = |name: &str, text: &str| fs::write(folder.path().join(name), text).unwrap();
        put("cgroup.controllers", "cpu pids\n");
        put("cgroup.subtree_control", "");
        put(MEMBERS, "7\n");
        assert_eq!(hand_on(base.clone(), 7), None, "it has no controller of memory");
        put("cgroup.controllers", "cpu memory pids\n");
        put(MEMBERS, "7\n8\n");
        assert_eq!(hand_on(base.clone(), 7), None, "somebody else is in it");
        put(MEMBERS, "7\n");
        assert_eq!(hand_on(base.clone(), 7), None, "this process could not be moved");
        assert!(!folder.path().join("textum-7-self").exists());
        put("cgroup.subtree_control", "memory\n");
        put(MEMBERS, "");
        assert_eq!(hand_on(base.clone(), 7), Some(base.clone()));
        // No file of a group is made: one that is missing is no group.
        assert!(base.make(1 << 20).is_none());
        assert_eq!(fs::read_dir(folder.path()).unwrap().flatten().filter(|e| e.path().is_dir()).count(), 0);
    }

    #[test]
    fn kills_are_counted_by_the_line_of_their_name() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("memory.events");
        assert_eq!(kills_in(&file), 0);
        fs::write(&file, "low 0\nhigh 0\nmax 31\noom 2\noom_kill 1\noom_group_kill 1\n").unwrap();
        assert_eq!(kills_in(&file), 1);
        fs::write(&file, "oom_kill_disable 0\nunder_oom 1\noom_kill 0\n").unwrap();
        assert_eq!(kills_in(&file), 0);
    }
}
