//! Looking whether packs and indexes are what they must be.

use rayon::prelude::*;

use super::catalog::Catalog;
use super::index::{self, Record};
use super::{Digest, Store, StoreError, list_packs, pack};
use textum_base::fsio::IoError;

/// Something in the store that is not as it must be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Damage {
    /// The file it is in.
    pub path: std::path::PathBuf,
    /// What is wrong.
    pub what: String,
    /// Whether it can be made anew from what is whole.
    pub derived: bool,
    /// What is stored there, where that can be told.
    pub digest: Option<Digest>,
}

/// What was found of one pack.
#[derive(Clone, Debug)]
pub struct PackReport {
    /// Its name.
    pub name: Digest,
    /// Its length in bytes.
    pub length: u64,
    /// Entries in it.
    pub entries: usize,
    /// What is wrong with it or its index.
    pub damage: Vec<Damage>,
}

fn look_at(store: &Store, name: Digest, length: u64, deep: bool) -> Result<PackReport, StoreError> {
    let path = Catalog::path_of(&store.packs_folder(), &name);
    let mut records = Vec::new();
    let mut damage = Vec::new();
    match pack::scan(&path, false, |entry, offset| records.push(Record { entry, offset })) {
        Ok(found) if found == name => {}
        Ok(_) => damage.push(Damage {
            path: path.clone(),
            what: "its entries do not make up its name: some are missing or altered".into(),
            derived: false,
            digest: None,
        }),
        Err(StoreError::Damaged { path, what }) => damage.push(Damage { path, what, derived: false, digest: None }),
        Err(other) => return Err(other),
    }
    if deep {
        let file = std::fs::File::open(&path).map_err(IoError::of("open", &path))?;
        // Each entry on its own: one that is damaged hides no other.
        let read = records.par_iter().map(|r| match pack::read_entry(&file, &path, r.offset, &r.entry) {
            Ok(_) => Ok(None),
            Err(StoreError::Damaged { path, what }) => {
                Ok(Some(Damage { path, what, derived: false, digest: Some(r.entry.digest) }))
            }
            Err(other) => Err(other),
        });
        damage.extend(read.collect::<Result<Vec<_>, StoreError>>()?.into_iter().flatten());
    }
    records.sort_unstable_by_key(|r| (r.entry.digest, r.entry.kind));
    let index_path = path.with_extension("index");
    let whole = std::fs::metadata(&index_path).is_ok_and(|m| m.len() == index::length_of(records.len()));
    if damage.is_empty() && !whole {
        // A writer or the machine was lost before the index was on the disk, which nobody waits for: whoever looks
        // first makes it anew, as a reader would.
        let _ = index::write(&index_path, &name, length, &mut records);
    } else if damage.is_empty() && index::read(&index_path, &name, length).as_ref() != Some(&records) {
        damage.push(Damage { path: index_path, what: "it does not agree with its pack".into(), derived: true, digest: None });
    }
    Ok(PackReport { name, length, entries: records.len(), damage })
}

impl Store {
    /// Looks at every pack and its index; with `deep` every stored byte is read and checked.
    pub fn verify_packs(&self, deep: bool) -> Result<Vec<PackReport>, StoreError> {
        let folder = self.packs_folder();
        if !folder.exists() {
            return Ok(Vec::new());
        }
        let looked = list_packs(&folder)?.into_par_iter().map(|(name, length)| match look_at(self, name, length, deep) {
            // Written anew by another process since it was listed.
            Err(StoreError::Io(e)) if e.is_not_found() => Ok(None),
            other => other.map(Some),
        });
        Ok(looked.collect::<Result<Vec<_>, _>>()?.into_iter().flatten().collect())
    }

    /// Makes the index of a pack anew from the pack.
    pub fn rebuild_index(&self, name: &Digest) -> Result<(), StoreError> {
        let path = Catalog::path_of(&self.packs_folder(), name);
        index::rebuild(&path, &path.with_extension("index"), name)?;
        self.reload()
    }
}
