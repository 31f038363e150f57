//! Pruning: what goes can be had again, what must stay stays, and nothing is told wrongly afterwards.

use serde_json::Value;
use textum_testkit::{Tiny, noise};

use crate::textum;

/// Data, a large intermediate output, a model, and a score.
fn project() -> Tiny {
    let tiny = Tiny::with(
        r#"
[data.yarn]
path = "yarn.bin"

[params]
n = 0

[stage.card]
run = "mkdir -p build/carded; for i in 1 2 3; do (cat yarn.bin; echo {n} $i) > build/carded/$i; done"
reads = ["yarn.bin"]
params = ["n"]
writes = ["build/carded/"]

[stage.spin]
run = "(echo yarn {n}; tail -c 1000 build/carded/2) > build/model"
reads = ["build/carded"]
params = ["n"]
writes = ["build/model"]

[stage.weave]
run = "cksum build/model > build/cloth; printf '{\"n\": {n}}' > build/scores.json"
reads = ["build/model"]
params = ["n"]
writes = ["build/cloth"]
metrics = ["build/scores.json"]

[metric.n]
better = "higher"
"#,
    );
    tiny.write("yarn.bin", noise(3, 3_000_000));
    tiny
}

fn run(tiny: &Tiny, n: u32) -> String {
    let done = textum(tiny, &["run", "--set", &format!("n={n}"), "--format", "json"]).expect(0).json();
    done["run"].as_str().unwrap().to_string()
}

/// Proves each of the runs: only what has come out the same before may be dropped.
fn prove(tiny: &Tiny, runs: &[String]) {
    for run in runs {
        textum(tiny, &["rebuild", run]).expect(0).says("identical");
    }
}

fn stored(tiny: &Tiny) -> u64 {
    let packs = std::fs::read_dir(tiny.path(".textum/store/packs")).unwrap().flatten();
    packs.filter(|e| e.path().extension().is_some_and(|x| x == "pack")).map(|e| e.metadata().unwrap().len()).sum()
}

fn paths(plan: &Value, run: &str) -> Vec<String> {
    let outputs = plan["outputs"].as_array().unwrap().iter().filter(|o| o["run"] == run);
    outputs.map(|o| o["path"].as_str().unwrap().to_string()).collect()
}

#[test]
fn what_is_dropped_can_be_rebuilt_and_the_rest_stays() {
    let tiny = project();
    let runs: Vec<String> = (0..6).map(|n| run(&tiny, n)).collect();
    let dry = ["prune", "--newest", "2", "--dry-run", "--format", "json"];
    let plan = textum(&tiny, &dry).expect(0).json();
    assert_eq!((paths(&plan, &runs[0]).len(), plan["kept"]["not-proved"].as_u64()), (0, Some(8)), "nothing is proved yet");
    textum(&tiny, &["prune", "--newest", "2", "--yes"]).expect(0).says("nothing has proved").says("textum rebuild RUN");
    prove(&tiny, &runs);
    let before = stored(&tiny);
    let plan = textum(&tiny, &["prune", "--newest", "2", "--keep", &runs[1], "--dry-run", "--format", "json"]).expect(0).json();
    assert_eq!(paths(&plan, &runs[0]), ["build/carded", "build/model"], "what no stage reads stays");
    assert_eq!(paths(&plan, &runs[1]), Vec::<String>::new(), "named");
    assert_eq!(paths(&plan, &runs[5]), Vec::<String>::new(), "the newest, the best, the one in the tree");
    assert_eq!(stored(&tiny), before, "--dry-run changes nothing");
    let done = textum(&tiny, &["prune", "--yes", "--newest", "2", "--keep", &runs[1], "--format", "json"]).expect(0).json();
    assert!(done["frees"].as_u64().unwrap().abs_diff(plan["frees"].as_u64().unwrap()) < 4096, "what was said is what was done");
    // Each folder held the yarn once, stored once; what goes is what only the old runs had.
    assert!(stored(&tiny) < before);
    textum(&tiny, &["verify", "--deep"]).expect(0).says("dropped by `textum prune`");
    textum(&tiny, &["trace", &format!("{}:build/model", runs[0])]).expect(0).says("yarn@1");
    let gone = format!("{}:build/carded", runs[0]);
    textum(&tiny, &["restore", &gone]).expect(3).warns("dropped by a prune").warns("rebuild");
    textum(&tiny, &["restore", &format!("{}:build/cloth", runs[0]), "-o", "cloth"]).expect(0);
    textum(&tiny, &["show", &runs[0], "--log", "card"]).expect(0);
    // A file of a dropped folder is still known by its content.
    tiny.write("elsewhere", [noise(3, 3_000_000), b"0 2\n".to_vec()].concat());
    textum(&tiny, &["trace", "elsewhere"]).expect(0).says("build/carded/2");
    textum(&tiny, &["rebuild", &gone]).expect(0).says("identical").says("back in the store");
    textum(&tiny, &["restore", &gone, "-o", "again"]).expect(0);
    assert_eq!(std::fs::read(tiny.path("again/build/carded/2")).unwrap(), std::fs::read(tiny.path("elsewhere")).unwrap());
    for old in &runs {
        textum(&tiny, &["rebuild", old]).expect(0).says("identical");
    }
    textum(&tiny, &["verify", "--deep"]).expect(0);
}

#[test]
fn a_dropped_folder_that_comes_back_as_data_is_taken_in_whole() {
    let tiny = project();
    let runs: Vec<String> = (0..5).map(|n| run(&tiny, n)).collect();
    textum(&tiny, &["restore", &format!("{}:build/carded", runs[0]), "-o", "copy"]).expect(0);
    prove(&tiny, &runs);
    textum(&tiny, &["prune", "--newest", "1", "--yes"]).expect(0).says("freed");
    // The same folder again, now as a dataset: its listing was known, its files must be stored anew.
    textum(&tiny, &["data", "add", "copy/build/carded", "--name", "carded"]).expect(0);
    std::fs::remove_dir_all(tiny.path("copy")).unwrap();
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["restore", "carded@1"]).expect(0);
    assert_eq!(std::fs::read(tiny.path("copy/build/carded/1")).unwrap(), [noise(3, 3_000_000), b"0 1\n".to_vec()].concat());
}

#[test]
fn what_could_not_be_made_again_is_never_dropped() {
    let tiny = project();
    tiny.write(
        "textum.toml",
        tiny.read("textum.toml").replace("run = \"(echo yarn", "run = \"date +%N > /dev/null; (date +%N; echo yarn"),
    );
    let runs: Vec<String> = (0..5).map(|n| run(&tiny, n)).collect();
    for n in 0..5 {
        // A second execution proves that carding comes out the same.
        textum(&tiny, &["run", "--set", &format!("n={n}"), "--force", "card"]).expect(0);
    }
    // Shown to be not deterministic: by one execution more.
    textum(&tiny, &["run", "--set", "n=0", "--force", "spin"]).expect(0).warns("not deterministic");
    let labelled = textum(&tiny, &["run", "--label", "kept", "--set", "n=77"]).expect(0);
    drop(labelled);
    for n in 80..83 {
        run(&tiny, n);
    }
    let plan = textum(&tiny, &["prune", "--newest", "1", "--dry-run", "--format", "json"]).expect(0).json();
    let of_n0: Vec<String> = paths(&plan, &runs[0]);
    assert_eq!(of_n0, ["build/carded"], "another result came of the same key: its model must not go");
    assert_eq!(paths(&plan, &runs[2]), ["build/carded"], "of the others nothing is known: {plan}");
    assert!(plan["kept"]["not-proved"].as_u64().unwrap() >= 3, "{plan}");
    assert!(plan["kept"]["not-deterministic"].as_u64().unwrap() >= 1 && plan["kept"]["last-output"].as_u64().unwrap() >= 5);
    assert!(plan["kept_runs"].as_object().unwrap().values().any(|v| v == "labelled"));
    let with_model = tiny.read("textum.toml") + "\n[model.yarn]\nfiles = [\"build/model\"]\n";
    tiny.write("textum.toml", &with_model);
    let plan = textum(&tiny, &["prune", "--newest", "1", "--dry-run", "--format", "json"]).expect(0).json();
    assert!(plan["outputs"].as_array().unwrap().iter().all(|o| o["path"] != "build/model"), "a model of the manifest stays");
    textum(&tiny, &["prune", "--newest", "1", "--last-outputs", "--dry-run"]).expect(0).says("nothing has proved");
    textum(&tiny, &["prune", "--keep", "lst"]).expect(3).warns("no run `lst`");
    tiny.write("textum.toml", with_model.replace("files = [\"build/model\"]", "files = [\"build/modell\"]"));
    textum(&tiny, &["prune"]).expect(2).warns("did you mean `build/model`?");
}

#[test]
fn statistics_add_up() {
    let tiny = project();
    run(&tiny, 1);
    run(&tiny, 2);
    let stats = textum(&tiny, &["stats", "--format", "json"]).expect(0).json();
    let number = |name: &str| stats[name].as_u64().unwrap();
    let heads: u64 = 16 * number("packs");
    assert_eq!(number("stored") + heads, stored(&tiny), "every byte of the packs is somebody's");
    assert!(number("logical") >= number("distinct") && number("distinct") >= number("pieces"));
    // Six files hold the same 3,000,000 bytes, and so does the dataset.
    assert!(number("pieces") < number("distinct") / 2 && number("logical") > 7 * 3_000_000, "{stats}");
    let alone: u64 = stats["shares"].as_array().unwrap().iter().map(|s| s["alone"].as_u64().unwrap()).sum();
    assert!(alone <= number("stored"));
    textum(&tiny, &["stats"]).expect(0).says("dataset yarn").says("outputs of card").says("`textum prune` would free");
}

#[test]
fn sandboxes_of_old_runs_are_removed_with_what_is_recorded_of_them_kept() {
    let tiny = project();
    for n in 0..3 {
        textum(&tiny, &["run", "--sandbox", "--set", &format!("n={n}")]).expect(0);
    }
    let sandboxes = || std::fs::read_dir(tiny.path(".textum/sandboxes")).unwrap().count();
    textum(&tiny, &["prune", "--newest", "1", "--dry-run"]).expect(0).says("the sandboxes of 2 old runs");
    assert_eq!(sandboxes(), 3);
    textum(&tiny, &["prune", "--newest", "1", "--yes"]).expect(0).says("removed");
    assert_eq!(sandboxes(), 1);
    let first = textum(&tiny, &["runs", "--format", "json"]).expect(0).json()[2]["run"].as_str().unwrap().to_string();
    textum(&tiny, &["rebuild", &first]).expect(0).says("identical");
}
