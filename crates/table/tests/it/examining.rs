//! Rules on tables against what a plain count of the same finds.

use std::collections::BTreeSet;

use proptest::prelude::*;
use textum_table::examine::{AGAINST, ColumnFault, ExamineError, Examined, Examining, Found, Others, Rule, examine, parse};
use textum_table::{Origin, Table};
use textum_testkit::Tiny;

fn at(tiny: &Tiny, name: &str, text: &str) -> Table<'static> {
    tiny.write(name, text);
    Table::new(name, name, Origin::File(tiny.path(name))).unwrap()
}

fn hold(text: &str, others: &[(&str, &str)], rules: &[&str]) -> Result<Examined, ExamineError> {
    let tiny = Tiny::new();
    let others: Others<'_> =
        others.iter().map(|(name, text)| (name.to_string(), at(&tiny, &format!("{name}.csv"), text))).collect();
    let table = at(&tiny, "t.csv", text);
    let rules: Vec<Rule> = rules.iter().map(|r| parse(r).unwrap()).collect();
    examine(&Examining { table: &table, others: &others, examples: 3, scratch: tiny.root() }, &rules)
}

/// What came of one rule: whether it holds, rows that break it, rows of which it cannot be told.
fn one(text: &str, others: &[(&str, &str)], rule: &str) -> (Option<bool>, u64, u64) {
    let found = hold(text, others, &[rule]).unwrap().found.remove(0);
    (found.holds, found.breaking, found.unknown)
}

const SHIFTS: &str = "id,shed,humidity,began\n1,A,60,2026-03-01\n2,B,61.5,2026-03-02\n3,A,,2026-03-03\n3,C,120,2026-03-04\n";

#[test]
fn each_rule_says_how_many_rows_break_it() {
    let later = "id,shed,humidity,began\n9,D,50,2026-03-03\n4,A,60.0,2026-03-09\n";
    let looms = "shed,manager\nA,x\nB,y\n";
    let others = [(AGAINST, later), ("looms", looms)];
    for (rule, expected) in [
        ("rows between 4 and 10", (Some(true), 0, 0)),
        ("rows above 4", (Some(false), 0, 0)),
        ("id is unique", (Some(false), 1, 0)),
        ("(id, shed) is unique", (Some(true), 0, 0)),
        ("humidity is unique", (Some(true), 0, 1)),
        ("humidity between 0 and 100", (Some(false), 1, 1)),
        ("humidity between 0 and 100 in 60 %", (Some(true), 1, 1)),
        ("humidity between 0 and 100 in 67 %", (Some(false), 1, 1)),
        ("humidity is not missing", (Some(false), 1, 0)),
        ("shed in A, B", (Some(false), 1, 0)),
        ("not (shed in A, B)", (Some(false), 3, 0)),
        ("humidity is integer", (Some(false), 1, 1)),
        ("humidity > 100 or shed != 'C'", (Some(true), 0, 0)),
        ("columns as in against", (Some(true), 0, 0)),
        ("columns are id, shed, humidity", (Some(false), 1, 0)),
        ("columns include id, team", (Some(false), 1, 0)),
        ("mean of humidity between 80 and 81", (Some(true), 0, 0)),
        ("missing of humidity below 30 %", (Some(true), 0, 0)),
        ("distinct of shed = 3", (Some(true), 0, 0)),
        ("maximum of began > 1", (None, 0, 0)),
        ("no row of against", (Some(true), 0, 0)),
        ("no row of against by (shed, humidity)", (Some(false), 1, 1)),
        ("no row of against without (id, began)", (Some(false), 1, 0)),
        ("no row of against without id near 1", (Some(false), 1, 0)),
        ("shed among shed of looms", (Some(false), 1, 0)),
        ("began before against", (Some(false), 2, 0)),
    ] {
        assert_eq!(one(SHIFTS, &others, rule), expected, "{rule}");
    }
}

#[test]
fn the_first_rows_are_named_and_those_that_they_are_like() {
    let others = [("test", "id,shed,humidity,began\n7,C,120.0,2026-03-04\n")];
    let found = hold(SHIFTS, &others, &["id is unique", "no row of test without id", "humidity < 100"]).unwrap().found;
    let told = |found: &Found| {
        let e = &found.examples[0];
        (e.place.line, e.like.as_ref().map(|l| l.line), e.cells[0].clone())
    };
    assert_eq!(told(&found[0]), (5, Some(4), ("id".into(), "3".into())));
    assert_eq!(told(&found[1]), (5, Some(2), ("shed".into(), "C".into())));
    assert_eq!(told(&found[2]), (5, None, ("humidity".into(), "120".into())));
    let types = hold("id,shed\nx,1\n", &[(AGAINST, SHIFTS)], &["columns as in against"]).unwrap().found.remove(0);
    let faults: Vec<String> = types
        .columns
        .iter()
        .map(|f| match f {
            ColumnFault::Absent { column } => format!("-{column}"),
            ColumnFault::Beyond { column } => format!("+{column}"),
            ColumnFault::Type { column, from, to } => format!("{column}:{from}>{to}"),
            ColumnFault::Drift { column, .. } => column.clone(),
        })
        .collect();
    assert_eq!(faults, ["id:integer>text", "shed:text>integer", "-humidity", "-began"]);
}

#[test]
fn what_a_rule_names_must_be_there() {
    for (rule, what) in [
        ("humidty is unique", "did you mean `humidity`"),
        ("humidty > 3", "no column `humidty`"),
        ("mean of weft > 1", "no column `weft`"),
        ("no row of nothing", "`nothing`, which is not there"),
        ("shed among weaver of test", "no column `weaver`"),
        ("no row of other near 1", "too few of the same columns"),
    ] {
        let error = hold(SHIFTS, &[("test", SHIFTS), ("other", "shed\nA\n")], &[rule]).unwrap_err();
        let told = match &error {
            ExamineError::Rule { source, .. } => format!("{error} {}", source.help),
            _ => error.to_string(),
        };
        assert!(told.contains(what), "{rule}: {told}");
    }
}

#[test]
fn drift_is_told_where_it_is_and_not_where_it_is_not() {
    let text = |from: u32, shift: f64| {
        let row = |i: u32| format!("S{i},{},{:.2}\n", ["A", "B"][(i % 2) as usize], f64::from(i * 7919 % 1000) / 10.0 + shift);
        format!("id,shed,humidity\n{}", (from..from + 400).map(row).collect::<String>())
    };
    let (old, moved) = (text(0, 0.0), text(1000, 40.0));
    assert_eq!(one(&text(1000, 0.0), &[(AGAINST, &old)], "drift below 0.25"), (Some(true), 0, 0), "identifiers are left out");
    let found = hold(&moved, &[(AGAINST, &old)], &["drift below 0.25", "drift of shed below 0.1"]).unwrap().found;
    assert!(
        matches!(&found[0].columns[..], [ColumnFault::Drift { column, effect, p }] if column == "humidity" && *effect > 0.25 && *p < 1e-6)
    );
    assert_eq!((found[0].holds, found[1].holds), (Some(false), Some(true)));
}

fn text(rows: &[[u8; 3]]) -> String {
    let line = |r: &[u8; 3]| r.map(|c| if c == 0 { String::new() } else { c.to_string() }).join(",") + "\n";
    format!("a,b,c\n{}", rows.iter().map(line).collect::<String>())
}

fn rows() -> impl Strategy<Value = Vec<[u8; 3]>> {
    prop::collection::vec(prop::array::uniform3(0u8..4), 0..24)
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(96))]
    #[test]
    fn rows_alike_are_those_that_a_plain_search_finds(mine in rows(), theirs in rows()) {
        let (here, there) = (text(&mine), text(&theirs));
        // A line without any cell is no row.
        let is_row = |r: &&[u8; 3]| **r != [0, 0, 0];
        let others = [("o", there.as_str())];
        let mut met = BTreeSet::new();
        let whole = |r: &[u8; 3]| r[0] > 0 && r[1] > 0;
        let again = mine.iter().filter(|r| whole(r) && !met.insert([r[0], r[1]])).count() as u64;
        prop_assert_eq!(one(&here, &others, "(a, b) is unique").1, again);
        for near in 0..3usize {
            let like = |r: &[u8; 3], o: &[u8; 3]| (0..3).filter(|i| r[*i] != o[*i]).count() <= near;
            let count = mine.iter().filter(is_row).filter(|r| theirs.iter().filter(is_row).any(|o| like(r, o))).count() as u64;
            let rule = if near == 0 { "no row of o".to_string() } else { format!("no row of o near {near}") };
            prop_assert_eq!(one(&here, &others, &rule).1, count, "{}", rule);
        }
        let alone = mine.iter().filter(|r| whole(r) && theirs.iter().all(|o| !whole(o) || [o[0], o[1]] != [r[0], r[1]])).count() as u64;
        prop_assert_eq!(one(&here, &others, "(a, b) among (a, b) of o").1, alone);
    }
}
