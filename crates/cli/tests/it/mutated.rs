//! Documents with something else in one place: whoever wrote that, nothing crashes, nothing outside the project is
//! touched, what is told stays true, and what is good beside them stays of use.

use proptest::prelude::*;
use serde_json::{Value, json};
use textum_core::record::receipt::canonical;
use textum_core::store::{Digest, Store};
use textum_testkit::{Outer, Ran, Tiny, many};

use crate::textum;

fn project() -> Outer {
    let outer = Outer::new();
    outer.project.manifest(
        "[data.yarn]\npath = \"yarn.txt\"\n[params]\nn = 1\n[metric.n]\nbetter = \"higher\"\n[stage.card]\nrun = \"tr a-z A-Z < yarn.txt > carded\"\nreads = [\"yarn.txt\"]\nwrites = [\"carded\"]\n\
         [stage.spin]\nrun = \"mkdir -p build/ck; cat carded > build/out; echo 1 > build/ck/w; printf '{\\\"step\\\": 1, \\\"metric\\\": {\\\"loss\\\": 1}, \\\"checkpoint\\\": true}\\n' >> $TEXTUM_SIGNALS; printf '{\\\"n\\\": {n}}' > build/n.json\"\n\
         reads = [\"carded\"]\nparams = [\"n\"]\nwrites = [\"build/out\"]\nmetrics = [\"build/n.json\"]\ncheckpoints = \"build/ck\"\n",
    );
    outer.project.write("yarn.txt", "wool\n");
    textum(&outer.project, &["run"]).expect(0);
    outer.project.write("yarn.txt", "silk\n");
    textum(&outer.project, &["run", "--label", "good"]).expect(0);
    outer
}

fn store(tiny: &Tiny) -> Store {
    Store::open(&tiny.path(".textum/store"))
}

fn documents(tiny: &Tiny) -> Vec<Value> {
    let store = store(tiny);
    let digests = store.packs().unwrap().into_iter().flat_map(|p| store.documents_in(&p).unwrap());
    digests.map(|d| serde_json::from_slice::<Value>(&store.read(&d).unwrap()).unwrap()).collect()
}

/// Every place in a document, as a way of keys and numbers.
fn places(value: &Value, way: &str, found: &mut Vec<String>) {
    found.push(way.to_string());
    match value {
        Value::Object(table) => {
            table.iter().for_each(|(k, v)| places(v, &format!("{way}/{}", k.replace('~', "~0").replace('/', "~1")), found))
        }
        Value::Array(items) => items.iter().enumerate().for_each(|(i, v)| places(v, &format!("{way}/{i}"), found)),
        _ => {}
    }
}

fn anything() -> impl Strategy<Value = Value> {
    prop_oneof![
        Just(Value::Null),
        any::<bool>().prop_map(Value::from),
        prop::sample::select(vec![0i64, -1, 1, i64::MAX, i64::MIN]).prop_map(Value::from),
        prop::sample::select(vec![1e308, -0.5, 1e-300]).prop_map(Value::from),
        prop::sample::select(vec![
            "",
            "../../precious.txt",
            "/etc/passwd",
            ".git/hooks/x",
            "yarn.txt",
            "textum.toml",
            "b3:00",
            "done",
            "\u{0}",
            "\u{1b}[2J",
            "20261126-1000-beef",
            "b3:0000000000000000000000000000000000000000000000000000000000000000",
            "file",
            "folder",
            "{n}",
            "2026-11-26T10:00:00Z",
        ])
        .prop_map(Value::from),
        Just(json!([])),
        Just(json!({})),
        Just(json!([{"path": "../x", "digest": "b3:00", "kind": "file", "size": 1}])),
        "[ -~]{0,40}".prop_map(Value::from),
    ]
}

fn put(tiny: &Tiny, document: &Value) -> Digest {
    let store = store(tiny);
    let writer = store.writer().unwrap();
    let digest = writer.put_document(&canonical(document).unwrap()).unwrap();
    writer.publish().unwrap();
    digest
}

/// Ends with a status of its own and words, not with a crash.
fn ends_well(ran: &Ran, what: &str) {
    assert!((0..=4).contains(&ran.status) || ran.status == 130, "{what}: status {}\n{}\n{}", ran.status, ran.out, ran.err);
    assert!(!ran.err.contains("panicked") && !ran.err.contains("RUST_BACKTRACE"), "{what}: {}", ran.err);
    assert!(!ran.out.contains('\u{1b}') && !ran.err.contains("\u{1b}[2J"), "{what}: codes of a document's reach the terminal");
}

proptest! {
    #![proptest_config(ProptestConfig { cases: many("TEXTUM_DAMAGE", 20).div_ceil(2), max_shrink_iters: 30, failure_persistence: None, ..ProptestConfig::default() })]

    /// A document in the store that says something else in one or two places.
    #[test]
    fn a_store_with_mutated_documents_harms_nothing(
        edits in prop::collection::vec((any::<prop::sample::Index>(), any::<prop::sample::Index>(), anything(), any::<bool>()), 1..5),
    ) {
        let outer = project();
        let tiny = &outer.project;
        let all = documents(tiny);
        let mut new = Vec::new();
        for (which, place, with, remove) in edits {
            let mut document = which.get(&all).clone();
            let mut ways = Vec::new();
            places(&document, "", &mut ways);
            let way = place.get(&ways).clone();
            if way.is_empty() {
                continue;
            }
            let (above, key) = way.rsplit_once('/').unwrap();
            let key = key.replace("~1", "/").replace("~0", "~");
            match document.pointer_mut(above) {
                Some(Value::Object(table)) if remove => drop(table.remove(&key)),
                Some(Value::Object(table)) => drop(table.insert(key, with)),
                Some(Value::Array(items)) => items[key.parse::<usize>().unwrap()] = with,
                _ => continue,
            }
            // One that is what it was says nothing new.
            if !all.contains(&document) {
                new.push(put(tiny, &document));
            }
        }
        let before = outer.persons(&[".textum", "out"]);
        for words in [
            &["runs"][..], &["runs", "--format", "csv"], &["runs", "--by", "n"], &["runs", "--steps", "good"], &["show", "last"], &["show", "good"],
            &["trace", "build/out"], &["data"], &["data", "versions", "yarn"], &["compare", "last", "good"], &["stats"], &["prune", "--dry-run"],
            &["plan"], &["verify"], &["plot", "--metric", "loss"], &["report", "last"],
        ] {
            ends_well(&textum(tiny, words), &words.join(" "));
        }
        for digest in &new {
            ends_well(&textum(tiny, &["show", &digest.to_string()]), "show a document");
        }
        prop_assert_eq!(outer.persons(&[".textum", "out"]), before.clone(), "looking changed something");
        // The good run is there, whole: into another folder, and made again.
        ends_well(&textum(tiny, &["restore", "good", "-o", "out"]), "restore into a folder");
        if let Ok(text) = std::fs::read_to_string(tiny.path("out/build/out")) {
            prop_assert_eq!(text, "SILK\n", "what came back is not what was recorded");
        }
        ends_well(&textum(tiny, &["rebuild", "good:build/out"]), "rebuild");
        ends_well(&textum(tiny, &["verify", "--repair"]), "repair");
        ends_well(&textum(tiny, &["run"]), "run");
        prop_assert_eq!(tiny.read("yarn.txt"), "silk\n");
        prop_assert_eq!(tiny.read("build/out"), "SILK\n");
        prop_assert_eq!(outer.around.snapshot().into_iter().filter(|(p, _)| !p.contains("project")).collect::<Vec<_>>().len(),
            outer.around.snapshot().into_iter().filter(|(p, _)| !p.contains("project")).count());
    }

    /// The committed receipt with something else in one place.
    #[test]
    fn a_mutated_committed_receipt_harms_nothing(place in any::<prop::sample::Index>(), with in anything(), cut in prop::option::of(0usize..400)) {
        let outer = project();
        let tiny = &outer.project;
        let good: Value = serde_json::from_str(&tiny.read("textum.receipt.json")).unwrap();
        let mut ways = Vec::new();
        places(&good, "", &mut ways);
        let way = place.get(&ways[1..]).clone();
        let mut bad = good;
        *bad.pointer_mut(&way).unwrap() = with;
        let mut text = serde_json::to_string_pretty(&bad).unwrap();
        if let Some(cut) = cut {
            text.truncate(text.char_indices().map(|(i, _)| i).take_while(|i| *i <= cut.min(text.len())).last().unwrap_or(0));
        }
        tiny.write("textum.receipt.json", &text);
        let written = [".textum", "textum.receipt.json", "build", "carded", "yarn.txt"];
        let before = outer.persons(&written);
        for words in [&["plan"][..], &["restore"], &["trace", "build/out"], &["plan", "--format", "json"], &["verify"]] {
            ends_well(&textum(tiny, words), &format!("{} after {way}", words.join(" ")));
        }
        // A dataset may be said to lie elsewhere in the project: there it is brought back, and nothing else is touched.
        let (after, root) = (outer.persons(&written), format!("{}/", tiny.root().display()));
        prop_assert!(before.iter().all(|line| after.contains(line)), "{}: {:?}", way, after);
        let new: Vec<&String> = after.iter().filter(|line| !before.contains(line)).collect();
        prop_assert!(new.iter().all(|line| line.starts_with(&root) && way.starts_with("/data")), "{}: {:?}", way, new);
        tiny.write("yarn.txt", "silk\n");
        ends_well(&textum(tiny, &["run"]), "run");
    }
}
