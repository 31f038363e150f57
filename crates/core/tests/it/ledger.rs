//! The ledger says the same whatever order documents come in; and what people may call things.

use std::path::{Path, PathBuf};

use proptest::prelude::*;
use textum_core::config::manifest::Better;
use textum_core::record::ledger::{Ledger, NameError, RunRow, seconds_at_work};
use textum_core::record::receipt::{
    RUN_RECEIPT, RemarkReceipt, RunReceipt, RunState, StageReceipt, canonical, read_document, type_of,
};
use textum_core::store::{Digest, Store};
use textum_testkit::{Tiny, fixture, many};

/// The store of a project that an earlier Textum wrote: four runs, two versions, a rebuild, remarks.
fn stored() -> Store {
    Store::open(&fixture("2026-11").join("state/store"))
}

/// Its documents, and some that contradict one another as documents of several processes may.
fn documents() -> Vec<Vec<u8>> {
    let store = stored();
    let mut all: Vec<Vec<u8>> = Vec::new();
    let mut more: Vec<Vec<u8>> = Vec::new();
    let packs = store.packs().unwrap();
    for digest in packs.iter().flat_map(|p| store.documents_in(p).unwrap()) {
        let bytes = store.read(&digest).unwrap();
        if type_of(&bytes).as_deref() == Some(RUN_RECEIPT) {
            let run: RunReceipt = read_document(&digest, &bytes).unwrap();
            // A process that thought it lost, and two that closed it.
            for seconds in [1.5, 2.5] {
                let lost = RunReceipt {
                    state: RunState::Interrupted,
                    seconds,
                    metrics: Default::default(),
                    stages: Vec::new(),
                    ..run.clone()
                };
                more.push(canonical(&lost).unwrap());
            }
            for (label, made) in [
                ("a", "2026-11-26T10:00:00Z"),
                ("b", "2026-11-26T10:00:00Z"),
                ("c", "2026-11-26T09:00:00Z"),
                ("", "2026-11-26T08:00:00Z"),
            ] {
                let remark = RemarkReceipt {
                    r#type: "textum/remark-receipt@1".into(),
                    run: run.run.clone(),
                    note: None,
                    label: Some(label.into()),
                    made: made.into(),
                    by: "weaver".into(),
                };
                more.push(canonical(&remark).unwrap());
            }
        }
        all.push(bytes);
    }
    // Of a run that nobody knows; and two that cannot be read.
    let last = String::from_utf8(more.last().unwrap().clone()).unwrap();
    let stranger = last.replace(&last[last.find("2026").unwrap()..][..18], "20200101-0000-beef");
    more.push(stranger.into_bytes());
    more.push(br#"{"type":"textum/run-receipt@1","run":"../../etc"}"#.to_vec());
    more.push(br#"{"type":"textum/stage-receipt@1"}"#.to_vec());
    all.extend(more);
    all
}

fn dump(path: &Path) -> Vec<String> {
    let db = rusqlite::Connection::open_with_flags(path, rusqlite::OpenFlags::SQLITE_OPEN_READ_ONLY).unwrap();
    let mut tables = db.prepare("SELECT name FROM sqlite_schema WHERE type = 'table' AND name <> 'packs' ORDER BY name").unwrap();
    let tables: Vec<String> = tables.query_map([], |r| r.get(0)).unwrap().map(Result::unwrap).collect();
    let mut lines = Vec::new();
    for table in tables {
        let mut all = db.prepare(&format!("SELECT * FROM {table}")).unwrap();
        let columns = all.column_count();
        let mut rows: Vec<String> = all
            .query_map([], |row| Ok((0..columns).map(|c| format!("{:?}", row.get_ref(c).unwrap())).collect::<Vec<_>>().join(" ")))
            .unwrap()
            .map(Result::unwrap)
            .collect();
        rows.sort();
        lines.extend(rows.into_iter().map(|row| format!("{table}: {row}")));
    }
    lines
}

/// A project's store and ledger with these documents, so many in a pack; `at_once` opens the ledger at the end only.
fn folded(documents: &[&Vec<u8>], packs: &[usize], at_once: bool) -> (Tiny, PathBuf) {
    let tiny = Tiny::new();
    let (store, path) = (Store::open(&tiny.path("store")), tiny.path("ledger.db"));
    let mut rest = documents;
    let mut sizes = packs.iter().cycle();
    while !rest.is_empty() {
        let (now, later) = rest.split_at((*sizes.next().unwrap()).min(rest.len()));
        let writer = store.writer().unwrap();
        for document in now {
            writer.put_document(document).unwrap();
        }
        writer.publish().unwrap();
        drop(writer);
        rest = later;
        if !at_once {
            Ledger::open(&path, &store).unwrap();
        }
    }
    let ledger = Ledger::open(&path, &store).unwrap();
    assert!(Ledger::made_anew(&store, store.packs().unwrap()).unwrap().agrees_with(&ledger, &store).unwrap());
    drop(ledger);
    (tiny, path)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: many("TEXTUM_ORDERS", 12), failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn the_order_of_documents_does_not_count(
        order in Just((0..documents().len()).collect::<Vec<_>>()).prop_shuffle(),
        packs in prop::collection::vec(1usize..9, 1..5),
        at_once in any::<bool>(),
        again in any::<prop::sample::Index>(),
    ) {
        let all = documents();
        let straight: Vec<&Vec<u8>> = all.iter().collect();
        let mut shuffled: Vec<&Vec<u8>> = order.iter().map(|i| &all[*i]).collect();
        // One comes a second time, in another pack.
        shuffled.push(&all[again.index(all.len())]);
        let (one, first) = folded(&straight, &[all.len()], true);
        let (two, second) = folded(&shuffled, &packs, at_once);
        prop_assert_eq!(dump(&first), dump(&second));
        drop((one, two));
    }
}

#[test]
fn what_contradicts_is_settled_the_same_way_each_time() {
    let all = documents();
    let (tiny, path) = folded(&all.iter().collect::<Vec<_>>(), &[7], false);
    let store = Store::open(&tiny.path("store"));
    let ledger = Ledger::open(&path, &store).unwrap();
    let runs = ledger.run_ids().unwrap();
    assert_eq!(runs.len(), 4, "a remark makes no run");
    for id in &runs {
        let run = ledger.run(id).unwrap().unwrap();
        assert_eq!((run.state.as_str(), run.metrics.len()), ("done", 1), "one that ended did not get lost");
        let label = run.label.unwrap();
        assert!(label == "a" || label == "b", "of the newest remarks one and the same: {label}");
    }
    let unreadable = ledger.unreadable().unwrap();
    assert_eq!(unreadable.len(), 2, "{unreadable:?}");
    assert!(unreadable.iter().any(|(_, what)| what.contains("missing field `project`")), "{unreadable:?}");
    assert!(ledger.check().unwrap().is_none());
}

#[test]
fn names_stand_for_what_they_say_or_for_nothing() {
    let tiny = Tiny::new();
    let store = stored();
    let ledger = Ledger::open(&tiny.path("ledger.db"), &store).unwrap();
    let ids = ledger.run_ids().unwrap();
    assert_eq!(ids.len(), 4);
    let directions = vec![("share".to_string(), Better::Higher), ("loss".to_string(), Better::Lower)];
    let run = |name: &str| ledger.resolve_run(name, &directions);
    for (back, id) in ids.iter().enumerate() {
        let suffix = id.rsplit('-').next().unwrap();
        let minute = &id[..id.len() - suffix.len()];
        for name in
            [id.clone(), suffix.to_string(), suffix[..3].to_string(), format!("last~{back}"), format!("{minute}{}", &suffix[..2])]
        {
            assert_eq!(&run(&name).unwrap_or_else(|e| panic!("{name}: {e}")), id, "{name}");
        }
    }
    assert_eq!(run("last").unwrap(), ids[0]);
    assert_eq!(run("first").unwrap(), ids[3], "a label");
    assert!(ids.contains(&run("best:share").unwrap()));
    let told = |name: &str| run(name).unwrap_err().to_string();
    assert!(matches!(run("last~4"), Err(NameError::TooFar { count: 4, .. })), "{}", told("last~4"));
    assert!(matches!(run("last~99999999999999999999"), Err(NameError::NoRun { .. })));
    assert!(matches!(run("best:loss"), Err(NameError::NoMetric { .. })));
    assert!(matches!(run("best:nothing"), Err(NameError::NoDirection(_))));
    for nothing in
        ["", "*", "?", "[a-z]*", "' OR 1=1 --", "last~", "last~-1", "last ", "LAST", "best:", "zzzz", "é", "20261126", "\u{0}"]
    {
        let found = run(nothing);
        // What all begin with is told as ambiguous, with what it could be.
        let fine = match &found {
            Err(NameError::Ambiguous { candidates, .. }) => {
                candidates.len() == 4 && ids.iter().all(|i| i.starts_with(nothing.trim_matches(['*', '?'])))
            }
            Err(NameError::NoRun { .. } | NameError::NoDirection(_)) => true,
            _ => false,
        };
        assert!(fine, "{nothing:?}: {found:?}");
    }
    let close = format!("{}x", &ids[0].rsplit('-').next().unwrap()[..3]);
    assert!(told(&close).contains("did you mean"), "{}", told(&close));
    // Digests: content that is stored, content that receipts only speak of, keys.
    let digest = |name: &str| ledger.resolve_digest(name, &store);
    let receipt = ledger.run(&ids[0]).unwrap().unwrap().receipt;
    for length in [6, 12, 63, 64] {
        for prefix in ["", "b3:"] {
            assert_eq!(digest(&format!("{prefix}{}", &receipt.hex()[..length])).unwrap(), receipt);
            assert_eq!(digest(&format!("{prefix}{}", receipt.hex()[..length].to_uppercase())).unwrap(), receipt);
        }
    }
    let key = StageReceipt::load(&store, &ledger.executed_in(&ids[3]).unwrap()[0].receipt).unwrap().key;
    assert_eq!(digest(&key.hex()[..16]).unwrap(), key);
    for bad in ["b3:", "b3:12345", "12345", "b3:zzzzzz", "b3:1234567é", &"0".repeat(65), "B3:123456", "b3:../../x"] {
        assert!(matches!(digest(bad), Err(NameError::NotADigest(_))), "{bad}: {:?}", digest(bad));
    }
    assert!(matches!(digest(&Digest::of(b"nobody").hex()), Err(NameError::NoDigest(_))));
}

#[test]
fn a_sweep_took_as_long_as_any_of_its_runs_was_at_work() {
    let run = |started: &str, seconds: f64| RunRow {
        run: started.to_string(),
        receipt: Digest::of(started.as_bytes()),
        started: started.to_string(),
        seconds,
        state: "done".into(),
        label: None,
        sandbox: true,
        commit: None,
        sweep: Some("sweep-3fa2c1".into()),
        by: "weaver@shed".into(),
        params: Vec::new(),
        metrics: Vec::new(),
        data: Vec::new(),
    };
    let took = |runs: &[RunRow]| (seconds_at_work(runs.iter()) * 1000.0).round() as i64;
    // Side by side, one within another, and one of another day; in any order, and what cannot be read counts for nothing.
    let mut runs = vec![
        run("2026-11-26T10:00:00Z", 10.0),
        run("2026-11-26T10:00:05Z", 10.0),
        run("2026-11-26T10:00:06Z", 1.0),
        run("2026-11-27T09:00:00Z", 2.5),
        run("soon", 400.0),
    ];
    for _ in 0..runs.len() {
        assert_eq!(took(&runs), 17_500);
        runs.rotate_left(1);
    }
    assert_eq!(took(&runs[..1]), 10_000);
    assert_eq!(took(&[]), 0);
}
