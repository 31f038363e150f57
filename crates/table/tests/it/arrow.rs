//! Arrow files and streams: every type as text, and bytes that somebody else has changed.

use std::path::Path;
use std::sync::Arc;

use arrow_array::builder::{ListBuilder, StringBuilder};
use arrow_array::types::{Float16Type, Int8Type, Int32Type};
use arrow_array::*;
use arrow_ipc::CompressionType;
use arrow_ipc::writer::{FileWriter, IpcWriteOptions, StreamWriter};
use arrow_schema::{DataType, Field, Schema, TimeUnit};
use proptest::prelude::*;
use textum_table::{Origin, Row, Table, TableError};

fn shifts() -> RecordBatch {
    let mut teams = ListBuilder::new(StringBuilder::new());
    teams.append_value([Some("a"), None]);
    teams.append_null();
    let half = Float16Array::from_iter([Some(1.5f32), None].map(|v| v.map(<Float16Type as ArrowPrimitiveType>::Native::from_f32)));
    let columns: Vec<(&str, ArrayRef)> = vec![
        ("id", Arc::new(Int32Array::from(vec![Some(1), Some(-2)]))),
        ("big", Arc::new(UInt64Array::from(vec![Some(u64::MAX), None]))),
        ("half", Arc::new(half)),
        ("rate", Arc::new(Float64Array::from(vec![0.1, f64::NAN]))),
        ("on", Arc::new(BooleanArray::from(vec![Some(true), None]))),
        ("name", Arc::new(StringViewArray::from(vec![Some("Düse, lang genug für Blick"), None]))),
        ("shed", Arc::new(DictionaryArray::<Int8Type>::from_iter([Some("A"), None]))),
        ("raw", Arc::new(BinaryArray::from_opt_vec(vec![Some(&[1u8, 255][..]), None]))),
        ("day", Arc::new(Date32Array::from(vec![Some(20_000), Some(-1)]))),
        ("day64", Arc::new(Date64Array::from(vec![Some(86_400_000), None]))),
        ("at", Arc::new(TimestampMillisecondArray::from(vec![Some(1_700_000_000_123), Some(-1)]))),
        ("instant", Arc::new(TimestampSecondArray::from(vec![Some(0), None]).with_timezone("UTC"))),
        ("clock", Arc::new(Time64MicrosecondArray::from(vec![Some(3_600_000_001), None]))),
        ("length", Arc::new(DurationSecondArray::from(vec![Some(90), None]))),
        ("price", Arc::new(Decimal128Array::from(vec![Some(-12_345), None]).with_precision_and_scale(9, 2).unwrap())),
        ("teams", Arc::new(teams.finish())),
        ("none", Arc::new(NullArray::new(2))),
    ];
    RecordBatch::try_from_iter_with_nullable(columns.into_iter().map(|(name, array)| (name, array, true))).unwrap()
}

const EXPECTED: [[&str; 17]; 2] = [
    [
        "1",
        "18446744073709551615",
        "1.5",
        "0.1",
        "true",
        "Düse, lang genug für Blick",
        "A",
        "[1, 255]",
        "2024-10-04",
        "1970-01-02",
        "2023-11-14T22:13:20.123",
        "1970-01-01T00:00:00Z",
        "01:00:00.000001",
        "90",
        "-123.45",
        "[\"a\", null]",
        "",
    ],
    ["-2", "", "", "NaN", "", "", "", "", "1969-12-31", "", "1969-12-31T23:59:59.999", "", "", "", "", "", ""],
];

fn written(batches: &[RecordBatch], as_file: bool, packed: Option<CompressionType>) -> Vec<u8> {
    let options = IpcWriteOptions::default().try_with_compression(packed).unwrap();
    let schema = batches[0].schema();
    let mut out = Vec::new();
    if as_file {
        let mut writer = FileWriter::try_new_with_options(&mut out, &schema, options).unwrap();
        batches.iter().for_each(|b| writer.write(b).unwrap());
        writer.finish().unwrap();
    } else {
        let mut writer = StreamWriter::try_new_with_options(&mut out, &schema, options).unwrap();
        batches.iter().for_each(|b| writer.write(b).unwrap());
        writer.finish().unwrap();
    }
    out
}

fn read(path: &Path) -> Result<(Vec<String>, Vec<Vec<String>>), TableError> {
    let name = path.file_name().unwrap().to_str().unwrap();
    let table = Table::new(name, name, Origin::File(path.to_path_buf()))?;
    let mut opened = table.open()?;
    let (mut row, mut rows) = (Row::default(), Vec::new());
    while opened.rows.next(&mut row)? {
        rows.push((0..row.len()).map(|i| String::from_utf8_lossy(row.cell(i)).into_owned()).collect());
    }
    assert_eq!(table.count_rows()?, rows.len() as u64);
    Ok((opened.columns, rows))
}

#[test]
fn every_type_has_its_text_in_files_and_streams_packed_or_not() {
    let folder = tempfile::tempdir().unwrap();
    let batch = shifts();
    for packed in [None, Some(CompressionType::LZ4_FRAME), Some(CompressionType::ZSTD)] {
        for (as_file, name) in [(true, "a.feather"), (false, "a.arrows")] {
            let path = folder.path().join(name);
            std::fs::write(&path, written(&[batch.clone(), batch.slice(1, 1)], as_file, packed)).unwrap();
            let (columns, rows) = read(&path).unwrap();
            assert_eq!(columns, batch.schema().fields().iter().map(|f| f.name().clone()).collect::<Vec<_>>());
            assert_eq!(rows, [EXPECTED[0].to_vec(), EXPECTED[1].to_vec(), EXPECTED[1].to_vec()], "{name} {packed:?}");
        }
    }
}

#[test]
fn what_cannot_be_read_says_why() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("a.feather");
    let told = |bytes: &[u8]| {
        std::fs::write(&path, bytes).unwrap();
        read(&path).unwrap_err().to_string()
    };
    assert!(told(b"FEA1 and so on").contains("Feather of version 1"));
    let whole = written(&[shifts()], true, None);
    assert!(told(&whole[..whole.len() - 7]).contains("ends in the middle"));
    let stream = written(&[shifts()], false, None);
    assert!(told(&stream[..stream.len() / 2]).contains("ends in the middle of a message"));
    let interval = IntervalYearMonthArray::from(vec![1]);
    let batch = RecordBatch::try_from_iter([("gap", Arc::new(interval) as ArrayRef)]).unwrap();
    assert!(told(&written(&[batch], true, None)).contains("the column gap is Interval"));
    // A part that says it is unpacked to more than there can be.
    let numbers = Int32Array::from_iter_values(0..4096);
    let batch = RecordBatch::try_from_iter([("n", Arc::new(numbers) as ArrayRef)]).unwrap();
    let mut packed = written(&[batch], false, Some(CompressionType::ZSTD));
    let size = (4096u64 * 4).to_le_bytes();
    let at = packed.windows(8).rposition(|w| w == size).unwrap();
    packed[at..at + 8].copy_from_slice(&(1u64 << 50).to_le_bytes());
    assert!(told(&packed).contains("more than 4 GiB"));
}

#[test]
fn a_table_without_rows_has_its_columns() {
    let folder = tempfile::tempdir().unwrap();
    let schema = Schema::new(vec![Field::new("at", DataType::Timestamp(TimeUnit::Second, None), true)]);
    let path = folder.path().join("none.arrow");
    std::fs::write(&path, written(&[RecordBatch::new_empty(Arc::new(schema))], true, None)).unwrap();
    assert_eq!(read(&path).unwrap(), (vec!["at".to_string()], Vec::new()));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(textum_testkit::many("TEXTUM_ARROW", 300)))]

    /// Whatever is changed in the bytes: rows or an error, soon.
    #[test]
    fn changed_bytes_give_rows_or_an_error(as_file: bool, packed in 0usize..3, changes in prop::collection::vec((any::<prop::sample::Index>(), any::<u8>()), 1..12), cut: Option<prop::sample::Index>) {
        let folder = tempfile::tempdir().unwrap();
        let packed = [None, Some(CompressionType::LZ4_FRAME), Some(CompressionType::ZSTD)][packed];
        let mut bytes = written(&[shifts()], as_file, packed);
        for (at, byte) in changes {
            let at = at.index(bytes.len());
            bytes[at] = byte;
        }
        if let Some(cut) = cut {
            bytes.truncate(cut.index(bytes.len()));
        }
        let path = folder.path().join("a.arrow");
        std::fs::write(&path, bytes).unwrap();
        if let Ok((columns, rows)) = read(&path) {
            prop_assert!(rows.iter().all(|r| r.len() == columns.len()));
        }
    }
}

#[test]
fn nothing_of_a_dictionary_that_grows_is_lost() {
    let folder = tempfile::tempdir().unwrap();
    let of = |words: &[Option<&str>]| {
        let array: DictionaryArray<Int32Type> = words.iter().copied().collect();
        RecordBatch::try_from_iter_with_nullable([("shed", Arc::new(array) as ArrayRef, true)]).unwrap()
    };
    let path = folder.path().join("d.arrows");
    std::fs::write(&path, written(&[of(&[Some("A"), None]), of(&[Some("B"), Some("A")])], false, None)).unwrap();
    let rows: Vec<String> = read(&path).unwrap().1.concat();
    assert_eq!(rows, ["A", "", "B", "A"]);
}
