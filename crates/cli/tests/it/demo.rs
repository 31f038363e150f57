//! The shipped projects, and what helps at the shell.

use textum_testkit::Tiny;

use crate::textum;

#[test]
fn the_demo_plays_its_whole_story() {
    let tiny = Tiny::new();
    textum(&tiny, &["demo", "looms", "--quiet-story"]).expect(0).says("runs were recorded").says("identical");
    textum(&tiny, &["demo", "looms"]).expect(2).warns("is not empty");
    textum(&tiny, &["-C", "looms", "verify", "--deep"]).expect(0);
    let runs = textum(&tiny, &["-C", "looms", "runs", "--format", "json"]).expect(0).json();
    let auc: Vec<f64> = runs.as_array().unwrap().iter().map(|r| r["metrics"]["auc"].as_f64().unwrap()).collect();
    assert!(
        auc[2] < auc[1] && auc[0] == auc[1] && auc[1] == auc[4] && auc.len() == 12,
        "the mistake in the data shows, and is rolled back: {auc:?}"
    );
    let no_python = format!("PATH=/nowhere {} demo other", crate::TEXTUM);
    tiny.textum("/bin/sh", &["-c", &no_python]).expect(3).warns("python3");
    assert!(!tiny.has("other"));
}

#[test]
fn the_third_act_takes_a_wrong_model_back() {
    let tiny = Tiny::new();
    textum(&tiny, &["demo", "act", "--registry", "--quiet-story"]).expect(0).says("That was the third act.");
    let found = textum(&tiny, &["-C", "act/ada", "registry", "show", "stop-predictor", "--format", "json"]).expect(0).json();
    assert_eq!((&found["aliases"]["live"]["version"], &found["aliases"]["live"]["before"]), (&1.into(), &2.into()));
    assert!(found["versions"][1]["retired"].as_str().unwrap().contains("fraction"));
    let history = textum(&tiny, &["-C", "act/ada", "registry", "history", "--format", "json"]).expect(0).json();
    let signed = crate::publishing::can_make_keys();
    assert!(history.as_array().unwrap().iter().all(|e| e["key"].is_string() == signed && e["invalid"].is_null()));
    textum(&tiny, &["-C", "act/bo", "plan", "--check"]).expect(0);
}

#[test]
fn new_projects_work_and_nothing_is_overwritten() {
    for template in ["bare", "tabular"] {
        let tiny = Tiny::new();
        textum(&tiny, &["new", "shed", "--template", template]).expect(0);
        textum(&tiny, &["-C", "shed", "run"]).expect(0).says("done");
        textum(&tiny, &["-C", "shed", "run", "--sandbox"]).expect(0);
    }
    let tiny = Tiny::new();
    tiny.write(".gitignore", "/data/\nmine");
    tiny.write("steps/count.sh", "mine\n");
    textum(&tiny, &["new"]).expect(0).says("kept as it is: steps/count.sh");
    assert_eq!(tiny.read("steps/count.sh"), "mine\n");
    assert_eq!(tiny.read(".gitignore"), "/data/\nmine\n/build/\n__pycache__/\n");
    let before = tiny.snapshot();
    textum(&tiny, &["new", "--template", "tabular"]).expect(0);
    assert_eq!(tiny.snapshot(), before);
    let schema: serde_json::Value = serde_json::from_str(&tiny.read("textum.schema.json")).unwrap();
    assert_eq!(schema["properties"]["stage"]["additionalProperties"]["$ref"], "#/$defs/StageForm");
}

#[test]
fn shells_are_offered_runs_and_stages() {
    let tiny = crate::two_stages();
    let run = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    let suffix = run["run"].as_str().unwrap().rsplit('-').next().unwrap().to_string();
    textum(&tiny, &["completions", "bash"]).expect(0).says("COMPLETE");
    let ask = |words: &str, index: usize| {
        let line = format!(
            "COMPLETE=bash _CLAP_COMPLETE_INDEX={index} _CLAP_COMPLETE_COMP_TYPE=9 _CLAP_COMPLETE_SPACE=true _CLAP_IFS=' ' {} -- {words}",
            crate::TEXTUM
        );
        tiny.textum("/bin/sh", &["-c", &line]).expect(0).out
    };
    assert!(ask("textum show ''", 2).contains(&suffix));
    let stages = ask("textum run ''", 2);
    assert!(stages.contains("upper") && stages.contains("count"), "{stages}");
    textum(&tiny, &["manual", "man"]).expect(0);
    assert!(tiny.read("man/textum-rebuild.1").contains("Verdicts"));
}

#[test]
fn the_second_act_plays_to_its_end_on_two_machines() {
    for more in [&[][..], &["--no-git"]] {
        let tiny = Tiny::new();
        let ran = textum(&tiny, &[&["demo", "shed", "--team"], more].concat()).expect(0);
        ran.says("made by bo@bo-loom").says("all is there in team").says("That was the second act");
        assert!(tiny.has("shed/ada/build/model.json") && tiny.has("shed/bo/build/model.json"));
        textum(&tiny, &["demo", "shed", "--team"]).expect(2).warns("is not empty");
    }
}

#[test]
fn the_fourth_act_needs_no_cluster() {
    let tiny = Tiny::new();
    let told = textum(&tiny, &["demo", "act", "--place"]).expect(0);
    told.says("can be used").says("kill -9").says("That was the fourth act.").warns("was cut off and left fit at cluster");
    let runs = textum(&tiny, &["-C", "act", "runs", "--format", "json"]).expect(0).json();
    let states: Vec<&str> = runs.as_array().unwrap().iter().map(|r| r["state"].as_str().unwrap()).collect();
    assert_eq!(states, ["done", "interrupted", "done", "done"], "one more was cut off, and taken up");
}
