//! `each`: one of a stage for each value.

use textum_testkit::Tiny;

use crate::textum;

/// Folds that are cut, fitted and blended, by shell alone: the score of a fold is the number in its file.
const FOLDS: &str = r#"
[data.shifts]
path = "shifts.csv"

[stage.cut]
each = { fold = "0..2" }
run = "grep ,{each.fold} shifts.csv > b/part-{each.fold}.csv"
reads = ["shifts.csv"]
writes = ["b/part-{each.fold}.csv"]

[stage.fit]
each = { fold = "0..2" }
run = "cat b/part-{each.fold}.csv > b/model-{each.fold}.txt && cp score-{each.fold}.json b/score-{each.fold}.json"
reads = ["b/part-{each.fold}.csv", "score-{each.fold}.json"]
writes = ["b/model-{each.fold}.txt"]
metrics = ["b/score-{each.fold}.json"]

[stage.blend]
run = "cat b/model-*.txt > b/all.txt"
reads = ["b/model-{each.fold}.txt"]
writes = ["b/all.txt"]

[metric.auc]
better = "higher"
"#;

fn folds() -> Tiny {
    let tiny = Tiny::with(FOLDS);
    tiny.write("shifts.csv", "a,0\nb,1\nc,2\nd,0\n");
    for (fold, auc) in [(0, "0.80"), (1, "0.84"), (2, "0.88")] {
        tiny.write(&format!("score-{fold}.json"), format!("{{\"auc\": {auc}}}"));
    }
    tiny
}

fn actions(tiny: &Tiny) -> Vec<String> {
    let plan = textum(tiny, &["plan", "--format", "json"]).expect(0).json();
    let of = |s: &serde_json::Value| format!("{} {}", s["stage"].as_str().unwrap(), s["action"].as_str().unwrap());
    plan["stages"].as_array().unwrap().iter().map(of).collect()
}

#[test]
fn a_stage_for_each_value_stands_in_one_line_until_opened() {
    let tiny = folds();
    let plan = textum(&tiny, &["plan"]).expect(0);
    assert!(
        plan.out.contains("cut ×3  run") && plan.out.contains("reads b/part-{each.fold}.csv, which cut will write"),
        "{}",
        plan.out
    );
    assert!(textum(&tiny, &["plan", "--each"]).expect(0).out.contains("reads b/part-1.csv, which cut:1 will write"));
    let graph = textum(&tiny, &["plan", "--graph", "--format", "mermaid"]).expect(0);
    assert!(graph.out.contains("s0[\"cut ×3\"]\n  s0 --> s1") && !graph.out.contains("fit:"), "{}", graph.out);
    assert!(textum(&tiny, &["plan", "--graph", "--each"]).expect(0).out.contains("fit:2"));
    textum(&tiny, &["run"]).expect(0).says("auc 0.8400 ± 0.0400");
    assert_eq!(tiny.read("b/all.txt"), "a,0\nd,0\nb,1\nc,2\n");
    let shown = textum(&tiny, &["show", "last", "--each"]).expect(0);
    // The interval of the mean of 0.80, 0.84, 0.88: 0.84 ± 4.302653 · 0.04 / √3.
    assert!(shown.out.contains("(0.7406 to 0.9394)") && shown.out.contains("fit:1  0.8400"), "{}", shown.out);
    let json = textum(&tiny, &["plan", "--format", "json"]).expect(0).json();
    let fit = json["stages"].as_array().unwrap().iter().find(|s| s["stage"] == "fit:1").unwrap().clone();
    assert_eq!(fit["each"], serde_json::json!({"of": "fit", "values": {"fold": 1}}));
    let run = textum(&tiny, &["runs", "--format", "json"]).expect(0).json();
    let high = run[0]["metrics"]["auc.each.high"].as_f64().unwrap();
    assert!((high - (0.84 + 4.302_652_729_7 * 0.04 / 3f64.sqrt())).abs() < 1e-9, "{high}");
}

#[test]
fn a_value_more_executes_what_is_new_and_nothing_else() {
    let tiny = folds();
    textum(&tiny, &["run"]).expect(0);
    tiny.write("score-3.json", "{\"auc\": 0.9}");
    tiny.write("textum.toml", tiny.read("textum.toml").replace("0..2", "0..3"));
    tiny.write("shifts.csv", tiny.read("shifts.csv"));
    let expected = [
        "cut:0 up-to-date",
        "cut:1 up-to-date",
        "cut:2 up-to-date",
        "cut:3 run",
        "fit:0 up-to-date",
        "fit:1 up-to-date",
        "fit:2 up-to-date",
        "fit:3 run",
        "blend run",
    ];
    assert_eq!(actions(&tiny), expected);
    // A value is told like a parameter, and counts like one: the command alone need not hold it.
    textum(&tiny, &["run"]).expect(1).warns("cut:3 failed");
    tiny.write("shifts.csv", "a,0\nb,1\nc,2\nd,0\ne,3\n");
    textum(&tiny, &["run"]).expect(0);
    assert_eq!(tiny.read("b/model-3.txt"), "e,3\n");
    let receipt = textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json();
    assert_eq!(receipt["stages"][7]["inputs"]["params"]["each.fold"], "3");
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    std::fs::remove_dir_all(tiny.path("b")).unwrap();
    textum(&tiny, &["restore", "last"]).expect(0);
    assert_eq!(tiny.read("b/model-3.txt"), "e,3\n");
    textum(&tiny, &["trace", "b/model-1.txt"]).expect(0).says("each.fold 1");
    textum(&tiny, &["verify"]).expect(0);
}

#[test]
fn one_that_fails_is_named_and_the_others_go_on() {
    let tiny = folds();
    std::fs::remove_file(tiny.path("score-1.json")).unwrap();
    textum(&tiny, &["run"]).expect(2).warns("`score-1.json`, which `fit:1` reads, does not exist");
    tiny.write("score-1.json", "no metrics");
    let ran = textum(&tiny, &["run", "--keep-going"]).expect(1);
    assert!(ran.out.contains("fit ×3  2 ran, 1 failed") && ran.out.contains("fit:1"), "{}", ran.out);
    // No mean of those that are left: it would be taken for the mean of all.
    assert!(ran.out.contains("fit:0.auc 0.8000") && !ran.out.contains("±"), "{}", ran.out);
    tiny.write("score-1.json", "{\"auc\": 0.5}");
    assert_eq!(actions(&tiny)[3..], ["fit:0 up-to-date", "fit:1 run", "fit:2 up-to-date", "blend run"]);
    textum(&tiny, &["run", "fit"]).expect(0).says("auc 0.7267");
    // One by its own name, and all by that of the stage.
    textum(&tiny, &["run", "--force", "fit:1", "fit:1"]).expect(0).says("fit:1.auc 0.5000");
    let forced = textum(&tiny, &["run", "--force", "fit", "--sandbox"]).expect(0);
    assert!(forced.out.contains("fit ×3  ran"), "{}", forced.out);
    textum(&tiny, &["run", "fit:7"]).expect(3).warns("there is no stage `fit:7`");
}

#[test]
fn a_gate_after_each_looks_at_the_mean_once_all_are_there() {
    let tiny = folds();
    let manifest = tiny.read("textum.toml");
    tiny.write(
        "textum.toml",
        format!("{manifest}\n[[gate]]\nafter = \"fit\"\ncheck = \"auc >= 0.84 and auc.each.low > 0.7 and `fit:0.auc` < 0.81 and auc.each.spread < 0.041\"\n"),
    );
    textum(&tiny, &["run"]).expect(0).warns("fit:0.auc 0.8000");
    tiny.write("textum.toml", format!("{manifest}\n[[gate]]\nafter = \"fit\"\ncheck = \"auc >= 0.83 and auc.each.low > 0.7\"\n"));
    let ran = textum(&tiny, &["run", "--force", "fit"]).expect(0);
    assert_eq!(ran.err.matches("gate after fit").count(), 1, "{}", ran.err);
    let again = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    assert_eq!(again["gates"].as_array().unwrap().len(), 1);
    tiny.write("textum.toml", format!("{manifest}\n[[gate]]\nafter = \"fit\"\ncheck = \"auc.each.low > 0.75\"\n"));
    tiny.write("shifts.csv", "a,0\nb,1\nc,2\n");
    let ran = textum(&tiny, &["run"]).expect(1);
    assert!(ran.out.contains("blend   skipped"), "{}", ran.out);
}

#[test]
fn values_come_from_a_column_of_a_table() {
    let tiny = Tiny::with(
        r#"
[data.shifts]
path = "shifts.csv"

[stage.cut]
each = { shed = { column = "shed", of = "shifts" }, half = ["am", "pm"] }
run = "grep ,{each.shed} shifts.csv > b/{each.shed}/{each.half}.csv"
reads = ["shifts.csv"]
writes = ["b/{each.shed}/{each.half}.csv"]

[stage.sum]
run = "cat b/*/*.csv | wc -l > n.txt"
reads = ["b/{each.shed}/{each.half}.csv"]
writes = ["n.txt"]
"#,
    );
    // Without the table nothing can be said of the stages, and all else still works.
    textum(&tiny, &["plan"]).expect(2).warns("`shifts`, which `cut` reads, does not exist");
    textum(&tiny, &["runs"]).expect(0);
    tiny.write("shifts.csv", "loom,shed\nL1,B\nL2,A\nL3,B\nL4,\n");
    textum(&tiny, &["run"]).expect(0);
    assert!(tiny.has("b/A/am.csv") && tiny.has("b/B/pm.csv") && !tiny.has("b/C"));
    assert_eq!(tiny.read("n.txt").trim(), "6");
    textum(&tiny, &["plan", "cut:A:pm", "--format", "json"]).expect(0).says("\"cut:A:pm\"");
    // Numbers and words in one column are in one order.
    tiny.write("shifts.csv", "loom,shed\nL1,2\nL2,10\nL3,1a\n");
    textum(&tiny, &["plan", "--each"]).expect(0).says("cut:1a:am").says("cut:10:pm");
    tiny.write("shifts.csv", "loom,shed\nL1,B\nL2,A\nL3,B\nL4,\n");
    // What came back from a fresh clone without data is found by restore although no stage is known.
    std::fs::remove_file(tiny.path("shifts.csv")).unwrap();
    textum(&tiny, &["restore"]).expect(0);
    assert!(tiny.has("shifts.csv"));
    tiny.write("shifts.csv", "loom,shed\nL1,Nord/1\n");
    textum(&tiny, &["plan"]).expect(2).warns("`Nord/1` cannot be a value of `shed`");
    tiny.write("shifts.csv", "loom,hall\nL1,A\n");
    textum(&tiny, &["plan"]).expect(2).warns("has no column `shed`");
}

#[test]
fn mistakes_of_each_are_told_once_with_what_to_write() {
    let cases = [
        (
            "each = { fold = \"0..2\" }\nrun = \"x\"\nwrites = [\"m.json\"]",
            "each of `fit` would write `m.json`",
            "build/model-{each.fold}.json",
        ),
        ("each = { fold = \"2..0\" }\nrun = \"x\"\nwrites = [\"{each.fold}\"]", "goes backwards", "0..4"),
        ("each = { fold = [1, 1] }\nrun = \"x\"\nwrites = [\"{each.fold}\"]", "is among the values of `fold` twice", "once"),
        ("each = { fold = [] }\nrun = \"x\"\nwrites = [\"{each.fold}\"]", "`fold` has no values", "0..4"),
        (
            "each = { fold = [\"a b\"] }\nrun = \"x\"\nwrites = [\"{each.fold}\"]",
            "`a b` cannot be a value of `fold`",
            "letters, digits",
        ),
        ("each = { \"a.b\" = \"0..1\" }\nrun = \"x\"\nwrites = [\"x\"]", "`a.b` cannot be the name of values", "{each.fold}"),
        (
            "each = { a = \"0..99\", b = \"0..99\" }\nrun = \"x\"\nwrites = [\"{each.a}-{each.b}\"]",
            "`fit` would be 10000 stages",
            "1000",
        ),
        (
            "each = { fold = \"0..1\" }\nrun = \"x {each.fald}\"\nwrites = [\"{each.fold}\"]",
            "`{each.fald}` is no value of `fit`",
            "did you mean `{each.fold}`",
        ),
        (
            "each = { fold = \"0..1\" }\nrun = \"x\"\nreads = [\"{each.other}\"]\nwrites = [\"{each.fold}\"]",
            "no stage is `each` for `other`",
            "each = { other =",
        ),
        ("each = { fold = \"0..1\" }\nrun = \"x\"\nwrites = [\"../{each.fold}\"]", "leaves the project", ""),
        (
            "each = { fold = \"0..1\" }\nrun = \"x '{each.fold} {each.name}'\"\nwrites = [\"{each.fold}\"]",
            "`{each.name}` is no value",
            "",
        ),
        (
            "each = { kind = [\"tree\", \"line\"] }\nrun = \"x '{each.kind}'\"\nwrites = [\"{each.kind}\"]",
            "inside quotation marks",
            "",
        ),
        ("each = { a = \"0..999999\" }\nrun = \"x\"\nwrites = [\"{each.a}\"]", "has more than 1000 values", "cannot be meant"),
        (
            "each = { a = \"0..999\", b = \"0..999\", c = \"0..999\" }\nrun = \"x\"\nwrites = [\"{each.a}{each.b}{each.c}\"]",
            "`fit` would be 1000000000 stages",
            "1000",
        ),
        ("each = { way = [\"..\"] }\nrun = \"x\"\nwrites = [\"{each.way}/x\"]", "`..` cannot be a value of `way`", "letters"),
        (
            "each = { a = { column = \"a\", of = \"/etc/passwd\" } }\nrun = \"x\"\nwrites = [\"{each.a}\"]",
            "`/etc/passwd` is no path in the project",
            "",
        ),
        (
            "each = { a = { column = \"a\", of = \"o.csv\" } }\nrun = \"x\"\nwrites = [\"{each.a}\"]\n[stage.make]\nrun = \"x\"\nwrites = [\"o.csv\"]",
            "`o.csv` is written by the stage `make`",
            "",
        ),
        ("each = \"0..3\"\nrun = \"x\"\nwrites = [\"x\"]", "`each` has the wrong type", "table"),
    ];
    for (stage, title, help) in cases {
        let tiny = Tiny::with(&format!("[stage.fit]\n{stage}\n"));
        let ran = textum(&tiny, &["plan"]).expect(2);
        assert!(ran.err.contains(title) && ran.err.contains(help), "{stage}:\n{}", ran.err);
        assert_eq!(ran.err.matches(title).count(), 1, "{stage}:\n{}", ran.err);
    }
    let tiny = Tiny::with("[stage.\"fit:0\"]\nrun = \"x\"\nwrites = [\"x\"]\n");
    textum(&tiny, &["plan"]).expect(2).warns("`fit:0` cannot be the name of a stage");
    let tiny = Tiny::with(
        "[params]\neach = { fold = 3 }\n\n[stage.fit]\neach = { fold = \"0..1\" }\nrun = \"x\"\nwrites = [\"{each.fold}\"]\n",
    );
    textum(&tiny, &["plan"]).expect(2).warns("`each` cannot be the name of parameters");
}

#[test]
fn what_each_was_seen_to_read_is_adopted_with_the_name_of_its_value() {
    let tiny = Tiny::with(
        "[stage.fit]\neach = { fold = \"1..2\" }\nrun = \"cat lib.txt extra-{each.fold}.txt > b-{each.fold}.txt\"\nwrites = [\"b-{each.fold}.txt\"]\n",
    );
    for name in ["lib.txt", "extra-1.txt", "extra-2.txt"] {
        tiny.write(name, name);
    }
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["adopt", "fit"]).expect(0);
    let manifest = tiny.read("textum.toml");
    assert!(manifest.contains("reads = [\"extra-{each.fold}.txt\", \"lib.txt\"]"), "{manifest}");
    assert_eq!(actions(&tiny), ["fit:1 up-to-date", "fit:2 up-to-date"]);
}
