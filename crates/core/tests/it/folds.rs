//! Stages out of `each` against a model of what must be executed; folders of files as tables, in the tree and in the store.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use textum_core::data::{any_table_in_store, any_table_in_tree, as_table, find_data, listed_files, picture_facts, record_datasets};
use textum_core::event::{CancelToken, Silent};
use textum_core::pipeline::exec::{RunOptions, RunOutcome, run};
use textum_core::project::workspace::Project;
use textum_core::record::receipt::{RunStageState, RunState};
use textum_core::table::{Dialect, Row, Table};
use textum_testkit::{Tiny, many};

/// Folds that copy a number, and their list; a fold whose number is 9 fails.
fn manifest(folds: u8) -> String {
    format!(
        r#"[stage.fit]
each = {{ fold = "0..{}" }}
run = "test $(cat in-{{each.fold}}) != 9 && cp in-{{each.fold}} b-{{each.fold}} && echo \"{{{{\\\"m\\\": $(cat in-{{each.fold}})}}}}\" > m-{{each.fold}}.json"
reads = ["in-{{each.fold}}"]
writes = ["b-{{each.fold}}"]
metrics = ["m-{{each.fold}}.json"]

[stage.list]
run = "cat b-* > list"
reads = ["b-{{each.fold}}"]
writes = ["list"]
"#,
        folds - 1
    )
    .replace("{{", "{")
    .replace("}}", "}")
}

#[derive(Clone, Debug)]
enum Change {
    Number(u8, u8),
    Folds(u8),
    Lose(u8),
}

fn change() -> impl Strategy<Value = Change> {
    prop_oneof![
        4 => (0u8..4, 0u8..10).prop_map(|(fold, n)| Change::Number(fold, n)),
        2 => (2u8..5).prop_map(Change::Folds),
        1 => (0u8..4).prop_map(Change::Lose),
    ]
}

fn carried_out(tiny: &Tiny) -> RunOutcome {
    let mut project = Project::open_to_write(tiny.root(), tiny.variables()).unwrap();
    let options = RunOptions { keep_going: true, ..RunOptions::default() };
    run(&mut project, &options, &Silent, &CancelToken::new()).unwrap()
}

proptest! {
    #![proptest_config(ProptestConfig { max_shrink_iters: 30, ..ProptestConfig::with_cases(many("TEXTUM_FOLDS", 10)) })]

    /// What was never done is executed, all else is not; a mean is told of all or of none.
    #[test]
    fn each_fold_is_executed_once_for_what_it_reads(changes in prop::collection::vec(change(), 1..7)) {
        let tiny = Tiny::new();
        let (mut folds, mut numbers) = (3u8, [1u8, 2, 3, 4]);
        let (mut done, mut lists): (BTreeSet<(u8, u8)>, BTreeSet<Vec<u8>>) = Default::default();
        for change in [Change::Folds(3)].into_iter().chain(changes) {
            match change {
                Change::Number(fold, number) => numbers[fold as usize] = number,
                Change::Folds(n) => folds = n,
                Change::Lose(fold) => drop(std::fs::remove_file(tiny.path(&format!("b-{fold}")))),
            }
            // What an earlier manifest had written is none of this one's.
            (folds..5).for_each(|fold| drop(std::fs::remove_file(tiny.path(&format!("b-{fold}")))));
            tiny.manifest(&manifest(folds));
            numbers.iter().enumerate().for_each(|(fold, n)| tiny.write(&format!("in-{fold}"), n.to_string()));
            let outcome = carried_out(&tiny);
            let states: BTreeMap<&str, RunStageState> = outcome.stages.iter().map(|s| (s.stage.as_str(), s.state)).collect();
            prop_assert_eq!(states.len(), folds as usize + 1);
            let now: Vec<u8> = numbers[..folds as usize].to_vec();
            for (fold, number) in now.iter().enumerate() {
                let state = states[format!("fit:{fold}").as_str()];
                match *number {
                    9 => prop_assert_eq!(state, RunStageState::Failed),
                    n if done.insert((fold as u8, n)) => prop_assert_eq!(state, RunStageState::Ran, "fold {} with {}", fold, n),
                    _ => prop_assert!(matches!(state, RunStageState::Reused | RunStageState::UpToDate), "{:?}", state),
                }
            }
            let metric = |name: &str| outcome.metrics.get(name).map(|m| m.0);
            if now.contains(&9) {
                prop_assert_eq!((states["list"], outcome.state), (RunStageState::Skipped, RunState::Failed));
                prop_assert!(metric("m").is_none() && metric("m.each.spread").is_none());
                let good = now.iter().enumerate().find(|(_, n)| **n != 9);
                if let Some((fold, number)) = good {
                    prop_assert_eq!(metric(&format!("fit:{fold}.m")), Some(f64::from(*number)));
                }
                continue;
            }
            let ran = states["list"] == RunStageState::Ran;
            prop_assert_eq!(ran, lists.insert(now.clone()), "{:?}", &now);
            prop_assert_eq!(tiny.read("list"), now.iter().map(ToString::to_string).collect::<String>());
            let n = f64::from(folds);
            let mean = now.iter().copied().map(f64::from).sum::<f64>() / n;
            let spread = (now.iter().map(|v| (f64::from(*v) - mean).powi(2)).sum::<f64>() / (n - 1.0)).sqrt();
            prop_assert!((metric("m").unwrap() - mean).abs() < 1e-12 && (metric("m.each.spread").unwrap() - spread).abs() < 1e-12);
            prop_assert!(metric("m.each.low").unwrap() <= mean && mean <= metric("m.each.high").unwrap());
            // Nothing is left to do.
            let again = carried_out(&tiny);
            prop_assert!(!again.recorded && again.stages.iter().all(|s| s.state == RunStageState::UpToDate));
            prop_assert_eq!(again.metrics, outcome.metrics);
        }
    }
}

fn rows(table: &Table<'_>) -> (Vec<String>, Vec<Vec<String>>) {
    let mut opened = table.open().unwrap();
    let (mut row, mut all) = (Row::default(), Vec::new());
    while opened.rows.next(&mut row).unwrap() {
        all.push((0..row.len()).map(|i| String::from_utf8_lossy(row.cell(i)).into_owned()).collect());
    }
    (opened.columns, all)
}

/// The smallest picture that there is: a grey dot, as GIF.
const DOT: &[u8] =
    b"GIF89a\x01\x00\x01\x00\x80\x00\x00\x80\x80\x80\x00\x00\x00,\x00\x00\x00\x00\x01\x00\x01\x00\x00\x02\x02D\x01\x00;";

#[test]
fn a_folder_is_the_same_table_in_the_tree_and_in_the_store() {
    let tiny = Tiny::with("[data.cloth]\npath = \"cloth\"\n");
    tiny.write("cloth/top.txt", "a note");
    tiny.write("cloth/warp/a b.gif", DOT);
    tiny.write("cloth/warp/copy.gif", DOT);
    tiny.write("cloth/deep/weft/cut.gif", &DOT[..20]);
    let mut project = Project::open_to_write(tiny.root(), tiny.variables()).unwrap();
    record_datasets(&mut project, &[], &Default::default(), None).unwrap();
    let never = || false;
    let in_tree = any_table_in_tree(tiny.root(), "cloth", &Dialect::default(), &never).unwrap();
    let stored = find_data(&project, "cloth@1", tiny.root()).unwrap();
    let in_store = any_table_in_store(&project.store, "cloth@1", "cloth", &stored.content, &Dialect::default(), &never).unwrap();
    let (columns, all) = rows(&in_tree);
    assert_eq!(columns, ["file", "class", "bytes", "content", "format", "width", "height", "mode", "likeness", "fault"]);
    assert_eq!((columns, all.clone()), rows(&in_store));
    let of = |file: &str| all.iter().find(|r| r[0] == file).unwrap().clone();
    assert_eq!(of("top.txt")[1..3], ["", "6"]);
    assert_eq!(of("top.txt")[4..], ["", "", "", "", "", ""]);
    assert_eq!((of("warp/a b.gif")[1].as_str(), of("warp/a b.gif")[4..7].join(" ")), ("warp", "gif 1 1".to_string()));
    let cut = of("deep/weft/cut.gif");
    assert!(cut[1] == "weft" && cut[8].is_empty() && !cut[9].is_empty(), "{cut:?}");
    let facts = picture_facts(&listed_files(&project, &stored).unwrap()).unwrap();
    assert_eq!((facts.pictures, facts.others, facts.broken.len()), (3, 1, 1));
    assert_eq!(facts.same, [["warp/a b.gif", "warp/copy.gif"]]);
    assert_eq!(facts.blank, ["warp/a b.gif", "warp/copy.gif"], "one dot shows nothing");
    // Whoever asks to stop is heard, and a folder of documents is one of files.
    assert!(any_table_in_tree(tiny.root(), "cloth", &Dialect::default(), &|| true).is_err());
    tiny.write("labels/one.json", "{\"shed\": \"A\"}");
    let labels = any_table_in_tree(tiny.root(), "labels", &Dialect::default(), &never).unwrap();
    assert_eq!(rows(&labels).0, ["file", "class", "bytes", "content"]);
    let none = as_table("empty", &[]);
    assert_eq!((rows(&none).1.len(), none.count_rows().unwrap()), (0, 0));
}
