//! Evaluations from a table on the disk to the metrics in a file: held against definitions taken literally, for all rows
//! and for each group of them, in every format that tables have.
#![allow(clippy::disallowed_methods, clippy::unwrap_used, missing_docs)]

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
    let manifest = Manifest::load(&tiny.path("textum.toml")).map_err(|e| e.to_string())?;
    let textum_core::config::manifest::Command::Evaluate(evaluation) = &manifest.stages[0].run else { panic!("no evaluation") };
    let mut log = Vec::new();
    evaluate(tiny.root(), evaluation, "m.json", Some("figures"), &mut log).map_err(|e| e.to_string())?;
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
