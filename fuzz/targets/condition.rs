//! The conditions of `--where`, of gates and of stop rules: any text is taken or refused, never worse.
#![no_main]

use libfuzzer_sys::fuzz_target;
use textum_core::expr;
use textum_core::table::{Row, filter};

fuzz_target!(|text: &str| {
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
    let _ = expr::parse(text).map(|rule| rule.names().len());
});
