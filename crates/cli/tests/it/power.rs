//! The power is cut before every sync, rename and removal of a command, on a disk that keeps only what was made durable: what
//! was told as done or stored is there, nothing is told as lost, and work goes on without a hand.

use textum_testkit::{Disk, FileSystem, Ran, Tiny};

use crate::{TEXTUM, textum};

const STAGES: &str = r#"
[params]
n = 0

[data.yarn]
path = "yarn.csv"
key = ["loom"]

[stage.card]
run = "mkdir -p b/card; for i in 1 2; do (cat yarn.csv; echo {n} $i) > b/card/$i; done"
reads = ["yarn.csv"]
params = ["n"]
writes = ["b/card/"]

[stage.fit]
run = "mkdir -p b/ck; for i in 1 2; do echo {n} $i > b/ck/w; \"$TEXTUM_PROGRAM\" emit --step $i --checkpoint || exit 1; done; cat b/card/* > b/model; echo '{\"auc\": 0.9}' > b/m.json"
reads = ["b/card"]
params = ["n"]
writes = ["b/model"]
metrics = ["b/m.json"]
checkpoints = "b/ck"

[model.stops]
about = "Which looms will stop"
files = ["b/model"]
"#;

fn yarn(rows: std::ops::Range<u32>) -> String {
    std::iter::once("loom,lint\n".to_string()).chain(rows.map(|n| format!("L{n:03},{}\n", n * 7919 % 1009))).collect()
}

/// A disk with a project of three runs, a depot that has two of them, a published model, and data that has changed since.
fn template(file_system: FileSystem) -> Disk {
    let disk = Disk::new(file_system);
    let tiny = on(&disk);
    tiny.manifest(STAGES);
    tiny.write("yarn.csv", yarn(0..400));
    textum(&tiny, &["depot", "add", "team", "../depot"]).expect(0);
    for n in ["n=1", "n=2"] {
        textum(&tiny, &["run", "--set", n]).expect(0);
    }
    textum(&tiny, &["publish", "stops", "--unsigned"]).expect(0);
    textum(&tiny, &["sync"]).expect(0);
    tiny.write("yarn.csv", yarn(0..500));
    textum(&tiny, &["run", "--set", "n=3", "--label", "third"]).expect(0);
    for run in ["last", "last~1", "last~2"] {
        textum(&tiny, &["rebuild", run]).expect(0).says("identical");
    }
    tiny.write("yarn.csv", yarn(0..600));
    tiny.write("notes.md", "a person's\n");
    disk
}

fn on(disk: &Disk) -> Tiny {
    Tiny::at(&disk.root().join("project"))
}

fn runs(tiny: &Tiny) -> Vec<(String, String)> {
    let listed = textum(tiny, &["runs", "--all", "--format", "json"]).expect(0).json();
    let text = |run: &serde_json::Value, key: &str| run[key].as_str().unwrap().to_string();
    listed.as_array().unwrap().iter().map(|run| (text(run, "run"), text(run, "state"))).collect()
}

/// Something that is done while the power is cut.
struct Case {
    words: &'static [&'static str],
    /// What it may end with when it is done again, beside 0: after it was told as done, there may be nothing to do.
    status: i32,
    /// Done before.
    prepare: fn(&Tiny),
    /// Whether what is found afterwards is what was said.
    told: fn(&Ran, &Tiny, &str),
    /// Whether it comes to its end, done again.
    done: fn(&Tiny, &str),
}

const NOTHING: Case = Case { words: &[], status: 0, prepare: |_| {}, told: |_, _, _| {}, done: |_, _| {} };

/// The run that was begun is known, as done if that was told; checkpoints that were told as stored are there.
fn run_is_known(ran: &Ran, tiny: &Tiny, what: &str) {
    let listed = runs(tiny);
    if ran.err.contains("started") {
        assert_eq!(listed.len(), 4, "{what}: {listed:?}");
    }
    for line in ran.out.lines().filter_map(|line| line.strip_prefix("run ")) {
        let run = line.split_whitespace().next().unwrap();
        assert!(line.contains("done") && listed.contains(&(run.to_string(), "done".into())), "{what}: {listed:?}");
    }
    assert!(ran.status != 0 || ran.err.contains("checkpoint of step 2"), "{what}");
    for step in ran.err.lines().filter_map(|line| line.split("checkpoint of step ").nth(1)).filter_map(|l| l.split(' ').next()) {
        let newest = &listed[0].0;
        let restored = textum(tiny, &["restore", &format!("{newest}#{step}"), "-o", &format!("back{step}")]);
        assert_eq!(restored.status, 0, "{what}: checkpoint {step}: {}", restored.err);
        assert_eq!(tiny.read(&format!("back{step}/b/ck/w")), format!("9 {step}\n"), "{what}");
    }
}

/// The newest data, which is nowhere but in the tree, is there or aside.
fn nothing_of_a_person_is_lost(_: &Ran, tiny: &Tiny, what: &str) {
    let found = tiny.textum("grep", &["-rl", "L599", "yarn.csv", ".textum/aside"]);
    assert!(!found.out.is_empty(), "{what}: what was there before is nowhere");
}

fn cases() -> Vec<Case> {
    vec![
        Case {
            words: &["run", "--set", "n=9"],
            told: run_is_known,
            done: |tiny, what| {
                assert!(tiny.read("b/model").contains("\n9 2\n"), "{what}");
                textum(tiny, &["rebuild", "last"]).expect(0).says("identical");
            },
            ..NOTHING
        },
        Case { words: &["run", "--sandbox", "--set", "n=9", "--label", "nine"], told: run_is_known, ..NOTHING },
        Case {
            words: &["run", "card", "--vary", "n=5,6"],
            done: |tiny, what| {
                let made = runs(tiny).into_iter().filter(|(_, state)| state == "done").count();
                assert!(made >= 5, "{what}: {made}");
            },
            ..NOTHING
        },
        Case {
            words: &["run", "--from", "third#1"],
            done: |tiny, what| assert!(tiny.read("b/model").contains("\n0 2\n"), "{what}"),
            ..NOTHING
        },
        Case {
            words: &["data", "record"],
            told: |ran, tiny, what| {
                if ran.out.contains("yarn@3") {
                    textum(tiny, &["restore", "yarn@3", "-o", "v3"]).expect(0);
                    assert_eq!(tiny.read("v3/yarn.csv"), yarn(0..600), "{what}");
                }
            },
            done: |tiny, what| {
                textum(tiny, &["restore", "yarn@3", "-o", "again"]).expect(0);
                assert_eq!(tiny.read("again/yarn.csv"), yarn(0..600), "{what}");
            },
            ..NOTHING
        },
        Case {
            words: &["note", "last", "the reed was changed"],
            told: |ran, tiny, _| {
                if ran.status == 0 {
                    textum(tiny, &["show", "last"]).expect(0).says("the reed was changed");
                }
            },
            ..NOTHING
        },
        Case {
            words: &["restore", "last~1"],
            told: nothing_of_a_person_is_lost,
            done: |tiny, what| assert!(tiny.read("b/model").contains("\n2 2\n"), "{what}"),
            ..NOTHING
        },
        Case { words: &["restore", "last~2:b/model", "-o", "elsewhere"], ..NOTHING },
        Case { words: &["prune", "--newest", "0", "--last-outputs", "--checkpoints", "--yes"], ..NOTHING },
        Case { words: &["rebuild", "last~1"], done: |tiny, _| drop(textum(tiny, &["show", "last~1"]).expect(0)), ..NOTHING },
        Case {
            words: &["verify", "--repair"],
            prepare: |tiny| {
                let packs = std::fs::read_dir(tiny.path(".textum/store/packs")).unwrap().flatten().map(|e| e.path());
                packs.filter(|p| p.extension().is_some_and(|e| e != "pack")).for_each(|index| std::fs::remove_file(index).unwrap());
                tiny.write(".textum/ledger.db", "this is no ledger");
            },
            ..NOTHING
        },
        Case {
            words: &["sync"],
            done: |tiny, what| {
                let there = textum(tiny, &["verify", "--depot", "team"]);
                assert_eq!(there.status, 0, "{what}: {}{}", there.out, there.err);
            },
            ..NOTHING
        },
        Case {
            words: &["publish", "stops", "--unsigned"],
            done: |tiny, _| {
                textum(tiny, &["registry", "history", "stops"]).expect(0).says("stops@2");
                textum(tiny, &["fetch", "stops@1", "-o", "fetched"]).expect(0);
            },
            ..NOTHING
        },
        Case { words: &["alias", "stops@1", "live", "--unsigned"], ..NOTHING },
        Case {
            words: &["data", "erase", "yarn", "--where", "loom = 'L007'", "--because", "asked", "--yes", "--unsigned"],
            status: 3,
            done: |tiny, what| {
                let found = textum(tiny, &["data", "find", "yarn", "--where", "loom = 'L007'"]);
                assert!(!found.out.contains("L007,"), "{what}: {}", found.out);
            },
            ..NOTHING
        },
    ]
}

/// Cuts the power at each step of a case; how often.
fn survives(template: &Disk, case: &Case) -> u32 {
    let (words, prepared) = (case.words, template.copy());
    let before = runs(&on(&prepared));
    (case.prepare)(&on(&prepared));
    let is_damaged = words.contains(&"--repair");
    for step in 1..400 {
        let disk = prepared.copy();
        let ran = on(&disk).textum_with(TEXTUM, words, &[("TEXTUM_FAULT", &format!("crash:{step}"))]);
        let after = disk.after_power_cut();
        drop(disk);
        let tiny = on(&after);
        let what = format!("{words:?} {step} {}{}", ran.out, ran.err);
        assert!(ran.status == -1 || ran.status == 0, "{what}");
        assert_eq!(tiny.read("notes.md"), "a person's\n", "{what}");
        let looked = textum(&tiny, &["verify", "--deep"]);
        assert!(is_damaged || looked.status == 0, "{what}: {}{}", looked.out, looked.err);
        if !is_damaged {
            let now = runs(&tiny);
            let lost: Vec<_> = before.iter().filter(|run| !now.contains(run)).collect();
            assert!(lost.is_empty() || words[0] == "prune", "{what}: {lost:?} is lost");
        }
        (case.told)(&ran, &tiny, &what);
        let again = textum(&tiny, words);
        assert!([0, case.status].contains(&again.status), "{what}: {}{}", again.out, again.err);
        (case.done)(&tiny, &what);
        textum(&tiny, &["verify", "--deep"]).expect(0);
        if ran.status == 0 {
            assert!(step > 1, "{what}: there is no step");
            return step;
        }
    }
    panic!("{words:?}: there is no end of steps");
}

fn all_survive(file_system: FileSystem) {
    if !Disk::can_be() {
        eprintln!("not run: TEXTUM_DISKS is not set, which says that this is root and may mount file systems");
        return;
    }
    let template = template(file_system);
    let cuts: u32 = cases().iter().map(|case| survives(&template, case)).sum();
    assert!(cuts > 200, "{cuts}");
    eprintln!("{file_system:?}: {cuts} power cuts");
}

#[test]
fn every_command_survives_a_power_cut_at_each_of_its_steps() {
    all_survive(FileSystem::Ext4);
}

#[test]
fn every_command_survives_a_power_cut_where_only_what_is_made_durable_is_kept() {
    all_survive(FileSystem::Btrfs);
}
