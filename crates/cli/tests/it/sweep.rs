//! Sweeps: each setting a run, what is shared done once, what is there not done again.

use serde_json::Value;
use textum_testkit::{Ran, Tiny};

use crate::textum;

fn looms() -> Tiny {
    let tiny = Tiny::with(
        "[params]\nfit = { rate = 0.2, depth = 3, kind = \"tree\" }\n\
         [stage.prep]\nrun = \"echo prep >> $HOME/textum-count-$(basename {X}); tr a-z A-Z < yarn.txt > up.txt\"\nreads = [\"yarn.txt\"]\nwrites = [\"up.txt\"]\n\
         [stage.fit]\nrun = \"sh fit.sh {fit.rate} {fit.depth}\"\nreads = [\"up.txt\", \"fit.sh\"]\nparams = [\"fit\"]\nwrites = [\"model.txt\"]\nmetrics = [\"s.json\"]\n\
         [metric.auc]\nbetter = \"higher\"\n",
    );
    let own = tiny.root().file_name().unwrap().to_str().unwrap().to_string();
    let text = tiny.read("textum.toml").replace("{X}", &own);
    tiny.write("textum.toml", text);
    tiny.write("yarn.txt", "wool\n");
    tiny.write(
        "fit.sh",
        "[ $1 = 0.9 ] && exit 3\ncat up.txt > model.txt; echo $1 $2 >> model.txt\necho \"{\\\"auc\\\": 0.$2}\" > s.json\n",
    );
    tiny
}

/// How often the shared stage was executed.
fn prepared(tiny: &Tiny) -> usize {
    let own = tiny.root().file_name().unwrap().to_str().unwrap();
    let path = tiny.root().parent().unwrap().join(format!("textum-count-{own}"));
    std::fs::read_to_string(path).unwrap_or_default().lines().count()
}

fn states(ran: &Ran) -> Vec<String> {
    let json = ran.json();
    json["variants"].as_array().unwrap().iter().map(|v| v["state"].as_str().unwrap().to_string()).collect()
}

#[test]
fn a_grid_shares_what_is_equal_and_a_second_call_runs_only_what_is_missing() {
    let tiny = looms();
    let words = ["run", "--vary", "fit.rate=0.1,0.2", "--vary", "fit.depth=2..4", "-j2", "--format", "json"];
    let first = textum(&tiny, &words).expect(0);
    assert_eq!(states(&first), ["done"; 6]);
    assert_eq!(prepared(&tiny), 1, "what all variants share is executed once");
    assert!(!tiny.has("up.txt"), "the working tree is not touched");
    let again = textum(&tiny, &words).expect(0);
    assert_eq!(states(&again), ["there"; 6]);
    assert_eq!(again.json()["sweep"], first.json()["sweep"]);
    let listed = textum(&tiny, &["runs", "--all", "--format", "json"]).expect(0).json();
    assert_eq!(listed.as_array().unwrap().len(), 6, "nothing is recorded twice");
    textum(&tiny, &["runs"]).expect(0).says("6 done").says("0.1–0.2").says("0.4000 *");
    // With other code the same sweep is another matter.
    tiny.write("fit.sh", format!("{}# other\n", tiny.read("fit.sh")));
    assert_eq!(states(&textum(&tiny, &words).expect(0)), ["done"; 6]);
    assert_eq!(prepared(&tiny), 1);
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["rebuild", "best:auc"]).expect(0).says("identical");
}

#[test]
fn a_failing_variant_does_not_end_the_others() {
    let tiny = looms();
    let ran = textum(&tiny, &["run", "--vary", "fit.rate=0.1,0.9,0.2", "--format", "json"]).expect(1);
    assert_eq!(states(&ran), ["done", "failed", "done"]);
    let why = ran.json()["variants"][1]["reason"].as_str().unwrap().to_string();
    assert!(why.contains("exit status 3"), "{why}");
    let again = textum(&tiny, &["run", "--vary", "fit.rate=0.1,0.9,0.2", "--format", "json"]).expect(1);
    assert_eq!(states(&again), ["there", "failed", "there"], "only what is missing runs");
    textum(&tiny, &["runs", "--where", "state = failed", "--format", "json"]).expect(0).says("0.9");
}

#[test]
fn samples_are_the_same_for_the_same_seed() {
    let tiny = looms();
    let drawn = |seed: &str| -> Vec<Value> {
        let words = ["run", "--vary", "fit.rate=even(0.01..0.5, 50)", "--vary", "fit.depth=2..9", "--sample", "4", "--seed", seed];
        let json = textum(&tiny, &[&words[..], &["--format", "json"]].concat()).expect(0).json();
        json["variants"].as_array().unwrap().iter().map(|v| v["set"].clone()).collect()
    };
    let (a, b, c) = (drawn("1"), drawn("1"), drawn("2"));
    assert_eq!((a.len(), &a), (4, &b));
    assert_ne!(a, c);
}

#[test]
fn settings_that_mean_nothing_are_told_before_anything_runs() {
    let tiny = looms();
    let told = |words: &[&str], status: i32, why: &str| drop(textum(&tiny, &[&["run"], words].concat()).expect(status).warns(why));
    told(&["--vary", "fit.rat=1"], 2, "did you mean `fit.rate`?");
    told(&["--vary", "fit=1"], 2, "`fit` has parameters of its own: fit.depth");
    told(&["--set", "fit=1"], 2, "`fit` has parameters of its own: fit.depth");
    told(&["--vary", "fit.rate=0..1:0"], 2, "a step that is not above 0");
    told(&["--label", "two\nlines"], 2, "cannot be the name of a run");
    told(&["--label", "last"], 2, "cannot be the name of a run");
    told(&["--vary", "fit.depth=1.5"], 2, "a whole number");
    told(&["--vary", "fit.depth="], 2, "there are no values");
    told(&["--vary", "fit.depth=5..2"], 2, "goes backwards");
    told(&["--vary", "fit.depth=0..99999999999"], 2, "more than a million");
    told(&["--vary", "fit.rate=log(0..1, 3)"], 2, "above 0");
    told(&["--vary", "fit.rate=1,2", "--vary", "fit.rate=3"], 2, "given twice");
    told(&["--vary", "fit.rate=1,2", "--set", "fit.rate=3"], 2, "given twice");
    told(&["--vary", "fit.depth=0..20000"], 2, "a sweep of 20001 runs was not begun");
    told(&["--vary", "fit.depth=0..9999", "--vary", "fit.rate=0..9999:1", "--yes"], 2, "more than a million");
    told(&["--sample", "3"], 2, "--vary");
    assert!(!tiny.has("model.txt") && prepared(&tiny) == 0);
}

#[test]
fn a_stage_that_writes_into_what_it_shares_with_others_is_caught() {
    let tiny = Tiny::with(
        "[params]\nx = 1\n[stage.spoil]\nrun = \"cat data.txt > out; [ {x} = 2 ] && echo spoilt >> data.txt; true\"\nreads = [\"data.txt\"]\n\
         params = [\"x\"]\nwrites = [\"out\"]\n",
    );
    tiny.write("data.txt", "good\n");
    let ran = textum(&tiny, &["run", "--vary", "x=2,3,4,5", "-j1", "--format", "json"]).expect(1);
    let found = states(&ran);
    assert_eq!(found[0], "failed");
    assert_eq!(tiny.read("data.txt"), "good\n", "nothing of a person's is ever linked");
    for variant in ran.json()["variants"].as_array().unwrap().iter().filter(|v| v["state"] == "done") {
        let run = variant["run"].as_str().unwrap();
        textum(&tiny, &["restore", &format!("{run}:out"), "-o", &format!("of-{run}")]).expect(0);
        assert_eq!(tiny.read(&format!("of-{run}/out")), "good\n", "what was spoilt reached nobody else as good");
    }
    assert_eq!(states(&textum(&tiny, &["run", "--vary", "x=3,4,5", "--format", "json"]).expect(0)), ["done"; 3]);
    textum(&tiny, &["verify", "--deep"]).expect(0);
}

#[test]
fn a_killed_sweep_loses_nothing_and_goes_on() {
    let tiny = looms();
    tiny.write("fit.sh", format!("sleep 0.15\n{}", tiny.read("fit.sh")));
    let words = ["run", "--vary", "fit.depth=1..8", "-j2", "--format", "json"];
    let kills = textum_testkit::many("TEXTUM_KILLS", 3).min(40);
    for number in 0..kills {
        let mut child = tiny.start(crate::TEXTUM, &words);
        std::thread::sleep(std::time::Duration::from_millis(200 + u64::from(number) * 97 % 700));
        child.kill().unwrap();
        child.wait().unwrap();
        textum(&tiny, &["verify", "--deep"]).expect(0);
    }
    let done = textum(&tiny, &words).expect(0);
    assert!(states(&done).iter().all(|s| s == "done" || s == "there"));
    assert!(prepared(&tiny) <= 1 + kills as usize);
    let left = textum(&tiny, &["runs", "--where", "state != done and state != interrupted", "--format", "json"]).expect(0).json();
    assert_eq!(left, serde_json::json!([]));
    // One that was killed before it had begun is found by nobody; what it left goes when it is old.
    let said = || {
        std::fs::read_dir(tiny.path(".textum/runs"))
            .unwrap()
            .flatten()
            .filter(|e| !e.file_name().to_string_lossy().starts_with('.'))
    };
    assert_eq!(said().count(), 0, "nothing says that it is at work any more");
    tiny.write(".textum/runs/.20200101-0000-7f3a/draft.json", "{}");
    tiny.textum("touch", &["-d", "2020-01-01", ".textum/runs/.20200101-0000-7f3a"]).expect(0);
    textum(&tiny, &["runs"]).expect(0);
    assert!(!tiny.has(".textum/runs/.20200101-0000-7f3a"));
}

#[test]
fn sharing_changes_no_result() {
    let (swept, alone) = (looms(), looms());
    let ran = textum(&swept, &["run", "--vary", "fit.rate=0.1,0.3", "--vary", "fit.kind=tree,\"a, b\"", "-j2", "--format", "json"])
        .expect(0)
        .json();
    let results = |tiny: &Tiny, run: &str| -> Vec<(Value, Value)> {
        let shown = textum(tiny, &["show", run, "--format", "json"]).expect(0).json();
        let stages = shown["stages"].as_array().unwrap();
        stages.iter().map(|s| (s["inputs"]["params"].clone(), serde_json::json!([s["writes"], s["metrics"]]))).collect()
    };
    for variant in ran["variants"].as_array().unwrap() {
        let set = variant["set"].as_object().unwrap();
        let mut words = vec!["run".to_string(), "--sandbox".into()];
        for (name, value) in set {
            words.extend(["--set".to_string(), format!("{name}={}", value.as_str().map_or(value.to_string(), str::to_string))]);
        }
        textum(&alone, &words.iter().map(String::as_str).collect::<Vec<_>>()).expect(0);
        assert_eq!(results(&swept, variant["run"].as_str().unwrap()), results(&alone, "last"), "{set:?}");
    }
}

#[test]
fn two_sweeps_at_once_share_one_store() {
    let tiny = looms();
    let mut first = tiny.start(crate::TEXTUM, &["run", "--vary", "fit.depth=1..9", "-j2"]);
    let second = textum(&tiny, &["run", "--vary", "fit.depth=5..14", "-j2", "--format", "json"]).expect(0);
    assert_eq!(states(&second), ["done"; 10]);
    assert!(first.wait().unwrap().success());
    let listed = textum(&tiny, &["runs", "--all", "--format", "json"]).expect(0).json();
    let runs: std::collections::BTreeSet<&str> = listed.as_array().unwrap().iter().map(|r| r["run"].as_str().unwrap()).collect();
    assert_eq!((runs.len(), listed.as_array().unwrap().len()), (19, 19));
    textum(&tiny, &["verify", "--deep"]).expect(0);
}
