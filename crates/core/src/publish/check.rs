//! Whether a registry is whole: its log from the beginning, everybody's right, and the content that it speaks of.

use std::collections::{BTreeMap, BTreeSet};

use textum_base::Digest;
use textum_depot::EntryAt;
use textum_registry::{Damage, Registry};

use super::{Home, Place, PublishError};
use crate::project::workspace::Project;

/// What was found.
pub struct RegistryReport {
    /// What the log says, as far as it is whole.
    pub registry: Registry,
    /// What is wrong with the log.
    pub damage: Vec<Damage>,
    /// Entries whose clock was behind that of the one before.
    pub backwards: Vec<u64>,
    /// Versions of which content is missing: `NAME@V`, and how many contents.
    pub missing: Vec<(String, u64)>,
    /// The same for content that was erased, as far as the project knows.
    pub erased: Vec<(String, u64)>,
}

/// Reads a whole registry anew; in a project its store is looked at, and what it knows to be erased is not missed.
pub fn check_registry(place: &Place, project: Option<&Project>) -> Result<RegistryReport, PublishError> {
    let chain = place.log.check()?;
    let damage = chain.damage.clone();
    let time = |at: usize| chain.entries[at].entry.at.parse::<jiff::Timestamp>().ok();
    let backwards = (1..chain.entries.len()).filter(|at| time(*at) < time(at - 1)).map(|at| at as u64 + 1).collect();
    let registry = chain.registry();
    let wanted: BTreeSet<Digest> =
        registry.versions().filter(|(_, _, v)| v.retired.is_none()).flat_map(|(_, _, v)| v.publication.bundle.contents()).collect();
    let wanted: Vec<Digest> = wanted.into_iter().collect();
    let there: BTreeSet<Digest> = match (&place.home, project) {
        (Home::Depot(depot), _) => {
            depot.refresh()?;
            // What an index says to be in a pack is there if the pack is.
            let packs: BTreeMap<String, u64> = depot.storage().list("content")?.into_iter().map(|o| (o.path, o.size)).collect();
            let is_there = |at: &EntryAt| packs.get(&at.pack.name.content_path()) == Some(&at.pack.length);
            depot.has(&wanted)?.into_iter().filter(|(_, at)| is_there(at)).map(|(digest, _)| digest).collect()
        }
        (Home::Project, Some(Project { store, .. })) => {
            let mut found = BTreeSet::new();
            for digest in wanted {
                if store.contains(&digest)? {
                    found.insert(digest);
                }
            }
            found
        }
        // Without a store nothing can be said to be there.
        (Home::Project, None) => BTreeSet::new(),
    };
    let (mut missing, mut erased) = (Vec::new(), Vec::new());
    for (name, _, version) in registry.versions().filter(|(_, _, v)| v.retired.is_none()) {
        let (mut gone, mut forgotten) = (0, 0);
        for digest in version.publication.bundle.contents().iter().filter(|digest| !there.contains(digest)) {
            match project.map(|p| p.ledger.erased(digest)).transpose()?.flatten() {
                Some(_) => forgotten += 1,
                None => gone += 1,
            }
        }
        let name = format!("{name}@{}", version.publication.version);
        if gone > 0 {
            missing.push((name.clone(), gone));
        }
        if forgotten > 0 {
            erased.push((name, forgotten));
        }
    }
    Ok(RegistryReport { registry, damage, backwards, missing, erased })
}
