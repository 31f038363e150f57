//! Folders reached by handle: whatever path is asked for and whatever links lie about, nothing outside is touched,
//! and inside happens what a plain map of paths foretells.
#![allow(clippy::disallowed_methods, clippy::unwrap_used, missing_docs)]

use std::collections::BTreeMap;
use std::io::{Read, Write};
use std::os::unix::fs::symlink;
use std::path::{Component, Path};

use proptest::prelude::*;
use textum_base::ProjectPath;
use textum_base::fsio::{Standing, TreeDir};

const PARTS: [&str; 4] = ["a", "b", "out", "in"];

#[derive(Clone, Debug)]
enum Act {
    Write(String, u8),
    Folder(String),
    Link(String, bool),
    Rename(String, String),
    Aside(String),
    Remove(String),
    Read(String),
    /// A folder on the way is exchanged for a link out, as somebody hostile does between two calls.
    Exchange(usize),
}

fn path() -> impl Strategy<Value = String> {
    prop::collection::vec(0usize..PARTS.len(), 1..4).prop_map(|parts| parts.iter().map(|p| PARTS[*p]).collect::<Vec<_>>().join("/"))
}

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        4 => (path(), any::<u8>()).prop_map(|(p, v)| Act::Write(p, v)),
        2 => path().prop_map(Act::Folder),
        2 => (path(), any::<bool>()).prop_map(|(p, out)| Act::Link(p, out)),
        2 => (path(), path()).prop_map(|(a, b)| Act::Rename(a, b)),
        1 => path().prop_map(Act::Aside),
        2 => path().prop_map(Act::Remove),
        2 => path().prop_map(Act::Read),
        1 => (0usize..PARTS.len()).prop_map(Act::Exchange),
    ]
}

/// Every path below a folder with what stands there; links are not followed.
fn everything(folder: &Path) -> BTreeMap<String, String> {
    let mut found = BTreeMap::new();
    let mut todo = vec![folder.to_path_buf()];
    while let Some(at) = todo.pop() {
        for entry in std::fs::read_dir(&at).unwrap().flatten() {
            let path = entry.path();
            let name = path.strip_prefix(folder).unwrap().display().to_string();
            let kind = entry.file_type().unwrap();
            let what = if kind.is_symlink() {
                format!("-> {}", std::fs::read_link(&path).unwrap().display())
            } else if kind.is_dir() {
                "folder".to_string()
            } else {
                std::fs::read_to_string(&path).unwrap()
            };
            if kind.is_dir() {
                todo.push(path);
            }
            found.insert(name, what);
        }
    }
    found
}

fn write(tree: &TreeDir, path: &ProjectPath, value: u8) -> Result<(), String> {
    tree.create_parent(path).map_err(|e| e.to_string())?;
    let file = tree.create_file(path, 0o644).map_err(|e| e.to_string())?;
    file.file().write_all(value.to_string().as_bytes()).map_err(|e| e.to_string())
}

/// Whether a link lies on the way to a path, itself left out.
fn through_a_link(root: &Path, path: &str) -> bool {
    Path::new(path).ancestors().skip(1).any(|p| p != Path::new("") && root.join(p).is_symlink())
}

fn is_at_or_below(name: &str, path: &str) -> bool {
    name == path || name.strip_prefix(path).is_some_and(|rest| rest.starts_with('/'))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn nothing_outside_is_touched_and_inside_only_what_is_asked(acts in prop::collection::vec(act(), 1..25)) {
        let around = tempfile::tempdir().unwrap();
        let (root, outside, aside) = (around.path().join("tree"), around.path().join("outside"), around.path().join("aside"));
        for folder in PARTS {
            std::fs::create_dir_all(outside.join(folder)).unwrap();
            std::fs::write(outside.join(folder).join("a"), "not yours").unwrap();
        }
        std::fs::create_dir_all(&root).unwrap();
        let before = everything(&outside);
        let (tree, aside_dir) = (TreeDir::open(&root).unwrap(), TreeDir::create(&aside).unwrap());
        let checked = |p: &str| ProjectPath::new(p).unwrap();
        for act in &acts {
            let was = everything(&root);
            match act {
                Act::Write(path, value) => {
                    let by_link = through_a_link(&root, path);
                    let done = write(&tree, &checked(path), *value);
                    let now = everything(&root);
                    if done.is_ok() && !by_link {
                        prop_assert!(!was.contains_key(path), "nothing is written over");
                        prop_assert_eq!(&now[path], &value.to_string());
                    }
                    for (name, what) in &was {
                        prop_assert_eq!(now.get(name), Some(what), "{} is as it was", name);
                    }
                }
                Act::Folder(path) => drop(tree.create_folder(&checked(path))),
                Act::Link(path, out) => {
                    let text = if *out { outside.display().to_string() } else { "a".to_string() };
                    let _ = tree.create_link(&text, &checked(path));
                }
                Act::Rename(from, to) => drop(tree.rename(&checked(from), &tree, &checked(to))),
                Act::Aside(path) => {
                    let there = everything(&aside);
                    let moved = tree.move_aside(&checked(path), &aside_dir);
                    prop_assert_eq!(moved.is_ok(), was.contains_key(path) || through_a_link(&root, path) && moved.is_ok(), "{}: {:?}", path, moved);
                    if let Ok(to) = moved {
                        let now = everything(&aside);
                        prop_assert!(!there.contains_key(to.as_str()) && now.contains_key(to.as_str()));
                        for (name, what) in &there {
                            prop_assert_eq!(now.get(name), Some(what), "{} stays aside", name);
                        }
                    }
                }
                Act::Remove(path) => {
                    let by_link = through_a_link(&root, path);
                    if tree.remove(&checked(path)).is_ok() && !by_link {
                        let expected: BTreeMap<_, _> = was.into_iter().filter(|(name, _)| !is_at_or_below(name, path)).collect();
                        prop_assert_eq!(everything(&root), expected);
                    }
                }
                Act::Read(path) => {
                    if !through_a_link(&root, path) {
                        let expected = was.get(path).map(|what| match what.as_str() {
                            "folder" => Standing::Folder,
                            link if link.starts_with("->") => Standing::Link,
                            _ => Standing::File,
                        });
                        prop_assert_eq!(tree.standing(&checked(path)).unwrap(), expected);
                    }
                    if let Ok(mut file) = tree.open_file(&checked(path)) {
                        let mut text = String::new();
                        file.read_to_string(&mut text).unwrap();
                        prop_assert_ne!(text, "not yours", "nothing outside is read either");
                    }
                }
                Act::Exchange(part) => {
                    let path = root.join(PARTS[*part]);
                    let _ = std::fs::remove_file(&path);
                    let _ = std::fs::remove_dir_all(&path);
                    symlink(&outside, &path).unwrap();
                }
            }
            prop_assert_eq!(&everything(&outside), &before, "after {:?}", act);
        }
    }

    #[test]
    fn a_path_is_taken_only_if_it_stays_and_is_not_textums_own(
        parts in prop::collection::vec("(\\.\\.|\\.|a|\\.textum|\\.git|\\.GIT|b c|é|\n|~)?", 0..4),
        absolute in any::<bool>(),
    ) {
        let text = format!("{}{}", if absolute { "/" } else { "" }, parts.join("/"));
        let Ok(path) = ProjectPath::new(&text) else { return Ok(()) };
        prop_assert!(Path::new(path.as_str()).components().all(|part| matches!(part, Component::Normal(_))), "{path:?}");
        prop_assert!(!path.as_str().is_empty() && !absolute);
        let first = path.as_str().split('/').next().unwrap();
        prop_assert!(first != ".textum" && !first.eq_ignore_ascii_case(".git"), "{path:?}");
        prop_assert!(Path::new("/shed").join(path.as_str()).starts_with("/shed"));
    }
}
