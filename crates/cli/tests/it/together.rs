//! Several at once: processes on one store, stages on one machine.

use serde_json::Value;
use textum_testkit::{Tiny, noise};

use crate::{TEXTUM, textum, two_stages};

#[test]
fn eight_processes_work_on_one_store() {
    let tiny = Tiny::with(
        "[params]\nn = 0\n[stage.card]\nrun = \"cat yarn.bin > card; echo {n} >> card\"\nreads = [\"yarn.bin\"]\nparams = [\"n\"]\nwrites = [\"card\"]\n\
         [stage.spin]\nrun = \"tail -c 100 card > spun\"\nreads = [\"card\"]\nwrites = [\"spun\"]\n",
    );
    tiny.write("yarn.bin", noise(4, 3 << 20));
    let mut children: Vec<_> =
        (0..8).map(|n| tiny.start(TEXTUM, &["run", "--sandbox", "--set", &format!("n={}", n % 4)])).collect();
    children.extend((0..4).map(|_| tiny.start(TEXTUM, &["runs"])));
    for child in &mut children {
        assert!(child.wait().unwrap().success());
    }
    textum(&tiny, &["verify", "--deep"]).expect(0);
    let runs = textum(&tiny, &["runs", "--format", "json"]).expect(0).json();
    let runs = runs.as_array().unwrap();
    assert_eq!(runs.len(), 8);
    for n in 0..4 {
        let run = runs.iter().find(|r| r["params"]["n"] == n).unwrap();
        let folder = format!("out-{n}");
        textum(&tiny, &["restore", run["run"].as_str().unwrap(), "-o", &folder]).expect(0);
        assert!(std::fs::read(tiny.path(&format!("{folder}/spun"))).unwrap().ends_with(format!("{n}\n").as_bytes()));
    }
}

#[test]
fn eight_processes_record_restore_and_prune_one_store() {
    let tiny = Tiny::with(
        "[data.yarn]\npath = \"yarn.bin\"\n[params]\nn = 0\n[stage.card]\nrun = \"cat yarn.bin > card; echo {n} >> card\"\nreads = [\"yarn.bin\"]\n\
         params = [\"n\"]\nwrites = [\"card\"]\n[stage.spin]\nrun = \"tail -c 100 card > spun\"\nreads = [\"card\"]\nwrites = [\"spun\"]\n",
    );
    tiny.write("yarn.bin", noise(4, 1 << 20));
    for n in 0..3 {
        textum(&tiny, &["run", "--set", &format!("n={n}")]).expect(0);
    }
    let round = |round: u32| {
        let mut children = Vec::new();
        for n in 0..3 {
            let (set, out) = (format!("n={}", 10 * round + n), format!("out-{round}-{n}"));
            children.push(tiny.start(TEXTUM, &["run", "--sandbox", "--set", &set]));
            children.push(tiny.start(TEXTUM, &["restore", "yarn@1", "-o", &out]));
        }
        children.push(tiny.start(TEXTUM, &["prune", "--newest", "1", "--last-outputs", "--yes"]));
        children.push(tiny.start(TEXTUM, &["data", "record"]));
        children.into_iter().for_each(|mut child| assert!(child.wait().unwrap().success(), "in round {round}"));
    };
    for n in 1..5 {
        round(n);
        assert!(std::fs::read(tiny.path(&format!("out-{n}-0/yarn.bin"))).unwrap() == noise(4, 1 << 20));
    }
    textum(&tiny, &["verify", "--deep"]).expect(0);
    let runs = textum(&tiny, &["runs", "--all", "--format", "json"]).expect(0).json();
    assert_eq!(runs.as_array().unwrap().len(), 3 + 4 * 3);
    for run in runs.as_array().unwrap() {
        textum(&tiny, &["rebuild", run["run"].as_str().unwrap()]).expect(0).says("identical");
    }
}

#[test]
fn stages_run_side_by_side_only_within_what_they_need() {
    let stage = |name: &str, cpus: u32| {
        format!(
            "[stage.{name}]\nrun = \"date +%s%N > {name}.t; sleep 0.3; date +%s%N >> {name}.t\"\nwrites = [\"{name}.t\"]\nneeds = {{ cpus = {cpus} }}\n"
        )
    };
    let interval = |tiny: &Tiny, name: &str| -> (u128, u128) {
        let text = tiny.read(&format!("{name}.t"));
        let mut times = text.lines().map(|l| l.parse::<u128>().unwrap());
        (times.next().unwrap(), times.next().unwrap())
    };
    let tiny = Tiny::with(&(stage("giant", 1000) + &stage("other", 1000)));
    textum(&tiny, &["run", "-j4"]).expect(0);
    let (a, b) = (interval(&tiny, "giant"), interval(&tiny, "other"));
    assert!(a.1 <= b.0 || b.1 <= a.0, "two that need the whole machine ran at once: {a:?} {b:?}");
    let tiny = Tiny::with(&(stage("one", 1) + &stage("two", 1)));
    textum(&tiny, &["run", "-j2"]).expect(0);
    let (a, b) = (interval(&tiny, "one"), interval(&tiny, "two"));
    assert!(a.0 < b.1 && b.0 < a.1, "two that fit did not run side by side: {a:?} {b:?}");
}

#[test]
fn a_stage_that_does_not_listen_is_ended_by_the_second_interrupt() {
    let tiny = Tiny::with("[stage.deaf]\nrun = \"trap '' INT; echo weaving; sleep 300; sleep 300\"\nwrites = [\"out\"]\n");
    let mut child = tiny.start(TEXTUM, &["run"]);
    let begun = || {
        let runs = std::fs::read_dir(tiny.path(".textum/runs")).into_iter().flatten().flatten();
        runs.map(|e| e.path().join("deaf/log")).any(|log| std::fs::read_to_string(log).is_ok_and(|t| t.contains("weaving")))
    };
    while !begun() {
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    let interrupt = || {
        std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    };
    interrupt();
    // The first has been heard once it is told that the run stops.
    let heard = || {
        let runs = std::fs::read_dir(tiny.path(".textum/runs")).into_iter().flatten().flatten();
        runs.map(|e| e.path().join("events")).any(|log| std::fs::read_to_string(log).is_ok_and(|t| t.contains("stopping")))
    };
    while !heard() {
        std::thread::sleep(std::time::Duration::from_millis(5));
    }
    interrupt();
    assert_eq!(child.wait().unwrap().code(), Some(130));
    let shown = textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json();
    assert_eq!(shown["receipt"]["state"], "stopped");
    assert_eq!(shown["stages"][0]["exit"]["signal"], 9);
}

#[test]
fn a_key_is_the_digest_of_the_canonical_inputs() {
    let tiny = two_stages();
    textum(&tiny, &["run"]).expect(0);
    let shown = textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json();
    for stage in shown["stages"].as_array().unwrap() {
        let inputs = sorted(&stage["inputs"]);
        assert_eq!(textum_core::store::Digest::of(inputs.to_string().as_bytes()).to_string(), stage["key"].as_str().unwrap());
        textum(&tiny, &["show", stage["key"].as_str().unwrap()]).expect(0).says("textum/stage-receipt@1");
    }
    // A receipt's own bytes have the digest that it is named by.
    let printed = textum(&tiny, &["show", "last", "--receipt"]).expect(0).out;
    let digest = textum_core::store::Digest::of(printed.trim_end().as_bytes());
    assert_eq!(digest.to_string(), shown["digest"].as_str().unwrap());
}

/// JSON with the keys of every object sorted: for plain text and whole numbers that is RFC 8785.
fn sorted(value: &Value) -> Value {
    match value {
        Value::Object(map) => {
            let ordered: std::collections::BTreeMap<&String, Value> = map.iter().map(|(k, v)| (k, sorted(v))).collect();
            Value::Object(ordered.into_iter().map(|(k, v)| (k.clone(), v)).collect())
        }
        Value::Array(items) => Value::Array(items.iter().map(sorted).collect()),
        other => other.clone(),
    }
}
