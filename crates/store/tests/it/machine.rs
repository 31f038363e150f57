//! The store under anything that may be done to it: what was published is there until it is dropped, to the last byte,
//! and what was not is not; whoever opens it anew sees the same.

use std::collections::{BTreeMap, HashSet};

use proptest::prelude::*;
use textum_store::{Digest, GcPlan, Store, StoreError};
use textum_testkit::{many, noise};

#[derive(Clone, Debug)]
enum Act {
    /// Content of this seed and length, published or given up.
    Put(Vec<(u8, usize)>, bool),
    /// Documents, published.
    Documents(Vec<u8>),
    /// Drops some of what is there.
    Drop(Vec<prop::sample::Index>),
    /// Small packs become larger ones.
    Fold,
    /// An index is lost.
    LoseIndex(prop::sample::Index),
    /// Another process opens it.
    Reopen,
    /// A file that a dead writer left.
    Rubbish,
}

fn content() -> impl Strategy<Value = (u8, usize)> {
    (0u8..12, prop_oneof![4 => 0usize..2000, 1 => 60_000usize..400_000])
}

fn act() -> impl Strategy<Value = Act> {
    prop_oneof![
        5 => (prop::collection::vec(content(), 1..5), prop::bool::weighted(0.8)).prop_map(|(c, p)| Act::Put(c, p)),
        2 => prop::collection::vec(0u8..20, 1..4).prop_map(Act::Documents),
        2 => prop::collection::vec(any::<prop::sample::Index>(), 1..4).prop_map(Act::Drop),
        1 => Just(Act::Fold),
        1 => any::<prop::sample::Index>().prop_map(Act::LoseIndex),
        2 => Just(Act::Reopen),
        1 => Just(Act::Rubbish),
    ]
}

/// What must be there: contents and documents by digest.
#[derive(Default)]
struct Model {
    contents: BTreeMap<Digest, Vec<u8>>,
    documents: BTreeMap<Digest, Vec<u8>>,
    gone: HashSet<Digest>,
}

impl Model {
    fn holds(&self, store: &Store) {
        for (digest, bytes) in self.contents.iter().chain(&self.documents) {
            assert!(store.contains(digest).unwrap(), "{digest} is not there");
            assert_eq!(store.read(digest).unwrap(), *bytes);
            assert_eq!(store.size_of(digest).unwrap(), bytes.len() as u64);
            let mut copied = Vec::new();
            store.copy_to(digest, &mut copied).unwrap();
            assert_eq!(copied, *bytes);
            assert_eq!(store.tail(digest, 100).unwrap(), &bytes[bytes.len().saturating_sub(100)..]);
        }
        for digest in &self.gone {
            assert!(!store.contains(digest).unwrap(), "{digest} is still there");
            assert!(matches!(store.read(digest), Err(StoreError::Missing { .. })), "{:?}", store.read(digest));
        }
        let found: HashSet<Digest> = store.packs().unwrap().iter().flat_map(|p| store.documents_in(p).unwrap()).collect();
        assert_eq!(found, self.documents.keys().copied().collect());
    }
}

fn document(number: u8) -> Vec<u8> {
    format!("{{\"type\":\"textum/test@1\",\"number\":{number}}}").into_bytes()
}

proptest! {
    #![proptest_config(ProptestConfig { cases: many("TEXTUM_STORES", 24), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_was_published_is_there_until_it_is_dropped(acts in prop::collection::vec(act(), 3..24)) {
        let folder = tempfile::tempdir().unwrap();
        let mut store = Store::open(folder.path());
        let mut model = Model::default();
        for act in acts {
            match act {
                Act::Put(contents, publish) => {
                    let writer = store.writer().unwrap();
                    let mut put = Vec::new();
                    for (seed, length) in contents {
                        let bytes = noise(u64::from(seed), length);
                        let digest = writer.put_bytes(&bytes).unwrap().digest;
                        assert_eq!(digest, Digest::of(&bytes));
                        put.push((digest, bytes));
                    }
                    if publish {
                        writer.publish().unwrap();
                        for (digest, bytes) in put {
                            model.gone.remove(&digest);
                            model.contents.insert(digest, bytes);
                        }
                    }
                }
                Act::Documents(numbers) => {
                    let writer = store.writer().unwrap();
                    for number in numbers {
                        let bytes = document(number);
                        let digest = writer.put_document(&bytes).unwrap();
                        model.documents.insert(digest, bytes);
                    }
                    writer.publish().unwrap();
                }
                Act::Drop(which) => {
                    let all: Vec<Digest> = model.contents.keys().copied().collect();
                    if all.is_empty() {
                        continue;
                    }
                    let mut entries: HashSet<Digest> = HashSet::new();
                    for digest in which.iter().map(|i| all[i.index(all.len())]) {
                        entries.insert(digest);
                        model.contents.remove(&digest);
                        model.gone.insert(digest);
                    }
                    let told = document(99);
                    let alone = store.alone().unwrap();
                    alone.drop_content(&GcPlan { entries, ..GcPlan::default() }, std::slice::from_ref(&told)).unwrap();
                    model.documents.insert(Digest::of(&told), told);
                }
                Act::Fold => drop(store.fold_small_packs().unwrap()),
                Act::LoseIndex(which) => {
                    let packs = store.packs().unwrap();
                    if !packs.is_empty() {
                        let name = packs[which.index(packs.len())];
                        std::fs::remove_file(store.packs_folder().join(format!("{}.index", name.hex()))).unwrap();
                        store = Store::open(folder.path());
                    }
                }
                Act::Reopen => store = Store::open(folder.path()),
                Act::Rubbish => {
                    std::fs::create_dir_all(folder.path().join("parts")).unwrap();
                    std::fs::write(folder.path().join("parts/0123456789abcdef.part"), b"half a pack").unwrap();
                }
            }
            model.holds(&store);
        }
        model.holds(&Store::open(folder.path()));
        let reports = Store::open(folder.path()).verify_packs(true).unwrap();
        assert!(reports.iter().all(|r| r.damage.is_empty()), "{reports:?}");
    }
}
