//! A document of observed inputs held against what stands there now.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::rc::Rc;
use std::sync::Arc;

use rayon::prelude::*;
use textum_base::{SourcePath, is_within};

use super::files::{FileDigests, FileNow};
use super::ignore::Ignored;
use super::names::{Entries, Outputs, is_of_module};
use super::packages::{Packages, metadata_now};
use super::places::{Places, is_of_project};
use crate::config::manifest::Trust;
use crate::project::fingerprint::{Reason, ReasonKind, normal_name};
use crate::record::receipt::{
    Content, ContentKind, ObservedFile, ObservedFolder, ObservedGroup, ObservedInputs, ObservedKind, ReceiptError,
};
use crate::store::{Digest, Store};

/// Holds documents against the present. What one document has led to is remembered for the next.
pub struct ObservedCheck {
    places: Places,
    ignored: Ignored,
    /// The outputs of all stages.
    outputs: Vec<String>,
    /// The variables that a stage would get.
    variables: BTreeMap<String, Option<String>>,
    files: Arc<FileDigests>,
    lists: RefCell<HashMap<Digest, Rc<Vec<ObservedFile>>>>,
    /// Groups that were found unchanged.
    unchanged: RefCell<BTreeSet<Digest>>,
    /// Versions of the packages that are installed here, by their normal names.
    installed: BTreeMap<String, String>,
    /// While many documents are held against one moment: which names outside of the project were there.
    there: RefCell<Option<HashMap<String, bool>>>,
}

/// What a stage would see of the project.
#[derive(Clone, Copy)]
pub enum World<'a> {
    /// The working tree.
    Tree,
    /// A sandbox with what the stage declares, and nothing else.
    Sandbox(&'a BTreeMap<SourcePath, Content>),
}

impl ObservedCheck {
    /// A check for stages that would get these variables.
    pub fn new(
        places: Places,
        ignored: Ignored,
        outputs: Vec<String>,
        variables: &[(String, String)],
        files: Arc<FileDigests>,
    ) -> ObservedCheck {
        let variables = super::variables_recorded(variables, false);
        ObservedCheck {
            places,
            ignored,
            outputs,
            variables,
            files,
            lists: RefCell::default(),
            unchanged: RefCell::default(),
            installed: BTreeMap::new(),
            there: RefCell::default(),
        }
    }

    /// For the time of `look`, each name outside of the project is looked for once: stages search the same folders for
    /// the same programs.
    pub fn at_once<T>(&self, look: impl FnOnce() -> T) -> T {
        self.there.replace(Some(HashMap::new()));
        let found = look();
        self.there.replace(None);
        found
    }

    /// With the versions of the packages that are installed here.
    pub fn with_installed(self, installed: BTreeMap<String, String>) -> ObservedCheck {
        let installed = installed.into_iter().map(|(name, version)| (normal_name(&name), version)).collect();
        ObservedCheck { installed, ..self }
    }

    /// Lists of files that are not to be had from the store yet.
    pub fn know(&self, lists: Vec<(Digest, Vec<ObservedFile>)>) {
        self.lists.borrow_mut().extend(lists.into_iter().map(|(digest, files)| (digest, Rc::new(files))));
    }

    /// What has changed of all that counts, at most so much of it. Nothing: the result may be used again. `trust`: how far a
    /// result of another machine is held against this one; none for one of this machine.
    pub fn changes(
        &self,
        store: &Store,
        inputs: &ObservedInputs,
        world: World<'_>,
        trust: Option<Trust>,
        most: usize,
    ) -> Result<Vec<Reason>, ReceiptError> {
        // Of what another machine had, not all is held against this one.
        let (content, everything) = (matches!(trust, None | Some(Trust::Content)), trust == Some(Trust::Everything));
        let mut found = if everything { Vec::new() } else { self.variable_changes(inputs, trust.is_none()) };
        let counts = |r: &Reason| is_of_project(&r.name) || !everything;
        found.extend(self.name_changes(inputs, world).into_iter().filter(counts));
        found.extend(self.look_changes(inputs, world).into_iter().filter(counts));
        found.extend(self.state_changes(inputs));
        let is_held = |f: &&ObservedFolder| content || is_of_project(&f.path) || !(everything || f.modules);
        let held: Vec<&ObservedFolder> = inputs.listed.iter().filter(is_held).collect();
        let wanted: BTreeSet<String> = inputs.modules.iter().cloned().collect();
        for (folder, is_same) in held.iter().zip(self.same_folders(&held, &wanted, world)) {
            if found.len() >= most {
                break;
            }
            if !is_same {
                found.extend(self.folder_change(store, folder, &wanted, world));
            }
        }
        for group in inputs.groups.iter().filter(|g| g.counts) {
            if found.len() >= most {
                break;
            }
            match group.kind {
                kind if content || kind == ObservedKind::Project || (kind == ObservedKind::Elsewhere && !everything) => {
                    found.extend(self.group_changes(store, group, world, most - found.len())?);
                }
                ObservedKind::Package if !everything => {
                    let version = self.installed.get(&normal_name(&group.name)).cloned();
                    if version.is_none() || version != group.version {
                        found.push(package_reason(group, version));
                    }
                }
                // The interpreter's version stands in the key.
                _ => {}
            }
        }
        found.truncate(most);
        Ok(found)
    }

    /// What has changed of that which lies outside of the project: packages, programs, files elsewhere, variables.
    pub fn changes_outside(&self, store: &Store, inputs: &ObservedInputs, most: usize) -> Result<Vec<Reason>, ReceiptError> {
        let mut found = self.variable_changes(inputs, true);
        for group in inputs.groups.iter().filter(|g| g.counts && g.kind != ObservedKind::Project) {
            found.extend(self.group_changes(store, group, World::Tree, most)?);
        }
        found.truncate(most);
        Ok(found)
    }

    fn variable_changes(&self, inputs: &ObservedInputs, here: bool) -> Vec<Reason> {
        let mut names: BTreeSet<&String> = inputs.variables.keys().chain(self.variables.keys()).collect();
        // Where a document does not have them, Textum itself had chosen them.
        names.retain(|name| !self.ignored.covers(&format!("${name}")));
        names.retain(|name| !super::is_of_person(name) || (here && inputs.variables.contains_key(*name)));
        let value = |all: &BTreeMap<String, Option<String>>, name: &String| all.get(name).cloned().flatten();
        let changed = |name: &&String| value(&inputs.variables, name) != value(&self.variables, name);
        let reason = |name: &String| Reason {
            kind: ReasonKind::Variable,
            name: name.clone(),
            from: value(&inputs.variables, name),
            to: value(&self.variables, name),
        };
        names.into_iter().filter(changed).map(reason).collect()
    }

    /// Whether a name of a document is there for the stage.
    fn is_there(&self, name: &str, world: World<'_>) -> bool {
        match world {
            World::Sandbox(reads) if is_of_project(name) => {
                reads.keys().any(|r| is_within(r, name)) || reads.iter().any(|(r, c)| self.is_in_read(name, r, c))
            }
            _ if is_of_project(name) => self.stands(name),
            _ => {
                let known = self.there.borrow().as_ref().and_then(|there| there.get(name).copied());
                known.unwrap_or_else(|| {
                    let stands = self.stands(name);
                    if let Some(there) = self.there.borrow_mut().as_mut() {
                        there.insert(name.to_string(), stands);
                    }
                    stands
                })
            }
        }
    }

    fn stands(&self, name: &str) -> bool {
        self.places.path(name).symlink_metadata().is_ok()
    }

    fn is_in_read(&self, name: &str, read: &SourcePath, content: &Content) -> bool {
        content.kind == ContentKind::Folder && is_within(name, read) && self.stands(name)
    }

    fn name_changes(&self, inputs: &ObservedInputs, world: World<'_>) -> Vec<Reason> {
        let appeared = inputs.absent.iter().filter(|name| self.is_there(name, world)).map(|name| Reason {
            kind: ReasonKind::Observed,
            name: name.clone(),
            from: None,
            to: Some("there".into()),
        });
        let gone = inputs.present.iter().filter(|name| {
            let plain = name.trim_end_matches('/');
            // What has become an output since comes and goes.
            if self.outputs.iter().any(|o| textum_base::overlap(o, plain)) {
                return false;
            }
            let is_folder = || self.places.path(plain).is_dir() == name.ends_with('/');
            !self.is_there(plain, world) || (matches!(world, World::Tree) && !is_folder())
        });
        let gone = gone.map(|name| Reason {
            kind: ReasonKind::Observed,
            name: name.clone(),
            from: Some("there".into()),
            to: self.is_there(name.trim_end_matches('/'), world).then(|| "another kind".into()),
        });
        appeared.chain(gone).collect()
    }

    /// Of files that were looked at, and of links, those that look otherwise now. That they are there at all is told already.
    fn look_changes(&self, inputs: &ObservedInputs, world: World<'_>) -> Vec<Reason> {
        let mut found = Vec::new();
        for (name, then) in inputs.looks.iter().filter(|(name, _)| self.is_there(name, world)) {
            let Ok(now) = std::fs::metadata(self.places.path(name)) else { continue };
            let exec = std::os::unix::fs::MetadataExt::mode(&now) & 0o111 != 0;
            let differs = then.size.is_some_and(|size| size != now.len()) || then.exec.is_some_and(|then| then != exec);
            if differs {
                let told = |size: u64, exec: bool| Some(format!("{size} bytes{}", if exec { ", executable" } else { "" }));
                let from = told(then.size.unwrap_or(now.len()), then.exec.unwrap_or(exec));
                found.push(Reason { kind: ReasonKind::LookedAt, name: name.clone(), from, to: told(now.len(), exec) });
            }
        }
        for (name, all) in &inputs.attributes {
            // What is put into a sandbox has none.
            let has_some = !(matches!(world, World::Sandbox(_)) && is_of_project(name));
            for (attribute, then) in all {
                let now = has_some.then(|| textum_observe::attribute(&self.places.path(name), attribute)).flatten();
                if now != *then {
                    let told = |digest: Option<Digest>| digest.map(|d| format!("attribute {attribute} {}", d.short()));
                    found.push(Reason { kind: ReasonKind::LookedAt, name: name.clone(), from: told(*then), to: told(now) });
                }
            }
        }
        for (name, then) in &inputs.links {
            let now = std::fs::read_link(self.places.path(name)).ok().filter(|_| self.is_there(name, world));
            let now = now.map(|target| textum_observe::to_text(std::os::unix::ffi::OsStrExt::as_bytes(target.as_os_str())));
            if now.as_ref() != Some(then) {
                found.push(Reason {
                    kind: ReasonKind::LookedAt,
                    name: name.clone(),
                    from: Some(format!("→ {then}")),
                    to: now.map(|now| format!("→ {now}")),
                });
            }
        }
        found
    }

    /// Of files that the stage keeps from run to run, those that are neither as it found nor as it left them.
    fn state_changes(&self, inputs: &ObservedInputs) -> Vec<Reason> {
        let mut found = Vec::new();
        for (name, then) in &inputs.kept {
            let now = self.files.look(&self.places.path(name)).map(|now| now.digest);
            let is_same =
                (now == then.after && !then.shared) || (now.is_none() && !then.existed) || (now.is_some() && now == then.before);
            if !is_same {
                let digest = |digest: Option<Digest>| digest.map(|d| d.to_string());
                // What somebody else may have changed is what the stage read, and no state of its own.
                let (kind, from) = match then.shared {
                    true => (ReasonKind::Observed, then.before),
                    false => (ReasonKind::Kept, then.after),
                };
                found.push(Reason { kind, name: name.clone(), from: digest(from), to: digest(now) });
            }
        }
        found
    }

    /// Which of many folders surely hold what they held, looked at side by side; of few nothing is said.
    fn same_folders(&self, folders: &[&ObservedFolder], wanted: &BTreeSet<String>, world: World<'_>) -> Vec<bool> {
        const FEW: usize = 16;
        if folders.len() <= FEW || matches!(world, World::Sandbox(_)) {
            return vec![false; folders.len()];
        }
        let ObservedCheck { places, outputs, ignored, .. } = self;
        let is_same = |folder: &&ObservedFolder| {
            let wanted = folder.modules.then_some(wanted);
            let outputs = Outputs { now: outputs, then: &folder.without };
            let now = Entries::of(&places.path(&folder.path), &folder.path, wanted, outputs, ignored);
            Digest::of(&now.map(|now| now.text).unwrap_or_default()) == folder.entries
        };
        folders.par_iter().map(is_same).collect()
    }

    fn folder_change(&self, store: &Store, folder: &ObservedFolder, wanted: &BTreeSet<String>, world: World<'_>) -> Option<Reason> {
        let wanted = folder.modules.then_some(wanted);
        let now = match world {
            World::Sandbox(reads) if is_of_project(&folder.path) => Some(self.sandbox_entries(&folder.path, wanted, reads)),
            _ => {
                let outputs = Outputs { now: &self.outputs, then: &folder.without };
                Entries::of(&self.places.path(&folder.path), &folder.path, wanted, outputs, &self.ignored).map(|now| now.text)
            }
        };
        let now = now.unwrap_or_default();
        if Digest::of(&now) == folder.entries {
            return None;
        }
        // Which entry it is that came or went.
        // What has not been published yet is told without.
        let read = store.read(&folder.entries);
        let is_known = read.is_ok();
        let then = read.unwrap_or_default();
        let lines = |text: &[u8]| -> BTreeSet<String> { String::from_utf8_lossy(text).lines().map(str::to_string).collect() };
        let (mut then, now) = (lines(&then), lines(&now));
        let below = |entry: &String| if folder.path.is_empty() { entry.clone() } else { format!("{}/{entry}", folder.path) };
        // What has become an output since is left out of both.
        let is_output = |entry: &String| {
            let path = below(entry);
            self.outputs.iter().any(|o| textum_base::overlap(o, path.trim_end_matches('/')))
        };
        then.retain(|entry| !is_output(entry) && wanted.is_none_or(|w| is_of_module(entry, |stem| w.contains(stem))));
        // What is lost cannot be compared, and is not the same.
        if is_known && then == now {
            return None;
        }
        let came = now.difference(&then).next().map(|e| (below(e), None, Some("there".to_string())));
        let went = then.difference(&now).next().map(|e| (below(e), Some("there".to_string()), None));
        let (name, from, to) = came.or(went).unwrap_or_else(|| (folder.path.clone(), None, None));
        Some(Reason { kind: ReasonKind::Observed, name, from, to })
    }

    /// The entries of a folder of a sandbox: what leads to what the stage declares.
    fn sandbox_entries(&self, folder: &str, wanted: Option<&BTreeSet<String>>, reads: &BTreeMap<SourcePath, Content>) -> Vec<u8> {
        let mut names = BTreeSet::new();
        for (read, content) in reads {
            let below = if folder.is_empty() { Some(&**read) } else { read.strip_prefix(folder).and_then(|r| r.strip_prefix('/')) };
            let Some(below) = below.filter(|_| !read.is_absolute()) else { continue };
            let own = below.split('/').next().unwrap_or_default();
            let path = if folder.is_empty() { own.to_string() } else { format!("{folder}/{own}") };
            let is_wanted = wanted.is_none_or(|w| is_of_module(own, |stem| w.contains(stem)));
            if !is_wanted || self.ignored.covers(&path) || self.outputs.iter().any(|o| textum_base::overlap(o, &path)) {
                continue;
            }
            let is_folder = below.contains('/') || content.kind == ContentKind::Folder;
            names.insert(if is_folder { format!("{own}/\n") } else { format!("{own}\n") });
        }
        names.into_iter().collect::<String>().into_bytes()
    }

    fn list(&self, store: &Store, group: &ObservedGroup) -> Result<Rc<Vec<ObservedFile>>, ReceiptError> {
        if let Some(known) = self.lists.borrow().get(&group.list) {
            return Ok(known.clone());
        }
        let files = Rc::new(group.load_files(store)?);
        self.lists.borrow_mut().insert(group.list, files.clone());
        Ok(files)
    }

    fn group_changes(
        &self,
        store: &Store,
        group: &ObservedGroup,
        world: World<'_>,
        most: usize,
    ) -> Result<Vec<Reason>, ReceiptError> {
        if self.unchanged.borrow().contains(&group.list) && group.kind != ObservedKind::Project {
            return Ok(Vec::new());
        }
        let files = self.list(store, group)?;
        let places = &self.places;
        let now = self.files.look_all(&files, |file| places.path(&file.path));
        let mut found = Vec::new();
        for (file, now) in files.iter().zip(now) {
            // In a sandbox there is nothing of the project but what is declared.
            let is_lacking = matches!(world, World::Sandbox(_)) && is_of_project(&file.path) && !self.is_there(&file.path, world);
            let now = now.filter(|_| !is_lacking);
            let is_same = |n: FileNow| n.digest == file.digest && n.exec == file.exec;
            if now.is_some_and(is_same) {
                continue;
            }
            if group.kind == ObservedKind::Package {
                // Another version whose files that were read are the same does the same.
                let moved = now.is_none().then(|| metadata_now(&places.path(&file.path), &group.name)).flatten();
                if moved.and_then(|path| self.files.look(&path)).is_some_and(is_same) {
                    continue;
                }
                let version = Packages::default().version_now(&places.path(&file.path), &group.name);
                found.push(package_reason(group, version));
                break;
            }
            found.push(Reason {
                kind: ReasonKind::Observed,
                name: file.path.clone(),
                from: Some(file.digest.to_string()),
                to: now.map(|n| n.digest.to_string()),
            });
            if found.len() >= most {
                break;
            }
        }
        if files.len() as u64 != group.files {
            found.push(Reason::plain(ReasonKind::Observed, "its list of files, which is not whole"));
        }
        if found.is_empty() {
            self.unchanged.borrow_mut().insert(group.list);
        }
        Ok(found)
    }
}

fn package_reason(group: &ObservedGroup, version: Option<String>) -> Reason {
    let edited = version.is_some() && version == group.version;
    let to = if edited { version.map(|v| format!("{v}, edited in place")) } else { version };
    Reason { kind: ReasonKind::Package, name: group.name.clone(), from: group.version.clone(), to }
}
