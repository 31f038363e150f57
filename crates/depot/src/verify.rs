//! Looking whether a depot has what its indexes and documents promise, and mending it with what is here.

use std::collections::{BTreeMap, HashMap, HashSet};

use textum_store::{Digest, Entry, Kind, PackBuilder, Record, Store, entries_of_pack, salvage_pack};

use super::depot::{Depot, DepotError};
use super::fetch::end_of;
use super::index::{EntryAt, PackAt};
use super::layout::{CONTENT, PackName};
use super::parallel::parallel;

/// Something in a depot that is not as it must be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct DepotDamage {
    /// The object.
    pub object: String,
    /// What is wrong with it.
    pub what: String,
    /// Entries that are lost by it.
    pub entries: u64,
    /// Whether it was mended.
    pub healed: bool,
}

/// What was found.
#[derive(Clone, Debug, Default)]
pub struct DepotReport {
    /// Packs of content that were looked at.
    pub packs: u64,
    /// Packs of documents.
    pub document_packs: u64,
    /// Entries that the indexes tell of.
    pub entries: u64,
    /// Bytes that were read.
    pub read: u64,
    /// What is wrong.
    pub damage: Vec<DepotDamage>,
    /// Contents that documents speak of, that the depot does not have, or not whole.
    pub missing: Vec<Digest>,
}

/// How much a depot holds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct DepotFigures {
    /// Packs of content.
    pub packs: u64,
    /// Their bytes.
    pub content_bytes: u64,
    /// Entries that the indexes tell of.
    pub entries: u64,
    /// Bytes of them before they were compressed.
    pub raw_bytes: u64,
    /// Packs of documents.
    pub document_packs: u64,
    /// Their bytes.
    pub document_bytes: u64,
    /// Indexes.
    pub indexes: u64,
    /// Bytes of indexes and lists.
    pub index_bytes: u64,
    /// Entries that are to go.
    pub marked: u64,
}

/// How a depot is looked at.
#[derive(Clone, Copy, Debug, Default)]
pub struct VerifyOptions {
    /// Whether every byte is read.
    pub deep: bool,
    /// Whether what is damaged or missing is sent anew, where it is here.
    pub heal: bool,
}

impl Depot {
    /// How much there is.
    pub fn figures(&self) -> Result<DepotFigures, DepotError> {
        self.refresh()?;
        let mut figures = DepotFigures::default();
        let packs = self.storage.list(CONTENT)?;
        figures.packs = packs.len() as u64;
        figures.content_bytes = packs.iter().map(|o| o.size).sum();
        let documents = self.document_packs()?;
        figures.document_packs = documents.len() as u64;
        figures.document_bytes = documents.iter().map(|(_, o)| o.size).sum();
        let indexes = self.storage.list(super::layout::INDEX)?;
        figures.index_bytes = indexes.iter().map(|o| o.size).sum();
        figures.indexes = self.catalog()?.files.len() as u64;
        figures.marked = self.catalog()?.marked.len() as u64;
        let all = self.all_entries()?;
        figures.entries = all.len() as u64;
        figures.raw_bytes = all.iter().map(|e| u64::from(e.record.entry.raw_len)).sum();
        Ok(figures)
    }

    /// Looks whether everything is there; `spoken_of` are all contents that documents speak of.
    pub fn verify(&self, store: &Store, spoken_of: &HashSet<Digest>, options: VerifyOptions) -> Result<DepotReport, DepotError> {
        self.refresh()?;
        let mut report = DepotReport::default();
        for (name, object) in self.document_packs()? {
            report.document_packs += 1;
            match self.documents_of(&name, &object.path) {
                Ok(Some((_, bytes))) => report.read += bytes,
                Ok(None) => {}
                Err(DepotError::Damaged { object, mut what, .. }) => {
                    let (entries, healed) = if options.heal { self.heal_documents(store, &name, &object)? } else { (0, false) };
                    if options.heal && !healed && entries == 0 {
                        what += "; what is here of it was sent anew, what else it held cannot be told";
                    }
                    report.damage.push(DepotDamage { object, what, entries, healed });
                }
                Err(other) => return Err(other),
            }
        }
        let all = self.all_entries()?;
        report.entries = all.len() as u64;
        let mut by_pack: BTreeMap<PackAt, Vec<EntryAt>> = BTreeMap::new();
        all.iter().for_each(|e| by_pack.entry(e.pack).or_default().push(*e));
        let there: HashMap<PackName, u64> =
            self.storage.list(CONTENT)?.into_iter().filter_map(|o| Some((PackName::of_path(&o.path)?, o.size))).collect();
        let packs: Vec<(PackAt, Vec<EntryAt>)> = by_pack.into_iter().collect();
        report.packs = packs.len() as u64;
        let looked = parallel(self.jobs(), &packs, |(pack, entries)| self.look_at(pack, entries, &there, options.deep))?;
        let mut damaged = HashSet::new();
        for ((pack, entries), (what, read, sound)) in packs.iter().zip(looked) {
            report.read += read;
            let Some(what) = what else { continue };
            let lost = match options.heal {
                true => self.heal(store, pack, entries, &sound)?,
                false => {
                    entries.iter().filter(|e| !sound.contains_key(&e.record.entry.digest)).map(|e| e.record.entry.digest).collect()
                }
            };
            let damage = DepotDamage {
                object: pack.name.content_path(),
                what,
                entries: lost.len() as u64,
                healed: options.heal && lost.is_empty(),
            };
            report.damage.push(damage);
            damaged.extend(lost);
        }
        if options.heal {
            // What nobody had sent, or what went with a pack, is sent where it is here.
            self.refresh()?;
            let wanted: Vec<Digest> = spoken_of.iter().copied().collect();
            let plan = self.plan_to_send(store, &wanted)?;
            self.send(store, &plan, &|_| ())?;
            self.refresh()?;
        }
        report.missing = self.incomplete(spoken_of, &damaged)?;
        Ok(report)
    }

    /// What is wrong with a pack, how much of it was read, and its entries that are sound where something is.
    #[allow(clippy::type_complexity)]
    fn look_at(
        &self,
        pack: &PackAt,
        entries: &[EntryAt],
        there: &HashMap<PackName, u64>,
        deep: bool,
    ) -> Result<(Option<String>, u64, HashMap<Digest, Entry>), DepotError> {
        self.go_on()?;
        let nothing = HashMap::new;
        match there.get(&pack.name) {
            None => return Ok((Some("it is not there".to_string()), 0, nothing())),
            Some(length) if *length != pack.length => {
                let what = format!("it has {length} bytes, and {} were written", pack.length);
                return Ok((Some(what), 0, self.sound_entries(entries, *length)?));
            }
            Some(_) if !deep => return Ok((None, 0, nothing())),
            Some(_) => {}
        }
        let bytes = match self.storage.read(&pack.name.content_path()) {
            Err(e) if e.is_not_found() => return Ok((Some("it is not there".to_string()), 0, nothing())),
            other => other?,
        };
        let read = bytes.len() as u64;
        match entries_of_pack(&bytes, &pack.name.name) {
            Ok(found) => {
                let mut builder = PackBuilder::default();
                found.iter().for_each(|entry| builder.push(entry));
                let records = builder.finish().records;
                let stands: HashMap<u64, &Record> = records.iter().map(|record| (record.offset, record)).collect();
                let lies = entries.iter().filter(|told| stands.get(&told.record.offset) != Some(&&told.record)).count();
                let what = (lies > 0).then(|| format!("indexes tell of {lies} entries in it that do not stand there"));
                Ok((what, read, found.into_iter().map(|entry| (entry.digest(), entry)).collect()))
            }
            Err(what) => Ok((Some(what), read, self.sound_entries(entries, read)?)),
        }
    }

    /// Those of a pack's entries that are what they were, each read on its own. The pack has so many bytes: beyond them there
    /// is nothing to ask for. A failure of the network is an error: what it hides must not pass for lost.
    fn sound_entries(&self, entries: &[EntryAt], length: u64) -> Result<HashMap<Digest, Entry>, DepotError> {
        let mut sound = HashMap::new();
        for entry in entries.iter().filter(|e| end_of(e) <= length) {
            match self.entries(vec![*entry], &mut Default::default(), &|_| ()) {
                Ok(found) => sound.extend(found.into_iter().map(|e| (e.digest(), e))),
                Err(DepotError::Damaged { .. }) => {}
                Err(other) => return Err(other),
            }
        }
        Ok(sound)
    }

    /// Puts what is sound of a pack, or is here, into another; the entries that are lost.
    fn heal(
        &self,
        store: &Store,
        pack: &PackAt,
        entries: &[EntryAt],
        sound: &HashMap<Digest, Entry>,
    ) -> Result<Vec<Digest>, DepotError> {
        let (mut kept, mut lost) = (Vec::new(), Vec::new());
        for at in entries {
            let digest = at.record.entry.digest;
            let here = match at.record.entry.kind {
                Kind::Outline => store.outline_entry(&digest)?,
                _ => store.content_entry(&digest)?.filter(|e| e.kind() == at.record.entry.kind),
            };
            match sound.get(&digest).filter(|e| e.kind() == at.record.entry.kind).cloned().or(here) {
                Some(entry) => kept.push(entry),
                None => lost.push(digest),
            }
        }
        self.write_pack(&kept)?;
        self.remove_packs(&[pack.name])?;
        Ok(lost)
    }

    /// Puts what can be read of a pack of documents that is not what it was, and what of it is here, into another, and takes it
    /// away; how many of its documents are lost, and whether it is certain that none is.
    fn heal_documents(&self, store: &Store, name: &PackName, path: &str) -> Result<(u64, bool), DepotError> {
        let bytes = match self.storage.read(path) {
            // Somebody else has healed it, or merged it with others.
            Err(e) if e.is_not_found() => return Ok((0, true)),
            other => other?,
        };
        let salvage = salvage_pack(&bytes, &name.name);
        let writer = store.writer()?;
        for entry in salvage.sound.iter().filter(|e| e.kind() == Kind::Document) {
            writer.put_entry(entry)?;
        }
        writer.publish()?;
        // What the depot has is no longer known: every document here is held against what is there.
        self.forget_documents()?;
        self.receive(store, &mut |_| ())?;
        let unsent = self.unsent_documents(store)?;
        let sent = self.send_documents(store, &unsent)?;
        self.storage.delete(path)?;
        // A pack that has its name holds what it held.
        if sent.packs.contains(&name.name) {
            return Ok((0, true));
        }
        let mut lost = 0;
        for digest in &salvage.lost {
            lost += u64::from(!store.contains_document(digest)?);
        }
        Ok((lost, lost == 0 && salvage.is_told_of))
    }

    /// Those of some entries that can be read.
    fn readable(&self, wanted: &[EntryAt]) -> Result<Vec<Entry>, DepotError> {
        match self.entries(wanted.to_vec(), &mut Default::default(), &|_| ()) {
            // Its bytes are others, or its pack has gone since it was listed. Any other failure is no reason to take it for lost.
            Err(e) if matches!(&e, DepotError::Damaged { .. }) || matches!(&e, DepotError::Storage(s) if s.is_not_found()) => {
                if wanted.len() < 2 {
                    return Ok(Vec::new());
                }
                let (first, second) = wanted.split_at(wanted.len() / 2);
                Ok([self.readable(first)?, self.readable(second)?].concat())
            }
            other => other,
        }
    }

    /// Contents that are not there, or whose pieces are not, or that were damaged.
    fn incomplete(&self, spoken_of: &HashSet<Digest>, damaged: &HashSet<Digest>) -> Result<Vec<Digest>, DepotError> {
        let wanted: Vec<Digest> = spoken_of.iter().copied().collect();
        let mut missing = Vec::new();
        for some in wanted.chunks(1 << 16) {
            let found = self.find(some)?;
            // Those that are known to be damaged are missing whatever they list.
            let is_list = |e: &&EntryAt| e.record.entry.kind == Kind::Parts && !damaged.contains(&e.record.entry.digest);
            let wanted: Vec<EntryAt> = found.values().filter(is_list).copied().collect();
            let lists = self.readable(&wanted)?;
            let unreadable: HashSet<Digest> = {
                let read: HashSet<Digest> = lists.iter().map(Entry::digest).collect();
                wanted.iter().map(|e| e.record.entry.digest).filter(|digest| !read.contains(digest)).collect()
            };
            let pieces: HashMap<Digest, Vec<Digest>> = lists
                .iter()
                .map(|list| (list.digest(), list.pieces().unwrap_or_default().iter().map(|p| p.digest).collect()))
                .collect();
            let all: Vec<Digest> = pieces.values().flatten().copied().collect();
            let there = self.find(&all)?;
            for digest in some {
                let is_whole = found.contains_key(digest)
                    && !damaged.contains(digest)
                    && !unreadable.contains(digest)
                    && pieces.get(digest).is_none_or(|p| p.iter().all(|d| there.contains_key(d) && !damaged.contains(d)));
                if !is_whole {
                    missing.push(*digest);
                }
            }
        }
        missing.sort_unstable();
        Ok(missing)
    }
}
