//! What others may rely on, by the core alone: what a model takes in, how it answers, what is told to whom, and what was made of
//! what, held against a graph that knows.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use proptest::prelude::*;
use textum_base::{Digest, Identity, ProjectPath};
use textum_core::event::{CancelToken, Silent};
use textum_core::inspect::lineage::find_target;
use textum_core::pipeline::exec::{RunOptions, run};
use textum_core::project::workspace::Project;
use textum_core::publish::{
    Filter, SchemaFault, Told, Tries, check_rows, events_after, impact, predict, schema_of, seeds_of, try_to_tell,
};
use textum_core::registry::entry::ENTRY;
use textum_core::registry::{Action, Bundle, BundleFile, Card, ColumnKind, Entry, Kind, Publication, Registry, Schema, Signed};
use textum_core::table::{Origin, Table};
use textum_testkit::{Tiny, many};

fn table_of(tiny: &Tiny, text: &str) -> Table<'static> {
    tiny.write("rows.csv", text);
    Table::new("rows.csv", "rows.csv", Origin::File(tiny.path("rows.csv"))).unwrap()
}

fn faults(schema: &Schema, table: &Table<'_>) -> (Vec<SchemaFault>, u64) {
    let (faults, count, _) = check_rows(schema, table).unwrap();
    (faults, count)
}

#[test]
fn columns_are_what_their_values_are() {
    let tiny = Tiny::new();
    let text = "id,lint,count,wet,day,at,team,gap\n\
        S1,1.5,3,true,2026-11-02,2026-11-02T06:00:00,Weide,\nS2,2,4,false,2026-11-03,2026-11-03T14:00:00,7,NA\n";
    let table = table_of(&tiny, text);
    let (schema, example, rows) = schema_of(&table, Some("team"), 1).unwrap();
    let kinds: Vec<(&str, ColumnKind, bool)> = schema.columns.iter().map(|c| (c.name.as_str(), c.kind, c.missing)).collect();
    let wanted = [
        ("id", ColumnKind::Text, false),
        ("lint", ColumnKind::Number, false),
        ("count", ColumnKind::Integer, false),
        ("wet", ColumnKind::Boolean, false),
        ("day", ColumnKind::Date, false),
        ("at", ColumnKind::Time, false),
        ("gap", ColumnKind::Text, true),
    ];
    assert_eq!(kinds, wanted);
    assert_eq!((rows, schema.target.as_deref()), (1, Some("team")));
    let example = String::from_utf8(example).unwrap();
    assert_eq!(example, "id,lint,count,wet,day,at,gap\nS1,1.5,3,true,2026-11-02,2026-11-02T06:00:00,\n");
    assert_eq!(faults(&schema, &table).1, 0, "the table itself fits");
    // A whole number is a number, a day is a time; not the other way round.
    let ok = "id,lint,count,wet,day,at,gap\nS1,7,3,True,2026-11-02,2026-11-02,x\n";
    assert_eq!(faults(&schema, &table_of(&tiny, ok)).1, 0);
    let bad = "id,lint,count,wet,day,at,gap\nS1,x,3.5,1,yesterday,6,\n";
    let (found, count) = faults(&schema, &table_of(&tiny, bad));
    let columns: Vec<(Option<u64>, &str)> = found.iter().map(|f| (f.line, f.column.as_str())).collect();
    assert_eq!(count, 5);
    assert_eq!(columns, ["lint", "count", "wet", "day", "at"].map(|c| (Some(2), c)));
    // Faults beyond the first are counted, not told.
    let many = format!("id,lint,count,wet,day,at,gap\n{}", "S1,x,y,z,a,b,\n".repeat(1000));
    let (found, count) = faults(&schema, &table_of(&tiny, &many));
    assert_eq!((found.len(), count), (20, 5000));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(many("TEXTUM_SCHEMA_CASES", 60)))]

    /// A table fits what it was taken for; one cell of a numeric column that becomes a word is told, with its line and column.
    #[test]
    fn a_table_fits_its_own_schema_and_a_wrong_cell_is_found(
        rows in proptest::collection::vec((any::<i32>(), -1e6..1e6_f64, "[a-z]{1,6}", proptest::option::of(0..100_u8)), 1..30),
        at in any::<prop::sample::Index>(),
        column in 0..2_usize,
    ) {
        let tiny = Tiny::new();
        let cells: Vec<[String; 4]> = rows
            .iter()
            .map(|(a, b, c, d)| [a.to_string(), format!("{b:?}"), c.clone(), d.map_or(String::new(), |d| d.to_string())])
            .collect();
        let text = |cells: &[[String; 4]]| {
            let lines: Vec<String> = cells.iter().map(|row| row.join(",")).collect();
            format!("count,lint,team,gap\n{}\n", lines.join("\n"))
        };
        let (schema, example, taken) = schema_of(&table_of(&tiny, &text(&cells)), None, 5).unwrap();
        prop_assert_eq!(taken, rows.len().min(5) as u64);
        prop_assert_eq!(String::from_utf8(example).unwrap().lines().count() as u64, taken + 1);
        prop_assert_eq!(faults(&schema, &table_of(&tiny, &text(&cells))).1, 0);
        let line = at.index(rows.len());
        let mut changed = cells.clone();
        changed[line][column] = "broken".to_string();
        let (found, count) = faults(&schema, &table_of(&tiny, &text(&changed)));
        prop_assert_eq!(count, 1);
        prop_assert_eq!(found[0].line, Some(line as u64 + 2));
        prop_assert_eq!(&found[0].column, ["count", "lint"][column]);
    }
}

#[test]
fn a_command_gets_its_rows_and_all_that_it_answers_comes_back() {
    let tiny = Tiny::new();
    let ask = |command: &str, rows: &[u8]| predict(command, tiny.root(), &tiny.variables(), rows, Duration::from_secs(60));
    let rows = "loom\n".repeat(200_000);
    assert_eq!(ask("cat", rows.as_bytes()).unwrap().answers, rows.as_bytes());
    // One that reads nothing, and says much on standard error.
    let found = ask("head -c 3000000 /dev/zero >&2; echo risk", rows.as_bytes()).unwrap();
    assert_eq!(found.answers, b"risk\n");
    assert_eq!(ask("pwd", b"").unwrap().answers, format!("{}\n", tiny.root().canonicalize().unwrap().display()).into_bytes());
    let without = ask("env | grep -c SECRET", b"").unwrap_err().to_string();
    assert!(without.contains("did not predict"), "{without}");
    let said = ask("echo first >&2; echo second >&2; exit 7", b"").unwrap_err().to_string();
    assert!(said.contains("exit status: 7") && said.contains("first / second"), "{said}");
    let said = ask("yes | head -c 70000000", b"").unwrap_err().to_string();
    assert!(said.contains("more than"), "{said}");
}

#[test]
fn telling_is_tried_again_after_growing_pauses_until_it_succeeds_or_is_given_up() {
    let pauses = RefCell::new(Vec::new());
    let wait = |time: Duration| {
        pauses.borrow_mut().push(time.as_secs_f64());
        pauses.borrow().len() < 6
    };
    let failing = |until: u32| {
        let mut calls = 0;
        move || {
            calls += 1;
            if calls < until { Err(format!("no {calls}")) } else { Ok(()) }
        }
    };
    let tries = Tries { most: 4, pause: 0.5 };
    assert_eq!(try_to_tell(tries, failing(1), &wait, |_, _, _| ()), Told::Yes(1));
    assert_eq!(*pauses.borrow(), [0.0; 0]);
    assert_eq!(try_to_tell(tries, failing(3), &wait, |_, _, _| ()), Told::Yes(3));
    assert_eq!(pauses.take(), [0.5, 1.0]);
    let mut seen = Vec::new();
    let told = try_to_tell(tries, failing(9), &wait, |number, _, next| seen.push((number, next.is_some())));
    assert_eq!(told, Told::No("no 4".to_string()));
    assert_eq!(seen, [(1, true), (2, true), (3, true), (4, false)]);
    assert_eq!(pauses.take(), [0.5, 1.0, 2.0]);
    // Somebody asks to end while it waits; and pauses do not grow for ever.
    assert_eq!(try_to_tell(Tries { most: 100, pause: 1.0 }, failing(99), &wait, |_, _, _| ()), Told::Stopped);
    pauses.take();
    let patient = |time: Duration| {
        pauses.borrow_mut().push(time.as_secs_f64());
        true
    };
    try_to_tell(Tries { most: 20, pause: 1.0 }, failing(99), &patient, |_, _, _| ());
    assert_eq!(pauses.borrow().last(), Some(&300.0));
}

fn bundle(text: &str) -> Bundle {
    let (path, digest) = (ProjectPath::new("model.txt").unwrap(), Digest::of(text.as_bytes()));
    let file = BundleFile { path, digest, size: 1, executable: false, header: None };
    Bundle { files: vec![file], ..Bundle::default() }
}

/// A registry with versions, and moves of its alias: some that have no effect.
fn registry(moves: &[(u64, bool)]) -> Registry {
    let mut registry = Registry::default();
    let mut add = |action: Action| {
        let number = registry.entries.len() as u64 + 1;
        let at = format!("2026-11-26T10:00:{:02}Z", number % 60);
        let entry =
            Entry { r#type: ENTRY.into(), number, previous: None, id: number.to_string(), at, by: "ada@loom".into(), action };
        registry.add(Digest::of(&number.to_le_bytes()), entry, Signed::No);
    };
    for version in 1..=3 {
        let bundle = bundle(&version.to_string());
        let (name, section, content) = ("stops".to_string(), "common".to_string(), bundle.content());
        add(Action::Publish(Box::new(Publication { name, section, version, kind: Kind::Model, content, bundle })));
    }
    for (version, is_live) in moves {
        let alias = if *is_live { "live" } else { "next" }.to_string();
        add(Action::Alias { name: "stops".into(), alias, version: Some(*version), only_if: None });
    }
    registry
}

proptest! {
    /// Whoever looks now and then is told the same as who looks once; each move says what was named before.
    #[test]
    fn events_are_the_same_however_often_one_looks(
        moves in proptest::collection::vec((1..6_u64, any::<bool>()), 0..20), cuts in proptest::collection::vec(0..24_u64, 0..6),
    ) {
        let registry = registry(&moves);
        let filter = Filter { name: Some("stops".into()), alias: Some("live".into()) };
        let all = events_after(&registry, 0, &filter, "urn:x");
        let mut position = 0;
        let mut told = Vec::new();
        let end = registry.entries.len() as u64;
        let mut looks: Vec<u64> = cuts.into_iter().filter(|c| *c <= end).chain([end]).collect();
        looks.sort_unstable();
        for look in looks {
            let new = events_after(&registry, position, &filter, "urn:x").into_iter().filter(|e| e.entry <= look);
            told.extend(new);
            position = position.max(look);
        }
        prop_assert_eq!(&told, &all);
        let mut before = serde_json::Value::Null;
        let effective = moves.iter().filter(|(version, live)| *live && *version <= 3);
        for (event, (version, _)) in all.iter().zip(effective.clone()) {
            prop_assert_eq!(&event.cloud["data"]["before"], &before);
            prop_assert_eq!(&event.cloud["data"]["version"], &serde_json::json!(version));
            before = serde_json::json!(version);
        }
        prop_assert_eq!(all.len(), effective.count());
        let everything = events_after(&registry, 0, &Filter::default(), "urn:x");
        prop_assert_eq!(everything.len(), registry.entries.iter().filter(|e| e.invalid.is_none()).count());
    }

    /// A card that was changed is no card, or says the same content.
    #[test]
    fn a_changed_card_is_told(at in any::<prop::sample::Index>(), byte: u8) {
        let registry = registry(&[]);
        let version = registry.models["stops"].version(2).unwrap();
        let card = Card::of(version);
        let text = card.text();
        prop_assert_eq!(Card::read(&text).unwrap().reference, "stops@2");
        let mut changed = text.clone();
        let at = at.index(text.len());
        changed[at] = byte;
        if let Some(read) = Card::read(&changed) {
            prop_assert_eq!(read.bundle.content(), version.publication.content);
            prop_assert_eq!(read.reference, format!("{}@{}", read.name, read.version));
        }
    }
}

/// A pipeline whose graph is known: each stage writes its own name and all that it reads.
fn pipeline(sources: usize, stages: &[BTreeSet<usize>]) -> String {
    let mut text = String::from("[project]\nname = \"graph\"\n");
    for (number, reads) in stages.iter().enumerate() {
        let paths: Vec<String> =
            reads.iter().map(|r| if *r < sources { format!("source-{r}") } else { format!("out-{}", r - sources) }).collect();
        let listed: Vec<String> = paths.iter().map(|p| format!("{p:?}")).collect();
        text.push_str(&format!(
            "[stage.s{number}]\nrun = \"(echo s{number}; cat {}) > out-{number}\"\nreads = [{}]\nwrites = [\"out-{number}\"]\n",
            paths.join(" "),
            listed.join(", ")
        ));
    }
    text
}

/// What can be reached from a source.
fn reachable(source: usize, sources: usize, stages: &[BTreeSet<usize>]) -> BTreeSet<String> {
    let mut touched = BTreeSet::from([source]);
    let mut found = BTreeSet::new();
    for (number, reads) in stages.iter().enumerate() {
        if reads.iter().any(|r| touched.contains(r)) {
            touched.insert(sources + number);
            found.insert(format!("s{number}"));
        }
    }
    found
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(many("TEXTUM_IMPACT_CASES", 6)))]

    /// What was made of a source is what can be reached from it in the graph, no more and no less.
    #[test]
    fn impact_is_what_the_graph_says(
        picks in proptest::collection::vec(proptest::collection::vec(any::<prop::sample::Index>(), 1..4), 2..7),
    ) {
        const SOURCES: usize = 3;
        let stages: Vec<BTreeSet<usize>> =
            picks.iter().enumerate().map(|(n, picks)| picks.iter().map(|p| p.index(SOURCES + n)).collect()).collect();
        let tiny = Tiny::new();
        tiny.write("textum.toml", pipeline(SOURCES, &stages));
        for number in 0..SOURCES {
            tiny.write(&format!("source-{number}"), format!("source {number}\n"));
        }
        let mut project = Project::open_to_write(tiny.root(), tiny.variables()).unwrap();
        let options = RunOptions { by: Identity::new("ada", "loom"), ..RunOptions::default() };
        run(&mut project, &options, &Silent, &CancelToken::default()).unwrap();
        for source in 0..SOURCES {
            let wanted = reachable(source, SOURCES, &stages);
            let name = format!("source-{source}");
            let Ok(target) = find_target(&project, &name, tiny.root()) else {
                prop_assert!(wanted.is_empty());
                continue;
            };
            let found = impact(&project, None, &name, &seeds_of(&project, &target).unwrap()).unwrap();
            let touched: BTreeMap<&str, BTreeSet<String>> =
                found.runs.iter().map(|r| (r.run.as_str(), r.stages.iter().cloned().collect())).collect();
            prop_assert_eq!(touched.values().next().cloned().unwrap_or_default(), wanted);
        }
    }
}
