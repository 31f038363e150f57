//! The instant counts: what a stage has read is what is recorded, stored and rebuilt, whoever edits what meanwhile.

use serde_json::Value;
use textum_testkit::Tiny;

use crate::textum;

fn versions(tiny: &Tiny) -> Vec<u64> {
    let all = textum(tiny, &["data", "versions", "yarn", "--format", "json"]).expect(0).json();
    all["versions"].as_array().unwrap().iter().map(|v| v["version"].as_u64().unwrap()).collect()
}

#[test]
fn a_source_edited_while_an_earlier_stage_runs_is_stored_as_it_was_read() {
    let tiny = Tiny::with(
        "[data.yarn]\npath = \"yarn.txt\"\n[stage.first]\nrun = \"echo edited > yarn.txt; echo x > one\"\nwrites = [\"one\"]\n\
         [stage.second]\nrun = \"cat one yarn.txt > two\"\nreads = [\"one\", \"yarn.txt\"]\nwrites = [\"two\"]\n",
    );
    tiny.write("yarn.txt", "as the run began\n");
    textum(&tiny, &["run"]).expect(0).warns("yarn@2");
    assert_eq!(tiny.read("two"), "x\nedited\n");
    textum(&tiny, &["verify", "--deep"]).expect(0);
    // The version that the run records is the one that was read.
    let shown = textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json();
    let digest = format!("b3:{}", blake3_of("edited\n"));
    assert!(shown.to_string().contains(&digest), "{shown}");
    assert_eq!(versions(&tiny).len(), 2);
    let receipt: Value = serde_json::from_str(&tiny.read("textum.receipt.json")).unwrap();
    assert_eq!(receipt["data"]["yarn"]["digest"], digest.as_str());
    tiny.write("yarn.txt", "something else by now\n");
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    textum(&tiny, &["restore"]).expect(0);
    assert_eq!(tiny.read("yarn.txt"), "edited\n");
}

fn blake3_of(text: &str) -> String {
    textum_core::store::Digest::of(text.as_bytes()).hex()
}

#[test]
fn two_states_read_in_one_run_are_both_recorded_and_told() {
    let tiny = Tiny::with(
        "[data.yarn]\npath = \"yarn.txt\"\n[stage.a]\nrun = \"cat yarn.txt > a\"\nreads = [\"yarn.txt\"]\nwrites = [\"a\"]\n\
         [stage.b]\nrun = \"cat a > b; echo two > yarn.txt\"\nreads = [\"a\"]\nwrites = [\"b\"]\n\
         [stage.c]\nrun = \"cat b yarn.txt > c\"\nreads = [\"b\", \"yarn.txt\"]\nwrites = [\"c\"]\n",
    );
    tiny.write("yarn.txt", "one\n");
    textum(&tiny, &["run"]).expect(0).warns("yarn changed while the run went on").warns("yarn@2");
    assert_eq!(tiny.read("c"), "one\ntwo\n");
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
}

#[test]
fn what_is_edited_and_put_back_fails_the_stage() {
    for (what, command) in [
        ("written", "cp -p in keep; echo B > in; cat in > out; cat keep > in; touch -r keep in; rm keep"),
        ("renamed", "mv in away; echo B > in; cat in > out; rm in; mv away in"),
        ("exchanged with its folder", "mv d d2; mkdir d; echo B > d/in; cat d/in > out; rm -r d; mv d2 d"),
        ("linked over", "ln in keep; echo B > new; mv new in; cat in > out; mv keep in"),
    ] {
        let path = if command.contains("d/in") { "d/in" } else { "in" };
        let tiny = Tiny::with(&format!("[stage.s]\nrun = \"{command}\"\nreads = [\"{path}\"]\nwrites = [\"out\"]\n"));
        tiny.write(path, "A\n");
        textum(&tiny, &["run"]).expect(1).warns("was touched while it ran");
        assert_eq!(tiny.read(path), "A\n", "{what}");
        let plan = textum(&tiny, &["plan", "--format", "json"]).expect(0).json();
        assert_eq!(plan["stages"][0]["action"], "run", "{what}: the result of B is not that of A");
    }
    // Reading, listing, and what happens beside it are no touch.
    let tiny = Tiny::with(
        "[stage.s]\nrun = \"cat d/in > out; ls -l d; echo x > d/new; mkdir d/__pycache__\"\nreads = [\"d/in\"]\nwrites = [\"out\"]\n",
    );
    tiny.write("d/in", "A\n");
    textum(&tiny, &["run"]).expect(0);
}

#[test]
fn in_a_sandbox_too_nobody_writes_into_what_others_share() {
    let tiny = Tiny::with(
        "[params]\nn = 0\n[stage.s]\nrun = \"cp -p in keep; echo B > in; cat in > out; cat keep > in; touch -r keep in; rm keep; echo {n}\"\nreads = [\"in\"]\nparams = [\"n\"]\nwrites = [\"out\"]\n",
    );
    tiny.write("in", "A\n");
    let ran = textum(&tiny, &["run", "--sandbox"]);
    // Where files are cloned the stage has a copy of its own, and what it does there is its own affair.
    let clones = tiny.textum("cp", &["--reflink=always", "in", "clone"]).status == 0;
    assert_eq!(ran.status, if clones { 0 } else { 1 }, "{}", ran.err);
    assert!(clones || ran.err.contains("was touched while it ran"), "{}", ran.err);
    assert_eq!(tiny.read("in"), "A\n");
}

#[test]
fn a_run_with_nothing_to_do_says_what_stands_there() {
    let tiny = Tiny::with(
        "[data.yarn]\npath = \"yarn.txt\"\n[stage.s]\nrun = \"tr a-z A-Z < yarn.txt > out\"\nreads = [\"yarn.txt\"]\nwrites = [\"out\"]\n",
    );
    tiny.write("yarn.txt", "first\n");
    let first = textum(&tiny, &["run", "--format", "json"]).expect(0).json()["run"].clone();
    let receipt = tiny.read("textum.receipt.json");
    tiny.write("yarn.txt", "second\n");
    let second = textum(&tiny, &["run", "--format", "json"]).expect(0).json()["run"].clone();
    assert_ne!(first, second);
    // The first state by hand: no restore has told Textum of it.
    tiny.write("yarn.txt", "first\n");
    tiny.write("out", "FIRST\n");
    let done = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    assert_eq!((&done["run"], &done["stages"][0]["state"]), (&first, &Value::from("up-to-date")));
    assert_eq!(tiny.read("textum.receipt.json"), receipt);
    // And the receipt is right although it was deleted.
    std::fs::remove_file(tiny.path("textum.receipt.json")).unwrap();
    textum(&tiny, &["run"]).expect(0);
    assert_eq!(tiny.read("textum.receipt.json"), receipt);
}

#[test]
fn a_sandbox_holds_what_its_stage_declares_and_nothing_of_other_stages() {
    let tiny = Tiny::with(
        "[stage.a]\nrun = \"cat only-a > out-a; ls > listed-a\"\nreads = [\"only-a\"]\nwrites = [\"out-a\", \"listed-a\"]\n\
         [stage.b]\nrun = \"ls; cat only-a > out-b\"\nreads = [\"out-a\", \"only-b\"]\nwrites = [\"out-b\"]\n",
    );
    tiny.write("only-a", "a\n");
    tiny.write("only-b", "b\n");
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["run", "--sandbox", "--force", "b"]).expect(1).warns("it seems to need only-a");
    textum(&tiny, &["show", "last", "--log", "b"]).expect(0).says("only-b\nout-a\n");
    // Folders around outputs, parts of outputs, and notebooks come together out of what stages made.
    let tiny = Tiny::with(
        "[stage.a]\nrun = \"mkdir -p all/deep/x; echo 1 > all/deep/x/1; echo 2 > all/deep/2\"\nwrites = [\"all/deep/\"]\n\
         [stage.b]\nrun = \"mkdir -p all; echo 3 > all/3\"\nwrites = [\"all/3\"]\n\
         [stage.part]\nrun = \"cat all/deep/x/1 > part; ls all >> part\"\nreads = [\"all/deep/x\"]\nwrites = [\"part\"]\n\
         [stage.whole]\nrun = \"find all -type f | sort > whole; cat all/own >> whole\"\nreads = [\"all\"]\nwrites = [\"whole\"]\n\
         [stage.own]\nrun = \"cat all/own > own\"\nreads = [\"all/own\"]\nwrites = [\"own\"]\n",
    );
    tiny.write("all/own", "mine\n");
    let run = textum(&tiny, &["run", "--sandbox", "--format", "json"]).expect(0).json();
    let sandbox = std::path::PathBuf::from(run["sandbox"].as_str().unwrap());
    assert_eq!(std::fs::read_to_string(sandbox.join("part")).unwrap(), "1\ndeep\n");
    assert_eq!(std::fs::read_to_string(sandbox.join("whole")).unwrap(), "all/3\nall/deep/2\nall/deep/x/1\nall/own\nmine\n");
    // In the tree it is the same: nothing is executed again, but for who listed a folder that holds more there.
    let run = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    for stage in run["stages"].as_array().unwrap() {
        assert_eq!(stage["state"], if stage["stage"] == "part" { "ran" } else { "reused" }, "{run}");
    }
    assert_eq!(tiny.read("part"), "1\n3\ndeep\nown\n");
    textum(&tiny, &["rebuild", "last~1"]).expect(0).says("identical");
}
