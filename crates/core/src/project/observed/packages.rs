//! Whose a file in an interpreter's folders is: a distribution's, the interpreter's own, nobody's.

use std::collections::{HashMap, HashSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use crate::project::fingerprint::{distribution, normal_name};

/// What an interpreter's file belongs to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) enum Owner {
    /// A package, by name and version; the version is not always told.
    Package(String, Option<String>),
    /// An interpreter, by name.
    Interpreter(String),
}

/// The distributions installed in folders, as far as they were asked for.
#[derive(Default)]
pub(super) struct Packages {
    folders: HashMap<PathBuf, Arc<Installed>>,
}

/// The distributions in one folder.
#[derive(Default)]
struct Installed {
    /// Names and versions.
    all: Vec<(String, String)>,
    /// The folder with the metadata of each, by name.
    metadata: HashMap<String, String>,
    /// By the first part of the paths of their files: most parts are of one only.
    by_first: HashMap<String, Vec<usize>>,
    /// By whole path, of the parts that several share.
    by_path: HashMap<String, usize>,
}

/// A path cut in two: up to a folder of one of these names, and below it.
fn split_at<'p>(path: &'p Path, names: &[&str]) -> Option<(PathBuf, &'p Path)> {
    let folder = path.ancestors().skip(1).find(|a| a.file_name().is_some_and(|n| names.iter().any(|name| n == *name)))?;
    Some((folder.to_path_buf(), path.strip_prefix(folder).ok()?))
}

/// The folder of an interpreter's standard library that a path lies in, such as `…/lib/python3.11`.
pub(super) fn library_of(path: &Path) -> Option<PathBuf> {
    let is_library = |folder: &&Path| {
        let name = folder.file_name().and_then(|n| n.to_str()).unwrap_or_default();
        let version = name.strip_prefix("python").or(name.strip_prefix("pypy")).unwrap_or_default();
        version.starts_with(|c: char| c.is_ascii_digit())
            && version.contains('.')
            && folder.parent().and_then(Path::file_name).is_some_and(|lib| lib == "lib" || lib == "lib64")
    };
    path.ancestors().skip(1).find(is_library).map(Path::to_path_buf)
}

/// The folder that packages of Python are installed in, that a path lies in.
pub(super) fn installed_in(path: &Path) -> Option<PathBuf> {
    split_at(path, &["site-packages", "dist-packages"]).map(|(folder, _)| folder)
}

impl Packages {
    /// Whose a file is; `None` for one that belongs to no package and no interpreter.
    pub(super) fn owner(&mut self, path: &Path) -> Option<Owner> {
        if let Some((folder, below)) = split_at(path, &["site-packages", "dist-packages"]) {
            let installed = self.installed(&folder);
            let (name, version) = installed.owner(below)?;
            return Some(Owner::Package(name, Some(version).filter(|version| !version.is_empty())));
        }
        if let Some(library) = library_of(path) {
            return Some(Owner::Interpreter(library.file_name()?.to_str()?.to_string()));
        }
        if let Some((_, below)) = split_at(path, &["node_modules"]) {
            let mut parts = below.iter().filter_map(|p| p.to_str());
            let first = parts.next()?;
            let name = if first.starts_with('@') { format!("{first}/{}", parts.next()?) } else { first.to_string() };
            return Some(Owner::Package(format!("node {name}"), None));
        }
        // R keeps each package in a folder of its library.
        let (folder, below) = split_at(path, &["library", "site-library"])?;
        let is_of_r = folder.iter().any(|part| part == "R" || part.to_str().is_some_and(|p| p.starts_with("R-")));
        let name = below.iter().next()?.to_str()?.to_string();
        (is_of_r && folder.join(&name).join("DESCRIPTION").is_file()).then(|| Owner::Package(format!("R {name}"), None))
    }

    fn installed(&mut self, folder: &Path) -> Arc<Installed> {
        self.folders.entry(folder.to_path_buf()).or_insert_with(|| Arc::new(Installed::read(folder))).clone()
    }

    /// The folder that a distribution is installed in, by one of its files, and the paths in it that its `RECORD` names and
    /// that are there, without compiled ones.
    pub(super) fn installed_files(&mut self, file: &Path, name: &str) -> Option<(PathBuf, Vec<String>)> {
        let (folder, _) = split_at(file, &["site-packages", "dist-packages"])?;
        let installed = self.installed(&folder);
        let metadata = installed.metadata.get(name)?;
        let record = fs::read_to_string(folder.join(metadata).join("RECORD")).ok()?;
        let inside = |path: &&str| !path.starts_with("../") && !path.starts_with('/') && !path.ends_with(".pyc");
        let paths = recorded_paths(&record).filter(inside).filter(|p| folder.join(p).is_file());
        Some((folder.clone(), paths.map(str::to_string).collect()))
    }

    /// The version of a distribution now, in the folder that a file of it lies in.
    pub(super) fn version_now(&mut self, file: &Path, name: &str) -> Option<String> {
        let (folder, _) = split_at(file, &["site-packages", "dist-packages"])?;
        self.installed(&folder).all.iter().find(|(n, _)| n == name).map(|(_, version)| version.clone())
    }
}

/// The paths in a `RECORD` (the specification of recording installed distributions, PEP 376 and 627), as far as they
/// lie in the folder itself.
fn recorded_paths(record: &str) -> impl Iterator<Item = &str> {
    let mut rest = record;
    let until = |text: &str, byte| memchr::memchr(byte, text.as_bytes()).unwrap_or(text.len());
    std::iter::from_fn(move || {
        if rest.is_empty() {
            return None;
        }
        let (line, after) = rest.split_at(until(rest, b'\n'));
        rest = after.get(1..).unwrap_or_default();
        Some(match line.strip_prefix('"') {
            Some(quoted) => &quoted[..until(quoted, b'"')],
            None => line[..until(line, b',')].trim_end_matches('\r'),
        })
    })
}

/// The first part of each of some paths, told once for paths of one folder that stand together.
fn first_parts<'p>(paths: impl Iterator<Item = &'p str>) -> impl Iterator<Item = (&'p str, Option<&'p str>)> {
    let mut last: Option<&str> = None;
    paths.map(move |path| {
        let is_beside = |last: &str| path.as_bytes().get(last.len()) == Some(&b'/') && path.as_bytes().starts_with(last.as_bytes());
        if last.is_some_and(is_beside) {
            return (path, None);
        }
        last = Some(&path[..memchr::memchr(b'/', path.as_bytes()).unwrap_or(path.len())]);
        (path, last)
    })
}

impl Installed {
    fn read(folder: &Path) -> Installed {
        let mut found = Installed::default();
        let mut records = Vec::new();
        for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
            let name = entry.file_name();
            let Some(name) = name.to_str() else { continue };
            let Some((project, version)) = described(name) else { continue };
            let version = version.map(str::to_string).or_else(|| distribution(&entry.path()).map(|(_, version)| version));
            let number = found.all.len();
            let normal = normal_name(project);
            found.metadata.insert(normal.clone(), name.to_string());
            found.all.push((normal, version.unwrap_or_default()));
            found.by_first.entry(name.to_string()).or_default().push(number);
            let Ok(record) = fs::read_to_string(entry.path().join("RECORD")) else {
                // An older form names the modules alone.
                let modules = fs::read_to_string(entry.path().join("top_level.txt")).unwrap_or_default();
                for module in modules.lines().filter(|module| !module.is_empty()) {
                    found.by_first.entry(module.to_string()).or_default().push(number);
                }
                continue;
            };
            // What lies outside of the folder is asked for nowhere.
            for first in first_parts(recorded_paths(&record)).filter_map(|(_, first)| first).filter(|first| *first != "..") {
                let owners = found.by_first.entry(first.to_string()).or_default();
                if owners.last() != Some(&number) {
                    owners.push(number);
                }
            }
            records.push((number, record));
        }
        let shared: HashSet<usize> = found.by_first.values().filter(|by| by.len() > 1).flatten().copied().collect();
        for (number, record) in records.iter().filter(|(number, _)| shared.contains(number)) {
            let mut is_shared = false;
            for (path, first) in first_parts(recorded_paths(record)) {
                is_shared = first.map_or(is_shared, |f| found.by_first.get(f).is_some_and(|by| by.len() > 1));
                if is_shared {
                    found.by_path.insert(path.to_string(), *number);
                }
            }
        }
        found
    }

    fn owner(&self, below: &Path) -> Option<(String, String)> {
        let first = below.iter().next()?.to_str()?;
        // A module that is one file is named without what its name ends in.
        let owners = self.by_first.get(first).or_else(|| self.by_first.get(first.split('.').next()?))?;
        let number = match owners[..] {
            [one] => one,
            _ => *self.by_path.get(below.to_str()?).or(owners.first())?,
        };
        self.all.get(number).cloned()
    }
}

/// Whether a path is of the description of a distribution (`numpy-2.1.0.dist-info/METADATA`), not of what it does.
pub(super) fn is_metadata(path: &str) -> bool {
    path.split('/').any(|part| part.ends_with(".dist-info") || part.ends_with(".egg-info"))
}

/// The name and version in the name of a folder or file that describes a distribution: `.dist-info` (the specification of
/// recording installed distributions), or the older `.egg-info`, which may end in a version of Python and lack its own.
fn described(name: &str) -> Option<(&str, Option<&str>)> {
    if let Some(name) = name.strip_suffix(".dist-info") {
        return name.split_once('-').map(|(project, version)| (project, Some(version)));
    }
    let name = name.strip_suffix(".egg-info")?;
    let Some((project, version)) = name.split_once('-') else { return Some((name, None)) };
    let plain = version.split("-py").next().filter(|version| version.starts_with(|c: char| c.is_ascii_digit()));
    Some((project, plain))
}

/// The file of a distribution's description that is now where one of another version was: the folder bears the version.
pub(super) fn metadata_now(path: &Path, name: &str) -> Option<PathBuf> {
    let folder = path.ancestors().find(|a| a.extension().is_some_and(|e| e == "dist-info" || e == "egg-info"))?;
    let below = path.strip_prefix(folder).ok()?;
    let installed = folder.parent()?;
    let entries = fs::read_dir(installed).ok()?.flatten();
    let is_it = |found: &str| described(found).is_some_and(|(project, _)| normal_name(project) == name);
    let now = entries.into_iter().find(|e| e.file_name().to_str().is_some_and(is_it))?;
    Some(now.path().join(below))
}

/// The source that a compiled Python file stands for, if it is there.
pub(super) fn source_of(path: &Path) -> Option<PathBuf> {
    let name = path.file_name()?.to_str()?.strip_suffix(".pyc")?;
    let folder = path.parent()?;
    let source = match folder.file_name()? == "__pycache__" {
        true => folder.parent()?.join(format!("{}.py", name.split('.').next()?)),
        false => folder.join(format!("{name}.py")),
    };
    source.is_file().then_some(source)
}

/// The first part of the name of the module that a file is, if it is one: what `import` looks for in a folder.
pub(super) fn module_of(path: &Path) -> Option<String> {
    let name = path.file_name()?.to_str()?;
    if !(name.ends_with(".py") || name.ends_with(".so") || name.ends_with(".pyc")) {
        return None;
    }
    let stem = |text: &str| text.split('.').next().map(str::to_string);
    let below = split_at(path, &["site-packages", "dist-packages", "lib-dynload"]).map(|(_, below)| below);
    let below = below.or_else(|| library_of(path).and_then(|library| path.strip_prefix(library).ok()));
    if let Some(below) = below {
        return stem(below.iter().next()?.to_str()?);
    }
    // A package of the project: the topmost folder that is one.
    let mut top = None;
    for folder in path.ancestors().skip(1).take_while(|f| f.join("__init__.py").is_file()) {
        top = folder.file_name().and_then(|n| n.to_str()).map(str::to_string);
    }
    top.or_else(|| stem(name))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn put(folder: &Path, path: &str, text: &str) {
        let full = folder.join(path);
        fs::create_dir_all(full.parent().unwrap()).unwrap();
        fs::write(full, text).unwrap();
    }

    #[test]
    fn a_file_belongs_to_the_distribution_that_recorded_it() {
        let tree = tempfile::tempdir().unwrap();
        let site = tree.path().join("lib/python3.11/site-packages");
        put(
            &site,
            "Loom_Kit-2.1.dist-info/RECORD",
            "loom_kit/__init__.py,sha256=x,1\nloom_kit/a.py,,\n../../../bin/loom,,\nshared/one.py,,\n",
        );
        put(
            &site,
            "weft-0.3.dist-info/RECORD",
            "weft.py,,\r\n\"shared/two, more.py\",,\r\nshared,,\nsharedbeside/x.py,,\nshared/three.py",
        );
        put(&site, "Heddle-1.0-py3.11.egg-info/top_level.txt", "heddle\n_reed\n");
        put(&site, "treadle.egg-info", "Name: treadle\nVersion: 7\n\n");
        let mut packages = Packages::default();
        let mut whose = |path: &str| packages.owner(&site.join(path));
        let package = |name: &str, version: &str| Some(Owner::Package(name.into(), Some(version.into())));
        assert_eq!(whose("loom_kit/deep/b.so"), package("loom-kit", "2.1"));
        assert_eq!(whose("weft.py"), package("weft", "0.3"));
        assert_eq!(whose("shared/one.py"), package("loom-kit", "2.1"));
        assert_eq!(whose("shared/two, more.py"), package("weft", "0.3"));
        assert_eq!(whose("weft-0.3.dist-info/METADATA"), package("weft", "0.3"));
        assert_eq!(whose("shared/three.py"), package("weft", "0.3"));
        assert_eq!(whose("sharedbeside/x.py"), package("weft", "0.3"));
        assert_eq!(whose("heddle/deep/x.py"), package("heddle", "1.0"));
        assert_eq!(whose("_reed.cpython-311-x86_64-linux-gnu.so"), package("heddle", "1.0"));
        assert_eq!(whose("treadle.egg-info"), package("treadle", "7"));
        assert_eq!(whose("sitecustomize.py"), None);
        assert_eq!(
            packages.owner(&tree.path().join("lib/python3.11/json/decoder.py")),
            Some(Owner::Interpreter("python3.11".into()))
        );
        assert_eq!(
            packages.owner(&tree.path().join("app/node_modules/@shed/warp/i.js")),
            Some(Owner::Package("node @shed/warp".into(), None))
        );
        assert_eq!(packages.owner(Path::new("/work/shed/library/x.csv")), None);
        assert_eq!(packages.version_now(&site.join("weft.py"), "weft"), Some("0.3".into()));
    }

    #[test]
    fn modules_are_named_as_they_are_imported() {
        let tree = tempfile::tempdir().unwrap();
        put(tree.path(), "shed/__init__.py", "");
        put(tree.path(), "shed/looms/__init__.py", "");
        put(tree.path(), "shed/looms/stop.py", "");
        put(tree.path(), "units.py", "");
        let module = |path: &str| module_of(&tree.path().join(path));
        assert_eq!(module("shed/looms/stop.py").as_deref(), Some("shed"));
        assert_eq!(module("units.py").as_deref(), Some("units"));
        assert_eq!(module("lib/python3.11/json/decoder.py").as_deref(), Some("json"));
        assert_eq!(module("lib/python3.11/lib-dynload/_bisect.cpython-311-x86_64-linux-gnu.so").as_deref(), Some("_bisect"));
        assert_eq!(module("lib/python3.11/site-packages/numpy/core/x.py").as_deref(), Some("numpy"));
        assert_eq!(module("data.csv"), None);
        assert_eq!(source_of(&tree.path().join("__pycache__/units.cpython-311.pyc")), Some(tree.path().join("units.py")));
        assert_eq!(source_of(&tree.path().join("__pycache__/gone.cpython-311.pyc")), None);
    }
}
