//! Tracing and rebuilding, and what the ledger can be made anew from.

use serde_json::Value;

use crate::{textum, two_stages};

#[test]
fn a_copy_anywhere_is_known_by_its_content() {
    let tiny = two_stages();
    textum(&tiny, &["run"]).expect(0);
    let elsewhere = tempfile::tempdir().unwrap();
    let copy = elsewhere.path().join("final_v2_really.txt");
    std::fs::copy(tiny.path("build/lines.txt"), &copy).unwrap();
    let copy = copy.to_str().unwrap();
    textum(&tiny, &["trace", copy]).expect(0).says("build/lines.txt").says("count.from 1").says("yarn@1");
    let trace = textum(&tiny, &["trace", copy, "--format", "json"]).expect(0).json();
    let nodes = trace["nodes"].as_array().unwrap();
    for (kind, name) in [
        ("file", "yarn.txt"),
        ("file", "count.sh"),
        ("stage", "upper"),
        ("stage", "count"),
        ("param", "count.from"),
        ("file", "build/upper.txt"),
    ] {
        assert!(nodes.iter().any(|n| n["kind"] == kind && n["name"] == name), "{kind} {name} is not in {nodes:?}");
    }
    assert!(!nodes.iter().any(|n| n["name"] == "count.unit"), "a parameter that no stage uses is no input");
    // The content behind every digest can be read back, and its digest is that of the public tool's.
    for node in nodes {
        let digest = node["digest"].as_str().unwrap();
        textum(&tiny, &["show", digest]).expect(0);
    }
    let edges = trace["edges"].as_array().unwrap();
    let upstream_of =
        |id: &str| edges.iter().filter(|e| e["to"] == id).map(|e| e["from"].as_str().unwrap().to_string()).collect::<Vec<_>>();
    let mut reached = vec![trace["ends"][0].as_str().unwrap().to_string()];
    let mut at = 0;
    while at < reached.len() {
        for from in upstream_of(&reached[at]) {
            if !reached.contains(&from) {
                reached.push(from);
            }
        }
        at += 1;
    }
    assert_eq!(reached.len(), nodes.len(), "every node is reachable from the output");
    textum(&tiny, &["trace", copy, "--code", "code"]).expect(0);
    assert_eq!(tiny.read("code/count.sh"), tiny.read("count.sh"));
    textum(&tiny, &["trace", "yarn.txt"]).expect(0).says("a source");
    tiny.write("unknown.bin", "never seen");
    textum(&tiny, &["trace", "unknown.bin"]).expect(3).warns("is in no receipt").warns("next:");
    textum(&tiny, &["trace", "no/such/file"]).expect(3);
    textum(&tiny, &["trace", "last", "--format", "dot"]).expect(0).says("digraph");
    textum(&tiny, &["trace", "last", "--format", "mermaid"]).expect(0).says("flowchart");
}

#[test]
fn a_past_model_is_rebuilt_whatever_has_become_of_the_tree() {
    let tiny = two_stages();
    let first = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    let id = first["run"].as_str().unwrap().to_string();
    tiny.write("yarn.txt", "jute\n");
    tiny.write("count.sh", "exit 1\n");
    std::fs::remove_dir_all(tiny.path("build")).unwrap();
    let before = tiny.snapshot();
    let rebuilt = textum(&tiny, &["rebuild", &format!("{id}:build/lines.txt"), "--format", "json"]).expect(0).json();
    assert_eq!(rebuilt["verdict"], "identical");
    assert_eq!(rebuilt["stages"].as_array().unwrap().len(), 2);
    assert_eq!(rebuilt["environment"]["same"], true);
    for write in rebuilt["stages"].as_array().unwrap().iter().flat_map(|s| s["writes"].as_array().unwrap()) {
        assert_eq!(write["recorded"], write["rebuilt"]);
    }
    assert_eq!(tiny.snapshot(), before, "the tree is not touched");
    textum(&tiny, &["show", &id]).expect(0).says("identical").says("weaver@");
    textum(&tiny, &["rebuild", "yarn.txt"]).expect(3);
    textum(&tiny, &["rebuild", &format!("{id}:yarn.txt")]).expect(2).warns("a source");
}

#[test]
fn metrics_within_the_tolerance_make_it_equivalent() {
    let tiny = textum_testkit::Tiny::with(
        "[stage.fit]\nrun = \"date +%N > model\"\nwrites = [\"model\"]\n[stage.judge]\nrun = \"printf '{\\\"auc\\\": 0.%d}' 9 > s.json; cp model seen\"\nreads = [\"model\"]\nwrites = [\"seen\"]\nmetrics = [\"s.json\"]\n",
    );
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["rebuild", "model"])
        .expect(0)
        .says("equivalent")
        .says("the first to differ is model, by the stage fit: from line 1 on");
}

#[test]
fn ledger_and_indexes_are_made_anew_with_the_same_answers() {
    let tiny = two_stages();
    for from in ["1", "2", "3"] {
        textum(&tiny, &["run", "--set", &format!("count.from={from}")]).expect(0);
    }
    textum(&tiny, &["rebuild", "last~1"]).expect(0);
    let questions: [&[&str]; 5] = [
        &["runs", "--format", "json"],
        &["show", "last", "--format", "json"],
        &["show", "last~1", "--format", "json"],
        &["trace", "build/lines.txt", "--format", "json"],
        &["show", "best:lines", "--receipt"],
    ];
    let ask = || questions.map(|q| textum(&tiny, q).expect(0).out);
    let answers = ask();
    for entry in std::fs::read_dir(tiny.path(".textum/store/packs")).unwrap().flatten() {
        if entry.path().extension().is_some_and(|e| e == "index") {
            std::fs::remove_file(entry.path()).unwrap();
        }
    }
    for name in ["ledger.db", "ledger.db-wal", "ledger.db-shm"] {
        let _ = std::fs::remove_file(tiny.path(&format!(".textum/{name}")));
    }
    assert_eq!(ask(), answers);
    textum(&tiny, &["verify", "--deep"]).expect(0).says("all is there");
    std::fs::write(tiny.path(".textum/ledger.db"), b"SQLite format 3\0 but not really").unwrap();
    textum(&tiny, &["runs"]).expect(4).warns("is not a database").warns("textum verify --repair");
    textum(&tiny, &["verify"]).expect(4);
    textum(&tiny, &["verify", "--repair"]).expect(0).says("made anew");
    assert_eq!(ask(), answers);
}

#[test]
fn verify_names_the_runs_that_damage_touches() {
    let tiny = two_stages();
    textum(&tiny, &["run"]).expect(0);
    let packs = std::fs::read_dir(tiny.path(".textum/store/packs")).unwrap().flatten().map(|e| e.path());
    let pack = packs
        .filter(|p| p.extension().is_some_and(|e| e == "pack"))
        .min_by_key(|p| p.metadata().unwrap().modified().unwrap())
        .unwrap();
    std::fs::remove_file(&pack).unwrap();
    let report: Value = textum(&tiny, &["verify", "--format", "json"]).expect(4).json();
    let runs: Vec<&Value> = report["problems"].as_array().unwrap().iter().flat_map(|p| p["runs"].as_array().unwrap()).collect();
    assert!(!runs.is_empty(), "{report}");
    std::fs::remove_dir_all(tiny.path("build")).unwrap();
    std::fs::remove_file(tiny.path("yarn.txt")).unwrap();
    textum(&tiny, &["restore", "last"]).expect(3).warns("is not in the store");
}

#[test]
fn folders_with_outputs_and_parts_of_outputs_are_recorded_too() {
    let tiny = textum_testkit::Tiny::with(
        "[stage.make]\nrun = \"mkdir -p build/tree/sub; echo a > build/a; echo b > build/tree/sub/b\"\nwrites = [\"build/a\", \"build/tree/\"]\n\
         [stage.all]\nrun = \"cat build/a build/by-hand > all\"\nreads = [\"build\"]\nwrites = [\"all\"]\n\
         [stage.part]\nrun = \"cat build/tree/sub/b > part\"\nreads = [\"build/tree/sub\"]\nwrites = [\"part\"]\n",
    );
    tiny.write("build/by-hand", "mine\n");
    textum(&tiny, &["run"]).expect(0);
    tiny.write("build/by-hand", "other\n");
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    let again = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    assert_eq!((crate::state(&again, "all"), crate::state(&again, "part")), ("ran".into(), "up-to-date".into()));
}

#[test]
fn a_notebook_counts_by_its_code() {
    let tiny = textum_testkit::Tiny::with("[stage.s]\nrun = \"cp n.ipynb out\"\nreads = [\"n.ipynb\"]\nwrites = [\"out\"]\n");
    let notebook = |code: &str, output: &str| {
        tiny.write("n.ipynb", format!(r#"{{"cells":[{{"cell_type":"code","source":["{code}"],"outputs":["{output}"]}}]}}"#));
    };
    notebook("x = 1", "1");
    textum(&tiny, &["run"]).expect(0);
    notebook("x = 1", "another output");
    textum(&tiny, &["plan", "--check"]).expect(0);
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    notebook("x = 2", "1");
    textum(&tiny, &["plan", "--check"]).expect(1).says("n.ipynb");
}
