//! What goes to other programs: comma-separated values hold what JSON says, to the last digit.

use std::collections::BTreeMap;

use serde_json::Value;
use textum_testkit::Tiny;

use crate::textum;

type Row = BTreeMap<String, String>;

fn rows(tiny: &Tiny, words: &[&str]) -> Vec<Row> {
    let printed = textum(tiny, &[words, &["--format", "csv"]].concat()).expect(0).out;
    let mut reader = csv::Reader::from_reader(printed.as_bytes());
    let header: Vec<String> = reader.headers().unwrap().iter().map(String::from).collect();
    reader.records().map(|r| header.iter().cloned().zip(r.unwrap().iter().map(String::from)).collect()).collect()
}

fn json(tiny: &Tiny, words: &[&str]) -> Value {
    textum(tiny, &[words, &["--format", "json"]].concat()).expect(0).json()
}

fn project() -> Tiny {
    let tiny = Tiny::with(
        "[data.yarn]\npath = \"yarn.csv\"\nkey = [\"id\"]\n\n[params]\nn = 3\nname = \"fine, long\"\n\n\
         [stage.weave]\nrun = \"sh weave.sh {n}\"\nreads = [\"yarn.csv\", \"weave.sh\"]\nparams = [\"n\", \"name\"]\nwrites = [\"cloth\"]\n\
         metrics = [\"scores.json\"]\n\n[metric.share]\nbetter = \"higher\"\n",
    );
    tiny.write(
        "yarn.csv",
        (1..=40).map(|i| format!("{i},L{:02},{}.5\n", i % 4, i * 3)).fold("id,loom,count\n".to_string(), |a, l| a + &l),
    );
    tiny.write(
        "weave.sh",
        "cat yarn.csv > cloth; echo $1 >> cloth\nawk -v n=$1 'BEGIN{printf \"{\\\"share\\\": %.17g, \\\"odd\\\": NaN}\", 1/n}' > scores.json\n\
         for i in 1 2 3; do echo \"{\\\"metric\\\": {\\\"loss\\\": 0.$i$1234567890123}, \\\"step\\\": $i}\" >> $TEXTUM_SIGNALS; done\n",
    );
    tiny
}

#[test]
fn lists_of_runs_hold_what_json_says() {
    let tiny = project();
    textum(&tiny, &["run", "--label", "first, of all"]).expect(0);
    textum(&tiny, &["run", "--vary", "n=6..8"]).expect(0);
    let (told, runs) = (rows(&tiny, &["runs", "--all"]), json(&tiny, &["runs", "--all"]));
    let runs = runs.as_array().unwrap();
    assert_eq!(told.len(), 4, "each run of the sweep has a line of its own");
    for (row, run) in told.iter().zip(runs) {
        assert_eq!(row["run"], run["run"].as_str().unwrap());
        assert_eq!(row["started"], run["started"].as_str().unwrap());
        assert!(row["started"].parse::<jiff::Timestamp>().is_ok(), "{}", row["started"]);
        for (column, value) in [("seconds", &run["seconds"]), ("n", &run["params"]["n"]), ("share", &run["metrics"]["share"])] {
            assert_eq!(row[column].parse::<f64>().unwrap(), value.as_f64().unwrap(), "{column}");
        }
        assert_eq!(row["name"], "fine, long");
        assert_eq!(row["data.yarn"], "yarn@1");
        assert_eq!(row["odd"], "NaN");
        assert_eq!(
            (row["label"].as_str(), row["sweep"].as_str()),
            (run["label"].as_str().unwrap_or(""), run["sweep"].as_str().unwrap_or(""))
        );
    }
    let chosen = rows(&tiny, &["runs", "--columns", "share,took"]);
    assert_eq!(chosen[0].keys().collect::<Vec<_>>(), ["run", "share", "took"]);
    assert_eq!(chosen[0]["share"].parse::<f64>().unwrap(), runs[0]["metrics"]["share"].as_f64().unwrap());
    let grouped = rows(&tiny, &["runs", "--group-by", "n"]);
    let best: Vec<f64> = grouped.iter().map(|g| g["best"].parse().unwrap()).collect();
    assert!(grouped.len() == 4 && best.contains(&(1.0 / 3.0)) && best.contains(&(1.0 / 7.0)), "{grouped:?}");
    // Curves and parameters to draw elsewhere.
    let points = rows(&tiny, &["plot", "last", "--metric", "loss"]);
    let curve = &json(&tiny, &["plot", "last", "--metric", "loss"])[0];
    assert_eq!(points.len(), 3);
    for (row, point) in points.iter().zip(curve["points"].as_array().unwrap()) {
        assert_eq!(row["step"], point["step"].to_string());
        assert_eq!(row["value"].parse::<f64>().unwrap(), point["value"].as_f64().unwrap());
    }
    let sweep = runs.iter().find_map(|r| r["sweep"].as_str()).unwrap();
    let mut against: Vec<(String, f64)> = rows(&tiny, &["plot", sweep, "--metric", "share", "--against", "n"])
        .iter()
        .map(|r| (r["n"].clone(), r["share"].parse().unwrap()))
        .collect();
    against.sort_by(|a, b| a.0.cmp(&b.0));
    assert_eq!(against, [("6".to_string(), 1.0 / 6.0), ("7".to_string(), 1.0 / 7.0), ("8".to_string(), 1.0 / 8.0)]);
    // In what they differ.
    let differs = rows(&tiny, &["compare", "last~3", "last"]);
    let find = |what: &str, name: &str| differs.iter().find(|r| r["what"] == what && r["name"] == name).unwrap();
    let (old, new) = (runs[3]["run"].as_str().unwrap(), runs[0]["run"].as_str().unwrap());
    assert_eq!((find("parameter", "n")[old].as_str(), find("metric", "share")[old].parse()), ("3", Ok(1.0 / 3.0)));
    assert_eq!(find("metric", "share")[new].parse::<f64>().unwrap(), runs[0]["metrics"]["share"].as_f64().unwrap());
}

#[test]
fn datasets_versions_and_differences_are_whole() {
    let tiny = project();
    textum(&tiny, &["run"]).expect(0);
    let changed = tiny.read("yarn.csv").replace(",L02,", ",L07,");
    std::fs::write(tiny.path("yarn.csv"), changed).unwrap();
    let before = rows(&tiny, &["data"]);
    assert_eq!(
        (before[0]["state"].as_str(), before[0]["version"].as_str(), before[0]["files"].as_str()),
        ("edited", "yarn@1", "1")
    );
    textum(&tiny, &["data", "record", "-m", "looms, renamed"]).expect(0);
    let versions = rows(&tiny, &["data", "versions", "yarn"]);
    assert_eq!(versions.len(), 2);
    assert_eq!(
        (versions[0]["version"].as_str(), versions[0]["rows"].as_str(), versions[0]["in_tree"].as_str()),
        ("yarn@2", "40", "true")
    );
    assert_eq!(versions[0]["notes"], "looms, renamed");
    let run = json(&tiny, &["show", "last"])["run"].as_str().unwrap().to_string();
    assert_eq!((versions[1]["runs"].as_str(), versions[1]["bytes"].parse::<u64>().is_ok()), (run.as_str(), true));
    // Every changed cell, and no more.
    let all = rows(&tiny, &["data", "diff", "yarn@1", "yarn@2", "--all"]);
    assert_eq!(all.len(), 10);
    assert!(all.iter().all(|r| (r["column"].as_str(), r["was"].as_str(), r["is"].as_str()) == ("loom", "L02", "L07")), "{all:?}");
    assert_eq!(rows(&tiny, &["data", "diff", "yarn@1", "yarn@2", "--examples", "3"]).len(), 3);
    textum(&tiny, &["data", "diff", "yarn@1", "yarn@2", "--all"]).expect(0).says("the changed rows");
    textum(&tiny, &["data", "diff", "yarn", "--all", "--examples", "3"]).expect(2);
    let columns = rows(&tiny, &["data", "profile", "yarn@2", "--against", "yarn@1"]);
    let count = columns.iter().find(|c| c["column"] == "count").unwrap();
    assert_eq!(
        (count["min"].as_str(), count["max"].as_str(), count["mean"].as_str(), count["drift"].as_str()),
        ("3.5", "120.5", "62", "none")
    );
    let loom = columns.iter().find(|c| c["column"] == "loom").unwrap();
    assert_eq!((loom["distinct"].as_str(), loom["min"].as_str(), loom["most_frequent_count"].as_str()), ("4", "", "10"));
}
