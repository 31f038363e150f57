//! How much of the machine is taken, and whether one more stage fits.

use std::collections::BTreeMap;

use crate::config::manifest::Needs;

/// So many files are open for each run that is at work: locks, its log, its folders.
const FILES_EACH: usize = 6;
/// And so many for everything else.
const FILES_OTHERWISE: usize = 120;
/// For each run at work one thread waits and one listens; what is asked of engines takes a process now and then.
const THREADS_EACH: usize = 3;
/// And so many are left for everything else of the same user.
const THREADS_OTHERWISE: usize = 200;

/// The machine's processors and memory, less what stages at work have taken.
pub struct Capacity {
    cpus: u32,
    memory: u64,
    gpus: u32,
    taken_cpus: u32,
    taken_memory: u64,
    taken_gpus: u32,
    most: usize,
    at_work: usize,
    /// Of each other place: so many jobs at most, and so many at work.
    places: BTreeMap<String, (usize, usize)>,
}

impl Capacity {
    /// All of this machine, for at most `most` stages at once (`None`: one a processor).
    pub fn of_machine(most: Option<usize>) -> Capacity {
        let cpus = std::thread::available_parallelism().map_or(1, |n| n.get());
        Capacity {
            cpus: u32::try_from(cpus).unwrap_or(u32::MAX).max(u32::try_from(most.unwrap_or(0)).unwrap_or(u32::MAX)),
            memory: memory_of_machine(),
            gpus: gpus_of_machine(),
            taken_cpus: 0,
            taken_memory: 0,
            taken_gpus: 0,
            most: most.unwrap_or(cpus).max(1),
            at_work: 0,
            places: BTreeMap::new(),
        }
    }

    /// With room for so many jobs at another place, as far as this process may have the files and threads that each needs here.
    pub fn with_place(mut self, name: &str, jobs: usize) -> Capacity {
        if jobs > Capacity::most_runs() {
            textum_base::limits::raise_open_files();
        }
        self.places.insert(name.to_string(), (jobs.min(Capacity::most_runs()).max(1), 0));
        self
    }

    /// So many runs can be at work, or begun, at once.
    pub fn most_runs() -> usize {
        let of = |most: Option<usize>, otherwise, each| most.map_or(usize::MAX, |most| most.saturating_sub(otherwise) / each);
        let by_files = of(textum_base::limits::most_open_files(), FILES_OTHERWISE, FILES_EACH);
        by_files.min(of(textum_base::limits::most_threads(), THREADS_OTHERWISE, THREADS_EACH)).max(1)
    }

    /// Takes what a stage needs at a place; there the engine knows what fits beside what.
    pub fn take_at(&mut self, needs: &Needs, place: Option<&str>) -> bool {
        match place.and_then(|name| self.places.get_mut(name)) {
            Some((most, at_work)) if *at_work < *most => {
                *at_work += 1;
                true
            }
            Some(_) => false,
            None => self.take(needs),
        }
    }

    /// Gives back what a stage had taken at a place.
    pub fn give_back_at(&mut self, needs: &Needs, place: Option<&str>) {
        match place.and_then(|name| self.places.get_mut(name)) {
            Some((_, at_work)) => *at_work = at_work.saturating_sub(1),
            None => self.give_back(needs),
        }
    }

    /// Stages at once at most.
    pub fn most(&self) -> usize {
        self.places.values().map(|(most, _)| most).sum::<usize>() + self.most
    }

    /// Stages at once at most on this machine.
    pub fn most_here(&self) -> usize {
        self.most
    }

    /// Takes what a stage needs, if it fits. A stage that needs more than the machine has gets all of it
    /// once nothing else is at work.
    pub fn take(&mut self, needs: &Needs) -> bool {
        let fits = self.at_work < self.most
            && self.taken_cpus.saturating_add(needs.cpus) <= self.cpus
            && self.taken_memory.saturating_add(needs.memory) <= self.memory
            && self.taken_gpus.saturating_add(needs.gpus) <= self.gpus;
        if !fits && self.at_work > 0 {
            return false;
        }
        self.at_work += 1;
        self.taken_cpus = self.taken_cpus.saturating_add(needs.cpus);
        self.taken_memory = self.taken_memory.saturating_add(needs.memory);
        self.taken_gpus = self.taken_gpus.saturating_add(needs.gpus);
        true
    }

    /// Gives back what a stage had taken.
    pub fn give_back(&mut self, needs: &Needs) {
        self.at_work = self.at_work.saturating_sub(1);
        self.taken_cpus = self.taken_cpus.saturating_sub(needs.cpus);
        self.taken_memory = self.taken_memory.saturating_sub(needs.memory);
        self.taken_gpus = self.taken_gpus.saturating_sub(needs.gpus);
    }
}

fn memory_of_machine() -> u64 {
    let kib = |line: &str| line.split_whitespace().nth(1).and_then(|n| n.parse::<u64>().ok());
    let text = std::fs::read_to_string("/proc/meminfo").unwrap_or_default();
    text.lines().find(|l| l.starts_with("MemTotal:")).and_then(kib).map_or(u64::MAX, |k| k * 1024)
}

/// The devices of graphics processors that the kernel shows: those of NVIDIA by number, and compute accelerators.
fn gpus_of_machine() -> u32 {
    let numbered = |name: &str, prefix: &str| {
        name.strip_prefix(prefix).is_some_and(|n| !n.is_empty() && n.chars().all(|c| c.is_ascii_digit()))
    };
    let count = |folder: &str, prefix: &str| {
        let names = std::fs::read_dir(folder).into_iter().flatten().flatten().filter_map(|e| e.file_name().into_string().ok());
        names.filter(|n| numbered(n, prefix)).count() as u32
    };
    count("/dev", "nvidia") + count("/dev/accel", "accel")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn stages_fit_or_wait_and_a_giant_runs_alone() {
        let mut capacity = Capacity {
            cpus: 4,
            memory: 100,
            gpus: 2,
            taken_cpus: 0,
            taken_memory: 0,
            taken_gpus: 0,
            most: 3,
            at_work: 0,
            places: BTreeMap::new(),
        };
        let small = Needs { cpus: 1, memory: 60, gpus: 0, time: None };
        let giant = Needs { cpus: 9, memory: 0, gpus: 0, time: None };
        assert!(capacity.take(&small));
        assert!(!capacity.take(&small), "memory is short");
        assert!(!capacity.take(&giant));
        capacity.give_back(&small);
        assert!(capacity.take(&giant), "alone it may");
        assert!(!capacity.take(&small));
        capacity.give_back(&giant);
        let on_gpus = |gpus| Needs { cpus: 1, memory: 0, gpus, time: None };
        assert!(capacity.take(&on_gpus(1)) && !capacity.take(&on_gpus(2)) && capacity.take(&on_gpus(1)));
        assert!(!capacity.take(&on_gpus(1)), "both are taken");
        capacity.give_back(&on_gpus(1));
        assert!(capacity.take(&on_gpus(1)));
    }
}
