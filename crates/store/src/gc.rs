//! GcPlan content: packs are written anew without it, whatever instant the process dies at.
//!
//! What is to go is first written into a journal. From then on the dropping will be finished: by this
//! process, or by the next that wants to write. So that no listing is ever found whose files are gone,
//! nobody adds anything before that. Folders whose files go keep their listing as an outline.
//!
//! ```text
//! journal := "textum drop @2\n\0" packs:u64 dropped:u64 outlines:u64 pack_name[32]* digest[32]* digest[32]* check:[32]
//! ```
//!
//! The first form, `@1`, knew of no outlines that go.

use std::collections::HashSet;
use std::fs::{self, File};
use std::path::PathBuf;

use super::catalog::{Catalog, records_of};
use super::index::Record;
use super::pack::{self, Kind};
use super::session::Alone;
use super::writer::OpenPack;
use super::{Digest, Store, StoreError, ingest};
use textum_base::fsio::{self, IoError};

const JOURNAL_HEAD: [u8; 16] = *b"textum drop @2\n\0";
const FIRST_HEAD: [u8; 16] = *b"textum drop @1\n\0";

/// What is to be dropped.
#[derive(Clone, Debug, Default)]
pub struct GcPlan {
    /// Contents, pieces and lists of pieces to go. Documents are never dropped.
    pub entries: HashSet<Digest>,
    /// Listings among them that are kept as outlines.
    pub outlines: Vec<Digest>,
    /// Outlines of earlier droppings that go as well.
    pub forgotten: HashSet<Digest>,
}

/// What a journal says is to go.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Journal {
    /// The packs that it speaks of.
    pub packs: Vec<Digest>,
    /// Contents, pieces and lists of pieces.
    pub entries: HashSet<Digest>,
    /// Outlines.
    pub outlines: HashSet<Digest>,
}

/// What dropping has freed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Freed {
    /// Entries gone.
    pub entries: u64,
    /// Bytes by which the packs are smaller.
    pub bytes: u64,
    /// Packs written anew or removed.
    pub packs: usize,
}

impl Store {
    pub(super) fn journal_path(&self) -> PathBuf {
        self.folder().join("drop.journal")
    }

    /// Whether a dropping was cut off and is yet to be finished.
    pub fn has_unfinished_dropping(&self) -> bool {
        self.journal_path().exists()
    }
}

fn encode(journal: &Journal) -> Vec<u8> {
    let mut out = JOURNAL_HEAD.to_vec();
    for count in [journal.packs.len(), journal.entries.len(), journal.outlines.len()] {
        out.extend_from_slice(&(count as u64).to_le_bytes());
    }
    let all = journal.packs.iter().chain(&journal.entries).chain(&journal.outlines);
    all.for_each(|d| out.extend_from_slice(d.as_bytes()));
    let check = blake3::hash(&out);
    out.extend_from_slice(check.as_bytes());
    out
}

/// Reads a journal's bytes.
pub fn decode_journal(bytes: &[u8]) -> Option<Journal> {
    let (body, check) = bytes.split_at_checked(bytes.len().checked_sub(32)?)?;
    let is_first = body.get(..16)? == FIRST_HEAD;
    if blake3::hash(body).as_bytes() != check || !(is_first || body.get(..16)? == JOURNAL_HEAD) {
        return None;
    }
    let number = |at: usize| -> Option<usize> {
        let bytes: [u8; 8] = body.get(at..at + 8)?.try_into().ok()?;
        usize::try_from(u64::from_le_bytes(bytes)).ok()
    };
    let (packs, entries, outlines) = (number(16)?, number(24)?, if is_first { 0 } else { number(32)? });
    let (digests, rest) = body.get(if is_first { 32 } else { 40 }..)?.as_chunks::<32>();
    if !rest.is_empty() || packs.checked_add(entries)?.checked_add(outlines)? != digests.len() {
        return None;
    }
    let digest = |bytes: &[u8; 32]| Digest::from_bytes(*bytes);
    let (packs, rest) = digests.split_at(packs);
    let (entries, outlines) = rest.split_at(entries);
    Some(Journal {
        packs: packs.iter().map(digest).collect(),
        entries: entries.iter().map(digest).collect(),
        outlines: outlines.iter().map(digest).collect(),
    })
}

/// The packs that a dropping changes.
#[derive(Default)]
struct Affected {
    /// Nothing of them stays; with the number of their entries.
    wholly: Vec<(Digest, u64)>,
    /// Some of their entries stay.
    partly: Vec<(Digest, Vec<Record>)>,
}

impl Journal {
    fn takes(&self, record: &Record) -> bool {
        match record.entry.kind {
            Kind::Chunk | Kind::Parts => self.entries.contains(&record.entry.digest),
            Kind::Outline => self.outlines.contains(&record.entry.digest),
            Kind::Document => false,
        }
    }
}

impl Alone<'_> {
    /// Drops content from all packs there are now. Damage in a pack that would be written anew is an
    /// error before anything is changed. The documents that tell of it are published first.
    pub fn drop_content(&self, dropping: &GcPlan, documents: &[Vec<u8>]) -> Result<Freed, StoreError> {
        let folder = self.store.packs_folder();
        // None yet, where nothing has been put.
        let packs = self.store.packs()?;
        let going = Journal { packs, entries: dropping.entries.clone(), outlines: dropping.forgotten.clone() };
        let affected = self.affected(&going)?;
        for (name, _) in &affected.partly {
            pack::scan(&Catalog::path_of(&folder, name), true, |_, _| {})?;
        }
        self.publish_first(&dropping.outlines, documents)?;
        let journal = self.store.journal_path();
        fsio::write_atomic(&journal, &encode(&going))?;
        let mut freed = Freed::default();
        let result = self.carry_out(affected, &going, &mut freed);
        if result.is_err() && freed.packs == 0 {
            // Nothing has gone yet: all stays as it was.
            let _ = fsio::remove_any(&journal);
        }
        result?;
        self.close_journal()?;
        Ok(freed)
    }

    /// Finishes what was cut off, if anything was.
    pub fn finish_dropping(&self) -> Result<Freed, StoreError> {
        let path = self.store.journal_path();
        let bytes = match fs::read(&path) {
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => return Ok(Freed::default()),
            other => other.map_err(IoError::of("read", &path))?,
        };
        let Some(going) = decode_journal(&bytes) else {
            return Err(StoreError::Damaged { path, what: "the journal of a dropping that was cut off is not one".into() });
        };
        let mut freed = Freed::default();
        self.carry_out(self.affected(&going)?, &going, &mut freed)?;
        self.close_journal()?;
        Ok(freed)
    }

    /// Forgets a dropping that was cut off: for a journal that cannot be read.
    pub fn forget_dropping(&self) -> Result<(), StoreError> {
        self.close_journal()
    }

    fn close_journal(&self) -> Result<(), StoreError> {
        self.store.new_generation()?;
        let path = self.store.journal_path();
        fsio::remove_any(&path)?;
        Ok(fsio::sync_folder(self.store.folder())?)
    }

    fn publish_first(&self, listings: &[Digest], documents: &[Vec<u8>]) -> Result<(), StoreError> {
        let mut open: Option<OpenPack> = None;
        if let Some(first) = (!documents.is_empty()).then(|| OpenPack::create(&self.store.scratch_folder())).transpose()? {
            let first = open.insert(first);
            documents.iter().try_for_each(|d| first.put(&ingest::code(Kind::Document, Digest::of(d), d)))?;
        }
        for digest in listings {
            if self.store.has_outline(digest)? {
                continue;
            }
            let bytes = self.store.read(digest)?;
            let open = match &mut open {
                Some(open) => open,
                None => open.insert(OpenPack::create(&self.store.scratch_folder())?),
            };
            open.put(&ingest::code(Kind::Outline, *digest, &bytes))?;
        }
        match open {
            Some(open) => open.publish(&self.store.packs_folder()).map(drop),
            None => Ok(()),
        }
    }

    /// The packs that something goes from, with all their records; first those of which nothing stays.
    fn affected(&self, going: &Journal) -> Result<Affected, StoreError> {
        let folder = self.store.packs_folder();
        let mut found = Affected::default();
        for name in &going.packs {
            let records = match records_of(&folder, name) {
                Err(StoreError::Io(e)) if e.is_not_found() => continue,
                other => other?,
            };
            match records.iter().filter(|r| going.takes(r)).count() {
                0 => {}
                gone if gone == records.len() => found.wholly.push((*name, gone as u64)),
                _ => found.partly.push((*name, records)),
            }
        }
        Ok(found)
    }

    fn carry_out(&self, affected: Affected, going: &Journal, freed: &mut Freed) -> Result<(), StoreError> {
        let folder = self.store.packs_folder();
        // Whole packs first: that frees room for writing the others anew.
        for (name, entries) in &affected.wholly {
            freed.bytes += fs::metadata(Catalog::path_of(&folder, name)).map_or(0, |m| m.len());
            self.remove(name)?;
            freed.packs += 1;
            freed.entries += entries;
        }
        let mut open: Option<OpenPack> = None;
        let mut replaced: Vec<Digest> = Vec::new();
        for (name, mut records) in affected.partly {
            let path = Catalog::path_of(&folder, &name);
            let file = File::open(&path).map_err(IoError::of("open", &path))?;
            records.sort_unstable_by_key(|r| r.offset);
            let length = file.metadata().map_err(IoError::of("look at", &path))?.len();
            let into = match &mut open {
                Some(open) => open,
                None => open.insert(OpenPack::create(&self.store.scratch_folder())?),
            };
            let before = into.length();
            for record in &records {
                if going.takes(record) {
                    freed.entries += 1;
                    continue;
                }
                into.put(&pack::read_coded(&file, &path, record.offset, &record.entry)?)?;
            }
            freed.bytes += length.saturating_sub(into.length() - before);
            replaced.push(name);
            if into.is_full() {
                self.replace(&mut open, &mut replaced, freed)?;
            }
        }
        self.replace(&mut open, &mut replaced, freed)
    }

    fn replace(&self, open: &mut Option<OpenPack>, replaced: &mut Vec<Digest>, freed: &mut Freed) -> Result<(), StoreError> {
        let Some(new) = open.take() else { return Ok(()) };
        let published = new.publish(&self.store.packs_folder())?;
        for name in replaced.drain(..).filter(|name| *name != published.name) {
            self.remove(&name)?;
            freed.packs += 1;
        }
        Ok(())
    }

    fn remove(&self, name: &Digest) -> Result<(), StoreError> {
        let path = Catalog::path_of(&self.store.packs_folder(), name);
        fsio::remove_any(&path)?;
        let _ = fsio::remove_any(&path.with_extension("index"));
        Ok(())
    }
}
