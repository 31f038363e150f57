//! A table is written without some rows, and nothing else of it changes.

use parquet::basic::{Compression, ZstdLevel};
use parquet::data_type::{ByteArray, ByteArrayType, Int64Type};
use parquet::file::metadata::KeyValue;
use parquet::file::properties::WriterProperties;
use parquet::file::reader::{FileReader, SerializedFileReader};
use parquet::file::writer::SerializedFileWriter;
use proptest::prelude::*;
use textum_table::filter::parse;
use textum_table::without::{Going, Parted, WithoutError};
use textum_table::{Origin, Row, Table};
use textum_testkit::Tiny;

fn at<'t>(tiny: &Tiny, name: &str) -> Table<'t> {
    Table::new(name, name, Origin::File(tiny.path(name))).unwrap()
}

/// Takes rows out of a file, into another beside it of the same kind; what went.
fn take(tiny: &Tiny, name: &str, condition: &str) -> Result<(Parted, Vec<String>), WithoutError> {
    let mut gone = Vec::new();
    let out = tiny.path(&format!("out.{name}"));
    let _ = std::fs::remove_file(&out);
    let going = Going::find(&at(tiny, name), &parse(condition).unwrap())?;
    going.write(&at(tiny, name), &out, &mut |row| gone.push(String::from_utf8_lossy(row).into_owned()))?;
    Ok((going.parted, gone))
}

fn rows(table: &Table<'_>) -> Vec<Vec<String>> {
    let mut opened = table.open().unwrap();
    let (mut row, mut found) = (Row::default(), Vec::new());
    while opened.rows.next(&mut row).unwrap() {
        found.push((0..row.len()).map(|i| String::from_utf8_lossy(row.cell(i)).into_owned()).collect());
    }
    found
}

#[test]
fn other_lines_stay_byte_for_byte() {
    let tiny = Tiny::new();
    let cases = [
        ("a.csv", "loom,by\r\nL01,\"Ann, of the shed\"\r\n\r\nL02,Bo\r\nL03,\"Ann\nand Bo\"\r\nL02,Cy", "by contains \"Ann\"", 2),
        ("b.csv", "\u{feff}loom;by\nL01;Ann\nL02;Bo\n", "by = \"Ann\"", 1),
        ("c.tsv", "loom\tby\nL01\tAnn\nL02\tBo", "by = \"Bo\"", 1),
        ("d.jsonl", "{\"by\": \"Ann\",  \"loom\":1}\n\n{\"loom\":2,\"by\":\"Bo\"}\n", "by = \"Ann\"", 1),
        ("e.csv", "L01,3\nL02,4\n", "`column 2` = 3", 1),
        ("f.csv", "loom,by\nL01,Ann\n", "by = \"Ann\"", 1),
        ("g.csv", "loom,by\nL01,Ann\n", "by = \"Zoe\"", 0),
    ];
    let wanted = [
        "loom,by\r\nL02,Bo\r\nL02,Cy",
        "\u{feff}loom;by\nL02;Bo\n",
        "loom\tby\nL01\tAnn\n",
        "{\"loom\":2,\"by\":\"Bo\"}\n",
        "L02,4\n",
        "loom,by\n",
        "loom,by\nL01,Ann\n",
    ];
    for ((name, text, condition, count), wanted) in cases.into_iter().zip(wanted) {
        tiny.write(name, text);
        let (parted, gone) = take(&tiny, name, condition).unwrap_or_else(|e| panic!("{name}: {e}"));
        assert_eq!(std::fs::read_to_string(tiny.path(&format!("out.{name}"))).unwrap(), wanted, "{name}");
        assert_eq!((parted.removed, gone.len()), (count, count as usize), "{name}");
        let mut found = Vec::new();
        let going = Going::find(&at(&tiny, name), &parse(condition).unwrap()).unwrap();
        going.each(&at(&tiny, name), &mut |row| found.push(String::from_utf8_lossy(row).into_owned())).unwrap();
        assert_eq!((going.parted, found), (parted, gone), "{name}");
    }
}

#[test]
fn packed_texts_are_packed_again() {
    let tiny = Tiny::new();
    let text: String = (0..20_000).map(|i| format!("L{:02},{i}\n", i % 7)).collect();
    tiny.write("t.csv", format!("loom,meters\n{text}"));
    for (program, name) in [("gzip", "t.csv.gz"), ("zstd", "t.csv.zst")] {
        let bytes = std::fs::read(tiny.path("t.csv")).unwrap();
        let packed = match program {
            "gzip" => {
                let mut to = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
                std::io::Write::write_all(&mut to, &bytes).unwrap();
                to.finish().unwrap()
            }
            _ => zstd::encode_all(&bytes[..], 0).unwrap(),
        };
        tiny.write(name, packed);
        let (parted, _) = take(&tiny, name, "loom = \"L03\"").unwrap();
        let wanted: Vec<Vec<String>> = rows(&at(&tiny, "t.csv")).into_iter().filter(|r| r[0] != "L03").collect();
        assert_eq!(parted, Parted { removed: 2857, kept: 17_143 });
        assert_eq!(rows(&at(&tiny, &format!("out.{name}"))), wanted, "{name}");
    }
}

#[test]
fn what_cannot_be_taken_out_is_said_and_a_file_is_never_replaced() {
    let tiny = Tiny::new();
    tiny.write("t.csv", "loom,by\nL01,Ann\n");
    assert!(matches!(take(&tiny, "t.csv", "worker = 1"), Err(WithoutError::Filter(_))));
    let out = tiny.path("out.t.csv");
    std::fs::write(&out, "mine").unwrap();
    let going = Going::find(&at(&tiny, "t.csv"), &parse("by = \"Ann\"").unwrap()).unwrap();
    going.write(&at(&tiny, "t.csv"), &out, &mut |_| ()).unwrap_err();
    assert_eq!(std::fs::read_to_string(&out).unwrap(), "mine");
    // Lines that end in carriage returns alone cannot be told from one line: nothing wrong is written down for right.
    tiny.write("cr.csv", "loom,by\rL01,Ann\rL02,Bo\r");
    match take(&tiny, "cr.csv", "by = \"Ann\"") {
        Ok(_) => assert_eq!(rows(&at(&tiny, "out.cr.csv")), [["L02", "Bo"]]),
        Err(e) => assert!(matches!(e, WithoutError::NotTheSame { .. }), "{e}"),
    }
}

/// Rows of a table with a list in it: the loom, and the meters of its shifts, which may be none.
type Nested = Vec<(Option<String>, Option<Vec<Option<i64>>>)>;

fn write_nested(tiny: &Tiny, name: &str, table: &Nested, groups: usize) {
    let schema = "message looms { OPTIONAL BYTE_ARRAY loom (UTF8); OPTIONAL GROUP meters (LIST) { REPEATED GROUP list { OPTIONAL INT64 element; } } }";
    let schema = parquet::schema::parser::parse_message_type(schema).unwrap();
    let properties = WriterProperties::builder()
        .set_compression(Compression::ZSTD(ZstdLevel::default()))
        .set_key_value_metadata(Some(vec![KeyValue::new("shed".to_string(), "north".to_string())]))
        .build();
    let file = std::fs::File::create(tiny.path(name)).unwrap();
    let mut writer = SerializedFileWriter::new(file, schema.into(), properties.into()).unwrap();
    for some in table.chunks(table.len().div_ceil(groups).max(1)) {
        let mut group = writer.next_row_group().unwrap();
        let mut column = group.next_column().unwrap().unwrap();
        let looms: Vec<ByteArray> = some.iter().filter_map(|(l, _)| Some(ByteArray::from(l.as_ref()?.as_str()))).collect();
        let levels: Vec<i16> = some.iter().map(|(l, _)| i16::from(l.is_some())).collect();
        column.typed::<ByteArrayType>().write_batch(&looms, Some(&levels), None).unwrap();
        column.close().unwrap();
        let (mut values, mut defined, mut repeated) = (Vec::new(), Vec::new(), Vec::new());
        for (_, meters) in some {
            match meters {
                None => (defined.push(0), repeated.push(0)),
                Some(meters) if meters.is_empty() => (defined.push(1), repeated.push(0)),
                Some(meters) => {
                    for (at, value) in meters.iter().enumerate() {
                        defined.push(2 + i16::from(value.is_some()));
                        repeated.push(i16::from(at > 0));
                        values.extend(value);
                    }
                    ((), ())
                }
            };
        }
        let mut column = group.next_column().unwrap().unwrap();
        column.typed::<Int64Type>().write_batch(&values, Some(&defined), Some(&repeated)).unwrap();
        column.close().unwrap();
        group.close().unwrap();
    }
    writer.close().unwrap();
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn nested_columns_keep_their_rows(
        table in prop::collection::vec(
            (prop::option::of("L0[0-3]"), prop::option::of(prop::collection::vec(prop::option::of(any::<i64>()), 0..4))), 1..40),
        groups in 1usize..4,
    ) {
        let tiny = Tiny::new();
        write_nested(&tiny, "t.parquet", &table, groups);
        let (parted, _) = take(&tiny, "t.parquet", "loom = \"L01\"").unwrap();
        let rest: Nested = table.iter().filter(|(loom, _)| loom.as_deref() != Some("L01")).cloned().collect();
        prop_assert_eq!(parted.kept, rest.len() as u64);
        write_nested(&tiny, "rest.parquet", &rest, 1);
        prop_assert_eq!(rows(&at(&tiny, "out.t.parquet")), rows(&at(&tiny, "rest.parquet")));
        let reader = SerializedFileReader::new(std::fs::File::open(tiny.path("out.t.parquet")).unwrap()).unwrap();
        prop_assert_eq!(&reader.metadata().file_metadata().key_value_metadata().unwrap()[0].value, &Some("north".to_string()));
        for group in reader.metadata().row_groups() {
            prop_assert!(matches!(group.column(0).compression(), Compression::ZSTD(_)));
        }
    }
}
