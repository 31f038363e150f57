//! Evaluations from a table on the disk to the metrics in a file: held against definitions taken literally, for all rows
//! and for each group of them, in every format that tables have.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use serde_json::Value;
use textum_core::config::manifest::Manifest;
use textum_core::pipeline::evaluation::evaluate;
use textum_testkit::Tiny;

/// Writes a table, judges it as a manifest says, and gives the metrics.
fn judged(tiny: &Tiny, table: &str, how: &str) -> Result<Value, String> {
    tiny.write("p.csv", table);
    tiny.manifest(&format!(
        "[stage.judge]\nevaluate = {{ predictions = \"p.csv\", {how} }}\nmetrics = [\"m.json\"]\nwrites = [\"figures/\"]\n"
    ));
    let manifest = Manifest::load(&tiny.path("textum.toml")).map_err(|e| format!("{e} {e:?}"))?;
    let textum_core::config::manifest::Command::Evaluate(evaluation) = &manifest.stages[0].run else { panic!("no evaluation") };
    let mut log = Vec::new();
    evaluate(tiny.root(), evaluation, "m.json", Some("figures"), &mut log, &|| false).map_err(|e| e.to_string())?;
    assert!(!log.is_empty());
    Ok(serde_json::from_str(&tiny.read("m.json")).unwrap())
}

fn is(found: &Value, expected: f64) -> bool {
    match found {
        Value::String(word) => expected.is_nan() && word == "NaN",
        other => other.as_f64().is_some_and(|v| (v - expected).abs() < 1e-9),
    }
}

fn share(hits: usize, of: usize) -> f64 {
    hits as f64 / of as f64
}

/// The table of groups, by group and column.
fn groups(tiny: &Tiny) -> BTreeMap<String, BTreeMap<String, f64>> {
    let mut reader = csv::Reader::from_path(tiny.path("figures/groups.csv")).unwrap();
    let names: Vec<String> = reader.headers().unwrap().iter().map(String::from).collect();
    let row = |r: csv::StringRecord| {
        let cells = names.iter().zip(r.iter()).skip(1).map(|(n, c)| (n.clone(), c.parse().unwrap_or(f64::NAN))).collect();
        (r[0].to_string(), cells)
    };
    reader.records().map(|r| row(r.unwrap())).collect()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(60))]

    #[test]
    fn classes_are_counted_one_by_one(
        rows in prop::collection::vec((0usize..4, 0usize..4, 0usize..3), 1..80),
        quoted in any::<bool>(),
    ) {
        let names = ["wool", "silk, raw", "1.0", "7"];
        let sheds = ["A", "B", "é \"x\""];
        let cell = |text: &str| if quoted || text.contains([',', '"']) { format!("\"{}\"", text.replace('"', "\"\"")) } else { text.to_string() };
        let table = rows.iter().fold("truth,said,shed\n".to_string(), |t, (a, b, c)| {
            t + &format!("{},{},{}\n", cell(names[*a]), cell(names[*b]), cell(sheds[*c]))
        });
        let tiny = Tiny::new();
        let found = judged(&tiny, &table, "truth = \"truth\", label = \"said\", by = \"shed\"").map_err(TestCaseError::fail)?;
        let right = rows.iter().filter(|(a, b, _)| a == b).count();
        prop_assert!(is(&found["accuracy"], share(right, rows.len())), "{found}");
        prop_assert!(is(&found["rows"], rows.len() as f64));
        let met: BTreeSet<usize> = rows.iter().flat_map(|(a, b, _)| [*a, *b]).collect();
        let (mut f1s, mut recalls) = (Vec::new(), Vec::new());
        for class in &met {
            let hits = rows.iter().filter(|(a, b, _)| a == class && b == class).count();
            let said = rows.iter().filter(|(_, b, _)| b == class).count();
            let there = rows.iter().filter(|(a, ..)| a == class).count();
            let name = if names[*class] == "1.0" { "1" } else { names[*class] };
            let of = &found["class"][name];
            prop_assert!(is(&of["precision"], share(hits, said)) && is(&of["recall"], share(hits, there)), "{name}: {found}");
            let f1 = 2.0 * hits as f64 / (said + there) as f64;
            prop_assert!(is(&of["f1"], f1));
            f1s.push(f1);
            if there > 0 {
                recalls.push(share(hits, there));
            }
        }
        prop_assert!(is(&found["f1"], f1s.iter().sum::<f64>() / f1s.len() as f64));
        prop_assert!(is(&found["balanced_accuracy"], recalls.iter().sum::<f64>() / recalls.len() as f64));
        let by = groups(&tiny);
        for (c, shed) in sheds.iter().enumerate() {
            let own: Vec<_> = rows.iter().filter(|r| r.2 == c).collect();
            prop_assert_eq!(by.contains_key(*shed), !own.is_empty());
            if let Some(of) = by.get(*shed) {
                prop_assert_eq!(of["rows"], own.len() as f64);
                prop_assert!((of["accuracy"] - share(own.iter().filter(|(a, b, _)| a == b).count(), own.len())).abs() < 1e-9);
            }
        }
    }

    #[test]
    fn quantities_are_judged_by_their_definitions(rows in prop::collection::vec((-50i32..50, -50i32..50), 1..60)) {
        let pairs: Vec<(f64, f64)> = rows.iter().map(|(t, p)| (f64::from(*t) / 8.0, f64::from(*p) / 4.0)).collect();
        let table = pairs.iter().fold("t,p\n".to_string(), |text, (t, p)| text + &format!("{t},{p}\n"));
        let found = judged(&Tiny::new(), &table, "truth = \"t\", value = \"p\"").map_err(TestCaseError::fail)?;
        let n = pairs.len() as f64;
        let sum = |f: &dyn Fn(f64, f64) -> f64| pairs.iter().map(|(t, p)| f(*t, *p)).sum::<f64>();
        let mean = sum(&|t, _| t) / n;
        let (errors, spread) = (sum(&|t, p| (p - t).powi(2)), sum(&|t, _| (t - mean).powi(2)));
        prop_assert!(is(&found["rmse"], (errors / n).sqrt()) && is(&found["mae"], sum(&|t, p| (p - t).abs()) / n), "{found}");
        prop_assert!(is(&found["bias"], sum(&|t, p| p - t) / n), "{found}");
        prop_assert!(is(&found["max_error"], pairs.iter().map(|(t, p)| (p - t).abs()).fold(0.0, f64::max)));
        if spread > 1e-9 {
            prop_assert!((found["r2"].as_f64().unwrap() - (1.0 - errors / spread)).abs() < 1e-6, "{found}");
        }
    }

    #[test]
    fn scores_are_judged_whatever_the_classes_are_called(
        rows in prop::collection::vec((0u8..=20, any::<bool>()), 2..60),
        called in prop::sample::select(vec![("1", "0", "1"), ("stopped", "ran", "stopped"), ("true", "false", "1"), ("1.0", "0.0", "1"), ("yes", "no", "yes")]),
    ) {
        prop_assume!(rows.iter().any(|r| r.1));
        let (yes, no, positive) = called;
        let table = rows.iter().fold("t,s\n".to_string(), |text, (s, t)| text + &format!("{},{}\n", if *t { yes } else { no }, f64::from(*s) / 20.0));
        let how = format!("truth = \"t\", score = \"s\", positive = \"{positive}\"");
        let found = judged(&Tiny::new(), &table, &how).map_err(TestCaseError::fail)?;
        let count = |f: &dyn Fn(f64, bool) -> bool| rows.iter().filter(|(s, t)| f(f64::from(*s) / 20.0, *t)).count();
        let (tp, fp) = (count(&|s, t| s >= 0.5 && t), count(&|s, t| s >= 0.5 && !t));
        let (fn_, tn) = (count(&|s, t| s < 0.5 && t), count(&|s, t| s < 0.5 && !t));
        for (name, value) in [("true_positives", tp), ("false_positives", fp), ("false_negatives", fn_), ("true_negatives", tn)] {
            prop_assert!(is(&found[name], value as f64), "{name}: {found}");
        }
        prop_assert!(is(&found["precision"], share(tp, tp + fp)) && is(&found["recall"], share(tp, tp + fn_)), "{found}");
        let brier = rows.iter().map(|(s, t)| (f64::from(*s) / 20.0 - f64::from(u8::from(*t))).powi(2)).sum::<f64>() / rows.len() as f64;
        prop_assert!(is(&found["brier"], brier));
        let (mut pairs, mut won) = (0.0, 0.0);
        for (a, _) in rows.iter().filter(|r| r.1) {
            for (b, _) in rows.iter().filter(|r| !r.1) {
                pairs += 1.0;
                won += if a > b { 1.0 } else if a == b { 0.5 } else { 0.0 };
            }
        }
        prop_assert!(is(&found["auc"], won / pairs), "{found}");
    }
}

#[test]
fn what_cannot_be_judged_is_told_with_its_line() {
    let cases = [
        ("t,s\n1,0.5\n0,x\n", "score = \"s\"", "line 3: s is `x`, which is no number"),
        ("t,s\n1,0.5\n0,1.5\n", "score = \"s\"", "line 3: s is 1.5, which is no probability"),
        ("t,s\n1,0.5\n,0.5\n", "score = \"s\"", "line 3: t is missing"),
        ("t,s\n1,0.5\n0,NA\n", "score = \"s\"", "line 3: s is missing"),
        ("t,s\nran,0.5\nran,0.1\n", "score = \"s\", positive = \"stopped\"", "no row has the positive class `stopped`"),
        ("t,s\n", "score = \"s\"", "has no rows"),
        ("t,s\n1,2\n", "score = \"z\"", "no column `z`"),
        ("t,s\n1,2\nwool,3\n", "value = \"s\"", "line 3: t is `wool`, which is no number"),
        ("t,s\n1,inf\n1,2\n", "value = \"s\"", ""),
    ];
    for (table, how, said) in cases {
        match judged(&Tiny::new(), table, &format!("truth = \"t\", {how}")) {
            Err(e) => assert!(!said.is_empty() && e.contains(said), "{table:?}: {e}"),
            Ok(found) => assert!(said.is_empty(), "{table:?} was judged: {found}"),
        }
    }
    let many = (0..40).fold("t,s\n".to_string(), |t, i| t + &format!("{i},x\n"));
    let error = judged(&Tiny::new(), &many, "truth = \"t\", value = \"s\"").unwrap_err();
    assert!(error.contains("line 6") && !error.contains("line 7") && error.contains("and 35 more lines"), "{error}");
}

/// Labels are kept once each, rows are small: a table of many rows needs little memory beside its numbers.
#[test]
fn many_rows_of_few_labels_are_judged() {
    let table = (0..200_000u32).fold("t,s,shed\n".to_string(), |mut text, i| {
        use std::fmt::Write;
        writeln!(text, "{},{},shed {}", i % 2, f64::from(i % 1000) / 1000.0, i % 7).unwrap();
        text
    });
    let tiny = Tiny::new();
    let found = judged(&tiny, &table, "truth = \"t\", score = \"s\", by = \"shed\"").unwrap();
    assert!(is(&found["rows"], 200_000.0) && found["auc"].as_f64().is_some_and(|a| (0.45..0.55).contains(&a)), "{found}");
    let by = groups(&tiny);
    assert_eq!(by.len(), 7);
    assert_eq!(by.values().map(|g| g["rows"]).sum::<f64>(), 200_000.0);
}

fn written(tiny: &Tiny, name: &str) -> Vec<Vec<String>> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_path(tiny.path(&format!("figures/{name}"))).unwrap();
    reader.records().map(|r| r.unwrap().iter().map(String::from).collect()).collect()
}

#[test]
fn groupings_may_be_several_and_crossed() {
    let tiny = Tiny::new();
    let row = |i: u32| {
        format!(
            "{},{},{},{}\n",
            i % 2,
            f64::from(i * 13 % 100) / 100.0,
            ["A", "B"][(i / 2 % 2) as usize],
            ["day", "night"][(i / 4 % 2) as usize]
        )
    };
    let table = format!("t,s,shed,shift\n{}", (0..400).map(row).collect::<String>());
    let found = judged(&tiny, &table, "truth = \"t\", score = \"s\", by = [\"shed\", [\"shed\", \"shift\"]]").unwrap();
    let (single, crossed) = (written(&tiny, "groups-shed.csv"), written(&tiny, "groups-shed-shift.csv"));
    assert_eq!((single.len(), crossed.len()), (3, 5));
    assert_eq!((crossed[0][0].as_str(), crossed[1][0].as_str()), ("shed × shift", "A × day"));
    let aucs = single[1..].iter().chain(&crossed[1..]).map(|r| r[1].parse::<f64>().unwrap());
    assert!(is(&found["weakest"]["auc"], aucs.fold(1.0, f64::min)), "{found}");
    // Each group by itself is what the same rows alone would be.
    let alone = format!(
        "t,s\n{}",
        (0..400)
            .filter(|i| i / 2 % 2 == 0 && i / 4 % 2 == 0)
            .map(row)
            .map(|l| l.splitn(3, ',').take(2).collect::<Vec<_>>().join(",") + "\n")
            .collect::<String>()
    );
    let alone = judged(&Tiny::new(), &alone, "truth = \"t\", score = \"s\"").unwrap();
    assert!(is(&alone["auc"], crossed[1][1].parse().unwrap()));
}

#[test]
fn weights_are_rows_that_count_more_than_once() {
    let rows = [(1, 0.9, 2), (0, 0.4, 1), (1, 0.3, 3), (0, 0.6, 0), (0, 0.2, 2)];
    let once: String = rows.iter().map(|(t, s, w)| format!("{t},{s},{w}\n")).collect();
    let often: String = rows.iter().flat_map(|(t, s, w)| (0..*w).map(move |_| format!("{t},{s}\n"))).collect();
    let a = judged(&Tiny::new(), &format!("t,s,w\n{once}"), "truth = \"t\", score = \"s\", weight = \"w\"").unwrap();
    let b = judged(&Tiny::new(), &format!("t,s\n{often}"), "truth = \"t\", score = \"s\"").unwrap();
    for (name, value) in a.as_object().unwrap() {
        assert!(is(value, b[name].as_f64().unwrap_or(f64::NAN)), "{name}: {value} {}", b[name]);
    }
    let error = judged(&Tiny::new(), "t,s,w\n1,0.5,-1\n", "truth = \"t\", score = \"s\", weight = \"w\"").unwrap_err();
    assert!(error.contains("line 2: the weight is `-1`"), "{error}");
}

#[test]
fn the_files_beside_the_figures_say_what_they_show() {
    let tiny = Tiny::new();
    let table: String = (0..100).map(|i| format!("{},{}\n", u32::from(i * i % 7 < 3), f64::from(i) / 100.0)).collect();
    let cost = "cost = { false_positive = 1, false_negative = 20 }";
    let found = judged(&tiny, &format!("t,s\n{table}"), &format!("truth = \"t\", score = \"s\", {cost}")).unwrap();
    let thresholds = written(&tiny, "thresholds.csv");
    assert_eq!(thresholds.len(), 102);
    let at_half = thresholds.iter().find(|r| r[0] == "0.5").unwrap();
    for (at, name) in [(1, "true_positives"), (2, "false_positives"), (5, "precision"), (6, "recall"), (8, "f1"), (10, "cost")] {
        assert!(is(&found[name], at_half[at].parse().unwrap()), "{name}: {found} {at_half:?}");
    }
    let cheapest = thresholds[1..].iter().map(|r| r[10].parse::<f64>().unwrap()).fold(f64::MAX, f64::min);
    assert!(is(&found["lowest_cost"], cheapest), "the scores lie on the grid: {found}");
    let gains = written(&tiny, "gains.csv");
    assert_eq!((gains[1][0].as_str(), gains.last().unwrap()[0].as_str(), gains.last().unwrap()[1].as_str()), ("0", "1", "1"));
    assert_eq!(written(&tiny, "confusion.csv")[2][2].parse::<f64>().ok(), found["true_positives"].as_f64());
    for name in ["roc.csv", "precision-recall.csv", "calibration.csv", "gains.svg", "roc.svg"] {
        assert!(tiny.has(&format!("figures/{name}")), "{name}");
    }
}

#[test]
fn what_is_said_of_an_evaluation_must_fit() {
    for (how, said) in [
        ("score = \"s\", scores = \"p_\"", "it must be said what is predicted"),
        ("label = \"s\", cost = { false_positive = 1, false_negative = 1 }", "go with `score`"),
        ("rank = \"s\"", "which rows are ranked together"),
        ("label = \"s\", at = 3", "go with `rank`"),
        ("score = \"s\", quantile = 0.5", "go with `value`"),
        ("value = \"s\", quantile = 1.5", "a quantile lies between 0 and 1"),
        ("score = \"s\", intervals = 95", "level is a share"),
        ("score = \"s\", intervals = { level = 0.9, resamples = 3 }", "so many draws"),
        ("score = \"s\", cost = { false_positive = -1, false_negative = 1 }", "a cost is a number from 0 on"),
        ("scores = \"q_\"", "no column `q_…`"),
        ("scores = { a = \"p_a\", c = \"s\" }", "the class `b` has no column"),
        ("scores = \"p_\"", "the probabilities of its classes make 0.8000, not 1"),
    ] {
        let error =
            judged(&Tiny::new(), "t,s,p_a,p_b\na,0.5,0.5,0.5\nb,0.6,0.4,0.4\n", &format!("truth = \"t\", {how}")).unwrap_err();
        assert!(error.contains(said), "{how}: {error}");
    }
}

/// An interval of 80 % holds the value that it is of about four times in five.
#[test]
fn intervals_hold_as_often_as_they_say() {
    let mut held = 0;
    for sample in 0..60u64 {
        let mut state = sample.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
        let mut roll = || {
            state ^= state << 13;
            state ^= state >> 7;
            state ^= state << 17;
            (state >> 11) as f64 / (1u64 << 53) as f64
        };
        // The label is right with the probability 0.7.
        let table: String = (0..120).map(|_| format!("a,{}\n", if roll() < 0.7 { "a" } else { "b" })).collect();
        let how = "truth = \"t\", label = \"l\", intervals = { level = 0.8, resamples = 400 }";
        let found = judged(&Tiny::new(), &format!("t,l\n{table}"), how).unwrap();
        let of = |end: &str| found["interval"]["accuracy"][end].as_f64().unwrap();
        held += u32::from(of("low") <= 0.7 && 0.7 <= of("high"));
    }
    // Binomial of 60 and 0.8: outside of this once in 5000 times.
    assert!((35..=58).contains(&held), "{held} of 60");
}
