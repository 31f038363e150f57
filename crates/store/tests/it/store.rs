//! The store at its interface: what goes in comes out, damage never does, and indexes are derived.

use proptest::prelude::*;
use textum_store::{
    CUT_MAX, CUT_MIN, Digest, GcPlan, Item, ItemKind, LARGE, Store, StoreError, decode_journal, hash_file, parse_listing,
    write_listing_line,
};
use textum_testkit::noise;

fn store() -> (tempfile::TempDir, Store) {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(folder.path());
    (folder, store)
}

fn packs(folder: &std::path::Path) -> Vec<std::path::PathBuf> {
    std::fs::read_dir(folder.join("packs"))
        .unwrap()
        .map(|e| e.unwrap().path())
        .filter(|p| p.extension().is_some_and(|e| e == "pack"))
        .collect()
}

#[test]
fn content_of_every_size_comes_back_and_has_the_public_digest() {
    let (_folder, store) = store();
    let writer = store.writer().unwrap();
    let sizes = [0, 1, 4096, CUT_MIN, LARGE - 1, LARGE, LARGE + 1, CUT_MAX, 3 * CUT_MAX + 17, 30 << 20];
    let contents: Vec<Vec<u8>> = sizes.iter().map(|n| noise(*n as u64, *n)).collect();
    let file = tempfile::NamedTempFile::new().unwrap();
    for bytes in &contents {
        std::fs::write(file.path(), bytes).unwrap();
        let stored = writer.put_file(file.path()).unwrap();
        assert_eq!(stored.digest, Digest::of(bytes), "{} bytes", bytes.len());
        assert_eq!(hash_file(file.path()).unwrap(), (stored.digest, bytes.len() as u64));
    }
    assert!(!store.contains(&Digest::of(&contents[2])).unwrap(), "nothing is visible before it is published");
    writer.publish().unwrap();
    let fresh = Store::open(store.folder());
    for bytes in &contents {
        assert!(fresh.read(&Digest::of(bytes)).unwrap() == *bytes, "{} bytes", bytes.len());
    }
}

#[test]
fn an_insertion_into_a_large_content_costs_a_few_pieces() {
    let (_folder, store) = store();
    let first = noise(7, 40 << 20);
    let mut second = first.clone();
    second.splice(20 << 20..20 << 20, noise(8, 1000));
    let writer = store.writer().unwrap();
    writer.put_bytes(&first).unwrap();
    let before = writer.written().stored;
    writer.put_bytes(&second).unwrap();
    let cost = writer.written().stored - before;
    assert!(cost < 3 * CUT_MAX as u64, "1,000 bytes more cost {cost}");
    writer.publish().unwrap();
    assert!(store.read(&Digest::of(&second)).unwrap() == second);
}

#[test]
fn a_lost_or_damaged_index_is_made_anew() {
    let (folder, store) = store();
    let writer = store.writer().unwrap();
    let text = b"weft and warp".repeat(100);
    writer.put_bytes(&text).unwrap();
    writer.publish().unwrap();
    let index = packs(folder.path())[0].with_extension("index");
    let whole = std::fs::read(&index).unwrap();
    for damage in [None, Some(whole[..whole.len() / 2].to_vec()), Some(b"not an index".to_vec())] {
        match damage {
            None => std::fs::remove_file(&index).unwrap(),
            Some(bytes) => std::fs::write(&index, bytes).unwrap(),
        }
        assert_eq!(Store::open(folder.path()).read(&Digest::of(&text)).unwrap(), text);
        assert_eq!(std::fs::read(&index).unwrap(), whole, "the same index comes of the same pack");
    }
}

#[test]
fn many_small_packs_are_folded_without_losing_any_content() {
    let (folder, store) = store();
    let digests: Vec<Digest> = (0..200)
        .map(|i| {
            let writer = store.writer().unwrap();
            let digest = writer.put_document(format!("{{\"type\":\"test\",\"n\":{i}}}").as_bytes()).unwrap();
            writer.publish().unwrap();
            digest
        })
        .collect();
    let reader = Store::open(folder.path());
    assert!(reader.contains(&digests[0]).unwrap());
    assert_eq!(store.fold_small_packs().unwrap(), 200);
    assert_eq!(packs(folder.path()).len(), 1);
    for digest in &digests {
        assert!(Digest::of(&reader.read(digest).unwrap()) == *digest, "a reader of before the folding");
        assert!(store.contains_document(digest).unwrap());
    }
}

#[test]
fn left_over_parts_of_dead_writers_are_swept_and_those_of_living_ones_are_not() {
    let (folder, store) = store();
    std::fs::create_dir_all(folder.path().join("parts")).unwrap();
    let dead = folder.path().join("parts/dead.part");
    std::fs::write(&dead, b"half a pack").unwrap();
    let living = store.writer().unwrap();
    living.put_bytes(b"something").unwrap();
    let second = store.writer().unwrap();
    second.put_bytes(b"something else").unwrap();
    second.publish().unwrap();
    living.publish().unwrap();
    assert!(!dead.exists());
    assert!(store.contains(&Digest::of(b"something")).unwrap() && store.contains(&Digest::of(b"something else")).unwrap());
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn a_flipped_bit_anywhere_in_a_pack_is_found_and_never_handed_out(at in any::<prop::sample::Index>(), bit in 0u8..8) {
        let (folder, store) = store();
        let writer = store.writer().unwrap();
        let contents = [noise(1, 3000), b"humidity,63.1\n".repeat(400), Vec::new(), noise(2, LARGE + 100_000)];
        for bytes in &contents {
            writer.put_bytes(bytes).unwrap();
        }
        writer.publish().unwrap();
        let pack = packs(folder.path()).remove(0);
        let mut bytes = std::fs::read(&pack).unwrap();
        let at = at.index(bytes.len());
        bytes[at] ^= 1 << bit;
        std::fs::write(&pack, &bytes).unwrap();
        let fresh = Store::open(folder.path());
        for content in &contents {
            if let Ok(read) = fresh.read(&Digest::of(content)) {
                prop_assert!(read == *content, "other bytes than were stored");
            }
        }
        let found: usize = fresh.verify_packs(true).unwrap().iter().map(|p| p.damage.len()).sum();
        prop_assert!(found > 0, "the damage at byte {at} was not found");
    }

    #[test]
    fn hostile_packs_and_indexes_are_errors_and_no_more(bytes in prop::collection::vec(any::<u8>(), 0..400), keep_head in any::<bool>()) {
        let folder = tempfile::tempdir().unwrap();
        std::fs::create_dir_all(folder.path().join("packs")).unwrap();
        let name = Digest::of(b"some pack").hex();
        let mut pack = if keep_head { b"textum pack @1\n\0".to_vec() } else { Vec::new() };
        pack.extend(&bytes);
        std::fs::write(folder.path().join(format!("packs/{name}.pack")), &pack).unwrap();
        std::fs::write(folder.path().join(format!("packs/{name}.index")), &bytes).unwrap();
        let store = Store::open(folder.path());
        prop_assert!(store.contains(&Digest::of(b"x")).is_err());
        prop_assert!(store.verify_packs(true).unwrap()[0].damage.iter().any(|d| !d.derived));
    }
}

/// The journal of a dropping, as `docs/formats.md` describes it.
fn journal(packs: &[Digest], dropped: &[Digest]) -> Vec<u8> {
    let mut out = b"textum drop @1\n\0".to_vec();
    out.extend((packs.len() as u64).to_le_bytes());
    out.extend((dropped.len() as u64).to_le_bytes());
    packs.iter().chain(dropped).for_each(|d| out.extend(d.as_bytes()));
    let check = Digest::of(&out);
    out.extend(check.as_bytes());
    out
}

#[test]
fn a_dropping_that_was_cut_off_is_finished_by_whoever_writes_next() {
    let (folder, store) = store();
    let put = |bytes: &[u8]| {
        let writer = store.writer().unwrap();
        let digest = writer.put_bytes(bytes).unwrap().digest;
        writer.put_document(format!("{{\"type\":\"test\",\"of\":\"{digest}\"}}").as_bytes()).unwrap();
        writer.publish().unwrap();
        digest
    };
    let (gone, stays) = (put(&noise(1, 5000)), put(&noise(2, LARGE * 3)));
    std::fs::write(folder.path().join("drop.journal"), journal(&store.packs().unwrap(), &[gone])).unwrap();
    // A reader sees the store as it is; the next writer finishes what was begun, before it relies on anything.
    let next = Store::open(folder.path());
    let writer = next.writer().unwrap();
    assert!(!writer.contains(&gone).unwrap(), "what is to be dropped must not be relied on");
    writer.put_bytes(&noise(3, 100)).unwrap();
    writer.publish().unwrap();
    assert!(!folder.path().join("drop.journal").exists());
    let fresh = Store::open(folder.path());
    assert!(fresh.read(&gone).is_err() && fresh.read(&stays).unwrap() == noise(2, LARGE * 3));
    let documents: usize = fresh.packs().unwrap().iter().map(|p| fresh.documents_in(p).unwrap().len()).sum();
    assert_eq!(documents, 2, "documents are never dropped");
    // The reader of before goes on with what is still there.
    assert!(store.read(&stays).unwrap() == noise(2, LARGE * 3));
    // A journal that is damaged is told of, and nothing is dropped by it.
    std::fs::write(folder.path().join("drop.journal"), &journal(&[], &[stays])[..70]).unwrap();
    assert!(matches!(fresh.writer().unwrap().contains(&stays), Err(StoreError::Damaged { .. })));
    assert!(fresh.read(&stays).is_ok());
}

#[test]
fn a_folder_whose_files_are_dropped_keeps_its_listing_but_is_no_longer_there() {
    let (_folder, store) = store();
    let files = [noise(1, 100), noise(2, 200)];
    let mut listing = Vec::new();
    for (name, bytes) in ["a", "b"].iter().zip(&files) {
        let item = Item { kind: ItemKind::File, digest: Some(Digest::of(bytes)), size: bytes.len() as u64, path: (*name).into() };
        write_listing_line(&mut listing, &item);
    }
    let put = || {
        let writer = store.writer().unwrap();
        for bytes in &files {
            writer.put_bytes(bytes).unwrap();
        }
        let digest = writer.put_bytes(&listing).unwrap().digest;
        writer.publish().unwrap();
        digest
    };
    let folder = put();
    let entries = files.iter().map(|f| Digest::of(f)).chain([folder]).collect();
    let freed = store.alone().unwrap().drop_content(&GcPlan { entries, outlines: vec![folder], ..GcPlan::default() }, &[]).unwrap();
    assert_eq!(freed.entries, 3);
    assert!(!store.contains(&folder).unwrap(), "or its files would not be taken in again");
    assert_eq!(store.listing(&folder).unwrap(), listing);
    put();
    assert!(store.contains(&folder).unwrap() && files.iter().all(|f| store.read(&Digest::of(f)).unwrap() == *f));
    // What is to be forgotten leaves no names behind either, be it dropped before or now.
    let entries = files.iter().map(|f| Digest::of(f)).chain([folder]).collect();
    store.alone().unwrap().drop_content(&GcPlan { entries, ..GcPlan::default() }, &[]).unwrap();
    assert_eq!(store.listing(&folder).unwrap(), listing, "the outline of the first time");
    let forgotten = GcPlan { forgotten: [folder].into(), ..GcPlan::default() };
    assert_eq!(store.alone().unwrap().drop_content(&forgotten, &[]).unwrap().entries, 1);
    assert!(store.listing(&folder).is_err() && !store.has_outline(&folder).unwrap());
}

#[test]
fn writers_wait_for_a_dropping_and_a_dropping_waits_for_writers() {
    let (folder, store) = store();
    let shared = noise(5, 3000);
    let digest = Digest::of(&shared);
    let rounds = 30;
    std::thread::scope(|scope| {
        for _ in 0..3 {
            scope.spawn(|| {
                let own = Store::open(folder.path());
                for _ in 0..rounds {
                    let writer = own.writer().unwrap();
                    writer.put_bytes(&shared).unwrap();
                    // Found or put: it must be there until it is published, whatever is dropped meanwhile.
                    std::thread::sleep(std::time::Duration::from_millis(1));
                    assert!(writer.contains(&digest).unwrap());
                    writer.publish().unwrap();
                }
            });
        }
        scope.spawn(|| {
            let own = Store::open(folder.path());
            for _ in 0..rounds {
                let dropping = GcPlan { entries: [digest].into(), ..GcPlan::default() };
                own.alone().unwrap().drop_content(&dropping, &[]).unwrap();
            }
        });
    });
    let writer = store.writer().unwrap();
    writer.put_bytes(&shared).unwrap();
    writer.publish().unwrap();
    assert!(Store::open(folder.path()).read(&digest).unwrap() == shared);
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn no_bytes_bring_the_readers_of_listings_and_journals_down(bytes in prop::collection::vec(any::<u8>(), 0..200), huge in any::<bool>()) {
        if let Ok(items) = parse_listing(&bytes) {
            let mut again = Vec::new();
            items.iter().for_each(|item| write_listing_line(&mut again, item));
            prop_assert_eq!(again, bytes.clone(), "what is read is what would be written");
        }
        let mut good = journal(&[Digest::of(b"p")], &[Digest::of(&bytes)]);
        prop_assert_eq!(decode_journal(&good).map(|j| (j.packs.len(), j.entries.len(), j.outlines.len())), Some((1, 1, 0)));
        // The second form, with outlines.
        let mut second = b"textum drop @2\n\0".to_vec();
        [1u64, 2, 1].iter().for_each(|n| second.extend(n.to_le_bytes()));
        [b"p", b"a", b"b", b"o"].iter().for_each(|d| second.extend(Digest::of(*d).as_bytes()));
        let check = Digest::of(&second);
        second.extend(check.as_bytes());
        let read = decode_journal(&second).unwrap();
        prop_assert_eq!((read.packs.len(), read.entries.len(), read.outlines), (1, 2, [Digest::of(b"o")].into()));
        // Numbers that promise more than is there, with a check that fits.
        if huge {
            good[16..24].copy_from_slice(&u64::MAX.to_le_bytes());
            let end = good.len() - 32;
            let check = Digest::of(&good[..end]);
            good[end..].copy_from_slice(check.as_bytes());
            prop_assert!(decode_journal(&good).is_none());
        }
        prop_assert!(decode_journal(&bytes).is_none());
    }

    #[test]
    fn what_is_whole_in_a_damaged_pack_is_salvaged(at in any::<prop::sample::Index>(), bit in 0u8..8, without_index in any::<bool>()) {
        let (folder, store) = store();
        let writer = store.writer().unwrap();
        let contents: Vec<Vec<u8>> = (0..12).map(|i| noise(i, 200 + i as usize * 37)).collect();
        for bytes in &contents {
            writer.put_bytes(bytes).unwrap();
        }
        writer.publish().unwrap();
        let pack = packs(folder.path()).remove(0);
        let mut bytes = std::fs::read(&pack).unwrap();
        let at = at.index(bytes.len());
        bytes[at] ^= 1 << bit;
        std::fs::write(&pack, &bytes).unwrap();
        if without_index {
            std::fs::remove_file(pack.with_extension("index")).unwrap();
        }
        let damaged = Store::open(folder.path());
        let name = damaged.packs().unwrap()[0];
        damaged.alone().unwrap().salvage(&name).unwrap();
        let fresh = Store::open(folder.path());
        let whole = contents.iter().filter(|c| fresh.read(&Digest::of(c)).is_ok_and(|read| read == **c)).count();
        prop_assert!(whole >= contents.len() - 1, "one bit cost {} contents", contents.len() - whole);
        prop_assert!(fresh.verify_packs(true).unwrap().iter().all(|p| p.damage.is_empty()));
    }
}
