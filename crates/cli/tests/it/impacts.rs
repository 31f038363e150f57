//! What was made of something, and who uses it.

use serde_json::Value;
use textum_testkit::Tiny;

use crate::publishing::{ROWS, begin};
use crate::textum;

fn impact(tiny: &Tiny, words: &[&str]) -> Value {
    textum(tiny, &[&["impact"], words, &["--format", "json"]].concat()).expect(0).json()
}

fn names(found: &Value, list: &str, key: &str) -> Vec<String> {
    let mut all: Vec<String> =
        found[list].as_array().unwrap().iter().map(|v| v[key].as_str().unwrap_or_default().to_string()).collect();
    all.sort();
    all
}

#[test]
fn from_rows_to_who_predicts_with_them_also_in_another_project() {
    let outer = Tiny::new();
    let shed = Tiny::at(&outer.path("shed"));
    begin(&shed, "");
    let first = textum(&shed, &["run", "--format", "json"]).expect(0).json()["run"].as_str().unwrap().to_string();
    textum(&shed, &["depot", "add", "team", "../depot"]).expect(0);
    textum(&shed, &["publish", "stops"]).expect(0);
    textum(&shed, &["alias", "stops@1", "live"]).expect(0);
    shed.write("rows.csv", ROWS.replace("L02", "L99"));
    let second = textum(&shed, &["run", "--format", "json"]).expect(0).json()["run"].as_str().unwrap().to_string();
    shed.write("rows.csv", ROWS.replace("L02", "L98"));
    textum(&shed, &["run", "--set", "fit.rate=7"]).expect(0);
    textum(&shed, &["publish", "stops"]).expect(0);
    textum(&shed, &["sync"]).expect(0);
    let other = Tiny::at(&outer.path("tomorrow"));
    other.write(
        "textum.toml",
        "[project]\nname = \"tomorrow\"\n[depot.team]\nurl = \"../depot\"\n[data.model]\npath = \"m\"\nfrom = \"registry:stops@live\"\n\
         [data.today]\npath = \"today.csv\"\n[stage.predict]\nrun = \"(cd m && sh predict.sh) < today.csv > risks.csv\"\n\
         reads = [\"m\", \"today.csv\"]\nwrites = [\"risks.csv\"]\n[stage.sum]\nrun = \"wc -l < risks.csv > sum.txt\"\nreads = [\"risks.csv\"]\nwrites = [\"sum.txt\"]\n",
    );
    other.write("today.csv", "loom,lint,since\nL09,4,2026-11-26\n");
    textum(&other, &["run"]).expect(0);
    textum(&other, &["sync"]).expect(0);
    // A version of the data: the run that read it, the version, the alias, the predictions.
    let found = impact(&shed, &["rows@1"]);
    assert!(names(&found, "runs", "run").contains(&first) && !names(&found, "runs", "run").contains(&second), "{found}");
    assert_eq!(found["versions"][0]["version"], "stops@1");
    assert_eq!(found["versions"][0]["aliases"], serde_json::json!(["live"]));
    assert_eq!(names(&found, "versions", "version").len(), 1);
    assert_eq!((&found["predictions"][0]["path"], &found["predictions"][0]["project"]), (&"risks.csv".into(), &"tomorrow".into()));
    let of_other: Vec<&Value> = found["runs"].as_array().unwrap().iter().filter(|r| r["project"] == "tomorrow").collect();
    assert_eq!(of_other[0]["stages"], serde_json::json!(["predict", "sum"]), "also what was made of the predictions");
    // Rows: only versions that have them.
    assert_eq!(names(&impact(&shed, &["rows", "--where", "loom = \"L99\""]), "versions", "version"), Vec::<String>::new());
    let ran = textum(&shed, &["impact", "rows", "--where", "loom = \"L02\""]).expect(0);
    ran.says("rows@1 (1 row) with loom = \"L02\"").says("live").says("risks.csv");
    textum(&shed, &["impact", "rows", "--where", "loom = \"L77\""]).expect(0).says("nothing that is recorded was made of it");
    textum(&shed, &["impact", "rows", "--where", "colour = \"red\""]).expect(2).warns("colour");
    textum(&shed, &["impact", "rowz", "--where", "loom = \"L02\""]).expect(3);
    // Parameters, runs, files, digests, published names.
    assert_eq!(names(&impact(&shed, &["--param", "fit.rate=7"]), "versions", "version"), ["stops@2"]);
    assert_eq!(names(&impact(&shed, &["--param", "fit.rate=8"]), "runs", "run"), Vec::<String>::new());
    assert!(names(&impact(&shed, &[&first]), "versions", "version").contains(&"stops@1".to_string()));
    assert_eq!(names(&impact(&shed, &["stops@2"]), "versions", "version"), ["stops@2"]);
    assert_eq!(names(&impact(&shed, &["rows.csv"]), "versions", "version"), ["stops@2"]);
    assert_eq!(names(&impact(&shed, &["predict.sh"]), "versions", "version"), ["stops@1", "stops@2"], "code of a model");
    shed.write("unknown.txt", "x");
    textum(&shed, &["impact", "unknown.txt"]).expect(0).says("nothing that is recorded was made of it");
    textum(&shed, &["impact", "nowhere.txt"]).expect(3);
    // A picture, and a graph.
    let page = textum(&shed, &["impact", "rows@1", "--format", "html"]).expect(0).out;
    assert!(page.contains("<svg") && page.contains("stops@1") && page.contains("risks.csv") && !page.contains("http://"), "{page}");
    textum(&shed, &["impact", "rows@1", "--format", "dot"]).expect(0).says("digraph impact").says("\"stops@1\"");
    textum(&shed, &["impact"]).expect(2);
    textum(&shed, &["impact", "--param", "fit"]).expect(2).warns("is no value of a parameter");
    // What the other project has made of it comes back, and is used here.
    shed.write("back.csv", std::fs::read(outer.path("tomorrow").join("risks.csv")).unwrap());
    let report = "\n[data.back]\npath = \"back.csv\"\n[stage.report]\nrun = \"cat back.csv > report.txt\"\nreads = [\"back.csv\"]\nwrites = [\"report.txt\"]\n";
    shed.write("textum.toml", shed.read("textum.toml") + report);
    textum(&shed, &["run"]).expect(0);
    let found = impact(&shed, &["rows@1"]);
    let reports = found["runs"].as_array().unwrap().iter().filter(|r| r["stages"] == serde_json::json!(["report"]));
    assert_eq!(reports.count(), 1, "{found}");
}

#[test]
fn parts_of_folders_checkpoints_and_helpers_that_nobody_declared_count() {
    let tiny = Tiny::with(
        r#"
[data.yarn]
path = "yarn"
[stage.cut]
run    = "mkdir -p parts; for f in yarn/*; do sed s/a/b/ $f > parts/$(basename $f); done"
reads  = ["yarn"]
writes = ["parts/"]
[stage.one]
run    = "sh helper.sh < parts/red > one.txt"
reads  = ["parts/red"]
writes = ["one.txt"]
[stage.two]
run    = "cat parts/blue > two.txt"
reads  = ["parts/blue"]
writes = ["two.txt"]
"#,
    );
    tiny.write("yarn/red", "aaa red\n");
    tiny.write("yarn/blue", "aaa blue\n");
    tiny.write("helper.sh", "tr a-z A-Z\n");
    textum(&tiny, &["run"]).expect(0);
    let stages = |words: &[&str]| impact(&tiny, words)["runs"][0]["stages"].clone();
    assert_eq!(stages(&["yarn@1"]), serde_json::json!(["cut", "one", "two"]));
    assert_eq!(stages(&["yarn/red"]), serde_json::json!(["cut", "one", "two"]), "a file of a dataset");
    assert_eq!(stages(&["parts/blue"]), serde_json::json!(["two"]), "a part of what a stage wrote");
    assert_eq!(stages(&["helper.sh"]), serde_json::json!(["one"]), "a helper that nobody declared");
}
