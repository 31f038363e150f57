//! The log as its readers and writers see it: who comes first, what has an effect, and what is told when it was tampered with.

#![allow(clippy::disallowed_methods, clippy::unwrap_used, clippy::too_many_lines, missing_docs)]

use std::collections::BTreeMap;
use std::sync::Arc;

use bytes::Bytes;
use ssh_key::{Algorithm, PrivateKey};
use textum_base::{Digest, Identity, ProjectPath};
use textum_depot::{Folder, Memory, Storage};
use textum_registry::entry::{ENTRY, OnlyIf};
use textum_registry::log::{Appended, path_of};
use textum_registry::{
    Action, Bundle, BundleFile, Damage, Entry, KeyId, Kind, Log, LogError, Publication, Registry, Role, Signed, Signer, Which,
    envelope,
};

fn key() -> PrivateKey {
    PrivateKey::random(&mut ssh_key::rand_core::OsRng, Algorithm::Ed25519).unwrap()
}

fn signer(key: &PrivateKey) -> Signer {
    Signer::File(Box::new(key.clone()))
}

fn line(key: &PrivateKey) -> String {
    textum_registry::key::public_line(key.public_key())
}

fn bundle(text: &str) -> Bundle {
    let (path, digest) = (ProjectPath::new("build/model.json").unwrap(), Digest::of(text.as_bytes()));
    let file = BundleFile { path, digest, size: text.len() as u64, executable: false, header: None };
    Bundle { files: vec![file], ..Bundle::default() }
}

fn publication(registry: &Registry, section: &str, name: &str, text: &str) -> Action {
    let version = registry.models.get(name).map_or(0, |m| m.versions.len()) + 1;
    let bundle = bundle(text);
    let (name, section, content) = (name.to_string(), section.to_string(), bundle.content());
    Action::Publish(Box::new(Publication { name, section, version, kind: Kind::Model, content, bundle }))
}

/// Publishes unless the same is published.
fn publish(log: &Log, by: &str, text: &str) -> Result<u64, LogError> {
    let content = bundle(text).content();
    let (registry, _) = log.append::<LogError>(None, &Identity::new(by, "loom"), |registry| {
        let known = registry.with_content("stops", &content).is_some();
        Ok((!known).then(|| publication(registry, "common", "stops", text)))
    })?;
    Ok(registry.with_content("stops", &content).unwrap().publication.version)
}

fn act(log: &Log, key: Option<&PrivateKey>, action: &Action) -> Result<Registry, LogError> {
    let signer = key.map(signer);
    Ok(log.append::<LogError>(signer.as_ref(), &Identity::new("ada", "loom"), |_| Ok(Some(action.clone())))?.0)
}

fn refused(found: Result<Registry, LogError>, what: &str) {
    match found {
        Err(LogError::NoEffect(said)) => assert!(said.contains(what), "{said}"),
        Err(other) => panic!("{other}"),
        Ok(_) => panic!("it had an effect: {what}"),
    }
}

fn section(name: &str, guards: &[(&str, u32)], signed: bool, accepts: Kind) -> Action {
    let guards: BTreeMap<String, u32> = guards.iter().map(|(a, n)| ((*a).to_string(), *n)).collect();
    Action::Section { section: name.into(), purpose: None, accepts, guards, signed }
}

fn role(key: &PrivateKey, role: Role, given: bool) -> Action {
    Action::Role { section: "weaving".into(), key: line(key), holder: None, role, given, until: None }
}

fn alias(version: Option<u64>, only_if: Option<OnlyIf>) -> Action {
    Action::Alias { name: "stops".into(), alias: "live".into(), version, only_if }
}

fn storages() -> Vec<(Arc<dyn Storage>, Option<tempfile::TempDir>)> {
    let folder = tempfile::tempdir().unwrap();
    let on_disk: Arc<dyn Storage> = Arc::new(Folder::new(folder.path()));
    vec![(Arc::new(Memory::default()), None), (on_disk, Some(folder))]
}

#[test]
fn of_publishers_who_race_each_has_a_number_and_nothing_is_lost() {
    for (storage, _folder) in storages() {
        // Each publishes things of its own, and one that all of them publish.
        let versions: Vec<Vec<u64>> = std::thread::scope(|scope| {
            let all: Vec<_> = (0..8)
                .map(|who| {
                    let log = Log::new(storage.clone(), None, "test");
                    scope.spawn(move || {
                        let own = (0..3).map(|n| publish(&log, "ada", &format!("model {who} {n}")).unwrap());
                        let mut found: Vec<u64> = own.collect();
                        found.push(publish(&log, "ada", "the same for all").unwrap());
                        found
                    })
                })
                .collect();
            all.into_iter().map(|one| one.join().unwrap()).collect()
        });
        let shared = versions[0][3];
        assert!(versions.iter().all(|v| v[3] == shared), "{versions:?}");
        let mut own: Vec<u64> = versions.iter().flat_map(|v| v[..3].to_vec()).chain([shared]).collect();
        own.sort_unstable();
        assert_eq!(own, (1..=25).collect::<Vec<u64>>());
        // Every reader sees the same, however it came to it.
        let first = Log::new(storage.clone(), None, "test").whole().unwrap();
        let chain = Log::new(storage.clone(), None, "test").check().unwrap();
        assert_eq!(chain.damage, []);
        assert_eq!(chain.registry(), first);
        assert_eq!(first.entries.len(), 25);
        assert!(first.entries.iter().all(|e| e.invalid.is_none()));
    }
}

#[test]
fn an_answer_that_was_lost_makes_no_second_entry() {
    /// Writes, and says that somebody else had.
    struct Deaf(Memory);
    impl Storage for Deaf {
        fn list(&self, folder: &str) -> Result<Vec<textum_depot::Object>, textum_depot::StorageError> {
            self.0.list(folder)
        }
        fn read(&self, path: &str) -> Result<Vec<u8>, textum_depot::StorageError> {
            self.0.read(path)
        }
        fn read_range(&self, path: &str, from: u64, length: u64) -> Result<Vec<u8>, textum_depot::StorageError> {
            self.0.read_range(path, from, length)
        }
        fn put(&self, path: &str, bytes: &Bytes) -> Result<(), textum_depot::StorageError> {
            self.0.put(path, bytes)
        }
        fn put_new(&self, path: &str, bytes: &[u8]) -> Result<bool, textum_depot::StorageError> {
            self.0.put_new(path, bytes).map(|_| false)
        }
        fn delete(&self, path: &str) -> Result<(), textum_depot::StorageError> {
            self.0.delete(path)
        }
    }
    let log = Log::new(Arc::new(Deaf(Memory::default())), None, "test");
    assert_eq!(publish(&log, "ada", "a").unwrap(), 1);
    assert_eq!(publish(&log, "ada", "b").unwrap(), 2);
    assert_eq!(log.whole().unwrap().entries.len(), 2);
}

/// A log of five entries, and what their objects hold.
fn five(storage: &Arc<dyn Storage>) -> Vec<Vec<u8>> {
    let log = Log::new(storage.clone(), None, "test");
    for n in 0..5 {
        publish(&log, "ada", &format!("model {n}")).unwrap();
    }
    (1..=5).map(|n| storage.read(&path_of(n)).unwrap()).collect()
}

fn damage(storage: &Arc<dyn Storage>) -> Vec<Damage> {
    let log = Log::new(storage.clone(), None, "test");
    let (read, checked) = (log.read().unwrap().damage, log.check().unwrap().damage);
    assert_eq!(read, checked);
    match &read[..] {
        [] => drop(log.whole().unwrap()),
        [first, ..] => match log.whole() {
            Err(LogError::Damaged { number, .. }) => assert_eq!(number, first.number),
            other => panic!("{other:?}"),
        },
    }
    read
}

#[test]
fn entries_that_were_changed_moved_or_taken_out_are_told_by_number() {
    type Tamper = fn(&dyn Storage, &[Vec<u8>]);
    let cases: [(Tamper, u64, &str); 7] = [
        (|s, all| s.put(&path_of(3), &Bytes::from(all[1].clone())).unwrap(), 3, "says to be entry 2"),
        (
            |s, all| {
                s.put(&path_of(3), &Bytes::from(all[3].clone())).unwrap();
                s.put(&path_of(4), &Bytes::from(all[2].clone())).unwrap();
            },
            3,
            "says to be entry 4",
        ),
        (|s, _| s.delete(&path_of(3)).unwrap(), 3, "is missing"),
        (|s, all| s.put(&path_of(3), &Bytes::from(all[2][..40].to_vec())).unwrap(), 3, "cannot be read"),
        (|s, _| s.put(&path_of(6), &Bytes::from_static(b"{}")).unwrap(), 6, "cannot be read"),
        // One entry is changed so that it is one in every other way: the next does not follow it.
        (
            |s, all| {
                let (mut entry, _) = envelope::open(&all[2]).unwrap();
                entry.by = "mallory@loom".into();
                s.put(&path_of(3), &Bytes::from(envelope::seal(&entry, None).unwrap())).unwrap();
            },
            4,
            "does not follow",
        ),
        // An entry of another log.
        (
            |s, _| {
                let other: Arc<dyn Storage> = Arc::new(Memory::default());
                let log = Log::new(other.clone(), None, "other");
                for n in 0..6 {
                    publish(&log, "bo", &format!("other {n}")).unwrap();
                }
                s.put(&path_of(6), &Bytes::from(other.read(&path_of(6)).unwrap())).unwrap();
            },
            6,
            "does not follow",
        ),
    ];
    for (tamper, number, what) in cases {
        let storage: Arc<dyn Storage> = Arc::new(Memory::default());
        let all = five(&storage);
        assert_eq!(damage(&storage), []);
        tamper(&*storage, &all);
        let found = damage(&storage);
        assert_eq!((found.len(), found[0].number), (1, number), "{found:?}");
        assert!(found[0].what.contains(what), "{found:?}");
    }
}

#[test]
fn who_has_read_more_tells_that_a_log_was_cut_or_rewritten() {
    let folder = tempfile::tempdir().unwrap();
    let kept = folder.path().join("state/registry.jsonl");
    let storage: Arc<dyn Storage> = Arc::new(Memory::default());
    five(&storage);
    let log = Log::new(storage.clone(), Some(kept.clone()), "test");
    assert_eq!(log.whole().unwrap().entries.len(), 5);
    // Cut: for who comes new it is a log of four.
    let last = storage.read(&path_of(5)).unwrap();
    storage.delete(&path_of(5)).unwrap();
    assert_eq!(damage(&storage), []);
    for found in [log.read().unwrap().damage, log.check().unwrap().damage] {
        assert_eq!(found.len(), 1);
        assert!(found[0].what.contains("ends at 4") && found[0].what.contains("up to 5"), "{found:?}");
    }
    // Grown again otherwise: a fork.
    publish(&Log::new(storage.clone(), None, "test"), "mallory", "another").unwrap();
    for found in [log.read().unwrap().damage, log.check().unwrap().damage] {
        assert_eq!((found.len(), found[0].number), (1, 5));
        assert!(found[0].what.contains("was rewritten"), "{found:?}");
    }
    assert!(matches!(log.whole(), Err(LogError::Damaged { number: 5, .. })));
    assert!(publish(&log, "ada", "x").is_err());
    // As it was, it is whole again.
    storage.put(&path_of(5), &Bytes::from(last)).unwrap();
    publish(&log, "ada", "sixth").unwrap();
    assert_eq!(Log::new(storage.clone(), Some(kept.clone()), "test").whole().unwrap().entries.len(), 6);
    // All of it made anew, one by one in order: only who has read it can tell.
    let other: Arc<dyn Storage> = Arc::new(Memory::default());
    five(&other);
    let moved = Log::new(other, Some(kept.clone()), "test");
    assert!(moved.check().unwrap().damage.iter().any(|d| d.number == 1 && d.what.contains("rewritten")));
    assert!(moved.whole().is_err());
    // What is kept can be lost or torn: then it is read anew.
    let text = std::fs::read_to_string(&kept).unwrap();
    for bad in ["", "{", &text[..text.len() / 2], &text.replace("model 3", "model 4")] {
        std::fs::write(&kept, bad).unwrap();
        assert_eq!(log.whole().unwrap().entries.len(), 6);
    }
}

#[test]
fn a_glance_never_hides_what_the_whole_log_would_tell() {
    let folder = tempfile::tempdir().unwrap();
    let storage: Arc<dyn Storage> = Arc::new(Memory::default());
    let kept = folder.path().join("registry.jsonl");
    let log = Log::new(storage.clone(), Some(kept.clone()), "test");
    let glance = || log.glance("stops", Which::Number(1)).map(|(_, number)| number);
    assert_eq!(glance(), None, "there is nothing yet");
    for text in ["a", "b", "c"] {
        publish(&log, "ada", text).unwrap();
        assert_eq!(glance(), Some(1));
    }
    // Somebody else has written.
    let other = Log::new(storage.clone(), None, "test");
    publish(&other, "bo", "d").unwrap();
    assert_eq!(glance(), None);
    log.remember(&log.whole().unwrap());
    assert_eq!(glance(), Some(1));
    // The log is cut behind this machine's back, or rewritten: all of it is read, and that tells.
    let last = storage.read(&path_of(4)).unwrap();
    storage.delete(&path_of(4)).unwrap();
    assert_eq!(glance(), None);
    assert!(log.whole().is_err());
    storage.put(&path_of(4), &Bytes::from_static(b"{}")).unwrap();
    assert_eq!(glance(), None);
    storage.put(&path_of(4), &last.into()).unwrap();
    assert_eq!(glance(), Some(1));
    // An index that knows less than what was read is of no use, nor is one that is damaged, or none.
    let index = kept.with_extension("index");
    let good = std::fs::read(&index).unwrap();
    publish(&log, "ada", "e").unwrap();
    std::fs::write(&index, &good).unwrap();
    storage.delete(&path_of(5)).unwrap();
    assert_eq!(glance(), None, "it would say that nothing is missing");
    for bytes in [&b"no database"[..], &good[..good.len() / 2], b""] {
        std::fs::write(&index, bytes).unwrap();
        assert_eq!(glance(), None);
    }
    std::fs::remove_file(&index).unwrap();
    std::fs::remove_file(&kept).unwrap();
    log.remember(&log.whole().unwrap());
    assert_eq!(glance(), Some(1));
}

#[test]
fn a_signature_holds_for_just_its_entry_and_its_key() {
    let (ada, bo) = (key(), key());
    let storage: Arc<dyn Storage> = Arc::new(Memory::default());
    let log = Log::new(storage.clone(), None, "test");
    act(&log, Some(&ada), &section("weaving", &[], true, Kind::Model)).unwrap();
    let bytes = storage.read(&path_of(1)).unwrap();
    let (entry, signed) = envelope::open(&bytes).unwrap();
    assert_eq!(signed, Signed::By(KeyId::of(ada.public_key())));
    let text = String::from_utf8(bytes.clone()).unwrap();
    let of_bo = String::from_utf8(envelope::seal(&entry, Some(&signer(&bo))).unwrap()).unwrap();
    let value = |text: &str, key: &str| serde_json::from_str::<serde_json::Value>(text).unwrap()["signatures"][0][key].clone();
    // Ada's name over Bo's signature, and the other way round; the signature of another entry.
    let swapped = text.replace(value(&text, "keyid").as_str().unwrap(), value(&of_bo, "keyid").as_str().unwrap());
    assert!(matches!(envelope::open(swapped.as_bytes()).unwrap().1, Signed::Wrong(_)));
    let mut other = entry.clone();
    other.at = "2026-11-26T00:00:00Z".into();
    let of_other = String::from_utf8(envelope::seal(&other, Some(&signer(&ada))).unwrap()).unwrap();
    let mixed = text.replace(value(&text, "sig").as_str().unwrap(), value(&of_other, "sig").as_str().unwrap());
    assert!(matches!(envelope::open(mixed.as_bytes()).unwrap().1, Signed::Wrong(_)));
    // An entry that is wrongly signed has no effect, and the rest goes on.
    storage.put(&path_of(1), &Bytes::from(mixed)).unwrap();
    let registry = log.whole().unwrap();
    assert!(registry.sections.is_empty());
    assert!(registry.entries[0].invalid.as_ref().unwrap().contains("does not hold"));
    // Not canonical: two readers could read two things.
    let payload = serde_json::to_vec_pretty(&entry).unwrap();
    let loose = envelope::seal_payload(envelope::PAYLOAD_TYPE, &payload, Some(&signer(&ada))).unwrap();
    assert!(envelope::open(&loose).unwrap_err().contains("canonical"));
}

#[test]
fn roles_are_given_taken_and_given_back_and_what_lacked_them_has_no_effect() {
    let (ada, bo, eve) = (key(), key(), key());
    let log = Log::new(Arc::new(Memory::default()), None, "test");
    act(&log, Some(&ada), &section("weaving", &[("live", 1)], true, Kind::Model)).unwrap();
    let make = |text: &str| {
        let registry = log.whole().unwrap();
        publication(&registry, "weaving", "stops", text)
    };
    // Ada keeps the section: she publishes; Bo may not, before he is given the role.
    act(&log, Some(&ada), &make("a")).unwrap();
    refused(act(&log, Some(&bo), &make("b")), "has no role");
    refused(act(&log, None, &make("b")), "not signed");
    refused(act(&log, Some(&bo), &role(&bo, Role::Publisher, true)), "it takes keeper");
    act(&log, Some(&ada), &role(&bo, Role::Publisher, true)).unwrap();
    act(&log, Some(&bo), &make("b")).unwrap();
    act(&log, Some(&ada), &role(&bo, Role::Publisher, false)).unwrap();
    refused(act(&log, Some(&bo), &make("c")), "has no role");
    refused(act(&log, Some(&ada), &role(&bo, Role::Publisher, false)), "is not publisher");
    act(&log, Some(&ada), &role(&bo, Role::Publisher, true)).unwrap();
    assert_eq!(act(&log, Some(&bo), &make("c")).unwrap().models["stops"].versions.len(), 3);
    // Nobody takes the last keeper away.
    refused(act(&log, Some(&ada), &role(&ada, Role::Keeper, false)), "without a keeper");
    // The guarded alias: who published it does not suffice.
    let approve = |version| Action::Approve { name: "stops".into(), version, alias: "live".into() };
    refused(act(&log, Some(&bo), &alias(Some(3), None)), "is guarded");
    act(&log, Some(&ada), &role(&bo, Role::Reviewer, true)).unwrap();
    act(&log, Some(&bo), &approve(3)).unwrap();
    refused(act(&log, Some(&bo), &alias(Some(3), None)), "somebody else");
    act(&log, Some(&ada), &role(&eve, Role::Reviewer, true)).unwrap();
    act(&log, Some(&eve), &approve(3)).unwrap();
    // An approval holds while its reviewer is one.
    act(&log, Some(&ada), &role(&eve, Role::Reviewer, false)).unwrap();
    refused(act(&log, Some(&bo), &alias(Some(3), None)), "somebody else");
    act(&log, Some(&ada), &role(&eve, Role::Reviewer, true)).unwrap();
    act(&log, Some(&bo), &alias(Some(3), Some(OnlyIf::None))).unwrap();
    refused(act(&log, Some(&eve), &alias(None, None)), "it takes publisher or keeper");
    // Other kinds and other sections are not accepted.
    let mut data = make("d");
    if let Action::Publish(p) = &mut data {
        (p.kind, p.name) = (Kind::Data, "shifts".into());
    }
    refused(act(&log, Some(&ada), &data), "accepts model");
    let mut elsewhere = make("d");
    if let Action::Publish(p) = &mut elsewhere {
        p.section = "common".into();
    }
    refused(act(&log, Some(&ada), &elsewhere), "belongs to the section weaving");
    refused(act(&log, Some(&ada), &make("c")), "is stops@3 already");
    // An entry that was made without the right is in the log, is shown, and changes nothing.
    let registry = log.whole().unwrap();
    assert!(registry.entries.iter().all(|e| e.invalid.is_none()));
}

#[test]
fn entries_without_the_right_that_stand_in_the_log_change_nothing() {
    let (ada, eve) = (key(), key());
    let storage: Arc<dyn Storage> = Arc::new(Memory::default());
    let log = Log::new(storage.clone(), None, "test");
    act(&log, Some(&ada), &section("weaving", &[("live", 1)], true, Kind::Any)).unwrap();
    let first = publication(&log.whole().unwrap(), "weaving", "stops", "a");
    act(&log, Some(&ada), &first).unwrap();
    // Written by a program that asks nobody.
    let forged = [
        (publication(&log.whole().unwrap(), "weaving", "stops", "b"), Some(&eve), "has no role"),
        (alias(Some(1), None), None, "not signed"),
        (alias(Some(1), None), Some(&ada), "is guarded"),
        (alias(Some(7), None), Some(&ada), "there is no stops@7"),
        (role(&eve, Role::Keeper, true), Some(&eve), "it takes keeper"),
        (Action::Retire { name: "stops".into(), version: 1, because: "x".into() }, Some(&eve), "has no role"),
    ];
    for (action, key, what) in forged {
        let before = log.whole().unwrap();
        let end = before.entries.last().unwrap();
        let entry = Entry {
            r#type: ENTRY.into(),
            number: end.entry.number + 1,
            previous: Some(end.digest),
            id: "0".into(),
            at: "2026-11-26T10:00:00Z".into(),
            by: "eve@loom".into(),
            action,
        };
        let bytes = envelope::seal(&entry, key.map(signer).as_ref()).unwrap();
        assert!(storage.put_new(&path_of(entry.number), &bytes).unwrap());
        let after = log.whole().unwrap();
        let said = after.entries.last().unwrap().invalid.clone().unwrap();
        assert!(said.contains(what), "{said}");
        assert_eq!((&after.models, &after.sections), (&before.models, &before.sections));
    }
}

#[test]
fn a_role_ends_with_its_time_and_a_clock_that_runs_back_does_not_bring_it_back() {
    let (ada, bo) = (key(), key());
    let mut registry = Registry::default();
    let mut number = 0;
    let mut add = |registry: &mut Registry, at: &str, key: &PrivateKey, action: Action| {
        number += 1;
        let (at, by) = (at.to_string(), "x@y".to_string());
        let entry = Entry { r#type: ENTRY.into(), number, previous: None, id: String::new(), at, by, action };
        registry.add(Digest::of(&number.to_le_bytes()), entry, Signed::By(KeyId::of(key.public_key())));
        registry.entries.last().unwrap().invalid.is_none()
    };
    assert!(add(&mut registry, "2026-11-01T00:00:00Z", &ada, section("weaving", &[], true, Kind::Any)));
    let until = Some("2026-11-10T00:00:00Z".to_string());
    let given = Action::Role { section: "weaving".into(), key: line(&bo), holder: None, role: Role::Publisher, given: true, until };
    assert!(add(&mut registry, "2026-11-02T00:00:00Z", &ada, given));
    for (at, text, fine) in [("2026-11-09T00:00:00Z", "a", true), ("2026-11-10T00:00:00Z", "b", false)] {
        let action = publication(&registry, "weaving", "stops", text);
        assert_eq!(add(&mut registry, at, &bo, action), fine, "{at}");
    }
    let note = Action::Note { name: "stops".into(), version: 1, text: "later".into() };
    assert!(add(&mut registry, "2026-11-20T00:00:00Z", &ada, note));
    let action = publication(&registry, "weaving", "stops", "c");
    assert!(!add(&mut registry, "2026-11-05T00:00:00Z", &bo, action), "the clock was set back");
}

#[test]
fn entries_that_say_what_cannot_be_are_no_entries() {
    let registry = Registry::default();
    let entry = Entry {
        r#type: ENTRY.into(),
        number: 1,
        previous: None,
        id: "0".into(),
        at: "2026-11-26T10:00:00Z".into(),
        by: "eve@loom".into(),
        action: publication(&registry, "common", "stops", "a"),
    };
    let text = String::from_utf8(serde_json_canonicalizer::to_vec(&entry).unwrap()).unwrap();
    assert!(Entry::read(text.as_bytes()).is_ok());
    let long = format!("\"by\":\"{}\"", "x".repeat(300 << 10));
    for (from, to) in [
        ("build/model.json", "../model.json"),
        ("build/model.json", "/etc/passwd"),
        ("build/model.json", "build/../../x"),
        ("build/model.json", ".git/hooks/post-commit"),
        ("build/model.json", ".textum/store/x"),
        ("build/model.json", "textum.toml"),
        ("build/model.json", "build/textum.card.json"),
        ("\"name\":\"stops\"", "\"name\":\"../stops\""),
        ("\"name\":\"stops\"", "\"name\":\"\""),
        ("\"section\":\"common\"", "\"section\":\"a b\""),
        ("\"kind\":\"model\"", "\"kind\":\"any\""),
        ("\"kind\":\"model\"", "\"kind\":\"code\""),
        ("2026-11-26T10:00:00Z", "yesterday"),
        ("registry-entry@1", "registry-entry@2"),
        ("\"number\":1", "\"number\":-1"),
        ("\"number\":1", "\"number\":1.5"),
        ("\"version\":1", "\"version\":\"1\""),
        ("\"size\":1", "\"size\":1,\"size\":2"),
        ("{\"action\"", "{\"Action\":0,\"action\""),
        ("\"by\":\"eve@loom\"", long.as_str()),
    ] {
        let changed = text.replacen(from, to, 1);
        assert_ne!(changed, text, "{from}");
        assert!(Entry::read(changed.as_bytes()).is_err(), "{from} → {to}");
    }
    let roles =
        [("weaving", "not a key", None), ("a/b", line(&key()).as_str(), None), ("weaving", line(&key()).as_str(), Some("soon"))]
            .map(|(section, key, until)| Action::Role {
                section: section.into(),
                key: key.into(),
                holder: None,
                role: Role::Keeper,
                given: true,
                until: until.map(str::to_string),
            });
    for action in roles
        .into_iter()
        .chain([section("weaving", &[("live", 0)], true, Kind::Any), section("weaving", &[("3", 1)], true, Kind::Any)])
    {
        assert!(Entry { action, ..entry.clone() }.check().is_err());
    }
}

mod mutated;

mod interleaved;
