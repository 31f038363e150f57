//! What a sealed stage tried in vain, and what to write into the manifest.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};

use textum_base::is_within;
use textum_observe::{Refused, Try, from_text};

use super::task::Task;
use crate::project::observed::{Ignored, Settled, is_of_module};
use crate::record::receipt::ObservedFolder;

/// So many names of one kind are told.
const MOST: usize = 5;
/// So many files of one folder are told as the folder.
const AS_FOLDER: usize = 4;

/// Why a sealed stage did not succeed: what it tried in vain, in groups by what is to be done about them. Nothing where all
/// of it says nothing of the result, such as a cache that it could not write.
pub(super) fn refusal(task: &Task, refused: &[Refused], ignored: &Ignored) -> Option<String> {
    let project = Project::of(task);
    let (mut reads, mut by_whole_name, mut outside) = (BTreeSet::new(), BTreeSet::new(), BTreeSet::new());
    let (mut writes, mut addresses, mut channels) = (BTreeSet::new(), BTreeSet::new(), BTreeSet::new());
    for Refused { tried, name } in refused {
        match (tried, project.below(name)) {
            (Try::Connect, _) => drop(addresses.insert(name.clone())),
            (Try::Channel, _) => drop(channels.insert(name.clone())),
            (Try::Write, _) if ignored.covers(name) => {}
            (Try::Read, None) if ignored.covers(name) => {}
            (Try::Write, below) => drop(writes.insert(below.unwrap_or_else(|| name.clone()))),
            (Try::Read, Some(below)) if task.inputs.reads.keys().any(|read| is_within(&below, read)) => {
                by_whole_name.insert(below);
            }
            (Try::Read, Some(below)) => drop(reads.insert(below)),
            (Try::Read, None) => drop(outside.insert(name.clone())),
        }
    }
    let stage = &task.inputs.stage;
    let mut parts = Vec::new();
    if !reads.is_empty() {
        let named = grouped(&reads);
        let list = named.iter().take(MOST).map(|path| format!("{path:?}")).collect::<Vec<_>>().join(", ");
        parts.push(format!("{} (to allow it: reads = [{list}] in [stage.{stage}])", few(&named)));
    }
    if !by_whole_name.is_empty() {
        let named = grouped(&by_whole_name);
        parts.push(format!(
            "{} by an absolute path (a sealed stage has a folder of its own: use the path in the project)",
            few(&named)
        ));
    }
    if !outside.is_empty() {
        let named = grouped(&outside);
        let advice = match task.is_sent {
            true => "put it into the project and among the reads, or install it there".to_string(),
            false => match named.iter().find_map(|name| environment_around(name)) {
                Some(python) => format!("to allow it: [environment] python = {python:?}"),
                None => format!(
                    "to allow it: [data.NAME] path = {:?}, hold = \"reference\", and among the reads",
                    named[0].trim_end_matches('/')
                ),
            },
        };
        let there = if task.is_sent { " on the machine there" } else { "" };
        parts.push(format!("{}{there} ({advice})", few(&named)));
    }
    if !writes.is_empty() {
        let there = if task.is_sent { " on the machine there" } else { "" };
        let named = grouped(&writes);
        parts.push(format!(
            "to write {}{there} (let it write what it declares, or into $TMPDIR; if it does without: [observe] ignore = [{:?}])",
            few(&named),
            named[0]
        ));
    }
    if !addresses.is_empty() {
        parts.push(format!("{} (no connection is allowed)", few(&addresses.into_iter().collect::<Vec<_>>())));
    }
    if !channels.is_empty() {
        parts.push(format!("{} (nothing of other processes is allowed)", few(&channels.into_iter().collect::<Vec<_>>())));
    }
    (!parts.is_empty()).then(|| format!("it is sealed and tried in vain {}", parts.join("; ")))
}

/// The interpreter of the virtual environment that a path lies in (PEP 405).
fn environment_around(name: &str) -> Option<String> {
    let path = from_text(name);
    let folder = path.ancestors().find(|folder| folder.join("pyvenv.cfg").is_file())?;
    Some(folder.join("bin/python3").display().to_string())
}

/// What a sealed stage asked for or listed in its sandbox, that the project has and the stage does not declare: it went on
/// without, and might have come out otherwise with it.
pub(super) fn lacking_in_sandbox(task: &Task, settled: &Settled, missed: &[String], ignored: &Ignored) -> Vec<Refused> {
    let Some(project) = task.sandbox_of.as_ref().filter(|_| task.seal.is_some() && !task.is_rebuild) else {
        return Vec::new();
    };
    // What it made where the project has a file, it would have found.
    let missed: Vec<String> = missed.iter().chain(&settled.made).cloned().collect();
    let mut found: BTreeSet<String> = super::observing::lacking(project, &missed, &task.read_paths()).into_iter().collect();
    for folder in settled.inputs.listed.iter().filter(|f| !f.path.starts_with(['/', '~'])) {
        found.extend(unlisted(task, project, folder, &settled.inputs.modules, ignored));
    }
    let whole = |path: String| std::path::absolute(project.join(&path)).map_or(path, |whole| whole.display().to_string());
    found.into_iter().map(|path| Refused { tried: Try::Read, name: whole(path) }).collect()
}

/// Entries that a folder has in the project and had not in the sandbox.
fn unlisted(task: &Task, project: &Path, folder: &ObservedFolder, modules: &[String], ignored: &Ignored) -> Vec<String> {
    let entries = std::fs::read_dir(project.join(from_text(&folder.path))).into_iter().flatten().flatten();
    let names = entries.into_iter().filter_map(|entry| entry.file_name().to_str().map(str::to_string));
    let is_wanted = |name: &String| !folder.modules || is_of_module(name, |stem| modules.iter().any(|m| m == stem));
    let is_textums = |path: &str| matches!(path, textum_base::MANIFEST_NAME | textum_base::TREE_RECEIPT_NAME);
    let reads = task.read_paths();
    let leads_to = |path: &String| {
        let known = reads.iter().copied().chain(task.outputs());
        known.into_iter().any(|known| textum_base::overlap(known, path))
    };
    let below = |name: String| if folder.path.is_empty() { name } else { format!("{}/{name}", folder.path) };
    names.filter(is_wanted).map(below).filter(|path| !is_textums(path) && !ignored.covers(path) && !leads_to(path)).collect()
}

/// The folders that are the project's to a stage.
struct Project(Vec<PathBuf>);

impl Project {
    /// The project as it is named and as it really is, and the sandbox.
    fn of(task: &Task) -> Project {
        let whole = |path: &Path| std::path::absolute(path).ok().into_iter().chain(std::fs::canonicalize(path).ok());
        let sandbox = whole(task.scanner.root());
        Project(sandbox.chain(task.sandbox_of.iter().flat_map(|project| whole(project))).collect())
    }

    fn below(&self, name: &str) -> Option<String> {
        let path = from_text(name);
        self.0.iter().find_map(|root| path.strip_prefix(root).ok()).map(|below| below.display().to_string())
    }
}

/// Paths, with folders in place of many of their files.
fn grouped(paths: &BTreeSet<String>) -> Vec<String> {
    let mut by_folder: BTreeMap<&str, Vec<&String>> = BTreeMap::new();
    for path in paths {
        by_folder.entry(path.rsplit_once('/').map_or("", |(folder, _)| folder)).or_default().push(path);
    }
    let name = |(folder, files): (&str, Vec<&String>)| match files.len() >= AS_FOLDER && !folder.is_empty() {
        true => vec![format!("{folder}/")],
        false => files.into_iter().cloned().collect(),
    };
    by_folder.into_iter().flat_map(name).collect()
}

fn few(names: &[String]) -> String {
    let more = names.len().saturating_sub(MOST);
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    format!("{}{more}", names.iter().take(MOST).cloned().collect::<Vec<_>>().join(", "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn many_files_of_one_folder_are_told_as_the_folder() {
        let paths = ["a/1", "a/2", "a/3", "a/4", "b/1", "c"].map(String::from);
        assert_eq!(grouped(&paths.into_iter().collect()), ["c", "a/", "b/1"]);
        let names: Vec<String> = (0..7).map(|i| i.to_string()).collect();
        assert_eq!(few(&names), "0, 1, 2, 3, 4 and 2 more");
    }
}
