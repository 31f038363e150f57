//! Names that a stage asked for: what was there and what was not, what was listed, what links led to, what it changed.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::Path;

use textum_base::{is_within, overlap};
use textum_observe::{Changed, Channel, ChannelKind, Observation, to_text};

use super::files::FileDigests;
use super::ignore::Ignored;
use super::packages::{installed_in, library_of};
use super::places::{Area, is_of_project};
use super::settle::Settling;
use crate::record::receipt::{ObservedLook, ObservedState};
use crate::store::Digest;

impl Settling<'_> {
    /// Folders that were listed, with whether only for modules, and what was in them then.
    pub(super) fn listed(&self, observation: &Observation) -> Vec<(String, bool, Entries)> {
        let mut found = Vec::new();
        for listed in &observation.listed {
            let path = textum_observe::from_text(&listed.path);
            let is_root_of_modules = installed_in(&path.join("x")).is_some_and(|folder| folder == path)
                || library_of(&path.join("x")).is_some_and(|folder| folder == path);
            let in_packages = installed_in(&path).is_some() || library_of(&path).is_some() || is_root_of_modules;
            let modules = listed.for_modules;
            // Inside of packages nobody looks for what might be there; at their top another module of a name counts.
            if in_packages && !(is_root_of_modules && modules) {
                continue;
            }
            if self.is_textums(&path) {
                continue;
            }
            let is_root = self.stage.places.path("").canonicalize().is_ok_and(|root| root == path);
            let named = if is_root { Some((String::new(), Area::Project)) } else { self.name(&listed.path) };
            match named {
                Some((_, Area::System)) if !modules => {}
                Some((name, _)) => {
                    let wanted = modules.then_some(&self.modules);
                    let outputs = Outputs { now: &self.stage.all_outputs, then: &[] };
                    let entries = match &listed.entries {
                        Some(then) => {
                            let entries = self.entries_then(&path, then);
                            Some(Entries::out_of(entries, &name, wanted, outputs, self.stage.ignored))
                        }
                        None => Entries::of(&path, &name, wanted, outputs, self.stage.ignored),
                    };
                    found.extend(entries.map(|entries| (name, modules, entries)));
                }
                None => {}
            }
        }
        found
    }

    /// Folders in which programs are looked for.
    fn searched_for_programs(&self) -> HashSet<&Path> {
        let search = self.stage.variables.iter().find(|(name, _)| name == "PATH").map_or("", |(_, value)| value.as_str());
        search.split(':').filter(|p| !p.is_empty()).map(Path::new).collect()
    }

    pub(super) fn absent(&self, observation: &Observation) -> Vec<String> {
        let search = self.searched_for_programs();
        let mut found = Vec::new();
        for absent in &observation.absent {
            let path = textum_observe::from_text(&absent.path);
            if self.is_textums(&path) {
                continue;
            }
            let Some((name, area)) = self.name(&absent.path) else { continue };
            let is_searched = path.parent().is_some_and(|folder| search.contains(folder));
            let in_packages = installed_in(&path).is_some() || library_of(&path).is_some();
            let counts = match area {
                Area::Project => !in_packages,
                // Folders elsewhere that it made are kept by it, and by others like it.
                _ if absent.in_own => false,
                // Settings of programs in hidden folders are looked for by all and every one.
                Area::Elsewhere => is_searched || (!in_packages && (!absent.looked_for || !is_hidden(&name))),
                Area::System => is_searched,
            };
            let is_there = || self.stage.places.path(&name).symlink_metadata().is_ok();
            // What somebody else has made since was not there for the stage.
            if counts && (!is_there() || (area == Area::Project && !self.is_changed(&path))) {
                found.push(name);
            }
        }
        found
    }

    /// Names that are there, and what was seen of files among them.
    pub(super) fn present(&self, observation: &Observation) -> (Vec<String>, BTreeMap<String, ObservedLook>) {
        let (mut found, mut looks) = (Vec::new(), BTreeMap::new());
        for looked_at in &observation.looked_at {
            let Some(name) = self.name_looked_at(&looked_at.path) else {
                // Outputs of other stages come and go; while they are there, what they look like counts.
                if let Some((name, Area::Project)) = self.name(&looked_at.path)
                    && let Some(size) = looked_at.size.filter(|_| self.stage.all_outputs.iter().any(|o| is_within(&name, o)))
                {
                    looks.insert(name, ObservedLook { size: Some(size), exec: looked_at.exec });
                }
                continue;
            };
            let path = self.stage.places.path(&name);
            match std::fs::metadata(&path) {
                Ok(meta) if meta.is_dir() => found.push(format!("{name}/")),
                Ok(_) => {
                    let look = ObservedLook { size: looked_at.size, exec: looked_at.exec };
                    if look != (ObservedLook { size: None, exec: None }) {
                        looks.insert(name.clone(), look);
                    }
                    found.push(name);
                }
                // What somebody else has removed since was there for the stage.
                Err(_) if is_of_project(&name) && !self.is_changed(&path) => found.push(name),
                Err(_) => {}
            }
        }
        (found, looks)
    }

    /// Whether the stage itself made, changed or removed what is at a path.
    fn is_changed(&self, path: &Path) -> bool {
        self.changed.contains(path) || path.canonicalize().is_ok_and(|real| self.changed.contains(&real))
    }

    /// The entries of a folder when the stage listed it: without what came and with what went since, unless that was the
    /// stage's own doing.
    fn entries_then(&self, folder: &Path, then: &[String]) -> Vec<(String, bool)> {
        let mut names: BTreeMap<String, bool> =
            then.iter().map(|name| (name.trim_end_matches('/').to_string(), name.ends_with('/'))).collect();
        // In the order of their parts, all that is below a folder follows it.
        let below = self.changed.range(folder.to_path_buf()..).take_while(|path| path.starts_with(folder));
        for (path, own) in below.filter(|c| c.parent() == Some(folder)).filter_map(|c| Some((c, c.file_name()?))) {
            let own = to_text(std::os::unix::ffi::OsStrExt::as_bytes(own));
            match path.symlink_metadata() {
                Ok(meta) => drop(names.insert(own, meta.is_dir())),
                Err(_) => drop(names.remove(&own)),
            }
        }
        names.into_iter().collect()
    }

    /// The name of what was looked at, if that it is there counts.
    fn name_looked_at(&self, observed: &str) -> Option<String> {
        let (name, area) = self.name(observed).filter(|(_, area)| *area != Area::System)?;
        if area == Area::Elsewhere && is_hidden(&name) {
            return None;
        }
        let path = self.stage.places.path(&name);
        if installed_in(&path.join("x")).is_some() || library_of(&path.join("x")).is_some() || self.is_textums(&path) {
            return None;
        }
        // The folders above what is declared are there for its sake.
        let is_declared = self.stage.reads.iter().chain(&self.stage.all_outputs).any(|known| overlap(known, &name));
        (!is_declared).then_some(name)
    }

    /// Users' attributes that were asked for: of what is declared too, of which only the content counts by itself.
    pub(super) fn attributes(&self, observation: &Observation) -> BTreeMap<String, BTreeMap<String, Option<Digest>>> {
        let mut found: BTreeMap<String, BTreeMap<String, Option<Digest>>> = BTreeMap::new();
        for asked in &observation.attributes {
            let path = textum_observe::from_text(&asked.path);
            let Some((name, area)) = self.stage.places.name(&asked.path) else { continue };
            let is_own = self.stage.outputs.iter().any(|o| is_within(&name, o)) || self.is_textums(&path);
            if area != Area::System && !self.stage.ignored.covers(&name) && !is_own {
                found.entry(name).or_default().insert(asked.name.clone(), asked.value);
            }
        }
        found
    }

    /// Links, with what they lead to.
    pub(super) fn links(&self, observation: &Observation) -> BTreeMap<String, String> {
        let named = |link: &textum_observe::Link| Some((self.name_looked_at(&link.path)?, link.target.clone()));
        observation.links.iter().filter_map(named).collect()
    }

    /// Folders of which the times of files may have decided.
    pub(super) fn times(&self, observation: &Observation) -> Vec<String> {
        let is_of_modules = |folder: &String| self.module_folders.contains(&textum_observe::from_text(folder));
        let root = self.stage.places.path("");
        let search = self.searched_for_programs();
        let is_searched = |folder: &String| {
            let path = textum_observe::from_text(folder);
            search.contains(path.as_path()) || path.file_name().is_some_and(|name| name == "bin")
        };
        let named = |folder: &String| match textum_observe::from_text(folder) == root {
            true => Some("./".to_string()),
            false => {
                let (name, area) = self.name(folder).filter(|(_, area)| *area != Area::System)?;
                let path = self.stage.places.path(&name).join("x");
                let is_other = installed_in(&path).is_some() || library_of(&path).is_some() || self.is_textums(&path);
                let is_settings = area == Area::Elsewhere && is_hidden(&name);
                (!is_other && !is_settings).then(|| format!("{name}/"))
            }
        };
        observation.times.iter().filter(|f| !is_of_modules(f) && !is_searched(f)).filter_map(named).collect()
    }

    /// Ways by which it could be told something, as documents name them.
    pub(super) fn channels(&self, observation: &Observation) -> Vec<Channel> {
        let has_path = |kind| matches!(kind, ChannelKind::Socket | ChannelKind::Fifo | ChannelKind::Device | ChannelKind::Memory);
        let named = |channel: &Channel| match has_path(channel.kind) && channel.name.starts_with('/') {
            false => Some(channel.clone()),
            true => {
                let path = textum_observe::from_text(&channel.name);
                let (name, _) = self.stage.places.name(&channel.name)?;
                let is_known = self.stage.ignored.covers_by_wish(&name) || self.is_textums(&path);
                (!is_known).then_some(Channel { kind: channel.kind, name })
            }
        };
        observation.channels.iter().filter_map(named).collect()
    }

    /// Files outside of the declared outputs that were changed so.
    pub(super) fn changed(&self, observation: &Observation, so: impl Fn(&Changed) -> bool) -> Vec<String> {
        let mut found = Vec::new();
        for observed in observation.changed.iter().filter(|c| so(c)) {
            let path = textum_observe::from_text(&observed.path);
            let Some((name, area)) = self.name_changed(&observed.path) else { continue };
            if path.is_file() && is_of_project(&name) | (area != Area::Project) {
                found.push(name);
            }
        }
        found
    }

    fn name_changed(&self, observed: &str) -> Option<(String, Area)> {
        let path = textum_observe::from_text(observed);
        let (name, area) = self.name(observed)?;
        let counts = match area {
            Area::Project => !self.stage.outputs.iter().any(|o| is_within(o, &name)),
            // What is no longer there was a temporary file; what stays in a temporary folder is nobody's.
            Area::Elsewhere | Area::System => !path.starts_with(std::env::temp_dir()),
        };
        (counts && !self.is_textums(&path)).then_some((name, area))
    }

    /// Names of the project at which it made a file because there was nothing.
    pub(super) fn made(&self, observation: &Observation) -> Vec<String> {
        let made = observation.changed.iter().filter(|c| c.seen && !c.existed);
        let named = made.filter_map(|c| self.name_changed(&c.path)).filter(|(_, area)| *area == Area::Project);
        named.map(|(name, _)| name).collect()
    }

    /// Files of the project that it both read and changed, as it found and left them.
    pub(super) fn kept(&self, observation: &Observation, files: &FileDigests) -> BTreeMap<String, ObservedState> {
        let mut found = BTreeMap::new();
        for observed in observation.changed.iter().filter(|c| c.seen) {
            let Some((name, Area::Project)) = self.name_changed(&observed.path) else { continue };
            let path = self.stage.places.path(&name);
            let after = files.look(&path).map(|now| now.digest);
            // What came and went again is no state, and a folder is what is in it.
            if (after.is_some() || observed.existed)
                && !path.is_dir()
                && !self.stage.all_outputs.iter().any(|o| is_within(&name, o))
            {
                let Changed { existed, read, before, shared, .. } = *observed;
                found.insert(name, ObservedState { existed, read, before, after, shared });
            }
        }
        found
    }
}

/// Whether a path lies in a hidden folder, or is one.
fn is_hidden(name: &str) -> bool {
    name.split('/').any(|part| part.starts_with('.') && part.len() > 2)
}

/// Whether an entry of a folder can be what one of some modules is imported from: a folder, or a file of code.
pub fn is_of_module(entry: &str, wanted: impl Fn(&str) -> bool) -> bool {
    let entry = entry.trim_end_matches('/');
    let stem = entry.split('.').next().unwrap_or_default();
    let is_code = || [".py", ".pyc", ".so", ".pyd"].iter().any(|end| entry.ends_with(end));
    wanted(stem) && (stem == entry || is_code())
}

/// Outputs that are left out of the entries of folders: of stages as they are declared now, and of when it was recorded.
#[derive(Clone, Copy)]
pub(super) struct Outputs<'a> {
    pub(super) now: &'a [String],
    pub(super) then: &'a [String],
}

/// The entries of a folder.
pub(super) struct Entries {
    /// Their names, a line each, folders with `/` at the end, sorted.
    pub(super) text: Vec<u8>,
    /// Outputs of stages, which come and go, that were left out.
    pub(super) without: Vec<String>,
}

impl Entries {
    /// The names of a folder's entries; those of modules only, where only these are wanted. Outputs of stages and what does
    /// not count are left out. `None` for what is no folder.
    pub(super) fn of(
        folder: &Path,
        name: &str,
        wanted: Option<&BTreeSet<String>>,
        outputs: Outputs<'_>,
        ignored: &Ignored,
    ) -> Option<Entries> {
        let entries = std::fs::read_dir(folder).ok()?.flatten().map(|entry| {
            let own = to_text(std::os::unix::ffi::OsStrExt::as_bytes(entry.file_name().as_os_str()));
            (own, entry.file_type().is_ok_and(|t| t.is_dir()))
        });
        Some(Entries::out_of(entries, name, wanted, outputs, ignored))
    }

    /// The same out of names, each with whether it is a folder's.
    pub(super) fn out_of(
        entries: impl IntoIterator<Item = (String, bool)>,
        name: &str,
        wanted: Option<&BTreeSet<String>>,
        outputs: Outputs<'_>,
        ignored: &Ignored,
    ) -> Entries {
        let (mut names, mut without) = (Vec::new(), Vec::new());
        // Only these can be, hold or lie in an entry of the folder.
        let near: Vec<&String> = outputs.now.iter().filter(|o| name.is_empty() || overlap(o, name)).collect();
        for (mut own, is_folder) in entries {
            if own.contains('\n') {
                own = own.replace('\n', "\\x0a");
            }
            // The folders of an interpreter have many of which few are wanted.
            if wanted.is_some_and(|w| !is_of_module(&own, |stem| w.contains(stem))) {
                continue;
            }
            let path = if name.is_empty() { own.clone() } else { format!("{name}/{own}") };
            let is_textums =
                is_of_project(&path) && matches!(path.as_str(), textum_base::MANIFEST_NAME | textum_base::TREE_RECEIPT_NAME);
            if is_textums || ignored.covers(&path) || outputs.then.contains(&own) {
                continue;
            }
            if near.iter().any(|o| overlap(o, &path)) {
                without.push(own);
                continue;
            }
            names.push(if is_folder { format!("{own}/\n") } else { format!("{own}\n") });
        }
        names.sort_unstable();
        without.sort_unstable();
        Entries { text: names.concat().into_bytes(), without }
    }
}
