//! Whether somebody else writes into a file that the command has open to be written into: each that had it open so closes it,
//! and the kernel says so (`inotify(7)`, `IN_CLOSE_WRITE`).

use std::collections::HashMap;
use std::mem::MaybeUninit;
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError};

use rustix::event::{PollFd, PollFlags, poll};
use rustix::fs::inotify::{self, CreateFlags, ReadFlags, WatchFlags};

/// How often each watched file was closed by somebody who could write into it.
type Closed = HashMap<i32, u64>;

/// Counts closings as they happen: the kernel joins those that nobody has fetched yet.
struct Count {
    events: OwnedFd,
    closed: Mutex<Closed>,
}

impl Count {
    fn fetch(&self) {
        let mut closed = self.closed.lock().unwrap_or_else(PoisonError::into_inner);
        let mut buffer = [MaybeUninit::uninit(); 4096];
        let mut events = inotify::Reader::new(&self.events, &mut buffer);
        while let Ok(event) = events.next() {
            if event.events().contains(ReadFlags::CLOSE_WRITE) {
                *closed.entry(event.wd()).or_default() += 1;
            }
        }
    }
}

/// Files that are watched.
#[derive(Default)]
pub(super) struct Writers {
    count: Option<Arc<Count>>,
    /// By path: the watch, and how often the command itself has opened the file so.
    watched: HashMap<PathBuf, (i32, u64)>,
}

impl Writers {
    fn begin(&mut self) -> Option<&Arc<Count>> {
        if self.count.is_none() {
            let events = inotify::init(CreateFlags::NONBLOCK | CreateFlags::CLOEXEC).ok()?;
            let count = Arc::new(Count { events, closed: Mutex::default() });
            let counts = count.clone();
            // It ends with this process.
            std::thread::Builder::new()
                .spawn(move || {
                    while poll(&mut [PollFd::new(&counts.events, PollFlags::IN)], None).is_ok() {
                        counts.fetch();
                    }
                })
                .ok()?;
            self.count = Some(count);
        }
        self.count.as_ref()
    }

    /// Watches a file before it is opened. Where that cannot be, nobody else is seen.
    pub(super) fn watch(&mut self, path: &Path) {
        if self.watched.contains_key(path) {
            return;
        }
        let watch = self.begin().and_then(|count| inotify::add_watch(&count.events, path, WatchFlags::CLOSE_WRITE).ok());
        if let Some(watch) = watch {
            self.watched.insert(path.to_path_buf(), (watch, 0));
        }
    }

    /// The command has opened a file so that it can write into it.
    pub(super) fn opened(&mut self, path: &Path) {
        if let Some((_, own)) = self.watched.get_mut(path) {
            *own += 1;
        }
    }

    /// The files that somebody else had open too, now that all of the command has ended.
    pub(super) fn shared(&self) -> Vec<&Path> {
        let Some(count) = &self.count else { return Vec::new() };
        count.fetch();
        let closed = count.closed.lock().unwrap_or_else(PoisonError::into_inner);
        // Two names of one file have one watch.
        let mut own: HashMap<i32, u64> = HashMap::new();
        for (watch, opened) in self.watched.values() {
            *own.entry(*watch).or_default() += opened;
        }
        let is_shared = |watch: &i32| closed.get(watch).copied().unwrap_or_default() > own[watch];
        self.watched.iter().filter(|(_, (watch, _))| is_shared(watch)).map(|(path, _)| path.as_path()).collect()
    }
}
