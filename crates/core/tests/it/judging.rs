//! Judges against definitions taken literally: several classes, orders, quantities, groups held against one another.

use proptest::prelude::*;
use serde_json::Value;
use textum_core::config::manifest::{Command, Manifest};
use textum_core::pipeline::evaluation::{Predictions, evaluate, judge_of};
use textum_testkit::Tiny;

/// Judges a table as a manifest says, and gives the metrics.
fn judged(table: &str, how: &str) -> Result<Value, String> {
    let tiny = Tiny::new();
    tiny.write("p.csv", table);
    tiny.manifest(&format!(
        "[stage.judge]\nevaluate = {{ predictions = \"p.csv\", truth = \"t\", {how} }}\nmetrics = [\"m.json\"]\n"
    ));
    let manifest = Manifest::load(&tiny.path("textum.toml")).map_err(|e| format!("{e} {e:?}"))?;
    let Command::Evaluate(evaluation) = &manifest.stages[0].run else { panic!("no evaluation") };
    evaluate(tiny.root(), evaluation, "m.json", None, &mut Vec::new(), &|| false).map_err(|e| e.to_string())?;
    Ok(serde_json::from_str(&tiny.read("m.json")).unwrap())
}

fn is(found: &Value, expected: f64) -> bool {
    match found {
        Value::String(word) => expected.is_nan() && word == "NaN",
        other => other.as_f64().is_some_and(|v| (v - expected).abs() < 1e-9 * expected.abs().max(1.0)),
    }
}

fn mean(values: &[f64]) -> f64 {
    values.iter().sum::<f64>() / values.len() as f64
}

/// The share of pairs of two sets in the right order, ties half.
fn pairs(above: &[f64], below: &[f64]) -> f64 {
    let right = |a: f64, b: f64| {
        if a > b {
            1.0
        } else if a == b {
            0.5
        } else {
            0.0
        }
    };
    mean(&above.iter().flat_map(|a| below.iter().map(move |b| right(*a, *b))).collect::<Vec<_>>())
}

const CLASSES: [&str; 3] = ["drive", "warp", "weft"];

/// Rows of a true class and three probabilities out of hundredths.
fn class_rows() -> impl Strategy<Value = Vec<(usize, [f64; 3])>> {
    let row = (0usize..3, 1u32..60, 1u32..39).prop_map(|(t, a, b)| {
        let (a, b) = (f64::from(a) / 100.0, f64::from(b) / 100.0);
        (t, [a, b, 1.0 - a - b])
    });
    prop::collection::vec(row, 3..50)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(48))]

    #[test]
    fn several_classes_are_judged_by_their_definitions(rows in class_rows(), by_prefix in any::<bool>()) {
        let line = |(t, p): &(usize, [f64; 3])| format!("{},{},{},{}\n", CLASSES[*t], p[0], p[1], p[2]);
        let table = format!("t,p_drive,p_warp,p_weft\n{}", rows.iter().map(line).collect::<String>());
        let how = if by_prefix { "scores = \"p_\"" } else { "scores = { drive = \"p_drive\", warp = \"p_warp\", weft = \"p_weft\" }" };
        let found = judged(&table, how).map_err(TestCaseError::fail)?;
        let of = |c: usize, is_c: bool| rows.iter().filter(|(t, _)| (*t == c) == is_c).map(|(_, p)| p[c]).collect::<Vec<f64>>();
        let aucs: Vec<f64> = (0..3).map(|c| pairs(&of(c, true), &of(c, false))).filter(|a| !a.is_nan()).collect();
        prop_assert!(is(&found["auc"], mean(&aucs)), "{found}");
        let mut pairwise = Vec::new();
        for a in 0..3 {
            for b in (0..3).filter(|b| *b != a) {
                let of = |class: usize| rows.iter().filter(|(t, _)| *t == class).map(|(_, p)| p[a]).collect::<Vec<f64>>();
                pairwise.push(pairs(&of(a), &of(b)));
            }
        }
        pairwise.retain(|v| !v.is_nan());
        prop_assert!(is(&found["pairwise_auc"], mean(&pairwise)), "{found} {pairwise:?}");
        let losses: Vec<f64> = rows.iter().map(|(t, p)| -p[*t].ln()).collect();
        prop_assert!(is(&found["log_loss"], mean(&losses)));
        let brier: Vec<f64> = rows.iter().map(|(t, p)| (0..3).map(|c| (p[c] - f64::from(u8::from(c == *t))).powi(2)).sum()).collect();
        prop_assert!(is(&found["brier"], mean(&brier)));
        let top = |k: usize| mean(&rows.iter().map(|(t, p)| f64::from(u8::from((0..3).filter(|c| c != t && p[*c] >= p[*t]).count() < k))).collect::<Vec<_>>());
        prop_assert!(is(&found["top_2"], top(2)) && is(&found["top_3"], 1.0));
    }

    #[test]
    fn orders_are_judged_by_their_definitions(rows in prop::collection::vec((0u8..4, 0u8..12, 0u8..5), 1..60), at in 1usize..6) {
        let table: String = rows.iter().map(|(t, s, q)| format!("{t},{s},q{q}\n")).collect();
        let found = judged(&format!("t,s,q\n{table}"), &format!("rank = \"s\", query = \"q\", at = {at}")).map_err(TestCaseError::fail)?;
        let (mut ndcgs, mut firsts, mut recalls, mut without) = (Vec::new(), Vec::new(), Vec::new(), 0.0);
        for q in 0..5 {
            let own: Vec<(f64, f64)> = rows.iter().filter(|r| r.2 == q).map(|r| (f64::from(r.1), f64::from(r.0))).collect();
            if own.is_empty() {
                continue;
            }
            if own.iter().all(|(_, t)| *t == 0.0) {
                without += 1.0;
                continue;
            }
            // The mean over all orders that the scores allow is that of the places that equal ones share.
            let discount = |place: usize| if place < at { 1.0 / (place as f64 + 2.0).log2() } else { 0.0 };
            let gain = |by: &dyn Fn(&(f64, f64)) -> f64| -> f64 {
                own.iter().map(|row| {
                    let above = own.iter().filter(|o| by(o) > by(row)).count();
                    let tied = own.iter().filter(|o| by(o) == by(row)).count();
                    row.1 * (above..above + tied).map(discount).sum::<f64>() / tied as f64
                }).sum()
            };
            ndcgs.push(gain(&|r| r.0) / gain(&|r| r.1));
            let last_place = |score: f64| own.iter().filter(|o| o.0 >= score).count();
            let places: Vec<usize> = own.iter().filter(|o| o.1 > 0.0).map(|o| last_place(o.0)).collect();
            firsts.push(1.0 / *places.iter().min().unwrap() as f64);
            recalls.push(places.iter().filter(|p| **p <= at).count() as f64 / places.len() as f64);
        }
        let expected = |v: &[f64]| if v.is_empty() { f64::NAN } else { mean(v) };
        prop_assert!(is(&found["ndcg_at"], expected(&ndcgs)), "{found} {ndcgs:?}");
        prop_assert!(is(&found["mrr"], expected(&firsts)) && is(&found["recall_at"], expected(&recalls)), "{found}");
        prop_assert!(is(&found["without_relevant"], without));
    }

    #[test]
    fn quantities_with_quantiles_and_intervals_are_judged_by_their_definitions(rows in prop::collection::vec((-20i32..20, -20i32..20, 0i32..8), 1..50), q in 1u32..10) {
        let q = f64::from(q) / 10.0;
        let rows: Vec<(f64, f64, f64)> = rows.iter().map(|(t, p, w)| (f64::from(*t) / 2.0, f64::from(*p) / 4.0, f64::from(*w))).collect();
        let table: String = rows.iter().map(|(t, p, w)| format!("{t},{p},{},{}\n", p - w, p + w / 2.0)).collect();
        let how = format!("value = \"p\", quantile = {q}, interval = [\"low\", \"high\"]");
        let found = judged(&format!("t,p,low,high\n{table}"), &how).map_err(TestCaseError::fail)?;
        let each = |f: &dyn Fn(f64, f64, f64) -> f64| rows.iter().map(|(t, p, w)| f(*t, *p, *w)).collect::<Vec<f64>>();
        prop_assert!(is(&found["quantile_loss"], mean(&each(&|t, p, _| if t >= p { q * (t - p) } else { (1.0 - q) * (p - t) }))), "{found}");
        prop_assert!(is(&found["share_below"], mean(&each(&|t, p, _| f64::from(u8::from(t <= p))))));
        prop_assert!(is(&found["coverage"], mean(&each(&|t, p, w| f64::from(u8::from(p - w <= t && t <= p + w / 2.0))))));
        prop_assert!(is(&found["mean_width"], mean(&each(&|_, _, w| 1.5 * w))));
        let mut sizes = each(&|t, p, _| (p - t).abs());
        sizes.sort_by(f64::total_cmp);
        let middle = sizes.len() / 2;
        let median = if sizes.len() % 2 == 1 { sizes[middle] } else { (sizes[middle - 1] + sizes[middle]) / 2.0 };
        prop_assert!(is(&found["median_error"], median), "{found} {median}");
        let relative: Vec<f64> = rows.iter().filter(|(t, ..)| *t != 0.0).map(|(t, p, _)| ((p - t) / t).abs()).collect();
        let expected = if relative.is_empty() { f64::NAN } else { mean(&relative) };
        prop_assert!(is(&found["mape"], expected), "{found} {expected}");
        prop_assert!(is(&found["mape_left_out"], (rows.len() - relative.len()) as f64));
    }

    /// Every judge: a weight of nothing is a row that is not there, and the order of rows does not matter.
    #[test]
    fn a_row_that_counts_for_nothing_is_not_there(rows in prop::collection::vec((0u8..3, 0u8..3, 0u8..20, any::<bool>()), 4..30)) {
        let line = |r: &(u8, u8, u8, bool)| format!("{},{},{},{}\n", r.0, r.1, f64::from(r.2) / 20.0, u8::from(r.3));
        let kept: Vec<_> = rows.iter().filter(|r| r.3).copied().collect();
        prop_assume!(kept.len() > 1);
        let reversed: Vec<_> = kept.iter().rev().copied().collect();
        let table = |rows: &[(u8, u8, u8, bool)]| format!("t,l,s,w\n{}", rows.iter().map(line).collect::<String>());
        for how in ["label = \"l\"", "value = \"s\"", "rank = \"s\", query = \"l\""] {
            let weighted = judged(&table(&rows), &format!("{how}, weight = \"w\"")).map_err(TestCaseError::fail)?;
            let alone = judged(&table(&kept), how).map_err(TestCaseError::fail)?;
            let other = judged(&table(&reversed), how).map_err(TestCaseError::fail)?;
            for (name, value) in alone.as_object().unwrap().iter().filter(|(n, _)| *n != "class") {
                // A query counts by the mean weight of its rows, also of those that count for nothing.
                let of_queries = how.starts_with("rank");
                let expected = value.as_f64().unwrap_or(f64::NAN);
                prop_assert!(of_queries || is(&weighted[name], expected), "{}: {} {} {}", how, name, weighted[name], value);
                prop_assert!(is(&other[name], expected), "{}: {} {} {}", how, name, other[name], value);
            }
        }
    }
}

#[test]
fn what_a_query_and_a_class_must_be_is_told() {
    for (table, how, said) in [
        ("t,s,q\n-1,2,a\n", "rank = \"s\", query = \"q\"", "line 2: t is -1: relevance begins with 0"),
        ("t,s,q\n1,x,a\n", "rank = \"s\", query = \"q\"", "line 2: s is `x`, which is no number"),
        (
            "t,v,low,high\n1,2,3,1\n",
            "value = \"v\", interval = [\"low\", \"high\"]",
            "line 2: the ends of its interval are no numbers in their order",
        ),
        ("t,p_a,p_b\na,1.2,-0.2\n", "scores = \"p_\"", "line 2: p_a is 1.2, which is no probability"),
        ("t,p_a,p_b\na,,1\n", "scores = \"p_\"", "line 2: p_a is missing"),
        ("t,s\n1,0.5\n", "score = \"s\", by = [\"shed\"]", "no column `shed`"),
        ("t,s\n1,0.5\n", "score = \"s\", between = [\"team\"]", "no column `team`"),
        ("t,s\n1,0.5\n", "score = \"s\", weight = \"w\"", "no column `w`"),
    ] {
        let error = judged(table, how).unwrap_err();
        assert!(error.contains(said), "{how}: {error}");
    }
}

#[test]
fn predictions_may_lie_in_many_files() {
    let tiny = Tiny::new();
    for (name, rows) in [("p/day=1/a.csv", "t,s\n1,0.9\n0,0.2\n"), ("p/day=2/b.csv", "t,s\n0,0.4\n1,0.3\n")] {
        tiny.write(name, rows);
    }
    tiny.manifest(
        "[stage.judge]\nevaluate = { predictions = \"p\", truth = \"t\", score = \"s\", by = \"day\" }\nmetrics = [\"m.json\"]\n",
    );
    let manifest = Manifest::load(&tiny.path("textum.toml")).unwrap();
    let Command::Evaluate(evaluation) = &manifest.stages[0].run else { panic!("no evaluation") };
    let rows = Predictions::read(tiny.root(), evaluation, &|| false).unwrap();
    assert_eq!((rows.rows, rows.by[0].1.iter().collect::<Vec<_>>()), (4, vec!["1", "1", "2", "2"]));
    let judge = judge_of(evaluation, &rows).unwrap();
    assert_eq!((judge.rows(), judge.values(&rows.weights())[0]), (4, 0.75));
    tiny.write("p/day=2/b.csv", "t,s\n0,x\n");
    let error = Predictions::read(tiny.root(), evaluation, &|| false).unwrap_err().to_string();
    assert!(error.contains("day=2/b.csv line 2: s is `x`"), "{error}");
}
