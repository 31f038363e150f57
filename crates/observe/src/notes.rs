//! What is noted of the calls of a command, by path, and what it comes to in the end.

use std::collections::{BTreeSet, HashMap, HashSet};
use std::fs::{self, Metadata};
use std::net::SocketAddr;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use nix::libc;
use nix::unistd::Pid;

use super::calls::{Call, network_address};
use super::loopback::{self, Answers};
use super::names::{from_text, to_text};
use super::record::{Absent, Listed, Observation, Opened, Seal, Stamp};
use super::sockets::Protocol;

/// What is known of one path.
#[derive(Clone, Copy, Debug, Default)]
struct Note {
    /// How it stood when it was first read.
    read: Option<Stamp>,
    executed: bool,
    linked: bool,
    looked_at: bool,
    listed: bool,
    listed_for_modules: bool,
    absent: bool,
    /// Of what was absent: whether it was opened or executed, not only looked for.
    asked_to_open: bool,
    changed: bool,
    /// Whether anything of it was seen before it was changed.
    seen_before: bool,
}

/// The last thing that a thread did, which tells what its next one means.
#[derive(Debug)]
enum Last {
    LookedAt(PathBuf),
    OpenedFolder(PathBuf, bool),
}

/// All notes of a command.
#[derive(Default)]
pub struct Notes {
    paths: HashMap<PathBuf, Note>,
    /// Folders that the command made, or renamed: everything in them is its own.
    own_folders: HashSet<PathBuf>,
    last: HashMap<Pid, Last>,
    /// What may be read, and what may be written too, if the command is sealed.
    sealed: Option<(Vec<PathBuf>, Vec<PathBuf>)>,
    refused: BTreeSet<String>,
    network: BTreeSet<SocketAddr>,
    /// Addresses at which the command itself answers.
    own_addresses: BTreeSet<(SocketAddr, Protocol)>,
    /// Addresses of this machine at which nobody answered.
    unanswered: BTreeSet<(SocketAddr, Protocol)>,
    /// Addresses at which the command wanted to answer.
    bound: BTreeSet<(SocketAddr, Protocol)>,
    /// The address that was connected to last.
    connecting: Option<(Pid, SocketAddr, Protocol)>,
    unseen: BTreeSet<String>,
}

fn stamp(meta: &Metadata) -> Stamp {
    let nanos = |seconds: i64, rest: i64| seconds.saturating_mul(1_000_000_000).saturating_add(rest);
    Stamp {
        size: meta.size(),
        mtime: nanos(meta.mtime(), meta.mtime_nsec()),
        ctime: nanos(meta.ctime(), meta.ctime_nsec()),
        inode: meta.ino(),
    }
}

/// What is never looked at: it is the kernel's, and another one at every look.
fn is_the_kernels(path: &Path) -> bool {
    ["/proc", "/sys", "/dev"].iter().any(|p| path.starts_with(p))
}

impl Notes {
    /// Notes of a command that is sealed, if it is.
    pub fn new(seal: Option<&Seal>) -> Notes {
        let real = |paths: &[String]| paths.iter().filter_map(|p| fs::canonicalize(from_text(p)).ok()).collect::<Vec<_>>();
        Notes { sealed: seal.map(|seal| (real(&seal.read), real(&seal.write))), ..Notes::default() }
    }

    /// Whether the kernel lets a sealed command open this.
    fn is_allowed(&self, path: &Path, writes: bool) -> bool {
        let Some((read, write)) = &self.sealed else { return true };
        // Of what is not there yet, its folder decides.
        let real = fs::canonicalize(path).or_else(|_| fs::canonicalize(path.parent().unwrap_or(path)));
        let Ok(real) = real else { return true };
        write.iter().any(|p| real.starts_with(p)) || (!writes && read.iter().any(|p| real.starts_with(p)))
    }

    fn refuse(&mut self, path: &Path) {
        self.refused.insert(to_text(path.as_os_str().as_bytes()));
    }

    /// Notes a call, as it is about to be carried out.
    pub fn take(&mut self, call: &Call) {
        let last = self.last.remove(&call.thread);
        let a = &call.arguments;
        match call.number {
            libc::SYS_openat => self.opens(call, call.path_at(a[0], a[1]), a[2] as i32, last),
            libc::SYS_openat2 => {
                let how = call.bytes(a[2], 8);
                let flags = how.try_into().map_or(0, u64::from_ne_bytes);
                self.opens(call, call.path_at(a[0], a[1]), flags as i32, last);
            }
            libc::SYS_execve => self.executes(call.path(a[0])),
            libc::SYS_execveat => self.executes(call.path_at(a[0], a[1]).or_else(|| call.open_file(a[0] as i32))),
            libc::SYS_newfstatat => self.looks(call, call.path_at(a[0], a[1]), a[3] as i32 & libc::AT_SYMLINK_NOFOLLOW == 0),
            libc::SYS_statx => self.looks(call, call.path_at(a[0], a[1]), a[2] as i32 & libc::AT_SYMLINK_NOFOLLOW == 0),
            libc::SYS_faccessat | libc::SYS_faccessat2 | libc::SYS_readlinkat => {
                self.looks(call, call.path_at(a[0], a[1]), false);
            }
            libc::SYS_getdents64 => self.lists(call, last),
            libc::SYS_connect => self.connects(call, &call.bytes(a[1], (a[2] as usize).min(128))),
            libc::SYS_bind => self.binds(call, &call.bytes(a[1], (a[2] as usize).min(128))),
            libc::SYS_renameat | libc::SYS_renameat2 => self.renames(call.path_at(a[0], a[1]), call.path_at(a[2], a[3])),
            libc::SYS_linkat => self.links(call.path_at(a[0], a[1]), call.path_at(a[2], a[3])),
            libc::SYS_symlinkat => self.changes(call.path_at(a[1], a[2])),
            libc::SYS_unlinkat => self.changes(call.path_at(a[0], a[1])),
            libc::SYS_mkdirat => self.makes_folder(call.path_at(a[0], a[1])),
            libc::SYS_truncate => self.changes(call.path(a[0])),
            libc::SYS_open_by_handle_at => self.is_unseen("files opened by handles"),
            #[cfg(target_arch = "x86_64")]
            number => self.take_old(call, number, last),
            #[cfg(not(target_arch = "x86_64"))]
            _ => {}
        }
    }

    /// The calls that only older architectures have.
    #[cfg(target_arch = "x86_64")]
    fn take_old(&mut self, call: &Call, number: libc::c_long, last: Option<Last>) {
        let a = &call.arguments;
        match number {
            libc::SYS_open => self.opens(call, call.path(a[0]), a[1] as i32, last),
            libc::SYS_creat => self.opens(call, call.path(a[0]), libc::O_CREAT | libc::O_WRONLY | libc::O_TRUNC, last),
            libc::SYS_stat => self.looks(call, call.path(a[0]), true),
            libc::SYS_lstat | libc::SYS_access | libc::SYS_readlink => self.looks(call, call.path(a[0]), false),
            libc::SYS_getdents => self.lists(call, last),
            libc::SYS_rename => self.renames(call.path(a[0]), call.path(a[1])),
            libc::SYS_unlink | libc::SYS_rmdir => self.changes(call.path(a[0])),
            libc::SYS_link => self.links(call.path(a[0]), call.path(a[1])),
            libc::SYS_symlink => self.changes(call.path(a[1])),
            libc::SYS_mkdir => self.makes_folder(call.path(a[0])),
            _ => {}
        }
    }

    /// Something that cannot be seen through, in words.
    pub fn is_unseen(&mut self, what: &str) {
        self.unseen.insert(what.to_string());
    }

    /// The program that a process has become: what a `#!` line names is executed without being asked for.
    pub fn became(&mut self, process: Pid) {
        let program = fs::read_link(format!("/proc/{process}/exe")).ok();
        self.executes(program.filter(|p| p.is_absolute() && !p.to_string_lossy().ends_with(" (deleted)")));
    }

    fn is_own(&self, path: &Path) -> bool {
        self.paths.get(path).is_some_and(|n| n.changed)
            || (!self.own_folders.is_empty() && path.ancestors().any(|a| self.own_folders.contains(a)))
    }

    /// What a name that the command made itself leads to, if it is a link: that may be anybody's.
    fn behind_own_link(&self, path: PathBuf) -> PathBuf {
        match self.is_own(&path) && fs::symlink_metadata(&path).is_ok_and(|m| m.is_symlink()) {
            true => fs::canonicalize(&path).unwrap_or(path),
            false => path,
        }
    }

    fn opens(&mut self, call: &Call, path: Option<PathBuf>, flags: i32, last: Option<Last>) {
        let Some(path) = path.filter(|p| !is_the_kernels(p)) else { return };
        if flags & libc::O_TMPFILE == libc::O_TMPFILE {
            return;
        }
        if flags & libc::O_PATH != 0 {
            return self.looks(call, Some(path), false);
        }
        let path = self.behind_own_link(path);
        let writes = flags & libc::O_ACCMODE != libc::O_RDONLY || flags & (libc::O_CREAT | libc::O_TRUNC) != 0;
        if !writes && self.paths.get(&path).is_some_and(|n| n.read.is_some() || n.changed) {
            return;
        }
        let found = fs::metadata(&path);
        if !self.is_allowed(&path, writes) && (writes || found.is_ok()) {
            return self.refuse(&path);
        }
        if writes {
            // What it held is still there unless it is cut off.
            if flags & libc::O_TRUNC == 0
                && let Ok(meta) = &found
            {
                self.reads(&path, meta, false);
            }
            return self.changes(Some(path));
        }
        match found {
            Ok(meta) if meta.is_dir() => {
                let for_modules = matches!(&last, Some(Last::LookedAt(before)) if *before == path);
                self.last.insert(call.thread, Last::OpenedFolder(path.clone(), for_modules));
                self.exists(path);
            }
            Ok(meta) => self.reads(&path, &meta, false),
            Err(_) => self.is_absent(path, true),
        }
    }

    fn reads(&mut self, path: &Path, meta: &Metadata, executed: bool) {
        if self.is_own(path) || !meta.is_file() {
            return;
        }
        let note = self.paths.entry(path.to_path_buf()).or_default();
        note.read.get_or_insert_with(|| stamp(meta));
        note.executed |= executed;
    }

    fn executes(&mut self, path: Option<PathBuf>) {
        let Some(path) = path.filter(|p| !is_the_kernels(p)) else { return };
        let path = self.behind_own_link(path);
        match fs::metadata(&path) {
            Ok(_) if !self.is_allowed(&path, false) => self.refuse(&path),
            Ok(meta) => self.reads(&path, &meta, true),
            Err(_) => self.is_absent(path, true),
        }
    }

    fn looks(&mut self, call: &Call, path: Option<PathBuf>, follows: bool) {
        let Some(path) = path.filter(|p| !is_the_kernels(p)) else { return };
        if follows {
            self.last.insert(call.thread, Last::LookedAt(path.clone()));
        }
        if self.paths.get(&path).is_some_and(|n| n.looked_at || n.read.is_some() || n.changed) || self.is_own(&path) {
            return;
        }
        match fs::symlink_metadata(&path) {
            Ok(_) => self.exists(path),
            Err(_) => self.is_absent(path, false),
        }
    }

    fn exists(&mut self, path: PathBuf) {
        if !self.is_own(&path) {
            self.paths.entry(path).or_default().looked_at = true;
        }
    }

    fn is_absent(&mut self, path: PathBuf, asked_to_open: bool) {
        if self.is_own(&path) {
            return;
        }
        let note = self.paths.entry(path).or_default();
        note.absent = true;
        note.asked_to_open |= asked_to_open;
    }

    fn lists(&mut self, call: &Call, last: Option<Last>) {
        let Some(path) = call.open_file(call.arguments[0] as i32).filter(|p| !is_the_kernels(p)) else { return };
        let for_modules = match &last {
            Some(Last::OpenedFolder(opened, for_modules)) => *for_modules && fs::canonicalize(opened).is_ok_and(|o| o == path),
            _ => false,
        };
        // Its next call reads on in the same folder, until nothing is left.
        if let Some(last) = last {
            self.last.insert(call.thread, last);
        }
        if self.is_own(&path) {
            return;
        }
        let note = self.paths.entry(path).or_default();
        note.listed_for_modules |= for_modules;
        note.listed |= !for_modules;
    }

    fn connects(&mut self, call: &Call, address: &[u8]) {
        // Looking up names, and asking the kernel for a way without sending anything, says nothing of who answers.
        if let Some(address) = network_address(address).filter(|a: &SocketAddr| !matches!(a.port(), 0 | 53)) {
            if self.sealed.is_some() {
                self.refused.insert(address.to_string());
                return;
            }
            let protocol = call.protocol(call.arguments[0] as i32);
            if !self.own_addresses.contains(&(address, protocol)) {
                self.connecting = Some((call.thread, address, protocol));
            }
        }
    }

    fn binds(&mut self, call: &Call, address: &[u8]) {
        if let Some(address) = network_address(address).filter(|a| a.port() != 0) {
            self.bound.insert((address, call.protocol(call.arguments[0] as i32)));
        }
    }

    /// Takes note of a connection, if the last call asked for one. One of the command to itself says nothing.
    pub fn connected(&mut self, answers: impl Fn(Pid, SocketAddr, Protocol) -> Answers) {
        let Some((thread, address, protocol)) = self.connecting.take() else { return };
        match answers(thread, address, protocol) {
            Answers::Own => drop(self.own_addresses.insert((address, protocol))),
            Answers::Other => drop(self.network.insert(address)),
            Answers::Nobody => drop(self.unanswered.insert((address, protocol))),
        }
    }

    /// Whom nobody answered has read nothing: who waits for a server of the command's own tries until it is there, and may
    /// do without it in the end.
    fn judge_unanswered(&mut self) {
        for (address, protocol) in std::mem::take(&mut self.unanswered) {
            let meant = self.bound.iter().any(|(bound, by)| *by == protocol && loopback::reaches(address, *bound));
            if meant || self.own_addresses.contains(&(address, protocol)) {
                self.own_addresses.insert((address, protocol));
            } else {
                self.network.insert(address);
            }
        }
    }

    fn changes(&mut self, path: Option<PathBuf>) {
        let Some(path) = path.filter(|p| !is_the_kernels(p)) else { return };
        let note = self.paths.entry(path).or_default();
        if !note.changed {
            note.changed = true;
            note.seen_before = note.read.is_some() || note.looked_at || note.absent;
        }
    }

    fn makes_folder(&mut self, path: Option<PathBuf>) {
        let Some(path) = path else { return };
        // One that is there already is not made.
        if fs::symlink_metadata(&path).is_err() {
            self.own_folders.insert(path.clone());
            self.changes(Some(path));
        }
    }

    fn renames(&mut self, from: Option<PathBuf>, to: Option<PathBuf>) {
        let Some(from) = from else { return };
        if let Ok(meta) = fs::symlink_metadata(&from) {
            if meta.is_dir() {
                self.own_folders.extend(to.clone());
            }
            // What is read by its new name later is what stood here.
            self.reads(&from, &meta, false);
        }
        self.changes(Some(from));
        self.changes(to);
    }

    fn links(&mut self, from: Option<PathBuf>, to: Option<PathBuf>) {
        if let Some(from) = from.filter(|p| !is_the_kernels(p))
            && let Ok(meta) = fs::metadata(&from)
        {
            self.reads(&from, &meta, false);
            if let Some(note) = self.paths.get_mut(&from) {
                note.linked = true;
            }
        }
        self.changes(to);
    }

    /// What all of it comes to.
    pub fn observation(mut self) -> Observation {
        self.judge_unanswered();
        let mut all = Observation { network: self.network.iter().map(SocketAddr::to_string).collect(), ..Observation::default() };
        all.own_network = !self.own_addresses.is_empty();
        all.unseen = self.unseen.into_iter().collect();
        all.refused = self.refused.into_iter().collect();
        let mut paths: Vec<_> = self.paths.into_iter().collect();
        paths.sort_unstable_by(|a, b| a.0.cmp(&b.0));
        for (path, note) in paths {
            let path = to_text(path.as_os_str().as_bytes());
            if note.changed {
                if note.seen_before {
                    all.read_and_changed.push(path.clone());
                }
                all.changed.push(path);
                continue;
            }
            if note.listed || note.listed_for_modules {
                all.listed.push(Listed { path: path.clone(), for_modules: !note.listed });
            }
            match note.read {
                Some(stamp) => all.opened.push(Opened { path, stamp, linked: note.linked, executed: note.executed }),
                None if note.looked_at => all.looked_at.push(path),
                None if note.absent => all.absent.push(Absent { path, looked_for: !note.asked_to_open }),
                None => {}
            }
        }
        all
    }
}
