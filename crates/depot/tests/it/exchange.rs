//! Content and documents between machines by way of a depot, with everything going wrong on the way.

use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;
use std::sync::atomic::Ordering;
use std::time::Duration;

use crate::common::{Faulty, Shared, depot, memory, options, patient, servers};
use proptest::prelude::*;
use textum_depot::{Depot, DepotError, Fault, Folder, Memory, Storage, SweepOptions, VerifyOptions};
use textum_store::{Digest, Store};

/// Bytes that do not compress.
fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

/// A machine: a store, and what it knows of depots.
struct Machine {
    folder: tempfile::TempDir,
    store: Store,
}

impl Machine {
    fn new() -> Machine {
        let folder = tempfile::tempdir().unwrap();
        Machine { store: Store::open(&folder.path().join("store")), folder }
    }

    fn put(&self, bytes: &[u8]) -> Digest {
        let writer = self.store.writer().unwrap();
        let digest = writer.put_bytes(bytes).unwrap().digest;
        writer.publish().unwrap();
        digest
    }

    fn put_document(&self, bytes: &[u8]) -> Digest {
        let writer = self.store.writer().unwrap();
        let digest = writer.put_document(bytes).unwrap();
        writer.publish().unwrap();
        digest
    }

    fn depot<S: Storage + 'static>(&self, storage: S) -> Depot {
        depot(storage, self.folder.path())
    }

    fn send(&self, depot: &Depot, contents: &[Digest]) -> Result<u64, DepotError> {
        let plan = depot.plan_to_send(&self.store, contents)?;
        Ok(depot.send(&self.store, &plan, &|_| ())?.bytes)
    }

    fn fetch(&self, depot: &Depot, contents: &[Digest]) -> Result<(), DepotError> {
        depot.refresh()?;
        depot.fetch(&self.store, contents, &|_| ()).map(drop)
    }
}

#[test]
fn what_one_machine_has_another_gets_and_only_what_is_missing_travels() {
    let there = memory();
    let (a, b) = (Machine::new(), Machine::new());
    let depot_a = a.depot(Shared(there.clone()));
    let large = noise(1, 9_000_000);
    let mut contents = vec![a.put(&large), a.put(b""), a.put(&[b'w'; 100_000])];
    contents.extend((0..3000u64).map(|n| a.put(&noise(n + 10, 300))));
    a.send(&depot_a, &contents).unwrap();
    assert_eq!(a.send(&depot_a, &contents).unwrap(), 0, "nothing twice");
    let objects = there.list("content").unwrap().len();
    assert!(objects <= 2, "{objects} packs, not one for each content");

    // A change in the middle travels alone.
    let mut changed = large.clone();
    changed[4_000_000..4_000_900].copy_from_slice(&noise(2, 900));
    let second = a.put(&changed);
    let bytes = a.send(&depot_a, &[second]).unwrap();
    assert!(bytes < 5_000_000, "{bytes} bytes travelled for 900");

    let depot_b = b.depot(Shared(there.clone()));
    b.fetch(&depot_b, &contents).unwrap();
    b.fetch(&depot_b, &[second, Digest::of(b"nobody has this")]).unwrap();
    for digest in &contents {
        assert_eq!(b.store.read(digest).unwrap(), a.store.read(digest).unwrap());
    }
    assert!(b.store.read(&second).unwrap() == changed);
    let damage = depot_b.verify(&b.store, &contents.iter().copied().collect(), VerifyOptions { deep: true, heal: false }).unwrap();
    assert_eq!((damage.damage, damage.missing), (vec![], vec![]));
}

#[test]
fn documents_reach_everybody_once() {
    let there = memory();
    let machines: Vec<Machine> = (0..3).map(|_| Machine::new()).collect();
    let depots: Vec<Depot> = machines.iter().map(|m| m.depot(Shared(there.clone()))).collect();
    let mut all = HashSet::new();
    // Enough packs to be merged.
    for round in 0..80u32 {
        for (number, (machine, depot)) in machines.iter().zip(&depots).enumerate() {
            all.insert(machine.put_document(format!("{{\"round\":{round},\"by\":{number}}}").as_bytes()));
            depot.receive(&machine.store, &mut |e| panic!("{e}")).unwrap();
            let unsent = depot.unsent_documents(&machine.store).unwrap();
            assert_eq!(unsent.len(), 1, "what came is not sent back");
            depot.send_documents(&machine.store, &unsent).unwrap();
            depot.tidy().unwrap();
        }
    }
    let packs = there.list("documents").unwrap().len();
    assert!(packs < 100, "{packs} packs of {} were not merged", all.len());
    for (machine, depot) in machines.iter().zip(&depots) {
        depot.receive(&machine.store, &mut |e| panic!("{e}")).unwrap();
        assert_eq!(machine.store.all_documents().unwrap(), all);
        assert_eq!(depot.receive(&machine.store, &mut |e| panic!("{e}")).unwrap().bytes, 0, "what is here does not travel again");
    }
    // A machine that knows nothing gets all of them, too.
    let fresh = Machine::new();
    fresh.depot(Shared(there)).receive(&fresh.store, &mut |e| panic!("{e}")).unwrap();
    assert_eq!(fresh.store.all_documents().unwrap(), all);
}

#[test]
fn whatever_fails_on_the_way_nothing_wrong_is_taken_in_and_the_next_try_goes_on() {
    for seed in 0..12u64 {
        let there = memory();
        let (a, b) = (Machine::new(), Machine::new());
        a.depot(Shared(there.clone()));
        let contents: Vec<Digest> = (0..40u64).map(|n| a.put(&noise(n, 2000 + n as usize * 40_000))).collect();
        let document = a.put_document(b"{\"a\":1}");
        let faulty = |one_in| Faulty::new(Shared(there.clone()), seed, one_in);
        // Bytes that come wrong are an error that names the object, or are asked for again: never content.
        let mut tries = 0;
        loop {
            tries += 1;
            assert!(tries < 50, "it never got through");
            let Ok((depot_a, _)) = Depot::open_or_create(patient(faulty(6)), options(a.folder.path()), "x") else { continue };
            let sent = a.send(&depot_a, &contents).and_then(|_| depot_a.send_documents(&a.store, &[document]));
            match sent {
                Ok(_) => break,
                Err(DepotError::Damaged { object, .. }) => assert!(!object.is_empty()),
                Err(DepotError::Storage(_)) => {}
                Err(other) => panic!("{other}"),
            }
        }
        let mut tries = 0;
        while !contents.iter().all(|d| b.store.contains(d).unwrap()) {
            tries += 1;
            assert!(tries < 80, "it never got through");
            let Ok((depot_b, _)) = Depot::open_or_create(patient(faulty(4)), options(b.folder.path()), "x") else { continue };
            let _ = b.fetch(&depot_b, &contents);
            let _ = depot_b.receive(&b.store, &mut |_| ());
        }
        for digest in &contents {
            assert_eq!(Digest::of(&b.store.read(digest).unwrap()), *digest);
        }
    }
}

#[test]
fn a_sender_that_dies_at_any_request_leaves_a_depot_that_is_whole() {
    for dies_at in 1..40u64 {
        let there = memory();
        let (a, b) = (Machine::new(), Machine::new());
        a.depot(Shared(there.clone()));
        let contents: Vec<Digest> = (0..6u64).map(|n| a.put(&noise(n, 1 + n as usize * 700_000))).collect();
        let document = a.put_document(b"{\"needs\":\"all\"}");
        let dying = Arc::new(Faulty { alters: false, ..Faulty::new(Shared(there.clone()), 0, 0) });
        dying.dies_at.store(dies_at, Ordering::SeqCst);
        let send = |depot: &Depot| -> Result<(), DepotError> {
            a.send(depot, &contents)?;
            depot.send_documents(&a.store, &[document])?;
            depot.tidy()
        };
        let result = Depot::open(patient(Shared(dying)), options(a.folder.path())).and_then(|depot| send(&depot));
        let depot_b = b.depot(Shared(there.clone()));
        depot_b.receive(&b.store, &mut |e| panic!("{e}")).unwrap();
        // A document that can be seen has all that it speaks of.
        let spoken_of: HashSet<Digest> = match b.store.contains_document(&document).unwrap() {
            true => contents.iter().copied().collect(),
            false => HashSet::new(),
        };
        assert!(result.is_err() || !spoken_of.is_empty(), "what was said to be sent is there");
        let report = depot_b.verify(&b.store, &spoken_of, VerifyOptions { deep: true, heal: false }).unwrap();
        assert_eq!((report.damage, report.missing), (vec![], vec![]), "died at request {dies_at}");
        // And the next try goes on.
        let again = a.depot(Shared(there.clone()));
        send(&again).unwrap();
        b.fetch(&depot_b, &contents).unwrap();
        assert!(contents.iter().all(|d| b.store.contains(d).unwrap()));
    }
}

#[test]
fn a_damaged_pack_is_named_and_healed_by_who_has_the_content() {
    let there = memory();
    let (a, b) = (Machine::new(), Machine::new());
    let depot_a = a.depot(Shared(there.clone()));
    let contents: Vec<Digest> = (0..50u64).map(|n| a.put(&noise(n, 5000))).collect();
    a.send(&depot_a, &contents).unwrap();
    let spoken_of: HashSet<Digest> = contents.iter().copied().collect();
    let path = there.list("content").unwrap()[0].path.clone();
    let mut bytes = there.read(&path).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    there.put(&path, &bytes.into()).unwrap();
    let error = b.fetch(&b.depot(Shared(there.clone())), &contents).unwrap_err();
    assert!(error.to_string().contains(&path), "{error}");
    assert_eq!(b.store.contains(&contents[0]).ok(), Some(b.store.contains(&contents[0]).unwrap()));

    let deep = |heal| VerifyOptions { deep: true, heal };
    let report = depot_a.verify(&Machine::new().store, &spoken_of, deep(false)).unwrap();
    assert_eq!((report.damage.len(), report.damage[0].entries, report.missing.len()), (1, 1, 1), "one entry of fifty");
    // Who does not have it saves the rest.
    let report = depot_a.verify(&Machine::new().store, &spoken_of, deep(true)).unwrap();
    assert_eq!((report.damage[0].healed, report.missing.len()), (false, 1));
    let report = depot_a.verify(&a.store, &spoken_of, deep(true)).unwrap();
    assert_eq!((report.damage.len(), report.missing.len()), (0, 0), "the missing one was sent");
    b.fetch(&b.depot(Shared(there.clone())), &contents).unwrap();
    assert!(contents.iter().all(|d| b.store.contains(d).unwrap()));

    // One that is gone, or cut.
    let path = there.list("content").unwrap()[0].path.clone();
    there.delete(&path).unwrap();
    let report = depot_a.verify(&a.store, &spoken_of, VerifyOptions { deep: false, heal: true }).unwrap();
    assert!(report.damage.iter().all(|d| d.healed) && report.missing.is_empty(), "{report:?}");
    assert_eq!(depot_a.verify(&a.store, &spoken_of, deep(false)).unwrap().damage, []);
}

#[test]
fn a_damaged_pack_of_documents_gives_what_can_be_read_of_it_and_what_is_lost_is_told() {
    let there = memory();
    let (a, b) = (Machine::new(), Machine::new());
    let depot_a = a.depot(Shared(there.clone()));
    let all: HashSet<Digest> = (0..9u32).map(|n| a.put_document(format!("{{\"loom\":{n}}}").as_bytes())).collect();
    depot_a.send_documents(&a.store, &depot_a.unsent_documents(&a.store).unwrap()).unwrap();
    let path = there.list("documents").unwrap()[0].path.clone();
    let sound = there.read(&path).unwrap();
    let heal = VerifyOptions { deep: true, heal: true };
    let damaged = |at: usize| {
        let mut bytes = sound.clone();
        bytes[at] ^= 1;
        bytes
    };
    // The last byte is one of a document; the sixteenth one of the first head, behind which nothing can be followed.
    for (at, lost, saved) in [(sound.len() - 1, 1, 8), (17, 0, 0)] {
        there.list("documents").unwrap().iter().for_each(|o| there.delete(&o.path).unwrap());
        there.put(&path, &damaged(at).into()).unwrap();
        // Who has none of them saves what can be read, and does not say that all is well.
        let depot_b = b.depot(Shared(there.clone()));
        let report = depot_b.verify(&b.store, &HashSet::new(), heal).unwrap();
        assert_eq!((report.damage.len(), report.damage[0].entries, report.damage[0].healed), (1, lost, false), "byte {at}");
        let fresh = Machine::new();
        fresh.depot(Shared(there.clone())).receive(&fresh.store, &mut |e| panic!("{e}")).unwrap();
        assert_eq!(fresh.store.all_documents().unwrap().len(), saved.max(b.store.all_documents().unwrap().len()), "byte {at}");
    }
    // Who has all of them mends it.
    there.list("documents").unwrap().iter().for_each(|o| there.delete(&o.path).unwrap());
    there.put(&path, &damaged(sound.len() - 1).into()).unwrap();
    let report = depot_a.verify(&a.store, &HashSet::new(), heal).unwrap();
    assert_eq!((report.damage[0].entries, report.damage[0].healed), (0, true));
    let fresh = Machine::new();
    fresh.depot(Shared(there)).receive(&fresh.store, &mut |e| panic!("{e}")).unwrap();
    assert_eq!(fresh.store.all_documents().unwrap(), all);
}

/// Storage of which a part cannot be read: the network's doing.
struct Unreadable(Arc<Memory>);

impl Storage for Unreadable {
    fn list(&self, folder: &str) -> Result<Vec<textum_depot::Object>, textum_depot::StorageError> {
        self.0.list(folder)
    }
    fn read(&self, path: &str) -> Result<Vec<u8>, textum_depot::StorageError> {
        self.0.read(path)
    }
    fn read_range(&self, path: &str, _: u64, _: u64) -> Result<Vec<u8>, textum_depot::StorageError> {
        Err(textum_depot::StorageError::of(Fault::Lasting, "read", path, "the line is down"))
    }
    fn put(&self, path: &str, bytes: &bytes::Bytes) -> Result<(), textum_depot::StorageError> {
        self.0.put(path, bytes)
    }
    fn put_new(&self, path: &str, bytes: &[u8]) -> Result<bool, textum_depot::StorageError> {
        self.0.put_new(path, bytes)
    }
    fn delete(&self, path: &str) -> Result<(), textum_depot::StorageError> {
        self.0.delete(path)
    }
}

#[test]
fn a_line_that_is_down_while_a_depot_is_healed_or_looked_at_loses_and_hides_nothing() {
    let there = memory();
    let (a, b) = (Machine::new(), Machine::new());
    let depot_a = a.depot(Shared(there.clone()));
    let contents: Vec<Digest> = (0..20u64).map(|n| a.put(&noise(n, 5000))).chain([a.put(&noise(99, 3_000_000))]).collect();
    a.send(&depot_a, &contents).unwrap();
    let spoken_of: HashSet<Digest> = contents.iter().copied().collect();
    let verify = |deep, heal| b.depot(Unreadable(there.clone())).verify(&b.store, &spoken_of, VerifyOptions { deep, heal });
    // Whether the pieces of what is large are there cannot be told.
    assert!(verify(false, false).unwrap_err().to_string().contains("the line is down"));
    // A pack that is damaged is not thrown away with what could be saved of it.
    let path = there.list("content").unwrap()[0].path.clone();
    let mut bytes = there.read(&path).unwrap();
    bytes.push(0);
    there.put(&path, &bytes.into()).unwrap();
    assert!(verify(true, true).unwrap_err().to_string().contains("the line is down"));
    let report = b.depot(Shared(there.clone())).verify(&b.store, &spoken_of, VerifyOptions { deep: true, heal: true }).unwrap();
    assert!(report.missing.is_empty() && report.damage.iter().all(|d| d.healed), "{report:?}");
    b.fetch(&b.depot(Shared(there)), &contents).unwrap();
    assert!(contents.iter().all(|d| b.store.contains(d).unwrap()));
}

#[test]
fn what_is_no_depot_is_told_and_left_alone() {
    let folder = tempfile::tempdir().unwrap();
    let open = |storage: Memory| Depot::open_or_create(Arc::new(storage), options(folder.path()), "x");
    let foreign = Memory::default();
    foreign.put("photos/loom.jpg", &"x".into()).unwrap();
    assert!(matches!(open(foreign), Err(DepotError::Foreign(_, path)) if path == "photos/loom.jpg"));
    let newer = Memory::default();
    newer.put("textum-depot.json", &"{\"type\":\"textum/depot@2\"}".into()).unwrap();
    assert!(open(newer).err().unwrap().to_string().contains("textum/depot@2"));
    for bad in ["", "{", "{}", "[]", "{\"type\":\"textum/depot@1\",\"id\":\"../../x\",\"made\":\"\",\"by\":\"\"}"] {
        let broken = Memory::default();
        broken.put("textum-depot.json", &bad.into()).unwrap();
        assert!(matches!(open(broken), Err(DepotError::Damaged { .. })), "{bad}");
    }
    // One whose maker was cut off before it said what it is.
    let half = Memory::default();
    half.put("probe/x", &"x".into()).unwrap();
    assert!(open(half).unwrap().1);
    assert!(matches!(Depot::open(Arc::new(Memory::default()), options(folder.path())), Err(DepotError::NotThere(_))));
}

#[test]
fn many_machines_at_once_lose_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let root = folder.path().join("depot");
    Machine::new().depot(Folder::new(&root));
    let sent: Vec<(Digest, Vec<Digest>)> = std::thread::scope(|scope| {
        let machines: Vec<_> = (0..8u64)
            .map(|number| {
                let root = &root;
                scope.spawn(move || {
                    let machine = Machine::new();
                    let depot = machine.depot(Folder::new(root));
                    let mut told = Vec::new();
                    for round in 0..12u64 {
                        // Some of it everybody has.
                        let contents: Vec<Digest> =
                            (0..5).map(|n| machine.put(&noise(round * 5 + n * (number % 3), 3000))).collect();
                        let document = machine.put_document(format!("[{number},{round}]").as_bytes());
                        depot.refresh().unwrap();
                        machine.send(&depot, &contents).unwrap();
                        depot.receive(&machine.store, &mut |e| panic!("{e}")).unwrap();
                        depot.send_documents(&machine.store, &[document]).unwrap();
                        depot.tidy().unwrap();
                        told.push((document, contents));
                    }
                    told
                })
            })
            .collect();
        machines.into_iter().flat_map(|m| m.join().unwrap()).collect()
    });
    let reader = Machine::new();
    let depot = reader.depot(Folder::new(&root));
    depot.receive(&reader.store, &mut |e| panic!("{e}")).unwrap();
    for (document, contents) in &sent {
        assert!(reader.store.contains_document(document).unwrap());
        reader.fetch(&depot, contents).unwrap();
        assert!(contents.iter().all(|d| reader.store.contains(d).unwrap()));
    }
}

#[test]
fn servers_carry_content_as_folders_do() {
    for (kind, storage) in servers() {
        let (a, b) = (Machine::new(), Machine::new());
        let open = |machine: &Machine| Depot::open_or_create(storage.clone(), options(machine.folder.path()), "x").unwrap().0;
        let mut contents = vec![a.put(&noise(1, 40_000_000))];
        contents.extend((0..500u64).map(|n| a.put(&noise(n + 10, 700))));
        let document = a.put_document(b"{\"kind\":1}");
        let depot_a = open(&a);
        a.send(&depot_a, &contents).unwrap();
        depot_a.send_documents(&a.store, &[document]).unwrap();
        let depot_b = open(&b);
        depot_b.receive(&b.store, &mut |e| panic!("{kind}: {e}")).unwrap();
        b.fetch(&depot_b, &contents).unwrap();
        assert!(b.store.contains_document(&document).unwrap(), "{kind}");
        for digest in &contents {
            assert_eq!(Digest::of(&b.store.read(digest).unwrap()), *digest, "{kind}");
        }
        let options = SweepOptions { grace: Duration::ZERO, dry_run: false };
        depot_b.sweep(&HashSet::new(), options).unwrap();
        depot_b.sweep(&HashSet::new(), options).unwrap();
        assert_eq!(storage.list("content").unwrap(), [], "{kind}");
        for object in storage.list("").unwrap() {
            storage.delete(&object.path).unwrap();
        }
    }
}

/// What may happen to a depot, in any order.
#[derive(Clone, Debug)]
enum Step {
    /// A machine records something, and sends it with a document that speaks of it.
    Send(usize, u8),
    /// A machine sends content, and is lost before it sends the document.
    SendHalf(usize, u8),
    /// Everything that one speaks of is given up: a sweep may drop it.
    GiveUp(u8),
    /// A sweep.
    Sweep(usize),
    /// Indexes and documents are merged.
    Tidy(usize),
}

fn step() -> impl Strategy<Value = Step> {
    let machine = 0..3usize;
    prop_oneof![
        4 => (machine.clone(), 0..12u8).prop_map(|(m, c)| Step::Send(m, c)),
        1 => (machine.clone(), 0..12u8).prop_map(|(m, c)| Step::SendHalf(m, c)),
        2 => (0..12u8).prop_map(Step::GiveUp),
        3 => machine.clone().prop_map(Step::Sweep),
        1 => machine.prop_map(Step::Tidy),
    ]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: std::env::var("TEXTUM_DEPOTS").ok().and_then(|n| n.parse().ok()).unwrap_or(20), ..ProptestConfig::default() })]

    /// What is spoken of can always be fetched; what is not goes in the end.
    #[test]
    fn nothing_that_is_spoken_of_is_ever_dropped(steps in proptest::collection::vec(step(), 1..40)) {
        let there = memory();
        let machines: Vec<Machine> = (0..3).map(|_| Machine::new()).collect();
        let depots: Vec<Depot> = machines.iter().map(|m| m.depot(Shared(there.clone()))).collect();
        // Content by number: some share pieces.
        let content = |number: u8| [noise(1, 600_000 + usize::from(number % 3) * 500_000), vec![number; 64]].concat();
        let mut spoken_of: BTreeMap<u8, Digest> = BTreeMap::new();
        let now = SweepOptions { grace: Duration::ZERO, dry_run: false };
        for step in steps {
            match step {
                Step::Send(m, number) => {
                    depots[m].refresh().unwrap();
                    let digest = machines[m].put(&content(number));
                    machines[m].send(&depots[m], &[digest]).unwrap();
                    spoken_of.insert(number, digest);
                }
                Step::SendHalf(m, number) => {
                    depots[m].refresh().unwrap();
                    let digest = machines[m].put(&content(number));
                    machines[m].send(&depots[m], &[digest]).unwrap();
                }
                Step::GiveUp(number) => drop(spoken_of.remove(&number)),
                Step::Sweep(m) => {
                    depots[m].sweep(&spoken_of.values().copied().collect(), now).unwrap();
                }
                Step::Tidy(m) => depots[m].tidy().unwrap(),
            }
            let fresh = Machine::new();
            let depot = fresh.depot(Shared(there.clone()));
            let wanted: Vec<Digest> = spoken_of.values().copied().collect();
            fresh.fetch(&depot, &wanted).unwrap();
            prop_assert!(wanted.iter().all(|d| fresh.store.contains(d).unwrap()), "after {step:?}");
        }
        for _ in 0..2 {
            depots[0].sweep(&HashSet::new(), now).unwrap();
        }
        prop_assert_eq!(there.list("content").unwrap(), vec![]);
    }
}

#[test]
fn a_sweep_leaves_what_is_young_and_marks_before_it_drops() {
    let there = memory();
    let a = Machine::new();
    let depot_a = a.depot(Shared(there.clone()));
    let digest = a.put(&noise(1, 5000));
    a.send(&depot_a, &[digest]).unwrap();
    let sweep = |grace: u64, live: &[Digest]| {
        let options = SweepOptions { grace: Duration::from_secs(grace), dry_run: false };
        depot_a.sweep(&live.iter().copied().collect(), options).unwrap()
    };
    assert_eq!(sweep(3600, &[]).marked, 1);
    let second = sweep(3600, &[]);
    assert_eq!((second.waiting, second.dropped), (1, 0), "within the grace");
    // Who sends it now does not rely on what is marked.
    assert!(a.send(&depot_a, &[digest]).unwrap() > 0);
    let spared = sweep(0, &[digest]);
    assert_eq!((spared.spared, spared.dropped), (1, 0));
    let dry = SweepOptions { grace: Duration::ZERO, dry_run: true };
    assert_eq!(depot_a.sweep(&HashSet::new(), dry).unwrap().marked, 2, "the same thing, sent twice");
    assert_eq!(sweep(0, &[]).dropped, 0, "marked first");
    assert_eq!(sweep(0, &[]).dropped, 2);
    assert!(matches!(a.fetch(&depot_a, &[digest]), Ok(())));
}

#[test]
fn halves_that_nobody_finished_are_swept_when_they_are_old() {
    let around = tempfile::tempdir().unwrap();
    let root = around.path().join("depot");
    let a = Machine::new();
    let depot_a = a.depot(Folder::new(&root));
    let digest = a.put(&noise(1, 5000));
    a.send(&depot_a, &[digest]).unwrap();
    let half = root.join("content/.part-0123456789abcdef");
    std::fs::write(&half, vec![1; 700]).unwrap();
    let sweep = |grace: u64, dry_run: bool| {
        let options = SweepOptions { grace: Duration::from_secs(grace), dry_run };
        depot_a.sweep(&HashSet::from([digest]), options).unwrap()
    };
    assert_eq!(sweep(3600, false).orphans, 0, "somebody may be writing it");
    assert_eq!((sweep(0, true).orphans, sweep(0, true).freed), (1, 700));
    assert!(half.exists(), "a dry run removes nothing");
    assert_eq!(sweep(0, false).orphans, 1);
    assert!(!half.exists());
    assert_eq!(sweep(0, false).orphans, 0);
    let b = Machine::new();
    b.fetch(&b.depot(Folder::new(&root)), &[digest]).unwrap();
    assert_eq!(b.store.read(&digest).unwrap(), noise(1, 5000));
}
