//! The values of a varied parameter: each form against what its words mean, and sweeps against the product that they are.

use proptest::prelude::*;
use serde_json::{Map, Value, json};
use textum_core::config::manifest::Params;
use textum_core::config::sweep::Varied;

fn params(table: Value) -> Params {
    let Value::Object(table) = table else { panic!("a table") };
    Params::from_tables(&table.into_iter().collect::<Map<_, _>>())
}

fn some() -> Params {
    params(json!({"n": 3, "rate": 0.5, "name": "wool", "on": true, "list": [1, 2], "deep": {"er": 1}}))
}

fn values(text: &str) -> Result<Vec<Value>, String> {
    Varied::parse(text, &some()).map(|v| v.values).map_err(|e| e.to_string())
}

#[test]
fn each_form_gives_its_values() {
    let cases = [
        ("n=1,2,5", json!([1, 2, 5])),
        ("n= 1 , 2", json!([1, 2])),
        ("n=2..5", json!([2, 3, 4, 5])),
        ("n=-2..1", json!([-2, -1, 0, 1])),
        ("n=7..7", json!([7])),
        ("n=0..10:5", json!([0, 5, 10])),
        ("rate=0..1:0.25", json!([0.0, 0.25, 0.5, 0.75, 1.0])),
        ("rate=0.1..0.4:0.1", json!([0.1, 0.2, 0.3, 0.4])),
        ("rate=0..1:0.4", json!([0.0, 0.4, 0.8])),
        ("rate=even(0..1, 5)", json!([0.0, 0.25, 0.5, 0.75, 1.0])),
        ("rate=even(1..2,2)", json!([1.0, 2.0])),
        ("rate=log(0.001..0.1, 3)", json!([0.001, 0.01, 0.1])),
        ("rate=log(1..10000, 5)", json!([1.0, 10.0, 100.0, 1000.0, 10000.0])),
        ("rate=1,2", json!([1.0, 2.0])),
        ("name=wool,silk", json!(["wool", "silk"])),
        ("name=\"wool, raw\",silk", json!(["wool, raw", "silk"])),
        ("on=true,false", json!([true, false])),
        ("list=[1, 2],[3]", json!([[1, 2], [3]])),
        ("deep.er=1..2", json!([1, 2])),
    ];
    for (text, expected) in cases {
        assert_eq!(values(text).map(Value::from), Ok(expected), "{text}");
    }
}

#[test]
fn what_means_nothing_is_told() {
    let cases = [
        ("n", "NAME=VALUE"),
        ("n=", "no values"),
        ("n=,", "no values"),
        ("m=1,2", "`m`"),
        ("deep=1,2", "deep"),
        ("n=5..2", "goes backwards"),
        ("n=0..10000000", "more than a million"),
        ("rate=0..1:0", "0..1:0"),
        ("rate=0..1:-0.1", "0..1:-0.1"),
        ("rate=0..1:0.0000000001", "more than a million"),
        ("rate=log(0..1, 3)", "above 0"),
        ("rate=log(-1..1, 3)", "above 0"),
        ("rate=even(0..1)", "no range"),
        ("rate=even(0..1, x)", "no range"),
        ("rate=nan..1:0.1", "no range"),
        ("rate=inf,1", "rate"),
        ("n=1.5,2", "n"),
        ("on=yes,no", "on"),
        ("name=\"wool,silk", "no end"),
    ];
    let mut amiss = Vec::new();
    for (text, said) in cases {
        match values(text) {
            Err(e) if e.contains(said) => {}
            other => amiss.push(format!("{text}: {said:?} was to be said: {other:?}")),
        }
    }
    assert!(amiss.is_empty(), "{}", amiss.join("\n"));
}

proptest! {
    #[test]
    fn whole_numbers_are_all_between_the_ends(from in -1000i64..1000, length in 0i64..50) {
        let found = values(&format!("n={from}..{}", from + length)).unwrap();
        let expected: Vec<Value> = (from..=from + length).map(Value::from).collect();
        prop_assert_eq!(found, expected);
    }

    #[test]
    fn even_values_lie_evenly_and_both_ends_belong(from in -100i32..100, width in 1i32..100, count in 2usize..40) {
        let (from, to) = (f64::from(from), f64::from(from + width));
        let found: Vec<f64> = values(&format!("rate=even({from}..{to}, {count})")).unwrap().iter().map(|v| v.as_f64().unwrap()).collect();
        prop_assert_eq!(found.len(), count);
        prop_assert_eq!((found[0], found[count - 1]), (from, to));
        let step = (to - from) / (count - 1) as f64;
        for (i, v) in found.iter().enumerate() {
            prop_assert!((v - (from + step * i as f64)).abs() < 1e-9, "{v}");
        }
    }

    #[test]
    fn logarithmic_values_have_one_ratio(exponent in -6i32..3, decades in 1i32..6, count in 2usize..30) {
        let (from, to) = (10f64.powi(exponent), 10f64.powi(exponent + decades));
        let found: Vec<f64> = values(&format!("rate=log({from:e}..{to:e}, {count})")).unwrap().iter().map(|v| v.as_f64().unwrap()).collect();
        prop_assert_eq!(found.len(), count);
        prop_assert!((found[0] / from - 1.0).abs() < 1e-9 && (found[count - 1] / to - 1.0).abs() < 1e-9);
        let ratio = (to / from).powf(1.0 / (count - 1) as f64);
        for pair in found.windows(2) {
            prop_assert!((pair[1] / pair[0] / ratio - 1.0).abs() < 1e-6, "{pair:?}");
        }
    }

    #[test]
    fn a_list_is_its_items(items in prop::collection::vec("[a-z .:()]{1,8}", 1..6)) {
        let items: Vec<String> = items.into_iter().map(|i| i.trim().to_string()).filter(|i| !i.is_empty() && !i.contains("..")).collect();
        prop_assume!(!items.is_empty() && !items[0].starts_with("log(") && !items[0].starts_with("even("));
        // One that is given twice is one value.
        let mut once: Vec<String> = Vec::new();
        items.iter().for_each(|i| if !once.contains(i) { once.push(i.clone()) });
        let text: Vec<String> = items.iter().map(|i| format!("\"{i}\"")).collect();
        prop_assert_eq!(values(&format!("name={}", text.join(","))).unwrap(), once.into_iter().map(Value::from).collect::<Vec<_>>());
    }

    #[test]
    fn no_text_brings_the_reader_down(text in "[a-z0-9.,:()\"\\[\\]= -]{0,30}") {
        let _ = values(&format!("rate={text}"));
        let _ = values(&text);
    }
}
