//! Content taken out of a depot at once: what goes is in no object, what stays is whole, whenever it ends.

use std::collections::HashSet;
use std::sync::Arc;
use std::sync::atomic::Ordering;

use crate::common::{Faulty, Shared, depot, memory, options, patient};
use textum_depot::{Depot, Memory, Storage, VerifyOptions};
use textum_store::{Digest, Store};

/// Bytes that do not compress, so that they stand in a pack as they are.
fn noise(seed: u64, length: usize) -> Vec<u8> {
    let mut bytes = vec![0; length];
    blake3::Hasher::new().update(&seed.to_le_bytes()).finalize_xof().fill(&mut bytes);
    bytes
}

/// A store with a large content that goes, one that shares most of it and stays, and small ones of either kind.
struct Told {
    folder: tempfile::TempDir,
    store: Store,
    going: HashSet<Digest>,
    live: HashSet<Digest>,
    /// What must not be found any more, and what must.
    gone: [Vec<u8>; 2],
    kept: Vec<u8>,
}

fn told() -> Told {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("store"));
    let shared = noise(1, 3_000_000);
    let (own, small) = (noise(2, 900_000), noise(3, 4_000));
    let put = |bytes: &[u8]| {
        let writer = store.writer().unwrap();
        let digest = writer.put_bytes(bytes).unwrap().digest;
        writer.publish().unwrap();
        digest
    };
    let going = HashSet::from([put(&[&shared[..], &own].concat()), put(&small)]);
    let live = HashSet::from([put(&shared), put(&noise(4, 5_000)), put(&[&shared[..1_500_000], &noise(5, 700_000)].concat())]);
    // Of the small one the middle, of the large one what lies well behind the first cut of its own part.
    let gone = [own[600_000..600_064].to_vec(), small[2_000..2_064].to_vec()];
    Told { folder, store, going, live, gone, kept: shared[1_000_000..1_000_064].to_vec() }
}

fn send(told: &Told, depot: &Depot) {
    let all: Vec<Digest> = told.going.iter().chain(&told.live).copied().collect();
    let plan = depot.plan_to_send(&told.store, &all).unwrap();
    depot.send(&told.store, &plan, &|_| ()).unwrap();
}

fn is_in(storage: &Memory, needle: &[u8]) -> bool {
    let objects = storage.list("").unwrap();
    objects.iter().any(|o| memchr::memmem::find(&storage.read(&o.path).unwrap(), needle).is_some())
}

/// That everything that stays can be had by somebody who has nothing.
fn all_stays(storage: &Arc<Memory>, told: &Told, what: &str) {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open(&folder.path().join("store"));
    let other = depot(Shared(storage.clone()), folder.path());
    other.refresh().unwrap();
    let live: Vec<Digest> = told.live.iter().copied().collect();
    other.fetch(&store, &live, &|_| ()).unwrap();
    for digest in &live {
        assert_eq!(Digest::of(&store.read(digest).unwrap()), *digest, "{what}");
    }
    let options = VerifyOptions { deep: true, heal: false };
    let report = other.verify(&store, &told.live, options).unwrap();
    assert_eq!((report.damage, report.missing), (vec![], vec![]), "{what}");
}

#[test]
fn what_goes_is_in_no_object_and_shared_pieces_stay() {
    let (storage, told) = (memory(), told());
    let depot = depot(Shared(storage.clone()), told.folder.path());
    send(&told, &depot);
    assert!(told.gone.iter().all(|n| is_in(&storage, n)) && is_in(&storage, &told.kept), "or this test could not fail");
    let erased = depot.erase(&told.going, &told.live).unwrap();
    assert!(erased.entries > 2 && erased.bytes > 500_000, "{erased:?}");
    assert!(told.gone.iter().all(|n| !is_in(&storage, n)) && is_in(&storage, &told.kept));
    all_stays(&storage, &told, "once");
    let going: Vec<Digest> = told.going.iter().copied().collect();
    assert!(depot.has(&going).unwrap().is_empty());
    assert_eq!(depot.erase(&told.going, &told.live).unwrap().entries, 0, "a second time there is nothing");
    // What others go on to send finds its place as before.
    send(&told, &depot);
    assert!(is_in(&storage, &told.gone[1]));
}

#[test]
fn whichever_request_is_its_last_the_next_time_goes_on() {
    let mut ended = 0;
    for dies_at in 1..60u64 {
        let (storage, told) = (memory(), told());
        send(&told, &depot(Shared(storage.clone()), told.folder.path()));
        let dying = Arc::new(Faulty { alters: false, ..Faulty::new(Shared(storage.clone()), 0, 0) });
        dying.dies_at.store(dies_at, Ordering::SeqCst);
        let died = Depot::open(patient(Shared(dying)), options(told.folder.path())).and_then(|d| d.erase(&told.going, &told.live));
        let what = format!("died at request {dies_at}");
        all_stays(&storage, &told, &what);
        let again = depot(Shared(storage.clone()), told.folder.path());
        again.erase(&told.going, &told.live).unwrap();
        assert!(told.gone.iter().all(|n| !is_in(&storage, n)), "{what}");
        all_stays(&storage, &told, &what);
        ended += u32::from(died.is_ok());
        if ended > 2 {
            return;
        }
    }
    panic!("it never ended by itself");
}
