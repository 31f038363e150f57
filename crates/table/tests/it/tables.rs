//! Tables at their interface: what is said of two tables is what a plain comparison in memory finds, in
//! every format, whether they fit into memory or not; and odd files are told of, never a crash.

use std::collections::{BTreeMap, BTreeSet};
use std::io::Write;
use std::path::Path;

use proptest::prelude::*;
use textum_table::compare::{CompareOptions, Identity, NoKey, Pattern, RowsDiff, compare};
use textum_table::profile::{ProfileOptions, profile};
use textum_table::{Origin, Row, Table, TableError};
use textum_testkit::Tiny;

fn table(tiny: &Tiny, name: &str, bytes: impl AsRef<[u8]>) -> Table<'static> {
    tiny.write(name, bytes);
    Table::new(name, name, Origin::File(tiny.path(name))).unwrap()
}

fn rows(table: &Table<'_>) -> Result<(Vec<String>, Vec<Vec<String>>), TableError> {
    let mut opened = table.open()?;
    let (mut row, mut all) = (Row::default(), Vec::new());
    while opened.rows.next(&mut row)? {
        all.push((0..row.len()).map(|i| String::from_utf8_lossy(row.cell(i)).into_owned()).collect());
    }
    Ok((opened.columns.clone(), all))
}

fn options(key: &[&str], memory: Option<u64>) -> CompareOptions {
    CompareOptions { key: key.iter().map(|k| (*k).to_string()).collect(), examples: 3, memory, ..CompareOptions::default() }
}

fn diff(tiny: &Tiny, old: &str, new: &str, key: &[&str], memory: Option<u64>) -> RowsDiff {
    let (old, new) = (table(tiny, "old.csv", old), table(tiny, "new.csv", new));
    compare(&old, &new, &options(key, memory), tiny.root()).unwrap()
}

fn csv(rows: &[(u8, u8, u8)]) -> String {
    rows.iter().fold("id,a,b\n".to_string(), |text, (id, a, b)| text + &format!("k{id},{a},{b}\n"))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 150, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn by_key_the_difference_is_that_of_two_maps(
        old in prop::collection::btree_map(any::<u8>(), (0u8..3, 0u8..3), 0..60),
        new in prop::collection::btree_map(any::<u8>(), (0u8..3, 0u8..3), 0..60),
        disk in any::<bool>(), order in any::<u64>(),
    ) {
        let tiny = Tiny::new();
        let list = |map: &BTreeMap<u8, (u8, u8)>| map.iter().map(|(k, (a, b))| (*k, *a, *b)).collect::<Vec<_>>();
        let mut shuffled = list(&new);
        shuffled.sort_by_key(|r| u64::from(r.0).wrapping_mul(order | 1));
        let found = diff(&tiny, &csv(&list(&old)), &csv(&shuffled), &["id"], disk.then_some(0));
        prop_assert_eq!(found.added, new.keys().filter(|k| !old.contains_key(k)).count() as u64);
        prop_assert_eq!(found.removed, old.keys().filter(|k| !new.contains_key(k)).count() as u64);
        let changed: Vec<u8> = old.iter().filter(|(k, v)| new.get(k).is_some_and(|n| n != *v)).map(|(k, _)| *k).collect();
        prop_assert_eq!(found.changed, changed.len() as u64);
        let cells: u64 = found.columns.iter().map(|c| c.cells).sum();
        let expected = changed.iter().map(|k| u64::from(old[k].0 != new[k].0) + u64::from(old[k].1 != new[k].1)).sum::<u64>();
        prop_assert_eq!(cells, expected);
        for example in &found.examples_changed {
            let line = example.new_line.unwrap() as usize;
            prop_assert_eq!(&example.key[0], &format!("k{}", shuffled[line - 2].0), "an example names its line");
        }
        prop_assert_eq!(found.examples_changed.len(), changed.len().min(3));
    }

    #[test]
    fn without_a_key_the_difference_is_that_of_two_multisets(
        old in prop::collection::vec((0u8..4, 0u8..2, 0u8..2), 0..40), new in prop::collection::vec((0u8..4, 0u8..2, 0u8..2), 0..40),
        disk in any::<bool>(), keyed in any::<bool>(),
    ) {
        let tiny = Tiny::new();
        let count = |rows: &[(u8, u8, u8)]| rows.iter().fold(BTreeMap::new(), |mut m, r| { *m.entry(*r).or_insert(0i64) += 1; m });
        let (a, b) = (count(&old), count(&new));
        let all: BTreeSet<_> = a.keys().chain(b.keys()).collect();
        let more = |x: &BTreeMap<(u8, u8, u8), i64>, y: &BTreeMap<(u8, u8, u8), i64>| {
            all.iter().map(|&r| (x.get(r).unwrap_or(&0) - y.get(r).unwrap_or(&0)).max(0)).sum::<i64>() as u64
        };
        // A key that is not unique must come to the same.
        let ids = |rows: &[(u8, u8, u8)]| rows.iter().map(|r| r.0).collect::<BTreeSet<_>>().len() == rows.len();
        let unique = ids(&old) && ids(&new);
        prop_assume!(!keyed || !unique);
        let key: &[&str] = if keyed { &["id"] } else { &[] };
        let found = diff(&tiny, &csv(&old), &csv(&new), key, disk.then_some(0));
        prop_assert_eq!((found.added, found.removed, found.changed), (more(&b, &a), more(&a, &b), 0));
        let told = matches!(&found.identity, Identity::Rows { because: Some(NoKey::Twice { .. }) });
        prop_assert_eq!(told, keyed);
    }

    #[test]
    fn no_bytes_bring_a_reader_down(bytes in prop::collection::vec(any::<u8>(), 0..300), cut in 0usize..200) {
        let tiny = Tiny::new();
        let mut packed = flate(&bytes);
        packed.truncate(packed.len().saturating_sub(cut % 20));
        for (name, bytes) in [
            ("a.csv", bytes.clone()), ("a.tsv", bytes.clone()), ("a.jsonl", bytes.clone()), ("a.parquet", bytes.clone()),
            ("a.csv.gz", packed), ("a.csv.zst", bytes.clone()),
        ] {
            let table = table(&tiny, name, bytes);
            let read = rows(&table);
            if let (Ok((_, all)), Ok(count)) = (read, table.count_rows()) {
                prop_assert_eq!(all.len() as u64, count, "{} rows are counted", name);
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 24, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn rows_are_those_of_the_general_reader_wherever_quotation_begins(text in "(id,a\n)?[ab,\"\r\n]{0,60}", long in 0usize..3) {
        let tiny = Tiny::new();
        // Beyond a block of the plain part, so that one may take over from the other in the middle.
        let text = format!("x,y\n{}{text}", "1,2\n3,4\r\n".repeat(long * 15_000));
        let mut reader = csv::ReaderBuilder::new().has_headers(true).flexible(true).from_reader(text.as_bytes());
        let cells: Vec<Vec<String>> =
            reader.byte_records().map(|r| r.unwrap().iter().map(|f| String::from_utf8_lossy(f).into_owned()).collect()).collect();
        let (lines, unclosed) = lines_of_records(text.as_bytes());
        let table = table(&tiny, "t.csv", &text);
        let mut opened = table.open().unwrap();
        let (mut row, mut found) = (Row::default(), Vec::new());
        let ended = loop {
            match opened.rows.next(&mut row) {
                Ok(true) => found.push((row.line, (0..row.len()).map(|i| String::from_utf8_lossy(row.cell(i)).into_owned()).collect::<Vec<_>>())),
                other => break other,
            }
        };
        let expected: Vec<(u64, Vec<String>)> = lines[1..].iter().copied().zip(cells).collect();
        prop_assert_eq!(expected.len() + 1, lines.len());
        if unclosed {
            let line = *lines.last().unwrap();
            prop_assert!(matches!(&ended, Err(TableError::Malformed { line: Some(told), .. }) if *told == line), "{:?} at {}", ended, line);
        } else {
            prop_assert!(ended.is_ok(), "{ended:?}");
        }
        prop_assert_eq!(found, expected);
    }
}

/// The first line of each record that is not blank, and whether the last is still quoted at the end: RFC 4180, with
/// quotation marks that mean something only at the beginning of a field.
fn lines_of_records(text: &[u8]) -> (Vec<u64>, bool) {
    let (mut lines, mut line, mut quoted, mut at_field, mut in_record) = (Vec::new(), 1, false, true, false);
    let mut at = 0;
    while at < text.len() {
        let byte = text[at];
        if !quoted && matches!(byte, b'\r' | b'\n') {
            (in_record, at_field) = (false, true);
        } else {
            if !in_record {
                lines.push(line);
                in_record = true;
            }
            match byte {
                b'"' if quoted && text.get(at + 1) == Some(&b'"') => at += 1,
                b'"' if quoted => quoted = false,
                b'"' if at_field => quoted = true,
                _ => {}
            }
            at_field = !quoted && byte == b',';
        }
        line += u64::from(byte == b'\n');
        at += 1;
    }
    (lines, quoted)
}

fn flate(bytes: &[u8]) -> Vec<u8> {
    let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    encoder.write_all(bytes).unwrap();
    encoder.finish().unwrap()
}

fn parquet_file(path: &Path, rows: &[(String, i64, f64)]) {
    use parquet::data_type::{ByteArray, ByteArrayType, DoubleType, Int64Type};
    use parquet::file::writer::SerializedFileWriter;
    let schema = parquet::schema::parser::parse_message_type(
        "message shifts { REQUIRED BYTE_ARRAY id (UTF8); REQUIRED INT64 stops; OPTIONAL DOUBLE humidity; }",
    )
    .unwrap();
    let file = std::fs::File::create(path).unwrap();
    let mut writer = SerializedFileWriter::new(file, schema.into(), Default::default()).unwrap();
    let mut group = writer.next_row_group().unwrap();
    let mut column = group.next_column().unwrap().unwrap();
    let ids: Vec<ByteArray> = rows.iter().map(|r| r.0.as_str().into()).collect();
    column.typed::<ByteArrayType>().write_batch(&ids, None, None).unwrap();
    column.close().unwrap();
    let mut column = group.next_column().unwrap().unwrap();
    column.typed::<Int64Type>().write_batch(&rows.iter().map(|r| r.1).collect::<Vec<_>>(), None, None).unwrap();
    column.close().unwrap();
    let mut column = group.next_column().unwrap().unwrap();
    let there: Vec<f64> = rows.iter().map(|r| r.2).filter(|v| !v.is_nan()).collect();
    let levels: Vec<i16> = rows.iter().map(|r| i16::from(!r.2.is_nan())).collect();
    column.typed::<DoubleType>().write_batch(&there, Some(&levels), None).unwrap();
    column.close().unwrap();
    group.close().unwrap();
    writer.close().unwrap();
}

#[test]
fn every_format_holds_the_same_rows() {
    let tiny = Tiny::new();
    let data: Vec<(String, i64, f64)> =
        (0..50).map(|i| (format!("S{i}"), i % 7, if i % 9 == 0 { f64::NAN } else { i as f64 + 0.5 })).collect();
    let humidity = |v: f64| if v.is_nan() { String::new() } else { format!("{v:?}") };
    let text = data.iter().fold("id,stops,humidity\n".to_string(), |t, (a, b, c)| t + &format!("{a},{b},{}\n", humidity(*c)));
    let json = data.iter().fold(String::new(), |t, (a, b, c)| {
        let value = if c.is_nan() { "null".into() } else { humidity(*c) };
        t + &format!("{{\"id\":\"{a}\",\"stops\":{b},\"humidity\":{value}}}\n")
    });
    parquet_file(&tiny.path("t.parquet"), &data);
    let tables = [
        table(&tiny, "t.csv", &text),
        table(&tiny, "t.tsv", text.replace(',', "\t")),
        table(&tiny, "semicolons.csv", text.replace(',', ";")),
        table(&tiny, "windows.csv", format!("\u{feff}{}", text.replace('\n', "\r\n"))),
        table(&tiny, "t.csv.gz", flate(text.as_bytes())),
        table(&tiny, "t.csv.zst", zstd::encode_all(text.as_bytes(), 3).unwrap()),
        table(&tiny, "t.jsonl", &json),
        table(&tiny, "t.json", format!("[{}]\n", json.trim_end().replace('\n', ",\n "))),
        table(
            &tiny,
            "wide.csv",
            "\u{feff}"
                .chars()
                .chain(text.chars())
                .collect::<String>()
                .encode_utf16()
                .flat_map(u16::to_be_bytes)
                .collect::<Vec<_>>(),
        ),
        Table::new("t.parquet", "t.parquet", Origin::File(tiny.path("t.parquet"))).unwrap(),
    ];
    let expected = rows(&tables[0]).unwrap();
    for table in &tables {
        assert_eq!(rows(table).unwrap(), expected, "{}", table.name);
        assert_eq!(table.count_rows().unwrap(), 50, "{}", table.name);
        let found = compare(&tables[0], table, &options(&["id"], None), tiny.root()).unwrap();
        assert!(found.is_same() && found.schema.is_empty(), "{}: {found:?}", table.name);
        assert_eq!(found.new_oddities.byte_order_mark, table.name == "windows.csv");
        assert_eq!(found.new_oddities.encoding.is_some(), table.name == "wide.csv");
    }
}

#[test]
fn columns_come_and_go_and_change_type_without_hiding_rows() {
    let tiny = Tiny::new();
    let old = "id,humidity,team,lint\na,60,Ahorn,1\nb,61,Birke,2\nc,62,Linde,3\n";
    let new = "id,lint,humidity,shed\nc,3,62.5,C\na,1,60,A\nb,2,dry,B\n";
    let found = diff(&tiny, old, new, &["id"], None);
    let names = |columns: &[textum_table::schema::Column]| columns.iter().map(|c| c.name.clone()).collect::<Vec<_>>();
    assert_eq!((names(&found.schema.added), names(&found.schema.removed)), (vec!["shed".to_string()], vec!["team".to_string()]));
    assert_eq!((found.schema.types[0].from.as_str(), found.schema.types[0].to.as_str()), ("integer", "mixed"));
    assert!(found.schema.reordered);
    assert_eq!((found.changed, found.columns[0].column.as_str(), found.columns[0].cells), (2, "humidity", 2));
}

#[test]
fn what_changed_cells_have_in_common_is_told() {
    let tiny = Tiny::new();
    let make = |humidity: &dyn Fn(usize) -> String| {
        (0..200).fold("id,shed,humidity\n".to_string(), |t, i| t + &format!("{i},{},{}\n", ["A", "B", "C"][i % 3], humidity(i)))
    };
    let plain = |i: usize| 40.0 + (i * 7 % 50) as f64;
    let old = make(&|i| plain(i).to_string());
    let pattern = |new: &dyn Fn(usize) -> String| {
        let found = diff(&tiny, &old, &make(&|i| if i % 3 == 2 { new(i) } else { plain(i).to_string() }), &["id"], None);
        assert_eq!(found.common_changed, [("shed".to_string(), "C".to_string())]);
        found.columns[0].pattern.clone()
    };
    assert_eq!(pattern(&|i| format!("{:.3}", plain(i) / 100.0)), Some(Pattern::Factor(0.01)));
    assert_eq!(pattern(&|i| (plain(i) + 32.0).to_string()), Some(Pattern::Shift(32.0)));
    assert_eq!(pattern(&|_| String::new()), Some(Pattern::Missing));
    assert_eq!(pattern(&|i| format!("{:.2}", plain(i))), Some(Pattern::Spelling));
    assert_eq!(pattern(&|i| ((i * 31) % 97 + 100).to_string()), None, "noise has nothing in common");
}

#[test]
fn odd_tables_are_read_as_far_as_they_can_be_and_told_of() {
    let tiny = Tiny::new();
    let ragged = diff(&tiny, "id,a\n1,x\n2,y\n", "id,a\n1,x,more\n2\n", &["id"], None);
    assert_eq!((ragged.new_oddities.ragged, &ragged.new_oddities.ragged_lines[..]), (2, &[2, 3][..]));
    assert_eq!(ragged.changed, 2, "a field too many and one too few are changes");
    let quoted = diff(&tiny, "id,a\n1,\"two\nlines\"\n2,x\n", "id,a\n1,\"two\nlines\"\n2,y\n", &["id"], None);
    assert_eq!((quoted.changed, quoted.examples_changed[0].new_line), (1, Some(4)), "lines are those of the file");
    let bare = diff(&tiny, "1,x\n2,y\n", "1,x\n3,y\n", &[], None);
    assert!(bare.new_oddities.no_header && bare.old_rows == 2 && bare.added == 1);
    let empty = diff(&tiny, "", "id,a\n1,x\n", &["id"], None);
    assert_eq!((empty.old_rows, empty.new_rows, empty.added), (0, 1, 1));
    let twice = diff(&tiny, "id,a\n1,x\n2,y\n", "id,a\n1,x\n2,y\n2,y\n1,z\n", &["id"], None);
    let Identity::Rows { because: Some(NoKey::Twice { rows: again, examples, table: of }) } = &twice.identity else {
        panic!("{twice:?}")
    };
    assert_eq!((*again, of.as_str(), &examples[0]), (2, "new.csv", &("2".to_string(), 3, 4)));
    assert_eq!((twice.added, twice.removed), (2, 0));
    let renamed = diff(&tiny, "id,a\n1,x\n", "nr,a\n1,x\n", &["id"], None);
    assert!(matches!(&renamed.identity, Identity::Rows { because: Some(NoKey::Absent { column, .. }) } if column == "id"));
    for (name, bytes) in [("u.json", b"{\"a\":1}".to_vec()), ("j.jsonl", b"{\"a\":1}\nnot json\n".to_vec())] {
        let error = rows(&table(&tiny, name, bytes)).unwrap_err();
        assert!(matches!(error, TableError::Malformed { .. }), "{error}");
    }
}

#[test]
fn a_profile_has_the_figures_that_a_plain_count_finds() {
    let tiny = Tiny::new();
    let value = |i: usize| (i * 7919 % 1009) as f64 / 10.0;
    let text = (0..5000).fold("n,team,y\n".to_string(), |t, i| {
        let n = if i % 50 == 0 { String::new() } else { value(i).to_string() };
        t + &format!("{n},{},{}\n", ["Ahorn", "Birke"][usize::from(value(i) > 50.0)], value(i) * 2.0 + 1.0)
    });
    let numbers = table(&tiny, "t.csv", &text);
    let asked = ProfileOptions { target: Some("y".into()), frequent: 3, ..ProfileOptions::default() };
    let found = profile(&numbers, None, &asked, tiny.root()).unwrap();
    let mut plain: Vec<f64> = (0..5000).filter(|i| i % 50 != 0).map(value).collect();
    plain.sort_by(f64::total_cmp);
    let n = found.columns[0].numbers.as_ref().unwrap();
    let at = |q: f64| plain[(q * plain.len() as f64).ceil() as usize - 1];
    assert_eq!(
        [n.min, n.lower_quartile, n.median, n.upper_quartile, n.max],
        [plain[0], at(0.25), at(0.5), at(0.75), plain[plain.len() - 1]]
    );
    let mean = plain.iter().sum::<f64>() / plain.len() as f64;
    let variance = plain.iter().map(|v| (v - mean).powi(2)).sum::<f64>() / (plain.len() - 1) as f64;
    assert!((n.mean - mean).abs() < 1e-9 && (n.deviation - variance.sqrt()).abs() < 1e-9);
    let distinct: BTreeSet<u64> = plain.iter().map(|v| v.to_bits()).collect();
    assert_eq!((found.columns[0].distinct, found.columns[0].missing), (distinct.len() as u64, 100));
    assert_eq!(found.columns[0].histogram.as_ref().unwrap().counts.iter().sum::<u64>(), plain.len() as u64);
    assert!((found.columns[0].relation.as_ref().unwrap().value - 1.0).abs() < 1e-9, "y is a straight line of n");
    let team = found.columns[1].relation.as_ref().unwrap();
    assert!(team.measure == "eta" && team.value > 0.8, "{team:?}");
    assert_eq!(found.columns[1].frequent.iter().map(|f| f.count).sum::<u64>(), 5000);
    // Drift: none from itself, strong from a part of it.
    let same = profile(&numbers, Some(&numbers), &asked, tiny.root()).unwrap();
    assert!(same.columns.iter().all(|c| c.drift.as_ref().unwrap().reading == "none"));
    let low: String =
        text.lines().take(1).chain(text.lines().skip(1).filter(|l| l.contains("Ahorn"))).map(|l| format!("{l}\n")).collect();
    let drifted = profile(&table(&tiny, "low.csv", low), Some(&numbers), &asked, tiny.root()).unwrap();
    let ks = drifted.columns[0].drift.as_ref().unwrap().ks.unwrap();
    let above = plain.iter().filter(|v| **v > 50.0).count() as f64 / plain.len() as f64;
    assert!((ks - above).abs() < 1e-9, "D is the share of what was left out: {ks} {above}");
    assert!(drifted.columns.iter().all(|c| c.drift.as_ref().unwrap().reading == "strong"));
}

#[test]
fn many_different_texts_are_counted_beyond_memory() {
    let tiny = Tiny::new();
    // More different texts than are kept by themselves: told from their hashes, read once more for the names.
    let text = (0..60_000).fold("word\n".to_string(), |t, i| t + &format!("w{}\n", if i % 10 == 0 { 7 } else { i }));
    let found =
        profile(&table(&tiny, "w.csv", text), None, &ProfileOptions { frequent: 2, ..ProfileOptions::default() }, tiny.root())
            .unwrap();
    assert_eq!(found.columns[0].distinct, 54_000);
    assert_eq!((found.columns[0].frequent[0].value.as_str(), found.columns[0].frequent[0].count), ("w7", 6_001));
}

#[test]
fn long_numbers_are_told_apart_exactly() {
    let tiny = Tiny::new();
    let ids = ["1234567890123456781", "1234567890123456782", "1234567890123456783", "1234567890123456784"];
    let old: String = ids.iter().enumerate().map(|(n, id)| format!("{n},{id}\n")).collect();
    // Each id damaged in its last digit: as doubles they are the same.
    let new: String = ids.iter().enumerate().map(|(n, id)| format!("{n},{}9\n", &id[..18])).collect();
    let found = diff(&tiny, &format!("n,id\n{old}"), &format!("n,id\n{new}"), &["n"], None);
    assert_eq!(found.changed, 4);
    assert!(found.columns.iter().all(|c| c.pattern != Some(Pattern::Spelling)), "{:?}", found.columns);
    let spelled: String = ids.iter().enumerate().map(|(n, id)| format!("{n},{id}.0\n")).collect();
    let found = diff(&tiny, &format!("n,id\n{old}"), &format!("n,id\n{spelled}"), &["n"], None);
    assert_eq!(found.columns[0].pattern, Some(Pattern::Spelling));
    let rows: String = (0..6).map(|n| format!("{},x\n", ids[n % 3])).collect();
    let table = table(&tiny, "ids.csv", format!("id,k\n{rows}0.1,x\n0.1000000000000000055511151231257827,x\n"));
    let scratch = tempfile::tempdir().unwrap();
    let found = profile(&table, None, &ProfileOptions { frequent: 3, ..ProfileOptions::default() }, scratch.path()).unwrap();
    assert_eq!(found.columns[0].distinct, 5, "three ids, and two numbers that are one double");
    let frequent: Vec<(&str, u64)> = found.columns[0].frequent.iter().map(|f| (f.value.as_str(), f.count)).collect();
    assert_eq!(frequent.len(), 3);
    assert!(frequent.iter().all(|(value, count)| ids.contains(value) && *count == 2), "{frequent:?}");
}

#[test]
fn times_of_parquet_are_what_they_say_and_damage_is_an_error() {
    use parquet::data_type::Int64Type;
    use parquet::file::writer::SerializedFileWriter;
    let tiny = Tiny::new();
    let schema = "message t { REQUIRED INT64 ns (TIMESTAMP(NANOS,false)); REQUIRED INT64 us (TIMESTAMP(MICROS,false)); REQUIRED INT64 utc (TIMESTAMP(MILLIS,true)); REQUIRED INT64 plain; }";
    let schema = parquet::schema::parser::parse_message_type(schema).unwrap();
    let path = tiny.path("t.parquet");
    let mut writer = SerializedFileWriter::new(std::fs::File::create(&path).unwrap(), schema.into(), Default::default()).unwrap();
    let mut group = writer.next_row_group().unwrap();
    for values in [[1_772_344_800_123_456_789i64, -1], [1_772_344_800_500_000, -1_500_000], [1_772_344_800_000, 0], [7, 8]] {
        let mut column = group.next_column().unwrap().unwrap();
        column.typed::<Int64Type>().write_batch(&values, None, None).unwrap();
        column.close().unwrap();
    }
    group.close().unwrap();
    writer.close().unwrap();
    let bytes = std::fs::read(&path).unwrap();
    let (_, read) = rows(&table(&tiny, "t.parquet", &bytes)).unwrap();
    assert_eq!(read[0], ["2026-03-01T06:00:00.123456789", "2026-03-01T06:00:00.5", "2026-03-01T06:00:00Z", "7"]);
    assert_eq!(read[1], ["1969-12-31T23:59:59.999999999", "1969-12-31T23:59:58.5", "1970-01-01T00:00:00Z", "8"]);
    // Any byte of it damaged in any of these ways: read, or an error, and never the end of the program.
    for at in 0..bytes.len() {
        for flip in [0x01, 0x80, 0xff] {
            let mut bad = bytes.clone();
            bad[at] ^= flip;
            let bad = table(&tiny, "t.parquet", &bad);
            let _ = (rows(&bad), bad.count_rows());
        }
    }
}

#[test]
fn numbers_that_json_does_not_know_are_read_in_json_lines() {
    let tiny = Tiny::new();
    let text = "{\"step\":1,\"loss\":NaN,\"t\":\"NaN, Infinity\"}\n{\"step\":2,\"loss\":-Infinity,\"t\":\"\\\"NaN\"}\n{\"step\":3,\"loss\":Infinity,\"t\":\"NaN\"}\n";
    let (_, read) = rows(&table(&tiny, "h.jsonl", text)).unwrap();
    assert_eq!(read, [["1", "NaN", "NaN, Infinity"], ["2", "-Infinity", "\"NaN"], ["3", "Infinity", "\"NaN\""]]);
    assert!(rows(&table(&tiny, "h.jsonl", "{\"a\": NaNs}\n")).is_err());
}

/// Numbers that look random and are the same each time.
fn dice(seed: u64) -> impl FnMut(u64) -> u64 {
    let mut state = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) | 1;
    move |sides| {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state % sides
    }
}

fn shifts(rows: usize, seed: u64) -> Vec<String> {
    let mut roll = dice(seed);
    (0..rows)
        .map(|i| {
            let humidity = (0..6).map(|_| roll(100)).sum::<u64>() as f64 / 6.0;
            format!("S{i:05},{},{},{humidity:.1}\n", ["A", "B", "C"][roll(3) as usize], ["early", "late"][roll(2) as usize])
        })
        .collect()
}

const SHIFTS: &str = "id,shed,shift,humidity\n";

#[test]
fn a_random_part_of_a_table_has_not_drifted_and_another_table_has() {
    let tiny = Tiny::new();
    let readings = |before: &str, now: &str| -> Vec<&'static str> {
        let (old, new) = (table(&tiny, "old.csv", before), table(&tiny, "new.csv", now));
        let found = profile(&new, Some(&old), &ProfileOptions { frequent: 5, ..ProfileOptions::default() }, tiny.root()).unwrap();
        // Identifiers are left out.
        found.columns.iter().map(|c| c.drift.as_ref().map_or("none", |d| d.reading)).collect()
    };
    for seed in 0..60 {
        let all = shifts([24, 40, 100, 400, 2000][seed as usize % 5], seed);
        let mut roll = dice(seed + 1000);
        let half: String = all.iter().filter(|_| roll(2) == 0).map(String::as_str).collect();
        let found = readings(&format!("{SHIFTS}{}", all.concat()), &format!("{SHIFTS}{half}"));
        assert_eq!(found, ["none"; 4], "seed {seed}, {} rows", all.len());
    }
    // What has changed for real is seen in a small table too.
    let all = shifts(60, 7);
    let damp: String = shifts(60, 8)
        .iter()
        .map(|l| {
            let (rest, humidity) = l.trim_end().rsplit_once(',').unwrap();
            format!("{},{:.1}\n", rest.replace(",A,", ",C,").replace(",B,", ",C,"), humidity.parse::<f64>().unwrap() + 25.0)
        })
        .collect();
    assert_eq!(readings(&format!("{SHIFTS}{}", all.concat()), &format!("{SHIFTS}{damp}"))[1..], ["strong", "none", "strong"]);
}

#[test]
fn what_changed_rows_share_is_told_only_where_chance_does_not_give_it() {
    let tiny = Tiny::new();
    let common = |rows: &[String], changes: &dyn Fn(usize, &str) -> bool| {
        let changed: String = rows
            .iter()
            .enumerate()
            .map(|(i, l)| if changes(i, l) { format!("{},0.5\n", l.rsplit_once(',').unwrap().0) } else { l.clone() })
            .collect();
        let old = table(&tiny, "old.csv", format!("{SHIFTS}{}", rows.concat()));
        let new = table(&tiny, "new.csv", format!("{SHIFTS}{changed}"));
        let options = CompareOptions { key: vec!["id".into()], columns: Vec::new(), examples: 2, ..CompareOptions::default() };
        compare(&old, &new, &options, tiny.root()).unwrap().common_changed
    };
    for rows in [300, 20_000] {
        let rows = shifts(rows, 3);
        let of = |shed: &'static str| move |_: usize, line: &str| line.contains(shed);
        assert_eq!(common(&rows, &of(",C,")), [("shed".to_string(), "C".to_string())]);
        // Three rows that all happen to be of the early shift say nothing: half of all rows are.
        let early: Vec<usize> = (0..rows.len()).filter(|i| rows[*i].contains(",early,")).take(3).collect();
        assert_eq!(common(&rows, &|i, _| early.contains(&i)), []);
        // A dozen do.
        let early: Vec<usize> = (0..rows.len()).filter(|i| rows[*i].contains(",early,")).take(12).collect();
        assert!(common(&rows, &|i, _| early.contains(&i)).contains(&("shift".to_string(), "early".to_string())));
    }
}
