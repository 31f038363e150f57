//! Merging many small indexes into few, so that neither a first look nor any later one has to read thousands.
//!
//! What takes the place of others is written before they are removed: whoever finds one gone looks once more. Two who merge
//! at once write the same, or tell the same twice.

use std::collections::BTreeMap;

use textum_store::Digest;

use super::catalog::IndexAt;
use super::depot::{Depot, DepotError};
use super::index::{EntryAt, encode};

/// So many indexes of one tier and prefix are merged.
const MANY: usize = 32;
/// A merged index with more entries is split by the next digit of the digest.
const LARGE: usize = 100_000;

/// Where an index of these bytes lies.
fn path_of(tier: u32, prefix: &str, bytes: &[u8]) -> String {
    let prefix = if prefix.is_empty() { "all" } else { prefix };
    format!("index/{tier}/{prefix}/{}.index", Digest::of(bytes).hex())
}

impl Depot {
    /// Writes a new index of these entries.
    pub(crate) fn write_index(&self, entries: Vec<EntryAt>) -> Result<(), DepotError> {
        self.write_index_at(0, "", entries)
    }

    fn write_index_at(&self, tier: u32, prefix: &str, entries: Vec<EntryAt>) -> Result<(), DepotError> {
        if entries.is_empty() {
            return Ok(());
        }
        let bytes = encode(entries);
        Ok(self.storage.put(&path_of(tier, prefix, &bytes), &bytes.into())?)
    }

    /// Merges indexes where there are many.
    pub(crate) fn merge_indexes(&self) -> Result<(), DepotError> {
        let catalog = self.catalog()?;
        let mut groups: BTreeMap<(u32, &str), Vec<&IndexAt>> = BTreeMap::new();
        for file in &catalog.files {
            groups.entry((file.tier, &file.prefix)).or_default().push(file);
        }
        for ((tier, prefix), files) in groups.into_iter().filter(|(_, files)| files.len() >= MANY) {
            self.go_on()?;
            let mut entries = Vec::new();
            for file in &files {
                // Somebody else is merging them.
                let Some(index) = self.index(file)? else { return Ok(()) };
                entries.extend((0..index.len()).filter_map(|at| index.entry(at)));
            }
            entries.retain(|e| !catalog.gone.contains(&e.pack.name));
            if entries.len() <= LARGE {
                self.write_index_at(tier + 1, prefix, entries)?;
            } else {
                let mut split: BTreeMap<String, Vec<EntryAt>> = BTreeMap::new();
                for entry in entries {
                    let digits = entry.record.entry.digest.hex()[..prefix.len() + 1].to_string();
                    split.entry(digits).or_default().push(entry);
                }
                for (digits, entries) in split {
                    self.write_index_at(tier + 1, &digits, entries)?;
                }
            }
            for file in files {
                self.storage.delete(&file.path)?;
            }
            self.forget();
        }
        Ok(())
    }
}
