//! How many files this process may have open, and how many threads.
//!
//! A soft limit of files, often 1,024, protects old programs that keep sets of files in a fixed number of bits (`man 2 select`).
//! This one raises its own to the hard limit, since each job that it waits for is some files; what it executes gets back what was.

use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};

/// The limit before it was raised.
static BEFORE: OnceLock<Rlimit> = OnceLock::new();

/// Raises the soft limit to the hard one. Whoever executes something for somebody else sets [`open_files_before`] for it.
pub fn raise_open_files() {
    let before = getrlimit(Resource::Nofile);
    if before.current == before.maximum {
        return;
    }
    if setrlimit(Resource::Nofile, Rlimit { current: before.maximum, maximum: before.maximum }).is_ok() {
        let _ = BEFORE.set(before);
    }
}

/// The soft limit before it was raised, if it was.
pub fn open_files_before() -> Option<u64> {
    BEFORE.get().and_then(|before| before.current)
}

/// So many files may be open; none where there is no limit.
pub fn most_open_files() -> Option<usize> {
    getrlimit(Resource::Nofile).current.and_then(|most| usize::try_from(most).ok())
}

/// So many threads this process may have, as far as the kernel tells: the least of what the user's processes may have in all,
/// the groups that it is in, the whole machine, and the mapped regions of memory, of which a thread's stack takes two
/// (`man 5 proc`, `man 7 cgroups`). Others count in the same groups, so that not all of it can be had.
pub fn most_threads() -> Option<usize> {
    let number = |path: &Path| std::fs::read_to_string(path).ok().and_then(|text| text.trim().parse::<usize>().ok());
    let user = getrlimit(Resource::Nproc).current.and_then(|most| usize::try_from(most).ok());
    let regions = number(Path::new("/proc/sys/vm/max_map_count")).map(|most| most / 2);
    let machine =
        ["/proc/sys/kernel/threads-max", "/proc/sys/kernel/pid_max"].into_iter().filter_map(|path| number(Path::new(path)));
    let groups = std::fs::read_to_string("/proc/self/cgroup").unwrap_or_default();
    let groups = pids_files(&groups).into_iter().filter_map(|path| number(&path));
    user.into_iter().chain(regions).chain(machine).chain(groups).min()
}

/// Where the limits of the groups stand that this text (`/proc/self/cgroup`) names, up to the uppermost.
fn pids_files(groups: &str) -> Vec<PathBuf> {
    let group = |line: &str| {
        let mut parts = line.splitn(3, ':');
        let (_, kinds, path) = (parts.next()?, parts.next()?, parts.next()?);
        let top = match kinds {
            "" => Path::new("/sys/fs/cgroup"),
            kinds if kinds.split(',').any(|k| k == "pids") => Path::new("/sys/fs/cgroup/pids"),
            _ => return None,
        };
        let own = top.join(path.trim_start_matches('/'));
        Some(own.ancestors().take_while(|a| a.starts_with(top)).map(|a| a.join("pids.max")).collect::<Vec<_>>())
    };
    groups.lines().filter_map(group).flatten().collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_limits_of_all_groups_above_count() {
        let of = |text: &str| pids_files(text).iter().map(|p| p.display().to_string()).collect::<Vec<_>>();
        let slice = "0::/user.slice/user-1000.slice\n";
        let at = |below: &str| format!("/sys/fs/cgroup/{below}pids.max");
        assert_eq!(of(slice), [at("user.slice/user-1000.slice/"), at("user.slice/"), at("")]);
        assert_eq!(of("9:name=systemd:/\n8:pids:/a\n4:cpu,memory:/b\n"), [at("pids/a/"), at("pids/")]);
        assert_eq!(of("no such line\n0:\n"), [""; 0]);
        assert!(most_threads().is_some_and(|most| most > 1), "this process has one already, and this test another");
    }
}
