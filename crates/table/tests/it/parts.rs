//! A folder of files as one table: rows, columns, cells out of folders' names, and what is none.

use proptest::prelude::*;
use textum_table::compare::{CompareOptions, compare};
use textum_table::profile::{ProfileOptions, profile};
use textum_table::{Delimiter, Dialect, Origin, Quote, Row, Table, encoding_of};
use textum_testkit::Tiny;

fn folder<'t>(tiny: &Tiny, files: &[&str], dialect: &Dialect) -> Option<Table<'t>> {
    let files = files.iter().map(|f| (f.to_string(), Origin::File(tiny.path(f)))).collect();
    Table::of_parts("shifts", files, dialect)
}

fn rows(table: &Table<'_>) -> (Vec<String>, Vec<Vec<String>>) {
    let mut opened = table.open().unwrap();
    let (mut row, mut all) = (Row::default(), Vec::new());
    while opened.rows.next(&mut row).unwrap() {
        all.push((0..row.len()).map(|at| String::from_utf8(row.cell(at).to_vec()).unwrap()).collect());
    }
    (opened.columns, all)
}

fn words(text: &str) -> Vec<String> {
    text.split(' ').map(|w| w.replace('_', "")).collect()
}

#[test]
fn parts_are_one_table_whatever_their_columns_order_and_folders() {
    let tiny = Tiny::new();
    tiny.write("year=2025/shed=A%2F1/part-0.csv", "id,humidity\n1,60\n2,61\n");
    tiny.write("year=2025/shed=__HIVE_DEFAULT_PARTITION__/part-0.csv", "humidity,id\n62,3\n");
    tiny.write("year=2026/shed=B/part-1.csv", "id,team\n4,Ahorn\n");
    tiny.write("_SUCCESS", "");
    tiny.write("year=2025/.part-0.csv.crc", "x");
    tiny.write("README.md", "by hand");
    let files = [
        "year=2026/shed=B/part-1.csv",
        "year=2025/shed=A%2F1/part-0.csv",
        "year=2025/shed=__HIVE_DEFAULT_PARTITION__/part-0.csv",
        "_SUCCESS",
        "year=2025/.part-0.csv.crc",
        "README.md",
    ];
    let table = folder(&tiny, &files, &Dialect::default()).unwrap();
    let (columns, found) = rows(&table);
    assert_eq!(columns, words("id humidity team year shed"));
    let expected = ["1 60 _ 2025 A/1", "2 61 _ 2025 A/1", "3 62 _ 2025 _", "4 _ Ahorn 2026 B"].map(words);
    assert_eq!(found, expected);
    assert_eq!(table.count_rows().unwrap(), 4);
    assert_eq!(table.part_paths().len(), 3);
}

#[test]
fn what_makes_no_table_is_none() {
    let tiny = Tiny::new();
    tiny.write("a.csv", "id\n1\n");
    tiny.write("a.jsonl", "{\"id\":1}\n");
    for files in [&["a.csv", "a.jsonl"][..], &["a.csv", "loom.png"], &["README.md"], &[]] {
        assert!(folder(&tiny, files, &Dialect::default()).is_none(), "{files:?}");
    }
}

#[test]
fn differences_name_the_file_and_its_line() {
    let tiny = Tiny::new();
    for (path, text) in [
        ("old/a.csv", "id,v\n1,x\n2,y\n"),
        ("old/b.csv", "id,v\n3,z\n"),
        ("new/a.csv", "id,v\n1,x\n2,Y\n"),
        ("new/c.csv", "id,v\n4,w\n\n3,z\n"),
    ] {
        tiny.write(path, text);
    }
    let at = |files: [&str; 2]| {
        let files = files.map(|f| (f.rsplit('/').next().unwrap().to_string(), Origin::File(tiny.path(f))));
        Table::of_parts("t", files.to_vec(), &Dialect::default()).unwrap()
    };
    let (old, new) = (at(["old/a.csv", "old/b.csv"]), at(["new/a.csv", "new/c.csv"]));
    let options = CompareOptions { key: vec!["id".into()], examples: 9, ..CompareOptions::default() };
    let found = compare(&old, &new, &options, tiny.root()).unwrap();
    assert_eq!((found.added, found.removed, found.changed), (1, 0, 1), "a row that moved from file to file is the same row");
    let changed = &found.examples_changed[0];
    assert_eq!(
        (changed.old_file.as_deref(), changed.old_line, changed.new_file.as_deref(), changed.new_line),
        (Some("a.csv"), Some(3), Some("a.csv"), Some(3))
    );
    let added = &found.examples_added[0];
    assert_eq!((added.new_file.as_deref(), added.new_line, added.old_file.as_deref()), (Some("c.csv"), Some(2), None));
}

#[test]
fn what_is_said_of_a_table_holds_before_what_is_guessed() {
    let tiny = Tiny::new();
    let open = |name: &str, bytes: &[u8], dialect: Dialect| {
        tiny.write(name, bytes);
        rows(&Table::with(name, name, Origin::File(tiny.path(name)), &dialect).unwrap())
    };
    let csv = textum_table::TableFormat::Csv;
    let said = Dialect {
        format: Some(csv),
        delimiter: Some(Delimiter::Blanks),
        header: Some(false),
        null: vec!["?".into()],
        ..Dialect::default()
    };
    let (columns, found) = open("looms.data", b"  1.5   ?  L01\n\n\t2  3\tL\"02\n", said);
    assert_eq!(columns, ["column 1", "column 2", "column 3"]);
    assert_eq!(found, [words("1.5 _ L01"), words("2 3 L\"02")]);
    let said = Dialect {
        delimiter: Some(Delimiter::Byte(b':')),
        header: Some(true),
        quote: Some(Quote::Byte(b'\'')),
        ..Dialect::default()
    };
    let (columns, found) = open("odd.csv", b"1:2\n'a:b''c':\"d\n", said);
    assert_eq!((columns, found), (words("1 2"), vec![vec!["a:b'c".to_string(), "\"d".into()]]));
    let said = Dialect { quote: Some(Quote::Nothing), ..Dialect::default() };
    let (_, found) = open("bare.csv", b"a,b\n\"x,y\"\n", said);
    assert_eq!(found, [["\"x", "y\""]]);
    let said = Dialect { encoding: encoding_of("shift_jis"), ..Dialect::default() };
    assert_eq!(open("yarn.csv", b"a,b\n\x83C,\x83g\n", said).1, [["イ", "ト"]]);
    assert!(encoding_of("no-such").is_none() && encoding_of("latin-1").is_some());
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]
    /// However rows are spread over files, they are the rows of one file, for comparing and for summing up.
    #[test]
    fn a_folder_is_what_one_file_would_be(cells in prop::collection::vec((0u32..50, "[a-c]{0,2}"), 1..60), cuts in prop::collection::vec(0usize..60, 0..5)) {
        let tiny = Tiny::new();
        let line = |(i, (n, text)): (usize, &(u32, String))| format!("{i},{n},{text}\n");
        let lines: Vec<String> = cells.iter().enumerate().map(line).collect();
        tiny.write("whole.csv", format!("id,n,text\n{}", lines.concat()));
        let mut cuts: Vec<usize> = cuts.into_iter().map(|c| c.min(lines.len())).chain([0, lines.len()]).collect();
        cuts.sort_unstable();
        let mut names = Vec::new();
        for (i, pair) in cuts.windows(2).enumerate() {
            names.push(format!("part-{i}.csv"));
            tiny.write(&names[i], format!("id,n,text\n{}", lines[pair[0]..pair[1]].concat()));
        }
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        let parts = folder(&tiny, &names, &Dialect::default()).unwrap();
        let whole = Table::new("whole.csv", "whole.csv", Origin::File(tiny.path("whole.csv"))).unwrap();
        prop_assert_eq!(rows(&parts), rows(&whole));
        for key in [vec!["id".to_string()], vec![]] {
            let options = CompareOptions { key, examples: 3, ..CompareOptions::default() };
            prop_assert!(compare(&whole, &parts, &options, tiny.root()).unwrap().is_same());
        }
        let options = ProfileOptions { frequent: 3, ..ProfileOptions::default() };
        let of = |table: &Table<'_>| profile(table, None, &options, tiny.root()).unwrap();
        prop_assert_eq!(of(&parts).columns, of(&whole).columns);
    }
}
