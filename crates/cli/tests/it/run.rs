//! Plan and run: what is executed, what is reused, and why.

use std::time::{Duration, Instant};

use serde_json::Value;
use textum_testkit::Tiny;

use crate::{TEXTUM, state, textum, two_stages};

fn reasons(plan: &Value, stage: &str) -> Vec<String> {
    let found = plan["stages"].as_array().unwrap().iter().find(|s| s["stage"] == stage).unwrap();
    found["reasons"].as_array().unwrap().iter().map(|r| r["text"].as_str().unwrap().to_string()).collect()
}

#[test]
fn only_what_is_affected_runs_and_the_plan_says_why() {
    let tiny = two_stages();
    textum(&tiny, &["plan", "--check"]).expect(1).says("2 of 2 stages would run");
    assert!(!tiny.has(".textum"), "a plan leaves no trace");
    let first = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    assert_eq!((state(&first, "upper"), state(&first, "count")), ("ran".into(), "ran".into()));
    assert_eq!(first["metrics"]["lines"], 3.0);
    let again = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    assert_eq!((state(&again, "upper"), again["run"].clone()), ("up-to-date".into(), first["run"].clone()));
    textum(&tiny, &["plan", "--check"]).expect(0).says("nothing to do");

    tiny.write("yarn.txt", "cotton\nlinen\nsilk\n");
    tiny.write("count.sh", tiny.read("count.sh").replace("echo counting\n", ""));
    let plan = textum(&tiny, &["plan", "--set", "count.from=2", "--format", "json"]).expect(0).json();
    assert_eq!(reasons(&plan, "upper"), ["yarn.txt: 1 of 3 lines differ"]);
    let why = reasons(&plan, "count");
    for expected in ["count.from 1 → 2", "count.sh: +0 −1 lines, now 2", "reads build/upper.txt, which upper will write anew"] {
        assert!(why.iter().any(|r| r == expected), "{expected} is not in {why:?}");
    }
    let set = textum(&tiny, &["run", "--set", "count.from=2", "--format", "json"]).expect(0).json();
    assert_eq!(set["metrics"]["lines"], 2.0);
    let listed = textum(&tiny, &["runs", "--format", "json"]).expect(0).json();
    assert_eq!(listed[0]["params"]["count.from"], 2);
    assert_eq!(listed.as_array().unwrap().len(), 2, "a run with nothing to do is none");
}

#[test]
fn an_edit_that_changes_no_output_ends_the_wave() {
    let tiny = two_stages();
    textum(&tiny, &["run"]).expect(0);
    tiny.manifest(&tiny.read("textum.toml").split_once("\n\n").unwrap().1.replace("tr a-z A-Z <", "tr  a-z  A-Z <"));
    let run = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    assert_eq!((state(&run, "upper"), state(&run, "count")), ("ran".into(), "up-to-date".into()));
}

#[test]
fn what_was_done_before_is_put_back_instead_of_executed() {
    let tiny = two_stages();
    textum(&tiny, &["run"]).expect(0);
    let lines = tiny.read("build/lines.txt");
    textum(&tiny, &["run", "--set", "count.from=3"]).expect(0);
    assert_ne!(tiny.read("build/lines.txt"), lines);
    let plan = textum(&tiny, &["plan", "--format", "json"]).expect(0).json();
    assert_eq!(plan["stages"][1]["action"], "reuse");
    let back = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    assert_eq!(state(&back, "count"), "reused");
    assert_eq!(tiny.read("build/lines.txt"), lines);
}

#[test]
fn a_failed_stage_is_told_with_its_last_lines_and_never_reused() {
    let tiny = two_stages();
    tiny.write("count.sh", "echo the loom has stopped\nexit 3\n");
    let failed = textum(&tiny, &["run"]).expect(1).warns("exit status 3").warns("the loom has stopped");
    failed.says("failed");
    let again = textum(&tiny, &["run", "--format", "json"]).expect(1).json();
    assert_eq!((state(&again, "upper"), state(&again, "count")), ("up-to-date".into(), "failed".into()));
    textum(&tiny, &["show", "last", "--log", "count"]).expect(0).says("the loom has stopped");
    textum(&tiny, &["show", "last"]).expect(0).says("exit status 3");
}

#[test]
fn keep_going_runs_what_does_not_depend_on_the_failure() {
    let tiny = Tiny::with(
        "[stage.bad]\nrun = \"exit 1\"\nwrites = [\"a\"]\n[stage.after]\nrun = \"cp a b\"\nreads = [\"a\"]\nwrites = [\"b\"]\n\
         [stage.good]\nrun = \"sleep 0.2; echo c > c\"\nwrites = [\"c\"]\n[stage.later]\nrun = \"cp c d\"\nreads = [\"c\"]\nwrites = [\"d\"]\n",
    );
    let halted = textum(&tiny, &["run", "-j2", "--format", "json"]).expect(1).json();
    assert_eq!(
        (state(&halted, "good"), state(&halted, "later"), state(&halted, "after")),
        ("ran".into(), "skipped".into(), "skipped".into())
    );
    let going = textum(&tiny, &["run", "--keep-going", "--format", "json"]).expect(1).json();
    assert_eq!((state(&going, "later"), state(&going, "after")), ("ran".into(), "skipped".into()));
}

#[test]
fn a_stage_that_is_not_deterministic_becomes_visible_when_forced() {
    let tiny = Tiny::with("[stage.clock]\nrun = \"date +%N > time.txt\"\nwrites = [\"time.txt\"]\n");
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["run", "--force", "clock"]).expect(0).warns("not deterministic").warns("time.txt");
    textum(&tiny, &["rebuild", "last"]).expect(1).says("different").says("time.txt");
}

#[test]
fn reads_that_change_fail_the_stage_and_missing_outputs_are_named() {
    let tiny = Tiny::with(
        "[stage.spoil]\nrun = \"echo more >> yarn.txt; echo x > out\"\nreads = [\"yarn.txt\"]\nwrites = [\"out\", \"never\"]\n",
    );
    tiny.write("yarn.txt", "cotton\n");
    textum(&tiny, &["run"]).expect(1).warns("yarn.txt was touched while it ran");
    tiny.manifest("[stage.short]\nrun = \"echo x > out\"\nwrites = [\"out\", \"never\"]\n");
    textum(&tiny, &["run"]).expect(1).warns("it did not write never");
    tiny.manifest("[stage.gone]\nrun = [\"no-such-loom\"]\nwrites = [\"out\"]\n");
    textum(&tiny, &["run"]).expect(1).warns("no-such-loom");
    tiny.manifest("[stage.killed]\nrun = \"kill -9 $$\"\nwrites = [\"out\"]\n");
    textum(&tiny, &["run"]).expect(1).warns("killed by signal 9");
}

#[test]
fn stages_get_their_parameters_and_a_short_environment() {
    let tiny = Tiny::with(
        "[params]\nfit = { rate = 1.0, kind = \"a b\", deep = [1, 2] }\nother = 3\n[environment]\nvars = [\"LOOM\"]\n[stage.s]\n\
         run = \"cat $TEXTUM_PARAMS > p.json; env > env.txt; echo {fit.kind} > kind\"\nparams = [\"fit\"]\nwrites = [\"p.json\", \"env.txt\", \"kind\"]\n",
    );
    textum(&tiny, &["run"]).expect(0);
    let params: Value = serde_json::from_str(&tiny.read("p.json")).unwrap();
    assert_eq!(params.to_string(), r#"{"fit":{"deep":[1,2],"kind":"a b","rate":1.0}}"#);
    assert_eq!(tiny.read("kind"), "a b\n");
    let env = tiny.read("env.txt");
    assert!(env.contains("PYTHONHASHSEED=0") && env.contains("TEXTUM_STAGE=s") && !env.contains("LOOM="), "{env}");
}

#[test]
fn an_interrupt_reaches_the_whole_group_and_leaves_the_log() {
    let tiny = Tiny::with("[stage.long]\nrun = \"echo weaving; sh -c 'sleep 300 & sleep 300'; true\"\nwrites = [\"out\"]\n");
    let mut child = tiny.start(TEXTUM, &["run"]);
    let begun = Instant::now();
    let log = || {
        std::fs::read_dir(tiny.path(".textum/runs"))
            .ok()?
            .flatten()
            .find_map(|e| std::fs::read_to_string(e.path().join("long/log")).ok())
    };
    while !log().is_some_and(|t| t.contains("weaving")) {
        assert!(begun.elapsed() < Duration::from_secs(20), "the stage did not begin");
        std::thread::sleep(Duration::from_millis(10));
    }
    std::process::Command::new("kill").args(["-INT", &child.id().to_string()]).status().unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(130));
    assert!(begun.elapsed() < Duration::from_secs(60), "the group did not end");
    let listed = textum(&tiny, &["runs", "--format", "json"]).expect(0).json();
    assert_eq!(listed[0]["state"], "stopped");
    textum(&tiny, &["show", "last", "--log", "long"]).expect(0).says("weaving");
}

#[test]
fn two_runs_in_one_tree_do_not_meet_and_a_sandbox_does_not_mind() {
    // The stage in the tree says that it is at work and waits to be let go; in a sandbox there are no such pipes.
    let tiny = Tiny::with(
        "[params]\nn = 1\n[stage.slow]\nrun = \"if [ -p begun ]; then echo x > begun; cat go; fi; echo x > out\"\nparams = [\"n\"]\nwrites = [\"out\"]\n",
    );
    tiny.textum("mkfifo", &["begun", "go"]).expect(0);
    let mut child = tiny.start(TEXTUM, &["run"]);
    assert_eq!(tiny.read("begun"), "x\n");
    textum(&tiny, &["run"]).expect(1).warns("another run is at work").warns(&format!("process {}", child.id()));
    textum(&tiny, &["run", "--sandbox", "--force", "slow", "--set", "n=2"]).expect(0);
    std::fs::write(tiny.path("go"), "").unwrap();
    assert!(child.wait().unwrap().success());
}

#[test]
fn python_packages_count_and_are_not_asked_for_at_every_plan() {
    let tools = Tiny::new();
    let python = tools.path("fake-python").display().to_string();
    let tiny = Tiny::with(
        &"[environment]\npython = \"./fake-python\"\npackages = \"all\"\n[stage.s]\nrun = \"echo x > out\"\nwrites = [\"out\"]\n[stage.free]\nrun = \"echo x > free\"\nwrites = [\"free\"]\nenvironment = \"none\"\n"
            .replace("./fake-python", &python),
    );
    let asked_at = tools.path("asked.txt").display().to_string();
    let fake = |version: &str| {
        let answer =
            format!(r#"{{"version":"CPython 3.9","packages":{{"numpy":"{version}"}},"path":[],"prefix":[],"executable":"x"}}"#);
        tools.write("fake-python", format!("#!/bin/sh\necho asked >> {asked_at}\necho '{answer}'\n"));
        std::process::Command::new("chmod").args(["+x", &python]).status().unwrap();
    };
    fake("1.26.4");
    textum(&tiny, &["run"]).expect(0);
    fake("2.1.0");
    textum(&tiny, &["plan"]).expect(0).says("package numpy 1.26.4 → 2.1.0").says("1 of 2 stages would run");
    textum(&tiny, &["rebuild", "last"]).expect(0).warns("numpy 1.26.4 → 2.1.0").says("identical");
    // Once everything that it depends on has settled, the interpreter is not started any more.
    textum(&tiny, &["run"]).expect(0);
    let begun = Instant::now();
    let mut asked = String::new();
    while tools.read("asked.txt") != asked {
        assert!(begun.elapsed() < Duration::from_secs(30), "it is started again and again");
        asked = tools.read("asked.txt");
        textum(&tiny, &["run"]).expect(0);
        textum(&tiny, &["plan"]).expect(0);
    }
}
