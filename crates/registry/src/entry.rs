//! What an entry of the log says.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use textum_base::Digest;

use crate::bundle::Bundle;
use crate::key;

/// The `type` of an entry.
pub const ENTRY: &str = "textum/registry-entry@1";
/// The section of what is published without naming one.
pub const COMMON: &str = "common";
/// A text by a person is at most so long, in bytes.
pub const LONGEST_TEXT: usize = 256 << 10;

/// An entry of the log.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Entry {
    /// [`ENTRY`].
    pub r#type: String,
    /// Its number: the first is 1.
    pub number: u64,
    /// The digest of the whole envelope of the entry before; none of the first.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub previous: Option<Digest>,
    /// Tells it from one that says the same. 16 hex digits.
    pub id: String,
    /// When, by the clock of who wrote it. RFC 3339 in UTC.
    pub at: String,
    /// Who says to have written it, and where: `NAME@HOST`.
    pub by: String,
    /// What is done.
    #[serde(flatten)]
    pub action: Action,
}

/// What is published, or accepted by a section.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// A model and what it takes to use it.
    Model,
    /// A version of a dataset.
    Data,
    /// Anything.
    Any,
}

impl Kind {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Kind::Model => "model",
            Kind::Data => "data",
            Kind::Any => "any",
        }
    }
}

/// What a key may do in a section.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Role {
    /// Publish, move aliases, retire.
    Publisher,
    /// Approve that a guarded alias moves.
    Reviewer,
    /// Give and take roles, change the section; and what a publisher may.
    Keeper,
}

impl Role {
    /// Its word.
    pub fn word(self) -> &'static str {
        match self {
            Role::Publisher => "publisher",
            Role::Reviewer => "reviewer",
            Role::Keeper => "keeper",
        }
    }
}

/// Which version an alias has to name for a move to have effect.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum OnlyIf {
    /// None: the alias must not be there.
    None,
    /// This one.
    Version(u64),
}

/// What an entry does.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "action", rename_all = "kebab-case")]
pub enum Action {
    /// Makes a section, or says anew what it is.
    Section {
        /// Its name.
        section: String,
        /// What it is for.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        purpose: Option<String>,
        /// What may be published in it.
        accepts: Kind,
        /// Aliases that move only when so many reviewers have signed.
        #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
        guards: BTreeMap<String, u32>,
        /// Whether unsigned entries have no effect in it.
        signed: bool,
    },
    /// Gives a key a role, or takes it away.
    Role {
        /// The section.
        section: String,
        /// The public key, `TYPE BASE64`.
        key: String,
        /// Whose it is.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        holder: Option<String>,
        /// The role.
        role: Role,
        /// Whether it is given.
        given: bool,
        /// Until when it holds, RFC 3339 in UTC; none: until it is taken away.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        until: Option<String>,
    },
    /// Makes the next version of something.
    Publish(Box<Publication>),
    /// Makes an alias name a version; of none: takes it away.
    Alias {
        /// The published name.
        name: String,
        /// The alias.
        alias: String,
        /// The version that it names from now on.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        version: Option<u64>,
        /// What it has to name for that.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        only_if: Option<OnlyIf>,
    },
    /// Says that a version is fit for a guarded alias.
    Approve {
        /// The published name.
        name: String,
        /// The version.
        version: u64,
        /// The alias.
        alias: String,
    },
    /// Takes a version back.
    Retire {
        /// The published name.
        name: String,
        /// The version.
        version: u64,
        /// Why.
        because: String,
    },
    /// Says something of a version.
    Note {
        /// The published name.
        name: String,
        /// The version.
        version: u64,
        /// The words.
        text: String,
    },
    /// Gives a version its card, in Markdown.
    Card {
        /// The published name.
        name: String,
        /// The version.
        version: u64,
        /// The text.
        text: String,
    },
}

/// A version that is published.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Publication {
    /// The name.
    pub name: String,
    /// The section that it belongs to.
    pub section: String,
    /// Its number: the first is 1.
    pub version: u64,
    /// What it is.
    pub kind: Kind,
    /// The digest of what makes it what it is: the same is never another version ([`Bundle::content`]).
    pub content: Digest,
    /// All about it.
    pub bundle: Bundle,
}

/// Whether a text can be a published name or the name of a section.
pub fn is_name(text: &str) -> bool {
    text.starts_with(|c: char| c.is_ascii_alphabetic())
        && text.len() <= 100
        && text.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_'))
}

/// Whether a text can be an alias: a word that no version's number looks like.
pub fn is_alias(text: &str) -> bool {
    let number = text.trim_start_matches(['v', 'V']);
    is_name(text) && (number.is_empty() || !number.bytes().all(|b| b.is_ascii_digit())) && text != "none"
}

/// The name and, behind `@`, the version or alias.
pub fn split_reference(text: &str) -> Option<(&str, Option<&str>)> {
    let (name, which) = match text.split_once('@') {
        Some((name, which)) => (name, Some(which)),
        None => (text, None),
    };
    let fits = |which: &str| is_alias(which) || (which.bytes().all(|b| b.is_ascii_digit()) && which.parse::<u64>().is_ok());
    (is_name(name) && which.is_none_or(fits)).then_some((name, which))
}

fn named(what: &str, text: &str) -> Result<(), String> {
    if is_name(text) { Ok(()) } else { Err(format!("{text:?} cannot be the name of a {what}")) }
}

fn worded(alias: &str) -> Result<(), String> {
    if is_alias(alias) { Ok(()) } else { Err(format!("{alias:?} cannot be an alias")) }
}

fn timed(text: &str) -> Result<(), String> {
    text.parse::<jiff::Timestamp>().map(drop).map_err(|e| format!("{text:?} is no time: {e}"))
}

fn short(text: &str) -> Result<(), String> {
    if text.len() <= LONGEST_TEXT { Ok(()) } else { Err(format!("a text is longer than {LONGEST_TEXT} bytes")) }
}

impl Entry {
    /// An entry out of its canonical form; all names and times in it are checked.
    pub fn read(payload: &[u8]) -> Result<Entry, String> {
        let entry: Entry = serde_json::from_slice(payload).map_err(|e| format!("it is no entry: {e}"))?;
        if entry.r#type != ENTRY {
            let found: String = entry.r#type.chars().take(60).collect();
            return Err(format!("it is a {found:?}; this Textum reads {ENTRY:?}"));
        }
        // What is signed and what is read must be the same thing for every reader.
        if serde_json_canonicalizer::to_vec(&entry).ok().as_deref() != Some(payload) {
            return Err("it is not in canonical form".to_string());
        }
        entry.check()?;
        Ok(entry)
    }

    /// What is wrong with it that its types cannot say.
    pub fn check(&self) -> Result<(), String> {
        timed(&self.at)?;
        short(&self.by)?;
        match &self.action {
            Action::Section { section, purpose, guards, .. } => {
                purpose.as_deref().map_or(Ok(()), short)?;
                named("section", section)?;
                guards.keys().try_for_each(|alias| worded(alias))?;
                guards.values().try_for_each(|n| if *n > 0 { Ok(()) } else { Err("an alias is guarded by nobody".to_string()) })
            }
            Action::Role { section, key, holder, until, .. } => {
                named("section", section)?;
                holder.as_deref().map_or(Ok(()), short)?;
                until.as_deref().map_or(Ok(()), timed)?;
                key::public_key(key).map(drop).map_err(|e| e.to_string())
            }
            Action::Publish(publication) => publication.check(),
            Action::Alias { name, alias, .. } => named("model", name).and_then(|()| worded(alias)),
            Action::Approve { name, alias, .. } => named("model", name).and_then(|()| worded(alias)),
            Action::Retire { name, because: text, .. } | Action::Note { name, text, .. } | Action::Card { name, text, .. } => {
                named("model", name).and_then(|()| short(text))
            }
        }
    }
}

impl Publication {
    fn check(&self) -> Result<(), String> {
        named("model", &self.name)?;
        named("section", &self.section)?;
        if self.kind == Kind::Any {
            return Err("something is published of the kind any".to_string());
        }
        self.bundle.check()?;
        if self.bundle.content() != self.content {
            return Err("its content is not what it says".to_string());
        }
        Ok(())
    }
}

impl Action {
    /// The published name that it is about.
    pub fn name(&self) -> Option<&str> {
        match self {
            Action::Publish(publication) => Some(&publication.name),
            Action::Alias { name, .. }
            | Action::Approve { name, .. }
            | Action::Retire { name, .. }
            | Action::Note { name, .. }
            | Action::Card { name, .. } => Some(name),
            Action::Section { .. } | Action::Role { .. } => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_aliases_are_words_and_an_alias_is_no_version() {
        for good in ["stop-predictor", "a", "Model_2"] {
            assert!(is_name(good), "{good}");
        }
        for bad in ["", "2x", "-a", "a b", "a/b", "a@b", "é", &"a".repeat(101)] {
            assert!(!is_name(bad), "{bad}");
        }
        for good in ["live", "v2-canary", "next", "version"] {
            assert!(is_alias(good), "{good}");
        }
        for bad in ["3", "v3", "V12", "none", "", "live now"] {
            assert!(!is_alias(bad), "{bad}");
        }
        assert_eq!(split_reference("m@live"), Some(("m", Some("live"))));
        assert_eq!(split_reference("m@3"), Some(("m", Some("3"))));
        assert_eq!(split_reference("m"), Some(("m", None)));
        for bad in ["m@", "@3", "m@v3", "m@3@4", "m@99999999999999999999999", "m@-1", "m @3"] {
            assert_eq!(split_reference(bad), None, "{bad}");
        }
    }
}
