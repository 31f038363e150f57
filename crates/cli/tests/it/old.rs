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
