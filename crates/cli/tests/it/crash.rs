//! Stopped at every sync, rename and removal, and failed at every write: nothing recorded is lost, nothing of a
//! person's is lost, nothing wrong passes as right, and no hand is needed afterwards.

use std::path::Path;

use textum_testkit::{Tiny, fault_steps, many};

use crate::{TEXTUM, carding, textum};

/// A project with two old runs, data that has changed since, an output that a person has edited, and a file of
/// theirs where an output goes.
fn template() -> Tiny {
    let tiny = carding("", "");
    let lines = |from: u64, count: u64| {
        (from..from + count).map(|n| format!("{:x}\n", n.wrapping_mul(0x9E37_79B9_7F4A_7C15))).collect::<String>()
    };
    tiny.write("yarn/fine", lines(1, 2_000));
    tiny.write("yarn/coarse", lines(10_000, 40_000));
    for n in ["n=1", "n=2", "n=3"] {
        textum(&tiny, &["run", "--set", n]).expect(0);
    }
    for run in ["last~1", "last~2"] {
        textum(&tiny, &["rebuild", run]).expect(0).says("identical");
    }
    tiny.write("yarn/new", "bought today\n");
    tiny.write("b/card/2", "edited by hand\n");
    tiny.write("notes.md", "a person's\n");
    tiny
}

fn copy(from: &Path) -> Tiny {
    let tiny = Tiny::new();
    tiny.textum("cp", &["-a", &format!("{}/.", from.display()), "."]).expect(0);
    tiny
}

/// What a person has, wherever it is by now: in its place or aside.
fn keeps_what_is_a_persons(tiny: &Tiny, what: &str) {
    assert_eq!(tiny.read("notes.md"), "a person's\n", "{what}");
    for words in ["bought today", "edited by hand"] {
        let found = tiny.textum("grep", &["-rl", words, "b", "yarn", ".textum/aside"]);
        assert!(!found.out.is_empty(), "{what}: `{words}` is nowhere");
    }
}

/// Does something with each fault, until one comes too late to matter; then all must be as if nothing had been.
fn with_faults(words: &[&str], prepare: impl Fn(&Tiny), done: impl Fn(&Tiny, &str)) {
    let template = template();
    let runs = textum(&template, &["runs", "--format", "json"]).expect(0).json();
    let runs: Vec<String> = runs.as_array().unwrap().iter().map(|r| r["run"].as_str().unwrap().to_string()).collect();
    prepare(&template);
    let damaged = words.contains(&"--repair");
    for (at, fault) in ["crash", "torn", "full", "error"].into_iter().enumerate() {
        let (mut met, mut last_met) = (0, 0);
        for step in fault_steps(at) {
            let what = format!("{words:?} {fault}:{step}");
            let tiny = copy(template.root());
            let ran = tiny.textum_with(TEXTUM, words, &[("TEXTUM_FAULT", &format!("{fault}:{step}"))]);
            let crashed = ran.status == -1;
            assert!(
                crashed || [0, 4].contains(&ran.status) || (ran.status == 1 && fault != "crash"),
                "{what}: {}{}",
                ran.out,
                ran.err
            );
            assert!(!ran.err.contains("panicked"), "{what}: {}", ran.err);
            met += u32::from(ran.status != 0);
            keeps_what_is_a_persons(&tiny, &what);
            // Looking needs no mending, and finds nothing amiss that was not so before.
            let looked = textum(&tiny, &["verify", "--deep"]);
            assert!(damaged || looked.status == 0, "{what}: {}{}", looked.out, looked.err);
            assert!(damaged || textum(&tiny, &["runs"]).status == 0, "{what}");
            let again = textum(&tiny, words);
            assert_eq!(again.status, 0, "{what}: {}{}", again.out, again.err);
            done(&tiny, &what);
            textum(&tiny, &["verify", "--deep"]).expect(0);
            for run in runs.iter().filter(|_| step % 5 < 2) {
                textum(&tiny, &["restore", &format!("{run}:b/cloth"), "-o", run]).expect(0);
            }
            // Faults that are met in what can be made again are passed over: some steps more show that none are left.
            last_met = if ran.status == 0 { last_met } else { step };
            if step > last_met + 12 {
                break;
            }
            assert!(step < many("TEXTUM_STEPS", 400), "{what}: there is no end of steps");
        }
        assert!(met > 0, "{words:?} {fault}: no fault was ever met");
    }
}

#[test]
fn recording_survives_every_stop_and_every_failed_write() {
    with_faults(
        &["data", "record"],
        |_| {},
        |tiny, what| {
            let versions = textum(tiny, &["data", "versions", "yarn", "--format", "json"]).expect(0).json();
            assert_eq!(versions["versions"].as_array().unwrap().len(), 2, "{what}");
            textum(tiny, &["restore", "yarn@2", "-o", "v2"]).expect(0);
            assert_eq!(tiny.read("v2/yarn/new"), "bought today\n", "{what}");
        },
    );
}

#[test]
fn a_run_survives_every_stop_and_every_failed_write() {
    with_faults(
        &["run", "--set", "n=9"],
        |_| {},
        |tiny, what| {
            assert!(tiny.read("b/card/3").ends_with("9 3\n"), "{what}");
            textum(tiny, &["rebuild", "last"]).expect(0).says("identical");
        },
    );
}

#[test]
fn pruning_survives_every_stop_and_every_failed_write() {
    with_faults(
        &["prune", "--newest", "1", "--yes"],
        |_| {},
        |tiny, what| {
            let gone = textum(tiny, &["restore", "last~2:b/card", "-o", "gone"]);
            assert_eq!(gone.status, 3, "{what}: {}", gone.out);
            textum(tiny, &["rebuild", "last~2:b/card"]).expect(0).says("identical");
        },
    );
}

#[test]
fn restoring_survives_every_stop_and_every_failed_write() {
    with_faults(
        &["restore", "last~1"],
        |_| {},
        |tiny, what| {
            assert!(tiny.read("b/card/2").ends_with("2 2\n"), "{what}");
            // The dataset went back too; what was new in it is aside.
            tiny.textum("sh", &["-c", "cp -r .textum/aside/*/yarn/new yarn/new 2>/dev/null || cp -r .textum/aside/yarn/new yarn/new 2>/dev/null; true"]);
        },
    );
}

#[test]
fn repairing_survives_every_stop_and_every_failed_write() {
    // A pack with a flipped bit in content that the tree has still, no index, and a ledger that is none.
    let damage = |tiny: &Tiny| {
        let packs = std::fs::read_dir(tiny.path(".textum/store/packs")).unwrap().flatten().map(|e| e.path());
        let (packs, indexes): (Vec<_>, Vec<_>) = packs.partition(|p| p.extension().is_some_and(|e| e == "pack"));
        indexes.iter().for_each(|index| std::fs::remove_file(index).unwrap());
        let fine = std::fs::read(tiny.path("yarn/fine")).unwrap();
        let digest = textum_core::store::Digest::of(&fine);
        let mut hit = 0;
        for pack in packs {
            let mut bytes = std::fs::read(&pack).unwrap();
            let head = bytes.windows(32).position(|w| w == digest.as_bytes());
            if let Some(head) = head {
                bytes[head + 60] ^= 1;
                std::fs::write(&pack, bytes).unwrap();
                hit += 1;
            }
        }
        assert_eq!(hit, 1);
        std::fs::write(tiny.path(".textum/ledger.db"), "this is no ledger").unwrap();
    };
    with_faults(&["verify", "--repair"], damage, |_, _| {});
}
