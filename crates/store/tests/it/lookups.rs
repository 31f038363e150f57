//! Looking things up: over any number of packs, by whole digests and by their beginnings, from several threads, and while
//! another process adds to the store.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use textum_store::{Digest, Store, StoreError};
use textum_testkit::noise;

fn text(n: u32) -> Vec<u8> {
    format!("loom {n} stopped {} times\n", n.wrapping_mul(2_654_435_761) % 97).into_bytes()
}

/// A store with these contents, so many in a pack.
fn filled(folder: &std::path::Path, count: u32, in_a_pack: u32) -> BTreeMap<Digest, Vec<u8>> {
    let store = Store::open(folder);
    let mut all = BTreeMap::new();
    for first in (0..count).step_by(in_a_pack.max(1) as usize) {
        let writer = store.writer().unwrap();
        for n in first..(first + in_a_pack).min(count) {
            let bytes = text(n);
            all.insert(writer.put_bytes(&bytes).unwrap().digest, bytes);
        }
        writer.publish().unwrap();
    }
    all
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(12))]
    /// Whatever the number of entries and packs: what is there is found, what is not is not, and beginnings find
    /// just those that begin so.
    #[test]
    fn what_is_there_is_found(count in prop_oneof![0u32..40, 200u32..1500], packs in 1u32..8, ends in prop::collection::vec(1usize..64, 6)) {
        let folder = tempfile::tempdir().unwrap();
        let all = filled(folder.path(), count, count.div_ceil(packs).max(1));
        let store = Store::open(folder.path());
        for (digest, bytes) in all.iter().step_by(7) {
            prop_assert!(store.contains(digest).unwrap());
            prop_assert_eq!(&store.read(digest).unwrap(), bytes);
            prop_assert_eq!(store.pieces_of(digest).unwrap().unwrap().len(), 1);
            for end in &ends {
                let hex = &digest.hex()[..*end];
                let found: BTreeSet<Digest> = store.begin_with(hex, usize::MAX).unwrap().into_iter().collect();
                let expected: BTreeSet<Digest> = all.keys().filter(|d| d.hex().starts_with(hex)).copied().collect();
                prop_assert_eq!(&found, &expected, "{}", hex);
                prop_assert!(store.begin_with(hex, 3).unwrap().len() <= 3);
            }
        }
        // Whoever keeps the records in memory finds the same, whatever becomes of the indexes then.
        let kept = Store::open(folder.path());
        kept.keep_records();
        prop_assert_eq!(kept.contains(&Digest::of(b"")).unwrap(), false);
        for entry in std::fs::read_dir(kept.packs_folder()).into_iter().flatten() {
            let path = entry.unwrap().path();
            if path.extension().is_some_and(|e| e == "index") {
                std::fs::write(path, "no index any more").unwrap();
            }
        }
        for (digest, bytes) in all.iter().step_by(5) {
            prop_assert_eq!(&kept.read(digest).unwrap(), bytes);
            prop_assert_eq!(kept.begin_with(&digest.hex(), 2).unwrap(), [*digest]);
        }
        for n in 0..200 {
            let stranger = Digest::of(format!("not there {n}").as_bytes());
            prop_assert!(!store.contains(&stranger).unwrap());
            prop_assert!(store.pieces_of(&stranger).unwrap().is_none());
        }
        prop_assert_eq!(store.all_entries().unwrap().len(), all.len());
    }
}

#[test]
fn the_ends_of_the_table_are_found_too() {
    let folder = tempfile::tempdir().unwrap();
    let all = filled(folder.path(), 20_000, 20_000);
    let store = Store::open(folder.path());
    for (digest, bytes) in all.iter().take(50).chain(all.iter().rev().take(50)) {
        assert_eq!(store.read(digest).unwrap(), *bytes);
        // Its neighbours, which are not there.
        for at in [0, 7, 8, 31] {
            for change in [1, 0x80, 0xff] {
                let mut near = *digest.as_bytes();
                near[at] ^= change;
                let near = Digest::from_bytes(near);
                assert_eq!(store.contains(&near).unwrap(), all.contains_key(&near));
            }
        }
    }
    let extremes = ["0".repeat(64), "f".repeat(64), "8".repeat(64)];
    for hex in &extremes {
        assert!(!store.contains(&Digest::from_hex(hex).unwrap()).unwrap());
    }
    for hex in ["0", "f", "00", "ff", "7f", "80"] {
        let expected = all.keys().filter(|d| d.hex().starts_with(hex)).count();
        assert_eq!(store.begin_with(hex, usize::MAX).unwrap().len(), expected, "{hex}");
    }
    assert!(store.begin_with("xyz", 5).unwrap().is_empty());
}

/// More packs than files are kept open: each is read all the same.
#[test]
fn hundreds_of_packs_are_read_one_beside_the_other() {
    let folder = tempfile::tempdir().unwrap();
    let all = filled(folder.path(), 320, 1);
    let store = Store::open(folder.path());
    assert_eq!(store.packs().unwrap().len(), 320);
    for _ in 0..2 {
        for (digest, bytes) in &all {
            assert_eq!(store.read(digest).unwrap(), *bytes);
        }
    }
    let open = std::fs::read_dir("/proc/self/fd").unwrap().count();
    assert!(open < 600, "{open} files are open");
    assert!(store.fold_small_packs().unwrap() > 0);
    assert!(store.packs().unwrap().len() < 320);
    for (digest, bytes) in &all {
        assert_eq!(store.read(digest).unwrap(), *bytes, "after the packs were folded");
    }
}

#[test]
fn several_threads_look_while_another_process_adds() {
    let folder = tempfile::tempdir().unwrap();
    let all = filled(folder.path(), 600, 100);
    let store = Store::open(folder.path());
    let added = std::thread::scope(|scope| {
        let readers: Vec<_> = (0..4)
            .map(|start| {
                let (store, all) = (&store, &all);
                scope.spawn(move || {
                    for _ in 0..6 {
                        for (digest, bytes) in all.iter().skip(start).step_by(4) {
                            assert_eq!(store.read(digest).unwrap(), *bytes);
                        }
                        store.reload().unwrap();
                    }
                })
            })
            .collect();
        // As another process: a store of its own in the same folder.
        let other = Store::open(folder.path());
        let mut added = Vec::new();
        for n in 10_000..10_040 {
            let writer = other.writer().unwrap();
            added.push(writer.put_bytes(&text(n)).unwrap().digest);
            writer.publish().unwrap();
            if n % 10 == 0 {
                other.fold_small_packs().unwrap();
            }
        }
        readers.into_iter().for_each(|r| r.join().unwrap());
        added
    });
    for (n, digest) in (10_000..).zip(added) {
        assert_eq!(store.read(&digest).unwrap(), text(n), "what came meanwhile is found");
    }
}

#[test]
fn large_contents_are_their_pieces_and_a_lost_piece_is_told() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path());
    let (large, shifted) = (noise(3, 3_000_000), [&noise(4, 1000)[..], &noise(3, 3_000_000)].concat());
    let writer = store.writer().unwrap();
    let first = writer.put_bytes(&large).unwrap();
    writer.publish().unwrap();
    let before: u64 = store.all_entries().unwrap().iter().map(|e| e.2).sum();
    let writer = store.writer().unwrap();
    let second = writer.put_bytes(&shifted).unwrap();
    writer.publish().unwrap();
    let pieces = store.pieces_of(&first.digest).unwrap().unwrap();
    assert!(pieces.len() > 2);
    assert_eq!(pieces.iter().map(|p| u64::from(p.length)).sum::<u64>(), large.len() as u64);
    let shared = store.pieces_of(&second.digest).unwrap().unwrap();
    let known: BTreeSet<Digest> = pieces.iter().map(|p| p.digest).collect();
    let kept = shared.iter().filter(|p| known.contains(&p.digest)).count();
    assert!(kept * 2 > shared.len(), "{kept} of {} pieces are shared", shared.len());
    let after: u64 = store.all_entries().unwrap().iter().map(|e| e.2).sum();
    assert!(after - before < large.len() as u64 / 2, "{} bytes for what is new", after - before);
    assert_eq!(store.read(&second.digest).unwrap(), shifted);
    assert_eq!(store.tail(&second.digest, 500).unwrap(), shifted[shifted.len() - 500..]);
    let stranger = Digest::of(b"x");
    assert!(matches!(store.read(&stranger), Err(StoreError::Missing { digest }) if digest == stranger));
}
