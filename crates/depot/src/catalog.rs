//! Which entries a depot has and where they stand: out of those of its indexes that can tell of what is asked.

use std::collections::{HashMap, HashSet};
use std::sync::{Arc, Mutex, PoisonError};

use textum_store::Digest;

use super::depot::{Depot, DepotError};
use super::index::{EntryAt, Index, decode_list, is_content, item_pack};
use super::layout::{GONE, INDEX, MARKS, PackName};
use super::parallel::parallel;
use super::storage::Object;

/// An index as it lies in a depot.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct IndexAt {
    pub path: String,
    pub tier: u32,
    /// It tells of digests that begin with these hex digits.
    pub prefix: String,
    pub name: Digest,
}

impl IndexAt {
    fn of(object: &Object) -> Option<IndexAt> {
        let parts: Vec<&str> = object.path.split('/').collect();
        let [INDEX, tier, prefix, file] = parts[..] else { return None };
        let prefix = if prefix == "all" { "" } else { prefix };
        let sound = prefix.len() <= 8 && prefix.bytes().all(|b| b.is_ascii_digit() || (b'a'..=b'f').contains(&b));
        let name = Digest::from_hex(file.strip_suffix(".index").filter(|_| sound)?)?;
        // Each tier takes in many of the one before: there are never more than a few.
        let tier = tier.parse().ok().filter(|tier| *tier < 100)?;
        Some(IndexAt { path: object.path.clone(), tier, prefix: prefix.to_string(), name })
    }

    fn may_tell_of(&self, digest: &Digest) -> bool {
        self.prefix.is_empty() || digest.hex().starts_with(&self.prefix)
    }
}

/// What the indexes of a depot tell, as of the last look.
pub(crate) struct Catalog {
    pub files: Vec<IndexAt>,
    pub gone: HashSet<PackName>,
    /// Entries that are to go: nobody may rely on them any more.
    pub marked: HashSet<Digest>,
    loaded: Mutex<HashMap<Digest, Arc<Index>>>,
}

/// Whether a path has the name that lists are given: whatever else lies there is nobody's list.
pub(crate) fn is_list(path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or_default();
    name.len() == 16 && u64::from_str_radix(name, 16).is_ok()
}

/// Indexes with where they lie.
type Read = Vec<(IndexAt, Arc<Index>)>;

/// Folder of indexes in what this machine keeps.
const KEPT: &str = "index";

impl Depot {
    /// Looks at what there is now.
    pub fn refresh(&self) -> Result<(), DepotError> {
        let before = self.catalog.lock().unwrap_or_else(PoisonError::into_inner).take();
        let mut loaded = match &before {
            Some(catalog) => std::mem::take(&mut *catalog.loaded.lock().unwrap_or_else(PoisonError::into_inner)),
            None => HashMap::new(),
        };
        let objects = self.storage.list(INDEX)?;
        let files: Vec<IndexAt> = objects.iter().filter_map(IndexAt::of).collect();
        let (mut gone, mut marked) = (HashSet::new(), HashSet::new());
        for object in objects.iter().filter(|o| is_list(&o.path)) {
            if object.path.starts_with(GONE) {
                let items = self.list_of::<36>(&object.path)?;
                gone.extend(items.iter().flatten().map(item_pack));
            } else if object.path.starts_with(MARKS) {
                let items = self.list_of::<32>(&object.path)?;
                marked.extend(items.into_iter().flatten().map(Digest::from_bytes));
            }
        }
        let names: HashSet<Digest> = files.iter().map(|f| f.name).collect();
        loaded.retain(|name, _| names.contains(name));
        let catalog = Catalog { files, gone, marked, loaded: Mutex::new(loaded) };
        *self.catalog.lock().unwrap_or_else(PoisonError::into_inner) = Some(Arc::new(catalog));
        Ok(())
    }

    /// The items of a list; none where it has gone since it was listed.
    pub(crate) fn list_of<const N: usize>(&self, path: &str) -> Result<Option<Vec<[u8; N]>>, DepotError> {
        self.object(path, |bytes| decode_list(bytes).ok_or_else(|| "it is not a list".to_string()))
    }

    pub(crate) fn catalog(&self) -> Result<Arc<Catalog>, DepotError> {
        let there = |depot: &Depot| depot.catalog.lock().unwrap_or_else(PoisonError::into_inner).clone();
        if let Some(catalog) = there(self) {
            return Ok(catalog);
        }
        self.refresh()?;
        there(self).ok_or_else(|| self.damaged(INDEX, "it cannot be listed"))
    }

    /// An index, out of what this machine keeps or from the depot; none where it has gone since it was listed.
    pub(crate) fn index(&self, at: &IndexAt) -> Result<Option<Arc<Index>>, DepotError> {
        let kept = format!("{KEPT}/{}", at.name.hex());
        if let Ok(bytes) = std::fs::read(self.state_file(&kept))
            && Digest::of(&bytes) == at.name
            && let Ok(index) = Index::of(bytes)
        {
            return Ok(Some(Arc::new(index)));
        }
        let index = self.object(&at.path, |bytes| {
            if Digest::of(bytes) != at.name {
                return Err("its bytes do not make up its name".to_string());
            }
            let index = Index::of(bytes.to_vec())?;
            self.keep(&kept, bytes);
            Ok(index)
        })?;
        Ok(index.map(Arc::new))
    }

    /// The indexes that can tell of these digests; none where one has gone since they were listed.
    fn indexes_for(&self, catalog: &Catalog, digests: &[Digest]) -> Result<Option<Read>, DepotError> {
        let prefixes: HashSet<&str> = catalog.files.iter().map(|f| f.prefix.as_str()).collect();
        let asked: HashSet<&str> =
            prefixes.into_iter().filter(|p| p.is_empty() || digests.iter().any(|d| d.hex().starts_with(p))).collect();
        let files: Vec<&IndexAt> = catalog.files.iter().filter(|f| asked.contains(f.prefix.as_str())).collect();
        let known = |file: &IndexAt| catalog.loaded.lock().unwrap_or_else(PoisonError::into_inner).get(&file.name).cloned();
        let missing: Vec<&IndexAt> = files.iter().copied().filter(|f| known(f).is_none()).collect();
        let read = parallel(self.jobs(), &missing, |file| Ok::<_, DepotError>((file.name, self.index(file)?)))?;
        for (name, index) in read {
            let Some(index) = index else { return Ok(None) };
            catalog.loaded.lock().unwrap_or_else(PoisonError::into_inner).insert(name, index);
        }
        Ok(Some(files.into_iter().filter_map(|f| Some((f.clone(), known(f)?))).collect()))
    }

    /// Where each of these contents stands: only what is there is among them. Of a folder whose files are not in the depot,
    /// the listing alone is none.
    pub fn find(&self, digests: &[Digest]) -> Result<HashMap<Digest, EntryAt>, DepotError> {
        // An index may be merged with others while it is looked at: what it told, those that took its place tell.
        for _ in 0..4 {
            let catalog = self.catalog()?;
            let Some(indexes) = self.indexes_for(&catalog, digests)? else {
                self.refresh()?;
                continue;
            };
            let mut found = HashMap::new();
            for digest in digests {
                let told = indexes.iter().filter(|(file, _)| file.may_tell_of(digest)).flat_map(|(_, index)| index.find(digest));
                let there = told.filter(|e| is_content(e.record.entry.kind) && !catalog.gone.contains(&e.pack.name));
                // What is whole is better than pieces of it, and both than a listing without its files.
                if let Some(best) = there.min_by_key(|e| (e.record.entry.kind, e.pack.name)) {
                    found.insert(*digest, best);
                }
            }
            return Ok(found);
        }
        Err(self.damaged(INDEX, "its indexes go away while they are read"))
    }

    /// Whether nobody may rely on this entry any more, since it is to go.
    pub(crate) fn is_marked(&self, digest: &Digest) -> Result<bool, DepotError> {
        Ok(self.catalog()?.marked.contains(digest))
    }
}
