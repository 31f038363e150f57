//! Versions at their edges: names, parts, several keys, references in sandboxes, an older ledger, and the
//! forms that other programs read.

use serde_json::Value;
use textum_testkit::{Tiny, noise};

use crate::{TEXTUM, textum};

fn keys(value: &Value) -> Vec<String> {
    value.as_object().map(|o| o.keys().cloned().collect()).unwrap_or_default()
}

#[test]
fn numbers_survive_a_lost_ledger_and_an_older_one() {
    let tiny = Tiny::with("[data.yarn]\npath = \"yarn.txt\"\n");
    for state in ["one", "two", "three", "two"] {
        tiny.write("yarn.txt", state);
        textum(&tiny, &["data", "record", "-m", state]).expect(0);
    }
    let all = || textum(&tiny, &["data", "versions", "yarn", "--format", "json"]).expect(0).json();
    let before = all();
    assert_eq!(before["versions"].as_array().unwrap().len(), 3);
    assert_eq!(before["versions"][1]["notes"], serde_json::json!(["two", "two"]));
    std::fs::remove_file(tiny.path(".textum/ledger.db")).unwrap();
    assert_eq!(all(), before);
    // As an older Textum would have left it: it is made anew, not misread.
    for suffix in ["", "-wal", "-shm"] {
        let _ = std::fs::remove_file(tiny.path(&format!(".textum/ledger.db{suffix}")));
    }
    let old = "import sqlite3; db = sqlite3.connect('.textum/ledger.db'); db.execute('CREATE TABLE runs (id TEXT)'); db.execute('PRAGMA user_version = 1'); db.commit()";
    tiny.textum("python3", &["-c", old]).expect(0);
    assert_eq!(all(), before);
    textum(&tiny, &["verify", "--deep"]).expect(0);
}

#[test]
fn two_who_record_the_same_state_at_once_make_one_version() {
    let tiny = Tiny::with("[data.yarn]\npath = \"yarn.bin\"\n");
    for round in 1..6u64 {
        tiny.write("yarn.bin", noise(round, 300_000));
        let mut both: Vec<_> = (0..3).map(|_| tiny.start(TEXTUM, &["data", "record"])).collect();
        both.iter_mut().for_each(|child| assert!(child.wait().unwrap().success()));
        let all = textum(&tiny, &["data", "versions", "yarn", "--format", "json"]).expect(0).json();
        let numbers: Vec<u64> = all["versions"].as_array().unwrap().iter().map(|v| v["version"].as_u64().unwrap()).collect();
        assert_eq!(numbers, (1..=round).collect::<Vec<_>>());
    }
    textum(&tiny, &["verify", "--deep"]).expect(0);
}

#[test]
fn a_part_of_a_version_can_be_restored_traced_and_compared() {
    let tiny = Tiny::with(
        "[data.photos]\npath = \"photos\"\n[stage.n]\nrun = \"ls photos | wc -l > n\"\nreads = [\"photos\"]\nwrites = [\"n\"]\n",
    );
    tiny.write("photos/a.txt", "first");
    tiny.write("photos/deep/b.txt", "second");
    textum(&tiny, &["run"]).expect(0);
    tiny.write("photos/deep/b.txt", "changed");
    tiny.write("photos/a.txt", "changed too");
    textum(&tiny, &["restore", "photos@1:deep/b.txt"]).expect(0).says("1 path").warns("aside");
    assert_eq!((tiny.read("photos/deep/b.txt"), tiny.read("photos/a.txt")), ("second".into(), "changed too".into()));
    textum(&tiny, &["restore", "photos@1:deep/c.txt"]).expect(3).warns("did you mean");
    textum(&tiny, &["trace", "photos/deep/b.txt"]).expect(0).says("photos/deep/b.txt");
    textum(&tiny, &["data", "diff", "photos@1:a.txt", "photos"]).expect(0).says("other bytes");
    textum(&tiny, &["data", "diff", "photos@1", "photos/a.txt"]).expect(2).warns("is a file and");
    textum(&tiny, &["data", "diff", "photos/a.txt", "photos/deep/b.txt", "--check"]).expect(1);
    textum(&tiny, &["data", "diff", "photos/a.txt"]).expect(2).warns("has no version before it");
}

#[test]
fn rows_are_told_apart_by_several_columns_and_by_columns_given_for_once() {
    let tiny = Tiny::with("[data.shifts]\npath = \"shifts.tsv\"\nkey = [\"loom\", \"shift\"]\n");
    tiny.write("shifts.tsv", "loom\tshift\tstops\nL1\tearly\t0\nL1\tlate\t1\nL2\tearly\t2\n");
    textum(&tiny, &["data", "record"]).expect(0);
    tiny.write("shifts.tsv", "loom\tshift\tstops\nL2\tearly\t2\nL1\tlate\t4\nL3\tearly\t0\n");
    let diff = |words: &[&str]| {
        let all = [&["data", "diff", "shifts", "--format", "json"], words].concat();
        textum(&tiny, &all).expect(0).json()["difference"].clone()
    };
    let by_two = diff(&[]);
    assert_eq!((&by_two["changed"], &by_two["added"], &by_two["removed"]), (&1.into(), &1.into(), &1.into()));
    assert_eq!(by_two["examples_changed"][0]["key"], serde_json::json!(["L1", "late"]));
    let by_one = diff(&["--key", "loom"]);
    assert_eq!(by_one["identity"]["because"]["why"], "twice");
    assert_eq!((&by_one["added"], &by_one["removed"]), (&2.into(), &2.into()));
    assert_eq!(diff(&["--key", "loom,stops"])["identity"]["because"], Value::Null);
    assert_eq!(diff(&["--key", "lom"])["identity"]["because"]["why"], "absent");
    textum(&tiny, &["data", "diff", "shifts", "--column", "stps"]).expect(2).warns("did you mean `stops`?");
    assert!(diff(&["--examples", "0"])["examples_added"].as_array().unwrap().is_empty());
}

#[test]
fn a_reference_inside_the_project_is_linked_into_sandboxes() {
    let tiny = Tiny::with(
        "[data.photos]\npath = \"photos\"\nhold = \"reference\"\n[stage.sum]\nrun = \"cat photos/deep/* | cksum > sum\"\nreads = [\"photos\"]\nwrites = [\"sum\"]\n\
         [stage.one]\nrun = \"cksum < photos/a.bin > one\"\nreads = [\"photos/a.bin\"]\nwrites = [\"one\"]\n",
    );
    tiny.write("photos/a.bin", noise(1, 5000));
    tiny.write("photos/deep/b.bin", noise(2, 5000));
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["run", "--sandbox"]).expect(0);
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    let size =
        |below: &str| std::fs::read_dir(tiny.path(below)).unwrap().flatten().map(|e| e.metadata().unwrap().len()).sum::<u64>();
    assert!(size(".textum/store/packs") < 40_000, "only digests and listings are stored");
    // Outputs that hang on a reference are never dropped: nobody could promise to make them again.
    for n in 0..4 {
        tiny.write("photos/deep/b.bin", noise(10 + n, 5000));
        textum(&tiny, &["run"]).expect(0);
    }
    let plan = textum(&tiny, &["prune", "--newest", "1", "--last-outputs", "--dry-run", "--format", "json"]).expect(0).json();
    assert!(plan["outputs"].as_array().unwrap().is_empty() && plan["kept"]["reference"].as_u64().unwrap() >= 3, "{plan}");
    tiny.manifest("[data.photos]\npath = \"photos\"\nhold = \"reference\"\n[stage.bad]\nrun = \"x\"\nwrites = [\"photos/out\"]\n");
    textum(&tiny, &["plan"]).expect(2).warns("where a reference is");
    tiny.manifest("[data.photos]\npath = \"all/photos\"\nhold = \"reference\"\n[stage.bad]\nrun = \"x\"\nreads = [\"all\"]\nwrites = [\"out\"]\n");
    textum(&tiny, &["plan"]).expect(2).warns("holds a reference and more");
}

#[test]
fn json_has_the_keys_that_the_contract_names() {
    let tiny = Tiny::with("[data.looms]\npath = \"looms.csv\"\nkey = [\"loom\"]\nabout = \"Looms\"\n");
    tiny.write("looms.csv", "loom,speed\nL1,420\nL2,460\n");
    let recorded = textum(&tiny, &["data", "record", "--format", "json"]).expect(0).json();
    assert_eq!(keys(&recorded[0]), ["dataset", "version", "new", "digest", "size", "files", "rows"]);
    tiny.write("looms.csv", "loom,speed\nL1,421\nL2,460\n");
    let json = |words: &[&str]| textum(&tiny, &[words, &["--format", "json"]].concat()).expect(0).json();
    let listed = json(&["data"]);
    let expected =
        ["dataset", "path", "about", "key", "hold", "state", "version", "newest", "versions", "digest", "size", "files", "rows"];
    assert_eq!(keys(&listed[0]), expected);
    assert_eq!((&listed[0]["state"], &listed[0]["newest"], &listed[0]["version"]), (&"edited".into(), &1.into(), &Value::Null));
    let versions = json(&["data", "versions", "looms"]);
    assert_eq!(keys(&versions), ["versions", "tree"]);
    assert_eq!(versions["tree"]["change"]["changed"], 1);
    let diff = json(&["data", "diff", "looms"]);
    assert_eq!(keys(&diff), ["old", "new", "same", "difference"]);
    assert_eq!(diff["difference"]["columns"][0]["column"], "speed");
    let found = json(&["data", "find", "looms", "--where", "speed > 420"]);
    assert_eq!(keys(&found), ["where", "found", "runs"]);
    assert_eq!(found["found"].as_array().unwrap().len(), 2, "the version and the edited tree");
    assert_eq!((&found["found"][0]["rows"], &found["found"][1]["rows"]), (&1.into(), &2.into()));
    let profile =
        ["name", "size", "against", "target", "rows", "duplicates", "target_kind", "pairs", "columns", "oddities", "pictures"];
    assert_eq!(keys(&json(&["data", "profile", "looms@1"])), profile);
    let examined = json(&["data", "examine", "looms", "--rule", "speed > 400"]);
    assert_eq!(keys(&examined), ["name", "rows", "fine", "rules", "oddities"]);
    let rule = ["rule", "on", "severity", "name", "holds", "of", "breaking", "unknown", "value", "columns", "examples"];
    assert_eq!(keys(&examined["rules"][0]), rule);
    assert_eq!(keys(&json(&["data", "propose", "looms"])), ["name", "rows", "rules"]);
    let stats = ["packs", "logical", "distinct", "pieces", "stored", "shares", "largest", "prune_frees"];
    assert_eq!(keys(&json(&["stats"])), stats);
    let prune = ["dropped", "stored", "frees", "outputs", "sandboxes", "unspoken", "kept", "kept_runs"];
    assert_eq!(keys(&json(&["prune", "--dry-run"])), prune);
    let verify =
        ["packs", "entries", "bytes", "runs", "versions", "dropped", "erased", "elsewhere", "lost", "deep", "problems", "repaired"];
    assert_eq!(keys(&json(&["verify"])), verify);
    for (words, head) in [
        (&["data"][..], "dataset,version,state,reference,path,files,rows,bytes"),
        (&["data", "versions", "looms"], "version,digest,recorded,by,path,rows,files,bytes,in_tree,change,notes,runs"),
        (&["data", "diff", "looms"], "change,old_line,new_line,key,column,was,is"),
        (&["data", "find", "looms", "--where", "speed > 420"], "version,rows,of"),
        (&["stats"], "what,states,logical,alone,shared"),
    ] {
        let csv = textum(&tiny, &[words, &["--format", "csv"]].concat()).expect(0);
        assert_eq!(csv.out.lines().next().unwrap(), head);
        textum(&tiny, &[words, &["--format", "md"]].concat()).expect(0).says("| --- |");
        textum(&tiny, &[words, &["--format", "dot"]].concat()).expect(2).warns("has no dot form");
    }
}

#[test]
fn tables_that_are_odd_are_compared_and_the_oddity_is_told() {
    let tiny = Tiny::with("[data.t]\npath = \"t.csv\"\nkey = [\"id\"]\n");
    let states: [(&str, &[&str]); 7] = [
        ("id,a\n1,x\n2,y\n", &[]),
        ("id,a\n1,x\n2,y\n2,z\n", &["the key is not unique in t", "2 on lines 3 and 4", "1 row more"]),
        ("id,a\n1,x,more\n2,y\n", &["1 row with more or fewer fields", "line 2"]),
        ("\u{feff}id,a\r\n1,x\r\n2,y\r\n", &["byte-order mark", "the same 2 rows, written otherwise"]),
        ("id,a\n1,\"x\nand more\"\n2,y\n", &["x␤and more"]),
        ("1,x\n2,y\n", &["has no header"]),
        ("", &["2 rows gone"]),
    ];
    tiny.write("t.csv", states[0].0);
    textum(&tiny, &["data", "record"]).expect(0);
    for (text, told) in &states[1..] {
        tiny.write("t.csv", text);
        let mut said = textum(&tiny, &["data", "diff", "t@1", "t"]).expect(0);
        for part in *told {
            said = said.says(part);
        }
        textum(&tiny, &["data", "profile", "t"]).expect(0);
        textum(&tiny, &["plan"]).expect(0);
    }
    let wide: Vec<u8> = "\u{feff}id,a\n1,x\n3,z\n".encode_utf16().flat_map(u16::to_le_bytes).collect();
    tiny.write("t.csv", &wide);
    textum(&tiny, &["data", "diff", "t@1", "t"]).expect(0).says("1 row more").says("is UTF-16LE");
    tiny.write("t.csv", "id,a\n1,x\n2,\"y\n");
    textum(&tiny, &["data", "diff", "t@1", "t"]).expect(4).warns("never closed");
    textum(&tiny, &["data", "record"]).expect(0).says("t@2");
    textum(&tiny, &["data", "versions", "t"]).expect(0).says("cannot be compared");
    tiny.write("broken.parquet", "PAR1 but no more");
    textum(&tiny, &["data", "profile", "broken.parquet"]).expect(4).warns("broken.parquet");
    tiny.write("cut.csv.gz", b"\x1f\x8b\x08\x00");
    textum(&tiny, &["data", "profile", "cut.csv.gz"]).expect(4).warns("cut.csv.gz");
}
