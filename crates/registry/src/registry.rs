//! What all entries of the log together say.

use std::collections::{BTreeMap, HashMap};

use serde::{Deserialize, Serialize};
use textum_base::{Digest, Identity};

use crate::entry::{Action, COMMON, ENTRY, Entry, Kind, Publication, Role};
use crate::envelope::Signed;
use crate::key::KeyId;

/// An entry, and whether it has any effect.
#[derive(Clone, Debug, PartialEq)]
pub struct Judged {
    /// The digest of its envelope.
    pub digest: Digest,
    /// The entry.
    pub entry: Entry,
    /// By whom it is signed.
    pub signed: Signed,
    /// Why it has no effect; none: it has.
    pub invalid: Option<String>,
}

/// A key that may do something in a section.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Holder {
    /// The key.
    pub key: KeyId,
    /// Whose it is, as far as it was said.
    pub holder: Option<String>,
    /// What it may.
    pub role: Role,
    /// Until when, RFC 3339 in UTC.
    pub until: Option<String>,
    /// The entry that gave it.
    pub entry: u64,
}

/// A section.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Section {
    /// Its name.
    pub name: String,
    /// What it is for.
    pub purpose: Option<String>,
    /// What may be published in it.
    pub accepts: Kind,
    /// Aliases that move only when so many reviewers have signed.
    pub guards: BTreeMap<String, u32>,
    /// Whether unsigned entries have no effect in it.
    pub signed: bool,
    /// Who may do what. A section of which nobody keeps the roles is open: anybody may do anything in it.
    pub holders: Vec<Holder>,
}

impl Section {
    /// One that nobody has said anything of: open.
    pub fn open(name: &str) -> Section {
        Section {
            name: name.to_string(),
            purpose: None,
            accepts: Kind::Any,
            guards: BTreeMap::new(),
            signed: false,
            holders: Vec::new(),
        }
    }

    /// Whether anybody may do anything in it.
    pub fn is_open(&self) -> bool {
        self.holders.is_empty()
    }
}

/// An alias.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct AliasState {
    /// The version that it names.
    pub version: u64,
    /// The one that it named before, if any.
    pub before: Option<u64>,
    /// The entry that moved it.
    pub entry: u64,
    /// When, RFC 3339 in UTC.
    pub at: String,
    /// Who.
    pub by: String,
}

/// That a reviewer finds a version fit for an alias.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Approval {
    /// The alias.
    pub alias: String,
    /// The reviewer's key.
    pub key: KeyId,
    /// Whose it is.
    pub by: String,
    /// When, RFC 3339 in UTC.
    pub at: String,
    /// The entry.
    pub entry: u64,
}

/// Something that was said of a version.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Note {
    /// The words.
    pub text: String,
    /// When, RFC 3339 in UTC.
    pub at: String,
    /// Who.
    pub by: String,
    /// The entry.
    pub entry: u64,
}

/// A version.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Version {
    /// What was published.
    pub publication: Publication,
    /// The entry.
    pub entry: u64,
    /// When, RFC 3339 in UTC.
    pub at: String,
    /// Who says to have done it, and where.
    pub by: String,
    /// By whom it is signed.
    pub signed: Signed,
    /// Who found it fit for what.
    pub approvals: Vec<Approval>,
    /// Why it was taken back, if it was.
    pub retired: Option<Note>,
    /// What was said of it.
    pub notes: Vec<Note>,
    /// Its card, in Markdown.
    pub card: Option<Note>,
}

/// A published name.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Model {
    /// The section that it belongs to.
    pub section: String,
    /// Its versions.
    pub versions: Versions,
    /// Its aliases.
    pub aliases: BTreeMap<String, AliasState>,
    /// The number of the version with a content.
    by_content: HashMap<Digest, u64>,
}

/// Versions by their numbers, which go from 1 up. Of a part of a registry some are there alone.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Versions(BTreeMap<u64, Version>);

impl Versions {
    /// The number of the newest.
    pub fn len(&self) -> u64 {
        self.0.last_key_value().map_or(0, |(number, _)| *number)
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// The oldest.
    pub fn first(&self) -> Option<&Version> {
        self.0.first_key_value().map(|(_, version)| version)
    }

    /// The newest.
    pub fn last(&self) -> Option<&Version> {
        self.0.last_key_value().map(|(_, version)| version)
    }

    /// All of them, the oldest first.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = &Version> + ExactSizeIterator {
        self.0.values()
    }

    pub(crate) fn insert(&mut self, number: u64, version: Version) {
        self.0.insert(number, version);
    }
}

impl Model {
    /// A version by its number.
    pub fn version(&self, number: u64) -> Option<&Version> {
        self.versions.0.get(&number)
    }

    /// The number that a version, an alias or nothing (the newest that was not taken back) stands for.
    pub fn number(&self, which: Option<&str>) -> Option<u64> {
        match which {
            None => self.versions.iter().rev().find(|v| v.retired.is_none()).map(|v| v.publication.version),
            Some(which) if which.bytes().all(|b| b.is_ascii_digit()) => {
                which.parse().ok().filter(|number| self.version(*number).is_some())
            }
            Some(alias) => self.aliases.get(alias).map(|a| a.version),
        }
    }

    /// The aliases that name a version.
    pub fn aliases_of(&self, number: u64) -> Vec<&str> {
        self.aliases.iter().filter(|(_, a)| a.version == number).map(|(alias, _)| alias.as_str()).collect()
    }
}

/// What all entries together say.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Registry {
    /// Sections of which something was said, by name.
    pub sections: BTreeMap<String, Section>,
    /// What is published, by name.
    pub models: BTreeMap<String, Model>,
    /// The entries, in their order.
    pub entries: Vec<Judged>,
    /// The latest time that an entry with effect speaks of: a clock that runs back does not make a key valid again.
    pub(crate) latest: Option<jiff::Timestamp>,
}

impl Registry {
    /// The section of a name, made up where nothing was said of it.
    pub fn section(&self, name: &str) -> Section {
        self.sections.get(name).cloned().unwrap_or_else(|| Section::open(name))
    }

    /// The section that a name belongs to, or would.
    pub fn section_of(&self, name: &str) -> Section {
        self.section(self.models.get(name).map_or(COMMON, |m| m.section.as_str()))
    }

    /// The version that has this content.
    pub fn with_content(&self, name: &str, content: &Digest) -> Option<&Version> {
        let model = self.models.get(name)?;
        model.version(*model.by_content.get(content)?)
    }

    /// Every version of every name.
    pub fn versions(&self) -> impl Iterator<Item = (&str, &Model, &Version)> {
        self.models.iter().flat_map(|(name, model)| model.versions.iter().map(move |v| (name.as_str(), model, v)))
    }

    /// The entry that an action would be as the next one.
    pub fn next(&self, by: &Identity, action: Action) -> Entry {
        let end = self.entries.last();
        Entry {
            r#type: ENTRY.to_string(),
            number: end.map_or(0, |e| e.entry.number) + 1,
            previous: end.map(|e| e.digest),
            id: format!("{:016x}", rand::random::<u64>()),
            at: textum_base::clock::now().to_string(),
            by: by.to_string(),
            action,
        }
    }

    /// Takes in the next entry: it has its effect if its writer had the right.
    pub fn add(&mut self, digest: Digest, entry: Entry, signed: Signed) {
        let invalid = self.may(&entry, &signed).err();
        if invalid.is_none() {
            let at = entry.at.parse().ok();
            self.latest = self.latest.max(at);
            self.apply(&entry, &signed);
        }
        self.entries.push(Judged { digest, entry, signed, invalid });
    }

    fn apply(&mut self, entry: &Entry, signed: &Signed) {
        match &entry.action {
            Action::Section { section, purpose, accepts, guards, signed: demanded } => {
                let is_new = !self.sections.contains_key(section);
                let known = self.sections.entry(section.clone()).or_insert_with(|| Section::open(section));
                known.purpose.clone_from(purpose);
                (known.accepts, known.signed) = (*accepts, *demanded);
                known.guards.clone_from(guards);
                if let (true, Signed::By(key)) = (is_new, signed) {
                    known.holders.push(keeper(key, entry));
                }
            }
            Action::Role { section, key, holder, role, given, until } => {
                let Ok(key) = crate::key::public_key(key).map(|key| KeyId::of(&key)) else { return };
                let known = self.sections.entry(section.clone()).or_insert_with(|| Section::open(section));
                if let (true, Signed::By(giver)) = (known.is_open(), signed) {
                    known.holders.push(keeper(giver, entry));
                }
                known.holders.retain(|h| h.key != key || h.role != *role);
                if *given {
                    let (holder, until) = (holder.clone(), until.clone());
                    known.holders.push(Holder { key, holder, role: *role, until, entry: entry.number });
                }
            }
            Action::Publish(publication) => {
                let model = self.models.entry(publication.name.clone()).or_default();
                model.section.clone_from(&publication.section);
                model.by_content.insert(publication.content, publication.version);
                let version = Version {
                    publication: (**publication).clone(),
                    entry: entry.number,
                    at: entry.at.clone(),
                    by: entry.by.clone(),
                    signed: signed.clone(),
                    approvals: Vec::new(),
                    retired: None,
                    notes: Vec::new(),
                    card: None,
                };
                model.versions.insert(publication.version, version);
            }
            Action::Alias { name, alias, version, .. } => {
                let Some(model) = self.models.get_mut(name) else { return };
                let before = model.aliases.get(alias).map(|a| a.version);
                match version {
                    None => drop(model.aliases.remove(alias)),
                    Some(version) => {
                        let (version, at, by) = (*version, entry.at.clone(), entry.by.clone());
                        model.aliases.insert(alias.clone(), AliasState { version, before, entry: entry.number, at, by });
                    }
                }
            }
            Action::Approve { name, version, alias } => {
                let Signed::By(key) = signed else { return };
                let (alias, key, at, by) = (alias.clone(), key.clone(), entry.at.clone(), entry.by.clone());
                if let Some(version) = self.version_mut(name, *version) {
                    version.approvals.push(Approval { alias, key, by, at, entry: entry.number });
                }
            }
            Action::Retire { name, version, because: text }
            | Action::Note { name, version, text }
            | Action::Card { name, version, text } => {
                let note = Note { text: text.clone(), at: entry.at.clone(), by: entry.by.clone(), entry: entry.number };
                let Some(version) = self.version_mut(name, *version) else { return };
                match &entry.action {
                    Action::Retire { .. } => version.retired = Some(note),
                    Action::Card { .. } => version.card = Some(note),
                    _ => version.notes.push(note),
                }
            }
        }
    }

    fn version_mut(&mut self, name: &str, number: u64) -> Option<&mut Version> {
        self.models.get_mut(name)?.versions.0.get_mut(&number)
    }
}

/// Who makes a section, or gives the first role in it, keeps it.
fn keeper(key: &KeyId, entry: &Entry) -> Holder {
    Holder { key: key.clone(), holder: Some(entry.by.clone()), role: Role::Keeper, until: None, entry: entry.number }
}
