//! Tables compared where keys are not quite unique, numbers not quite equal, columns under other names; and hints of a cause.

use proptest::prelude::*;
use textum_table::compare::{CompareOptions, Identity, NoKey, RowsDiff, compare};
use textum_table::schema::Renamed;
use textum_table::{Origin, Table};
use textum_testkit::Tiny;

fn diff(old: &str, new: &str, key: &[&str], within: f64) -> RowsDiff {
    let tiny = Tiny::new();
    let at = |name: &str, text: &str| {
        tiny.write(name, text);
        Table::new(name, name, Origin::File(tiny.path(name))).unwrap()
    };
    let key = key.iter().map(|k| (*k).to_string()).collect();
    let options = CompareOptions { key, examples: 20, within, ..CompareOptions::default() };
    compare(&at("old.csv", old), &at("new.csv", new), &options, tiny.root()).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(80))]
    /// A few keys that are there twice leave all other rows compared cell by cell; those with such a key as whole rows.
    #[test]
    fn few_doubles_hide_nothing_of_the_others(doubles in prop::collection::vec((0u32..100, 0u32..3, any::<bool>()), 1..5), changed in prop::collection::btree_set(0u32..100, 0..20)) {
        let row = |i: u32, v: u32| format!("k{i},{v}\n");
        let is_doubled = |i: u32| doubles.iter().any(|d| d.0 == i);
        let mut old: Vec<String> = (0..100).map(|i| row(i, 7)).collect();
        let mut new: Vec<String> = (0..100).map(|i| row(i, if changed.contains(&i) && !is_doubled(i) { 8 } else { 7 })).collect();
        for (i, v, in_new) in &doubles {
            if *in_new { new.push(row(*i, *v)) } else { old.push(row(*i, *v)) }
        }
        let found = diff(&format!("id,v\n{}", old.concat()), &format!("id,v\n{}", new.concat()), &["id"], 0.0);
        let is_by_key = matches!(&found.identity, Identity::Key { but: Some(NoKey::Twice { .. }), .. });
        prop_assert!(is_by_key, "{:?}", found.identity);
        prop_assert_eq!(found.changed, changed.iter().filter(|i| !is_doubled(**i)).count() as u64);
        // Of the doubled ones a plain count of whole rows.
        let (mut added, mut removed) = (0, 0);
        for i in 0..100 {
            for v in 0..9 {
                let count = |rows: &[String]| rows.iter().filter(|r| **r == row(i, v)).count() as i64;
                let apart = if is_doubled(i) { count(&new) - count(&old) } else { 0 };
                added += apart.max(0) as u64;
                removed += (-apart).max(0) as u64;
            }
        }
        prop_assert_eq!((found.added, found.removed), (added, removed));
    }
}

#[test]
fn many_doubles_make_no_key() {
    let old: String = (0..40).map(|i| format!("k{},{i}\n", i / 2)).collect();
    let found = diff(&format!("id,v\n{old}"), &format!("id,v\n{old}k1,9\n"), &["id"], 0.0);
    assert!(matches!(&found.identity, Identity::Rows { because: Some(NoKey::Twice { .. }) }), "{:?}", found.identity);
    assert_eq!((found.added, found.removed), (1, 0));
}

#[test]
fn numbers_that_are_nearly_the_same_are_the_same_where_that_is_asked_for() {
    let old = "id,a,b,c\n1,1000000,0.1,x\n2,5,0,x\n3,7,NA,x\n4,1,1,x\n";
    let new = "id,a,b,c\n1,1000000.5,0.1000000001,x\n2,5.1,0,x\n3,7,1e-9,x\n4,1.0,1,y\n";
    let plain = diff(old, new, &["id"], 0.0);
    assert_eq!((plain.changed, plain.near), (4, 0));
    let near = diff(old, new, &["id"], 1e-6);
    // The first row is near; nothing is near to what is missing; of the fourth only the text counts.
    assert_eq!((near.changed, near.near), (3, 1));
    let columns: Vec<(&str, u64)> = near.columns.iter().map(|c| (c.column.as_str(), c.cells)).collect();
    assert_eq!(columns.len(), 3);
    assert!(["a", "b", "c"].iter().all(|c| columns.contains(&(c, 1))), "{columns:?}");
    assert_eq!(diff(old, new, &["id"], 0.1).changed, 2);
}

#[test]
fn a_column_under_another_name_is_the_same_column() {
    let rows = |header: &str, f: &dyn Fn(u32) -> String| format!("{header}\n{}", (0..200).map(f).collect::<String>());
    let old =
        rows("id,humidity,shed,flag", &|i| format!("{i},{},{},1\n", f64::from(i * 7 % 50) / 2.0, ["A", "B"][(i % 2) as usize]));
    let new = rows("flag,moisture,id,hall,mark", &|i| {
        let moisture = if i == 9 { 99.0 } else { f64::from(i * 7 % 50) / 2.0 };
        format!("1,{moisture:.2},{i},{},1\n", ["A", "B"][(i % 2) as usize])
    });
    for key in [&["id"][..], &[]] {
        let found = diff(&old, &new, key, 0.0).schema;
        let renamed = |from: &str, to: &str| Renamed { from: from.into(), to: to.into() };
        assert_eq!(found.renamed, [renamed("humidity", "moisture"), renamed("shed", "hall")], "{key:?}");
        assert_eq!((found.removed.len(), found.added.len()), (0, 1), "{found:?}");
    }
    // Other values are another column.
    let other = rows("id,humidity,shed,flag", &|i| format!("{i},{},{},1\n", i * 3 % 50, ["A", "B"][(i / 2 % 2) as usize]));
    let other = other.replacen("humidity,shed", "moisture,hall", 1);
    assert_eq!(diff(&old, &other, &["id"], 0.0).schema.renamed, []);
}

/// An even choice of rows, the same for the same seed.
fn dice(seed: u64) -> impl FnMut(u64) -> u64 {
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
    move |sides| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        (state >> 11) % sides
    }
}

/// Rows of looms, sheds and shifts; those that `changes` have another humidity.
fn shifts(rows: u64, seed: u64, changes: &mut dyn FnMut(u64, &str) -> bool) -> (String, String) {
    let mut roll = dice(seed);
    let (mut old, mut new) = (String::from("id,loom,shed,shift,humidity\n"), String::from("id,loom,shed,shift,humidity\n"));
    for i in 0..rows {
        let head = format!("{i},L{:02},{},{}", roll(24), ["A", "B", "C"][roll(3) as usize], ["early", "late"][roll(2) as usize]);
        let humidity = roll(500);
        old.push_str(&format!("{head},{humidity}\n"));
        new.push_str(&format!("{head},{}\n", if changes(i, &head) { humidity + 1000 } else { humidity }));
    }
    (old, new)
}

#[test]
fn a_likely_cause_is_told_with_how_many_have_it_and_chance_is_not() {
    for rows in [1500, 9000] {
        // Nearly all of loom 7 and a few others.
        let mut roll = dice(5);
        let (old, new) = shifts(rows, 1, &mut |_, head| if head.contains("L07") { roll(10) > 0 } else { roll(100) == 0 });
        let found = diff(&old, &new, &["id"], 0.0);
        let hint = found.hints_changed.first().unwrap_or_else(|| panic!("{rows}: no hint in {found:?}"));
        assert_eq!((hint.column.as_str(), hint.value.as_str()), ("loom", "L07"));
        // Held against a plain count.
        let changed: Vec<(&str, &str)> = old.lines().zip(new.lines()).skip(1).filter(|(a, b)| a != b).collect();
        let with = changed.iter().filter(|(a, _)| a.contains(",L07,")).count() as f64 / changed.len() as f64;
        let others = old.lines().zip(new.lines()).skip(1).filter(|(a, b)| a == b);
        let (of, without) = others.fold((0.0, 0.0), |(n, w), (a, _)| (n + 1.0, w + f64::from(u8::from(a.contains(",L07,")))));
        assert!(
            (hint.share - with).abs() < 0.08 && (hint.of_others - without / of).abs() < 0.05,
            "{hint:?} {with} {}",
            without / of
        );
    }
    // Sixty times rows that were drawn: nothing is said of them.
    let mut cries = 0;
    for seed in 0..60 {
        let rows = [60, 400, 3000][seed as usize % 3];
        let mut roll = dice(seed + 1000);
        let (old, new) = shifts(rows, seed, &mut |_, _| roll(12) == 0);
        cries += u32::from(!diff(&old, &new, &["id"], 0.0).hints_changed.is_empty());
    }
    assert!(cries <= 2, "{cries} of 60, where one in a hundred is what is promised");
}
