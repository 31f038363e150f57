//! Examinations from a manifest to the files they leave: everything that is told is told of what is there.

use proptest::prelude::*;
use textum_core::config::manifest::{Command, Examination, Manifest, RuleDecl, Severity, read_rules};
use textum_core::pipeline::examination::{Inspection, Places, examine_into, figure, inspect, measure, rows_csv, rules_csv};
use textum_core::store::Store;
use textum_core::table::examine::Others;
use textum_core::table::{Origin, Table};
use textum_testkit::Tiny;

const LOOMS: &str = "loom,shed,humidity\nL01,A,60\nL02,B,61.5\nL03,A,\nL03,C,120\n";

fn rule(text: &str, severity: Severity) -> RuleDecl {
    RuleDecl { rule: text.into(), severity, name: None }
}

fn inspected(text: &str, rules: &[RuleDecl], examples: usize) -> Inspection {
    let tiny = Tiny::new();
    tiny.write("looms.csv", text);
    let table = Table::new("looms.csv", "looms.csv", Origin::File(tiny.path("looms.csv"))).unwrap();
    inspect("looms", &table, &Others::new(), rules, examples, tiny.root()).unwrap()
}

/// What a stage of this manifest examines.
fn examination(tiny: &Tiny, stage: &str) -> Examination {
    tiny.manifest(&format!("[data.looms]\npath = \"looms.csv\"\n\n[stage.inspect]\n{stage}\nmetrics = [\"m.json\"]\n"));
    let manifest = Manifest::load(&tiny.path("textum.toml")).unwrap_or_else(|e| panic!("{e:?}"));
    match &manifest.stages[0].run {
        Command::Examine(examination) => examination.clone(),
        other => panic!("{other:?}"),
    }
}

fn csv(bytes: Vec<u8>) -> Vec<Vec<String>> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(bytes.as_slice());
    reader.records().map(|r| r.unwrap().iter().map(String::from).collect()).collect()
}

#[test]
fn what_is_left_says_the_same_as_what_was_found() {
    let tiny = Tiny::new();
    tiny.write("looms.csv", LOOMS);
    tiny.write("other.csv", "loom\nL02\n");
    let stage = "examine = { data = \"looms\", examples = 1, rules = [\"rows > 3\", { rule = \"loom is unique\", severity = \"warn\" }, \"no row of other.csv by loom\", \"maximum of shed > 1\", { rule = \"mean of humidity > 1\", name = \"damp\" }] }";
    let examination = examination(&tiny, stage);
    let reads: Vec<&str> = examination.paths().map(|p| p.as_str()).collect();
    assert_eq!(reads, ["looms.csv", "other.csv"], "both are inputs");
    let store = Store::open(&tiny.path("store"));
    let places = Places { root: tiny.root(), store: &store, versions: &[], stop: &|| false };
    let mut log = Vec::new();
    let fine = examine_into(&examination, &places, Some("m.json"), Some("found"), &mut log).unwrap();
    assert!(!fine, "a row of other.csv is there");
    let log = String::from_utf8(log).unwrap();
    for line in [
        "warning: loom is unique: 1 of 4 rows break it (25 %)\n  line 5: loom L03, as line 4\n",
        "broken: no row of other.csv by loom: 1 of 4 rows break it (25 %)\n  line 3: loom L02, as line 2\n",
        "not judged: maximum of shed > 1: nothing to judge\n",
        "2 of 5 rules hold for looms.csv (4 rows)\n",
    ] {
        assert!(log.contains(line), "{line}: {log}");
    }
    let rules = csv(std::fs::read(tiny.path("found/rules.csv")).unwrap());
    let states: Vec<&str> = rules[1..].iter().map(|r| r[1].as_str()).collect();
    assert_eq!(states, ["holds", "warned", "broken", "unknown", "holds"]);
    let broken = csv(std::fs::read(tiny.path("found/broken.csv")).unwrap());
    assert_eq!(
        broken[1..],
        [
            ["loom is unique", "", "5", "{\"loom\":\"L03\"}", "", "4"],
            ["no row of other.csv by loom", "", "3", "{\"loom\":\"L02\"}", "", "2"]
        ]
    );
    let metrics: serde_json::Value = serde_json::from_str(&tiny.read("m.json")).unwrap();
    assert_eq!(metrics["damp"]["value"], 80.5);
    let counts = ["rules", "broken", "warned", "breaking_rows"].map(|n| metrics[n].as_u64().unwrap());
    assert_eq!(counts, [5, 1, 1, 2]);
    // Nothing of it is left by one that was stopped.
    let stopped = Places { stop: &|| true, ..places };
    let many: String = (0..30_000).map(|i| format!("L{i},A,1\n")).collect();
    tiny.write("looms.csv", format!("loom,shed,humidity\n{many}"));
    std::fs::remove_file(tiny.path("m.json")).unwrap();
    let error = examine_into(&examination, &stopped, Some("m.json"), None, &mut Vec::new()).unwrap_err();
    assert!(error.to_string().contains("it was stopped") && !tiny.has("m.json"), "{error}");
}

#[test]
fn tables_are_found_by_name_path_and_version() {
    let tiny = Tiny::new();
    let of = |data: &str, rule: &str| {
        examination(&tiny, &format!("examine = {{ data = \"{data}\", against = \"looms@3\", rules = [\"{rule}\"] }}"))
    };
    let by_name = of("looms", "columns as in against");
    assert_eq!((by_name.data.path.as_str(), by_name.data.version.as_deref()), ("looms.csv", None));
    let against = &by_name.tables["against"];
    assert_eq!((against.path.as_str(), against.version.as_deref(), against.digest), ("looms.csv", Some("looms@3"), None));
    assert_eq!(by_name.paths().count(), 1, "a version is no path");
    assert_eq!(of("looms@2", "rows > 1").paths().count(), 0);
    let by_path = of("build/x.csv", "no row of looms by loom");
    assert_eq!(by_path.tables["looms"].path.as_str(), "looms.csv");
    assert!(by_path.to_string().starts_with("examine build/x.csv: no row of looms"), "{by_path}");
    // What is not recorded cannot be read.
    let store = Store::open(&tiny.path("store"));
    let places = Places { root: tiny.root(), store: &store, versions: &[], stop: &|| false };
    let error = examine_into(&of("looms@2", "rows > 1"), &places, None, None, &mut Vec::new()).unwrap_err();
    assert!(error.to_string().contains("looms@2"), "{error}");
}

#[test]
fn the_way_a_dataset_is_written_goes_with_it() {
    let tiny = Tiny::new();
    tiny.manifest("[data.yarn]\npath = \"yarn.data\"\ntable = { delimiter = \"blanks\", header = false, null = [\"?\"] }\n\n[stage.i]\nexamine = { data = \"yarn\", rules = [\"rows = 2\", \"`column 2` is not missing in 50 %\"] }\nmetrics = [\"m.json\"]\n");
    tiny.write("yarn.data", "  1  ?\n2  7\n");
    let manifest = Manifest::load(&tiny.path("textum.toml")).unwrap();
    let Command::Examine(examination) = &manifest.stages[0].run else { panic!("no examination") };
    // It counts: as a document it says what it is.
    let text = serde_json::to_string(examination).unwrap();
    assert_eq!(serde_json::from_str::<Examination>(&text).unwrap(), *examination);
    assert!(text.contains("\"null\":[\"?\"]") && text.contains("\"delimiter\":\"blanks\""), "{text}");
    let store = Store::open(&tiny.path("store"));
    let places = Places { root: tiny.root(), store: &store, versions: &[], stop: &|| false };
    assert!(examine_into(examination, &places, None, None, &mut Vec::new()).unwrap());
}

#[test]
fn measures_say_how_far_a_rule_holds() {
    let said = |text: &str| measure(&inspected(LOOMS, &[rule(text, Severity::Fail)], 1).judged[0].found);
    assert_eq!(said("rows > 1"), "it is 4");
    assert_eq!(said("missing of humidity < 1"), "it is 25 %");
    assert_eq!(said("columns are loom, team"), "team is not there; shed should not be there; humidity should not be there");
    assert_eq!(said("columns include loom, shed"), "all of 2 columns");
    assert_eq!(said("humidity < 100"), "1 of 3 rows break it (33.33 %)");
    let many = format!("n\n{}-1\n", "1\n".repeat(30_000));
    let found = inspected(&many, &[rule("n > 0", Severity::Fail)], 1);
    assert_eq!(measure(&found.judged[0].found), "1 of 30001 rows break it (less than 0.01 %)");
}

#[test]
fn files_of_rules_are_read_or_refused_with_a_reason() {
    let read = read_rules(
        "against = \"looms@1\"\nrules = [\"rows > 1\", { rule = \"loom is unique\", severity = \"warn\", name = \"ids\" }]\n",
    )
    .unwrap();
    let decls: Vec<RuleDecl> = read.rules.iter().map(|r| r.decl()).collect();
    assert_eq!((read.against.as_deref(), decls[0].severity, decls[1].severity), (Some("looms@1"), Severity::Fail, Severity::Warn));
    assert_eq!(decls[1].name.as_deref(), Some("ids"));
    for text in [
        "",
        "rules = \"rows > 1\"",
        "rule = [\"rows > 1\"]",
        "rules = [1]",
        "rules = [{ rule = \"a\", severity = \"loud\" }]",
        "rules = [",
    ] {
        assert!(read_rules(text).is_err_and(|e| !e.is_empty()), "{text}");
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]
    /// Whatever the rules find, the tables have a line for each, the figure a point, and the metrics count them.
    #[test]
    fn nothing_is_told_twice_or_left_out(rows in prop::collection::vec((0u8..9, prop::option::of(0u8..9)), 0..30), picked in prop::sample::subsequence(vec!["rows > 9", "a is unique", "b is unique", "b > 3", "b > 3 in 50 %", "mean of b > 4", "a < 'x'", "columns are a, b"], 0..8)) {
        let text: String = rows.iter().map(|(a, b)| format!("{a},{}\n", b.map_or(String::new(), |b| b.to_string()))).collect();
        let severity = |i: usize| if i.is_multiple_of(2) { Severity::Fail } else { Severity::Warn };
        let rules: Vec<RuleDecl> = picked.iter().enumerate().map(|(i, r)| rule(r, severity(i))).collect();
        let found = inspected(&format!("a,b\n{text}"), &rules, 2);
        let lines = csv(rules_csv(&found).unwrap());
        prop_assert_eq!(lines.len(), rules.len() + 1);
        let states = |word: &str| lines[1..].iter().filter(|l| l[1] == word).count();
        prop_assert_eq!(states("broken"), found.judged.iter().filter(|j| j.fails()).count());
        prop_assert_eq!(states("warned"), found.judged.iter().filter(|j| j.warns()).count());
        prop_assert_eq!(found.is_fine(), states("broken") == 0);
        let shown: usize = found.judged.iter().map(|j| j.found.examples.len()).sum();
        prop_assert_eq!(csv(rows_csv(&found).unwrap()).len(), shown + 1);
        for judged in &found.judged {
            let one = &judged.found;
            prop_assert!(one.examples.len() as u64 <= one.breaking.min(2), "{one:?}");
            prop_assert!(one.breaking <= one.of.max(2) && one.of + one.unknown <= (rows.len() as u64).max(2), "{one:?}");
        }
        let drawn = figure(&found).svg();
        prop_assert_eq!(drawn.matches("<circle").count(), rules.len(), "{}", drawn);
    }
}
