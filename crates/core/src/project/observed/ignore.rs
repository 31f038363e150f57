//! Files that do not count though they are read: what could not have changed a result.

use glob::{MatchOptions, Pattern};

/// Patterns of what never counts, and why.
pub const IGNORED: [(&str, &str); 17] = [
    ("/run/**", "sockets and state of running services"),
    ("/var/run/**", "sockets and state of running services"),
    ("/var/cache/**", "caches of the system"),
    ("/etc/ld.so.cache", "where libraries lie: those that were found are known"),
    ("/etc/ld.so.preload", "where libraries lie: those that were found are known"),
    ("/etc/passwd", "names of users"),
    ("/etc/group", "names of groups"),
    ("/etc/nsswitch.conf", "where names are looked up"),
    ("/etc/resolv.conf", "where names are looked up"),
    ("/etc/hosts", "where names are looked up"),
    ("~/.cache/fontconfig/**", "lists of fonts"),
    ("~/.cache/matplotlib/**", "lists of fonts"),
    ("~/.config/matplotlib/**/fontlist*", "lists of fonts"),
    ("~/.cache/pip/**", "downloads of an installer"),
    ("~/.cache/numba/**", "compiled kernels"),
    ("~/.triton/cache/**", "compiled kernels"),
    ("~/.nv/**", "compiled kernels"),
];

/// Parts of paths that never count, wherever they are.
const PARTS: [&str; 4] = ["__pycache__", ".git", ".textum", ".ipynb_checkpoints"];

/// All patterns of what does not count.
pub struct Ignored {
    /// Each with what it begins with, up to its first sign: most paths begin otherwise.
    patterns: Vec<(String, Pattern)>,
    /// So many of them are this program's own, and come first.
    own: usize,
}

const OPTIONS: MatchOptions =
    MatchOptions { case_sensitive: true, require_literal_separator: true, require_literal_leading_dot: false };

impl Ignored {
    /// Those that never count, and those of the manifest. One that cannot be read matches nothing: the manifest's
    /// have been checked.
    pub fn new(more: &[String]) -> Ignored {
        let all = IGNORED.iter().map(|(pattern, _)| *pattern).chain(more.iter().map(String::as_str));
        let beginning = |p: &str| p.split(['*', '?', '[']).next().unwrap_or_default().to_string();
        Ignored { patterns: all.filter_map(|p| Some((beginning(p), Pattern::new(p).ok()?))).collect(), own: IGNORED.len() }
    }

    /// Whether a path does not count because the manifest says so.
    pub fn covers_by_wish(&self, path: &str) -> bool {
        self.patterns.iter().skip(self.own).any(|(begins, p)| path.starts_with(begins.as_str()) && p.matches_with(path, OPTIONS))
    }

    /// Whether a path, as documents name it, does not count.
    pub fn covers(&self, path: &str) -> bool {
        path.split('/').any(|part| PARTS.contains(&part))
            || self.patterns.iter().any(|(begins, p)| path.starts_with(begins.as_str()) && p.matches_with(path, OPTIONS))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn patterns_cover_what_they_say() {
        let ignored = Ignored::new(&["scratch/*.tmp".into(), "~/notes/**".into()]);
        for yes in ["~/.nv/a/b", "scratch/x.tmp", "~/notes/a/b", "lib/__pycache__/x.pyc", ".git/HEAD", "/etc/hosts", "/run/x"] {
            assert!(ignored.covers(yes), "{yes}");
        }
        for no in ["scratch/a/x.tmp", "scratch/x.csv", "~/notes.txt", "/etc/hostsx", "git/x", "~/.cache/weights/model.bin"] {
            assert!(!ignored.covers(no), "{no}");
        }
    }
}
