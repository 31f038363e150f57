//! The same table in whatever encoding, packing, dialect and number of files; what is none of it is an error.

use std::io::Write;

use proptest::prelude::*;
use textum_table::{Delimiter, Dialect, Origin, Quote, Row, Table, TableError, TableFormat, encoding_of, looks_like_array};
use textum_testkit::Tiny;

type Grid = (Vec<String>, Vec<Vec<String>>);

fn read(name: &str, bytes: &[u8], dialect: &Dialect) -> Result<Grid, TableError> {
    let tiny = Tiny::new();
    tiny.write(name, bytes);
    let table = Table::with(name, name, Origin::File(tiny.path(name)), dialect)?;
    let mut opened = table.open()?;
    let (mut row, mut rows) = (Row::default(), Vec::new());
    while opened.rows.next(&mut row)? {
        rows.push((0..row.len()).map(|at| String::from_utf8_lossy(row.cell(at)).into_owned()).collect());
    }
    assert_eq!(table.count_rows()?, rows.len() as u64, "{name}: as many are counted as are read");
    Ok((opened.columns, rows))
}

fn wide(text: &str, order: fn(u16) -> [u8; 2]) -> Vec<u8> {
    std::iter::once(0xFEFF).chain(text.encode_utf16()).flat_map(order).collect()
}

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    out.write_all(bytes).unwrap();
    out.finish().unwrap()
}

fn cell() -> impl Strategy<Value = String> {
    prop_oneof![3 => "[a-zäöüß]{1,8}", 1 => "[0-9]{1,4}", 1 => Just("a,b".to_string()), 1 => Just("two\nlines".to_string())]
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]
    #[test]
    fn a_text_is_the_same_in_every_encoding(rows in prop::collection::vec((cell(), cell()), 1..20), packed in any::<bool>()) {
        let mut text = csv::Writer::from_writer(Vec::new());
        text.write_record(["größe", "tuch"]).unwrap();
        rows.iter().for_each(|(a, b)| text.write_record([a, b]).unwrap());
        let text = String::from_utf8(text.into_inner().unwrap()).unwrap();
        let single: Vec<u8> = text.chars().map(|c| c as u32 as u8).collect();
        let plain = read("t.csv", text.as_bytes(), &Dialect::default()).unwrap();
        prop_assert_eq!(plain.1.len(), rows.len());
        let said = |name: &str| Dialect { encoding: encoding_of(name), ..Dialect::default() };
        for (bytes, dialect) in [
            (format!("\u{feff}{text}").into_bytes(), Dialect::default()),
            (wide(&text, u16::to_le_bytes), Dialect::default()),
            (wide(&text, u16::to_be_bytes), Dialect::default()),
            (wide(&text, u16::to_le_bytes)[2..].to_vec(), said("utf-16le")),
            (single.clone(), said("latin-1")),
            (single, said("iso-8859-15")),
        ] {
            let (name, bytes) = if packed { ("t.csv.gz", gzip(&bytes)) } else { ("t.csv", bytes) };
            prop_assert_eq!(&read(name, &bytes, &dialect).unwrap(), &plain);
        }
    }

    /// An array of objects is what the same objects are line by line, however it is laid out.
    #[test]
    fn an_array_is_what_its_elements_are(rows in prop::collection::vec(("[a-z\"\\\\,\\[\\]{}é\n]{0,8}", -9i64..9, prop::option::of(any::<bool>())), 0..12), pretty in any::<bool>()) {
        let objects: Vec<serde_json::Value> = rows.iter().map(|(a, b, c)| serde_json::json!({"a": a, "b": [b, {"c": b}], "c": c, "d": b})).collect();
        let lines: String = objects.iter().map(|o| format!("{o}\n")).collect();
        let array = if pretty { serde_json::to_string_pretty(&objects).unwrap() } else { serde_json::to_string(&objects).unwrap() };
        // Blanks between do not count, but within cells of several values they are kept as they stand.
        let blank = |grid: Grid| (grid.0, grid.1.into_iter().map(|r| r.into_iter().map(|c| c.replace(' ', "")).collect::<Vec<_>>()).collect::<Vec<_>>());
        let expected = blank(read("t.jsonl", lines.as_bytes(), &Dialect::default()).unwrap());
        prop_assert_eq!(blank(read("t.json", array.as_bytes(), &Dialect::default()).unwrap()), expected);
        prop_assert_eq!(looks_like_array(array.as_bytes()), !objects.is_empty());
    }

    /// No bytes bring a reader down, whatever is said of them; what is read is counted.
    #[test]
    fn any_bytes_are_a_table_or_an_error(bytes in prop::collection::vec(prop::sample::select(b"ab1,;\"'\n\r \t{}[]:\xFF\xFE\xE9\\0".to_vec()), 0..60), which in 0usize..4, blanks in any::<bool>(), quote in prop::sample::select(vec![None, Some(Quote::Nothing), Some(Quote::Byte(b'\''))])) {
        let name = ["t.csv", "t.tsv", "t.jsonl", "t.json"][which];
        let dialect = Dialect { delimiter: blanks.then_some(Delimiter::Blanks), quote, null: vec!["1".into()], ..Dialect::default() };
        if let Ok((columns, rows)) = read(name, &bytes, &dialect) {
            prop_assert!(rows.is_empty() || !columns.is_empty());
            prop_assert!(rows.iter().flatten().all(|cell| cell != "1"), "it stands for nothing");
        }
    }
}

#[test]
fn what_is_no_array_of_objects_says_so() {
    for (text, what) in [
        ("{\"a\": 1}", "does not begin with `[`"),
        ("[{\"a\": 1}", "the array has no end"),
        ("[{\"a\": 1},]", "nothing follows the last comma"),
        ("[{\"a\": 1}] [", "something follows the end"),
        ("", "it is empty"),
        ("[1, 2]", "line 1"),
        ("[{\"a\": 1}, {\"a\" 2}]", "line 2"),
    ] {
        let error = read("t.json", text.as_bytes(), &Dialect::default()).unwrap_err();
        assert!(matches!(&error, TableError::Malformed { .. }) && error.to_string().contains(what), "{text}: {error}");
    }
    assert_eq!(read("t.json", b" [ ] ", &Dialect::default()).unwrap(), (vec![], vec![]));
}

#[test]
fn a_format_that_is_said_holds_before_the_name() {
    let csv = Dialect { format: Some(TableFormat::Csv), ..Dialect::default() };
    assert_eq!(read("looms.txt", b"a,b\nx,y\n", &csv).unwrap().1, [["x", "y"]]);
    assert_eq!(read("looms.parquet", b"a,b\nx,y\n", &csv).unwrap().0, ["a", "b"]);
    let lines = Dialect { format: Some(TableFormat::JsonLines), ..Dialect::default() };
    assert_eq!(read("looms.log.gz", &gzip(b"{\"a\":\"x\"}\n"), &lines).unwrap().1, [["x"]]);
    let error = read("looms.txt", b"a,b\n", &Dialect::default()).unwrap_err();
    assert!(matches!(error, TableError::NoTable { .. }), "{error}");
    // As a document of its own a dialect is what it was.
    let said = Dialect {
        delimiter: Some(Delimiter::Byte(b'|')),
        quote: Some(Quote::Nothing),
        encoding: encoding_of("latin-1"),
        null: vec!["-".into()],
        ..csv
    };
    let text = serde_json::to_string(&said).unwrap();
    assert_eq!(serde_json::from_str::<Dialect>(&text).unwrap(), said);
    assert!(serde_json::from_str::<Dialect>(&text.replace("windows-1252", "no-such")).is_err());
}
