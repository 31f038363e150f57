//! What a path on the disk is to a stage: the project's, the home folder's, the system's, a package's.

use std::path::{Path, PathBuf};

use textum_observe::{from_text, to_text};

/// Folders of the system: what its packages install. `/usr/local` is everybody's own.
const SYSTEM: [&str; 12] =
    ["/usr", "/lib", "/lib32", "/lib64", "/libx32", "/bin", "/sbin", "/etc", "/nix/store", "/gnu/store", "/var/lib", "/snap"];

/// Where a path leads.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Area {
    /// Below the folder that the stage works in.
    Project,
    /// Of the system.
    System,
    /// Anywhere else.
    Elsewhere,
}

/// Names paths as documents do, and finds them again.
#[derive(Clone, Debug)]
pub struct Places {
    /// The folder that project paths are relative to, as it is named and as it really is.
    roots: Vec<PathBuf>,
    home: Option<PathBuf>,
}

impl Places {
    /// Places seen from a folder, with this home folder.
    pub fn new(root: &Path, variables: &[(String, String)]) -> Places {
        let whole = std::path::absolute(root).unwrap_or_else(|_| root.to_path_buf());
        let real = std::fs::canonicalize(&whole).ok().filter(|real| *real != whole);
        let home = variables.iter().find(|(name, _)| name == "HOME").map(|(_, value)| PathBuf::from(value));
        Places {
            roots: std::iter::once(whole).chain(real).collect(),
            home: home.filter(|h| h.is_absolute() && h.parent().is_some()),
        }
    }

    /// The path as documents name it, and what it is; nothing for the root itself and what is above it.
    pub(super) fn name(&self, observed: &str) -> Option<(String, Area)> {
        let path = from_text(observed);
        if self.roots.iter().any(|root| root.starts_with(&path)) {
            return None;
        }
        let text = |path: &Path| to_text(std::os::unix::ffi::OsStrExt::as_bytes(path.as_os_str()));
        if let Some(below) = self.roots.iter().find_map(|root| path.strip_prefix(root).ok()) {
            return Some((text(below), Area::Project));
        }
        let system = !path.starts_with("/usr/local") && SYSTEM.iter().any(|folder| path.starts_with(folder));
        if let (Some(below), false) = (self.home.as_ref().and_then(|home| path.strip_prefix(home).ok()), system) {
            // The home folder itself has a name too.
            let below = if below.as_os_str().is_empty() { Path::new(".") } else { below };
            return Some((format!("~/{}", text(below)), Area::Elsewhere));
        }
        Some((observed.to_string(), if system { Area::System } else { Area::Elsewhere }))
    }

    /// The name of a path that is neither the project's nor the system's.
    pub fn name_elsewhere(&self, observed: &str) -> Option<String> {
        self.name(observed).filter(|(_, area)| *area == Area::Elsewhere).map(|(name, _)| name)
    }

    /// Whether a path lies below the folder.
    pub(super) fn holds(&self, path: &Path) -> bool {
        self.roots.iter().any(|root| path.starts_with(root))
    }

    /// Where a path of a document lies.
    pub fn path(&self, name: &str) -> PathBuf {
        match (name.strip_prefix("~/"), &self.home) {
            (Some(below), Some(home)) => home.join(from_text(below)),
            _ => self.roots[0].join(from_text(name)),
        }
    }
}

/// Whether a path of a document is one of the project.
pub(super) fn is_of_project(name: &str) -> bool {
    !name.starts_with('/') && !name.starts_with("~/")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_named_by_where_they_lie_and_found_again() {
        let places = Places::new(Path::new("/work/shed"), &[("HOME".into(), "/home/ada".into())]);
        for (path, name, area) in [
            ("/work/shed/lib/units.py", "lib/units.py", Area::Project),
            ("/home/ada/looms.cfg", "~/looms.cfg", Area::Elsewhere),
            ("/home/ada/.", "~/.", Area::Elsewhere),
            ("/usr/bin/sort", "/usr/bin/sort", Area::System),
            ("/usr/local/bin/weave", "/usr/local/bin/weave", Area::Elsewhere),
            ("/mnt/share/x\\xff", "/mnt/share/x\\xff", Area::Elsewhere),
        ] {
            assert_eq!(places.name(path), Some((name.to_string(), area)));
            assert_eq!(to_text(places.path(name).as_os_str().as_encoded_bytes()), path);
        }
        assert_eq!(places.name("/work/shed"), None);
        assert_eq!(places.name("/work"), None);
        assert_eq!(places.name("/"), None);
    }
}
