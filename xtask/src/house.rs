//! The rooms of the house, in the order in which data flows through them, and who may know whom.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};

/// A crate, or a folder of the core. A room may know those before it that it names, or any when it names none.
pub struct Room {
    pub name: &'static str,
    /// Its folder, from the top of the checkout.
    pub folder: &'static str,
    may_know: &'static [&'static str],
}

const fn room(name: &'static str, folder: &'static str, may_know: &'static [&'static str]) -> Room {
    Room { name, folder, may_know }
}

/// Data flows downwards: no room knows one that stands after it.
pub const ROOMS: &[Room] = &[
    room("base", "crates/base/src", &[]),
    room("store", "crates/store/src", &["base"]),
    room("expr", "crates/expr/src", &["base"]),
    room("picture", "crates/picture/src", &["base"]),
    room("table", "crates/table/src", &["base", "expr", "picture"]),
    room("observe", "crates/observe/src", &["base"]),
    room("figure", "crates/figure/src", &["base"]),
    room("depot", "crates/depot/src", &["base", "store"]),
    room("registry", "crates/registry/src", &["base", "depot"]),
    room("config", "crates/core/src/config", &["base", "table", "expr", "depot", "registry"]),
    room("record", "crates/core/src/record", &["base", "store", "table", "registry", "config"]),
    room("event", "crates/core/src/event", &["base", "record"]),
    room("project", "crates/core/src/project", &["base", "store", "observe", "depot", "config", "record", "event"]),
    room("data", "crates/core/src/data", &["base", "store", "picture", "table", "config", "record", "event", "project"]),
    room(
        "pipeline",
        "crates/core/src/pipeline",
        &["base", "store", "table", "expr", "observe", "figure", "config", "record", "event", "project", "data"],
    ),
    room(
        "inspect",
        "crates/core/src/inspect",
        &["base", "store", "table", "registry", "config", "record", "event", "project", "data", "pipeline"],
    ),
    room(
        "maintain",
        "crates/core/src/maintain",
        &["base", "store", "observe", "config", "record", "event", "project", "data", "pipeline", "inspect"],
    ),
    room(
        "share",
        "crates/core/src/share",
        &["base", "store", "depot", "config", "record", "event", "project", "data", "pipeline", "inspect", "maintain"],
    ),
    room(
        "publish",
        "crates/core/src/publish",
        &[
            "base", "store", "table", "expr", "depot", "registry", "config", "record", "event", "project", "data", "pipeline",
            "inspect", "maintain", "share",
        ],
    ),
    room(
        "erase",
        "crates/core/src/erase",
        &[
            "base", "store", "table", "depot", "registry", "config", "record", "project", "data", "pipeline", "maintain", "share",
            "publish",
        ],
    ),
    room("cli", "crates/cli/src", &[]),
];

/// The word by which code names a room, found at the start of a path.
fn named(word: &str) -> Option<&'static str> {
    let word = word.strip_prefix("textum_").unwrap_or(if word == "fsio" { "base" } else { word });
    ROOMS.iter().map(|r| r.name).find(|name| *name == word)
}

/// The Rust files below a folder.
pub fn sources(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    let mut todo = vec![folder.to_path_buf()];
    while let Some(at) = todo.pop() {
        for entry in fs::read_dir(&at).into_iter().flatten().flatten() {
            let path = entry.path();
            if path.is_dir() {
                todo.push(path);
            } else if path.extension().is_some_and(|e| e == "rs") {
                found.push(path);
            }
        }
    }
    found.sort();
    found
}

/// The rooms that a line of code of `own` names. Comments do not count.
fn known_by(line: &str, own: &str) -> BTreeSet<&'static str> {
    let code = line.split("//").next().unwrap_or_default();
    let mut found = BTreeSet::new();
    for (at, _) in code.match_indices("::") {
        let before = &code[..at];
        let start = before.rfind(|c: char| !c.is_ascii_alphanumeric() && c != '_').map_or(0, |i| i + 1);
        let word = &before[start..];
        let after: String = code[at + 2..].chars().take_while(|c| c.is_ascii_alphanumeric() || *c == '_').collect();
        let is_ours = word.starts_with("textum_") && word != "textum_core" && word != "textum_testkit";
        let room = match word {
            "crate" | "textum_core" => named(&after),
            word if is_ours => named(word),
            _ => None,
        };
        found.extend(room.filter(|name| *name != own));
    }
    found
}

/// Who knows whom, and the lines that go against the direction of the house.
pub fn look(top: &Path) -> (BTreeMap<&'static str, BTreeSet<&'static str>>, Vec<String>) {
    let mut knows: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    let mut against = Vec::new();
    for room in ROOMS {
        for file in sources(&top.join(room.folder)) {
            let text = fs::read_to_string(&file).unwrap_or_default();
            for (number, line) in text.lines().enumerate() {
                for other in known_by(line, room.name) {
                    knows.entry(room.name).or_default().insert(other);
                    if room.name != "cli" && !room.may_know.contains(&other) {
                        let place = file.strip_prefix(top).unwrap_or(&file).display();
                        against.push(format!("{place}:{}: `{}` may not know `{other}`", number + 1, room.name));
                    }
                }
            }
        }
    }
    (knows, against)
}

/// The picture: a row for each room, a column for each that it may look up to.
pub fn picture(knows: &BTreeMap<&'static str, BTreeSet<&'static str>>) -> String {
    let mut text = String::new();
    for (number, room) in ROOMS.iter().enumerate() {
        text.push_str(&format!("{:<9}", room.name));
        for other in &ROOMS[..number] {
            let known = knows.get(room.name).is_some_and(|k| k.contains(other.name));
            text.push_str(if known { " ●" } else { " ·" });
        }
        text.push_str(&format!(" ╲ {}\n", room.name));
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_names_the_rooms_that_it_imports() {
        let known = |line: &str| known_by(line, "data").into_iter().collect::<Vec<_>>();
        assert_eq!(known("use crate::pipeline::exec::run;"), ["pipeline"]);
        assert_eq!(known("use textum_store::{Digest, Store};"), ["store"]);
        assert_eq!(known("    let x = textum_core::maintain::verify::verify(); // crate::project::x"), ["maintain"]);
        assert_eq!(known("use crate::fsio::IoError;"), ["base"]);
        assert_eq!(known("use crate::data::version; use super::pipeline::x; std::store::y"), Vec::<&str>::new());
    }

    #[test]
    fn no_room_may_know_one_that_comes_after_it() {
        for (number, room) in ROOMS.iter().enumerate() {
            let before: Vec<&str> = ROOMS[..number].iter().map(|r| r.name).collect();
            assert!(room.may_know.iter().all(|name| before.contains(name)), "{}", room.name);
        }
    }

    #[test]
    fn what_goes_against_the_direction_is_found() {
        let top = std::env::temp_dir().join(format!("textum-house-{}", std::process::id()));
        let folder = top.join("crates/core/src/config");
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join("bad.rs"), "//! crate::maintain::x is fine in a comment\nuse crate::pipeline::plan::Plan;\n")
            .unwrap();
        let (knows, against) = look(&top);
        fs::remove_dir_all(&top).unwrap();
        assert_eq!(against, ["crates/core/src/config/bad.rs:2: `config` may not know `pipeline`"]);
        assert!(knows["config"].contains("pipeline"));
    }
}
