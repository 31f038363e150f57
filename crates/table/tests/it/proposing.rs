//! Rules that are proposed hold for what they come from, and break for what is otherwise; figures of profiles against plain
//! counts.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use textum_table::examine::{CATEGORIES, Examining, Others, Rule, examine, parse, propose};
use textum_table::profile::{CHANCE, Profile, ProfileOptions, TargetKind, profile};
use textum_table::{Origin, Table, TableError};
use textum_testkit::Tiny;

fn at(tiny: &Tiny, name: &str, text: &str) -> Table<'static> {
    tiny.write(name, text);
    Table::new(name, name, Origin::File(tiny.path(name))).unwrap()
}

fn of(text: &str, options: &ProfileOptions) -> Profile {
    let tiny = Tiny::new();
    profile(&at(&tiny, "t.csv", text), None, options, tiny.root()).unwrap()
}

fn proposed(text: &str, key: &[&str]) -> Vec<String> {
    let options = ProfileOptions { frequent: CATEGORIES, ..ProfileOptions::default() };
    propose(&of(text, &options), &key.iter().map(|k| (*k).to_string()).collect::<Vec<_>>())
}

/// The rules among these that a table breaks.
fn broken(text: &str, rules: &[String]) -> Vec<String> {
    let tiny = Tiny::new();
    let table = at(&tiny, "t.csv", text);
    let parsed: Vec<Rule> = rules.iter().map(|r| parse(r).unwrap()).collect();
    let what = Examining { table: &table, others: &Others::new(), examples: 1, scratch: tiny.root() };
    let found = examine(&what, &parsed).unwrap().found;
    found.into_iter().filter(|f| f.holds == Some(false)).map(|f| f.rule).collect()
}

/// Cells of columns that are of one kind each, with some missing.
fn cell() -> impl Strategy<Value = (i32, f64, u8, String, bool)> {
    (-50i32..5000, -1e6f64..1e6, 0u8..9, "[a-zA-Z' ]{1,6}", any::<bool>())
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn what_is_proposed_holds(rows in prop::collection::vec(cell(), 1..120), names in prop::sample::subsequence(vec!["rows", "mean", "a b", "in", "loom", "x`y", "true", "é"], 4)) {
        let mut text = csv::Writer::from_writer(Vec::new());
        text.write_record(["id"].iter().chain(&names).chain(&["day"])).unwrap();
        for (i, (whole, number, group, word, there)) in rows.iter().enumerate() {
            let number = if *there { number.to_string() } else { String::new() };
            let day = format!("2026-03-{:02}", 1 + i % 28);
            text.write_record([i.to_string(), whole.to_string(), number, format!("it's {group}"), word.clone(), day]).unwrap();
        }
        let text = String::from_utf8(text.into_inner().unwrap()).unwrap();
        let rules = proposed(&text, &["id"]);
        prop_assert!(rules.iter().any(|r| r == "id is unique"), "{rules:?}");
        prop_assert_eq!(broken(&text, &rules), Vec::<String>::new(), "{:?}", rules);
        // Half of the rows is still within what is proposed, but for their number.
        let half: String = text.lines().enumerate().filter(|(i, _)| i % 2 == 0 || *i == 0).map(|(_, l)| format!("{l}\n")).collect();
        let rest: Vec<String> = rules.into_iter().filter(|r| !r.starts_with("rows ") && !r.starts_with("missing ")).collect();
        prop_assert_eq!(broken(&half, &rest), Vec::<String>::new());
    }

    #[test]
    fn figures_are_those_of_a_plain_count(values in prop::collection::vec((-200i32..200, 0u8..4), 3..150)) {
        let text: String = values.iter().map(|(v, g)| format!("{},g{g}\n", f64::from(*v) / 4.0)).collect();
        let options = ProfileOptions { duplicates: true, pairs: true, frequent: 3, ..ProfileOptions::default() };
        let found = of(&format!("v,g\n{text}"), &options);
        let mut sorted: Vec<f64> = values.iter().map(|(v, _)| f64::from(*v) / 4.0).collect();
        sorted.sort_by(f64::total_cmp);
        let (n, mean) = (sorted.len() as f64, sorted.iter().sum::<f64>() / sorted.len() as f64);
        let moment = |k: i32| sorted.iter().map(|v| (v - mean).powi(k)).sum::<f64>() / n;
        let numbers = found.columns[0].numbers.as_ref().unwrap();
        match moment(2) > 1e-12 {
            true => {
                let skew = moment(3) / moment(2).powf(1.5) * (n * (n - 1.0)).sqrt() / (n - 2.0);
                prop_assert!((numbers.skew.unwrap() - skew).abs() < 1e-6 * skew.abs().max(1.0), "{:?} {skew}", numbers.skew);
            }
            false => prop_assert!(numbers.skew.is_none()),
        }
        let fence = 1.5 * (numbers.upper_quartile - numbers.lower_quartile);
        let outside = |v: &&f64| **v < numbers.lower_quartile - fence || **v > numbers.upper_quartile + fence;
        prop_assert_eq!(numbers.outliers, sorted.iter().filter(outside).count() as u64);
        let distinct: BTreeSet<&(i32, u8)> = values.iter().collect();
        prop_assert_eq!(found.duplicates, Some((values.len() - distinct.len()) as u64));
        // The correlation ratio of a number and a group, taken literally.
        let mut groups: BTreeMap<u8, Vec<f64>> = BTreeMap::new();
        values.iter().for_each(|(v, g)| groups.entry(*g).or_default().push(f64::from(*v) / 4.0));
        let between: f64 = groups.values().map(|g| g.len() as f64 * (g.iter().sum::<f64>() / g.len() as f64 - mean).powi(2)).sum();
        let all = moment(2) * n;
        if all > 1e-9 {
            prop_assert!((found.pairs[0].relation.value - (between / all).sqrt()).abs() < 1e-9, "{:?}", found.pairs);
        }
    }
}

#[test]
fn proposals_leave_room_and_know_what_they_see() {
    let row =
        |i: u32| format!("S{i},{},{},{},{}\n", i % 4, 20 + i % 11, f64::from(i % 50) / 10.0, ["wool", "silk"][(i % 2) as usize]);
    let text = format!("id,shift,count,lint,yarn\n{}", (0..200).map(row).collect::<String>());
    let rules = proposed(&text, &[]);
    for rule in [
        "rows between 100 and 400",
        "id is unique",
        "shift is integer",
        "count between 19 and 31",
        "lint between 0 and 5.4",
        "yarn in silk, wool",
    ] {
        assert!(rules.iter().any(|r| r == rule), "{rule}: {rules:?}");
    }
    // What is otherwise breaks them.
    let other = text.replace("S7,", "S8,").replace(",wool", ",jute");
    let told = broken(&other, &rules);
    assert_eq!(told, ["id is unique", "yarn in silk, wool"]);
    let several = proposed(&text, &["id", "shift"]);
    assert!(several.contains(&"(id, shift) is unique".to_string()), "{several:?}");
    assert_eq!(proposed("a,b\n", &[]), ["columns include a, b"], "of no rows nothing is known but the columns");
}

#[test]
fn a_target_of_few_whole_numbers_is_one_of_classes_unless_somebody_says_otherwise() {
    let text = |target: &dyn Fn(u32) -> String| {
        let row = |i: u32| format!("{},{},{}\n", target(i), i % 7, ["a", "b", "c"][(i % 3) as usize]);
        format!("t,x,g\n{}", (0..300).map(row).collect::<String>())
    };
    let kind = |text: &str, said| {
        let options = ProfileOptions { target: Some("t".into()), target_kind: said, ..ProfileOptions::default() };
        let found = of(text, &options);
        (
            found.target_kind,
            found.columns[1].relation.as_ref().map(|r| r.measure),
            found.columns[2].relation.as_ref().map(|r| r.measure),
        )
    };
    use TargetKind::{Classes, Number};
    let few = text(&|i| (i * i % 5).to_string());
    assert_eq!(kind(&few, None), (Some(Classes), Some("eta"), Some("v")));
    assert_eq!(kind(&few, Some(Number)), (Some(Number), Some("r"), Some("eta")));
    assert_eq!(kind(&text(&|i| i.to_string()), None).0, Some(Number), "many");
    assert_eq!(kind(&text(&|i| (i % 2).to_string()), None).0, Some(Number), "of two the sign of r tells more");
    assert_eq!(kind(&text(&|i| format!("{}.5", i % 4)), None).0, Some(Number));
    assert_eq!(kind(&text(&|i| ["warp", "weft"][(i % 2) as usize].into()), None).0, Some(Classes));
}

#[test]
fn identifiers_are_known_and_what_only_looks_like_one_is_not() {
    let row = |i: u32| format!("S{i},{i},{},{},{}\n", 1_000_000 + i * 977, i * 1009, f64::from(i) + 0.5);
    let found =
        of(&format!("shift,place,loom_id,picks,lint\n{}", (0..100).map(row).collect::<String>()), &ProfileOptions::default());
    let known: Vec<&str> = found.columns.iter().filter(|c| c.identifier).map(|c| c.name.as_str()).collect();
    assert_eq!(known, ["shift", "place", "loom_id"], "numbers that are scattered, or measured, are none");
    let short = of("id\n1\n2\n3\n", &ProfileOptions::default());
    assert!(!short.columns[0].identifier, "three rows tell nothing");
}

/// Of tables with many columns, drawn from the same, hardly one in a thousand has any column that is read as drifted.
#[test]
fn many_columns_do_not_make_drift_of_chance() {
    let tiny = Tiny::new();
    let mut state = 7u64;
    let mut roll = move || {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state >> 11
    };
    let mut cries = 0;
    for rows in [30, 80, 200].repeat(12) {
        let mut text = || {
            let header: Vec<String> = (0..24).map(|c| format!("c{c}")).collect();
            let mut row = || {
                let cells = (0..24).map(|c| match c % 3 {
                    0 => format!("{:.3}", (roll() % 100_000) as f64 / 1000.0),
                    1 => format!("v{}", roll() % 5),
                    _ => {
                        if roll() % 9 == 0 {
                            String::new()
                        } else {
                            (roll() % 40).to_string()
                        }
                    }
                });
                cells.collect::<Vec<_>>().join(",") + "\n"
            };
            format!("{}\n{}", header.join(","), (0..rows).map(|_| row()).collect::<String>())
        };
        let (old, new) = (at(&tiny, "old.csv", &text()), at(&tiny, "new.csv", &text()));
        let found = profile(&new, Some(&old), &ProfileOptions::default(), tiny.root()).unwrap();
        let read = found.columns.iter().filter_map(|c| c.drift.as_ref()).filter(|d| d.reading != "none").count();
        cries += u32::from(read > 0);
        assert!(found.columns.iter().filter_map(|c| c.drift.as_ref()).all(|d| (0.0..=1.0).contains(&d.p)));
    }
    // Thirty-six tables of 24 columns each: at a rate of 0.001 a table, two or more come once in 1600 times.
    assert!(cries <= 1, "{cries} of 36 cried, at a rate of {CHANCE}");
}

#[test]
fn reading_ends_when_somebody_asks_for_it() {
    let tiny = Tiny::new();
    let text: String = (0..20_000).map(|i| format!("{i}\n")).collect();
    let asked = std::sync::atomic::AtomicU32::new(0);
    let stop = || asked.fetch_add(1, std::sync::atomic::Ordering::SeqCst) > 1;
    let table = at(&tiny, "t.csv", &format!("n\n{text}")).stopped_by(&stop);
    let mut opened = table.open().unwrap();
    let (mut row, mut rows) = (textum_table::Row::default(), 0);
    let error = loop {
        match opened.rows.next(&mut row) {
            Ok(true) => rows += 1,
            Ok(false) => panic!("it was read to its end"),
            Err(e) => break e,
        }
    };
    assert!(matches!(error, TableError::Stopped) && (8_000..13_000).contains(&rows), "{error} after {rows} rows");
}
