//! Looking at files: the stat cache never says other than a fresh look would, listings are lossless, and
//! no text or bytes from outside bring the parsers down.

use std::collections::BTreeMap;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use proptest::prelude::*;
use textum_core::config::manifest::Manifest;
use textum_core::project::fingerprint::{Scanner, Stat, walk};
use textum_core::record::receipt::{RunReceipt, STAGE_RECEIPT, StageReceipt, read_document};
use textum_core::store::{Digest, Item, ItemKind, Store, parse_listing, write_listing_line};
use textum_testkit::{Tiny, many};

#[derive(Clone, Debug)]
enum Touch {
    Write(u8, u8),
    Remove(u8),
    Executable(u8, bool),
    Swap(u8, u8),
    Link(u8, u8),
    Folder(u8),
}

fn touch() -> impl Strategy<Value = Touch> {
    // Few names and contents of one size: changes that only content tells apart.
    prop_oneof![
        6 => (0u8..6, 0u8..4).prop_map(|(f, c)| Touch::Write(f, c)),
        2 => (0u8..6).prop_map(Touch::Remove),
        1 => (0u8..6, any::<bool>()).prop_map(|(f, x)| Touch::Executable(f, x)),
        1 => (0u8..6, 0u8..6).prop_map(|(a, b)| Touch::Swap(a, b)),
        1 => (0u8..6, 0u8..6).prop_map(|(a, b)| Touch::Link(a, b)),
        1 => (0u8..3).prop_map(Touch::Folder),
    ]
}

fn path(number: u8) -> String {
    ["a", "b/a", "b/b", "b.c", "d/e/f", "d-"][number as usize].to_string()
}

fn apply(root: &Path, touch: &Touch) {
    let full = |n: u8| root.join(path(n));
    match touch {
        Touch::Write(file, content) => {
            std::fs::create_dir_all(full(*file).parent().unwrap()).unwrap();
            let _ = std::fs::remove_file(full(*file));
            std::fs::write(full(*file), format!("content {content}")).unwrap();
        }
        Touch::Remove(file) => drop(std::fs::remove_file(full(*file))),
        Touch::Executable(file, on) => {
            let mode = if *on { 0o755 } else { 0o644 };
            if full(*file).is_file() {
                std::fs::set_permissions(full(*file), std::fs::Permissions::from_mode(mode)).unwrap();
            }
        }
        Touch::Swap(a, b) => {
            let aside = root.join("aside");
            if full(*a).exists() && full(*b).exists() && std::fs::rename(full(*a), &aside).is_ok() {
                let _ = std::fs::rename(full(*b), full(*a));
                std::fs::rename(aside, full(*b)).unwrap();
            }
        }
        Touch::Link(a, b) => {
            std::fs::create_dir_all(full(*a).parent().unwrap()).unwrap();
            let _ = std::fs::remove_file(full(*a));
            let up = "../".repeat(path(*a).matches('/').count());
            let _ = std::os::unix::fs::symlink(format!("{up}{}", path(*b)), full(*a));
        }
        Touch::Folder(n) => std::fs::create_dir_all(root.join(["empty", "d/none", "b/x/y"][*n as usize])).unwrap(),
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: many("TEXTUM_LOOKS", 75), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_remembered_digest_is_never_other_than_a_fresh_one(touches in prop::collection::vec(touch(), 1..12), pause in any::<bool>()) {
        let tiny = Tiny::new();
        std::fs::create_dir_all(tiny.path("tree")).unwrap();
        let cache = Some(tiny.path("cache"));
        let store = Store::open(&tiny.path("store"));
        for (number, touch) in touches.iter().enumerate() {
            apply(&tiny.path("tree"), touch);
            if pause {
                // Long enough for some time stamps to be trusted: both ways must be right.
                std::thread::sleep(std::time::Duration::from_millis(8));
            }
            let scanner = Scanner::open(tiny.root(), cache.clone());
            // A swap can carry a link to where it leads out of the folder: then both must say so.
            let remembered = if number % 3 == 2 {
                let writer = store.writer().unwrap();
                let content = scanner.record("tree", &writer);
                writer.publish().unwrap();
                content
            } else {
                scanner.look("tree")
            };
            let remembered = remembered.map_err(|error| error.to_string());
            let single = scanner.look("tree/a").ok().flatten();
            scanner.save();
            let fresh = Scanner::open(tiny.root(), None);
            prop_assert_eq!(&remembered, &fresh.look("tree").map_err(|error| error.to_string()), "after {:?}", touch);
            prop_assert_eq!(single, fresh.look("tree/a").ok().flatten());
        }
    }

    #[test]
    fn a_folder_is_what_its_listing_says(names in prop::collection::btree_set("[a-c.\\-/\\\\ \n\u{e9}]{1,8}", 0..12)) {
        let fits = |name: &str| name.split('/').all(|p| !matches!(p, "" | "." | ".."));
        // A file is no folder: nothing lies below one.
        let below_another = |name: &str| name.match_indices('/').any(|(at, _)| names.contains(&name[..at]));
        let items: BTreeMap<&str, Digest> = names.iter().filter(|n| fits(n) && !below_another(n)).map(|n| (n.as_str(), Digest::of(n.as_bytes()))).collect();
        let mut text = Vec::new();
        for (name, digest) in &items {
            write_listing_line(&mut text, &Item { kind: ItemKind::File, digest: Some(*digest), size: name.len() as u64, path: (*name).into() });
        }
        let read: BTreeMap<String, Digest> = parse_listing(&text).unwrap().into_iter().map(|i| (i.path.into_owned(), i.digest.unwrap())).collect();
        prop_assert!(read.iter().map(|(n, d)| (n.as_str(), *d)).eq(items));
    }

    #[test]
    fn no_text_brings_the_manifest_down(cut in any::<prop::sample::Index>(), length in 0usize..40, put in "[\\[\\]{}\"=.,a-z0-9\n/ ]{0,12}") {
        let good = "[project]\nname = \"looms\"\n[data.d]\npath = \"d.csv\"\n[params]\nfit = { rate = 0.1, deep = [1, 2] }\n\
                    [stage.fit]\nrun = \"x {fit.rate}\"\nreads = [\"d.csv\"]\nparams = [\"fit\"]\nwrites = [\"m\"]\nneeds = { cpus = 2 }\n[metric.auc]\nbetter = \"higher\"\n";
        let from = cut.index(good.len());
        let to = (from + length).min(good.len());
        let text = format!("{}{put}{}", &good[..from], &good[to..]);
        if let Err(error) = Manifest::parse(Path::new("textum.toml"), text.clone()) {
            prop_assert!(!error.mistakes.is_empty());
            for mistake in &error.mistakes {
                prop_assert!(mistake.span.start <= mistake.span.end && mistake.span.end <= text.len(), "{:?} in {:?}", mistake, text);
            }
        }
    }

    #[test]
    fn no_bytes_bring_the_readers_of_receipts_down(bytes in prop::collection::vec(any::<u8>(), 0..200), typed in any::<bool>()) {
        let text = String::from_utf8_lossy(&bytes).replace(['"', '\\'], "");
        let text = if typed { format!(r#"{{"type":"{STAGE_RECEIPT}","run":"{text}"}}"#) } else { text };
        let digest = Digest::of(text.as_bytes());
        prop_assert!(read_document::<StageReceipt>(&digest, text.as_bytes()).is_err());
        prop_assert!(read_document::<RunReceipt>(&digest, text.as_bytes()).is_err());
        let _ = parse_listing(text.as_bytes());
    }
}

#[test]
fn a_newer_receipt_is_refused_with_its_type() {
    let text = br#"{"type":"textum/run-receipt@2"}"#;
    let error = read_document::<RunReceipt>(&Digest::of(text), text).unwrap_err();
    assert!(error.to_string().contains("textum/run-receipt@2") && error.to_string().contains("newer Textum"));
}

#[test]
fn time_stamps_within_the_clocks_grain_are_not_trusted() {
    let at = |mtime: i64| Stat { size: 1, mtime, ctime: mtime, inode: 1 };
    let second = 1_000_000_000;
    assert!(at(100 * second + 7).is_racy(100 * second + 8), "changed just before it was read");
    assert!(!at(100 * second + 7).is_racy(101 * second));
    assert!(at(100 * second).is_racy(101 * second), "a file system of whole seconds");
    assert!(at(200 * second).is_racy(100 * second), "a clock that was set back");
    assert!(!at(100 * second).is_settled(130 * second) && at(100 * second).is_settled(170 * second));
}

#[test]
fn a_walk_is_in_the_order_of_the_paths_bytes() {
    let tiny = Tiny::new();
    for name in ["a/b", "a.b", "a-b", "a0", "ab", "a/b.c/d", "a/b-c", "B", "é", "z/z/z"] {
        if name != "a/b" {
            tiny.write(&format!("t/{name}"), name);
        }
    }
    let paths: Vec<String> = walk(&tiny.path("t")).unwrap().into_iter().map(|s| s.path).collect();
    let mut sorted = paths.clone();
    sorted.sort();
    assert_eq!(paths, sorted);
    assert_eq!(paths.len(), 9);
}
