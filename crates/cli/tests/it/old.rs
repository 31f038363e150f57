//! Projects that an earlier Textum wrote: they open, verify, restore and rebuild for ever.

use textum_testkit::{Tiny, fixture};

use crate::textum;

/// Digests as the fixture has them: of its first data, and of its first run's receipt.
const DATA_1: &str = "b3:5fbf65bb2fedfa81427b345b1ff9d945b354db33aa9c74ff2021bffbd87c3696";
const RUN_1: &str = "b3:12c5b59a4eafd8fd001e1e6a9882b2c5b94763ac72a65a2a9cbc8fcf11005b8b";

/// A project of the fixture of this name, in a folder of its own.
fn project(name: &str) -> Tiny {
    let tiny = Tiny::new();
    let from = fixture(name).display().to_string();
    tiny.textum("sh", &["-c", &format!("cp -a '{from}/.' . && mv state .textum && chmod -R u+w .")]).expect(0);
    tiny
}

#[test]
fn a_project_of_november_2026_is_whole() {
    let tiny = project("2026-11");
    let runs = textum(&tiny, &["runs", "--all", "--flat", "--format", "json"]).expect(0).json();
    let runs = runs.as_array().unwrap();
    let told: Vec<_> = runs
        .iter()
        .map(|r| (r["params"]["least"].as_i64().unwrap(), r["state"].as_str().unwrap(), &r["metrics"]["share"]))
        .collect();
    let mut least: Vec<i64> = told.iter().map(|t| t.0).collect();
    least.sort_unstable();
    assert_eq!(least, [20, 25, 30, 35]);
    assert!(told.iter().all(|t| t.1 == "done" && *t.2 == 0.5), "{told:?}");
    assert_eq!((runs[3]["label"].as_str(), runs[3]["params"]["least"].as_i64()), (Some("first"), Some(20)));
    let versions = textum(&tiny, &["data", "versions", "yarn", "--format", "json"]).expect(0).json();
    let versions = versions["versions"].as_array().unwrap();
    assert_eq!(versions.iter().map(|v| v["rows"].as_u64().unwrap()).collect::<Vec<_>>(), [4, 5]);
    assert_eq!(versions[1]["notes"][0], "the fifth loom");
    textum(&tiny, &["verify", "--deep"]).expect(0).says("4 runs, 2 versions of datasets; every byte was read");
    // The digests are what they were, of contents and of documents.
    assert_eq!(versions[0]["digest"].as_str().unwrap(), DATA_1);
    let first = runs[3]["run"].as_str().unwrap();
    assert_eq!(textum(&tiny, &["show", first, "--format", "json"]).expect(0).json()["digest"].as_str().unwrap(), RUN_1);
    textum(&tiny, &["restore", first]).expect(0);
    assert_eq!(tiny.read("yarn.csv").lines().count(), 5);
    assert_eq!((tiny.read("cloth/b").as_str(), tiny.read("cloth/c")), ("20\n", tiny.read("cloth/a")));
    textum(&tiny, &["trace", "cloth/a"]).expect(0).says(first).says("yarn@1");
    textum(&tiny, &["compare", first, "last"]).expect(0).says("least");
    textum(&tiny, &["rebuild", first]).expect(0).says("identical");
    // It goes on from there.
    textum(&tiny, &["run", "--set", "least=40"]).expect(0);
    textum(&tiny, &["prune", "--newest", "1", "--yes"]).expect(0);
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["rebuild", first]).expect(0).says("identical");
}

/// What was recorded before stages were observed is made once more, or taken for right by a person, who is told of later.
#[test]
fn results_from_before_stages_were_observed_are_trusted_only_by_word() {
    let tiny = project("2026-11");
    let runs = textum(&tiny, &["runs", "--all", "--flat", "--format", "json"]).expect(0).json();
    let first = runs[3]["run"].as_str().unwrap().to_string();
    textum(&tiny, &["restore", &first, "--params"]).expect(0);
    textum(&tiny, &["restore", &first]).expect(0);
    textum(&tiny, &["plan"]).expect(0).says("what it read was never observed");
    let run = textum(&tiny, &["run", "--trust-old", "--format", "json"]).expect(0).json();
    let states: Vec<&str> = run["stages"].as_array().unwrap().iter().map(|s| s["state"].as_str().unwrap()).collect();
    assert!(states.iter().all(|s| matches!(*s, "up-to-date" | "reused")), "{states:?}");
    textum(&tiny, &["plan"]).expect(0).says("nothing to do");
    textum(&tiny, &["trace", "last"]).expect(0).says("not observed: taken for right by a person");
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
}

/// A clone has the manifest, the sources and the committed receipt, and nothing of the store.
#[test]
fn a_fresh_clone_says_what_its_files_are_and_what_is_missing() {
    let tiny = crate::two_stages();
    textum(&tiny, &["run"]).expect(0);
    let run = textum(&tiny, &["runs", "--format", "json"]).expect(0).json()[0]["run"].as_str().unwrap().to_string();
    std::fs::remove_dir_all(tiny.path(".textum")).unwrap();
    let outputs = tiny.snapshot();
    textum(&tiny, &["plan"]).expect(0).says(&format!("done in run {run} with the same inputs, by the committed receipt"));
    let traced = textum(&tiny, &["trace", "build/lines.txt"]).expect(3);
    assert!(
        traced.err.contains(&format!("as upper wrote it in run {run}")) || traced.err.contains("as count wrote it in run"),
        "{}",
        traced.err
    );
    assert!(!tiny.has(".textum") && tiny.snapshot() == outputs, "looking leaves no trace");
    // Made anew, it is the same, and the digests say so.
    let receipt: serde_json::Value = serde_json::from_str(&tiny.read("textum.receipt.json")).unwrap();
    textum(&tiny, &["run"]).expect(0);
    let anew: serde_json::Value = serde_json::from_str(&tiny.read("textum.receipt.json")).unwrap();
    for stage in ["upper", "count"] {
        assert_eq!(receipt["stages"][stage]["writes"], anew["stages"][stage]["writes"]);
        assert_eq!(receipt["stages"][stage]["key"], anew["stages"][stage]["key"]);
    }
}

/// A stage written from a command that was watched: it runs, and reads nothing that it does not declare.
#[test]
fn a_drafted_stage_declares_what_its_command_did() {
    let tiny = Tiny::with("[params]\nfit = { rate = 0.25, rounds = 40 }\n");
    tiny.write(
        "steps/fit.sh",
        ". steps/helper.sh\ncat data/yarn.csv > build/cloth\necho $2 $3 >> build/cloth\nhelp >> build/cloth\n",
    );
    tiny.write("steps/helper.sh", "help() { cat ~/textum-none 2>/dev/null; echo helped; }\n");
    tiny.write("data/yarn.csv", "wool\n");
    tiny.write("build/keep", "");
    let words = ["draft", "fit", "--", "sh", "steps/fit.sh", "--rate", "0.25", "--rounds=40"];
    textum(&tiny, &[&["draft", "fit", "--dry-run"], &words[2..]].concat()).expect(0).says("would be added to");
    assert!(!tiny.read("textum.toml").contains("stage"));
    textum(&tiny, &words).expect(0);
    let manifest = tiny.read("textum.toml");
    for line in [
        "run = \"sh steps/fit.sh --rate {fit.rate} --rounds={fit.rounds}\"",
        "reads = [\"data/yarn.csv\", \"steps/fit.sh\", \"steps/helper.sh\"]",
        "params = [\"fit.rate\", \"fit.rounds\"]",
        "writes = [\"build/cloth\"]",
    ] {
        assert!(manifest.contains(line), "{manifest}");
    }
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["run", "--sandbox", "--force", "fit"]).expect(0);
    textum(&tiny, &["adopt"]).expect(0).says("nothing to adopt");
    textum(&tiny, &words).expect(2).warns("there is a stage `fit` already");
    let before = tiny.snapshot();
    textum(&tiny, &["draft", "other", "--", "sh", "-c", "cat data/yarn.csv; exit 4"]).expect(1).warns("exit status 4");
    textum(&tiny, &["draft", "none", "--", "true"]).expect(1).warns("wrote nothing");
    textum(&tiny, &["draft", "a b", "--", "true"]).expect(2).warns("cannot be the name");
    assert_eq!(tiny.snapshot(), before);
}
