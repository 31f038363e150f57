//! What the command makes, writes, renames and deletes. A call that fails changes nothing, so each is noted when it has
//! returned.

use std::collections::HashSet;
use std::fs::{self, Metadata};
use std::os::unix::fs::MetadataExt;
use std::path::Path;

use nix::libc;
use nix::unistd::Pid;
use textum_base::Digest;

use super::super::calls::{At, Call};
use super::super::record::Try;
use super::super::resolve::Place;
use super::channels::Meets;
use super::{Note, Notes, Then, is_the_kernels, stamp};

/// Content is compared before and after up to this size, in bytes; beyond it, a file that was written into counts as changed.
const MOST_COMPARED: u64 = 64 << 20;

/// A call that has not returned yet.
pub(super) enum Pending {
    /// Opened so that it can be written into.
    Open { place: Place, flags: i32, before: Option<Digest> },
    /// A file that is made at a name; `folder`: one.
    Make { place: Place, folder: bool },
    /// A name that goes.
    Remove(Place),
    /// A name that becomes another; `exchange`: and that one becomes it.
    Rename { from: Place, to: Place, exchange: bool },
    /// A second name for a file.
    Link { from: Place, to: Place },
    /// What it held is cut off.
    Truncate(Place),
    /// What changes what names mean, in words.
    Namespace(&'static str),
    /// Something else than files is reached.
    Channel(Meets),
}

impl Notes {
    fn awaits_return(&mut self, call: &Call, pending: Pending) -> Then {
        self.pending.insert(call.thread, pending);
        Then::Await
    }

    pub(super) fn awaits_channel(&mut self, call: &Call, meets: Meets) -> Then {
        self.awaits_return(call, Pending::Channel(meets))
    }

    pub(super) fn opens_to_write(&mut self, call: &Call, place: Place, flags: i32) -> Then {
        if place.meta.as_ref().is_some_and(Metadata::is_dir) {
            return Then::GoOn;
        }
        // Of what only its folder may decide, the kernel asks the folder.
        let writes = flags & libc::O_ACCMODE != libc::O_RDONLY || flags & libc::O_TRUNC != 0 || place.meta.is_none();
        if !self.is_allowed(&place, writes) {
            if !is_compiled(&place.real) {
                self.refuse(if writes { Try::Write } else { Try::Read }, super::text(&place.real));
            }
            return Then::GoOn;
        }
        let is_first = || self.paths.get(&place.name).is_none_or(|n| n.open_to_change.is_none() && !n.changed);
        let keeps = flags & libc::O_TRUNC == 0 && flags & libc::O_ACCMODE != libc::O_RDONLY;
        let before = match &place.meta {
            Some(meta) if keeps && meta.is_file() && is_first() && !self.is_own(&place.real) => {
                self.writers.watch(&place.real);
                digest(&place.real, meta)
            }
            _ => None,
        };
        self.awaits_return(call, Pending::Open { place, flags, before })
    }

    pub(super) fn makes(&mut self, call: &Call, at: At, folder: bool) -> Then {
        match self.changeable(call, at) {
            Some(place) => self.awaits_return(call, Pending::Make { place, folder }),
            None => Then::GoOn,
        }
    }

    pub(super) fn removes(&mut self, call: &Call, at: At) -> Then {
        match self.changeable(call, at) {
            Some(place) => self.awaits_return(call, Pending::Remove(place)),
            None => Then::GoOn,
        }
    }

    pub(super) fn truncates(&mut self, call: &Call, at: At) -> Then {
        match self.at(call, at, true).filter(|p| !is_the_kernels(&p.real)) {
            Some(place) => self.awaits_return(call, Pending::Truncate(place)),
            None => Then::GoOn,
        }
    }

    pub(super) fn renames(&mut self, call: &Call, from: At, to: At) -> Then {
        const EXCHANGE: u64 = 2;
        let exchange = call.number == libc::SYS_renameat2 && call.arguments[4] & EXCHANGE != 0;
        match (self.changeable(call, from), self.changeable(call, to)) {
            (Some(from), Some(to)) => self.awaits_return(call, Pending::Rename { from, to, exchange }),
            _ => Then::GoOn,
        }
    }

    pub(super) fn links_file(&mut self, call: &Call, from: At, to: At, follow: bool) -> Then {
        let open = |notes: &mut Notes| {
            let open = call.open_file(from.folder as i32)?;
            Some(notes.find(call.thread, &open, true))
        };
        let from = self.at(call, from, follow).or_else(|| open(self));
        match (from, self.changeable(call, to)) {
            (Some(from), Some(to)) => self.awaits_return(call, Pending::Link { from, to }),
            _ => Then::GoOn,
        }
    }

    fn changeable(&mut self, call: &Call, at: At) -> Option<Place> {
        self.at(call, at, false).filter(|p| !is_the_kernels(&p.real))
    }

    /// Calls after which the same names can mean other files.
    pub(super) fn is_of_namespaces(&mut self, call: &Call) -> bool {
        const NEW_MOUNTS: u64 = libc::CLONE_NEWNS as u64;
        const CLONE: u64 = 1;
        let a = &call.arguments;
        let what = match call.number {
            libc::SYS_chroot | libc::SYS_pivot_root => "a root folder of its own",
            libc::SYS_mount | libc::SYS_umount2 | libc::SYS_move_mount | libc::SYS_fsmount => "file systems that it mounted",
            libc::SYS_open_tree if a[2] & CLONE != 0 => "file systems that it mounted",
            libc::SYS_setns if a[1] == 0 || a[1] & NEW_MOUNTS != 0 => "the file systems of another process",
            libc::SYS_open_by_handle_at => "files opened by handles",
            _ => return false,
        };
        self.pending.insert(call.thread, Pending::Namespace(what));
        true
    }

    /// Takes note of what came of a call; `answer` is what it returned.
    pub fn returned(&mut self, thread: Pid, answer: i64) {
        let Some(pending) = self.pending.remove(&thread) else { return };
        let done = answer >= 0;
        match pending {
            Pending::Open { place, flags, before } if done => {
                self.writers.opened(&place.real);
                self.opened(&place, flags, before);
            }
            Pending::Open { place, .. } => match place.meta {
                Some(_) => self.exists(&place, (None, None)),
                // What was to be written into was not asked for its content alone.
                None => self.is_absent(place, false),
            },
            Pending::Make { place, folder } if done => {
                if folder {
                    self.own_folders.insert(place.real.clone());
                } else {
                    self.forget_ways_by(&place);
                    // It could be made because there was nothing.
                    self.is_absent(place.clone(), true);
                }
                self.changes(&place);
            }
            // That there is something already is why it was not made.
            Pending::Make { place, .. } if answer == -i64::from(libc::EEXIST) => self.exists(&place, (None, None)),
            Pending::Remove(place) if done => {
                self.forget_ways_by(&place);
                self.own_folders.remove(&place.real);
                self.changes(&place);
            }
            Pending::Remove(place) if place.meta.is_none() => self.is_absent(place, false),
            Pending::Rename { from, to, exchange } if done => self.renamed(&from, &to, exchange),
            Pending::Link { from, to } if done => self.linked(&from, &to),
            Pending::Truncate(place) if done => self.changes(&place),
            Pending::Namespace(what) if done => self.is_not_whole(what),
            Pending::Channel(meets) => self.met(meets, thread, answer),
            _ => {}
        }
    }

    fn opened(&mut self, place: &Place, flags: i32, before: Option<Digest>) {
        let writes = flags & libc::O_ACCMODE != libc::O_RDONLY;
        match &place.meta {
            Some(meta) if !meta.is_file() => self.reads(place, meta, false),
            // What it held is still there unless it is cut off; whether it is changed shows in the end.
            Some(meta) if flags & libc::O_TRUNC == 0 => {
                self.reads(place, meta, false);
                if let Some(note) = self.paths.get_mut(&place.name).filter(|n| writes && n.read.is_some() && !n.changed) {
                    note.open_to_change.get_or_insert(before);
                }
            }
            _ => {
                // Whether it was there decides what one that must be new, or could have been read, comes to.
                if place.meta.is_none() && (flags & libc::O_EXCL != 0 || flags & libc::O_TRUNC == 0) {
                    self.is_absent(place.clone(), true);
                }
                self.changes(place);
            }
        }
    }

    fn changes(&mut self, place: &Place) {
        let existed = place.meta.is_some();
        self.paths.entry(place.real.clone()).or_default().change(existed);
        // The same by the name with a link in it.
        if place.name != place.real {
            self.paths.entry(place.name.clone()).or_default().change(existed);
        }
    }

    fn renamed(&mut self, from: &Place, to: &Place, exchange: bool) {
        let was_own = self.is_own(&from.real);
        for (this, other) in [(from, to), (to, from)] {
            let Some(meta) = this.meta.as_ref().filter(|_| exchange || this.real == from.real) else { continue };
            if meta.is_dir() {
                self.own_folders.insert(other.real.clone());
            } else if meta.is_symlink() {
                self.sees_link(this);
            }
            // What is read by its new name later is what was here.
            self.reads(this, meta, false);
        }
        self.own_folders.remove(&from.real);
        self.forget_ways_by(from);
        self.forget_ways_by(to);
        self.changes(from);
        self.changes(to);
        // A folder of somebody else's is read as a whole by being moved: everything in it is there by another name.
        let is_folder = from.meta.as_ref().is_some_and(Metadata::is_dir);
        if let Some(note) = self.paths.get_mut(&from.real).filter(|_| is_folder && !was_own) {
            note.seen_before = true;
        }
    }

    fn linked(&mut self, from: &Place, to: &Place) {
        self.is_absent(to.clone(), true);
        if let Some(meta) = from.meta.as_ref().filter(|_| !is_the_kernels(&from.real)) {
            self.reads(from, meta, false);
            if let Some(note) = self.paths.get_mut(&from.name) {
                note.linked = true;
            }
        }
        self.changes(to);
    }

    /// What was opened so that it can have been changed, and was not.
    pub(super) fn settle_open_to_change(&mut self) {
        let shared: HashSet<&Path> = self.writers.shared().into_iter().collect();
        for (path, note) in &mut self.paths {
            let Some(before) = note.open_to_change.filter(|_| !note.changed) else { continue };
            let now = fs::metadata(path).ok().filter(Metadata::is_file);
            let is_same = |now: &Metadata| {
                let (then, stamp) = (note.read, stamp(now));
                then.is_some_and(|then| (then.size, then.mtime, then.inode) == (stamp.size, stamp.mtime, stamp.inode))
                    || (before.is_some() && digest(path, now) == before)
            };
            match now.filter(is_same) {
                Some(now) => note.read = Some(stamp(&now)),
                None => {
                    // What the command itself has renamed or removed is known: that another file, or none, is there now is
                    // somebody else's doing.
                    let inode = fs::metadata(path).ok().map(|now| now.ino());
                    note.shared =
                        inode != note.read.map(|then| then.inode) || shared.contains(note.real.as_deref().unwrap_or(path));
                    note.change(true);
                }
            }
        }
    }
}

impl Note {
    fn change(&mut self, existed: bool) {
        if !self.changed {
            self.changed = true;
            self.existed = existed;
            self.seen_before = self.read.is_some() || self.looked_at || self.absent;
        }
    }
}

fn digest(path: &Path, meta: &Metadata) -> Option<Digest> {
    let bytes = (meta.len() <= MOST_COMPARED).then(|| fs::read(path).ok()).flatten()?;
    Some(Digest::of(&bytes))
}

/// Whether a file is one that Python would write down for the next time that it compiles the same source.
fn is_compiled(path: &Path) -> bool {
    path.components().any(|part| part.as_os_str() == "__pycache__")
}
