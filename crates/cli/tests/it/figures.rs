//! Figures held against independent libraries, and two models against one another.

use textum_testkit::Tiny;

use crate::{TEXTUM, textum};

/// scikit-learn, scipy and pandas know the same figures: `bench/figures.py` holds all of them against those, on tables that
/// ship inside scikit-learn.
#[test]
fn figures_are_those_of_independent_libraries() {
    let python = std::env::var("TEXTUM_READERS").unwrap_or_else(|_| "python3".into());
    let tiny = Tiny::new();
    if tiny.textum(&python, &["-c", "import sklearn, scipy, pandas"]).status != 0 {
        eprintln!("not compared: there is no scikit-learn, scipy and pandas for {python}");
        return;
    }
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../../bench/figures.py");
    let ran = tiny.textum(&python, &["-W", "ignore", script, TEXTUM]);
    assert_eq!(ran.status, 0, "{}{}", ran.out, ran.err);
    assert!(ran.out.contains("figures compared, 0 differ"), "{}", ran.out);
}

/// A project that judges predictions, and two runs with predictions of their own.
fn two_runs(first: &str, second: &str, more: &str) -> Tiny {
    let tiny = Tiny::with(&format!(
        "[data.shifts]\npath = \"shifts.csv\"\nkey = [\"id\"]\n\n[stage.judge]\nevaluate = {{ predictions = \"p.csv\", truth = \"t\", score = \"s\", by = \"shed\"{more} }}\nmetrics = [\"m.json\"]\n"
    ));
    tiny.write("shifts.csv", "id\n1\n");
    for table in [first, second] {
        tiny.write("p.csv", table);
        textum(&tiny, &["run"]).expect(0);
    }
    tiny
}

/// Predictions of shifts: `skill` of 10 are right, whoever they are of.
fn predictions(skill: u32, order: impl Iterator<Item = u32>) -> String {
    let row = |i: u32| {
        let truth = u32::from(i.is_multiple_of(3));
        let right = i * 7 % 10 < skill;
        let score = if (truth == 1) == right { 0.6 + f64::from(i % 7) / 20.0 } else { 0.1 + f64::from(i % 5) / 20.0 };
        format!("{i},{truth},{score},{}\n", ["A", "B"][(i % 2) as usize])
    };
    format!("id,t,s,shed\n{}", order.map(row).collect::<String>())
}

#[test]
fn a_better_model_is_told_from_a_lucky_one() {
    let tiny = two_runs(&predictions(6, 0..400), &predictions(9, (0..400).rev()), "");
    let found =
        textum(&tiny, &["compare", "last~1", "last", "--paired"]).expect(0).says("is better in auc").says("rows are told by id");
    found.says("400 rows").says("McNemar, of accuracy: p < 0.001").says("shed A");
    // The same rows in another order, by hand.
    let json = textum(&tiny, &["compare", "last~1", "last", "--paired", "--key", "id", "--format", "json"]).expect(0).json();
    let metric = |name: &str| json["metrics"].as_array().unwrap().iter().find(|m| m["metric"] == name).unwrap().clone();
    let accuracy = metric("accuracy");
    assert!((accuracy["a"].as_f64().unwrap() - 0.6).abs() < 1e-9 && (accuracy["difference"].as_f64().unwrap() - 0.3).abs() < 1e-9);
    assert_eq!((&accuracy["better"], &metric("log_loss")["better"]), (&true.into(), &true.into()));
    assert_eq!(json["disagreements"].as_array().unwrap().len(), 10);
    // Whatever is drawn is drawn again.
    let again = textum(&tiny, &["compare", "last~1", "last", "--paired", "--format", "json"]).expect(0).json();
    assert_eq!(json["metrics"], again["metrics"]);
    let csv = textum(&tiny, &["compare", "last~1", "last", "--paired", "--format", "csv"]).expect(0);
    assert!(csv.out.starts_with("metric,a,b,difference,low,high,p\n"), "{}", csv.out);
    textum(&tiny, &["compare", "last~1", "last", "--paired", "--format", "md"]).expect(0).says("| accuracy |");
    // A model that is right elsewhere, but as often, is not better.
    let mut lucky = String::from("id,t,s,shed\n");
    for (i, line) in predictions(9, 0..400).lines().skip(1).enumerate() {
        let moved = if i % 40 == 0 { line.replace(",0.", ",0.0") } else { line.to_string() };
        lucky.push_str(&format!("{moved}\n"));
    }
    let tiny = two_runs(&predictions(9, 0..400), &lucky, "");
    textum(&tiny, &["compare", "last~1", "last", "--paired"]).expect(0).says("may be luck");
}

#[test]
fn rows_that_are_not_the_same_are_refused() {
    let tiny = two_runs(&predictions(6, 0..100), &predictions(6, 50..170), "");
    textum(&tiny, &["compare", "last~1", "last", "--paired"]).expect(0).says("left out: 50 that only").says("the same 50 rows");
    let without_key = |text: String| text.replace("id,", "nr,");
    let tiny = two_runs(&without_key(predictions(6, 0..100)), &without_key(predictions(6, 50..170)), "");
    textum(&tiny, &["compare", "last~1", "last", "--paired"]).expect(2).warns("not of the same rows").warns("--key");
    textum(&tiny, &["compare", "last~1", "last", "--paired", "--key", "shed"]).expect(2).warns("stands there twice");
    textum(&tiny, &["compare", "last~1", "last", "--paired", "--key", "loom"]).expect(2).warns("no column `loom`");
    textum(&tiny, &["compare", "last~1", "last", "--paired", "--stage", "fit"]).expect(2).warns("no stage `fit`");
    textum(&tiny, &["compare", "last", "--paired"]).expect(2);
    textum(&tiny, &["compare", "last~1", "last", "--key", "id"]).expect(2);
    let changed = tiny.read("textum.toml").replace("score = \"s\"", "score = \"s\", threshold = 0.3");
    tiny.write("textum.toml", changed);
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["compare", "last~1", "last", "--paired"]).expect(2).warns("judges something else");
}

#[test]
fn groups_are_held_against_one_another_and_gates_see_it() {
    let gate = "\n[[gate]]\nafter = \"judge\"\ncheck = \"between.shed.selection.difference < 0.5 and interval.auc.low > 0.5\"\n";
    let tiny = two_runs(&predictions(9, 0..200), &predictions(8, 0..200), ", between = [\"shed\"], intervals = 0.9");
    let manifest = tiny.read("textum.toml");
    tiny.write("textum.toml", manifest + gate);
    textum(&tiny, &["run"]).expect(0);
    let metrics: serde_json::Value = serde_json::from_str(&tiny.read("m.json")).unwrap();
    let of = |path: &str| metrics.pointer(path).and_then(serde_json::Value::as_f64).unwrap_or_else(|| panic!("{path}: {metrics}"));
    // By hand: how many of each shed are predicted positive.
    let chosen = |shed: &str| {
        let rows: Vec<Vec<String>> =
            predictions(8, 0..200).lines().skip(1).map(|l| l.split(',').map(String::from).collect()).collect();
        let own: Vec<&Vec<String>> = rows.iter().filter(|r| r[3] == shed).collect();
        own.iter().filter(|r| r[2].parse::<f64>().unwrap() >= 0.5).count() as f64 / own.len() as f64
    };
    let (a, b) = (chosen("A"), chosen("B"));
    assert!((of("/between/shed/selection/difference") - (a - b).abs()).abs() < 1e-9);
    assert!((of("/between/shed/selection/ratio") - a.min(b) / a.max(b)).abs() < 1e-9);
    assert!(of("/between/shed/selection/low") <= of("/between/shed/selection/difference"));
    assert!(of("/interval/auc/low") < of("/auc") && of("/auc") < of("/interval/auc/high"));
    let log = textum(&tiny, &["show", "last", "--log", "judge"]).expect(0);
    assert!(log.out.contains("between shed: selection differs by"), "{}", log.out);
}
