//! Parquet read column by column says what it says row by row.

use std::path::Path;

use parquet::data_type::{BoolType, ByteArray, ByteArrayType, DataType, DoubleType, FloatType, Int32Type, Int64Type};
use parquet::file::writer::{SerializedFileWriter, SerializedRowGroupWriter};
use proptest::prelude::*;
use textum_table::profile::{ProfileOptions, profile};
use textum_table::{Origin, Row, Table, TableError, Value};
use textum_testkit::Tiny;

const SCHEMA: &str = "message shifts {
    REQUIRED BYTE_ARRAY id (UTF8);
    OPTIONAL BOOLEAN night;
    OPTIONAL INT32 stops;
    REQUIRED INT64 meters;
    OPTIONAL INT32 day (DATE);
    OPTIONAL INT64 began (TIMESTAMP(MICROS,true));
    REQUIRED INT64 ended (TIMESTAMP(MILLIS,false));
    OPTIONAL FLOAT tension;
    OPTIONAL DOUBLE humidity;
    OPTIONAL INT32 tiny (INTEGER(8,true));
    OPTIONAL BYTE_ARRAY note (UTF8);
}";

#[derive(Clone, Debug)]
struct Shift {
    id: String,
    night: Option<bool>,
    stops: Option<i32>,
    meters: i64,
    day: Option<i32>,
    began: Option<i64>,
    ended: i64,
    tension: Option<f32>,
    humidity: Option<f64>,
    tiny: Option<i32>,
    note: Option<String>,
}

fn put<T: DataType>(group: &mut SerializedRowGroupWriter<'_, std::fs::File>, values: Vec<Option<T::T>>, required: bool) {
    let levels: Vec<i16> = values.iter().map(|v| i16::from(v.is_some())).collect();
    let there: Vec<T::T> = values.into_iter().flatten().collect();
    let mut column = group.next_column().unwrap().unwrap();
    column.typed::<T>().write_batch(&there, (!required).then_some(&levels[..]), None).unwrap();
    column.close().unwrap();
}

fn write(path: &Path, shifts: &[Shift], groups: usize) {
    let schema = parquet::schema::parser::parse_message_type(SCHEMA).unwrap();
    let mut writer = SerializedFileWriter::new(std::fs::File::create(path).unwrap(), schema.into(), Default::default()).unwrap();
    let text = |t: &String| ByteArray::from(t.as_str());
    for some in shifts.chunks(shifts.len().div_ceil(groups).max(1)) {
        let mut group = writer.next_row_group().unwrap();
        put::<ByteArrayType>(&mut group, some.iter().map(|s| Some(text(&s.id))).collect(), true);
        put::<BoolType>(&mut group, some.iter().map(|s| s.night).collect(), false);
        put::<Int32Type>(&mut group, some.iter().map(|s| s.stops).collect(), false);
        put::<Int64Type>(&mut group, some.iter().map(|s| Some(s.meters)).collect(), true);
        put::<Int32Type>(&mut group, some.iter().map(|s| s.day).collect(), false);
        put::<Int64Type>(&mut group, some.iter().map(|s| s.began).collect(), false);
        put::<Int64Type>(&mut group, some.iter().map(|s| Some(s.ended)).collect(), true);
        put::<FloatType>(&mut group, some.iter().map(|s| s.tension).collect(), false);
        put::<DoubleType>(&mut group, some.iter().map(|s| s.humidity).collect(), false);
        put::<Int32Type>(&mut group, some.iter().map(|s| s.tiny).collect(), false);
        put::<ByteArrayType>(&mut group, some.iter().map(|s| s.note.as_ref().map(text)).collect(), false);
        group.close().unwrap();
    }
    writer.close().unwrap();
}

fn at<'t>(tiny: &Tiny, name: &str) -> Table<'t> {
    Table::new(name, name, Origin::File(tiny.path(name))).unwrap()
}

/// All cells as texts, by column.
fn by_row(table: &Table<'_>) -> Vec<Vec<String>> {
    let mut opened = table.open().unwrap();
    let mut columns = vec![Vec::new(); opened.columns.len()];
    let mut row = Row::default();
    while opened.rows.next(&mut row).unwrap() {
        columns.iter_mut().enumerate().for_each(|(i, c)| c.push(String::from_utf8(row.cell(i).to_vec()).unwrap()));
    }
    columns
}

fn by_column(table: &Table<'_>) -> Vec<Vec<String>> {
    let opened = table.by_column().unwrap().unwrap();
    let texts = |column| {
        let mut cells = Vec::new();
        let mut take = |value: Value<'_>| {
            cells.push(match value {
                Value::Missing => String::new(),
                Value::Double(v) => format!("{v:?}"),
                Value::Integer(v) => v.to_string(),
                Value::Text(text) => String::from_utf8(text.to_vec()).unwrap(),
            });
            Ok::<_, TableError>(())
        };
        opened.each(column, &mut take).unwrap();
        cells
    };
    (0..opened.columns.len()).map(texts).collect()
}

prop_compose! {
    fn any_shift()(
        id in "\\PC{0,6}", night: Option<bool>, stops: Option<i32>, meters: i64, day in prop::option::of(-800_000i32..3_000_000),
        began in prop::option::of(prop_oneof![any::<i64>(), 0i64..2_000_000_000_000_000]), ended in -1_000_000_000_000i64..4_000_000_000_000,
        tension: Option<f32>, humidity: Option<f64>, tiny in prop::option::of(-128i32..128), note in prop::option::of("[a-c,\"\n ]{0,3}"),
    ) -> Shift {
        Shift { id, night, stops, meters, day, began, ended, tension, humidity, tiny, note }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn cells_are_the_same_either_way(shifts in prop::collection::vec(any_shift(), 0..40), groups in 1..4usize) {
        let tiny = Tiny::new();
        write(&tiny.path("t.parquet"), &shifts, groups);
        let table = at(&tiny, "t.parquet");
        let (rows, columns) = (by_row(&table), by_column(&table));
        prop_assert_eq!(columns, rows);
        prop_assert_eq!(table.by_column().unwrap().unwrap().rows, shifts.len() as u64);
    }
}

/// Many rows, so that several batches and row groups are read; figures as those of the same table as CSV.
#[test]
fn a_profile_by_column_is_that_of_the_same_rows() {
    let tiny = Tiny::new();
    let shifts: Vec<Shift> = (0..70_000i64)
        .map(|i| Shift {
            id: format!("S{i}"),
            night: (i % 5 > 0).then_some(i % 2 == 0),
            stops: (i % 7 > 0).then_some((i * i % 97) as i32),
            meters: if i % 1000 == 0 { i64::MAX - i % 3 } else { i % 500 },
            day: Some((i % 400) as i32 + 20_000),
            began: (i % 11 > 0).then_some(i * 1_000_000),
            ended: i % 300,
            tension: (i % 13 > 0).then_some((i % 40) as f32 / 8.0),
            humidity: match i % 9 {
                0 => None,
                1 => Some(f64::NAN),
                _ => Some((i * 7919 % 60_000) as f64 / 64.0),
            },
            tiny: Some((i % 100) as i32),
            note: (i % 3 > 0).then(|| ["wool", "silk, raw", "\"flax\""][(i / 3 % 3) as usize].to_string()),
        })
        .collect();
    write(&tiny.path("t.parquet"), &shifts, 3);
    let table = at(&tiny, "t.parquet");
    let columns = by_row(&table);
    assert_eq!(by_column(&table), columns);
    let names = table.open().unwrap().columns;
    let mut csv = csv::Writer::from_path(tiny.path("t.csv")).unwrap();
    csv.write_record(&names).unwrap();
    (0..shifts.len()).for_each(|i| csv.write_record(columns.iter().map(|c| &c[i])).unwrap());
    csv.flush().unwrap();
    let options = ProfileOptions { frequent: 6, ..ProfileOptions::default() };
    let of = |name: &str| profile(&at(&tiny, name), None, &options, tiny.root()).unwrap();
    let (parquet, csv) = (of("t.parquet"), of("t.csv"));
    assert_eq!(parquet.rows, csv.rows);
    for (a, b) in parquet.columns.iter().zip(&csv.columns) {
        assert_eq!(a, b);
    }
    assert!(parquet.columns.iter().any(|c| c.distinct == 70_000), "so many that texts are known by their hash");
    // With a target rows are needed: the same figures again.
    let related = ProfileOptions { target: Some("humidity".into()), frequent: 6, ..ProfileOptions::default() };
    let by_rows = profile(&table, None, &related, tiny.root()).unwrap();
    for (a, b) in by_rows.columns.iter().zip(&parquet.columns) {
        assert_eq!((&a.name, a.distinct, &a.numbers, &a.frequent), (&b.name, b.distinct, &b.numbers, &b.frequent));
    }
}

/// A cell of each kind as the text that it is, and nothing where there is nothing, over the ends of batches and groups.
#[test]
fn cells_are_what_was_written() {
    let tiny = Tiny::new();
    let some = |i: i64| Shift {
        id: format!("S{i}"),
        night: Some(i % 2 == 0),
        stops: Some(-3),
        meters: i64::MIN,
        day: Some(20_000),
        began: Some(1_700_000_000_123_456),
        ended: -1,
        tension: Some(0.1),
        humidity: Some(1e300),
        tiny: Some(-128),
        note: Some("twill, \"fine\"".into()),
    };
    let none = |i: i64| Shift {
        night: None,
        stops: None,
        day: None,
        began: None,
        tension: None,
        humidity: None,
        tiny: None,
        note: None,
        ..some(i)
    };
    let shifts: Vec<Shift> = (0..3_000).map(|i| if i % 3 == 1 { none(i) } else { some(i) }).collect();
    write(&tiny.path("t.parquet"), &shifts, 2);
    let table = at(&tiny, "t.parquet");
    let mut opened = table.open().unwrap();
    let mut row = Row::default();
    for i in 0..3_000usize {
        assert!(opened.rows.next(&mut row).unwrap());
        let cells: Vec<String> = (0..row.len()).map(|at| String::from_utf8(row.cell(at).to_vec()).unwrap()).collect();
        let (id, least, ended) = (format!("S{i}"), i64::MIN.to_string(), "1969-12-31T23:59:59.999".to_string());
        let expected = match i % 3 {
            1 => vec![id, "".into(), "".into(), least, "".into(), "".into(), ended, "".into(), "".into(), "".into(), "".into()],
            _ => {
                let night = (i % 2 == 0).to_string();
                let began = "2023-11-14T22:13:20.123456Z".to_string();
                let note = "twill, \"fine\"".to_string();
                let rest = ["0.1".to_string(), "1e300".into(), "-128".into(), note];
                [vec![id, night, "-3".into(), least, "2024-10-04".into(), began, ended], rest.to_vec()].concat()
            }
        };
        assert_eq!((cells, row.line), (expected, i as u64 + 1));
    }
    assert!(!opened.rows.next(&mut row).unwrap());
}

#[test]
fn what_is_no_plain_column_is_read_row_by_row() {
    let tiny = Tiny::new();
    for (name, column) in [
        ("list", "REPEATED INT32 stops;"),
        ("group", "OPTIONAL group shed { REQUIRED INT32 number; }"),
        ("decimal", "REQUIRED INT32 price (DECIMAL(9,2));"),
        ("unsigned", "REQUIRED INT32 count (INTEGER(32,false));"),
        ("bytes", "REQUIRED BYTE_ARRAY raw;"),
        ("old", "REQUIRED INT96 at;"),
    ] {
        let schema = parquet::schema::parser::parse_message_type(&format!("message t {{ {column} }}")).unwrap();
        let path = format!("{name}.parquet");
        let file = std::fs::File::create(tiny.path(&path)).unwrap();
        SerializedFileWriter::new(file, schema.into(), Default::default()).unwrap().close().unwrap();
        assert!(at(&tiny, &path).by_column().unwrap().is_none(), "{name}");
    }
    tiny.write("t.csv", "a\n1\n");
    assert!(at(&tiny, "t.csv").by_column().unwrap().is_none());
}

/// A file that was cut off or changed is an error, or says something else; nothing brings the reader down.
#[test]
fn damage_is_an_error() {
    let tiny = Tiny::new();
    let shift = |i: i64| Shift {
        id: format!("S{i}"),
        night: None,
        stops: Some(i as i32),
        meters: i,
        day: None,
        began: None,
        ended: i,
        tension: Some(i as f32),
        humidity: Some(i as f64),
        tiny: None,
        note: None,
    };
    write(&tiny.path("t.parquet"), &(0..50).map(shift).collect::<Vec<_>>(), 2);
    let whole = std::fs::read(tiny.path("t.parquet")).unwrap();
    let mut errors = 0;
    for at_byte in (0..whole.len()).step_by(7) {
        let mut bytes = whole.clone();
        bytes[at_byte] ^= 0x5a;
        tiny.write("d.parquet", &bytes);
        let table = at(&tiny, "d.parquet");
        let looked = table.by_column().and_then(|opened| {
            let Some(opened) = opened else { return Ok(()) };
            (0..opened.columns.len()).try_for_each(|c| opened.each(c, &mut |_| Ok(())))
        });
        errors += usize::from(looked.is_err());
    }
    assert!(errors > 10, "{errors}");
    tiny.write("d.parquet", &whole[..whole.len() / 2]);
    assert!(at(&tiny, "d.parquet").by_column().is_err());
}
