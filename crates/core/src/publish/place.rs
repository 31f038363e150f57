//! Where a registry lies, and where the content that it speaks of comes from.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use textum_depot::{Address, Depot, DepotOptions, Folder, Interrupt, open_storage, probe};
use textum_registry::{Log, Registry};

use super::PublishError;
use crate::project::depots::JOBS;
use crate::project::workspace::Project;
use crate::store::{Digest, Store};

/// The file in which it is kept what was read of a registry.
const KEPT: &str = "registry.jsonl";

/// Where a registry lies.
pub enum Home {
    /// In the project alone.
    Project,
    /// In a depot.
    Depot(Arc<Depot>),
}

/// A registry.
pub struct Place {
    /// Its log.
    pub log: Log,
    /// Where it lies.
    pub home: Home,
}

impl Place {
    /// The registry of a project: that of the depot named, else of the one that the manifest names, else of the only one; of
    /// a project without a depot its own.
    pub fn of_project(project: &Project, depot: Option<&str>) -> Result<Place, PublishError> {
        let said = depot.or(project.manifest.registry.as_deref());
        let has_state = project.workspace.state().is_dir();
        if said.is_none() && project.manifest.depots.is_empty() {
            let kept = has_state.then(|| project.workspace.state().join("cache").join(KEPT));
            let storage = Arc::new(Folder::new(&project.workspace.state()));
            return Ok(Place { log: Log::new(storage, kept, "this project"), home: Home::Project });
        }
        if said.is_none() && project.manifest.depots.len() > 1 {
            let names: Vec<&str> = project.manifest.depots.iter().map(|d| d.name.as_str()).collect();
            let what = format!("the project has several depots: {}", names.join(", "));
            return Err(PublishError::wrong(
                what,
                "say in the manifest which has the registry: [registry] depot = \"NAME\"; or --depot",
            ));
        }
        let depot = project.depots.open(said)?;
        let kept = has_state.then(|| project.workspace.depots_folder().join(depot.id()).join(KEPT));
        let log = Log::new(depot.storage().clone(), kept, depot.name());
        Ok(Place { log, home: Home::Depot(depot) })
    }

    /// The registry of the depot at an address, without a project. `cache` is a folder of this person's for what was read of
    /// it.
    pub fn of_address(
        url: &str,
        here: &Path,
        options: &BTreeMap<String, String>,
        variables: &[(String, String)],
        interrupt: &Interrupt,
        cache: &Path,
    ) -> Result<Place, PublishError> {
        let wrong = |e: textum_depot::AddressError| PublishError::wrong(e.what, e.help);
        let address = Address::parse(url, here).map_err(wrong)?;
        address.check_options(options).map_err(wrong)?;
        let storage = open_storage(&address, options, variables, interrupt)?;
        let at = address.to_string();
        let options = DepotOptions {
            name: at.clone(),
            at: at.clone(),
            project: String::new(),
            state: cache.join("depots"),
            jobs: JOBS,
            interrupt: interrupt.clone(),
        };
        let depot = Arc::new(Depot::open(storage, options)?);
        let kept = cache.join("registries").join(depot.id()).join(KEPT);
        let log = Log::new(depot.storage().clone(), Some(kept), &at);
        Ok(Place { log, home: Home::Depot(depot) })
    }

    /// What it says; it must be whole.
    pub fn registry(&self) -> Result<Registry, PublishError> {
        Ok(self.log.whole()?)
    }

    /// That storage is fit for a registry is found out by trying, before the first entry.
    pub(super) fn must_be_fit(&self, registry: &Registry) -> Result<(), PublishError> {
        let Home::Depot(depot) = &self.home else { return Ok(()) };
        if !registry.entries.is_empty() {
            return Ok(());
        }
        match probe(&**depot.storage())?.only_if_absent {
            Some(true) => Ok(()),
            _ => {
                let what = format!(
                    "the storage of {} does not make an object only if there is none: two could have one number",
                    depot.name()
                );
                let help = "keep the registry in a folder, on S3 or on SFTP: [registry] depot = \"NAME\"";
                Err(PublishError::wrong(what, help))
            }
        }
    }

    /// Brings contents into a store that does not have them.
    pub fn bring(&self, store: &Store, contents: &[Digest], progress: &(dyn Fn(u64) + Sync)) -> Result<(), PublishError> {
        let mut missing = Vec::new();
        for digest in contents {
            if !store.contains(digest)? {
                missing.push(*digest);
            }
        }
        if missing.is_empty() {
            return Ok(());
        }
        if let Home::Depot(depot) = &self.home {
            depot.fetch(store, &missing, progress)?;
            store.reload()?;
        }
        for digest in missing {
            if !store.contains(&digest)? {
                let what = format!("{} is not there, though the registry at {} speaks of it", digest.short(), self.log.at());
                return Err(PublishError::not_there(
                    what,
                    "ask who published it for `textum sync`, or for what became of the depot",
                ));
            }
        }
        Ok(())
    }
}
