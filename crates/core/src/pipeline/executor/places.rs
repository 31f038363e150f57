//! This machine and all places of a project as one: each job goes where its stage is to execute.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use super::batch::BatchExecutor;
use super::{Cancel, Capacity, Executor, Job, JobId, JobState, LocalExecutor, TooMuchMemory, Why};
use crate::config::manifest::PlaceDecl;
use crate::fsio::IoError;
use crate::project::way::Way;
use crate::project::workspace::Project;
use crate::record::receipt::{Exit, PlaceRecord};

/// All places.
#[derive(Default)]
pub struct Places {
    local: LocalExecutor,
    others: BTreeMap<String, BatchExecutor>,
    jobs: BTreeMap<String, u32>,
}

/// The way through a depot to a place, where it says one.
pub(super) fn way_of(project: &Project, decl: &PlaceDecl) -> Option<Way> {
    let depot = decl.machine.as_ref()?.depot.as_ref()?;
    Some(Way::new(project.depots.clone(), depot, &project.manifest.name, project.store.folder()))
}

/// What parts the name of a place from the id that it has given: no local id has one.
const PART: char = ':';

impl Places {
    /// Those of a project's manifest, and this machine.
    pub fn of(project: &Project) -> Places {
        let mut places = Places::default();
        for decl in &project.manifest.places {
            let place = BatchExecutor::with_way(decl, Some(&project.workspace.state()), way_of(project, decl));
            places.others.insert(decl.name.clone(), place);
            places.jobs.insert(decl.name.clone(), decl.jobs);
        }
        places
    }

    /// Gives back rented machines that no job needs any more; why one could not be, by its place.
    pub fn release(&self) -> Vec<(String, String)> {
        let ends = self.others.iter().map(|(name, place)| (name.clone(), place.release()));
        ends.filter_map(|(name, end)| Some((name, end.err()?.to_string()))).collect()
    }

    /// Whether a job is at another place than this machine.
    pub fn is_elsewhere(id: &JobId) -> bool {
        id.0.contains(PART)
    }

    /// The place that a job is at, and what it is called there.
    fn at(&self, id: &JobId) -> (&dyn Executor, JobId) {
        match id.0.split_once(PART).and_then(|(name, own)| Some((self.others.get(name)?, own))) {
            Some((place, own)) => (place, JobId(own.to_string())),
            None => (&self.local, id.clone()),
        }
    }

    fn named(&self, name: Option<&str>) -> &dyn Executor {
        match name.and_then(|name| self.others.get(name)) {
            Some(place) => place,
            None => &self.local,
        }
    }
}

impl Places {
    /// Jobs by the names of their places, as each place calls them, with where they stand among these.
    fn by_place<'j>(&self, ids: &'j [JobId]) -> BTreeMap<Option<&'j str>, Vec<(usize, JobId)>> {
        let mut by_place: BTreeMap<Option<&str>, Vec<(usize, JobId)>> = BTreeMap::new();
        for (at, id) in ids.iter().enumerate() {
            let name = id.0.split_once(PART).map(|(name, _)| name).filter(|name| self.others.contains_key(*name));
            by_place.entry(name).or_default().push((at, self.at(id).1));
        }
        by_place
    }
}

impl Executor for Places {
    fn record(&self) -> PlaceRecord {
        self.local.record()
    }

    fn record_for(&self, place: Option<&str>) -> PlaceRecord {
        self.named(place).record()
    }

    fn record_of(&self, id: &JobId) -> PlaceRecord {
        let (place, own) = self.at(id);
        place.record_of(&own)
    }

    fn capacity(&self, most: Option<usize>) -> Capacity {
        self.jobs.iter().fold(Capacity::of_machine(most), |room, (name, jobs)| room.with_place(name, *jobs as usize))
    }

    fn submit(&self, job: &Job) -> Result<JobId, IoError> {
        let id = self.named(job.place.as_deref()).submit(job)?;
        Ok(match &job.place {
            Some(name) if self.others.contains_key(name) => JobId(format!("{name}{PART}{}", id.0)),
            _ => id,
        })
    }

    fn poll(&self, ids: &[JobId]) -> Result<Vec<JobState>, IoError> {
        let mut states = vec![JobState::Lost; ids.len()];
        for (name, jobs) in self.by_place(ids) {
            let (places, own): (Vec<usize>, Vec<JobId>) = jobs.into_iter().unzip();
            for (at, state) in places.into_iter().zip(self.named(name).poll(&own)?) {
                states[at] = state;
            }
        }
        Ok(states)
    }

    fn cancel(&self, id: &JobId, how: Cancel) -> Result<(), IoError> {
        let (place, own) = self.at(id);
        place.cancel(&own, how)
    }

    fn cancel_all(&self, ids: &[JobId], how: Cancel) -> Result<(), IoError> {
        let cancel = |(name, jobs): (Option<&str>, Vec<(usize, JobId)>)| {
            let own: Vec<JobId> = jobs.into_iter().map(|(_, id)| id).collect();
            self.named(name).cancel_all(&own, how)
        };
        self.by_place(ids).into_iter().map(cancel).fold(Ok(()), Result::and)
    }

    fn attach(&self, id: &JobId) -> Result<bool, IoError> {
        let (place, own) = self.at(id);
        place.attach(&own)
    }

    fn program(&self, place: Option<&str>) -> Result<Option<PathBuf>, IoError> {
        self.named(place).program(place)
    }

    fn says(&self, id: &JobId) -> Option<(JobState, String)> {
        let (place, own) = self.at(id);
        place.says(&own)
    }

    fn worked(&self, id: &JobId) -> Option<Duration> {
        let (place, own) = self.at(id);
        place.worked(&own)
    }

    fn take_up(&self, folder: &Path, place: Option<&str>) -> Result<Option<JobId>, IoError> {
        let Some((name, at)) = place.and_then(|name| Some((name, self.others.get(name)?))) else { return Ok(None) };
        Ok(at.take_up(folder, place)?.map(|id| JobId(format!("{name}{PART}{}", id.0))))
    }

    fn take_back(&self, folder: &Path, place: Option<&str>) -> Result<(), IoError> {
        self.named(place).take_back(folder, place)
    }

    fn give_up(&self, folder: &Path, place: Option<&str>) {
        self.named(place).give_up(folder, place);
    }

    fn has_no_room(&self, folder: &Path, place: Option<&str>) -> Option<String> {
        self.named(place).has_no_room(folder, place)
    }

    fn wait(&self, id: &JobId) -> Result<Exit, IoError> {
        let (place, own) = self.at(id);
        place.wait(&own)
    }

    fn why(&self, id: &JobId) -> Option<Why> {
        let (place, own) = self.at(id);
        place.why(&own)
    }

    fn too_much_memory(&self, id: &JobId) -> Option<TooMuchMemory> {
        let (place, own) = self.at(id);
        place.too_much_memory(&own)
    }
}
