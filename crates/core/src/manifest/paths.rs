//! Paths as the manifest writes them: relative to the project, with `/`, never out of it.

/// A path below the project.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct ProjectPath {
    /// The parts with single `/` between, none at the ends.
    pub path: String,
    /// Whether it was written with a `/` at the end: a folder is meant.
    pub folder: bool,
}

/// Why a text is no path below the project: what is said beside it, and the mend.
pub struct PathFault {
    /// What is wrong, after "this path ".
    pub label: &'static str,
    /// What to write instead.
    pub help: &'static str,
}

/// Reads a path of the manifest.
pub fn project_path(text: &str) -> Result<ProjectPath, PathFault> {
    let fault = |label, help| Err(PathFault { label, help });
    if text.is_empty() {
        return fault("is empty", "write a path relative to the project");
    }
    if text.starts_with('/') || text.starts_with('~') {
        return fault("is not relative", "write a path relative to the folder of textum.toml; other files cannot be traced");
    }
    let mut parts: Vec<&str> = Vec::new();
    for part in text.split('/') {
        match part {
            "" | "." => {}
            ".." if parts.pop().is_none() => {
                return fault("leaves the project", "move the file into the project, or a link's target below it");
            }
            ".." => {}
            other => parts.push(other),
        }
    }
    match parts.first() {
        None => fault("names the project itself", "name the files or folders in it that count"),
        Some(&".textum") => fault("lies in Textum's own folder", "choose a path outside .textum"),
        Some(_) => Ok(ProjectPath { path: parts.join("/"), folder: text.ends_with('/') }),
    }
}

/// Reads the path of a reference, which may also be absolute; it is then kept as it is, tidied.
pub fn reference_path(text: &str) -> Result<ProjectPath, PathFault> {
    let Some(rest) = text.strip_prefix('/') else { return project_path(text) };
    let parts: Vec<&str> = rest.split('/').filter(|p| !matches!(*p, "" | ".")).collect();
    if parts.contains(&"..") || parts.is_empty() {
        let help = "write the whole path without `..`, as in /mnt/looms/images";
        return Err(PathFault { label: "is no plain absolute path", help });
    }
    Ok(ProjectPath { path: format!("/{}", parts.join("/")), folder: text.ends_with('/') })
}

/// Whether `inner` is `outer` or lies in it.
pub fn is_within(inner: &str, outer: &str) -> bool {
    inner.strip_prefix(outer).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

/// Whether one of the two lies in the other, or they are the same.
pub fn overlap(a: &str, b: &str) -> bool {
    is_within(a, b) || is_within(b, a)
}

/// A number of bytes such as `500MiB`, `2GiB`, `1.5GB` or `1048576`.
pub fn parse_bytes(text: &str) -> Option<u64> {
    let digits = text.trim_end_matches(|c: char| c.is_ascii_alphabetic()).len();
    let number: f64 = text[..digits].trim().parse().ok()?;
    let unit: f64 = match text[digits..].to_ascii_lowercase().as_str() {
        "" | "b" => 1.0,
        "kb" => 1e3,
        "mb" => 1e6,
        "gb" => 1e9,
        "tb" => 1e12,
        "kib" | "k" => 1024.0,
        "mib" | "m" => 1024.0 * 1024.0,
        "gib" | "g" => 1024.0 * 1024.0 * 1024.0,
        "tib" | "t" => 1024.0 * 1024.0 * 1024.0 * 1024.0,
        _ => return None,
    };
    let bytes = number * unit;
    (0.0..1e18).contains(&bytes).then_some(bytes as u64)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_stay_in_the_project() {
        assert_eq!(project_path("./a//b/../c/").ok(), Some(ProjectPath { path: "a/c".into(), folder: true }));
        for bad in ["", ".", "a/..", "../a", "a/../../b", "/etc/passwd", "~/x", ".textum/store"] {
            assert!(project_path(bad).is_err(), "{bad}");
        }
        assert!(overlap("a/b", "a") && !overlap("a/bc", "a/b"));
        assert_eq!(parse_bytes("1.5GiB"), Some(1_610_612_736));
        assert_eq!(parse_bytes("lots"), None);
    }
}
