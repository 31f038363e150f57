//! What the store holds: how large it would be as copies, and how large it is.

use std::collections::{BTreeMap, HashMap, HashSet};

use serde::Serialize;

use super::UpkeepError;
use super::inventory::Inventory;
use super::live::Live;
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

struct Counter<'p> {
    project: &'p Project,
    stats: Stats,
    shares: BTreeMap<String, Share>,
    owners: HashMap<Digest, HashSet<usize>>,
    names: Vec<String>,
    contents: HashMap<Digest, (String, Content)>,
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
        if self.contents.insert(content.digest, (name.to_string(), content.clone())).is_none() {
            self.stats.distinct += content.size;
        }
        let mut live = Live::new(&self.project.store);
        live.content(content)?;
        for digest in live.entries {
            self.owners.entry(digest).or_default().insert(owner);
        }
        Ok(())
    }
}

/// Counts what the store holds.
pub fn stats(project: &Project, all: &Inventory, most: usize) -> Result<Stats, UpkeepError> {
    let mut counter = Counter {
        project,
        stats: Stats { packs: project.store.packs()?.len() as u64, ..Stats::default() },
        shares: BTreeMap::new(),
        owners: HashMap::new(),
        names: Vec::new(),
        contents: HashMap::new(),
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
    let mut sizes: HashMap<Digest, u64> = HashMap::new();
    let mut rest = Share { name: "receipts and settings".into(), ..Share::default() };
    for (digest, kind, bytes) in project.store.all_entries()? {
        counter.stats.stored += bytes;
        *sizes.entry(digest).or_default() += bytes;
        let owners = if matches!(kind, Kind::Chunk | Kind::Parts) { counter.owners.get(&digest) } else { None };
        let Some(owners) = owners else {
            rest.states += 1;
            rest.alone += bytes;
            continue;
        };
        for owner in owners {
            if let Some(share) = counter.shares.get_mut(&counter.names[*owner]) {
                *(if owners.len() == 1 { &mut share.alone } else { &mut share.shared }) += bytes;
            }
        }
    }
    counter.stats.pieces = project.store.piece_bytes()?;
    let mut shares: Vec<Share> = counter.shares.into_values().chain([rest]).collect();
    shares.sort_by_key(|s| std::cmp::Reverse(s.alone + s.shared));
    counter.stats.shares = shares;
    let mut largest: Vec<Largest> = Vec::new();
    for (digest, (name, content)) in counter.contents {
        let size = content.size;
        let mut live = Live::new(&project.store);
        live.content(&content)?;
        let stored = live.entries.iter().filter_map(|d| sizes.get(d)).sum();
        largest.push(Largest { name, digest, size, stored });
    }
    largest.sort_by(|a, b| (b.stored, b.size, &a.name).cmp(&(a.stored, a.size, &b.name)));
    largest.truncate(most);
    counter.stats.largest = largest;
    Ok(counter.stats)
}
