//! A pack: bytes as they come, and entries of any content whose checks are right (as a hostile writer makes
//! them). What is read from the store under a digest must be what has that digest.

use textum_core::store::{Digest, Kind, Store};

/// A pack whose heads have right checks, and its name. One entry is: kind, coding, length of payload, length
/// decoded (two bytes), a byte that tells which digest it is under, payload.
fn sealed(mut input: &[u8]) -> (Vec<u8>, blake3::Hash) {
    let mut pack = b"textum pack @1\n\0".to_vec();
    let (mut name, mut last) = (blake3::Hasher::new(), *blake3::hash(b"").as_bytes());
    while let [kind, coding, length, raw_low, raw_high, under, rest @ ..] = input {
        let length = usize::from(*length).min(rest.len());
        let (payload, rest) = rest.split_at(length);
        input = rest;
        let digest = if under % 4 == 0 { last } else { *blake3::hash(payload).as_bytes() };
        last = *blake3::hash(payload).as_bytes();
        let raw = if under % 2 == 0 { length as u32 } else { u32::from(*raw_low) | u32::from(*raw_high) << 8 };
        let mut head = b"ENTR".to_vec();
        head.extend([kind % 5, coding % 3, 0, 0]);
        head.extend((length as u32).to_le_bytes());
        head.extend(raw.to_le_bytes());
        head.extend(digest);
        let mut check = blake3::Hasher::new();
        check.update(&head);
        if coding % 3 != 0 || kind % 5 == 2 {
            check.update(payload);
        }
        head.extend(&check.finalize().as_bytes()[..16]);
        name.update(&head);
        pack.extend(head);
        pack.extend(payload);
    }
    (pack, name.finalize())
}

/// The target.
pub fn target(bytes: &[u8]) {
    let Some((mode, bytes)) = bytes.split_first() else { return };
    let (pack, name) = if mode % 4 == 0 { (bytes.to_vec(), blake3::hash(bytes)) } else { sealed(bytes) };
    let folder = tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()).unwrap();
    let packs = folder.path().join("packs");
    std::fs::create_dir_all(&packs).unwrap();
    std::fs::write(packs.join(format!("{}.pack", name.to_hex())), pack).unwrap();
    let store = Store::open(folder.path());
    let _ = store.verify_packs(true);
    for (digest, kind, _) in store.all_entries().unwrap_or_default() {
        if let Ok(content) = store.read(&digest)
            && kind != Kind::Outline
        {
            assert_eq!(Digest::of(&content), digest, "what is read is what was asked for");
        }
        let _ = (store.listing(&digest), store.parts_of(&digest), store.size_of(&digest), store.tail(&digest, 10));
    }
    if let Ok(alone) = store.alone() {
        let _ = (alone.without_all_pieces(), alone.salvage(&Digest::from_bytes(*name.as_bytes())));
    }
}
