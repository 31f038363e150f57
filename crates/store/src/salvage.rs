//! A damaged pack: what is whole in it goes into a new one, and what was lost is told.

use std::fs::{self, File};

use super::catalog::{Catalog, list_packs, records_of};
use super::index::{self, Record};
use super::pack::{self, EntryHead, HEAD_LEN, Kind, PACK_HEAD};
use super::session::Alone;
use super::writer::OpenPack;
use super::{Digest, Store, StoreError};
use textum_base::fsio::{self, IoError};

/// What came of salvaging a pack.
#[derive(Clone, Debug, Default)]
pub struct Salvaged {
    /// Entries that were whole.
    pub kept: usize,
    /// Digests of entries that were not, as far as the index still tells.
    pub lost: Vec<Digest>,
}

/// The places of entries in a pack whose index is of no use: wherever a head and its payload agree.
fn find_entries(path: &std::path::Path) -> Result<Vec<Record>, IoError> {
    let bytes = fs::read(path).map_err(IoError::of("read", path))?;
    let mut found = Vec::new();
    let mut at = if bytes.starts_with(&PACK_HEAD) { PACK_HEAD.len() } else { 0 };
    while let Some(head) = bytes.get(at..at + HEAD_LEN).and_then(|h| <&[u8; HEAD_LEN]>::try_from(h).ok()) {
        let entry = EntryHead::decode(head);
        let end = entry.map(|e| at + HEAD_LEN + e.stored_len as usize);
        if let (Some(entry), Some(end)) = (entry, end)
            && bytes.get(at + HEAD_LEN..end).is_some_and(|payload| entry.verify(head, payload))
        {
            found.push(Record { entry, offset: at as u64 });
            at = end;
        } else {
            at += 1 + memchr::memmem::find(&bytes[at + 1..], b"ENTR").unwrap_or(bytes.len());
        }
    }
    Ok(found)
}

impl Store {
    /// Where packs are kept that were damaged, for a person to look at; what was whole in them is elsewhere.
    pub fn damaged_folder(&self) -> std::path::PathBuf {
        self.folder().join("damaged")
    }
}

impl Alone<'_> {
    /// Writes a damaged pack anew with what is whole in it. The damaged file is kept in `damaged/`.
    pub fn salvage(&self, name: &Digest) -> Result<Salvaged, StoreError> {
        let folder = self.store.packs_folder();
        let path = Catalog::path_of(&folder, name);
        let length = fs::metadata(&path).map_err(IoError::of("look at", &path))?.len();
        let mut records = match index::read(&path.with_extension("index"), name, length) {
            Some(records) => records,
            None => find_entries(&path)?,
        };
        records.sort_unstable_by_key(|r| r.offset);
        let file = File::open(&path).map_err(IoError::of("open", &path))?;
        let mut salvaged = Salvaged::default();
        let mut open = OpenPack::create(&self.store.scratch_folder())?;
        for record in &records {
            let whole = pack::read_entry(&file, &path, record.offset, &record.entry)
                .and_then(|_| pack::read_coded(&file, &path, record.offset, &record.entry));
            match whole {
                Ok(coded) => {
                    open.put(&coded)?;
                    salvaged.kept += 1;
                }
                Err(StoreError::Damaged { .. }) => salvaged.lost.push(record.entry.digest),
                Err(other) => return Err(other),
            }
        }
        let aside = self.store.damaged_folder();
        textum_base::fsio::create_folder(&aside)?;
        let kept = Catalog::path_of(&aside, name);
        fsio::remove_any(&kept)?;
        if fsio::share_file(&path, &kept).is_err() {
            fsio::copy_file(&path, &kept)?;
        }
        let _ = fsio::remove_any(&path.with_extension("index"));
        let published = if salvaged.kept > 0 { Some(open.publish(&folder)?.name) } else { None };
        // With all its entries whole, the new pack bears the same name and has taken the damaged one's place.
        if published != Some(*name) {
            fsio::remove_any(&path)?;
            let _ = fsio::remove_any(&path.with_extension("index"));
        }
        fsio::sync_folder(&folder)?;
        self.store.new_generation()?;
        Ok(salvaged)
    }

    /// The contents whose list of pieces is there and some piece is not.
    pub fn without_all_pieces(&self) -> Result<Vec<Digest>, StoreError> {
        let folder = self.store.packs_folder();
        let mut found = Vec::new();
        for (name, _) in list_packs(&folder)? {
            for record in records_of(&folder, &name)?.iter().filter(|r| r.entry.kind == Kind::Parts) {
                let digest = record.entry.digest;
                let parts = self.store.parts_of(&digest)?;
                if parts.iter().any(|p| !self.store.contains(&p.digest).unwrap_or(false)) {
                    found.push(digest);
                }
            }
        }
        Ok(found)
    }
}
