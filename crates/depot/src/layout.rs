//! What lies where in a depot (`docs/formats.md`).
//!
//! ```text
//! textum-depot.json                         what it is
//! content/HH/NAME-SALT.pack                 packs of content, HH being the first two digits of NAME
//! documents/PROJECT/LEVEL/NAME-SALT.pack    packs of documents; PROJECT as `projects/` names it
//! projects/PROJECT                          the name of a project
//! index/LEVEL/PREFIX/NAME.index             which entry stands where; PREFIX has LEVEL hex digits, none is `all`
//! index/gone/NAME                           packs that are removed: what an index says of them does not hold
//! index/marks/NAME                          entries that are to go
//! live/RUN.json                             a run at work
//! registry/                                 numbered entries
//! ```
//!
//! All of it is immutable and named by what it holds, but for `live/`. A salt tells apart what holds the same but was written
//! at another time, so that what was removed once is never taken for what is there now.

use std::fmt;

use serde::{Deserialize, Serialize};
use textum_store::Digest;

/// Where a depot says what it is.
pub const DEPOT_FILE: &str = "textum-depot.json";
/// The `type` of that.
pub const DEPOT_TYPE: &str = "textum/depot@1";
/// The folder of packs of content.
pub const CONTENT: &str = "content";
/// The folder of packs of documents.
pub const DOCUMENTS: &str = "documents";
/// The folder of names of projects.
pub const PROJECTS: &str = "projects";
/// The folder of indexes.
pub const INDEX: &str = "index";
/// The folder of lists of packs that are gone.
pub const GONE: &str = "index/gone";
/// The folder of lists of entries that are to go.
pub const MARKS: &str = "index/marks";
/// The folder of runs at work.
pub const LIVE: &str = "live";

/// What a depot says of itself.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct DepotDocument {
    /// [`DEPOT_TYPE`].
    pub r#type: String,
    /// Tells it from any other depot, wherever it is copied or moved to. 32 hex digits.
    pub id: String,
    /// When it was made, RFC 3339 in UTC.
    pub made: String,
    /// By whom, and where.
    pub by: String,
}

/// The name of a pack in a depot.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PackName {
    /// The digest of its heads.
    pub name: Digest,
    /// Tells it from others of the same name.
    pub salt: u32,
}

impl PackName {
    /// A new name for a pack.
    pub fn new(name: Digest) -> PackName {
        PackName { name, salt: rand::random() }
    }

    /// Where a pack of content lies.
    pub fn content_path(&self) -> String {
        format!("{CONTENT}/{}/{self}.pack", &self.name.hex()[..2])
    }

    /// Where a pack of documents lies.
    pub fn documents_path(&self, project: &str, level: u32) -> String {
        format!("{DOCUMENTS}/{project}/{level}/{self}.pack")
    }

    /// The name out of a path, or the last part of one.
    pub fn of_path(path: &str) -> Option<PackName> {
        let (name, salt) = path.rsplit('/').next()?.strip_suffix(".pack")?.split_once('-')?;
        if salt.len() != 8 || name.len() != 64 {
            return None;
        }
        Some(PackName { name: Digest::from_hex(name)?, salt: u32::from_str_radix(salt, 16).ok()? })
    }
}

impl fmt::Display for PackName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}-{:08x}", self.name.hex(), self.salt)
    }
}

/// A project as paths name it: its name may be any text.
pub fn project_key(name: &str) -> String {
    Digest::of(name.as_bytes()).hex()[..16].to_string()
}

/// The level in a path of a pack of documents.
pub(crate) fn level_of(path: &str) -> Option<u32> {
    path.split('/').nth(2)?.parse().ok().filter(|level| *level < 100)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_read_out_of_paths_and_others_are_none() {
        let name = PackName { name: Digest::of(b"x"), salt: 0x0a };
        assert_eq!(PackName::of_path(&name.content_path()), Some(name));
        assert_eq!(PackName::of_path(&name.documents_path("ab", 2)), Some(name));
        assert_eq!(level_of(&name.documents_path("ab", 2)), Some(2));
        let hex = name.name.hex();
        for bad in
            ["", "x.pack", "content/aa/.pack", &format!("{hex}.pack"), &format!("{hex}-1.pack"), &format!("{hex}-0000000g.pack")]
        {
            assert_eq!(PackName::of_path(bad), None, "{bad}");
        }
    }
}
