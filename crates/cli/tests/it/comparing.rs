//! Experiments looked at: lists, comparisons, curves and reports say of every run what it was made to be.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::Value;
use textum_testkit::Tiny;

use crate::textum;

/// A training whose loss at step `s` is `depth / s + rate`, for `steps` steps; nothing of it is left to chance.
fn looms() -> Tiny {
    let tiny = Tiny::with(
        "[data.shifts]\npath = \"shifts.csv\"\nkey = [\"id\"]\n\n[params]\nrate = 0.1\ndepth = 2\nsteps = 4\n\n\
         [stage.clean]\nrun = \"grep -v bad shifts.csv > clean.csv\"\nreads = [\"shifts.csv\"]\nwrites = [\"clean.csv\"]\n\n\
         [stage.fit]\nrun = \"sh fit.sh {rate} {depth} {steps}\"\nreads = [\"fit.sh\", \"clean.csv\"]\nparams = [\"rate\", \"depth\", \"steps\"]\n\
         writes = [\"model.txt\"]\nmetrics = [\"scores.json\"]\n\n[metric.loss]\nbetter = \"lower\"\n[metric.rows]\nbetter = \"higher\"\n",
    );
    tiny.write("shifts.csv", "id,loom\n1,L1\n2,L2\n3,bad\n");
    tiny.write(
        "fit.sh",
        "awk -v r=$1 -v d=$2 -v n=$3 'BEGIN{for(s=1;s<=n;s++) printf \"{\\\"step\\\": %d, \\\"metric\\\": {\\\"loss\\\": %.6f}}\\n\", s, d/s+r}' >> $TEXTUM_SIGNALS\n\
         echo \"$1 $2 $3\" > model.txt\nprintf '{\"rows\": %d}' $(wc -l < clean.csv) > scores.json\n",
    );
    tiny
}

fn run(tiny: &Tiny, set: &[&str]) -> String {
    let words: Vec<&str> = ["run", "--format", "json"].into_iter().chain(set.iter().flat_map(|s| ["--set", s])).collect();
    textum(tiny, &words).expect(0).json()["run"].as_str().unwrap().to_string()
}

fn json(tiny: &Tiny, words: &[&str]) -> Value {
    textum(tiny, &[words, &["--format", "json"]].concat()).expect(0).json()
}

fn loss(rate: f64, depth: f64, steps: u32) -> f64 {
    ((depth / f64::from(steps) + rate) * 1e6).round() / 1e6
}

const SETTINGS: [(f64, u32, u32); 6] = [(0.1, 2, 4), (0.2, 2, 4), (0.4, 2, 8), (0.1, 3, 4), (0.2, 3, 8), (0.4, 3, 2)];

fn all_settings(tiny: &Tiny) -> Vec<String> {
    let set = |(rate, depth, steps): &(f64, u32, u32)| {
        run(tiny, &[&format!("rate={rate}"), &format!("depth={depth}"), &format!("steps={steps}")])
    };
    SETTINGS.iter().map(set).collect()
}

#[test]
fn lists_are_filtered_sorted_and_grouped_as_by_hand() {
    let tiny = looms();
    let runs = all_settings(&tiny);
    let losses: Vec<f64> = SETTINGS.iter().map(|(r, d, s)| loss(*r, f64::from(*d), *s)).collect();
    let names = |listed: Value| -> Vec<String> {
        listed.as_array().unwrap().iter().map(|r| r["run"].as_str().unwrap().to_string()).collect()
    };
    let newest: Vec<String> = runs.iter().rev().cloned().collect();
    assert_eq!(names(json(&tiny, &["runs"])), newest);
    type Fits = fn(&(f64, u32, u32), f64) -> bool;
    let conditions: [(&str, Fits); 6] = [
        ("rate < 0.3 and depth = 3", |s, _| s.0 < 0.3 && s.1 == 3),
        ("loss <= 0.7", |_, loss| loss <= 0.7),
        ("not (steps = 4 or rate = 0.4)", |s, _| !(s.2 == 4 || s.0 == 0.4)),
        ("rows > 2 and loss > 0", |_, loss| loss > 0.0),
        ("steps in (2, 8) and state = done", |s, _| [2, 8].contains(&s.2)),
        ("data.shifts = shifts@1 and depth != 2", |s, _| s.1 != 2),
    ];
    for (condition, fits) in conditions {
        let expected: Vec<String> = (0..6).rev().filter(|i| fits(&SETTINGS[*i], losses[*i])).map(|i| runs[i].clone()).collect();
        assert_eq!(names(json(&tiny, &["runs", "--where", condition])), expected, "{condition}");
    }
    let mut by_loss: Vec<usize> = (0..6).collect();
    by_loss.sort_by(|a, b| losses[*a].total_cmp(&losses[*b]));
    let best: Vec<String> = by_loss.iter().map(|i| runs[*i].clone()).collect();
    assert_eq!(names(json(&tiny, &["runs", "--by", "loss", "--last", "3"])), best[..3]);
    assert_eq!(names(json(&tiny, &["runs", "--by", "loss", "--reverse"])), best.iter().rev().cloned().collect::<Vec<_>>());
    let groups = json(&tiny, &["runs", "--group-by", "depth", "--by", "loss"]);
    for group in groups.as_array().unwrap() {
        let depth: u32 = group["value"].to_string().trim_matches('"').parse().unwrap();
        let mut of_group: Vec<f64> = (0..6).filter(|i| SETTINGS[*i].1 == depth).map(|i| losses[i]).collect();
        of_group.sort_by(f64::total_cmp);
        assert_eq!((&group["runs"], &group["done"]), (&3.into(), &3.into()));
        let figure = |name: &str| group[name].as_f64().unwrap();
        assert_eq!([figure("best"), figure("median"), figure("worst")], of_group[..], "{group}");
        assert_eq!(group["best_run"], runs[losses.iter().position(|l| *l == of_group[0]).unwrap()].as_str());
    }
    assert_eq!(groups.as_array().unwrap().len(), 2);
    // The other forms hold the same runs.
    let csv = textum(&tiny, &["runs", "--all", "--format", "csv"]).expect(0).out;
    assert_eq!(csv.lines().skip(1).map(|l| l.split(',').next().unwrap().to_string()).collect::<Vec<_>>(), newest);
    assert_eq!(textum(&tiny, &["runs", "--where", "nowhere > 1"]).expect(2).out, "");
}

#[test]
fn a_comparison_names_every_difference_and_no_other() {
    let tiny = looms();
    let first = run(&tiny, &[]);
    tiny.write("shifts.csv", "id,loom\n1,L1\n2,L9\n3,bad\n4,L4\n");
    tiny.write("fit.sh", format!("# a word more\n{}", tiny.read("fit.sh")));
    let second = run(&tiny, &["rate=0.3"]);
    let found = json(&tiny, &["compare", &first, &second]);
    assert_eq!(found["runs"], serde_json::json!([first, second]));
    assert_eq!(found["params"], serde_json::json!([{"name": "rate", "values": ["0.1", "0.3"]}]));
    let data = &found["data"][0];
    assert_eq!((&data["name"], &data["values"]), (&"shifts".into(), &serde_json::json!(["shifts@1", "shifts@2"])));
    let change = &data["changes"][1];
    assert_eq!((&change["added"], &change["removed"], &change["changed"]), (&1.into(), &0.into(), &1.into()), "{change}");
    let code = found["code"].as_array().unwrap();
    assert_eq!((code.len(), &code[0]["path"], &code[0]["added"], &code[0]["removed"]), (1, &"fit.sh".into(), &1.into(), &0.into()));
    let added: Vec<&Value> = code[0]["hunks"][0]["lines"].as_array().unwrap().iter().filter(|l| l["kind"] == "added").collect();
    assert_eq!(added[0]["text"].as_str().unwrap().trim_end(), "# a word more");
    let metrics: BTreeMap<&str, &Value> =
        found["metrics"].as_array().unwrap().iter().map(|m| (m["name"].as_str().unwrap(), m)).collect();
    assert_eq!(metrics["loss"]["values"], serde_json::json!([0.6, 0.8]));
    assert_eq!((&metrics["loss"]["better"], &metrics["loss"]["best"]), (&"lower".into(), &0.into()));
    assert_eq!((&metrics["rows"]["values"], &metrics["rows"]["best"]), (&serde_json::json!([3.0, 4.0]), &1.into()));
    assert_eq!(found["same_inputs"], false);
    for same in ["commands", "environment", "from"] {
        assert_eq!(found[same], serde_json::json!([]), "{same}");
    }
    assert_eq!((&found["same"]["params"], &found["same"]["datasets"]), (&2.into(), &0.into()), "{}", found["same"]);
    // A run beside itself, and the two the other way round.
    let twin = json(&tiny, &["compare", &first, &first]);
    assert_eq!(
        (&twin["same_inputs"], &twin["params"], &twin["code"]),
        (&true.into(), &serde_json::json!([]), &serde_json::json!([]))
    );
    let turned = json(&tiny, &["compare", &second, &first]);
    assert_eq!(turned["params"][0]["values"], serde_json::json!(["0.3", "0.1"]));
    assert_eq!((&turned["data"][0]["changes"][1]["added"], &turned["data"][0]["changes"][1]["removed"]), (&0.into(), &1.into()));
}

#[test]
fn curves_are_what_the_stage_told() {
    let tiny = looms();
    let runs = all_settings(&tiny);
    let names: Vec<&str> = runs.iter().map(String::as_str).collect();
    let curves = json(&tiny, &[&["plot"], &names[..], &["--metric", "loss"]].concat());
    assert_eq!(curves.as_array().unwrap().len(), 6);
    for curve in curves.as_array().unwrap() {
        let at = runs.iter().position(|r| curve["run"] == r.as_str()).unwrap();
        let (rate, depth, steps) = SETTINGS[at];
        let expected: Vec<(u64, f64)> = (1..=steps).map(|s| (u64::from(s), loss(rate, f64::from(depth), s))).collect();
        let points = curve["points"].as_array().unwrap();
        let found: Vec<(u64, f64)> = points.iter().map(|p| (p["step"].as_u64().unwrap(), p["value"].as_f64().unwrap())).collect();
        assert_eq!(found, expected, "{}", curve["run"]);
        assert_eq!(curve["best"]["step"], steps);
    }
    let against = json(&tiny, &[&["plot"], &names[..], &["--metric", "loss", "--against", "rate"]].concat());
    let found: BTreeSet<(String, String)> =
        against.as_array().unwrap().iter().map(|p| (p["params"]["rate"].to_string(), p["value"].to_string())).collect();
    let expected: BTreeSet<(String, String)> =
        SETTINGS.iter().map(|(r, d, s)| (r.to_string(), loss(*r, f64::from(*d), *s).to_string())).collect();
    assert_eq!(found.len(), expected.len(), "{against}");
    for (rate, value) in found {
        assert!(expected.contains(&(rate.trim_matches('"').to_string(), value.clone())), "{rate}: {value}");
    }
    // A figure is a whole SVG document with a curve a run; a PNG has the size that it says.
    textum(&tiny, &[&["plot"], &names[..2], &["--metric", "loss", "-o", "curves.svg"]].concat()).expect(0);
    let svg = tiny.read("curves.svg");
    assert!(svg.starts_with("<svg") && svg.trim_end().ends_with("</svg>") && !svg.contains("NaN"));
    textum(&tiny, &["plot", "last", "--metric", "loss", "-o", "curves.png"]).expect(0);
    assert!(std::fs::read(tiny.path("curves.png")).unwrap().starts_with(b"\x89PNG\r\n"));
    textum(&tiny, &["plot", "last", "--metric", "los"]).expect(3).warns("loss");
    textum(&tiny, &["plot", "last", "-o", "curves.gif"]).expect(2);
    assert!(!tiny.has("curves.gif"));
}

#[test]
fn a_report_is_one_file_whose_words_are_not_markup() {
    let tiny = looms();
    let evil = "<script>alert(1)</script> & \"quoted\"";
    let first = run(&tiny, &[]);
    let second = run(&tiny, &["rate=0.3"]);
    textum(&tiny, &["note", &second, evil]).expect(0);
    textum(&tiny, &["label", &second, "night-shift"]).expect(0);
    textum(&tiny, &["report", &second, "--against", &first, "-o", "report.html"]).expect(0);
    let page = tiny.read("report.html");
    assert!(!page.contains("<script>alert") && page.contains("&lt;script&gt;alert"), "a note is text");
    for (what, wanted) in
        [("its run", second.as_str()), ("what it is held against", &first[..]), ("the parameter", "rate"), ("the loss", "0.8")]
    {
        assert!(page.contains(wanted), "{what}: {wanted}");
    }
    for outside in ["http://", "https://", "src=\"/", "@import"] {
        let other = page.replace("http://www.w3.org/", "");
        assert!(!other.contains(outside), "it refers to {outside}");
    }
    let printed = textum(&tiny, &["report", &second]).expect(0).out;
    assert!(!printed.contains("<script>alert"), "Markdown is read as HTML too");
    textum(&tiny, &["report", "nobody"]).expect(3);
    // Words given later are found again, and taken away again.
    let shown = json(&tiny, &["show", "night-shift"]);
    assert_eq!((&shown["run"], &shown["label"]), (&second.as_str().into(), &"night-shift".into()));
    assert_eq!(shown["remarks"].as_array().unwrap().iter().filter(|r| r["note"] == evil).count(), 1);
    textum(&tiny, &["label", "night-shift", ""]).expect(0);
    textum(&tiny, &["show", "night-shift"]).expect(3);
}
