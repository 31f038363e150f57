//! The observation: what all notes come to.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use textum_base::Digest;

use super::super::record::{Absent, Attribute, Changed, Link, Listed, Looked, Observation, Opened};
use super::{Note, Notes, text};

impl Notes {
    /// What all of it comes to.
    pub fn observation(mut self) -> Observation {
        self.settle_open_to_change();
        let listed = self.searches.rest();
        self.listed_by_program(listed);
        let attributes = self.settle_attributes();
        let (network, own_network, channels) = self.settle_channels();
        let times = self.folders_of_times();
        let mut all = Observation {
            network,
            own_network,
            channels,
            times,
            attributes,
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

    /// The attributes that were asked for, as they were then.
    fn settle_attributes(&self) -> Vec<Attribute> {
        let asked = self.attributes.iter().filter(|((path, _), _)| !self.is_own(path));
        asked.map(|((path, name), value)| Attribute { path: text(path), name: name.clone(), value: *value }).collect()
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
        all.changed.push(Changed { path, existed, read, seen, before: note.open_to_change.flatten(), shared: note.shared });
        return;
    }
    if note.listed || note.listed_for_modules {
        all.listed.push(Listed { path: path.clone(), for_modules: !note.listed, entries: note.entries.clone() });
    }
    match note.read {
        Some(stamp) => all.opened.push(Opened { path, stamp, linked: note.linked, executed: note.executed }),
        None if note.looked_at => all.looked_at.push(Looked { path, size: note.told.0, exec: note.told.1 }),
        None if note.absent => all.absent.push(Absent { path, looked_for: !note.asked_to_open, in_own: note.in_own }),
        None => {}
    }
}

/// The digest of a user's attribute of a file, or of the names of all of them for an empty name; none where there is none.
pub fn attribute(path: &Path, name: &str) -> Option<Digest> {
    const MOST: usize = 1 << 16;
    let mut buffer = vec![0; MOST];
    if name.is_empty() {
        let length = rustix::fs::listxattr(path, &mut buffer[..]).ok()?;
        let names = buffer.get(..length)?.split(|b| *b == 0).filter(|n| n.starts_with(b"user.")).collect::<Vec<_>>();
        return Some(Digest::of(&names.join(&b'\n')));
    }
    let length = rustix::fs::getxattr(path, name, &mut buffer[..]).ok()?;
    buffer.get(..length).map(Digest::of)
}
