//! What every kind of storage must do, over memory, a folder and the servers that are there.

use std::sync::Arc;

use crate::common::{Faulty, Shared, memory, patient, servers};
use textum_depot::{Fault, Folder, Memory, Storage, probe};

fn paths(storage: &dyn Storage, folder: &str) -> Vec<(String, u64)> {
    let mut found: Vec<_> = storage.list(folder).unwrap().into_iter().map(|o| (o.path, o.size)).collect();
    found.sort();
    found
}

fn conforms(kind: &str, storage: &dyn Storage) {
    assert_eq!(paths(storage, ""), [], "{kind}: nothing yet");
    assert_eq!(storage.read("a/b").unwrap_err().fault, Fault::NotFound, "{kind}");
    assert_eq!(storage.read_range("a/b", 0, 3).unwrap_err().fault, Fault::NotFound, "{kind}");
    storage.delete("a/b").unwrap();

    storage.put("a/b/c.pack", &"wool".into()).unwrap();
    storage.put("a/x", &vec![].into()).unwrap();
    storage.put("ab", &"not below a".into()).unwrap();
    assert_eq!(paths(storage, "a"), [("a/b/c.pack".into(), 4), ("a/x".into(), 0)], "{kind}");
    assert_eq!(paths(storage, "").len(), 3, "{kind}");
    assert_eq!(paths(storage, "nowhere"), [], "{kind}");
    assert_eq!(storage.read("a/b/c.pack").unwrap(), b"wool", "{kind}");
    assert_eq!(storage.read("a/x").unwrap(), b"", "{kind}");
    assert_eq!(storage.read_range("a/b/c.pack", 1, 2).unwrap(), b"oo", "{kind}");
    storage.put("a/b/c.pack", &"silk, longer".into()).unwrap();
    assert_eq!(storage.read("a/b/c.pack").unwrap(), b"silk, longer", "{kind}: written over");

    // Longer than what is sent in one part.
    let long: Vec<u8> = (0..20_000_000u32).map(|n| (n / 7).wrapping_add(n.wrapping_mul(n)) as u8).collect();
    storage.put("long", &long.clone().into()).unwrap();
    assert!(storage.read("long").unwrap() == long, "{kind}");
    assert!(storage.read_range("long", 12_345_678, 3_000_000).unwrap() == long[12_345_678..15_345_678], "{kind}");

    assert!(storage.put_new("once", b"first").unwrap(), "{kind}");
    assert!(!storage.put_new("once", b"second").unwrap(), "{kind}");
    assert_eq!(storage.read("once").unwrap(), b"first", "{kind}");

    for path in ["a/b/c.pack", "a/x", "ab", "long", "once"] {
        storage.delete(path).unwrap();
        storage.delete(path).unwrap();
    }
    assert_eq!(paths(storage, ""), [], "{kind}: nothing again");
}

#[test]
fn memory_and_folders_conform() {
    conforms("memory", &Memory::default());
    let folder = tempfile::tempdir().unwrap();
    conforms("folder", &Folder::new(&folder.path().join("not/there yet")));
    for (kind, storage) in
        [("memory", Arc::new(Memory::default()) as Arc<dyn Storage>), ("folder", Arc::new(Folder::new(folder.path())))]
    {
        let found = probe(&*storage).unwrap();
        assert_eq!((found.reads, found.writes, found.only_if_absent), (true, Ok(()), Some(true)), "{kind}");
        assert!(found.clock_ahead.unwrap().abs() < 60.0, "{kind}");
        assert_eq!(paths(&*storage, ""), [], "{kind}: the probe leaves nothing");
    }
}

#[test]
fn servers_conform() {
    for (kind, storage) in servers() {
        conforms(&kind, &*storage);
        let found = probe(&*storage).unwrap();
        assert_eq!((found.reads, &found.writes), (true, &Ok(())), "{kind}");
        assert!(found.write_rate.unwrap() > 0.0 && found.read_rate.unwrap() > 0.0);
        assert_eq!(paths(&*storage, ""), [], "{kind}: the probe leaves nothing");
        if kind == "sftp" {
            // A half that nobody finished is no object, and can be found and removed.
            storage.put("aside/half", &bytes::Bytes::from_static(b"ha")).unwrap();
            assert_eq!(paths(&*storage, ""), [], "{kind}");
            let left = storage.leftovers().unwrap();
            assert_eq!(left.iter().map(|o| (o.path.as_str(), o.size)).collect::<Vec<_>>(), [("aside/half", 2)]);
            storage.delete("aside/half").unwrap();
        }
        assert_eq!(storage.leftovers().unwrap(), [], "{kind}: what was written leaves nothing");
        eprintln!("{kind}: only if absent: {:?}", found.only_if_absent);
        if kind == "s3" && std::env::var("S3_KIND").as_deref() == Ok("ceph") {
            assert_eq!(found.only_if_absent, Some(true));
        }
    }
}

/// Storage that ignores the condition is found out.
struct Careless(Memory);

impl Storage for Careless {
    fn list(&self, folder: &str) -> Result<Vec<textum_depot::Object>, textum_depot::StorageError> {
        self.0.list(folder)
    }
    fn read(&self, path: &str) -> Result<Vec<u8>, textum_depot::StorageError> {
        self.0.read(path)
    }
    fn read_range(&self, path: &str, from: u64, length: u64) -> Result<Vec<u8>, textum_depot::StorageError> {
        self.0.read_range(path, from, length)
    }
    fn put(&self, path: &str, bytes: &bytes::Bytes) -> Result<(), textum_depot::StorageError> {
        self.0.put(path, bytes)
    }
    fn put_new(&self, path: &str, bytes: &[u8]) -> Result<bool, textum_depot::StorageError> {
        self.0.put(path, &bytes.to_vec().into()).map(|()| true)
    }
    fn delete(&self, path: &str) -> Result<(), textum_depot::StorageError> {
        self.0.delete(path)
    }
}

#[test]
fn storage_that_ignores_only_if_absent_is_found_out() {
    assert_eq!(probe(&Careless(Memory::default())).unwrap().only_if_absent, Some(false));
}

#[test]
fn passing_failures_are_tried_again_and_lasting_ones_are_not() {
    for seed in 0..20 {
        let storage = patient(Faulty { alters: false, ..Faulty::new(Memory::default(), seed, 4) });
        for number in 0..40 {
            let path = format!("a/{number}");
            storage.put(&path, &path.clone().into()).unwrap();
            assert_eq!(storage.read_range(&path, 0, path.len() as u64).unwrap(), path.as_bytes());
            // Who is not told that it was written finds that it was it.
            assert!(storage.put_new(&format!("new/{number}"), path.as_bytes()).unwrap());
            assert!(!storage.put_new(&format!("new/{number}"), b"other").unwrap());
        }
        assert_eq!(storage.list("a").unwrap().len(), 40);
    }
    let always = Arc::new(Faulty { alters: false, ..Faulty::new(Shared(memory()), 1, 1) });
    let storage = patient(Shared(always.clone()));
    let error = (0..50).find_map(|_| storage.list("a").err()).unwrap();
    assert!(error.what.contains("tried 6 times"), "{error}");
    let before = always.requests.load(std::sync::atomic::Ordering::SeqCst);
    always.dies_at.store(1, std::sync::atomic::Ordering::SeqCst);
    assert_eq!(storage.list("a").unwrap_err().fault, Fault::Lasting);
    assert_eq!(always.requests.load(std::sync::atomic::Ordering::SeqCst), before + 1, "asked once");
}
