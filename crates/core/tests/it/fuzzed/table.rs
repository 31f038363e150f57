//! Tables of every format, packed or not: as many rows are read as are counted, a profile and a comparison with
//! itself come to an end, and a table does not differ from itself.

use textum_core::table::compare::{CompareOptions, compare};
use textum_core::table::profile::{ProfileOptions, profile};
use textum_core::table::{Delimiter, Dialect, Origin, Quote, Row, Table};

const NAMES: [&str; 9] = ["t.csv", "t.tsv", "t.jsonl", "t.parquet", "t.csv.gz", "t.csv.zst", "t.jsonl.gz", "t.csv", "t.json"];

/// The target.
pub fn target(bytes: &[u8]) {
    let Some((mode, bytes)) = bytes.split_first() else { return };
    let folder = tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()).unwrap();
    let name = NAMES[usize::from(*mode & 15) % NAMES.len()];
    let dialect = Dialect {
        delimiter: [None, Some(Delimiter::Blanks), Some(Delimiter::Byte(b';')), Some(Delimiter::Byte(b'x'))]
            [usize::from(mode >> 4 & 3)],
        quote: (mode & 128 != 0).then_some(Quote::Nothing),
        ..Dialect::default()
    };
    let path = folder.path().join(name);
    std::fs::write(&path, bytes).unwrap();
    let table = Table::with(name, name, Origin::File(path), &dialect).unwrap();
    let Ok(mut opened) = table.open() else { return };
    let (mut row, mut rows) = (Row::default(), 0u64);
    loop {
        match opened.rows.next(&mut row) {
            Ok(true) => rows += 1,
            Ok(false) => break,
            Err(_) => return,
        }
    }
    drop(opened);
    assert_eq!(table.count_rows().unwrap(), rows, "as many are counted as are read");
    let options = ProfileOptions { pairs: mode & 64 != 0, duplicates: true, frequent: 3, ..ProfileOptions::default() };
    let _ = profile(&table, Some(&table), &options, folder.path());
    let options = CompareOptions { examples: 2, memory: (mode & 64 != 0).then_some(0), ..CompareOptions::default() };
    if let Ok(found) = compare(&table, &table, &options, folder.path()) {
        assert_eq!((found.added, found.removed, found.changed), (0, 0, 0), "a table is what it is");
    }
}
