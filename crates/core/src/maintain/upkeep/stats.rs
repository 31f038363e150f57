//! What the store holds: how large it would be as copies, and how large it is.

use std::collections::hash_map::Entry;
use std::collections::{BTreeMap, HashMap, HashSet};

use serde::Serialize;

use super::UpkeepError;
use super::inventory::Inventory;
use super::live::Folders;
use crate::project::workspace::Project;
use crate::record::receipt::{Content, StageState, StorageMode};
use crate::store::{Digest, Kind};

/// What belongs to one dataset, one stage, or one sort of thing.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Share {
    /// `dataset shifts`, `outputs of fit`, `code and other sources`, `logs`, `receipts`, …
    pub name: String,
    /// Recorded states: versions, executions, files.
    pub states: u64,
    /// Bytes of all of them, each as a copy.
    pub logical: u64,
    /// Bytes in the packs that only it uses.
    pub alone: u64,
    /// Bytes in the packs that it shares with others.
    pub shared: u64,
}

/// A content that takes much room.
#[derive(Clone, Debug, Serialize)]
pub struct Largest {
    /// Where it was met, such as `shifts@2` or `build/model.json of 7f3a`.
    pub name: String,
    /// Its digest.
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
    /// Bytes in the packs, pieces that it shares with others included.
    pub stored: u64,
}

/// What the store holds.
#[derive(Clone, Debug, Default, Serialize)]
pub struct Stats {
    /// Packs.
    pub packs: u64,
    /// Bytes of all recorded states, each as a copy.
    pub logical: u64,
    /// Bytes of them when the same content counts once.
    pub distinct: u64,
    /// Bytes when the same piece counts once.
    pub pieces: u64,
    /// Bytes of the packs.
    pub stored: u64,
    /// Whose the bytes are, most first.
    pub shares: Vec<Share>,
    /// The contents that take the most room.
    pub largest: Vec<Largest>,
}

type ByDigest<T> = HashMap<Digest, T, foldhash::fast::RandomState>;

struct Counter<'p> {
    project: &'p Project,
    folders: &'p Folders,
    stats: Stats,
    shares: BTreeMap<String, Share>,
    owned: ByDigest<Owned>,
    names: Vec<String>,
    contents: ByDigest<Counted>,
}

/// A content, by the name under which it was met last, and the entries that it is stored in.
struct Counted {
    name: String,
    size: u64,
    entries: Vec<Digest>,
}

/// An entry: who speaks of it, and its bytes in the packs.
struct Owned {
    first: usize,
    others: Vec<usize>,
    bytes: u64,
}

impl Counter<'_> {
    fn owner(&mut self, name: &str) -> usize {
        self.names.iter().position(|n| n == name).unwrap_or_else(|| {
            self.names.push(name.to_string());
            self.names.len() - 1
        })
    }

    fn add(&mut self, share: &str, name: &str, content: &Content) -> Result<(), UpkeepError> {
        let owner = self.owner(share);
        let entry = self.shares.entry(share.to_string()).or_insert_with(|| Share { name: share.into(), ..Share::default() });
        entry.states += 1;
        entry.logical += content.size;
        self.stats.logical += content.size;
        let counted = match self.contents.entry(content.digest) {
            Entry::Occupied(met) => {
                let counted = met.into_mut();
                counted.name = name.to_string();
                counted
            }
            Entry::Vacant(new) => {
                self.stats.distinct += content.size;
                let entries = self.folders.entries_of(&self.project.store, content)?;
                self.owned.reserve(entries.len());
                new.insert(Counted { name: name.to_string(), size: content.size, entries })
            }
        };
        for digest in &counted.entries {
            let owned = self.owned.entry(*digest).or_insert(Owned { first: owner, others: Vec::new(), bytes: 0 });
            if owned.first != owner && !owned.others.contains(&owner) {
                owned.others.push(owner);
            }
        }
        Ok(())
    }
}

/// Counts what the store holds.
pub fn stats(project: &Project, all: &Inventory, most: usize) -> Result<Stats, UpkeepError> {
    let _here = project.store.only_here();
    let mut counter = Counter {
        project,
        folders: &all.folders,
        stats: Stats { packs: project.store.packs()?.len() as u64, ..Stats::default() },
        shares: BTreeMap::new(),
        owned: ByDigest::default(),
        names: Vec::new(),
        contents: ByDigest::default(),
    };
    for name in project.ledger.dataset_names()? {
        for version in crate::data::versions(&project.ledger, &name)?.iter().filter(|v| v.hold == StorageMode::Store) {
            counter.add(&format!("dataset {name}"), &version.name(), &version.content)?;
        }
    }
    let mut met: HashSet<Digest> = HashSet::new();
    for (_, run) in &all.runs {
        if met.insert(run.manifest.digest) {
            counter.add("code and other sources", "textum.toml", &run.manifest)?;
        }
        if let Some(log) = &run.log {
            counter.add("logs", &format!("log of {}", run.run.rsplit('-').next().unwrap_or(&run.run)), log)?;
        }
    }
    for (_, receipt) in &all.stages {
        let run = receipt.run.rsplit('-').next().unwrap_or(&receipt.run);
        if receipt.state == StageState::Done {
            for output in receipt.outputs() {
                let name = format!("{} of {run}", output.path);
                counter.add(&format!("outputs of {}", receipt.inputs.stage), &name, &output.content)?;
            }
        }
        if let Some(points) = receipt.signals.as_ref().and_then(|s| s.points.as_ref()) {
            counter.add("metrics by step", &format!("metrics by step of {} in {run}", receipt.inputs.stage), points)?;
        }
        counter.add("logs", &format!("log of {} in {run}", receipt.inputs.stage), &receipt.log)?;
        let sources = receipt.reads.iter().filter(|r| r.by.is_empty() && r.dataset.is_none() && r.hold == StorageMode::Store);
        for read in sources {
            if met.insert(read.at.content.digest) {
                counter.add("code and other sources", &read.at.path, &read.at.content)?;
            }
        }
    }
    for (_, made) in &all.checkpoints {
        let name = format!("checkpoint {}#{} of {}", made.run.rsplit('-').next().unwrap_or(&made.run), made.step, made.stage);
        counter.add(&format!("checkpoints of {}", made.stage), &name, &made.content)?;
    }
    let mut rest = Share { name: "receipts and settings".into(), ..Share::default() };
    for (digest, kind, bytes) in project.store.all_entries()? {
        counter.stats.stored += bytes;
        let owned = if matches!(kind, Kind::Chunk | Kind::Parts) { counter.owned.get_mut(&digest) } else { None };
        let Some(owned) = owned else {
            rest.states += 1;
            rest.alone += bytes;
            continue;
        };
        owned.bytes += bytes;
        for owner in [owned.first].iter().chain(&owned.others) {
            if let Some(share) = counter.shares.get_mut(&counter.names[*owner]) {
                *(if owned.others.is_empty() { &mut share.alone } else { &mut share.shared }) += bytes;
            }
        }
    }
    counter.stats.pieces = project.store.piece_bytes()?;
    let mut shares: Vec<Share> = counter.shares.into_values().chain([rest]).collect();
    shares.sort_by_key(|s| std::cmp::Reverse(s.alone + s.shared));
    counter.stats.shares = shares;
    let mut largest: Vec<Largest> = Vec::new();
    for (digest, Counted { name, size, entries }) in counter.contents {
        let stored = entries.iter().filter_map(|d| Some(counter.owned.get(d)?.bytes)).sum();
        largest.push(Largest { name, digest, size, stored });
    }
    largest.sort_by(|a, b| (b.stored, b.size, &a.name).cmp(&(a.stored, a.size, &b.name)));
    largest.truncate(most);
    counter.stats.largest = largest;
    Ok(counter.stats)
}
