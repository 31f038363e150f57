//! Datasets that are folders: any recorded state comes back from any other, to the last link and mode, and what
//! was never recorded is moved aside.

use std::collections::{BTreeMap, BTreeSet};
use std::os::unix::fs::{PermissionsExt, symlink};
use std::path::Path;

use proptest::prelude::*;
use textum_testkit::{Tiny, many};

use crate::textum;

#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Entry {
    /// Its content tells whether it may be executed, and whether only its owner may read it.
    File(u8),
    Link(&'static str),
    Empty,
}

type State = BTreeMap<String, Entry>;

#[derive(Clone, Debug)]
enum Act {
    /// A person makes the folder anew.
    Put(State),
    /// A person changes one thing in it.
    Change(String, Entry),
    Record,
    Restore(usize),
}

/// A text longer than the shortest ones, so that sizes differ too.
fn text(value: u8) -> String {
    format!("shed {value}\n").repeat(usize::from(value) + 1)
}

fn path() -> impl Strategy<Value = String> {
    prop::collection::vec(prop::sample::select(vec!["a", "b", "c d", "é"]), 1..4).prop_map(|parts| parts.join("/"))
}

fn entry() -> impl Strategy<Value = Entry> {
    prop_oneof![
        6 => (0u8..8).prop_map(Entry::File),
        2 => prop::sample::select(vec!["a", "b/c d", "nowhere", "./c d"]).prop_map(Entry::Link),
        1 => Just(Entry::Empty),
    ]
}

/// Only what can stand side by side: nothing below what is no folder.
fn insert(state: &mut State, path: &str, entry: Entry) {
    let below = format!("{path}/");
    state.retain(|other, _| !other.starts_with(&below) && !path.starts_with(&format!("{other}/")));
    state.insert(path.to_string(), entry);
}

fn state() -> impl Strategy<Value = State> {
    prop::collection::vec((path(), entry()), 1..9).prop_map(|entries| {
        let mut state = State::new();
        entries.into_iter().for_each(|(path, entry)| insert(&mut state, &path, entry));
        state
    })
}

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        2 => state().prop_map(Act::Put),
        3 => (path(), entry()).prop_map(|(p, e)| Act::Change(p, e)),
        4 => Just(Act::Record),
        4 => any::<usize>().prop_map(Act::Restore),
    ]
}

fn lay(folder: &Path, state: &State) {
    let _ = std::fs::remove_dir_all(folder);
    std::fs::create_dir(folder).unwrap();
    for (path, entry) in state {
        let full = folder.join(path);
        std::fs::create_dir_all(full.parent().unwrap()).unwrap();
        match entry {
            Entry::File(value) => {
                std::fs::write(&full, text(*value)).unwrap();
                let mode = match (value % 2 == 1, *value >= 6) {
                    (false, false) => 0o644,
                    (true, false) => 0o755,
                    (false, true) => 0o600,
                    (true, true) => 0o700,
                };
                std::fs::set_permissions(&full, std::fs::Permissions::from_mode(mode)).unwrap();
            }
            Entry::Link(to) => symlink(to, &full).unwrap(),
            Entry::Empty => std::fs::create_dir(&full).unwrap(),
        }
    }
}

/// What stands in a folder; a folder with something in it is told by that.
fn look(folder: &Path) -> State {
    let mut found = State::new();
    let mut todo = vec![folder.to_path_buf()];
    while let Some(at) = todo.pop() {
        let name = |path: &Path| path.strip_prefix(folder).unwrap().to_str().unwrap().to_string();
        let entries: Vec<_> = std::fs::read_dir(&at).unwrap().flatten().collect();
        if entries.is_empty() && at != folder {
            found.insert(name(&at), Entry::Empty);
        }
        for entry in entries {
            let (path, kind) = (entry.path(), entry.file_type().unwrap());
            if kind.is_dir() {
                todo.push(path);
            } else if kind.is_symlink() {
                let to = std::fs::read_link(&path).unwrap();
                let known = ["a", "b/c d", "nowhere", "./c d"].into_iter().find(|t| Path::new(t) == to && to.to_str() == Some(t));
                found.insert(name(&path), Entry::Link(known.unwrap()));
            } else {
                let read = std::fs::read_to_string(&path).unwrap();
                let value = (0u8..8).find(|v| text(*v) == read).unwrap_or_else(|| panic!("nobody wrote {read:?}"));
                let mode = entry.metadata().unwrap().permissions().mode();
                assert_eq!((mode & 0o100 != 0, mode & 0o077 == 0), (value % 2 == 1, value >= 6), "{}: {mode:o}", path.display());
                found.insert(name(&path), Entry::File(value));
            }
        }
    }
    found
}

proptest! {
    #![proptest_config(ProptestConfig {
        cases: many("TEXTUM_FOLDERS", 12),
        max_shrink_iters: 200,
        failure_persistence: None,
        ..ProptestConfig::default()
    })]

    #[test]
    fn any_recorded_folder_comes_back_from_any_other(first in state(), acts in prop::collection::vec(act(), 3..14)) {
        let tiny = Tiny::with("[data.yarn]\npath = \"yarn\"\n");
        let folder = tiny.path("yarn");
        let mut now = first;
        lay(&folder, &now);
        let mut versions: Vec<(u64, State)> = Vec::new();
        for act in &acts {
            match act {
                Act::Put(state) => {
                    now = state.clone();
                    lay(&folder, &now);
                }
                Act::Change(path, entry) => {
                    insert(&mut now, path, entry.clone());
                    lay(&folder, &now);
                }
                Act::Record => {
                    let recorded = textum(&tiny, &["data", "record", "--format", "json"]).expect(0).json();
                    let version = recorded[0]["version"].as_u64().unwrap();
                    let known = versions.iter().find(|(_, state)| *state == now);
                    prop_assert_eq!(known.is_some(), recorded[0]["new"] == false, "{}", recorded);
                    match known {
                        Some((number, _)) => prop_assert_eq!(*number, version),
                        None => versions.push((version, now.clone())),
                    }
                }
                Act::Restore(n) => {
                    if versions.is_empty() {
                        continue;
                    }
                    let (version, state) = versions[n % versions.len()].clone();
                    textum(&tiny, &["restore", &format!("yarn@{version}")]).expect(0);
                    prop_assert_eq!(&look(&folder), &state, "yarn@{}", version);
                    // Files that no version holds are aside; what a version holds is nowhere but in the store.
                    let held: BTreeSet<u8> = versions.iter().flat_map(|(_, s)| s.values()).filter_map(value).collect();
                    let lost: BTreeSet<u8> = now.values().filter_map(value).filter(|v| !held.contains(v)).collect();
                    let aside = if tiny.has(".textum/aside") { Tiny::at(&tiny.path(".textum/aside")).snapshot() } else { Vec::new() };
                    for value in lost {
                        prop_assert!(aside.iter().any(|(_, bytes)| *bytes == text(value).into_bytes()), "shed {} is gone", value);
                    }
                    now = state;
                }
            }
        }
        textum(&tiny, &["verify", "--deep"]).expect(0);
        for (version, state) in &versions {
            let out = format!("out-{version}");
            textum(&tiny, &["restore", &format!("yarn@{version}"), "-o", &out]).expect(0);
            prop_assert_eq!(&look(&tiny.path(&out).join("yarn")), state);
        }
    }
}

fn value(entry: &Entry) -> Option<u8> {
    match entry {
        Entry::File(value) => Some(*value),
        _ => None,
    }
}
