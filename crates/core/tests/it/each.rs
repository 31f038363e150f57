//! What a manifest's stages become by `each`.

use std::path::Path;

use textum_core::config::graph::Graph;
use textum_core::config::manifest::{Manifest, ManifestError, is_stage_name};

const FOLDS: &str = r#"
[project]
name = "looms"

[stage.fit]
each = { fold = "0..2", kind = ["tree", "line"] }
run = ["fit", "{each.kind}"]
reads = ["steps/fit.py", "data/{each.fold}.csv"]
writes = ["b/{each.kind}-{each.fold}/"]
metrics = ["m/{each.kind}-{each.fold}.json"]
evaluate_here = false

[stage.judge]
each = { fold = "0..2" }
evaluate = { predictions = "b/tree-{each.fold}/p.csv", truth = "y", score = "p_{each.fold}" }
metrics = ["m/{each.fold}.json"]

[stage.blend]
run = "blend"
reads = ["b/{each.kind}-{each.fold}/model.json", "steps/blend.py"]
writes = ["all.json"]

[model.stops]
files = ["b/{each.kind}-{each.fold}/model.json"]
"#;

fn parse(text: &str) -> Result<Manifest, Box<ManifestError>> {
    Manifest::parse(Path::new("textum.toml"), text.replace("evaluate_here = false\n", ""))
}

#[test]
fn stages_come_out_in_the_order_of_their_values() {
    let manifest = parse(FOLDS).unwrap();
    let names: Vec<&str> = manifest.stages.iter().map(|s| s.name.as_str()).collect();
    let fits = ["fit:0:tree", "fit:0:line", "fit:1:tree", "fit:1:line", "fit:2:tree", "fit:2:line"];
    assert_eq!(names[..6], fits);
    assert_eq!(names[6..], ["judge:0", "judge:1", "judge:2", "blend"]);
    let fit = manifest.stage("fit:1:line").unwrap();
    let outputs: Vec<&str> = fit.outputs().map(|o| &**o).collect();
    assert_eq!(outputs, ["b/line-1", "m/line-1.json"]);
    let params: Vec<(String, String)> = fit.each.iter().flat_map(|e| e.params()).map(|(n, v)| (n, v.to_string())).collect();
    assert_eq!(params, [("each.fold".to_string(), "1".to_string()), ("each.kind".to_string(), "\"line\"".to_string())]);
    let each = fit.each.as_ref().unwrap();
    assert_eq!(each.template("b/line-1"), "b/{each.kind}-{each.fold}");
    assert_eq!(each.template("steps/fit.py"), "steps/fit.py");
    // Texts of Textum's own stages are filled in too.
    let judge = format!("{:?}", manifest.stage("judge:2").unwrap().run);
    assert!(judge.contains("b/tree-2/p.csv") && judge.contains("p_2"), "{judge}");
    // A stage that is not `each` reads all, and comes after all; so does a model.
    let graph = Graph::build(&manifest.stages);
    assert_eq!(graph.upstream(9), [0, 1, 2, 3, 4, 5]);
    assert_eq!(graph.upstream(7), [2]);
    assert_eq!(manifest.models[0].files.len(), 6);
}

#[test]
fn a_mistake_behind_a_read_of_all_stands_at_its_own_place() {
    let text = FOLDS.replace("\"steps/blend.py\"", "\"/blend.py\"");
    let mistakes = parse(&text).unwrap_err();
    let found: Vec<&str> = mistakes.mistakes.iter().map(|m| &mistakes.text[m.span.clone()]).collect();
    assert_eq!(found, ["\"/blend.py\""]);
    // One of each mistake, at the stage as it is written.
    let text = FOLDS.replace("run = [\"fit\", \"{each.kind}\"]", "run = \"\"\nparams = [\"fit\"]");
    let mistakes = parse(&text).unwrap_err();
    let found: Vec<&str> = mistakes.mistakes.iter().map(|m| &mistakes.text[m.span.clone()]).collect();
    assert_eq!(found, ["\"\"", "\"fit\""], "{:?}", mistakes.mistakes);
    let none = parse(&FOLDS.replace("files = [\"b/{each.kind}", "files = [\"b/{each.king}")).unwrap_err();
    assert_eq!(none.mistakes[0].title, "no stage is `each` for `king`");
    assert_eq!(none.mistakes[0].help, "did you mean `{each.kind}`?");
}

#[test]
fn only_such_names_are_read_from_receipts() {
    let good = ["fit", "fit:0", "fit:0.1:tree", "a-b_c:-1", "7:x"];
    let bad = ["", ":0", "fit:", "fit:a/b", "fit:..:/", "../x", "fit 0", "-fit", "fit:a b", "f\u{e4}"];
    assert!(good.iter().all(|n| is_stage_name(n)) && !bad.iter().any(|n| is_stage_name(n)));
    assert!(!is_stage_name(&"a".repeat(201)) && !is_stage_name(&format!("a:{}", "b".repeat(65))));
}
