//! Documents: receipts and what stands beside them. They travel whole, in packs of their own, and every machine has all.

use std::collections::{BTreeMap, HashSet};

use textum_store::{Digest, Entry, Kind, PackBuilder, Store, entries_of_pack};

use super::depot::{Depot, DepotError};
use super::layout::{DOCUMENTS, PROJECTS, PackName, level_of};
use super::parallel::parallel;
use super::storage::Object;

/// A pack of documents has about this many bytes at most.
const FULL: u64 = 16 << 20;
/// So many packs of one level are merged.
const MANY: usize = 64;
/// So many packs are taken in together.
const TOGETHER: usize = 64;
/// Packs that were taken in, in what this machine keeps.
const SEEN: &str = "documents.seen";
/// Documents that the depot is known to have.
const KNOWN: &str = "documents.known";
/// What there was here and there when all had been sent.
const COMPLETE: &str = "complete";

/// What came.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Received {
    /// Documents that were not here.
    pub documents: u64,
    /// Bytes that travelled.
    pub bytes: u64,
}

/// What went.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SentDocuments {
    /// Documents that were not there.
    pub documents: u64,
    /// Bytes that travelled.
    pub bytes: u64,
    /// The packs that were made of them: the same documents make up the same names.
    pub packs: Vec<Digest>,
}

/// What this machine knows of a depot's documents.
#[derive(Default)]
pub(crate) struct Known {
    seen: HashSet<PackName>,
    documents: HashSet<Digest>,
}

impl Depot {
    pub(crate) fn known(&self) -> Known {
        let read = |name: &str| std::fs::read(self.state_file(name)).ok();
        let (Some(seen), Some(documents)) = (read(SEEN), read(KNOWN)) else { return Known::default() };
        let (Some(seen), Some(documents)) = (super::index::decode_list::<36>(&seen), super::index::decode_list::<32>(&documents))
        else {
            return Known::default();
        };
        Known {
            seen: seen.iter().map(super::index::item_pack).collect(),
            documents: documents.into_iter().map(Digest::from_bytes).collect(),
        }
    }

    /// Nothing is known of what the depot has: it is asked for anew.
    pub(crate) fn forget_documents(&self) -> Result<(), DepotError> {
        for name in [SEEN, KNOWN, COMPLETE] {
            textum_base::fsio::remove_any(&self.state_file(name))?;
        }
        Ok(())
    }

    fn keep_known(&self, known: &Known) {
        let documents: Vec<[u8; 32]> = known.documents.iter().map(|d| *d.as_bytes()).collect();
        let seen: Vec<[u8; 36]> = known.seen.iter().map(super::index::pack_item).collect();
        // What was seen last: without the documents it would be believed that they are known.
        self.keep(KNOWN, &super::index::encode_list(&documents));
        self.keep(SEEN, &super::index::encode_list(&seen));
    }

    /// The packs of documents that there are.
    pub(crate) fn document_packs(&self) -> Result<Vec<(PackName, Object)>, DepotError> {
        self.packs_below(&format!("{DOCUMENTS}/{}", self.project()))
    }

    fn packs_below(&self, folder: &str) -> Result<Vec<(PackName, Object)>, DepotError> {
        let objects = self.storage.list(folder)?;
        Ok(objects.into_iter().filter_map(|object| Some((PackName::of_path(&object.path)?, object))).collect())
    }

    /// The documents in a pack, each checked; none where it was merged with others since it was listed.
    pub(crate) fn documents_of(&self, name: &PackName, path: &str) -> Result<Option<(Vec<Entry>, u64)>, DepotError> {
        self.go_on()?;
        self.object(path, |bytes| {
            let entries = entries_of_pack(bytes, &name.name)?;
            Ok((entries.into_iter().filter(|e| e.kind() == Kind::Document).collect(), bytes.len() as u64))
        })
    }

    /// Takes in all documents that are not here. `damaged` is told of packs that are not what they were: the others are taken
    /// in all the same.
    pub fn receive(&self, store: &Store, damaged: &mut dyn FnMut(DepotError)) -> Result<Received, DepotError> {
        let mut received = Received::default();
        // What was merged while it was read is in another pack: they are listed until none has gone.
        for _ in 0..4 {
            if self.receive_listed(store, &mut received, damaged)? {
                return Ok(received);
            }
        }
        damaged(self.damaged(DOCUMENTS, "its packs go away while they are read"));
        Ok(received)
    }

    /// Takes in what is listed now; whether all of it was there.
    fn receive_listed(
        &self,
        store: &Store,
        received: &mut Received,
        damaged: &mut dyn FnMut(DepotError),
    ) -> Result<bool, DepotError> {
        let mut known = self.known();
        let there = self.document_packs()?;
        let names: HashSet<PackName> = there.iter().map(|(name, _)| *name).collect();
        known.seen.retain(|name| names.contains(name));
        let unseen: Vec<(PackName, Object)> = there.into_iter().filter(|(name, _)| !known.seen.contains(name)).collect();
        let mut gone = false;
        for some in unseen.chunks(TOGETHER) {
            let writer = store.writer()?;
            let mut taken = Vec::new();
            let came = parallel(self.jobs(), some, |(name, object)| match self.documents_of(name, &object.path) {
                Err(e @ DepotError::Damaged { .. }) => Ok(Err(e)),
                other => other.map(Ok::<_, DepotError>),
            })?;
            for ((name, _), pack) in some.iter().zip(came) {
                let (documents, bytes) = match pack {
                    Ok(Some(pack)) => pack,
                    Ok(None) => {
                        gone = true;
                        continue;
                    }
                    Err(e) => {
                        damaged(e);
                        continue;
                    }
                };
                received.bytes += bytes;
                for entry in &documents {
                    if known.documents.insert(entry.digest()) && !store.contains_document(&entry.digest())? {
                        writer.put_entry(entry)?;
                        received.documents += 1;
                    }
                }
                taken.push(*name);
            }
            writer.publish()?;
            known.seen.extend(taken);
            self.keep_known(&known);
        }
        Ok(!gone)
    }

    /// The documents here that the depot is not known to have. What it has is known after [`Depot::receive`].
    pub fn unsent_documents(&self, store: &Store) -> Result<Vec<Digest>, DepotError> {
        let known = self.known();
        let mut unsent: Vec<Digest> = store.all_documents()?.into_iter().filter(|d| !known.documents.contains(d)).collect();
        unsent.sort_unstable();
        Ok(unsent)
    }

    /// Sends documents. What they speak of must have been sent before.
    pub fn send_documents(&self, store: &Store, documents: &[Digest]) -> Result<SentDocuments, DepotError> {
        let mut sent = SentDocuments::default();
        if documents.is_empty() {
            return Ok(sent);
        }
        let name = format!("{PROJECTS}/{}", self.project());
        self.storage.put_new(&name, self.options.project.as_bytes())?;
        let mut known = self.known();
        let mut builder = PackBuilder::default();
        let mut told = Vec::new();
        for digest in documents {
            if let Some(entry) = store.document_entry(digest)? {
                builder.push(&entry);
                told.push(*digest);
            }
            if builder.length() >= FULL {
                self.send_document_pack(0, std::mem::take(&mut builder), &mut known, &mut sent)?;
            }
        }
        if !builder.is_empty() {
            self.send_document_pack(0, builder, &mut known, &mut sent)?;
        }
        sent.documents = told.len() as u64;
        known.documents.extend(told);
        self.keep_known(&known);
        Ok(sent)
    }

    fn send_document_pack(
        &self,
        level: u32,
        builder: PackBuilder,
        known: &mut Known,
        sent: &mut SentDocuments,
    ) -> Result<(), DepotError> {
        self.go_on()?;
        let pack = builder.finish();
        let name = PackName::new(pack.name);
        sent.bytes += pack.bytes.len() as u64;
        sent.packs.push(pack.name);
        self.storage.put(&name.documents_path(&self.project(), level), &pack.bytes.into())?;
        known.seen.insert(name);
        Ok(())
    }

    /// Merges packs of documents where there are many. What takes their place is there before they go.
    pub(crate) fn merge_documents(&self) -> Result<(), DepotError> {
        let mut levels: BTreeMap<u32, Vec<(PackName, Object)>> = BTreeMap::new();
        for (name, object) in self.document_packs()? {
            // One that is full already stays.
            if let Some(level) = level_of(&object.path).filter(|_| object.size < FULL / 2) {
                levels.entry(level).or_default().push((name, object));
            }
        }
        for (level, packs) in levels.into_iter().filter(|(_, packs)| packs.len() >= MANY) {
            let mut known = self.known();
            // What was not taken in here is not told of as seen by what takes its place.
            if packs.iter().any(|(name, _)| !known.seen.contains(name)) {
                continue;
            }
            let read = parallel(self.jobs(), &packs, |(name, object)| self.documents_of(name, &object.path))?;
            let Some(read) = read.into_iter().collect::<Option<Vec<_>>>() else { continue };
            let (mut builder, mut sent) = (PackBuilder::default(), SentDocuments::default());
            let all: BTreeMap<Digest, &Entry> = read.iter().flat_map(|(entries, _)| entries).map(|e| (e.digest(), e)).collect();
            for entry in all.values() {
                builder.push(entry);
                if builder.length() >= FULL {
                    self.send_document_pack(level + 1, std::mem::take(&mut builder), &mut known, &mut sent)?;
                }
            }
            if !builder.is_empty() {
                self.send_document_pack(level + 1, builder, &mut known, &mut sent)?;
            }
            for (name, object) in &packs {
                self.storage.delete(&object.path)?;
                known.seen.remove(name);
            }
            self.keep_known(&known);
        }
        Ok(())
    }

    /// Every document of every project: its digest and bytes. A pack that is damaged is an error: who asks for all must not
    /// take a part for it.
    pub fn every_document(&self, mut each: impl FnMut(Digest, Vec<u8>) -> Result<(), DepotError>) -> Result<(), DepotError> {
        // What is merged meanwhile is in another pack: they are listed until none has gone.
        for _ in 0..4 {
            let packs = self.packs_below(DOCUMENTS)?;
            let mut gone = false;
            for some in packs.chunks(TOGETHER) {
                let read = parallel(self.jobs(), some, |(name, object)| self.documents_of(name, &object.path))?;
                for pack in read {
                    let Some((entries, _)) = pack else {
                        gone = true;
                        continue;
                    };
                    for entry in entries {
                        each(entry.digest(), entry.content().unwrap_or_default())?;
                    }
                }
            }
            if !gone {
                return Ok(());
            }
        }
        Err(self.damaged(DOCUMENTS, "its packs go away while they are read"))
    }

    /// The names of the projects whose documents it has, as far as they are told.
    pub fn projects(&self) -> Result<Vec<String>, DepotError> {
        let mut names = Vec::new();
        for object in self.storage.list(PROJECTS)? {
            names.extend(self.object(&object.path, |bytes| String::from_utf8(bytes.to_vec()).map_err(|e| e.to_string()))?);
        }
        // They are shown: nothing of them may speak to a terminal.
        names.iter_mut().for_each(|name: &mut String| name.retain(|c| !c.is_control()));
        names.sort();
        Ok(names)
    }

    /// What this machine has and the depot has, in a few bytes.
    fn state_of(&self, documents: &HashSet<Digest>) -> Result<Vec<u8>, DepotError> {
        let mut all: Vec<[u8; 32]> = documents.iter().map(|d| *d.as_bytes()).collect();
        all.sort_unstable();
        let catalog = self.catalog()?;
        let mut files: Vec<&str> = catalog.files.iter().map(|f| f.path.as_str()).collect();
        files.sort_unstable();
        let mut hasher = blake3::Hasher::new();
        for part in all.iter().map(<[u8; 32]>::as_slice).chain(files.iter().map(|f| f.as_bytes())) {
            hasher.update(part);
        }
        hasher.update(&(catalog.gone.len() as u64).to_le_bytes()).update(&(catalog.marked.len() as u64).to_le_bytes());
        Ok(hasher.finalize().as_bytes().to_vec())
    }

    /// Whether the depot had all content of these documents at the last look, and nothing has changed since.
    pub fn is_complete(&self, documents: &HashSet<Digest>) -> Result<bool, DepotError> {
        let kept = std::fs::read(self.state_file(COMPLETE)).unwrap_or_default();
        Ok(!kept.is_empty() && kept == self.state_of(documents)?)
    }

    /// From now on it has all content of these documents.
    pub fn set_complete(&self, documents: &HashSet<Digest>) -> Result<(), DepotError> {
        self.refresh()?;
        self.keep(COMPLETE, &self.state_of(documents)?);
        Ok(())
    }

    /// Puts a depot in order after something was sent: many small objects become few.
    pub fn tidy(&self) -> Result<(), DepotError> {
        self.refresh()?;
        self.merge_indexes()?;
        self.merge_documents()
    }
}
