//! What is installed in a virtual environment, read from its files: nothing of it is started.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use super::environment::normal_name;
use crate::record::receipt::PythonRecord;

/// The virtual environment that an interpreter belongs to, by the file beside its `bin`.
fn environment_of(executable: &Path) -> Option<PathBuf> {
    let folder = executable.parent()?.parent()?;
    folder.join("pyvenv.cfg").is_file().then(|| folder.to_path_buf())
}

fn settings(folder: &Path) -> Option<BTreeMap<String, String>> {
    let text = fs::read_to_string(folder.join("pyvenv.cfg")).ok()?;
    let pairs = text.lines().filter_map(|l| l.split_once('='));
    Some(pairs.map(|(k, v)| (k.trim().to_lowercase(), v.trim().to_string())).collect())
}

/// The folders in which packages of the environment are installed.
fn package_folders(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for lib in ["lib", "lib64"] {
        // `lib64` is mostly a link to `lib`, which would be counted twice.
        let lib = folder.join(lib);
        if lib.is_symlink() {
            continue;
        }
        for entry in fs::read_dir(lib).into_iter().flatten().flatten() {
            let packages = entry.path().join("site-packages");
            if packages.is_dir() {
                found.push(packages);
            }
        }
    }
    found
}

/// Name and version of an installed distribution, from its metadata (Core metadata, PEP 566): a folder, or in the oldest form
/// a file.
pub fn distribution(metadata: &Path) -> Option<(String, String)> {
    let files = [metadata.join("METADATA"), metadata.join("PKG-INFO"), metadata.to_path_buf()];
    let text = files.iter().find_map(|file| fs::read_to_string(file).ok())?;
    let head = || text.lines().take_while(|l| !l.is_empty());
    let field = |name: &str| head().find_map(|l| l.strip_prefix(name)?.strip_prefix(':')).map(|v| v.trim().to_string());
    Some((normal_name(&field("Name")?), field("Version")?))
}

/// What an interpreter of a virtual environment is and has installed; `None` when its files do not say all of it:
/// it is no such environment, or one that sees the packages of the system too.
pub fn read_environment(command: &str, executable: &Path) -> Option<PythonRecord> {
    let folder = environment_of(executable)?;
    let settings = settings(&folder)?;
    if settings.get("include-system-site-packages").is_some_and(|v| v.eq_ignore_ascii_case("true")) {
        return None;
    }
    let version = settings.get("version").or(settings.get("version_info"))?;
    // Later forms add `.final.0`.
    let version: Vec<&str> = version.split('.').take(3).collect();
    let implementation = settings.get("implementation").map_or("CPython", String::as_str);
    let mut packages = BTreeMap::new();
    for folder in package_folders(&folder) {
        for entry in fs::read_dir(folder).ok()?.flatten() {
            let name = entry.file_name().to_string_lossy().into_owned();
            if (name.ends_with(".dist-info") || name.ends_with(".egg-info"))
                && let Some((name, version)) = distribution(&entry.path())
            {
                packages.entry(name).or_insert(version);
            }
        }
    }
    Some(PythonRecord {
        command: command.to_string(),
        executable: executable.display().to_string(),
        version: format!("{implementation} {}", version.join(".")),
        packages,
    })
}
