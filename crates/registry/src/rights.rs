//! Which entries have an effect: what they say must be possible, and who wrote them must have the right.

use std::collections::BTreeSet;

use crate::entry::{Action, Entry, Kind, OnlyIf, Role};
use crate::envelope::Signed;
use crate::key::KeyId;
use crate::registry::{Holder, Model, Registry, Section, Version};

impl Section {
    /// Whether a key has a role at a time.
    pub fn has(&self, key: &KeyId, role: Role, at: jiff::Timestamp) -> bool {
        let holds = |until: &Option<String>| until.as_ref().is_none_or(|u| u.parse::<jiff::Timestamp>().is_ok_and(|u| at < u));
        self.holders.iter().any(|h| h.key == *key && h.role == role && holds(&h.until))
    }

    fn roles_of(&self, key: &KeyId, at: jiff::Timestamp) -> Vec<&'static str> {
        let all = [Role::Publisher, Role::Reviewer, Role::Keeper];
        all.into_iter().filter(|role| self.has(key, *role, at)).map(Role::word).collect()
    }

    /// That who signed has one of these roles, where roles count.
    fn demand(&self, signed: &Signed, roles: &[Role], at: jiff::Timestamp) -> Result<(), String> {
        let name = &self.name;
        match signed {
            Signed::Wrong(what) => Err(format!("its signature does not hold: {what}")),
            Signed::No if self.signed => Err(format!("it is not signed, and the section {name} demands it")),
            Signed::No if self.is_open() => Ok(()),
            Signed::No => Err(format!("it is not signed, and the section {name} goes by keys")),
            Signed::By(_) if self.is_open() => Ok(()),
            Signed::By(key) if roles.iter().any(|role| self.has(key, *role, at)) => Ok(()),
            Signed::By(key) => {
                let wanted: Vec<&str> = roles.iter().map(|r| r.word()).collect();
                let has = match self.roles_of(key, at).as_slice() {
                    [] => "has no role".to_string(),
                    roles => format!("is {}", roles.join(" and ")),
                };
                Err(format!("the key {key} {has} in the section {name}; it takes {}", wanted.join(" or ")))
            }
        }
    }
}

const PUBLISHING: &[Role] = &[Role::Publisher, Role::Keeper];
const ANY_ROLE: &[Role] = &[Role::Publisher, Role::Reviewer, Role::Keeper];

impl Registry {
    /// The time that an entry's rights are judged at.
    fn time_of(&self, entry: &Entry) -> jiff::Timestamp {
        let own = entry.at.parse().unwrap_or(jiff::Timestamp::MAX);
        self.latest.map_or(own, |latest| latest.max(own))
    }

    fn named<'r>(&'r self, name: &str, version: u64) -> Result<(&'r Model, &'r Version), String> {
        let model = self.models.get(name).ok_or_else(|| format!("nothing is published as {name}"))?;
        let version = model.version(version).ok_or_else(|| format!("there is no {name}@{version}"))?;
        Ok((model, version))
    }

    /// Whether an entry would have an effect as the next one; why not otherwise.
    pub fn may(&self, entry: &Entry, signed: &Signed) -> Result<(), String> {
        let at = self.time_of(entry);
        match &entry.action {
            Action::Section { section, .. } => match self.sections.get(section) {
                Some(known) => known.demand(signed, &[Role::Keeper], at),
                None => Section::open(section).demand(signed, &[], at),
            },
            Action::Role { section, key, role, given, until, .. } => {
                self.may_give(section, (key, *role), *given, until.is_none(), signed, at)
            }
            Action::Publish(publication) => self.may_publish(publication, signed, at),
            Action::Alias { name, alias, version, only_if } => {
                let model = self.models.get(name).ok_or_else(|| format!("nothing is published as {name}"))?;
                self.section(&model.section).demand(signed, PUBLISHING, at)?;
                let now = model.aliases.get(alias).map(|a| a.version);
                match only_if {
                    Some(OnlyIf::None) if now.is_some() => {
                        return Err(format!("{alias} was to be new, and names {name}@{}", now.unwrap_or_default()));
                    }
                    Some(OnlyIf::Version(wanted)) if now != Some(*wanted) => {
                        let names = now.map_or("nothing".to_string(), |now| format!("{name}@{now}"));
                        return Err(format!("{alias} was to name {name}@{wanted} still, and names {names}"));
                    }
                    _ => {}
                }
                match version {
                    None if now.is_none() => Err(format!("{name} has no alias {alias}")),
                    None => self.guarded(model, alias, None, at),
                    Some(version) => {
                        let (_, version) = self.named(name, *version)?;
                        if version.retired.is_some() {
                            return Err(format!("{name}@{} is retired", version.publication.version));
                        }
                        self.guarded(model, alias, Some(version), at)
                    }
                }
            }
            Action::Approve { name, version, alias } => {
                let (model, version) = self.named(name, *version)?;
                let section = self.section(&model.section);
                section.demand(signed, &[Role::Reviewer], at)?;
                if !matches!(signed, Signed::By(_)) {
                    return Err("it approves, and is not signed".to_string());
                }
                if !section.guards.contains_key(alias) {
                    return Err(format!("the alias {alias} is not guarded in the section {}", section.name));
                }
                if version.retired.is_some() {
                    return Err(format!("{name}@{} is retired", version.publication.version));
                }
                Ok(())
            }
            Action::Retire { name, version: number, .. } => {
                let (model, version) = self.named(name, *number)?;
                self.section(&model.section).demand(signed, PUBLISHING, at)?;
                if version.retired.is_some() {
                    return Err(format!("{name}@{number} is retired already"));
                }
                match model.aliases_of(*number).as_slice() {
                    [] => Ok(()),
                    aliases => Err(format!("{name}@{number} is still {}", aliases.join(" and "))),
                }
            }
            Action::Note { name, version, .. } | Action::Card { name, version, .. } => {
                let (model, _) = self.named(name, *version)?;
                self.section(&model.section).demand(signed, ANY_ROLE, at)
            }
        }
    }

    /// Whether a role may be given or taken: nothing may leave a section without a keeper that has no end of time.
    fn may_give(
        &self,
        section: &str,
        (key, role): (&str, Role),
        given: bool,
        endless: bool,
        signed: &Signed,
        at: jiff::Timestamp,
    ) -> Result<(), String> {
        let known = self.section(section);
        known.demand(signed, &[Role::Keeper], at)?;
        let Signed::By(signer) = signed else { return Err("it gives or takes a role, and is not signed".to_string()) };
        let key = crate::key::public_key(key).map(|key| KeyId::of(&key)).map_err(|e| e.to_string())?;
        if !given && !known.holders.iter().any(|h| h.key == key && h.role == role) {
            return Err(format!("the key {key} is not {} in the section {section}", role.word()));
        }
        let keeps = |h: &Holder| h.role == Role::Keeper && h.until.is_none();
        let others = known.holders.iter().any(|h| keeps(h) && h.key != key) || (known.is_open() && *signer != key);
        if role == Role::Keeper && !others && !(given && endless) {
            return Err(format!("the section {section} would be left without a keeper"));
        }
        Ok(())
    }

    fn may_publish(&self, publication: &crate::entry::Publication, signed: &Signed, at: jiff::Timestamp) -> Result<(), String> {
        let (name, section) = (&publication.name, self.section(&publication.section));
        section.demand(signed, PUBLISHING, at)?;
        if section.accepts != Kind::Any && section.accepts != publication.kind {
            let (accepts, kind) = (section.accepts.word(), publication.kind.word());
            return Err(format!("the section {} accepts {accepts}, and {name} is {kind}", section.name));
        }
        let Some(model) = self.models.get(name) else {
            return if publication.version == 1 { Ok(()) } else { Err(format!("the first version of {name} would be 1")) };
        };
        if model.section != publication.section {
            return Err(format!("{name} belongs to the section {}, not to {}", model.section, publication.section));
        }
        if model.versions.first().is_some_and(|v| v.publication.kind != publication.kind) {
            return Err(format!("{name} was not {} before", publication.kind.word()));
        }
        if let Some(same) = self.with_content(name, &publication.content) {
            return Err(format!("the same is {name}@{} already", same.publication.version));
        }
        let next = model.versions.len() + 1;
        if publication.version == next { Ok(()) } else { Err(format!("the next version of {name} would be {next}")) }
    }

    /// A guarded alias moves when enough reviewers have signed, and never by the publisher's own signature alone. It is taken
    /// away by a keeper's word as by a publisher's: then it names nothing, which nobody takes for something.
    fn guarded(&self, model: &Model, alias: &str, to: Option<&Version>, at: jiff::Timestamp) -> Result<(), String> {
        let section = self.section(&model.section);
        let (Some(needed), Some(version)) = (section.guards.get(alias), to) else { return Ok(()) };
        let approved = approving(&section, version, alias, at);
        let what = format!("{}@{}", version.publication.name, version.publication.version);
        if is_own_alone(version, &approved) {
            return Err(format!("only who published {what} has approved it for {alias}; it takes somebody else too"));
        }
        let found = approved.len();
        match found as u64 >= u64::from(*needed) {
            true => Ok(()),
            false => {
                let is = if found == 1 { "is" } else { "are" };
                Err(format!("{alias} is guarded: it takes {needed} of the reviewers' approvals of {what}, and there {is} {found}"))
            }
        }
    }

    /// Reviewers of a section whose approval of a version for an alias counts, how many it takes, and whether it may move.
    pub fn approvals(&self, name: &str, version: u64, alias: &str) -> Option<(usize, u32, bool)> {
        let model = self.models.get(name)?;
        let section = self.section(&model.section);
        let needed = *section.guards.get(alias)?;
        let version = model.version(version)?;
        let at = self.latest.unwrap_or(jiff::Timestamp::MAX);
        let approved = approving(&section, version, alias, at);
        Some((approved.len(), needed, self.guarded(model, alias, Some(version), at).is_ok()))
    }
}

/// The keys whose approval of a version for an alias counts: those that are reviewers'.
fn approving<'v>(section: &Section, version: &'v Version, alias: &str, at: jiff::Timestamp) -> BTreeSet<&'v KeyId> {
    let counts = |key: &KeyId| section.is_open() || section.has(key, Role::Reviewer, at);
    version.approvals.iter().filter(|a| a.alias == alias && counts(&a.key)).map(|a| &a.key).collect()
}

/// Whether only who published it has approved it.
fn is_own_alone(version: &Version, approved: &BTreeSet<&KeyId>) -> bool {
    matches!(&version.signed, Signed::By(key) if approved.len() == 1 && approved.contains(key))
}
