//! Tables of files and parts of tables: rules on what pictures show, and rows that meet a condition.

use std::collections::BTreeMap;

use proptest::prelude::*;
use textum_table::examine::{Examining, Found, examine, parse};
use textum_table::{Dialect, Listed, Origin, Row, Table, filter};

/// A table of pictures by their likeness; one of none has none.
fn pictures(name: &str, likeness: &[Option<u64>]) -> Table<'static> {
    let columns = ["file", "likeness"].map(String::from).to_vec();
    let files: Vec<String> = (0..likeness.len()).map(|i| format!("{name}/{i}.png")).collect();
    let row = |(file, bits): (&String, &Option<u64>)| vec![file.clone(), bits.map_or(String::new(), |b| format!("{b:016x}"))];
    let rows = files.iter().zip(likeness).map(row).collect();
    Table::listed(name, Listed { columns, rows, files })
}

fn found(table: &Table<'static>, others: &[(&str, Table<'static>)], rule: &str) -> Found {
    let others: BTreeMap<String, Table<'static>> = others.iter().map(|(n, t)| ((*n).to_string(), t.clone())).collect();
    let scratch = tempfile::tempdir().unwrap();
    let what = Examining { table, others: &others, examples: 3, scratch: scratch.path() };
    examine(&what, &[parse(rule).unwrap()]).unwrap().found.remove(0)
}

#[test]
fn a_row_that_is_a_file_stands_where_the_file_is() {
    let mine = pictures("train", &[Some(0), Some(0xff00), None, Some(0b1)]);
    let theirs = pictures("test", &[Some(0b10), None]);
    let broken = found(&mine, &[("test", theirs)], "no picture of test");
    assert_eq!((broken.holds, broken.of, broken.breaking, broken.unknown), (Some(false), 4, 2, 1));
    let places: Vec<(String, String)> =
        broken.examples.iter().map(|e| (e.place.to_string(), e.like.as_ref().unwrap().to_string())).collect();
    let expected = [("train/0.png", "test/0.png"), ("train/3.png", "test/0.png")];
    assert_eq!(places, expected.map(|(a, b)| (a.to_string(), b.to_string())));
    let twice = found(&mine, &[], "pictures are unique");
    assert_eq!((twice.breaking, twice.unknown), (1, 1), "of two that are alike one is told, as like the other");
    assert_eq!(found(&mine, &[], "files between 4 and 4").holds, Some(true));
    assert_eq!(found(&mine, &[], "rows below 4").holds, Some(false));
}

#[test]
fn rules_on_files_say_what_they_lack() {
    for (rule, says) in [
        ("no picture of", "table"),
        ("no file", "of"),
        ("pictures are", "are unique"),
        ("pictures are many", "are unique"),
        ("no picture of test by loom", "end of the rule"),
    ] {
        let told = parse(rule).unwrap_err();
        assert!(format!("{} {}", told.what, told.help).contains(says), "{rule}: {told:?}");
    }
    let plain = Table::listed("t", Listed { columns: vec!["file".into()], rows: vec![vec!["a".into()]], files: vec!["a".into()] });
    let scratch = tempfile::tempdir().unwrap();
    let others = BTreeMap::new();
    let what = Examining { table: &plain, others: &others, examples: 1, scratch: scratch.path() };
    let told = examine(&what, &[parse("pictures are unique").unwrap()]).unwrap_err();
    assert!(told.to_string().contains("there is no column `likeness`"), "{told}");
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(textum_testkit::many("TEXTUM_LIKE", 64)))]

    /// As many are told as a look at every pair finds.
    #[test]
    fn alike_pictures_are_those_that_a_look_at_every_pair_finds(
        mine in prop::collection::vec(prop::option::weighted(0.9, 0u64..4096), 0..30),
        theirs in prop::collection::vec(prop::option::weighted(0.9, 0u64..4096), 0..30),
    ) {
        let near = |a: &u64, b: &u64| (a ^ b).count_ones() <= 6;
        let there: Vec<u64> = theirs.iter().flatten().copied().collect();
        let expected = mine.iter().flatten().filter(|a| there.iter().any(|b| near(a, b))).count() as u64;
        let told = found(&pictures("a", &mine), &[("b", pictures("b", &theirs))], "no picture of b");
        prop_assert_eq!(told.breaking, expected);
        prop_assert_eq!(told.holds, Some(expected == 0));
        prop_assert!(told.examples.len() as u64 == expected.min(3));
        let own: Vec<u64> = mine.iter().flatten().copied().collect();
        let again = (0..own.len()).filter(|i| own[i + 1..].iter().any(|b| near(&own[*i], b))).count() as u64;
        prop_assert_eq!(found(&pictures("a", &mine), &[], "pictures are unique").breaking, again);
    }

    /// The rows of a part are those that meet its condition, counted and in their order, whatever the format.
    #[test]
    fn a_part_of_a_table_has_the_rows_that_meet_its_condition(cells in prop::collection::vec((0i32..50, "[ab]?"), 0..40), from in 0i32..50) {
        let folder = tempfile::tempdir().unwrap();
        let csv = folder.path().join("t.csv");
        std::fs::write(&csv, format!("n,shed\n{}", cells.iter().map(|(n, s)| format!("{n},{s}\n")).collect::<String>())).unwrap();
        let lines = folder.path().join("t.jsonl");
        std::fs::write(&lines, cells.iter().map(|(n, s)| format!("{{\"n\":{n},\"shed\":\"{s}\"}}\n")).collect::<String>()).unwrap();
        let wanted: Vec<String> = cells.iter().filter(|(n, s)| *n >= from && s == "a").map(|(n, _)| n.to_string()).collect();
        for (name, path) in [("t.csv", csv), ("t.jsonl", lines)] {
            if cells.is_empty() {
                continue; // a file of no lines tells no columns
            }
            let table = Table::with(name, name, Origin::File(path), &Dialect::default()).unwrap();
            let part = table.only(filter::parse(&format!("n >= {from} and shed = 'a'")).unwrap()).unwrap();
            prop_assert_eq!(part.count_rows().unwrap(), wanted.len() as u64);
            let (mut opened, mut row, mut found) = (part.open().unwrap(), Row::default(), Vec::new());
            while opened.rows.next(&mut row).unwrap() {
                found.push(String::from_utf8_lossy(row.cell(0)).into_owned());
            }
            prop_assert_eq!(&found, &wanted);
        }
    }
}

#[test]
fn a_part_names_columns_that_are_there() {
    let table = pictures("a", &[Some(1), None]);
    let told = table.clone().only(filter::parse("liveness is missing").unwrap()).err().unwrap().to_string();
    assert!(told.contains("there is no column `liveness`"), "{told}");
    let part = table.only(filter::parse("likeness is missing").unwrap()).unwrap();
    assert_eq!(part.count_rows().unwrap(), 1);
    // It is no longer read by columns, which would not know of the condition.
    assert!(!part.is_by_column() && part.by_column().unwrap().is_none());
}
