//! Rules on tables: as stages, by hand, and as proposals.

use textum_testkit::Tiny;

use crate::textum;

const LOOMS: &str = "loom,shed,humidity\nL01,A,60\nL02,B,61.5\nL03,A,\nL03,C,120\n";

/// A project with a recorded dataset and a stage that examines it.
fn shed(stage: &str) -> Tiny {
    let tiny = Tiny::with(&format!("[data.looms]\npath = \"looms.csv\"\n\n[stage.inspect]\n{stage}\n"));
    tiny.write("looms.csv", LOOMS);
    tiny
}

#[test]
fn a_stage_tells_each_broken_rule_and_fails_unless_it_only_warns() {
    let tiny = shed(
        "examine = { data = \"looms\", rules = [\"rows between 1 and 10\", { rule = \"loom is unique\", severity = \"warn\", name = \"ids\" }, { rule = \"humidity between 0 and 100\", severity = \"warn\" }] }\nmetrics = [\"b/i.json\"]\nwrites = [\"b/i/\"]\n\n[[gate]]\nafter = \"inspect\"\ncheck = \"ids.breaking <= 1 and broken = 0\"",
    );
    textum(&tiny, &["run"]).expect(0);
    let metrics: serde_json::Value = serde_json::from_str(&tiny.read("b/i.json")).unwrap();
    let of = |name: &str| metrics.pointer(name).and_then(serde_json::Value::as_f64).unwrap();
    let found = ["/rows", "/rules", "/broken", "/warned", "/breaking_rows", "/ids/breaking", "/ids/share"].map(of);
    assert_eq!(found, [4.0, 3.0, 0.0, 2.0, 2.0, 1.0, 0.75]);
    assert!(tiny.read("b/i/rules.csv").contains("humidity between 0 and 100,warned,3,1,1,,1 of 3 rows break it (33.33 %)"));
    assert!(tiny.read("b/i/broken.csv").contains("loom is unique,,5,\"{\"\"loom\"\":\"\"L03\"\"}\",,4"));
    assert!(tiny.read("b/i/rules.svg").starts_with("<svg"));
    let log = textum(&tiny, &["show", "last", "--log", "inspect"]).expect(0);
    assert!(log.out.contains("warning: loom is unique") && log.out.contains("line 5: loom L03, as line 4"), "{}", log.out);
    let page = textum(&tiny, &["report", "last", "--format", "html"]).expect(0);
    assert!(page.out.contains("humidity between 0 and 100") && page.out.contains("1 of 3 rows break it"));
    // Nothing to do as long as nothing changed; a row more is another state.
    textum(&tiny, &["plan", "--check"]).expect(0);
    tiny.write("looms.csv", format!("{LOOMS}L03,A,50\n"));
    textum(&tiny, &["run"]).expect(1).warns("ids.breaking <= 1");
    // A rule that must hold fails the stage.
    let manifest = tiny.read("textum.toml").replace("severity = \"warn\", name", "name");
    tiny.write("textum.toml", manifest);
    let ran = textum(&tiny, &["run"]).expect(1);
    assert!(ran.err.contains("broken: loom is unique: 2 of 5 rows break it"), "{}", ran.err);
}

#[test]
fn what_a_rule_holds_against_counts_and_comes_back() {
    let tiny = shed(
        "examine = { data = \"looms.csv\", against = \"looms@1\", rules = [\"columns as in against\", \"no row of other.csv by loom\"] }\nmetrics = [\"b/i.json\"]",
    );
    tiny.write("other.csv", "loom\nL09\n");
    textum(&tiny, &["plan"]).expect(3).warns("no state of the dataset looms has been recorded");
    textum(&tiny, &["data", "record"]).expect(0);
    textum(&tiny, &["run"]).expect(0);
    let plan = textum(&tiny, &["plan", "--format", "json"]).expect(0).json();
    assert_eq!(plan["stages"][0]["action"], "up-to-date");
    tiny.write("other.csv", "loom\nL01\n");
    textum(&tiny, &["run"]).expect(1).warns("no row of other.csv by loom: 1 of 4 rows break it");
    tiny.write("other.csv", "loom\nL09\n");
    textum(&tiny, &["run"]).expect(0).warns("reused");
    // The version stands in the lineage, and is there when the result is made again.
    tiny.write("looms.csv", format!("{LOOMS}L04,A,50\n"));
    textum(&tiny, &["run"]).expect(0);
    let trace = textum(&tiny, &["trace", "b/i.json", "--format", "json"]).expect(0).json();
    let states = trace["nodes"].as_array().unwrap().iter().filter(|n| n["name"] == "looms.csv").count();
    assert_eq!(states, 2, "{trace}");
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    textum(&tiny, &["run", "--sandbox", "--force", "inspect"]).expect(0);
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["prune", "--yes"]).expect(0);
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
}

#[test]
fn rules_are_tried_by_hand_and_proposed() {
    let tiny = shed("examine = { data = \"looms\", rules = [\"shed in A, B\"] }\nmetrics = [\"b/i.json\"]");
    textum(&tiny, &["data", "record"]).expect(0);
    // Without a word the rules of the stages.
    textum(&tiny, &["data", "examine", "looms"]).expect(1).says("1 of 1 rule broken").says("line 5  shed C");
    let json = textum(&tiny, &["data", "examine", "looms@1", "--rule", "humidity > 0", "--format", "json"]).expect(0).json();
    assert_eq!((&json["fine"], &json["rules"][0]["unknown"]), (&true.into(), &1.into()));
    textum(&tiny, &["data", "examine", "looms", "--rule", "humidty > 0"]).expect(2).warns("did you mean `humidity`");
    textum(&tiny, &["data", "examine", "looms", "--rule", "rows between 1"]).expect(2).warns("write both ends");
    textum(&tiny, &["data", "examine", "looms", "--rule", "drift below 0.2"]).expect(2).warns("--against");
    textum(&tiny, &["data", "examine", "looms", "--rule", "drift below 0.2", "--against", "looms@1"]).expect(0);
    // What is proposed holds for what it was proposed from, and is not written over.
    let row =
        |i: u32| format!("{i},\"it's {}\",{},2026-03-{:02},{}\n", i % 3, f64::from(i * 7 % 50) / 4.0 - 3.0, 1 + i % 28, i % 2);
    tiny.write("wide.csv", format!("id,`odd` name,lint,day,in\n{}", (0..300).map(row).collect::<String>()));
    tiny.write("more.csv", format!("id,team,lint,day,rows\n{}", (0..300).map(row).collect::<String>()));
    for name in ["looms", "wide.csv", "more.csv"] {
        let rules = format!("{name}.toml");
        textum(&tiny, &["data", "propose", name, "-o", &rules]).expect(0);
        textum(&tiny, &["data", "examine", name, "--rules", &rules]).expect(0);
        textum(&tiny, &["data", "propose", name, "-o", &rules]).expect(2).warns("is there already");
    }
    let proposed = tiny.read("more.csv.toml");
    for rule in [
        "id is unique",
        "team in 'it\\\\'s 0', 'it\\\\'s 1', 'it\\\\'s 2'",
        "lint between -5 and 11",
        "day is date",
        "`rows` in 0, 1",
    ] {
        assert!(proposed.contains(rule), "{rule}: {proposed}");
    }
}

#[test]
fn mistakes_in_rules_are_told_with_their_place() {
    for (stage, told) in [
        ("examine = { data = \"looms\", rules = [\"humidity betwen 0 and 1\"] }", "cannot be read"),
        ("examine = { data = \"looms\", rules = [] }", "there are no rules"),
        ("examine = { data = \"looms\", rules = [\"drift below 0.1\"] }", "holds against something that is not said"),
        ("examine = { data = \"looms\", rules = [\"rows > 1\"] }\nrun = \"true\"", "something else beside `examine`"),
        ("examine = { data = \"looms\", rule = [\"rows > 1\"] }", "did you mean `rules`"),
    ] {
        let tiny = shed(&format!("{stage}\nmetrics = [\"b/i.json\"]"));
        textum(&tiny, &["plan"]).expect(2).warns(told);
    }
}

#[test]
fn folders_of_files_are_tables_for_every_command_that_reads_one() {
    let tiny = Tiny::with(
        "[data.shifts]\npath = \"shifts\"\nkey = [\"id\"]\n\n[data.yarn]\npath = \"yarn.data\"\ntable = { delimiter = \"blanks\", header = false, null = [\"?\"], encoding = \"latin-1\" }\n",
    );
    tiny.write("shifts/year=2025/a.csv", "id,humidity\n1,60\n2,61\n");
    tiny.write("shifts/year=2026/b.csv", "id,humidity\n3,62\n");
    tiny.write("shifts/README.md", "by hand\n");
    tiny.write("yarn.data", b"1 wei\xDF\n2 ?\n");
    textum(&tiny, &["data", "record"]).expect(0);
    let list = textum(&tiny, &["data", "--format", "json"]).expect(0);
    assert!(list.out.contains("\"rows\": 3") && list.out.contains("\"rows\": 2"), "{}", list.out);
    tiny.write("shifts/year=2026/b.csv", "id,humidity\n3,62.5\n4,63\n");
    let diff = textum(&tiny, &["data", "diff", "shifts"]).expect(0).says("1 of 4 rows changed").says("1 row more");
    diff.says("1 of 3 files hold the difference").says("year=2026/b.csv 2").says("62.5");
    textum(&tiny, &["data", "find", "shifts", "--where", "year = 2026 and humidity > 62"]).expect(0).says("year=2026/b.csv");
    textum(&tiny, &["data", "profile", "shifts"]).expect(0).says("4 rows, 3 columns");
    textum(&tiny, &["data", "examine", "shifts", "--rule", "humidity < 63"]).expect(1).says("year=2026/b.csv line 3");
    textum(&tiny, &["data", "versions", "shifts"]).expect(0).says("3");
    textum(&tiny, &["data", "examine", "yarn", "--rule", "`column 2` = 'weiß'"]).expect(0).says("1 missing");
    // Pictures beside tables make none.
    tiny.write("shifts/loom.png", "no table");
    textum(&tiny, &["data", "diff", "shifts"]).expect(0).says("1 file more");
    let wrong = tiny.read("textum.toml").replace("\"blanks\"", "\"ab\"").replace("latin-1", "latin-99");
    tiny.write("textum.toml", wrong);
    textum(&tiny, &["plan"]).expect(2).warns("cannot part the fields").warns("no encoding `latin-99`");
}

#[test]
fn what_textum_does_itself_is_stopped_like_any_stage() {
    let row = |i: u32| format!("{},{},{}\n", i % 3 % 2, f64::from(i * 7 % 1000) / 1000.0, i % 50);
    let tiny = Tiny::with(
        "[stage.judge]\nevaluate = { predictions = \"p.csv\", truth = \"t\", score = \"s\", by = \"g\", intervals = { level = 0.95, resamples = 100000 } }\nmetrics = [\"m.json\"]\n",
    );
    tiny.write("p.csv", format!("t,s,g\n{}", (0..20_000).map(row).collect::<String>()));
    let mut run = tiny.start(crate::TEXTUM, &["run"]);
    let begun = || textum(&tiny, &["runs", "--live", "--format", "json"]).json()[0]["stages"][0] == "judge";
    crate::stages::until("the stage at work", begun);
    textum(&tiny, &["stop"]).expect(0);
    assert_ne!(run.wait().unwrap().code(), Some(0));
    assert_eq!(textum(&tiny, &["runs", "--format", "json"]).expect(0).json()[0]["state"], "stopped");
    assert!(!tiny.has("m.json"));
}
