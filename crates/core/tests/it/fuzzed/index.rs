//! The index beside a whole pack: bytes as they come, and records of any content under a right check. An index
//! that lies may cost a content its place, but nothing else is ever given out for it.

use textum_core::store::{Digest, Store};

/// The target.
pub fn target(bytes: &[u8]) {
    let Some((mode, bytes)) = bytes.split_first() else { return };
    let folder = tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()).unwrap();
    let contents = [b"loom".to_vec(), b"stop\n".repeat(30), Vec::new()];
    let store = Store::open(folder.path());
    let writer = store.writer().unwrap();
    for content in &contents {
        writer.put_bytes(content).unwrap();
    }
    writer.publish().unwrap();
    drop(writer);
    let pack = store.packs().unwrap()[0];
    let path = store.packs_folder().join(format!("{}.pack", pack.hex()));
    let whole = std::fs::read(path.with_extension("index")).unwrap();
    // Whole records of the true index, changed here and there by what comes, or all made of it.
    let index = match mode % 3 {
        0 => bytes.to_vec(),
        1 => {
            let mut changed = whole[..whole.len() - 32].to_vec();
            for change in bytes.chunks_exact(3) {
                let at = 64 + usize::from(u16::from_le_bytes([change[0], change[1]])) % (changed.len() - 64);
                changed[at] = change[2];
            }
            changed.extend(*blake3::hash(&changed).as_bytes());
            changed
        }
        _ => {
            let mut made = whole[..56].to_vec();
            let records = bytes.len() / 56;
            made.extend((records as u64).to_le_bytes());
            made.extend(&bytes[..records * 56]);
            made.extend(*blake3::hash(&made).as_bytes());
            made
        }
    };
    std::fs::write(path.with_extension("index"), index).unwrap();
    let store = Store::open(folder.path());
    for digest in contents.iter().map(|c| Digest::of(c)) {
        if let Ok(content) = store.read(&digest) {
            assert_eq!(Digest::of(&content), digest, "what is read is what was asked for");
        }
    }
    for (digest, ..) in store.all_entries().unwrap_or_default() {
        let _ = (store.read(&digest).map(|c| assert_eq!(Digest::of(&c), digest)), store.listing(&digest), store.size_of(&digest));
    }
    let _ = store.verify_packs(true);
    store.rebuild_index(&pack).unwrap();
    let healed = Store::open(folder.path());
    contents.iter().for_each(|c| assert_eq!(healed.read(&Digest::of(c)).unwrap(), *c));
}
