//! Paths in a project: made by a checked constructor only, so that no text out of a document can name a
//! place outside the project, in git's folder or in Textum's own.

use std::borrow::Borrow;
use std::fmt;
use std::ops::Deref;
use std::path::{Component, Path, PathBuf};

use serde::{Deserialize, Deserializer, Serialize, Serializer};

/// Why a text is no path in a project.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum PathFault {
    /// There is nothing in it.
    #[error("it is empty")]
    Empty,
    /// It begins at the root of the file system, or at somebody's home.
    #[error("it is not relative to the project")]
    NotRelative,
    /// It leads out of the project.
    #[error("it leaves the project")]
    Leaves,
    /// It names the project itself.
    #[error("it names the project itself")]
    Project,
    /// It has `.` or empty parts, or a `/` at the end, which paths in documents never have.
    #[error("it is not in its plain form")]
    NotPlain,
    /// It lies in a folder of git's or of Textum's own.
    #[error("it lies in a folder that belongs to git or to Textum")]
    Reserved,
    /// It holds a NUL byte.
    #[error("it holds a NUL byte")]
    Nul,
    /// Of a source outside the project: it is no plain absolute path.
    #[error("it is no plain absolute path")]
    NotAbsolute,
}

/// Folders that are never part of a project's content, whatever the file system makes of upper case.
const RESERVED: [&str; 2] = [".git", ".textum"];

fn is_reserved(part: &str) -> bool {
    RESERVED.iter().any(|name| part.eq_ignore_ascii_case(name))
}

/// Whether a text is relative, with single `/`, and without `.` and `..`.
fn plain(text: &str) -> Result<(), PathFault> {
    if text.is_empty() {
        return Err(PathFault::Empty);
    }
    if text.contains('\0') {
        return Err(PathFault::Nul);
    }
    if text.starts_with('/') {
        return Err(PathFault::NotRelative);
    }
    text.split('/').try_for_each(|part| match part {
        ".." => Err(PathFault::Leaves),
        "" | "." => Err(PathFault::NotPlain),
        _ => Ok(()),
    })
}

/// A file or folder below a project's folder: relative, with single `/`, without `.` and `..`, never empty,
/// and never in `.git` or `.textum`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ProjectPath(String);

impl ProjectPath {
    /// A path in its plain form, as documents have it.
    pub fn new(text: &str) -> Result<ProjectPath, PathFault> {
        plain(text)?;
        // A shell takes it for somebody's home.
        if text.starts_with('~') {
            return Err(PathFault::NotRelative);
        }
        if text.split('/').any(is_reserved) {
            return Err(PathFault::Reserved);
        }
        Ok(ProjectPath(text.to_string()))
    }

    /// A path as a person writes it: `./a//b/../c/` is `a/c`.
    pub fn tidied(text: &str) -> Result<ProjectPath, PathFault> {
        if text.is_empty() {
            return Err(PathFault::Empty);
        }
        if text.starts_with('/') || text.starts_with('~') {
            return Err(PathFault::NotRelative);
        }
        let mut parts: Vec<&str> = Vec::new();
        for part in text.split('/') {
            match part {
                "" | "." => {}
                ".." if parts.pop().is_none() => return Err(PathFault::Leaves),
                ".." => {}
                other => parts.push(other),
            }
        }
        if parts.is_empty() { Err(PathFault::Project) } else { ProjectPath::new(&parts.join("/")) }
    }

    /// A path in a folder's listing, relative to that folder. What people keep in a folder of theirs may be a
    /// repository too: here `.git` is a name like any other, and only ever below another folder.
    pub fn listed(text: &str) -> Result<ProjectPath, PathFault> {
        plain(text)?;
        Ok(ProjectPath(text.to_string()))
    }

    /// A path in this folder's listing, seen from the project.
    pub fn join(&self, listed: &str) -> Result<ProjectPath, PathFault> {
        plain(listed)?;
        Ok(ProjectPath(format!("{}/{listed}", self.0)))
    }

    /// This path with something at the end of its name.
    pub fn with_suffix(&self, suffix: u32) -> ProjectPath {
        ProjectPath(format!("{}.{suffix}", self.0))
    }

    /// As text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The folder that it lies in; none for one at the top of the project.
    pub fn parent(&self) -> Option<&str> {
        self.0.rsplit_once('/').map(|(folder, _)| folder)
    }
}

/// Where something that is read lies: in the project or, for a reference, at a plain absolute path.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct SourcePath(String);

impl SourcePath {
    /// A path in its plain form, as documents have it.
    pub fn new(text: &str) -> Result<SourcePath, PathFault> {
        let Some(rest) = text.strip_prefix('/') else { return ProjectPath::new(text).map(SourcePath::from) };
        if text.contains('\0') {
            return Err(PathFault::Nul);
        }
        let plain = rest.split('/').all(|part| !matches!(part, "" | "." | ".."));
        if plain { Ok(SourcePath(text.to_string())) } else { Err(PathFault::NotAbsolute) }
    }

    /// A path as a person writes it; an absolute one must do without `..`.
    pub fn tidied(text: &str) -> Result<SourcePath, PathFault> {
        let Some(rest) = text.strip_prefix('/') else { return ProjectPath::tidied(text).map(SourcePath::from) };
        let parts: Vec<&str> = rest.split('/').filter(|p| !matches!(*p, "" | ".")).collect();
        SourcePath::new(&format!("/{}", parts.join("/")))
    }

    /// The path in the project; none for an absolute one.
    pub fn in_project(&self) -> Option<ProjectPath> {
        (!self.is_absolute()).then(|| ProjectPath(self.0.clone()))
    }

    /// Whether it lies wherever it says, not in the project.
    pub fn is_absolute(&self) -> bool {
        self.0.starts_with('/')
    }

    /// As text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl From<ProjectPath> for SourcePath {
    fn from(path: ProjectPath) -> SourcePath {
        SourcePath(path.0)
    }
}

impl From<&ProjectPath> for SourcePath {
    fn from(path: &ProjectPath) -> SourcePath {
        SourcePath(path.0.clone())
    }
}

/// A path that a stage says it brings forth: with a `/` at the end, a folder is meant.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct DeclaredPath {
    /// The path.
    pub path: ProjectPath,
    /// Whether a folder is meant.
    pub folder: bool,
}

impl DeclaredPath {
    /// A path as a person writes it.
    pub fn tidied(text: &str) -> Result<DeclaredPath, PathFault> {
        Ok(DeclaredPath { path: ProjectPath::tidied(text)?, folder: text.ends_with('/') })
    }
}

impl fmt::Display for DeclaredPath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}{}", self.path, if self.folder { "/" } else { "" })
    }
}

impl Serialize for DeclaredPath {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for DeclaredPath {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<DeclaredPath, D::Error> {
        let text = String::deserialize(deserializer)?;
        let plain = text.strip_suffix('/').unwrap_or(&text);
        let path = ProjectPath::new(plain);
        let path = path.map_err(|fault| serde::de::Error::custom(format!("the path {text:?} is refused: {fault}")))?;
        Ok(DeclaredPath { path, folder: plain.len() != text.len() })
    }
}

macro_rules! text_of_a_path {
    ($name:ident) => {
        impl Deref for $name {
            type Target = str;
            fn deref(&self) -> &str {
                &self.0
            }
        }
        impl Borrow<str> for $name {
            fn borrow(&self) -> &str {
                &self.0
            }
        }
        impl AsRef<Path> for $name {
            fn as_ref(&self) -> &Path {
                Path::new(&self.0)
            }
        }
        impl AsRef<str> for $name {
            fn as_ref(&self) -> &str {
                &self.0
            }
        }
        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(&self.0)
            }
        }
        impl PartialEq<str> for $name {
            fn eq(&self, other: &str) -> bool {
                self.0 == other
            }
        }
        impl PartialEq<&str> for $name {
            fn eq(&self, other: &&str) -> bool {
                self.0 == *other
            }
        }
        impl PartialEq<String> for $name {
            fn eq(&self, other: &String) -> bool {
                self.0 == *other
            }
        }
        impl PartialEq<$name> for String {
            fn eq(&self, other: &$name) -> bool {
                *self == other.0
            }
        }
        impl Serialize for $name {
            fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
                serializer.serialize_str(&self.0)
            }
        }
        impl<'de> Deserialize<'de> for $name {
            fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<$name, D::Error> {
                let text = String::deserialize(deserializer)?;
                $name::new(&text).map_err(|fault| serde::de::Error::custom(format!("the path {text:?} is refused: {fault}")))
            }
        }
        impl From<$name> for String {
            fn from(path: $name) -> String {
                path.0
            }
        }
    };
}

text_of_a_path!(ProjectPath);
text_of_a_path!(SourcePath);

impl PartialEq<ProjectPath> for SourcePath {
    fn eq(&self, other: &ProjectPath) -> bool {
        self.0 == other.0
    }
}

impl PartialEq<SourcePath> for ProjectPath {
    fn eq(&self, other: &SourcePath) -> bool {
        self.0 == other.0
    }
}

/// A path without `.` and `..`, as far as that can be said without the disk.
pub fn without_dots(path: &Path) -> PathBuf {
    let mut out = PathBuf::new();
    for part in path.components() {
        match part {
            Component::CurDir => {}
            // Above its root a file system has nothing, above where a relative path begins there may be more.
            Component::ParentDir if out.has_root() || out.file_name().is_some_and(|name| name != "..") => drop(out.pop()),
            other => out.push(other),
        }
    }
    out
}

/// Whether `inner` is `outer` or lies in it.
pub fn is_within(inner: &str, outer: &str) -> bool {
    inner.strip_prefix(outer).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

/// Whether one of the two lies in the other, or they are the same.
pub fn overlap(a: &str, b: &str) -> bool {
    is_within(a, b) || is_within(b, a)
}

/// Whether a link in a folder, by its text alone, points into that folder. That it does so for real is for the
/// file system to say: another link on the way may lead elsewhere.
pub fn link_stays(link: &str, text: &str) -> bool {
    let mut depth = link.matches('/').count();
    !text.is_empty()
        && !text.starts_with('/')
        && text.split('/').all(|part| match part {
            "" | "." => true,
            ".." => {
                let inside = depth > 0;
                depth = depth.saturating_sub(1);
                inside
            }
            _ => {
                depth += 1;
                true
            }
        })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn dots_are_taken_out_as_far_as_the_path_itself_says() {
        for (from, to) in [
            ("/shed/../looms/./a", "/looms/a"),
            ("/../../a", "/a"),
            ("a/../../b", "../b"),
            ("../../b", "../../b"),
            ("a/..", ""),
            ("./a", "a"),
        ] {
            assert_eq!(without_dots(Path::new(from)), Path::new(to), "{from}");
        }
    }

    #[test]
    fn only_plain_paths_below_the_project_are_taken_out_of_documents() {
        use PathFault::*;
        for (text, fault) in [
            ("", Empty),
            ("/", NotRelative),
            ("/etc/passwd", NotRelative),
            ("..", Leaves),
            ("../x", Leaves),
            ("a/../../x", Leaves),
            ("a/..", Leaves),
            (".", NotPlain),
            ("./a", NotPlain),
            ("a/", NotPlain),
            ("a//b", NotPlain),
            (".git", Reserved),
            (".git/hooks/post-checkout", Reserved),
            (".GIT/config", Reserved),
            ("~/x", NotRelative),
            ("sub/.git/hooks/x", Reserved),
            (".textum/store", Reserved),
            ("a/.Textum", Reserved),
            ("a\0b", Nul),
        ] {
            assert_eq!(ProjectPath::new(text), Err(fault), "{text:?}");
            let json = serde_json::to_string(text).unwrap();
            assert!(serde_json::from_str::<ProjectPath>(&json).is_err(), "{text:?}");
        }
        for fine in ["a", "a/b", "..a", "a/...", ".gitignore", "a b\nc", "-rf"] {
            assert_eq!(ProjectPath::new(fine).unwrap(), fine);
        }
        assert_eq!(ProjectPath::tidied("./a//b/../c/").unwrap(), "a/c");
        for (text, fault) in [("a/..", Project), ("~/x", NotRelative), ("a/../../b", Leaves), (".git", Reserved)] {
            assert_eq!(ProjectPath::tidied(text), Err(fault), "{text:?}");
        }
        for bad in ["/", "/a/../b", "/a//b", "/a/", "../a", "/a\0"] {
            assert!(SourcePath::new(bad).is_err(), "{bad:?}");
        }
        assert_eq!(SourcePath::tidied("/mnt//looms/./images/").unwrap(), "/mnt/looms/images");
        assert!(SourcePath::new("/mnt/looms").unwrap().in_project().is_none());
    }

    proptest! {
        #[test]
        fn a_checked_path_joined_to_a_folder_stays_below_it(text in "[a./~\\\\\0-]{0,12}|(\\.\\.|a|\\.git|/){0,5}") {
            if let Ok(path) = ProjectPath::new(&text) {
                let full = Path::new("/project").join(&path);
                prop_assert!(full.starts_with("/project") && full != Path::new("/project"));
                prop_assert!(full.components().all(|c| c != std::path::Component::ParentDir));
                prop_assert_eq!(ProjectPath::tidied(&text).ok(), Some(path));
            }
        }
    }
}
