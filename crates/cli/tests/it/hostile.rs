//! Documents that say what could do harm: nothing outside the project is touched, nor git's folder, nor the
//! manifest, and what is good beside them stays of use.

use serde_json::{Value, json};
use textum_core::record::receipt::canonical;
use textum_core::store::{Digest, Store};
use textum_testkit::{Outer, Tiny};

use crate::textum;

/// Paths that must never be written to, cleared or restored.
fn bad_paths(outer: &Outer) -> Vec<String> {
    let around = outer.around.root().display().to_string();
    let mut paths: Vec<String> = [
        "",
        "/",
        ".",
        "..",
        "./",
        "../",
        "../precious.txt",
        "../other",
        "../other/project/data.csv",
        "a/..",
        "a/../..",
        "a/../../precious.txt",
        "build/../../precious.txt",
        "./notes.md",
        "notes.md/",
        "a//b",
        "/etc/passwd",
        "/tmp",
        "~/x",
        "a/./b",
        "a\u{0}b",
        ".git",
        ".git/hooks/pre-commit",
        ".GIT/config",
        "sub/.git/hooks/x",
        ".textum",
        ".textum/store/packs",
        ".textum/ledger.db",
        ".Textum/format",
        "textum.toml",
        "textum.receipt.json",
    ]
    .map(String::from)
    .to_vec();
    paths.push(format!("{around}/precious.txt"));
    paths.push(format!("{around}/other"));
    paths
}

fn project() -> Outer {
    let outer = Outer::new();
    outer.project.manifest(
        "[data.yarn]\npath = \"yarn.txt\"\n[stage.spin]\nrun = \"mkdir -p build/ck; tr a-z A-Z < yarn.txt > build/out; echo 1 > build/ck/w; printf '{\\\"checkpoint\\\": true}\\n' >> $TEXTUM_SIGNALS; printf '{\\\"n\\\": 1}' > build/n.json; sleep 0.2\"\n\
         reads = [\"yarn.txt\"]\nwrites = [\"build/out\"]\nmetrics = [\"build/n.json\"]\ncheckpoints = \"build/ck\"\n",
    );
    outer.project.write("yarn.txt", "wool\n");
    textum(&outer.project, &["run"]).expect(0);
    outer
}

fn store(tiny: &Tiny) -> Store {
    Store::open(&tiny.path(".textum/store"))
}

fn documents(tiny: &Tiny, kind: &str) -> Vec<Value> {
    let store = store(tiny);
    let digests = store.packs().unwrap().into_iter().flat_map(|p| store.documents_in(&p).unwrap());
    let all = digests.map(|d| serde_json::from_slice::<Value>(&store.read(&d).unwrap()).unwrap());
    all.filter(|v| v["type"].as_str().is_some_and(|t| t.starts_with(kind))).collect()
}

fn put(tiny: &Tiny, document: &Value) -> Digest {
    let store = store(tiny);
    let writer = store.writer().unwrap();
    let digest = writer.put_document(&canonical(document).unwrap()).unwrap();
    writer.publish().unwrap();
    digest
}

#[test]
fn a_hostile_committed_receipt_changes_nothing() {
    let outer = project();
    let tiny = &outer.project;
    let receipt = tiny.path("textum.receipt.json");
    let good: Value = serde_json::from_slice(&std::fs::read(&receipt).unwrap()).unwrap();
    let written = ["textum.receipt.json", "build"];
    let before = outer.persons(&written);
    for path in bad_paths(&outer) {
        let mut writes = good.clone();
        let content = writes["stages"]["spin"]["writes"]["build/out"].clone();
        writes["stages"]["spin"]["writes"] = json!({ path.clone(): content });
        let mut data = good.clone();
        data["data"]["yarn"]["path"] = json!(path);
        let mut run = good.clone();
        run["run"] = json!(path);
        for (what, hostile) in [("writes", writes), ("data", data), ("run", run)] {
            std::fs::write(&receipt, hostile.to_string()).unwrap();
            let ran = textum(tiny, &["restore"]);
            assert_ne!(ran.status, 0, "{what} {path:?}: {}{}", ran.out, ran.err);
            assert!(ran.err.contains("next:"), "{what} {path:?}: {}", ran.err);
            assert_eq!(outer.persons(&written), before, "{what} {path:?}");
        }
    }
    std::fs::write(&receipt, good.to_string()).unwrap();
    tiny.write("build/out", "edited");
    textum(tiny, &["restore"]).expect(0);
    assert_eq!(tiny.read("build/out"), "WOOL\n");
}

#[test]
fn hostile_receipts_in_the_store_are_left_out_and_told_of() {
    let outer = project();
    let tiny = &outer.project;
    let before = outer.persons(&["build", "textum.receipt.json"]);
    let (stage, run) = (documents(tiny, "textum/stage-receipt")[0].clone(), documents(tiny, "textum/run-receipt")[0].clone());
    let (data, made) = (documents(tiny, "textum/data-receipt")[0].clone(), documents(tiny, "textum/checkpoint-receipt")[0].clone());
    let mut hostile = 0;
    let mut names = Vec::new();
    for (number, path) in bad_paths(&outer).into_iter().enumerate() {
        let bad = json!(path);
        let mut variants: Vec<Value> = Vec::new();
        for field in ["writes", "reads", "metric_files", "left"] {
            let mut v = stage.clone();
            let mut entry = stage["writes"][0].clone();
            entry["path"] = bad.clone();
            v[field] = json!([entry]);
            variants.push(v);
        }
        for (field, value) in
            [("writes", json!([path])), ("metrics", json!([path])), ("checkpoints", bad.clone()), ("stage", bad.clone())]
        {
            let mut v = stage.clone();
            v["inputs"][field] = value;
            variants.push(v);
        }
        for (document, field) in
            [(&data, "path"), (&data, "dataset"), (&made, "path"), (&made, "run"), (&made, "stage"), (&run, "run")]
        {
            let mut v = document.clone();
            v[field] = bad.clone();
            variants.push(v);
        }
        let mut v = run.clone();
        v["data"]["yarn"]["path"] = bad.clone();
        variants.push(v);
        for v in variants {
            put(tiny, &v);
            hostile += 1;
        }
        // A run of its own that names a hostile execution.
        let mut v = stage.clone();
        v["writes"][0]["path"] = bad.clone();
        let receipt = put(tiny, &v);
        let mut v = run.clone();
        let id = format!("20260101-0000-{:04x}", 0xa000 + number);
        v["run"] = json!(id);
        v["stages"][0]["receipt"] = json!(receipt.to_string());
        put(tiny, &v);
        hostile += 1;
        names.push(id);
    }
    for id in &names {
        for words in [
            vec!["restore", id.as_str()],
            vec!["restore", id, "-o", "elsewhere"],
            vec!["rebuild", id],
            vec!["show", id],
            vec!["trace", id],
        ] {
            let ran = textum(tiny, &words);
            assert!(!ran.err.contains("panicked"), "{words:?}: {}", ran.err);
        }
    }
    std::fs::remove_dir_all(tiny.path("elsewhere")).ok();
    let runs = textum(tiny, &["runs", "--all", "--format", "json"]).expect(0).json();
    assert_eq!(
        runs.as_array().unwrap().iter().filter(|r| names.iter().all(|n| r["run"] != **n)).count(),
        1,
        "the good run is there"
    );
    let report = textum(tiny, &["verify", "--format", "json"]).expect(4).json();
    let refused =
        report["problems"].as_array().unwrap().iter().filter(|p| p["what"].as_str().unwrap().contains("cannot be")).count();
    // `textum.toml` and `textum.receipt.json` are paths like others in a document; they are refused where they would be written.
    assert!(refused >= hostile * 8 / 10, "{refused} of {hostile}: {report}");
    for words in [
        &["verify", "--repair"][..],
        &["prune", "--newest", "0", "--last-outputs", "--checkpoints", "--yes"],
        &["stats"],
        &["restore"],
        &["plan"],
        &["run"],
    ] {
        let ran = textum(tiny, words);
        assert!(!ran.err.contains("panicked"), "{words:?}: {}", ran.err);
    }
    assert_eq!(outer.persons(&["build", "textum.receipt.json"]), before);
    textum(tiny, &["run", "--force", "spin"]).expect(0);
}

/// What a stage was seen to read is put where a rebuilt one looks for it, and asked for before a result is used again.
#[test]
fn hostile_documents_of_what_was_read_lead_nothing_out() {
    let outer = project();
    let tiny = &outer.project;
    let before = outer.persons(&["build", "textum.receipt.json"]);
    let (stage, run) = (documents(tiny, "textum/stage-receipt")[0].clone(), documents(tiny, "textum/run-receipt")[0].clone());
    let put_bytes = |bytes: &[u8]| {
        let store = store(tiny);
        let writer = store.writer().unwrap();
        let digest = writer.put_bytes(bytes).unwrap().digest;
        writer.publish().unwrap();
        digest.to_string()
    };
    let content = put_bytes(b"hostile");
    let hex = content.rsplit(':').next().unwrap().to_string();
    let empty = json!({ "type": "textum/observed-inputs@1", "groups": [], "variables": {}, "processor": "p" });
    let links = ["a", "..", "../other", "/etc", "/", "a/../..", "", "\u{0}", ".git", ".textum", "l"];
    let mut inputs = Vec::new();
    for path in bad_paths(&outer).into_iter().chain(["way/l/x".into(), "way/l".into(), "yarn.txt/x".into(), "build/out/x".into()]) {
        let list = put_bytes(format!("{hex} exec 7 {path}\n{hex} file 7 {path}/in\n").as_bytes());
        let names = put_bytes(format!("{path}\n{path}/\nx/../../y\n../precious.txt\n\n/\n").as_bytes());
        let mut v = empty.clone();
        v["groups"] = json!([{ "kind": "project", "counts": true, "files": 2, "size": 14, "list": list }]);
        inputs.push(v.clone());
        v["links"] = links.iter().map(|to| (format!("{path}{to}"), json!(to))).collect::<serde_json::Map<_, _>>().into();
        inputs.push(v);
        let mut v = empty.clone();
        v["links"] = json!({ path.clone(): "../../..", "way/l": "..", "way": "l", "l": "way/l/.." });
        v["present"] = json!([path, format!("{path}/"), "way/l/precious.txt", "l/x", "way/l/../x"]);
        v["absent"] = v["present"].clone();
        v["looks"] = json!({ path.clone(): { "size": u64::MAX, "exec": true }, "way/l/precious.txt": { "size": 1 } });
        v["listed"] =
            json!([{ "path": path, "entries": names }, { "path": "", "entries": names }, { "path": "way/l", "entries": names }]);
        v["attributes"] = json!({ path.clone(): { "user.x": null, "security.x\n": content } });
        v["kept"] = json!({ path.clone(): { "existed": true, "read": true, "before": content, "after": null } });
        v["state"] = json!([path]);
        v["changed"] = json!([path]);
        v["times"] = json!([path]);
        inputs.push(v);
    }
    let mut names = Vec::new();
    for (number, inputs) in inputs.iter().enumerate() {
        let inputs = put(tiny, inputs);
        let mut v = stage.clone();
        v["observed"] = json!({ "how": "yes", "inputs": inputs.to_string() });
        let receipt = put(tiny, &v);
        let mut v = run.clone();
        let id = format!("20260101-0000-{:04x}", 0xa000 + number);
        v["run"] = json!(id);
        v["stages"][0]["receipt"] = json!(receipt.to_string());
        put(tiny, &v);
        names.push(id);
    }
    let mut rebuilt = 0;
    for id in &names {
        for words in [vec!["rebuild", id.as_str()], vec!["trace", id], vec!["show", id]] {
            let ran = textum(tiny, &words);
            assert!(!ran.err.contains("panicked"), "{words:?}: {}", ran.err);
            rebuilt += usize::from(words[0] == "rebuild" && ran.status == 0);
        }
        assert_eq!(outer.persons(&["build", "textum.receipt.json"]), before, "{id}");
    }
    assert!(rebuilt > names.len() / 3, "{rebuilt} of {} were rebuilt", names.len());
    for words in [&["plan"][..], &["verify"], &["stats"], &["run"], &["prune", "--newest", "0", "--yes"]] {
        let ran = textum(tiny, words);
        assert!(!ran.err.contains("panicked"), "{words:?}: {}", ran.err);
    }
    assert_eq!(outer.persons(&["build", "textum.receipt.json"]), before);
}

#[test]
fn links_on_the_way_lead_nothing_out_of_the_project() {
    let outer = project();
    let tiny = &outer.project;
    std::fs::remove_dir_all(tiny.path("build")).unwrap();
    std::os::unix::fs::symlink("../other", tiny.path("build")).unwrap();
    outer.around.write("other/out", "somebody else's");
    let before = outer.persons(&["textum.receipt.json"]);
    textum(tiny, &["restore"]).expect(4).warns("leads out");
    textum(tiny, &["restore", "last"]).expect(4).warns("leads out");
    textum(tiny, &["run", "--force", "spin"]).expect(1).warns("leads out");
    assert_eq!(outer.persons(&["textum.receipt.json"]), before);
    // A folder to restore into is left no more than the project is.
    std::fs::create_dir(tiny.path("into")).unwrap();
    std::os::unix::fs::symlink("../../other", tiny.path("into/build")).unwrap();
    textum(tiny, &["restore", "last~1", "-o", "into"]).expect(4).warns("leads out");
    assert_eq!(outer.around.read("other/out"), "somebody else's");
}

#[test]
fn links_in_recorded_folders_lead_nothing_out_either() {
    let outer = Outer::new();
    let tiny = &outer.project;
    tiny.manifest("[data.set]\npath = \"set\"\n");
    tiny.write("set/deep/a.txt", "a");
    textum(tiny, &["data", "record"]).expect(0);
    let good = documents(tiny, "textum/data-receipt")[0].clone();
    let before = outer.persons(&["set", "textum.receipt.json"]);
    let precious = outer.around.path("precious.txt").display().to_string();
    // Straight out, absolutely, out by another link, and a file written through a link.
    let folders: [&[(&str, &str, &str)]; 4] = [
        &[("link", "up", "../../precious.txt")],
        &[("link", "up", &precious)],
        &[("link", "a/top", ".."), ("link", "out", "a/top/../precious.txt")],
        &[("link", "up", ".."), ("file", "up/precious.txt", "overwritten")],
    ];
    for (number, entries) in folders.iter().enumerate() {
        let store = store(tiny);
        let writer = store.writer().unwrap();
        let mut listing = String::new();
        for (kind, path, content) in *entries {
            let stored = writer.put_bytes(content.as_bytes()).unwrap();
            listing.push_str(&format!("{kind} {} {} {path}\n", stored.digest.hex(), stored.size));
        }
        let folder = writer.put_bytes(listing.as_bytes()).unwrap();
        writer.publish().unwrap();
        let mut hostile = good.clone();
        hostile["number"] = json!(number + 2);
        hostile["digest"] = json!(folder.digest.to_string());
        put(tiny, &hostile);
        for stands in [true, false] {
            if !stands {
                std::fs::remove_dir_all(tiny.path("set")).ok();
            }
            let name = format!("set@{}", number + 2);
            let ran = textum(tiny, &["restore", &name]);
            assert_eq!(ran.status, 4, "{entries:?}: {}{}", ran.out, ran.err);
            textum(tiny, &["restore", &name, "-o", "into"]).expect(4);
            assert_eq!(outer.persons(&["set", "into", "textum.receipt.json"]), before, "{entries:?}");
            assert!(!stands || tiny.read("set/deep/a.txt") == "a", "what stood there stands there still");
            std::fs::remove_dir_all(tiny.path("into")).ok();
        }
        textum(tiny, &["restore", "set@1"]).expect(0);
    }
}

#[test]
fn a_restore_that_fails_midway_leaves_all_that_stood_there() {
    let outer = Outer::new();
    let tiny = &outer.project;
    tiny.manifest(
        "[stage.a]\nrun = \"mkdir -p b; echo one > b/a; mkdir -p b/f; echo x > b/f/x; echo y > b/f/y\"\nwrites = [\"b/a\", \"b/f/\"]\n\
         [stage.z]\nrun = \"head -c 700000 /dev/urandom > b/z\"\nreads = [\"b/a\"]\nwrites = [\"b/z\"]\n",
    );
    textum(tiny, &["run"]).expect(0);
    for (path, text) in [("b/a", "mine"), ("b/f/x", "mine too"), ("b/f/new", "new"), ("b/z", "and this")] {
        tiny.write(path, text);
    }
    std::fs::remove_file(tiny.path("b/f/y")).unwrap();
    let before = outer.persons(&[]);
    // The last of what is to come back is damaged.
    let packs = std::fs::read_dir(tiny.path(".textum/store/packs")).unwrap().flatten().map(|e| e.path());
    let pack = packs.filter(|p| p.extension().is_some_and(|e| e == "pack")).max_by_key(|p| p.metadata().unwrap().len()).unwrap();
    let mut bytes = std::fs::read(&pack).unwrap();
    let at = bytes.len() / 2;
    bytes[at] ^= 0x40;
    std::fs::write(&pack, bytes).unwrap();
    textum(tiny, &["restore"]).expect(4).warns("damaged");
    assert_eq!(outer.persons(&[]), before);
    assert!(
        !tiny.has(".textum/aside") || std::fs::read_dir(tiny.path(".textum/aside")).unwrap().count() == 0,
        "nothing went aside"
    );
}
