//! Tables written by others, read back: whatever is in the cells, however the file is written and packed.

use std::io::Write;

use proptest::prelude::*;
use textum_table::compare::{CompareOptions, compare};
use textum_table::kind::Kind;
use textum_table::{Origin, Row, Table};
use textum_testkit::Tiny;

#[derive(Clone, Copy, Debug)]
enum Form {
    Csv,
    /// Every field in quotes, lines end as on Windows.
    Quoted,
    Semicolons,
    Tsv,
    JsonLines,
}

#[derive(Clone, Copy, Debug)]
enum Packed {
    No,
    Gzip,
    Zstd,
}

fn cell() -> impl Strategy<Value = String> {
    prop_oneof![
        4 => (-1000i64..1000).prop_map(|n| n.to_string()),
        // A text that reads like something else is another cell in JSON than it is in CSV.
        2 => "[a-zA-Z ]{1,12}".prop_filter("no word for something else", |t| textum_table::kind::kind_of(t.as_bytes()) == Kind::Text),
        1 => prop::sample::select(vec!["a,b", "say \"twill\"", "two\nlines", "tab\there", "semi;colon", "é ✓", "2026-03-01",])
            .prop_map(String::from),
    ]
}

fn grid() -> impl Strategy<Value = Vec<Vec<String>>> {
    (1usize..6).prop_flat_map(|columns| prop::collection::vec(prop::collection::vec(cell(), columns..=columns), 1..30))
}

/// A whole number as a number, all else as a text.
fn json_cell(cell: &str) -> serde_json::Value {
    cell.parse::<i64>().map_or_else(|_| cell.into(), Into::into)
}

/// A table as another program writes it.
fn written(form: Form, header: &[String], rows: &[Vec<String>]) -> (String, Vec<u8>) {
    let delimited = |delimiter: u8, style: csv::QuoteStyle, crlf: bool| {
        let terminator = if crlf { csv::Terminator::CRLF } else { csv::Terminator::Any(b'\n') };
        let mut writer =
            csv::WriterBuilder::new().delimiter(delimiter).quote_style(style).terminator(terminator).from_writer(Vec::new());
        writer.write_record(header).unwrap();
        rows.iter().for_each(|row| writer.write_record(row).unwrap());
        writer.into_inner().unwrap()
    };
    match form {
        Form::Csv => ("csv".into(), delimited(b',', csv::QuoteStyle::Necessary, false)),
        Form::Quoted => ("csv".into(), delimited(b',', csv::QuoteStyle::Always, true)),
        Form::Semicolons => ("csv".into(), delimited(b';', csv::QuoteStyle::Always, false)),
        Form::Tsv => ("tsv".into(), delimited(b'\t', csv::QuoteStyle::Necessary, false)),
        Form::JsonLines => {
            let line = |row: &Vec<String>| {
                let object: serde_json::Map<String, serde_json::Value> =
                    header.iter().cloned().zip(row.iter().map(|cell| json_cell(cell))).collect();
                serde_json::Value::Object(object).to_string() + "\n"
            };
            ("jsonl".into(), rows.iter().map(line).collect::<String>().into_bytes())
        }
    }
}

fn packed(how: Packed, bytes: Vec<u8>) -> (&'static str, Vec<u8>) {
    match how {
        Packed::No => ("", bytes),
        Packed::Gzip => {
            let mut writer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
            writer.write_all(&bytes).unwrap();
            (".gz", writer.finish().unwrap())
        }
        Packed::Zstd => (".zst", zstd::encode_all(&bytes[..], 1).unwrap()),
    }
}

fn put(tiny: &Tiny, name: &str, form: Form, how: Packed, header: &[String], rows: &[Vec<String>]) -> Table<'static> {
    let (ending, bytes) = written(form, header, rows);
    let (more, bytes) = packed(how, bytes);
    let name = format!("{name}.{ending}{more}");
    tiny.write(&name, bytes);
    Table::new(&name, &name, Origin::File(tiny.path(&name))).unwrap()
}

fn read(table: &Table<'_>) -> (Vec<String>, Vec<Vec<String>>) {
    let mut opened = table.open().unwrap();
    let (mut row, mut all) = (Row::default(), Vec::new());
    while opened.rows.next(&mut row).unwrap() {
        all.push((0..row.len()).map(|i| String::from_utf8_lossy(row.cell(i)).into_owned()).collect());
    }
    (opened.columns, all)
}

fn form() -> impl Strategy<Value = Form> {
    prop::sample::select(vec![Form::Csv, Form::Quoted, Form::Semicolons, Form::Tsv, Form::JsonLines])
}

fn how() -> impl Strategy<Value = Packed> {
    prop::sample::select(vec![Packed::No, Packed::Gzip, Packed::Zstd])
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 128, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_was_written_is_read_and_counted(rows in grid(), form in form(), how in how()) {
        let header: Vec<String> = (0..rows[0].len()).map(|i| format!("column {i}")).collect();
        let tiny = Tiny::new();
        let table = put(&tiny, "t", form, how, &header, &rows);
        let (columns, found) = read(&table);
        prop_assert_eq!(columns, header);
        prop_assert_eq!(&found, &rows, "{:?} {:?}", form, how);
        prop_assert_eq!(table.count_rows().unwrap(), rows.len() as u64);
    }

    #[test]
    fn two_forms_of_one_table_do_not_differ(rows in grid(), one in form(), other in form(), how in how(), swap in any::<prop::sample::Index>()) {
        let header: Vec<String> = (0..rows[0].len()).map(|i| format!("c{i}")).collect();
        let tiny = Tiny::new();
        let a = put(&tiny, "a", one, how, &header, &rows);
        // The rows in another order: a table without a key is what rows it has, and how often.
        let mut turned = rows.clone();
        turned.rotate_left(swap.index(rows.len()));
        let b = put(&tiny, "b", other, Packed::No, &header, &turned);
        let options = CompareOptions { key: Vec::new(), columns: Vec::new(), examples: 3, ..CompareOptions::default() };
        let found = compare(&a, &b, &options, tiny.root()).unwrap();
        prop_assert_eq!((found.added, found.removed, found.changed), (0, 0, 0), "{:?} {:?}", one, other);
        // One cell of one row more.
        let mut changed = turned.clone();
        let last = changed.last().unwrap().clone();
        changed.push(last);
        let c = put(&tiny, "c", other, how, &header, &changed);
        let found = compare(&b, &c, &options, tiny.root()).unwrap();
        prop_assert_eq!((found.added, found.removed, found.new_rows), (1, 0, rows.len() as u64 + 1));
    }
}
