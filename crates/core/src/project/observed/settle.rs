//! An observation, made into the document that the stage's receipt names. What was read is looked at once more: a
//! file that somebody has changed since it was opened is no input that could be named.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::{Path, PathBuf};

use textum_base::is_within;
use textum_observe::{Observation, Stamp, to_text};

use super::files::{FileDigests, FileNow};
use super::ignore::Ignored;
use super::keep;
use super::packages::{Owner, Packages, installed_in, is_metadata, module_of, source_of};
use super::places::{Area, Places};
use crate::fsio;
use crate::project::fingerprint::Stat;
use crate::record::receipt::{
    OBSERVED, ObservedFile, ObservedFolder, ObservedGroup, ObservedInputs, ObservedKind, canonical, list_text,
};
use crate::store::{Digest, StoreError, Writer};

/// Why an observation could not be settled.
#[derive(Debug, thiserror::Error)]
pub enum SettleError {
    /// The store.
    #[error(transparent)]
    Store(#[from] StoreError),
    /// The document.
    #[error(transparent)]
    Document(#[from] crate::record::receipt::DocumentError),
}

/// A stage as it was declared, for telling what it read beside that.
pub struct Stage<'a> {
    /// Names of paths.
    pub places: &'a Places,
    /// What does not count.
    pub ignored: &'a Ignored,
    /// The paths that it declares to read: nothing in them need be noted.
    pub reads: Vec<String>,
    /// The paths that it brings forth.
    pub outputs: Vec<String>,
    /// The outputs of all stages: in a folder that is listed they come and go.
    pub all_outputs: Vec<String>,
    /// The variables that it got.
    pub variables: &'a [(String, String)],
    /// Textum's own program: a stage that tells it something does not depend on which it is.
    pub program: Option<PathBuf>,
    /// Textum's own folder. A sandbox in it is the stage's.
    pub state: Option<PathBuf>,
    /// The packages that count, if only some do.
    pub packages: Option<&'a [String]>,
    /// Whether libraries and data of the system count.
    pub count_system: bool,
    /// Whether it was sealed: its home folder and the one for temporary files were Textum's own.
    pub sealed: bool,
    /// The interpreter and its version, if the files of packages that are used are to be kept.
    pub keep: Option<(PathBuf, String)>,
}

/// What an observation comes to.
pub struct Settled {
    /// The document.
    pub inputs: ObservedInputs,
    /// Its digest.
    pub digest: Digest,
    /// The environment whose files are kept, if they are.
    pub kept: Option<Digest>,
    /// The lists of its groups, by digest.
    pub lists: Vec<(Digest, Vec<ObservedFile>)>,
    /// The entries of the folders that were listed.
    pub entries: Vec<Vec<u8>>,
    /// Files that were changed by somebody since they were opened.
    pub touched: Vec<String>,
    /// Files of the project that the stage reads without declaring them.
    pub undeclared: Vec<String>,
    /// Names of the project at which it made something because there was nothing.
    pub made: Vec<String>,
    /// Sources that were changed within the second in which they had been compiled: Python took their compiled form,
    /// which has been removed.
    pub stale: Vec<String>,
}

/// Name and version of a package; empty for what is none.
type Name = (String, Option<String>);

/// Files that were read, by what they are.
type Groups = BTreeMap<(ObservedKind, Name), Vec<ObservedFile>>;

/// A file that was read.
struct Read {
    name: String,
    path: PathBuf,
    kind: ObservedKind,
    owner: Name,
    stamp: Option<(Stamp, bool)>,
}

pub(super) struct Settling<'a> {
    pub(super) stage: &'a Stage<'a>,
    packages: Packages,
    pub(super) modules: BTreeSet<String>,
    /// Folders that modules were read from.
    pub(super) module_folders: HashSet<PathBuf>,
    /// Whether a command of the stage was this program, which reads the manifest itself.
    asks_textum: bool,
    stale: Vec<String>,
    /// What the stage itself made, changed or removed.
    pub(super) changed: BTreeSet<PathBuf>,
}

/// Whether a file stands as it did when it was opened. A link that the stage itself makes moves the time of change.
fn is_same((stamp, linked): &(Stamp, bool), stat: &Stat) -> bool {
    let plain = (stamp.size, stamp.mtime, stamp.inode) == (stat.size, stat.mtime, stat.inode);
    plain && (*linked || stamp.ctime == stat.ctime)
}

/// Settles an observation. With a writer, files of the project, lists and the document go into the store.
pub fn settle(
    stage: &Stage<'_>,
    observation: &Observation,
    files: &FileDigests,
    writer: Option<&Writer<'_>>,
) -> Result<Settled, SettleError> {
    let mut settling = Settling {
        stage,
        packages: Packages::default(),
        modules: BTreeSet::new(),
        module_folders: HashSet::new(),
        asks_textum: stage
            .program
            .as_ref()
            .is_some_and(|program| observation.opened.iter().any(|o| o.executed && textum_observe::from_text(&o.path) == *program)),
        stale: Vec::new(),
        changed: observation.changed.iter().map(|c| textum_observe::from_text(&c.path)).collect(),
    };
    let reads = settling.reads(observation);
    let now = files.look_all(&reads, |read| read.path.clone());
    let (groups, touched) = settling.group(reads, &now, writer)?;
    let put = |text: &[u8]| -> Result<Digest, StoreError> {
        match writer {
            Some(writer) => writer.put_bytes(text).map(|stored| stored.digest),
            None => Ok(Digest::of(text)),
        }
    };
    let undeclared: Vec<String> = groups
        .iter()
        .filter(|((kind, _), _)| *kind == ObservedKind::Project)
        .flat_map(|(_, files)| files.iter().map(|f| f.path.clone()))
        .collect();
    let (mut documents, mut lists) = (Vec::new(), Vec::new());
    for ((kind, (name, version)), mut files) in groups {
        files.sort_by(|a, b| a.path.cmp(&b.path));
        files.dedup_by(|a, b| a.path == b.path);
        let list = put(&list_text(&files))?;
        let (count, size) = (files.len() as u64, files.iter().map(|f| f.size).sum());
        let counts = settling.counts(kind, &name);
        let metadata = kind == ObservedKind::Package && files.iter().all(|f| is_metadata(&f.path));
        documents.push(ObservedGroup { kind, name, version, metadata, counts, files: count, size, list });
        lists.push((list, files));
    }
    let (mut listed, mut entries) = (Vec::new(), Vec::new());
    for (path, modules, found) in settling.listed(observation) {
        listed.push(ObservedFolder { path, entries: put(&found.text)?, modules, without: found.without });
        entries.push(found.text);
    }
    let made = settling.made(observation);
    let (present, looks) = settling.present(observation);
    let inputs = ObservedInputs {
        r#type: OBSERVED.to_string(),
        groups: documents,
        absent: settling.absent(observation),
        present,
        looks,
        attributes: settling.attributes(observation),
        links: settling.links(observation),
        times: settling.times(observation),
        modules: if listed.iter().any(|l| l.modules) { settling.modules.iter().cloned().collect() } else { Vec::new() },
        listed,
        variables: super::variables_recorded(stage.variables, stage.sealed),
        network: observation.network.clone(),
        own_network: observation.own_network,
        channels: settling.channels(observation),
        random: observation.random,
        state: settling.changed(observation, |c| c.seen),
        kept: settling.kept(observation, files),
        changed: settling.changed(observation, |_| true),
        unseen: observation.unseen.clone(),
        processor: super::processor(),
    };
    let text = canonical(&inputs)?;
    let digest = match writer {
        Some(writer) => writer.put_document(&text)?,
        None => Digest::of(&text),
    };
    let kept = match (&stage.keep, writer) {
        (Some(keep), Some(writer)) => {
            keep::keep(keep, &lists_of_packages(&inputs, &lists), stage.places, &mut settling.packages, files, writer)?
        }
        _ => None,
    };
    Ok(Settled { inputs, digest, kept, lists, entries, touched, undeclared, made, stale: settling.stale })
}

impl Settling<'_> {
    fn counts(&self, kind: ObservedKind, name: &str) -> bool {
        match kind {
            ObservedKind::Project | ObservedKind::Elsewhere | ObservedKind::Interpreter | ObservedKind::Program => true,
            ObservedKind::Package => {
                self.stage.packages.is_none_or(|these| these.iter().any(|n| crate::project::fingerprint::normal_name(n) == name))
            }
            ObservedKind::System => self.stage.count_system,
        }
    }

    /// What was read in groups, as it stands now; and what somebody has changed since it was opened.
    fn group(
        &self,
        reads: Vec<Read>,
        now: &[Option<FileNow>],
        writer: Option<&Writer<'_>>,
    ) -> Result<(Groups, Vec<String>), SettleError> {
        let mut groups = Groups::new();
        let mut touched = Vec::new();
        for (read, now) in reads.into_iter().zip(now) {
            let counts = self.counts(read.kind, &read.owner.0);
            let Some(now) = now else {
                // Gone, or no file that can be read: what it was cannot be told.
                if counts {
                    touched.push(read.name);
                }
                continue;
            };
            if counts && read.stamp.is_some_and(|then| !is_same(&then, &now.stat)) {
                touched.push(read.name.clone());
                continue;
            }
            if let (ObservedKind::Project, Some(writer)) = (read.kind, writer)
                && !writer.contains(&now.digest)?
                && writer.put_file(&read.path)?.digest != now.digest
            {
                touched.push(read.name.clone());
                continue;
            }
            let file =
                ObservedFile { path: read.name, exec: now.exec, private: now.private, size: now.stat.size, digest: now.digest };
            groups.entry((read.kind, read.owner)).or_default().push(file);
        }
        Ok((groups, touched))
    }

    /// Whether a path of the project is declared, brought forth by the stage, or Textum's.
    fn is_known(&self, name: &str) -> bool {
        self.stage.reads.iter().chain(&self.stage.outputs).any(|known| is_within(name, known))
            || name == textum_base::TREE_RECEIPT_NAME
            || (name == textum_base::MANIFEST_NAME && self.asks_textum)
    }

    pub(super) fn is_textums(&self, path: &Path) -> bool {
        let in_state = || self.stage.state.as_ref().is_some_and(|state| path.starts_with(state));
        self.stage.program.as_deref() == Some(path) || (in_state() && !self.stage.places.holds(path))
    }

    /// The path as documents name it, unless it does not count at all.
    pub(super) fn name(&self, observed: &str) -> Option<(String, Area)> {
        let (name, area) = self.stage.places.name(observed)?;
        let declared_elsewhere = area != Area::Project && self.stage.reads.iter().any(|r| is_within(observed, r));
        if self.stage.ignored.covers(&name) || (area == Area::Project && self.is_known(&name)) || declared_elsewhere {
            return None;
        }
        Some((name, area))
    }

    fn reads(&mut self, observation: &Observation) -> Vec<Read> {
        let by_name: HashSet<&str> = observation.opened.iter().map(|o| o.path.as_str()).collect();
        let mut reads: Vec<Read> = Vec::with_capacity(observation.opened.len());
        for opened in &observation.opened {
            let mut path = textum_observe::from_text(&opened.path);
            let mut stamp = Some((opened.stamp, opened.linked));
            if let Some(source) = source_of(&path) {
                // A compiled file stands for its source, by which it is judged: by its size and the second of its last
                // change. One that is older than that cannot be of it.
                let is_older = || std::fs::metadata(&source).is_ok_and(|m| Stat::of(&m).mtime > opened.stamp.mtime);
                let text = to_text(std::os::unix::ffi::OsStrExt::as_bytes(source.as_os_str()));
                if !by_name.contains(text.as_str()) && is_older() {
                    self.is_stale(&source, &path);
                }
                (path, stamp) = (source, None);
            }
            if let Some(module) = module_of(&path) {
                self.modules.insert(module);
                self.module_folders.extend(path.parent().map(Path::to_path_buf));
            }
            if self.is_textums(&path) {
                continue;
            }
            let observed = to_text(std::os::unix::ffi::OsStrExt::as_bytes(path.as_os_str()));
            let Some((name, area)) = self.name(&observed) else { continue };
            let owner = self.packages.owner(&path);
            let (kind, owner) = match (owner, area) {
                (Some(Owner::Package(name, version)), _) => (ObservedKind::Package, (name, version)),
                (Some(Owner::Interpreter(name)), _) => (ObservedKind::Interpreter, (name, None)),
                (None, Area::Project) => (ObservedKind::Project, Default::default()),
                (None, Area::System) if opened.executed => (ObservedKind::Program, Default::default()),
                // The time zone of the machine is a file of the system that everybody sets; a module of Python that no
                // package claims is code all the same.
                (None, Area::System)
                    if !matches!(name.as_str(), "/etc/localtime" | "/etc/timezone") && installed_in(&path).is_none() =>
                {
                    (ObservedKind::System, Default::default())
                }
                (None, _) => (ObservedKind::Elsewhere, Default::default()),
            };
            reads.push(Read { name, path, kind, owner, stamp });
        }
        reads.sort_by(|a, b| a.name.cmp(&b.name));
        reads.dedup_by(|later, first| {
            let same = later.name == first.name;
            // The source itself may have been opened beside its compiled form.
            first.stamp = first.stamp.or(later.stamp.filter(|_| same));
            same
        });
        reads
    }

    fn is_stale(&mut self, source: &Path, compiled: &Path) {
        let observed = to_text(std::os::unix::ffi::OsStrExt::as_bytes(source.as_os_str()));
        // In folders of packages sources are unpacked with the times that they were packed with.
        if let Some((name, Area::Project | Area::Elsewhere)) = self.stage.places.name(&observed)
            && self.packages.owner(source).is_none()
            && fsio::remove_any(compiled).is_ok()
        {
            self.stale.push(name);
        }
    }
}

/// The packages of a document, each with one of its files.
fn lists_of_packages(inputs: &ObservedInputs, lists: &[(Digest, Vec<ObservedFile>)]) -> Vec<(String, String, String)> {
    let first = |list: &Digest| lists.iter().find(|(l, _)| l == list)?.1.first().map(|f| f.path.clone());
    let packages = inputs.of_kind(ObservedKind::Package);
    packages.filter_map(|g| Some((g.name.clone(), g.version.clone()?, first(&g.list)?))).collect()
}
