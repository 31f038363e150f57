//! What is noted of the calls of a command, and what it comes to in the end.
//!
//! [`files`]: what is opened, looked at and listed; [`changes`]: what is made, written, renamed and deleted, which counts once
//! the call has succeeded; [`channels`]: sockets, shared memory and the like; [`search`]: which listings are an
//! interpreter's; [`end`]: the observation.

mod changes;
mod channels;
mod end;
mod files;
mod search;
mod writers;

use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::fs::{self, Metadata};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use nix::libc;
use nix::unistd::Pid;
use textum_base::Digest;

use self::changes::Pending;
use self::channels::Channels;
pub use self::end::attribute;
use self::search::{Search, Searches};
use self::writers::Writers;
use super::calls::{At, Call};
use super::names::{from_text, to_text};
use super::record::{Refused, Seal, Stamp, Try};
use super::resolve::{Place, Resolver};

/// What is known of one path.
#[derive(Clone, Debug, Default)]
struct Note {
    /// How it was when it was first read.
    read: Option<Stamp>,
    /// Where it really is, if it was read by a name with a link in it.
    real: Option<PathBuf>,
    /// Whether it was opened so that it can have been changed, and its content before, if that was looked at.
    open_to_change: Option<Option<Digest>>,
    executed: bool,
    linked: bool,
    looked_at: bool,
    /// What the command was told of it before it read it.
    told: Told,
    listed: bool,
    listed_for_modules: bool,
    /// Its entries when it was first listed.
    entries: Option<Vec<String>>,
    absent: bool,
    /// Of what was absent: whether that is in a folder of its own.
    in_own: bool,
    /// Of what was absent: whether it was opened or executed, not only looked for.
    asked_to_open: bool,
    changed: bool,
    /// Whether it was there when it was changed.
    existed: bool,
    /// Whether anything of it was seen before it was changed.
    seen_before: bool,
    /// Whether somebody else may have changed it.
    shared: bool,
}

/// The size of a file, and whether it may be executed, as far as a command was told.
type Told = (Option<u64>, Option<bool>);

/// What is to be done after a call has been noted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[must_use]
pub enum Then {
    /// The thread goes on.
    GoOn,
    /// It stops once more when the call has returned: only then it is known what came of it.
    Await,
}

/// Notes by path.
type Paths = HashMap<PathBuf, Note, foldhash::fast::RandomState>;

/// All notes of a command.
#[derive(Default)]
pub struct Notes {
    paths: Paths,
    resolver: Resolver,
    /// Names that were looked at and are no links: compilers ask for the target of each part of a path again and again.
    looked: HashSet<std::ffi::OsString, foldhash::fast::RandomState>,
    /// Folders that the command made, or renamed: everything in them is its own.
    own_folders: HashSet<PathBuf>,
    /// The folder that a thread goes on to list.
    listing: HashMap<Pid, PathBuf>,
    /// Calls that have not returned yet.
    pending: HashMap<Pid, Pending>,
    searches: Searches,
    writers: Writers,
    /// What may be read, and what may be written too, if the command is sealed.
    sealed: Option<(Vec<PathBuf>, Vec<PathBuf>)>,
    /// Whether it has a network, and memory shared between processes, of its own.
    isolated: bool,
    refused: BTreeSet<Refused>,
    links: HashMap<PathBuf, PathBuf>,
    /// Attributes that were asked for, by path and name, with what was answered; an empty name for all names.
    attributes: BTreeMap<(PathBuf, String), Option<Digest>>,
    channels: Channels,
    random: bool,
    unseen: BTreeSet<String>,
    not_whole: BTreeSet<String>,
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

fn text(path: &Path) -> String {
    to_text(path.as_os_str().as_bytes())
}

/// What is never looked at: it is the kernel's, and another one at every look.
fn is_the_kernels(path: &Path) -> bool {
    let bytes = path.as_os_str().as_bytes();
    let is_in = |folder: &[u8]| bytes.starts_with(folder) && matches!(bytes.get(folder.len()), None | Some(b'/'));
    (is_in(b"/proc") || is_in(b"/sys") || is_in(b"/dev")) && !is_in(b"/dev/shm")
}

impl Notes {
    /// Notes of a command that is sealed, if it is.
    pub fn new(seal: Option<&Seal>) -> Notes {
        let real = |paths: &[String]| paths.iter().filter_map(|p| fs::canonicalize(from_text(p)).ok()).collect::<Vec<_>>();
        let own_folders = seal.iter().flat_map(|seal| &seal.own).map(|path| from_text(path)).collect();
        Notes { sealed: seal.map(|seal| (real(&seal.read), real(&seal.write))), own_folders, ..Notes::default() }
    }

    /// The command turned out to have a network and shared memory of its own.
    pub fn is_isolated(&mut self) {
        self.isolated = true;
    }

    /// Something that cannot be seen through, in words.
    pub fn is_unseen(&mut self, what: &str) {
        self.unseen.insert(what.to_string());
    }

    /// Something that may have read what is not told, in words.
    pub fn is_not_whole(&mut self, what: &str) {
        self.not_whole.insert(what.to_string());
    }

    /// A process was begun by another; `shares`: as a thread of it.
    pub fn began(&mut self, parent: Pid, child: Pid, shares: bool) {
        self.searches.began(parent, child, shares);
    }

    /// A thread has ended; `was_left`: it was still at work when the command ended, and was killed for that.
    pub fn ended(&mut self, thread: Pid, was_left: bool) {
        let search = self.searches.ended(thread, was_left);
        self.searched(search);
        self.is_gone(thread);
        self.listing.remove(&thread);
        self.pending.remove(&thread);
    }

    /// Whether a call of this thread is to be waited for.
    pub fn awaits(&self, thread: Pid) -> bool {
        self.pending.contains_key(&thread)
    }

    /// The program that a process has become: what a `#!` line names is executed without being asked for.
    pub fn became(&mut self, process: Pid) {
        let listed = self.searches.became(process);
        self.listed_by_program(listed);
        let program = fs::read_link(format!("/proc/{process}/exe")).ok();
        let program = program.filter(|p| p.is_absolute() && !p.to_string_lossy().ends_with(" (deleted)"));
        let place = program.map(|p| self.find(process, &p, true));
        self.executes(place);
    }

    fn find(&mut self, thread: Pid, path: &Path, follow: bool) -> Place {
        let Notes { resolver, paths, own_folders, .. } = self;
        resolver.find(thread, path, follow, &|path| is_own(paths, own_folders, path))
    }

    /// What a name of a call leads to; nothing for an empty name.
    fn at(&mut self, call: &Call, at: At, follow: bool) -> Option<Place> {
        let path = call.path(at)?;
        let place = self.find(call.thread, &path, follow);
        self.passes(&place);
        Some(place)
    }

    /// What was at a place is another thing now. Where it was, or is, a link or a folder, names may lead elsewhere.
    fn forget_ways_by(&mut self, place: &Place) {
        let now = || fs::symlink_metadata(&place.real).is_ok_and(|meta| !meta.is_file());
        if place.meta.as_ref().is_some_and(|meta| !meta.is_file()) || now() {
            self.resolver.forget();
            self.looked.clear();
        }
    }

    fn is_own(&self, path: &Path) -> bool {
        is_own(&self.paths, &self.own_folders, path)
    }

    /// Whether the kernel lets a sealed command open this.
    fn is_allowed(&self, place: &Place, writes: bool) -> bool {
        let Some((read, write)) = &self.sealed else { return true };
        let real = &place.real;
        write.iter().any(|p| real.starts_with(p)) || (!writes && read.iter().any(|p| real.starts_with(p)))
    }

    fn refuse(&mut self, tried: Try, name: String) {
        self.refused.insert(Refused { tried, name });
    }

    /// Notes a call, as it is about to be carried out.
    pub fn take(&mut self, call: &Call) -> Then {
        let listing = self.listing.remove(&call.thread);
        let a = &call.arguments;
        let follows = |flags: u64| flags as i32 & libc::AT_SYMLINK_NOFOLLOW == 0;
        match call.number {
            libc::SYS_openat => self.opens(call, At::folder(a[0], a[1]), a[2] as i32),
            libc::SYS_openat2 => {
                let how = call.bytes(a[2], 8);
                let flags = how.try_into().map_or(0, u64::from_ne_bytes);
                self.opens(call, At::folder(a[0], a[1]), flags as i32)
            }
            libc::SYS_execve => self.executes_at(call, At::name(a[0])),
            libc::SYS_execveat => self.executes_at(call, At::folder(a[0], a[1])),
            libc::SYS_newfstatat => self.stats(call, At::folder(a[0], a[1]), follows(a[3])),
            libc::SYS_statx => self.stats(call, At::folder(a[0], a[1]), follows(a[2])),
            libc::SYS_faccessat => self.may(call, At::folder(a[0], a[1]), a[2], true),
            libc::SYS_faccessat2 => self.may(call, At::folder(a[0], a[1]), a[2], follows(a[3])),
            libc::SYS_readlinkat => self.looks(call, At::folder(a[0], a[1]), false),
            libc::SYS_statfs => self.looks(call, At::name(a[0]), true),
            libc::SYS_getxattr => self.asks_attribute(call, At::name(a[0]), Some(a[1]), true),
            libc::SYS_lgetxattr => self.asks_attribute(call, At::name(a[0]), Some(a[1]), false),
            libc::SYS_listxattr => self.asks_attribute(call, At::name(a[0]), None, true),
            libc::SYS_llistxattr => self.asks_attribute(call, At::name(a[0]), None, false),
            libc::SYS_fgetxattr => self.asks_attribute_of_open(call, a[0] as i32, Some(a[1])),
            libc::SYS_flistxattr => self.asks_attribute_of_open(call, a[0] as i32, None),
            super::calls::GETXATTRAT => self.asks_attribute(call, At::folder(a[0], a[1]), Some(a[3]), follows(a[2])),
            super::calls::LISTXATTRAT => self.asks_attribute(call, At::folder(a[0], a[1]), None, follows(a[2])),
            libc::SYS_inotify_add_watch => self.looks(call, At::name(a[1]), true),
            libc::SYS_name_to_handle_at => self.looks(call, At::folder(a[0], a[1]), false),
            libc::SYS_open_tree => {
                let then = self.goes_into(call, At::folder(a[0], a[1]));
                if self.is_of_namespaces(call) { Then::Await } else { then }
            }
            libc::SYS_chdir => self.goes_into(call, At::name(a[0])),
            libc::SYS_getdents64 => self.lists(call, listing),
            libc::SYS_getrandom => self.asks_for_random(a[1], a[2]),
            libc::SYS_truncate => self.truncates(call, At::name(a[0])),
            number => self.take_change(call, number, listing),
        }
    }

    /// Calls that change something, or reach something else than files.
    fn take_change(&mut self, call: &Call, number: libc::c_long, listing: Option<PathBuf>) -> Then {
        let a = &call.arguments;
        match number {
            libc::SYS_renameat => self.renames(call, At::folder(a[0], a[1]), At::folder(a[2], a[3])),
            libc::SYS_renameat2 => self.renames(call, At::folder(a[0], a[1]), At::folder(a[2], a[3])),
            libc::SYS_linkat => {
                let follow = a[4] as i32 & libc::AT_SYMLINK_FOLLOW != 0;
                self.links_file(call, At::folder(a[0], a[1]), At::folder(a[2], a[3]), follow)
            }
            libc::SYS_symlinkat => self.makes(call, At::folder(a[1], a[2]), false),
            libc::SYS_mknodat => self.makes(call, At::folder(a[0], a[1]), false),
            libc::SYS_mkdirat => self.makes(call, At::folder(a[0], a[1]), true),
            libc::SYS_unlinkat => self.removes(call, At::folder(a[0], a[1])),
            _ if self.is_of_namespaces(call) => Then::Await,
            _ => match self.take_channel(call, number) {
                Some(then) => then,
                #[cfg(target_arch = "x86_64")]
                None => self.take_old(call, number, listing),
                #[cfg(not(target_arch = "x86_64"))]
                None => Then::GoOn,
            },
        }
    }

    /// The calls that only older architectures have.
    #[cfg(target_arch = "x86_64")]
    fn take_old(&mut self, call: &Call, number: libc::c_long, listing: Option<PathBuf>) -> Then {
        let a = &call.arguments;
        match number {
            libc::SYS_open => self.opens(call, At::name(a[0]), a[1] as i32),
            libc::SYS_creat => self.opens(call, At::name(a[0]), libc::O_CREAT | libc::O_WRONLY | libc::O_TRUNC),
            libc::SYS_stat => self.stats(call, At::name(a[0]), true),
            libc::SYS_lstat => self.stats(call, At::name(a[0]), false),
            libc::SYS_access => self.may(call, At::name(a[0]), a[1], true),
            libc::SYS_readlink => self.looks(call, At::name(a[0]), false),
            libc::SYS_getdents => self.lists(call, listing),
            libc::SYS_rename => self.renames(call, At::name(a[0]), At::name(a[1])),
            libc::SYS_unlink | libc::SYS_rmdir => self.removes(call, At::name(a[0])),
            libc::SYS_link => self.links_file(call, At::name(a[0]), At::name(a[1]), false),
            libc::SYS_symlink => self.makes(call, At::name(a[1]), false),
            libc::SYS_mknod => self.makes(call, At::name(a[0]), false),
            libc::SYS_mkdir => self.makes(call, At::name(a[0]), true),
            _ => Then::GoOn,
        }
    }

    /// The C library asks for eight bytes when it begins, for the checks of its memory: no result hangs on these.
    fn asks_for_random(&mut self, length: u64, flags: u64) -> Then {
        const NONBLOCK: u64 = 1;
        self.random |= !(length == 8 && flags == NONBLOCK);
        Then::GoOn
    }
}

fn is_own(paths: &Paths, own_folders: &HashSet<PathBuf>, path: &Path) -> bool {
    paths.get(path).is_some_and(|n| n.changed) || (!own_folders.is_empty() && path.ancestors().any(|a| own_folders.contains(a)))
}
