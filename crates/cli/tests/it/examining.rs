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

#[test]
fn what_is_declared_of_a_table_changes_what_is_told_of_its_versions() {
    let tiny = Tiny::with("[data.yarn]\npath = \"yarn.csv\"\nkey = [\"id\"]\n");
    tiny.write("yarn.csv", "id,count\n1,?\n2,24\n");
    textum(&tiny, &["data", "record"]).expect(0);
    tiny.write("yarn.csv", "id,count\n1,\n2,24\n");
    textum(&tiny, &["data", "record"]).expect(0);
    let changed = |tiny: &Tiny| textum(tiny, &["data", "versions", "yarn", "--format", "json"]).expect(0).json();
    assert_eq!(changed(&tiny)["versions"][1]["change"]["changed"], 1);
    // What was told before is not told again of a table that is read in another way.
    let manifest = tiny.read("textum.toml").replace("key =", "table = { null = [\"?\"] }\nkey =");
    tiny.write("textum.toml", manifest);
    assert_eq!(changed(&tiny)["versions"][1]["change"]["changed"], 0);
}

#[test]
fn an_option_that_would_do_nothing_is_refused() {
    let tiny = shed(
        "examine = { data = \"looms\", against = \"a.csv\", rules = [\"columns as in against\"] }\nmetrics = [\"b/i.json\"]\n\n[stage.other]\nexamine = { data = \"looms\", against = \"b.csv\", rules = [\"no row of against by loom\"] }\nmetrics = [\"b/j.json\"]",
    );
    tiny.write("a.csv", "loom,shed,humidity\nL08,A,1.5\n");
    tiny.write("b.csv", "loom,shed,humidity\nL09,A,1.5\n");
    textum(&tiny, &["data", "examine", "looms", "--rule", "rows > 1", "--against", "a.csv"])
        .expect(2)
        .warns("no rule holds against another table");
    // Two stages mean two tables by the same word: nobody guesses which.
    textum(&tiny, &["data", "examine", "looms"]).expect(2).warns("a.csv in one stage and b.csv in another");
    textum(&tiny, &["data", "examine", "looms", "--against", "b.csv"]).expect(0).says("all of 2 rules hold");
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["data", "examine", "nothing.csv", "--rule", "rows > 1"]).expect(3).warns("nothing.csv");
    textum(&tiny, &["data", "examine", "looms", "--rules", "nothing.toml"]).expect(3).warns("nothing.toml");
    tiny.write("rules.toml", "rules = \"rows > 1\"\n");
    textum(&tiny, &["data", "examine", "looms", "--rules", "rules.toml"]).expect(2).warns("rules.toml holds no rules");
    textum(&tiny, &["data", "profile", "looms", "--target-kind", "classes"]).expect(2);
    textum(&tiny, &["data", "diff", "a.csv", "b.csv", "--within", "7"]).expect(2).warns("from 0 to 1");
}

#[test]
fn rows_of_many_files_are_named_by_file_in_every_form() {
    let tiny = Tiny::new();
    tiny.manifest("");
    for (path, text) in [
        ("old/day=1/a.csv", "id,v\n1,x\n2,y\n"),
        ("old/day=2/b.csv", "id,v\n3,z\n"),
        ("new/day=1/a.csv", "id,v\n1,x\n2,Y\n"),
        ("new/day=2/b.csv", "id,v\n4,w\n"),
    ] {
        tiny.write(path, text);
    }
    let diff = |form: &str| textum(&tiny, &["data", "diff", "old", "new", "--key", "id", "--format", form]).expect(0);
    let csv = diff("csv").out;
    assert!(csv.starts_with("change,old_line,new_line,key,column,was,is,old_file,new_file\n"), "{csv}");
    for line in ["changed,3,3,2,v,y,Y,day=1/a.csv,day=1/a.csv", "added,,2,4,,,,,day=2/b.csv", "removed,2,,3,,,,day=2/b.csv,"] {
        assert!(csv.lines().any(|l| l == line), "{line}: {csv}");
    }
    let json = diff("json").json();
    let difference = &json["difference"];
    assert_eq!((&difference["kind"], &difference["examples_changed"][0]["new_file"]), (&"table".into(), &"day=1/a.csv".into()));
    assert_eq!((&difference["files"]["changed"], &difference["near"]), (&2.into(), &0.into()));
    assert!(diff("md").out.contains("| day=2/b.csv |"));
    // One file needs no name.
    let single = textum(&tiny, &["data", "diff", "old/day=1/a.csv", "new/day=1/a.csv", "--key", "id", "--format", "csv"]).expect(0);
    assert!(single.out.starts_with("change,old_line,new_line,key,column,was,is\n"), "{}", single.out);
    let found = textum(&tiny, &["data", "find", "new", "--where", "day = 2", "--format", "json"]).expect(0).json();
    assert_eq!(
        (&found["found"][0]["examples"][0]["file"], &found["found"][0]["examples"][0]["line"]),
        (&"day=2/b.csv".into(), &2.into())
    );
    let examined = textum(&tiny, &["data", "examine", "new", "--rule", "v in x, Y", "--format", "json"]).expect(1).json();
    assert_eq!(
        (&examined["rules"][0]["examples"][0]["file"], &examined["rules"][0]["examples"][0]["line"]),
        (&"day=2/b.csv".into(), &2.into())
    );
}

#[test]
fn columns_under_other_names_and_near_numbers_are_told_to_people() {
    let tiny = Tiny::new();
    tiny.manifest("");
    let rows = |header: &str, by: f64| {
        let row = |i: u32| format!("{i},{},{:.6}\n", ["A", "B", "C"][(i % 3) as usize], f64::from(i) / 7.0 + by);
        format!("{header}\n{}", (0..40).map(row).collect::<String>())
    };
    tiny.write("old.csv", rows("id,shed,lint", 0.0));
    tiny.write("new.csv", rows("id,hall,lint", 0.000_002));
    let told = textum(&tiny, &["data", "diff", "old.csv", "new.csv", "--key", "id"]).expect(0).says("40 of 40 rows changed");
    told.says("shed → hall: the same values under another name");
    let near = textum(&tiny, &["data", "diff", "old.csv", "new.csv", "--key", "id", "--within", "1e-5"]).expect(0);
    near.says("are the same: so in 40 rows").says("other columns");
    textum(&tiny, &["data", "diff", "old.csv", "new.csv", "--within", "1e-5"])
        .expect(0)
        .says("without a key there is no row to be near to");
    // A key that is there twice hides nothing of the others.
    let twice = tiny.read("new.csv").replace("0.000002", "0.5") + "7,A,9\n";
    tiny.write("new.csv", twice);
    let doubled = textum(&tiny, &["data", "diff", "old.csv", "new.csv", "--key", "id"]).expect(0);
    doubled
        .says("id (the key); whole rows where the key is not unique in new.csv: 7 on lines 9 and 42")
        .says("39 of 41 rows changed");
}

#[test]
fn a_profile_tells_what_else_a_careful_reader_asks() {
    let tiny = Tiny::new();
    tiny.manifest("");
    let row =
        |i: u32| format!("S{i:03},{},{},{}\n", i % 4, if i == 9 { 900 } else { i % 11 }, ["wool", "silk"][(i % 4 / 2) as usize]);
    let text = format!("id,grade,picks,yarn\n{}", (0..120).map(row).collect::<String>());
    tiny.write("shifts.csv", format!("{text}{}", row(5)));
    let told = textum(&tiny, &["data", "profile", "shifts.csv", "--target", "grade", "--pairs"]).expect(0);
    told.says("1 row is the same as one before")
        .says("grade is taken for classes; --target-kind number says otherwise")
        .says("goes with");
    let json = textum(&tiny, &["data", "profile", "shifts.csv", "--pairs", "--format", "json"]).expect(0).json();
    let pair = json["pairs"].as_array().unwrap().iter().find(|p| p["a"] == "grade" && p["b"] == "yarn").unwrap().clone();
    assert!(pair["value"].as_f64().unwrap() > 0.8, "{pair}");
    assert_eq!((&json["duplicates"], &json["columns"][2]["numbers"]["outliers"]), (&1.into(), &1.into()));
    tiny.write("plain.csv", &text);
    textum(&tiny, &["data", "profile", "plain.csv"]).expect(0).says("id tells rows apart and says nothing beside");
    let drift = textum(&tiny, &["data", "profile", "plain.csv", "--against", "shifts.csv", "--format", "json"]).expect(0).json();
    assert!(
        drift["columns"].as_array().unwrap().iter().all(|c| c["drift"]["reading"] != "strong" && c["drift"]["reading"] != "some")
    );
    let csv = textum(&tiny, &["data", "profile", "plain.csv", "--format", "csv"]).expect(0);
    assert!(csv.out.lines().next().unwrap().contains(",skew,outliers,identifier,"), "{}", csv.out);
    textum(&tiny, &["data", "profile", "plain.csv", "--format", "md"]).expect(0).says("| picks |");
    textum(&tiny, &["data", "profile", "plain.csv", "--format", "html", "--pairs"]).expect(0).says("picks");
}
