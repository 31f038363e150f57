//! The observation: what all notes come to.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use super::super::record::{Absent, Changed, Link, Listed, Looked, Observation, Opened};
use super::{Note, Notes, text};

impl Notes {
    /// What all of it comes to.
    pub fn observation(mut self) -> Observation {
        self.settle_open_to_change();
        let (network, own_network, channels) = self.settle_channels();
        let times = self.folders_of_times();
        let mut all = Observation {
            network,
            own_network,
            channels,
            times,
            random: self.random,
            isolated: self.isolated,
            unseen: self.unseen.into_iter().collect(),
            not_whole: self.not_whole.into_iter().collect(),
            refused: self.refused.into_iter().collect(),
            ..Observation::default()
        };
        let mut links: Vec<_> = self.links.into_iter().collect();
        links.sort_unstable();
        all.links = links.iter().map(|(path, target)| Link { path: text(path), target: text(target) }).collect();
        // What was read by a name with a link in it, and changed by another name.
        let changed: BTreeSet<PathBuf> = self.paths.iter().filter(|(_, n)| n.changed).map(|(path, _)| path.clone()).collect();
        let mut paths: Vec<_> = self.paths.into_iter().collect();
        paths.sort_unstable_by(|a, b| a.0.cmp(&b.0));
        for (path, note) in paths {
            add(&mut all, text(&path), &note, note.real.as_ref().is_some_and(|real| changed.contains(real)));
        }
        all
    }

    /// Folders of which a program was told the metadata of several files before it read them, or without reading them: after
    /// it had listed the folder, or where not all were read.
    fn folders_of_times(&self) -> Vec<String> {
        let mut folders: BTreeMap<&Path, (usize, bool)> = BTreeMap::new();
        for (path, note) in self.paths.iter().filter(|(_, n)| n.told.0.is_some() && !n.changed) {
            let Some(folder) = path.parent() else { continue };
            let (count, all_read) = folders.entry(folder).or_insert((0, true));
            *count += 1;
            *all_read &= note.read.is_some();
        }
        let is_listed = |folder: &Path| self.paths.get(folder).is_some_and(|n| n.listed);
        let told = folders.into_iter().filter(|(folder, (count, all_read))| *count > 1 && (is_listed(folder) || !all_read));
        told.map(|(folder, _)| text(folder)).collect()
    }
}

fn add(all: &mut Observation, path: String, note: &Note, changed_elsewhere: bool) {
    if note.changed || changed_elsewhere {
        let existed = note.existed || changed_elsewhere;
        let seen = note.seen_before || changed_elsewhere;
        let read = note.read.is_some() || changed_elsewhere;
        all.changed.push(Changed { path, existed, read, seen, before: note.open_to_change.flatten() });
        return;
    }
    if note.listed || note.listed_for_modules {
        all.listed.push(Listed { path: path.clone(), for_modules: !note.listed });
    }
    match note.read {
        Some(stamp) => all.opened.push(Opened { path, stamp, linked: note.linked, executed: note.executed }),
        None if note.looked_at => all.looked_at.push(Looked { path, size: note.told.0, exec: note.told.1 }),
        None if note.absent => all.absent.push(Absent { path, looked_for: !note.asked_to_open }),
        None => {}
    }
}
