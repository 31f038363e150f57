//! The conditions of `--where`, of gates and of stop rules: any text is taken or refused, never worse.

use textum_core::expr;
use textum_core::table::{Origin, Row, Table, examine, filter};

/// The target.
pub fn target(text: &str) {
    let columns: Vec<String> = ["a", "b", "loom", "x y"].map(String::from).to_vec();
    if let Ok(condition) = filter::parse(text) {
        let condition = condition.with_words_as_texts(&|name| columns.iter().any(|c| c == name));
        if let Ok(condition) = condition.for_columns(&columns) {
            let mut row = Row::default();
            for cells in [["1", "", "L-07", "x"], ["-0.5e3", "nan", "", "2026-11-26"]] {
                row.clear();
                cells.iter().for_each(|cell| row.push(cell.as_bytes()));
                let first = condition.holds(&row);
                assert_eq!(condition.holds(&row), first);
            }
        }
    }
    // A rule holds or it does not, and breaks no more rows than there are.
    if let Ok(rule) = examine::parse(text)
        && rule.tables().iter().all(|table| *table == examine::AGAINST)
    {
        let folder = tempfile::tempdir_in("/dev/shm").or_else(|_| tempfile::tempdir()).unwrap();
        let path = folder.path().join("t.csv");
        std::fs::write(&path, "a,b,loom,x y\n1,,L-07,x\n-0.5e3,nan,,2026-11-26\n1,,L-07,x\n").unwrap();
        let table = Table::new("t.csv", "t.csv", Origin::File(path)).unwrap();
        let others = [(examine::AGAINST.to_string(), table.clone())].into();
        let what = examine::Examining { table: &table, others: &others, examples: 2, scratch: folder.path() };
        if let Ok(found) = examine::examine(&what, &[rule]) {
            assert!(found.rows == 3 && found.found.len() == 1 && found.found[0].breaking <= 16);
        }
    }
    let _ = expr::parse(text).map(|rule| rule.names().len());
}
