//! Trying and judging: runs chosen, compared, drawn, told of; predictions evaluated.

use textum_testkit::Tiny;

use crate::{textum, two_stages};

fn several() -> Tiny {
    let tiny = two_stages();
    for from in ["1", "3", "2"] {
        textum(&tiny, &["run", "-q", "--set", &format!("count.from={from}")]).expect(0);
    }
    tiny
}

fn ids(tiny: &Tiny, words: &[&str]) -> Vec<i64> {
    let json = textum(tiny, &[&["runs", "--format", "json"], words].concat()).expect(0).json();
    json.as_array().unwrap().iter().map(|r| r["params"]["count.from"].as_i64().unwrap()).collect()
}

#[test]
fn runs_are_sorted_filtered_and_grouped_by_whatever_tells_them_apart() {
    let tiny = several();
    assert_eq!(ids(&tiny, &["--by", "lines"]), [1, 2, 3], "the best first");
    assert_eq!(ids(&tiny, &["--by", "lines", "--reverse", "--last", "2"]), [3, 2]);
    assert_eq!(ids(&tiny, &["--by", "count.from"]), [1, 2, 3]);
    assert_eq!(ids(&tiny, &["--where", "count.from < 3 and state = done and data.yarn = yarn@1"]), [2, 1]);
    assert_eq!(ids(&tiny, &["--where", "lines in (1, 3) or count.unit contains 'x'"]), [3, 1]);
    assert_eq!(ids(&tiny, &["--where", "data.yarn = yarn@2"]), [] as [i64; 0]);
    textum(&tiny, &["runs", "--where", "count.form < 3"]).expect(2).warns("did you mean `count.from`?").warns("^^^^");
    textum(&tiny, &["runs", "--by", "lins"]).expect(3).warns("did you mean `lines`?");
    let groups = textum(&tiny, &["runs", "--group-by", "count.unit", "--format", "json"]).expect(0).json();
    assert_eq!(
        (&groups[0]["value"], &groups[0]["runs"], &groups[0]["best"], &groups[0]["worst"]),
        (&"m".into(), &3.into(), &3.0.into(), &1.0.into())
    );
    let table = textum(&tiny, &["runs", "--columns", "count.from,lines", "--format", "csv"]).expect(0).out;
    assert!(table.starts_with("run,count.from,lines\n") && table.lines().count() == 4, "{table}");
    textum(&tiny, &["runs"]).expect(0).says("same in all: count.unit m");
    textum(&tiny, &["runs", "nothing"]).expect(3).warns("no sweep");
}

#[test]
fn a_comparison_says_what_differs_and_what_does_not() {
    let tiny = several();
    tiny.write("count.sh", tiny.read("count.sh").replace("echo counting", "echo counting lines"));
    tiny.write("yarn.txt", "cotton\nlinen\nwool\nsilk\n");
    textum(&tiny, &["run", "-q", "--set", "count.from=2"]).expect(0);
    let said = textum(&tiny, &["compare", "last~1", "last"]).expect(0);
    let said = said
        .says("differ in 1 dataset, 1 code file")
        .says("everything else: 2 parameters")
        .says("- echo counting")
        .says("+ echo counting lines");
    said.says("yarn@2").says("better by 1");
    let json = textum(&tiny, &["compare", "last~2", "last~1", "--format", "json"]).expect(0).json();
    assert_eq!((&json["params"][0]["name"], &json["params"][0]["values"]), (&"count.from".into(), &serde_json::json!(["3", "2"])));
    assert_eq!(
        (&json["commands"], &json["same"]["files"], &json["same_inputs"]),
        (&serde_json::json!([]), &1.into(), &false.into())
    );
    textum(&tiny, &["compare", "last", "last"]).expect(0).says("name the same run");
    textum(&tiny, &["report", "last", "--against", "last"]).expect(2).warns("cannot be compared with itself");
    textum(&tiny, &["compare", "last"]).expect(2).warns("cannot be compared");
    // Another pipeline: what exists on one side only is said.
    tiny.manifest("[params]\nother = 1\n[stage.knit]\nrun = \"cp yarn.txt k\"\nreads = [\"yarn.txt\"]\nparams = [\"other\"]\nwrites = [\"k\"]\n");
    textum(&tiny, &["run", "-q"]).expect(0);
    let other = textum(&tiny, &["compare", "last~1", "last", "--format", "md"]).expect(0);
    other.says("parameters: `count.from` | 2 | –").says("parameters: `other` | – | 1");
}

#[test]
fn words_and_parameters_of_a_run_can_be_changed_after_it() {
    let tiny = several();
    textum(&tiny, &["note", "last~1", "the sensor was broken"]).expect(0);
    textum(&tiny, &["label", "last~1", "broken"]).expect(0);
    textum(&tiny, &["show", "broken"]).expect(0).says("the sensor was broken");
    textum(&tiny, &["label", "last", "broken"]).expect(2).warns("already means");
    textum(&tiny, &["label", "last", "best:x"]).expect(2);
    std::fs::remove_file(tiny.path(".textum/ledger.db")).unwrap();
    assert_eq!(ids(&tiny, &["--where", "label = broken"]), [3], "the ledger is made again from the store");
    textum(&tiny, &["label", "broken", ""]).expect(0);
    textum(&tiny, &["show", "broken"]).expect(3);
    tiny.write("textum.toml", tiny.read("textum.toml").replace("count = {", "# how lines are counted\ncount = {"));
    let before = tiny.read("textum.toml");
    textum(&tiny, &["restore", "last~1", "--params"]).expect(0).says("count.from 1 → 3");
    assert_eq!(tiny.read("textum.toml"), before.replace("from = 1", "from = 3"), "comments and all else stay");
    textum(&tiny, &["restore", "last~1", "--params"]).expect(0).says("already has");
}

#[test]
fn pictures_and_reports_stand_by_themselves() {
    let tiny = Tiny::with(
        "[params]\nrate = 1.0\nkind = \"a\"\n[stage.fit]\nrun = \"sh fit.sh {rate}\"\nreads = [\"fit.sh\"]\nparams = [\"rate\", \"kind\"]\nwrites = [\"fig/\"]\n\
         metrics = [\"h.csv\"]\n[metric.loss]\nbetter = \"lower\"\n",
    );
    tiny.write("fit.sh", "echo step,loss > h.csv; for i in 1 2 3; do echo $i,$(awk \"BEGIN{print $1/$i}\") >> h.csv; done; mkdir -p fig; echo '<svg xmlns=\"http://www.w3.org/2000/svg\"/>' > fig/own.svg\n");
    textum(&tiny, &["run", "--vary", "rate=0.5,1,2", "--vary", "kind=a,b"]).expect(0);
    textum(&tiny, &["plot", "last", "--metric", "loss"]).expect(0).says("3 steps, last");
    for (words, file) in [
        (vec!["last~1", "last"], "c.svg"),
        (vec!["last", "--by", "time", "--log"], "t.png"),
        (vec!["sweep", "--metric", "loss", "--against", "rate"], "a.svg"),
        (vec!["sweep", "--metric", "loss", "--against", "rate", "--against", "kind"], "h.html"),
    ] {
        let sweep = textum(&tiny, &["runs", "--format", "json"]).json()[0]["sweep"].as_str().unwrap().to_string();
        let words: Vec<&str> = words.into_iter().map(|w| if w == "sweep" { sweep.as_str() } else { w }).collect();
        textum(&tiny, &[&["plot", "-o", file], &words[..]].concat()).expect(0).says(file);
    }
    assert!(tiny.read("c.svg").contains("loss by step") && tiny.read("a.svg").contains("loss over rate"));
    assert!(tiny.read("h.html").contains("loss over rate and kind"));
    assert!(std::fs::read(tiny.path("t.png")).unwrap().starts_with(b"\x89PNG"));
    textum(&tiny, &["plot", "--metric", "auc"]).expect(3).warns("no `auc` by step").warns("loss");
    textum(&tiny, &["plot", "--against", "loss"]).expect(2).warns("is no parameter");
    textum(&tiny, &["plot", "-o", "x.gif"]).expect(2);
    textum(&tiny, &["report", "-o", "r.html"]).expect(0);
    let page = tiny.read("r.html");
    assert!(page.contains("data:image/svg+xml;base64,") && page.contains("loss by step") && page.contains("own.svg"));
    let outside = page.match_indices("http").filter(|(at, _)| !page[*at..].starts_with("http://www.w3.org/")).count();
    assert_eq!(outside, 0, "one file without references to others");
    textum(&tiny, &["report", "last~1", "--against", "last"]).expect(0).says("### looms: run").says("Against");
}

#[test]
fn predictions_are_evaluated_without_a_script() {
    let tiny = Tiny::with(
        "[stage.judge]\nevaluate = { predictions = \"p.csv\", truth = \"stopped\", score = \"p\", by = \"loom\" }\nwrites = [\"fig/\"]\nmetrics = [\"s.json\"]\n",
    );
    // y = [0, 0, 1, 1], scores = [0.1, 0.4, 0.35, 0.8]: area 0.75, average precision 0.8333.
    tiny.write("p.csv", "loom,stopped,p\nL1,0,0.1\nL1,0,0.4\nL2,1,0.35\nL2,1,0.8\n");
    let ran = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    let metric = |name: &str| ran["metrics"][name].as_f64().unwrap();
    assert!((metric("auc") - 0.75).abs() < 1e-9 && (metric("average_precision") - 5.0 / 6.0).abs() < 1e-9);
    assert_eq!((metric("true_positives"), metric("recall"), metric("rows")), (1.0, 0.5, 4.0));
    assert!(tiny.read("fig/roc.svg").contains("area 0.75") && tiny.read("fig/groups.csv").starts_with("loom,auc,"));
    textum(&tiny, &["run"]).expect(0).says("nothing to do");
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    // In which direction its metrics get better is known; what the manifest says comes first and holds.
    tiny.write("textum.toml", tiny.read("textum.toml") + "\n[metric.recall]\nbetter = \"lower\"\n");
    tiny.write("p.csv", "loom,stopped,p\nL1,0,0.1\nL1,0,0.2\nL2,1,0.65\nL2,1,0.8\n");
    textum(&tiny, &["run"]).expect(0);
    let told = textum(&tiny, &["compare", "last~1", "last", "--format", "json"]).expect(0).json();
    let told: Vec<(String, String)> = told["metrics"]
        .as_array()
        .unwrap()
        .iter()
        .map(|m| (m["name"].as_str().unwrap().to_string(), m["better"].as_str().unwrap_or("").to_string()))
        .collect();
    assert_eq!(told[..2], [("recall".to_string(), "lower".to_string()), ("auc".to_string(), "higher".to_string())]);
    assert!(
        told.contains(&("brier".to_string(), "lower".to_string())) && told.contains(&("true_positives".to_string(), String::new()))
    );
    textum(&tiny, &["show", "best:auc"]).expect(0).says("auc 1");
    for (rows, why) in [
        (
            "L1,0,0.1\nL1,1,\nL2,1,high\nL2,0,1.5\n",
            "line 3: p is missing; line 4: p is `high`, which is no number; line 5: p is 1.5, which is no probability",
        ),
        ("", "has no rows"),
    ] {
        tiny.write("p.csv", format!("loom,stopped,p\n{rows}"));
        textum(&tiny, &["run"]).expect(1).warns(why);
    }
    for (form, why) in [
        ("{ predictions = \"p.csv\", truth = \"t\" }", "what is predicted"),
        ("{ predictions = \"p.csv\", truth = \"t\", value = \"v\", threshold = 0.4 }", "go with `score`"),
        ("{ predictions = \"p.csv\", truth = \"t\", scor = \"v\" }", "did you mean `score`?"),
    ] {
        tiny.manifest(&format!("[stage.judge]\nevaluate = {form}\nmetrics = [\"s.json\"]\n"));
        textum(&tiny, &["plan"]).expect(2).warns(why);
    }
    tiny.manifest(
        "[stage.judge]\nevaluate = { predictions = \"p.csv\", truth = \"tru\", value = \"v\" }\nmetrics = [\"s.json\"]\n",
    );
    tiny.write("p.csv", "true,v\n3,2.5\n-0.5,0\n2,2\n7,8\n");
    textum(&tiny, &["run"]).expect(1).warns("has no column `tru`: did you mean `true`?");
    tiny.write("textum.toml", tiny.read("textum.toml").replace("\"tru\"", "\"true\""));
    let ran = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    assert!((ran["metrics"]["r2"].as_f64().unwrap() - 0.948_608_137_044_967_8).abs() < 1e-9);
}
