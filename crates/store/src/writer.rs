//! Putting content into the store: into a pack written aside, which is then published whole.

use std::collections::HashMap;
use std::fs::{self, File};
use std::io::{BufWriter, Write};
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};
use std::sync::{Mutex, MutexGuard, PoisonError};

use super::index::{self, Record};
use super::pack::{EntryHead, HEAD_LEN, Kind, PACK_HEAD};
use super::session::Session;
use super::{Catalog, Digest, Store, StoreError};
use textum_base::fsio::{self, IoError, OutFile};

/// A pack is published when it has grown to this many bytes.
const FULL: u64 = 48 << 20;

pub(super) struct OpenPack {
    file: BufWriter<OutFile>,
    path: PathBuf,
    length: u64,
    name: blake3::Hasher,
    records: Vec<Record>,
}

#[derive(Default)]
struct State {
    /// From the first look until publishing: what was found meanwhile is not dropped by anybody.
    session: Option<Session>,
    open: Option<OpenPack>,
    /// Full packs on their way to the disk, in order, while others are filled.
    publisher: Option<Publisher>,
    /// What is in the open pack, not yet visible to others. A digest may be there in two kinds.
    unpublished: HashMap<Digest, [bool; 5]>,
    written: Written,
    /// Something could not be written: what was put after it must not be published without it.
    failed: bool,
}

/// What a writer has added to the store so far.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Written {
    /// Bytes of the packs published and open.
    pub stored: u64,
    /// Entries added.
    pub entries: u64,
}

/// Adds content to a store. Nothing is visible to anybody before [`Writer::publish`] (or before a pack
/// is full), and what is dropped unpublished leaves no trace.
pub struct Writer<'s> {
    pub(super) store: &'s Store,
    state: Mutex<State>,
    /// Large files are taken in one at a time, each on all cores, to bound memory.
    pub(super) one_large: Mutex<()>,
}

impl State {
    fn refuse_after_failure(&self, folder: &Path) -> Result<(), StoreError> {
        if !self.failed {
            return Ok(());
        }
        let source = std::io::Error::other("an earlier write to the store failed");
        Err(IoError { action: "write to", path: folder.to_path_buf(), source }.into())
    }
}

/// Payload bytes ready to be appended.
pub(super) struct Coded<'a> {
    pub head: EntryHead,
    pub payload: std::borrow::Cow<'a, [u8]>,
}

impl<'s> Writer<'s> {
    pub(super) fn new(store: &'s Store) -> Result<Writer<'s>, StoreError> {
        sweep(&store.scratch_folder())?;
        Ok(Writer { store, state: Mutex::default(), one_large: Mutex::new(()) })
    }

    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// The state, with nothing being dropped until the next publishing.
    fn relying(&self) -> Result<MutexGuard<'_, State>, StoreError> {
        let mut state = self.state();
        if state.session.is_none() {
            state.session = Some(self.store.session()?);
        }
        Ok(state)
    }

    /// Whether content with this digest is in the store or will be with the next publishing.
    pub fn contains(&self, digest: &Digest) -> Result<bool, StoreError> {
        let here = self.relying()?.unpublished.get(digest).is_some_and(|kinds| kinds[1] || kinds[2] || kinds[3]);
        if here { Ok(true) } else { self.store.contains(digest) }
    }

    pub(super) fn contains_document(&self, digest: &Digest) -> Result<bool, StoreError> {
        let here = self.relying()?.unpublished.get(digest).is_some_and(|kinds| kinds[Kind::Document as usize]);
        if here { Ok(true) } else { self.store.contains_document(digest) }
    }

    /// Adds a document (canonical JSON) and returns its digest.
    pub fn put_document(&self, bytes: &[u8]) -> Result<Digest, StoreError> {
        let digest = Digest::of(bytes);
        if !self.contains_document(&digest)? {
            self.append(super::ingest::code(Kind::Document, digest, bytes))?;
        }
        Ok(digest)
    }

    /// Whether the listing of this folder is kept without its files, or will be.
    pub fn has_outline(&self, digest: &Digest) -> Result<bool, StoreError> {
        let here = self.relying()?.unpublished.get(digest).is_some_and(|kinds| kinds[Kind::Outline as usize]);
        if here { Ok(true) } else { self.store.has_outline(digest) }
    }

    /// Adds the listing of a folder whose files are not taken in.
    pub fn put_outline(&self, listing: &[u8]) -> Result<Digest, StoreError> {
        let digest = Digest::of(listing);
        if !self.has_outline(&digest)? {
            self.append(super::ingest::code(Kind::Outline, digest, listing))?;
        }
        Ok(digest)
    }

    pub(super) fn append(&self, coded: Coded<'_>) -> Result<(), StoreError> {
        let mut state = self.relying()?;
        let kinds = state.unpublished.entry(coded.head.digest).or_default();
        if kinds[coded.head.kind as usize] {
            return Ok(());
        }
        kinds[coded.head.kind as usize] = true;
        let result = self.append_locked(&mut state, &coded);
        if result.is_err() {
            // A half-written pack is of no use to anyone: what went into it must be put again.
            state.open = None;
            state.unpublished.clear();
            state.failed = true;
        }
        result
    }

    fn append_locked(&self, state: &mut State, coded: &Coded<'_>) -> Result<(), StoreError> {
        state.refuse_after_failure(self.store.folder())?;
        if state.open.is_none() {
            state.open = Some(OpenPack::create(&self.store.scratch_folder())?);
        }
        let Some(open) = state.open.as_mut() else { return Ok(()) };
        open.append(coded).map_err(IoError::of("write", &open.path))?;
        state.written.entries += 1;
        state.written.stored += (HEAD_LEN + coded.payload.len()) as u64;
        if open.length >= FULL { self.hand_over(state, true) } else { Ok(()) }
    }

    /// Makes everything put so far durable and visible, whole or not at all.
    pub fn publish(&self) -> Result<(), StoreError> {
        let mut state = self.state();
        self.publish_locked(&mut state)?;
        state.session = None;
        Ok(())
    }

    fn publish_locked(&self, state: &mut State) -> Result<(), StoreError> {
        state.refuse_after_failure(self.store.folder())?;
        self.hand_over(state, false)?;
        let Some(mut publisher) = state.publisher.take() else { return Ok(()) };
        publisher.jobs = None;
        for done in publisher.done.iter() {
            self.admit(state, done)?;
        }
        Ok(())
    }

    /// Gives the open pack to the publishing thread; `later`: without waiting for it to be safe. One
    /// thread takes them in order, so that nothing is ever visible before what it refers to.
    fn hand_over(&self, state: &mut State, later: bool) -> Result<(), StoreError> {
        let Some(open) = state.open.take() else { return Ok(()) };
        if !later && state.publisher.is_none() {
            let published = open.publish(&self.store.packs_folder());
            return self.admit(state, published);
        }
        let publisher = state.publisher.get_or_insert_with(|| Publisher::start(self.store.packs_folder()));
        if let Some(jobs) = &publisher.jobs {
            // Waits while two packs are on their way: memory and the disk's queue stay bounded.
            let _ = jobs.send(open);
        }
        while let Ok(done) = state.publisher.as_ref().map_or(Err(()), |p| p.done.try_recv().map_err(drop)) {
            self.admit(state, done)?;
        }
        Ok(())
    }

    fn admit(&self, state: &mut State, published: Result<Published, StoreError>) -> Result<(), StoreError> {
        state.failed |= published.is_err();
        let published = published?;
        self.store.admit(published.name, published.length)?;
        for digest in &published.digests {
            state.unpublished.remove(digest);
        }
        Ok(())
    }

    /// What has been added so far.
    pub fn written(&self) -> Written {
        self.state().written
    }
}

impl OpenPack {
    pub(super) fn create(folder: &Path) -> Result<OpenPack, StoreError> {
        textum_base::fsio::create_folder(folder)?;
        loop {
            let path = folder.join(format!("{:016x}.part", rand::random::<u64>()));
            let file = fsio::create_only(&path)?;
            file.lock().map_err(IoError::of("lock", &path))?;
            // Between creation and lock another process may have swept the file away as a left-over.
            if file.metadata().map_err(IoError::of("look at", &path))?.nlink() == 0 {
                continue;
            }
            let mut file = BufWriter::with_capacity(1 << 17, OutFile::of(file, &path));
            file.write_all(&PACK_HEAD).map_err(IoError::of("write", &path))?;
            return Ok(OpenPack { file, path, length: 16, name: blake3::Hasher::new(), records: Vec::new() });
        }
    }

    fn append(&mut self, coded: &Coded<'_>) -> std::io::Result<()> {
        let head = coded.head.encode(&coded.payload);
        self.file.write_all(&head)?;
        self.file.write_all(&coded.payload)?;
        self.name.update(&head);
        self.records.push(Record { entry: coded.head, offset: self.length });
        self.length += (HEAD_LEN + coded.payload.len()) as u64;
        Ok(())
    }

    /// Adds an entry.
    pub(super) fn put(&mut self, coded: &Coded<'_>) -> Result<(), StoreError> {
        Ok(self.append(coded).map_err(IoError::of("write", &self.path))?)
    }

    pub(super) fn length(&self) -> u64 {
        self.length
    }

    pub(super) fn is_full(&self) -> bool {
        self.length >= FULL
    }

    pub(super) fn publish(mut self, folder: &Path) -> Result<Published, StoreError> {
        self.file.flush().map_err(IoError::of("write", &self.path))?;
        self.file.get_ref().sync()?;
        let name = Digest::from(self.name.finalize());
        let target = Catalog::path_of(folder, &name);
        fsio::rename(&self.path, &target)?;
        fsio::sync_folder(folder)?;
        // Derived: without it the pack is scanned once at the next look.
        let _ = index::write(&target.with_extension("index"), &name, self.length, &mut self.records);
        let digests = self.records.iter().map(|r| r.entry.digest).collect();
        Ok(Published { name, length: self.length, digests })
    }
}

/// A pack that has become visible.
pub(super) struct Published {
    pub(super) name: Digest,
    length: u64,
    digests: Vec<Digest>,
}

/// A thread that syncs and publishes packs in the order they are given.
struct Publisher {
    jobs: Option<crossbeam_channel::Sender<OpenPack>>,
    done: crossbeam_channel::Receiver<Result<Published, StoreError>>,
}

impl Publisher {
    fn start(folder: PathBuf) -> Publisher {
        let (jobs, given) = crossbeam_channel::bounded::<OpenPack>(1);
        let (tell, done) = crossbeam_channel::unbounded();
        std::thread::spawn(move || {
            for open in given {
                let published = open.publish(&folder);
                let failed = published.is_err();
                // After a failure nothing later may become visible.
                if tell.send(published).is_err() || failed {
                    return;
                }
            }
        });
        Publisher { jobs: Some(jobs), done }
    }
}

impl Drop for OpenPack {
    fn drop(&mut self) {
        // After publishing the name is gone already; before it, the part is of no use to anyone.
        let _ = fsio::remove_file(&self.path);
    }
}

/// Removes parts of packs whose writers are gone.
fn sweep(folder: &Path) -> Result<(), StoreError> {
    let entries = match fs::read_dir(folder) {
        Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(()),
        other => other.map_err(IoError::of("list", folder))?,
    };
    for entry in entries.flatten() {
        let Ok(file) = File::open(entry.path()) else { continue };
        if file.try_lock().is_ok() {
            let _ = fsio::remove_file(&entry.path());
        }
    }
    Ok(())
}
