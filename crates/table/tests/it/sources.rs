//! Tables from anywhere: bytes that come in odd pieces, that end in an error, or of which there is no room for a copy.

use std::io::{self, Read};
use std::path::PathBuf;
use std::sync::Arc;

use textum_table::compare::{CompareOptions, compare};
use textum_table::{Origin, Row, Source, SourceError, Table, TableError};

#[derive(Debug, thiserror::Error)]
#[error("the loom at {0} does not answer")]
struct Silent(usize);

/// Bytes in memory, given out so many at a time; after some an error, if that is said.
#[derive(Clone)]
struct Pieces {
    bytes: Vec<u8>,
    piece: usize,
    fails_at: Option<usize>,
    scratch: PathBuf,
    opens: bool,
}

struct Given<'p> {
    of: &'p Pieces,
    at: usize,
    interrupted: bool,
}

impl Read for Given<'_> {
    fn read(&mut self, out: &mut [u8]) -> io::Result<usize> {
        // As a system call may be, at any time.
        self.interrupted = !self.interrupted;
        if self.interrupted {
            return Err(io::ErrorKind::Interrupted.into());
        }
        let end = self.of.fails_at.unwrap_or(usize::MAX).min(self.of.bytes.len());
        if self.at >= end && self.of.fails_at.is_some() {
            return Err(io::Error::other(Silent(self.at)));
        }
        let length = self.of.piece.min(out.len()).min(end - self.at);
        out[..length].copy_from_slice(&self.of.bytes[self.at..self.at + length]);
        self.at += length;
        Ok(length)
    }
}

impl Source for Pieces {
    fn size(&self) -> u64 {
        self.bytes.len() as u64
    }

    fn stream(&self) -> Result<Box<dyn Read + Send + '_>, SourceError> {
        if !self.opens {
            return Err(Box::new(Silent(0)));
        }
        Ok(Box::new(Given { of: self, at: 0, interrupted: false }))
    }

    fn scratch(&self) -> PathBuf {
        self.scratch.clone()
    }
}

fn table<'s>(name: &str, source: &Pieces) -> Table<'s> {
    Table::new(name, name, Origin::Source(Arc::new(source.clone()))).unwrap()
}

fn rows(table: &Table<'_>) -> Result<Vec<Vec<String>>, TableError> {
    let mut opened = table.open()?;
    let width = opened.columns.len();
    let mut found = vec![opened.columns.clone()];
    let mut row = Row::default();
    while opened.rows.next(&mut row)? {
        found.push((0..width).map(|i| String::from_utf8_lossy(row.cell(i)).into_owned()).collect());
    }
    Ok(found)
}

fn csv() -> String {
    (0..300).fold("id,shed,note\n".to_string(), |t, i| t + &format!("{i},{},\"twill, {i}\"\n", ["A", "B"][i % 2]))
}

/// The same table in every format, with the bytes of each.
fn every_format() -> Vec<(&'static str, Vec<u8>)> {
    let text = csv();
    let json = (0..300)
        .fold(String::new(), |t, i| t + &format!("{{\"id\":{i},\"shed\":\"{}\",\"note\":\"twill, {i}\"}}\n", ["A", "B"][i % 2]));
    let gzip = {
        let mut encoder = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        io::Write::write_all(&mut encoder, text.as_bytes()).unwrap();
        encoder.finish().unwrap()
    };
    let parquet = {
        use parquet::data_type::{ByteArray, ByteArrayType, Int64Type};
        let schema = "message t { REQUIRED INT64 id; REQUIRED BYTE_ARRAY shed (UTF8); REQUIRED BYTE_ARRAY note (UTF8); }";
        let schema = parquet::schema::parser::parse_message_type(schema).unwrap();
        let mut writer = parquet::file::writer::SerializedFileWriter::new(Vec::new(), schema.into(), Default::default()).unwrap();
        let mut group = writer.next_row_group().unwrap();
        let mut column = group.next_column().unwrap().unwrap();
        column.typed::<Int64Type>().write_batch(&(0..300).collect::<Vec<i64>>(), None, None).unwrap();
        column.close().unwrap();
        for of in [|i: usize| ["A", "B"][i % 2].to_string(), |i: usize| format!("twill, {i}")] {
            let values: Vec<ByteArray> = (0..300).map(|i| of(i).as_str().into()).collect();
            let mut column = group.next_column().unwrap().unwrap();
            column.typed::<ByteArrayType>().write_batch(&values, None, None).unwrap();
            column.close().unwrap();
        }
        group.close().unwrap();
        writer.into_inner().unwrap()
    };
    vec![
        ("t.csv", text.clone().into_bytes()),
        ("t.tsv", text.replace("twill, ", "twill; ").replace(',', "\t").replace("twill; ", "twill, ").into_bytes()),
        ("t.jsonl", json.into_bytes()),
        ("t.csv.gz", gzip),
        ("t.csv.zst", zstd::encode_all(text.as_bytes(), 1).unwrap()),
        ("t.parquet", parquet),
    ]
}

#[test]
fn whatever_pieces_bytes_come_in_the_rows_are_the_same() {
    let folder = tempfile::tempdir().unwrap();
    let whole =
        |bytes: &[u8], piece| Pieces { bytes: bytes.to_vec(), piece, fails_at: None, scratch: folder.path().into(), opens: true };
    let expected = rows(&table("t.csv", &whole(csv().as_bytes(), 1 << 20))).unwrap();
    assert_eq!((expected.len(), expected[300][2].as_str()), (301, "twill, 299"));
    for (name, bytes) in every_format() {
        for piece in [1, 2, 7, 100, 4096, 1 << 20] {
            let table = table(name, &whole(&bytes, piece));
            assert_eq!(rows(&table).unwrap(), expected, "{name} in pieces of {piece}");
            assert_eq!(table.count_rows().unwrap(), 300, "{name} in pieces of {piece}");
        }
        let other = table(name, &whole(&bytes, 33));
        let options = CompareOptions { key: vec!["id".into()], ..CompareOptions::default() };
        let found = compare(&table("t.csv", &whole(csv().as_bytes(), 999)), &other, &options, folder.path()).unwrap();
        assert!(found.is_same(), "{name}: {found:?}");
    }
    assert_eq!(std::fs::read_dir(folder.path()).unwrap().count(), 0, "nothing is left of what was copied");
}

#[test]
fn an_error_of_the_source_is_told_as_what_it_is() {
    let folder = tempfile::tempdir().unwrap();
    for (name, bytes) in every_format() {
        for at in [0, 1, bytes.len() / 3, bytes.len() - 1] {
            let source = Pieces { bytes: bytes.clone(), piece: 50, fails_at: Some(at), scratch: folder.path().into(), opens: true };
            match rows(&table(name, &source)) {
                Err(TableError::Source(e)) => assert!(e.downcast_ref::<Silent>().is_some_and(|s| s.0 == at), "{name} at {at}: {e}"),
                other => panic!("{name} at {at}: {other:?}"),
            }
        }
        let closed = Pieces { bytes, piece: 50, fails_at: None, scratch: folder.path().into(), opens: false };
        assert!(
            matches!(rows(&table(name, &closed)), Err(TableError::Source(e)) if e.to_string() == "the loom at 0 does not answer"),
            "{name}"
        );
    }
}

#[test]
fn bytes_that_end_too_soon_are_the_tables_fault_and_no_room_is_nobodys() {
    let folder = tempfile::tempdir().unwrap();
    for (name, bytes) in every_format().into_iter().filter(|(n, _)| !["t.csv", "t.tsv", "t.jsonl"].contains(n)) {
        let half = Pieces {
            bytes: bytes[..bytes.len() / 2].to_vec(),
            piece: 64,
            fails_at: None,
            scratch: folder.path().into(),
            opens: true,
        };
        match rows(&table(name, &half)) {
            Err(TableError::Io(_) | TableError::Malformed { .. }) => {}
            other => panic!("{name}: {other:?}"),
        }
        if name == "t.parquet" {
            let nowhere = Pieces { bytes, piece: 64, fails_at: None, scratch: folder.path().join("no/such/folder"), opens: true };
            assert!(
                matches!(rows(&table(name, &nowhere)), Err(TableError::NoRoom { folder, .. }) if folder.ends_with("no/such/folder"))
            );
        }
    }
}
