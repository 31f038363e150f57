//! A depot in which somebody has altered what lies there: whatever it is, what comes out of it is what was put in or an
//! error, and nothing outside of the machine's own store is touched.

use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

use crate::common::{Shared, depot, memory, options, patient};
use bytes::Bytes;
use textum_depot::{Depot, DepotError, EntryAt, Fault, Memory, PackAt, PackName, Storage, VerifyOptions, encode_index};
use textum_store::{Digest, Store};

/// Bytes that do not compress.
fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

/// A depot with some contents and documents, each of its objects as it should be.
struct Sound {
    objects: BTreeMap<String, Vec<u8>>,
    contents: BTreeMap<Digest, Vec<u8>>,
    documents: HashSet<Digest>,
    /// What content is made of, where it is large.
    pieces: HashSet<Digest>,
}

impl Sound {
    fn new() -> Sound {
        let folder = tempfile::tempdir().unwrap();
        let there = memory();
        let depot = depot(Shared(there.clone()), folder.path());
        let store = Store::open(&folder.path().join("store"));
        let bodies = [noise(1, 700_000), noise(2, 900), b"warp".repeat(500), Vec::new()];
        let (mut contents, mut documents, mut pieces) = (BTreeMap::new(), HashSet::new(), HashSet::new());
        for (number, body) in bodies.into_iter().enumerate() {
            let writer = store.writer().unwrap();
            let digest = writer.put_bytes(&body).unwrap().digest;
            documents.insert(writer.put_document(format!("{{\"type\":\"loom/{number}\"}}").as_bytes()).unwrap());
            writer.publish().unwrap();
            let plan = depot.plan_to_send(&store, &[digest]).unwrap();
            depot.send(&store, &plan, &|_| ()).unwrap();
            depot.send_documents(&store, &depot.unsent_documents(&store).unwrap()).unwrap();
            pieces.extend(store.parts_of(&digest).unwrap().iter().map(|part| part.digest));
            contents.insert(digest, body);
        }
        let listed = there.list("").unwrap();
        let objects = listed.into_iter().map(|o| (o.path.clone(), there.read(&o.path).unwrap())).collect();
        Sound { objects, contents, documents, pieces }
    }

    /// The same depot with one object that is another, or gone.
    fn with(&self, path: &str, bytes: Option<Vec<u8>>) -> Arc<Memory> {
        let there = memory();
        for (at, sound) in &self.objects {
            let bytes = if at == path { bytes.clone() } else { Some(sound.clone()) };
            if let Some(bytes) = bytes {
                there.put(at, &Bytes::from(bytes)).unwrap();
            }
        }
        there
    }

    /// A new machine takes all it can get, and has nothing that was not put in; whether it has all.
    fn is_taken_rightly(&self, there: Arc<Memory>, what: &str) -> bool {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open(&folder.path().join("store"));
        let depot = match Depot::open(patient(Shared(there)), options(folder.path())) {
            Ok(depot) => depot,
            Err(DepotError::NotThere(_) | DepotError::Foreign(..) | DepotError::Newer { .. } | DepotError::Damaged { .. }) => {
                return false;
            }
            Err(e) => panic!("{what}: {e}"),
        };
        let mut wrong = 0;
        let received = depot.receive(&store, &mut |_| wrong += 1);
        let wanted: Vec<Digest> = self.contents.keys().copied().collect();
        let fetched = depot.fetch(&store, &wanted, &|_| ());
        let documents = store.all_documents().unwrap();
        assert!(documents.is_subset(&self.documents), "{what}: a document that nobody wrote");
        let mut complete = documents == self.documents;
        for (digest, body) in &self.contents {
            match store.contains(digest).unwrap() {
                true => assert!(store.read(digest).unwrap() == *body, "{what}: {digest} is not what it was"),
                false => complete = false,
            }
        }
        assert!(store.verify_packs(true).unwrap().iter().all(|pack| pack.damage.is_empty()), "{what}");
        // What is not complete was told: an error, or simply not there any more.
        if complete {
            assert!(received.is_ok() && fetched.is_ok(), "{what}: {received:?} {fetched:?}");
        }
        let spoken_of = self.contents.keys().copied().collect();
        let report = depot.verify(&store, &spoken_of, VerifyOptions { deep: true, heal: false });
        let is_found = report.is_err() || report.is_ok_and(|r| !r.damage.is_empty() || !r.missing.is_empty());
        let documents_lost = wrong > 0 || documents != self.documents;
        assert!(complete || is_found || documents_lost, "{what}: something is lost, and nobody says so");
        complete
    }
}

#[test]
fn any_object_may_be_another_and_nothing_wrong_is_taken_in() {
    let sound = Sound::new();
    assert!(sound.is_taken_rightly(sound.with("", None), "as it was"));
    let mut worse = 0;
    for (path, bytes) in &sound.objects {
        let half = bytes[..bytes.len() / 2].to_vec();
        let mut cases = vec![("gone", None), ("empty", Some(Vec::new())), ("half", Some(half)), ("noise", Some(noise(9, 3_000)))];
        cases.push(("longer", Some([bytes.as_slice(), b"more"].concat())));
        // Another object of the same kind under this name.
        let kind = path.split('/').next().unwrap();
        let other = sound.objects.iter().find(|(p, b)| p.starts_with(kind) && *p != path && *b != bytes);
        cases.extend(other.map(|(_, other)| ("another", Some(other.clone()))));
        for (how, bytes) in cases {
            worse += u32::from(!sound.is_taken_rightly(sound.with(path, bytes), &format!("{path} is {how}")));
        }
        for round in 0..24u64 {
            let mut altered = bytes.clone();
            let chance = noise(round, 12);
            let at = u64::from_le_bytes(chance[..8].try_into().unwrap()) as usize % altered.len();
            altered[at] ^= chance[8] | 1;
            sound.is_taken_rightly(sound.with(path, Some(altered)), &format!("{path} with another byte {at}"));
        }
    }
    assert!(worse > 20, "only {worse} of the alterations were ever felt");
}

/// Every way in which an index can lie about where something stands.
#[test]
fn an_index_that_lies_is_not_believed() {
    let sound = Sound::new();
    let there = sound.with("", None);
    let folder = tempfile::tempdir().unwrap();
    let depot = Depot::open(patient(Shared(there)), options(folder.path())).unwrap();
    let wanted: Vec<Digest> = sound.contents.keys().chain(&sound.pieces).copied().collect::<HashSet<_>>().into_iter().collect();
    assert!(wanted.len() > sound.contents.len(), "one of them is stored in pieces");
    let true_ones: Vec<EntryAt> = depot.find(&wanted).unwrap().into_values().collect();
    assert_eq!(true_ones.len(), wanted.len());
    type Lie = Box<dyn Fn(&mut EntryAt)>;
    let other_digest = true_ones[1].record.entry.digest;
    // Whether content is lost by it: how long it is, the entry itself says.
    let lies: Vec<(&str, bool, Lie)> = vec![
        ("a pack that is not there", true, Box::new(|e| e.pack = PackAt { name: PackName::new(Digest::of(b"none")), ..e.pack })),
        ("behind the end", true, Box::new(|e| e.record.offset += 1 << 40)),
        ("at the very end of what can be counted", true, Box::new(|e| e.record.offset = u64::MAX - 3)),
        ("longer than anything", true, Box::new(|e| e.record.entry.stored_len = u32::MAX)),
        ("of no length", true, Box::new(|e| e.record.entry.stored_len = 0)),
        ("a byte beside", true, Box::new(|e| e.record.offset += 1)),
        ("another content", true, Box::new(move |e| e.record.entry.digest = other_digest)),
        ("of another length", false, Box::new(|e| e.record.entry.raw_len = e.record.entry.raw_len.wrapping_add(7))),
        ("as large as can be", true, Box::new(|e| e.record.entry.raw_len = u32::MAX)),
        ("in a pack that is shorter", true, Box::new(|e| e.pack.length = 3)),
        ("in a pack without an end", false, Box::new(|e| e.pack.length = u64::MAX)),
    ];
    for (what, loses, lie) in lies {
        let there = memory();
        for (path, bytes) in sound.objects.iter().filter(|(path, _)| !path.starts_with("index/")) {
            there.put(path, &Bytes::from(bytes.clone())).unwrap();
        }
        let mut told = true_ones.clone();
        told.iter_mut().for_each(lie);
        let bytes = encode_index(told);
        there.put(&format!("index/0/all/{}.index", Digest::of(&bytes).hex()), &bytes.into()).unwrap();
        assert_eq!(sound.is_taken_rightly(there, what), !loses, "{what}");
    }
}

/// Names that would lead out of the machine's folder, or that are none.
#[test]
fn names_of_objects_are_only_ever_names() {
    let sound = Sound::new();
    let there = sound.with("", None);
    let strange = [
        "index/0/all/../../../../x.index",
        "index/0/zz/x.index",
        "index/-1/all/x.index",
        "index/99999999999999999999/all/x.index",
        "index/gone/x",
        "index/marks/..",
        "documents/../../x.pack",
        "documents/looms/0/x.pack",
        "content/aa/x.pack",
        "live/../../x/state",
        "live/20261126-101112-abcd/..",
        "projects/\u{1b}[31m",
        "\u{202e}",
    ];
    for path in strange {
        there.put(path, &Bytes::from_static(b"{}")).unwrap();
    }
    assert!(sound.is_taken_rightly(there.clone(), "strange names"), "what bears no name of ours is nobody's");
    let folder = tempfile::tempdir().unwrap();
    let depot = Depot::open(patient(Shared(there)), options(folder.path())).unwrap();
    for run in depot.live_runs().unwrap() {
        assert!(!run.run.contains('/') && !run.run.contains(".."), "{}", run.run);
    }
    let projects = depot.projects().unwrap();
    assert!(projects.iter().all(|p| !p.contains('\u{1b}')), "{projects:?}");
    let beside: Vec<_> = std::fs::read_dir(folder.path()).unwrap().flatten().map(|e| e.file_name()).collect();
    assert_eq!(beside, ["depots"], "nothing is written but what is known of the depot");
}

#[test]
fn a_lasting_fault_is_not_hidden_by_what_is_known() {
    struct Broken(Arc<Memory>);
    impl Storage for Broken {
        fn list(&self, folder: &str) -> Result<Vec<textum_depot::Object>, textum_depot::StorageError> {
            self.0.list(folder)
        }
        fn read(&self, path: &str) -> Result<Vec<u8>, textum_depot::StorageError> {
            match path {
                "textum-depot.json" => self.0.read(path),
                _ => Err(textum_depot::StorageError::of(Fault::Denied, "read", path, "not yours")),
            }
        }
        fn read_range(&self, path: &str, _: u64, _: u64) -> Result<Vec<u8>, textum_depot::StorageError> {
            self.read(path)
        }
        fn put(&self, path: &str, _: &Bytes) -> Result<(), textum_depot::StorageError> {
            Err(textum_depot::StorageError::of(Fault::Denied, "write", path, "not yours"))
        }
        fn put_new(&self, path: &str, _: &[u8]) -> Result<bool, textum_depot::StorageError> {
            Err(textum_depot::StorageError::of(Fault::Denied, "write", path, "not yours"))
        }
        fn delete(&self, path: &str) -> Result<(), textum_depot::StorageError> {
            Err(textum_depot::StorageError::of(Fault::Denied, "remove", path, "not yours"))
        }
    }
    let sound = Sound::new();
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("store"));
    let depot = Depot::open(patient(Broken(sound.with("", None))), options(folder.path())).unwrap();
    let wanted: Vec<Digest> = sound.contents.keys().copied().collect();
    let denied = |e: DepotError| matches!(e, DepotError::Storage(e) if e.fault == Fault::Denied);
    assert!(denied(depot.fetch(&store, &wanted, &|_| ()).unwrap_err()));
    assert!(denied(depot.receive(&store, &mut |e| panic!("{e}")).unwrap_err()));
    assert!(depot.plan_to_send(&store, &wanted).err().is_some_and(denied));
}

#[test]
fn a_pipe_in_the_folder_of_a_depot_is_not_waited_for() {
    let folder = tempfile::tempdir().unwrap();
    let there = textum_depot::Folder::new(folder.path());
    there.put_new("registry/0000000001.json", b"{}").unwrap();
    for name in ["registry/0000000002.json", "registry/.part-0000"] {
        assert!(std::process::Command::new("mkfifo").arg(folder.path().join(name)).status().unwrap().success());
    }
    let listed: Vec<String> = there.list("registry").unwrap().into_iter().map(|o| o.path).collect();
    assert_eq!(listed, ["registry/0000000001.json"]);
    assert!(there.leftovers().unwrap().is_empty());
    assert!(there.read("registry/0000000002.json").unwrap_err().to_string().contains("not a regular file"));
    assert!(there.read_range("registry/0000000002.json", 0, 1).is_err());
}

/// Storage in which something happens when an object is read for the first time.
struct Meanwhile<F> {
    there: Arc<Memory>,
    happens: F,
    done: std::sync::atomic::AtomicBool,
}

impl<F: Fn(&Memory, &str) -> bool + Send + Sync> Storage for Meanwhile<F> {
    fn list(&self, folder: &str) -> Result<Vec<textum_depot::Object>, textum_depot::StorageError> {
        self.there.list(folder)
    }
    fn read(&self, path: &str) -> Result<Vec<u8>, textum_depot::StorageError> {
        use std::sync::atomic::Ordering::SeqCst;
        if !self.done.load(SeqCst) && (self.happens)(&self.there, path) {
            self.done.store(true, SeqCst);
        }
        self.there.read(path)
    }
    fn read_range(&self, path: &str, from: u64, length: u64) -> Result<Vec<u8>, textum_depot::StorageError> {
        self.there.read_range(path, from, length)
    }
    fn put(&self, path: &str, bytes: &Bytes) -> Result<(), textum_depot::StorageError> {
        self.there.put(path, bytes)
    }
    fn put_new(&self, path: &str, bytes: &[u8]) -> Result<bool, textum_depot::StorageError> {
        self.there.put_new(path, bytes)
    }
    fn delete(&self, path: &str) -> Result<(), textum_depot::StorageError> {
        self.there.delete(path)
    }
}

#[test]
fn a_sweep_beside_a_merge_takes_no_pack_for_nobodys() {
    let sound = Sound::new();
    let there = sound.with("", None);
    let merges = |there: &Memory, path: &str| {
        let Some(rest) = path.strip_prefix("index/0/all/") else { return false };
        let bytes = there.read(path).unwrap();
        there.put(&format!("index/1/all/{rest}"), &bytes.into()).unwrap();
        there.delete(path).unwrap();
        true
    };
    let folder = tempfile::tempdir().unwrap();
    let storage = Meanwhile { there: there.clone(), happens: merges, done: Default::default() };
    let depot = Depot::open(patient(storage), options(folder.path())).unwrap();
    let live = sound.contents.keys().copied().collect();
    let options = textum_depot::SweepOptions { grace: std::time::Duration::ZERO, dry_run: false };
    let swept = depot.sweep(&live, options).unwrap();
    assert_eq!((swept.orphans, swept.marked, swept.dropped), (0, 0, 0));
    assert!(there.list("index/1").unwrap().len() == 1, "something was merged meanwhile");
    assert!(sound.is_taken_rightly(there, "after the sweep"));
}

/// A pack that is listed and never there is told, and nobody waits for it for ever.
#[test]
fn a_pack_that_is_only_a_name_is_told() {
    let around = tempfile::tempdir().unwrap();
    let sound = Sound::new();
    let root = around.path().join("depot");
    let there = textum_depot::Folder::new(&root);
    for (path, bytes) in &sound.objects {
        there.put(path, &Bytes::from(bytes.clone())).unwrap();
    }
    let ghost = PackName::new(Digest::of(b"ghost")).documents_path(&textum_depot::project_key("looms"), 0);
    std::os::unix::fs::symlink("nowhere", root.join(ghost)).unwrap();
    let store = Store::open(&around.path().join("store"));
    let depot = Depot::open(patient(textum_depot::Folder::new(&root)), options(around.path())).unwrap();
    let mut told = Vec::new();
    depot.receive(&store, &mut |e| told.push(e.to_string())).unwrap();
    assert!(told.len() == 1 && told[0].contains("go away"), "{told:?}");
    assert_eq!(store.all_documents().unwrap(), sound.documents, "the others are taken in all the same");
}
