//! What is opened for reading, executed, looked at and listed.

use std::fs::Metadata;
use std::os::unix::fs::{FileTypeExt, MetadataExt};
use std::path::Path;

use nix::libc;
use textum_base::ChannelKind;

use super::super::calls::{At, Call};
use super::super::record::Try;
use super::super::resolve::Place;
use super::{Notes, Search, Then, Told, is_the_kernels, stamp};

impl Notes {
    pub(super) fn opens(&mut self, call: &Call, at: At, flags: i32) -> Then {
        if flags & libc::O_TMPFILE == libc::O_TMPFILE {
            return Then::GoOn;
        }
        if flags & libc::O_PATH != 0 {
            return self.looks(call, at, flags & libc::O_NOFOLLOW == 0);
        }
        let is_new = flags & (libc::O_CREAT | libc::O_EXCL) == libc::O_CREAT | libc::O_EXCL;
        let Some(place) = self.at(call, at, flags & libc::O_NOFOLLOW == 0 && !is_new) else { return Then::GoOn };
        if is_the_kernels(&place.real) {
            return self.opens_the_kernels(&place);
        }
        if !place.meta.as_ref().is_some_and(Metadata::is_dir) {
            let search = self.searches.opens(call.thread, &place.real);
            self.searched(search);
        }
        if flags & libc::O_ACCMODE != libc::O_RDONLY || flags & (libc::O_CREAT | libc::O_TRUNC) != 0 {
            return self.opens_to_write(call, place, flags);
        }
        let is_known = self.paths.get(&place.name).is_some_and(|n| n.read.is_some() || n.changed);
        match &place.meta {
            _ if is_known => {}
            Some(_) if !self.is_allowed(&place, false) => self.refuse(Try::Read, super::text(&place.real)),
            Some(meta) if meta.is_dir() => {
                self.goes_through(&place);
                self.exists(&place, (None, None));
            }
            Some(meta) => self.reads(&place, meta, false),
            None => self.is_absent(place, true),
        }
        Then::GoOn
    }

    /// Devices, and the kernel's own files: what most of them say is another thing at every look.
    fn opens_the_kernels(&mut self, place: &Place) -> Then {
        const RANDOM: [&str; 3] = ["/dev/random", "/dev/urandom", "/dev/hwrng"];
        /// Nothing comes out of these but what the command itself has put in, or computed.
        const OWN: [&str; 13] = [
            "/dev/null",
            "/dev/zero",
            "/dev/full",
            "/dev/tty",
            "/dev/ptmx",
            "/dev/pts",
            "/dev/console",
            "/dev/nvidia",
            "/dev/dri",
            "/dev/kfd",
            "/dev/infiniband",
            "/dev/fuse",
            "/dev/mqueue",
        ];
        let name = place.real.to_string_lossy().into_owned();
        if RANDOM.contains(&name.as_str()) {
            self.random = true;
        } else if let Some(meta) = &place.meta {
            let is_device = meta.file_type().is_char_device() || meta.file_type().is_block_device();
            if name.starts_with("/dev/") && is_device && !OWN.iter().any(|own| name.starts_with(own)) {
                self.meets(ChannelKind::Device, name);
            } else if let Some(process) = other_process(&place.real).filter(|p| !self.channels.is_ours(*p)) {
                self.meets(ChannelKind::Process, process.to_string());
            }
        }
        Then::GoOn
    }

    /// What is opened is read: files as they are now, everything else as a channel.
    pub(super) fn reads(&mut self, place: &Place, meta: &Metadata, executed: bool) {
        if self.is_own(&place.real) {
            return;
        }
        if !meta.is_file() {
            if meta.file_type().is_fifo() {
                self.meets(ChannelKind::Fifo, super::text(&place.name));
            }
            return;
        }
        if place.real.starts_with("/dev/shm") {
            self.meets(ChannelKind::Memory, super::text(&place.name));
            return;
        }
        let note = self.paths.entry(place.name.clone()).or_default();
        note.read.get_or_insert_with(|| stamp(meta));
        note.executed |= executed;
        if place.name != place.real {
            note.real = Some(place.real.clone());
        }
    }

    pub(super) fn executes_at(&mut self, call: &Call, at: At) -> Then {
        let place = self.at(call, at, true).or_else(|| {
            let open = call.open_file(at.folder as i32)?;
            Some(self.find(call.thread, &open, true))
        });
        self.executes(place);
        Then::GoOn
    }

    pub(super) fn executes(&mut self, place: Option<Place>) {
        let Some(place) = place.filter(|p| !is_the_kernels(&p.real)) else { return };
        match &place.meta {
            Some(_) if !self.is_allowed(&place, false) => self.refuse(Try::Read, super::text(&place.real)),
            Some(meta) => self.reads(&place, meta, true),
            None => self.is_absent(place, true),
        }
    }

    /// A look at the metadata of what is at a name.
    pub(super) fn stats(&mut self, call: &Call, at: At, follow: bool) -> Then {
        let Some(place) = self.at(call, at, follow).filter(|p| !is_the_kernels(&p.real)) else { return Then::GoOn };
        // A folder that is not there is passed over like one in which nothing is found.
        let is_folder = place.meta.as_ref().map_or(place.real.extension().is_none(), Metadata::is_dir);
        let search = self.searches.asks(call.thread, &place.real, is_folder);
        self.searched(search);
        self.look(place, |meta| (Some(meta.size()), Some(meta.mode() & 0o111 != 0)));
        Then::GoOn
    }

    /// A question whether something may be done with what is at a name.
    pub(super) fn may(&mut self, call: &Call, at: At, mode: u64, follow: bool) -> Then {
        let Some(place) = self.at(call, at, follow).filter(|p| !is_the_kernels(&p.real)) else { return Then::GoOn };
        let executes = mode as i32 & libc::X_OK != 0;
        self.does_else(call.thread);
        self.look(place, |meta| (None, executes.then(|| meta.mode() & 0o111 != 0)));
        Then::GoOn
    }

    /// Any other look at what is at a name.
    pub(super) fn looks(&mut self, call: &Call, at: At, follow: bool) -> Then {
        self.does_else(call.thread);
        let Some(path) = call.path(at).filter(|path| !self.looked.contains(path.as_os_str())) else { return Then::GoOn };
        let place = self.find(call.thread, &path, follow);
        self.passes(&place);
        if is_the_kernels(&place.real) {
            return Then::GoOn;
        }
        if place.meta.as_ref().is_some_and(|meta| !meta.is_symlink()) {
            self.looked.insert(path.into_os_string());
        }
        self.look(place, |_| (None, None));
        Then::GoOn
    }

    /// A question for an attribute of what is at a name; for the names of all of them, if none is named.
    pub(super) fn asks_attribute(&mut self, call: &Call, at: At, name: Option<u64>, follow: bool) -> Then {
        let Some(place) = self.at(call, at, follow).filter(|p| !is_the_kernels(&p.real)) else { return Then::GoOn };
        self.notes_attribute(call, &place, name);
        self.look(place, |_| (None, None));
        Then::GoOn
    }

    /// The same of a file that is open.
    pub(super) fn asks_attribute_of_open(&mut self, call: &Call, number: i32, name: Option<u64>) -> Then {
        if let Some(path) = call.open_file(number).filter(|p| !is_the_kernels(p)) {
            let place = self.find(call.thread, &path, true);
            self.notes_attribute(call, &place, name);
        }
        Then::GoOn
    }

    fn notes_attribute(&mut self, call: &Call, place: &Place, name: Option<u64>) {
        let name = name.map_or(Some(Vec::new()), |address| call.text(address));
        // Those of the system say who may do what.
        let name = name.map(|name| super::to_text(&name)).filter(|name| name.is_empty() || name.starts_with("user."));
        if let Some(name) = name.filter(|_| place.meta.is_some() && !self.is_own(&place.real)) {
            let value = || super::attribute(&place.name, &name);
            self.attributes.entry((place.name.clone(), name.clone())).or_insert_with(value);
        }
    }

    fn does_else(&mut self, thread: nix::unistd::Pid) {
        if !self.searches.is_idle(thread) {
            let listed = self.searches.does_else(thread);
            self.listed_by_program(listed);
        }
    }

    pub(super) fn searched(&mut self, search: Search) {
        for folder in search.interpreter {
            self.paths.entry(folder).or_default().listed_for_modules = true;
        }
        self.listed_by_program(search.program);
    }

    pub(super) fn listed_by_program(&mut self, folders: Vec<std::path::PathBuf>) {
        for folder in folders {
            self.paths.entry(folder).or_default().listed = true;
        }
    }

    fn look(&mut self, place: Place, tells: impl Fn(&Metadata) -> Told) {
        let known = self.paths.get(&place.name);
        if known.is_some_and(|n| n.read.is_some() || n.changed) || self.is_own(&place.real) {
            return;
        }
        match &place.meta {
            Some(meta) if meta.is_symlink() => self.sees_link(&place),
            Some(meta) if meta.is_file() => self.exists(&place, tells(meta)),
            Some(_) => self.exists(&place, (None, None)),
            None => self.is_absent(place, false),
        }
    }

    /// A folder in which names are asked for from now on: what the links on the way lead to decides which it is.
    pub(super) fn goes_into(&mut self, call: &Call, at: At) -> Then {
        let Some(place) = self.at(call, at, true).filter(|p| !is_the_kernels(&p.real)) else { return Then::GoOn };
        self.does_else(call.thread);
        self.goes_through(&place);
        match &place.meta {
            Some(_) => self.exists(&place, (None, None)),
            None => self.is_absent(place, false),
        }
        Then::GoOn
    }

    /// Folders that were gone through by the command's own links or back by `..` must be there.
    pub(super) fn passes(&mut self, place: &Place) {
        for folder in &place.way.through {
            let is_known = self.paths.get(folder).is_some_and(|n| n.looked_at);
            if !is_known && !self.is_own(folder) && !is_the_kernels(folder) {
                self.paths.entry(folder.clone()).or_default().looked_at = true;
            }
        }
    }

    pub(super) fn goes_through(&mut self, place: &Place) {
        for (link, target) in &place.way.links {
            if !self.is_own(link) && !is_the_kernels(link) {
                self.links.entry(link.clone()).or_insert_with(|| target.clone());
            }
        }
    }

    pub(super) fn sees_link(&mut self, place: &Place) {
        if let Ok(target) = std::fs::read_link(&place.real) {
            self.links.entry(place.real.clone()).or_insert(target);
        }
    }

    pub(super) fn exists(&mut self, place: &Place, (size, exec): Told) {
        if !self.is_own(&place.real) {
            let note = self.paths.entry(place.name.clone()).or_default();
            note.looked_at = true;
            note.told = (note.told.0.or(size), note.told.1.or(exec));
        }
    }

    pub(super) fn is_absent(&mut self, place: Place, asked_to_open: bool) {
        // In a folder of its own too somebody may put something before it looks.
        if self.paths.get(&place.real).is_some_and(|n| n.changed) {
            return;
        }
        // What a link leads to is not there: with another link it would be.
        self.goes_through(&place);
        let in_own = self.is_own(&place.real);
        let note = self.paths.entry(place.name).or_default();
        note.absent = true;
        note.in_own = in_own;
        note.asked_to_open |= asked_to_open;
    }

    pub(super) fn lists(&mut self, call: &Call, listing: Option<std::path::PathBuf>) -> Then {
        let folder = call.open_file(call.arguments[0] as i32);
        let Some(path) = folder.filter(|p| !is_the_kernels(p)) else { return Then::GoOn };
        // A call after the first reads on in the same folder, until nothing is left.
        let goes_on = listing.as_ref() == Some(&path);
        self.listing.insert(call.thread, path.clone());
        if goes_on || self.is_own(&path) {
            return Then::GoOn;
        }
        if self.paths.get(&path).is_none_or(|note| note.entries.is_none()) && !is_installed(&path) {
            self.paths.entry(path.clone()).or_default().entries = entries(&path);
        }
        let changed = std::fs::metadata(&path).map_or(0, |meta| stamp(&meta).mtime);
        let search = self.searches.lists(call.thread, &path, changed);
        self.searched(search);
        Then::GoOn
    }
}

/// The names of a folder's entries, folders with `/` at the end.
fn entries(folder: &Path) -> Option<Vec<String>> {
    let name = |entry: std::fs::DirEntry| {
        let is_folder = entry.file_type().is_ok_and(|kind| kind.is_dir());
        super::text(Path::new(&entry.file_name())) + if is_folder { "/" } else { "" }
    };
    std::fs::read_dir(folder).ok()?.map(|entry| entry.ok().map(name)).collect()
}

/// Whether a folder is the system's or an interpreter's: what is in it stays while a command is at work.
fn is_installed(folder: &Path) -> bool {
    const SYSTEM: [&str; 7] = ["/usr", "/lib", "/lib64", "/etc", "/nix", "/gnu", "/snap"];
    SYSTEM.iter().any(|system| folder.starts_with(system))
        || folder.iter().any(|part| part == "site-packages" || part == "dist-packages" || part == "node_modules")
}

/// The process whose memory or variables a file of the kernel shows.
fn other_process(path: &Path) -> Option<i32> {
    let mut parts = path.strip_prefix("/proc").ok()?.iter().filter_map(|p| p.to_str());
    let process = parts.next()?.parse().ok()?;
    matches!(parts.next_back()?, "mem" | "environ").then_some(process)
}
