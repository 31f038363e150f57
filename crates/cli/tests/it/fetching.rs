//! What is published, where it is used: fetched with the certainty that it behaves as before, an input of other pipelines,
//! told of to others.

use std::io::{Read, Write};
use std::net::TcpListener;
use std::sync::{Arc, Mutex};

use serde_json::Value;
use textum_testkit::Tiny;

use crate::publishing::{PREDICT, ROWS, begin};
use crate::{TEXTUM, textum};

/// A folder with a shed in it whose model is published in a depot; and where that lies.
fn published() -> (Tiny, Tiny, String) {
    let outer = Tiny::new();
    let tiny = Tiny::at(&outer.path("shed"));
    begin(&tiny, "");
    textum(&tiny, &["run"]).expect(0);
    let depot = outer.path("depot").display().to_string();
    textum(&tiny, &["depot", "add", "team", &depot]).expect(0);
    textum(&tiny, &["publish", "stops"]).expect(0);
    textum(&tiny, &["alias", "stops@1", "live"]).expect(0);
    (outer, tiny, depot)
}

fn publish_another(tiny: &Tiny, rate: &str) {
    textum(tiny, &["run", "--set", &format!("fit.rate={rate}")]).expect(0);
    textum(tiny, &["publish", "stops"]).expect(0);
}

#[test]
fn it_is_fetched_anywhere_and_predicts_as_before() {
    let (outer, tiny, depot) = published();
    // No project, no store, nothing but the depot.
    let elsewhere = Tiny::at(&outer.path("elsewhere"));
    let fetch = |more: &[&str]| textum(&elsewhere, &[&["fetch", "stops@live", "--depot", &depot, "-o", "model"], more].concat());
    fetch(&["--check"]).expect(0).says("stops@1 in").says("predictions as before: 3 rows").warns("is not signed");
    assert_eq!(elsewhere.read("model/predict.sh"), PREDICT);
    let card: Value = serde_json::from_str(&elsewhere.read("model/textum.card.json")).unwrap();
    assert_eq!((&card["reference"], &card["run"]["project"]), (&"stops@1".into(), &"looms".into()));
    assert!(!elsewhere.has(".textum") && !elsewhere.has("model/.textum"));
    // Another command on the path than when it was published: it is told which row is another.
    elsewhere.write("bin/awk", "#!/bin/sh\n/usr/bin/env -i /usr/bin/awk \"$@\" | sed 's/^L02,.*/L02,0.5/'\n");
    elsewhere.textum("chmod", &["+x", "bin/awk"]).expect(0);
    let path = format!("{}:{}", elsewhere.path("bin").display(), std::env::var("PATH").unwrap());
    let words = ["fetch", "stops@live", "--depot", &depot, "-o", "model", "--check"];
    let ran = elsewhere.textum_with(TEXTUM, &words, &[("PATH", &path)]).expect(1);
    ran.says("not as before: 1 answer to 3 rows").says("row 2  risk  4  →  0.5");
    // A file that was touched is not what was published, and is not written over.
    elsewhere.write("model/build/model.txt", "9\n");
    fetch(&[]).expect(2).warns("stands in the way");
    assert_eq!(elsewhere.read("model/build/model.txt"), "9\n");
    elsewhere.write("model/build/model.txt", "2\n");
    fetch(&[]).expect(0).says("2 files stood there already");
    // The next version takes the place of one that nobody has touched; what else is there stays.
    publish_another(&tiny, "3");
    textum(&tiny, &["alias", "stops@2", "live"]).expect(0);
    elsewhere.write("model/notes.txt", "mine");
    fetch(&["--check"]).expect(0).says("stops@2").says("1 file, 1 stood there already");
    assert_eq!((elsewhere.read("model/build/model.txt"), elsewhere.read("model/notes.txt")), ("3\n".into(), "mine".into()));
    // One that was cut off while files gave way goes on: the card of the version before tells which they are.
    elsewhere.write("model/textum.card.before.json", elsewhere.read("model/textum.card.json"));
    std::fs::remove_file(elsewhere.path("model/textum.card.json")).unwrap();
    textum(&tiny, &["alias", "stops@1", "live"]).expect(0);
    fetch(&["--check"]).expect(0).says("stops@1").says("predictions as before");
    assert!(!elsewhere.has("model/textum.card.before.json") && elsewhere.has("model/textum.card.json"));
    std::fs::remove_dir_all(&depot).unwrap();
    fetch(&[]).expect(3).warns("there is no depot at");
}

#[test]
fn content_that_is_not_what_was_published_is_never_handed_out() {
    let (outer, tiny, depot) = published();
    let elsewhere = Tiny::at(&outer.path("elsewhere"));
    let packs: Vec<_> =
        walk(std::path::Path::new(&depot)).into_iter().filter(|p| p.to_string_lossy().contains("/content/")).collect();
    assert!(!packs.is_empty());
    for pack in &packs {
        let mut bytes = std::fs::read(pack).unwrap();
        let middle = bytes.len() / 2;
        bytes[middle] ^= 1;
        std::fs::write(pack, bytes).unwrap();
    }
    textum(&elsewhere, &["fetch", "stops@live", "--depot", &depot, "-o", "model"]).expect(4);
    assert!(!elsewhere.has("model/build/model.txt") && !elsewhere.has("model/textum.card.json"));
    for pack in &packs {
        std::fs::remove_file(pack).unwrap();
    }
    assert_ne!(textum(&elsewhere, &["fetch", "stops@live", "--depot", &depot, "-o", "model"]).status, 0);
    assert!(!elsewhere.has("model/textum.card.json"));
    textum(&tiny, &["registry", "check"]).expect(4);
}

fn walk(folder: &std::path::Path) -> Vec<std::path::PathBuf> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let path = entry.path();
        if path.is_dir() { found.extend(walk(&path)) } else { found.push(path) }
    }
    found
}

#[test]
fn rows_that_a_model_does_not_know_are_refused_with_line_and_column() {
    let (_outer, tiny, _) = published();
    let look = |rows: &str| {
        tiny.write("today.csv", rows);
        textum(&tiny, &["fetch", "stops@live", "-o", "out", "--rows", "today.csv"])
    };
    look(ROWS).expect(0).says("rows fit: 4 rows");
    look("loom,lint,since\nL01,3,2026-11-20\nL02,NA,2026-11-21\n").expect(0).says("rows fit: 2 rows");
    look("since,loom,lint\n2026-11-20,L01,3\n").expect(0).says("rows fit");
    let ran = look("loom,lnt,since,shed\nL01,3,2026-11-20,A\n").expect(1);
    ran.says("columns  lint  is missing").says("columns  lnt").says("columns  shed  is not known to the model");
    look("loom,lint,since\nL01,wet,2026-11-20\n").expect(1).says("line 2  lint  is \"wet\", not number");
    look("loom,lint,since\nL01,1,2026-11-20\nL02,1,\n").expect(1).says("line 3  since  is missing");
    look("loom,lint,since\nL01,1,2026-11-20T06:00:00\n").expect(1).says("not date");
    look("loom,lint,since\nL01,1\n").expect(1).says("line 2");
    look("loom,lint,since\n").expect(0).says("0 rows");
    textum(&tiny, &["fetch", "stops@live", "-o", "out", "--rows", "nothing.csv"]).expect(3);
}

#[test]
fn a_published_version_is_an_input_of_another_pipeline() {
    let (outer, tiny, depot) = published();
    let other = Tiny::at(&outer.path("tomorrow"));
    let manifest = format!(
        "[project]\nname = \"tomorrow\"\n[depot.team]\nurl = {depot:?}\n[data.model]\npath = \"models/stops\"\nfrom = \"registry:stops@live\"\n\
         [data.today]\npath = \"today.csv\"\n[stage.predict]\nrun = \"(cd models/stops && sh predict.sh) < today.csv > risks.csv\"\n\
         reads = [\"models/stops\", \"today.csv\"]\nwrites = [\"risks.csv\"]\n"
    );
    other.write("textum.toml", &manifest);
    other.write("today.csv", "loom,lint,since\nL09,4,2026-11-26\n");
    // A look tells what it would be, and brings nothing.
    textum(&other, &["plan"]).expect(0).says("1 of 1 stage would run").says("stops@live is 1 now, and nothing of it is here yet");
    assert!(!other.has("models") && !other.has(".textum"));
    textum(&other, &["run"]).expect(0);
    assert_eq!(other.read("risks.csv"), "loom,risk\nL09,8\n");
    textum(&other, &["plan", "--check"]).expect(0).says("nothing to do");
    // The alias moves: the plan says so before anything is executed.
    publish_another(&tiny, "3");
    textum(&tiny, &["alias", "stops@2", "live"]).expect(0);
    let plan = textum(&other, &["plan"]).expect(0);
    plan.says("1 of 1 stage would run").says("stops@live is 2 now, was 1");
    let json = textum(&other, &["plan", "--format", "json"]).expect(0).json();
    assert_eq!((&json["published"][0]["version"], &json["stages"][0]["action"]), (&"stops@2".into(), &"run".into()));
    let planned = json["stages"][0]["key"].clone();
    let ran = textum(&other, &["run", "--format", "json"]).expect(0).json();
    assert_eq!(ran["stages"][0]["key"], planned, "what was planned is what was run");
    assert_eq!(other.read("risks.csv"), "loom,risk\nL09,12\n");
    // A table of predictions is traced to the version, its run and the raw data; the receipts say it too.
    let trace = textum(&other, &["trace", "risks.csv"]).expect(0);
    trace.says("stops@2  run").says("of looms").says("rows@1");
    let tree: Value = serde_json::from_str(&other.read("textum.receipt.json")).unwrap();
    let receipt = textum(&other, &["show", tree["stages"]["predict"]["receipt"].as_str().unwrap(), "--receipt"]).expect(0).json();
    let published: Vec<&Value> = receipt["reads"].as_array().unwrap().iter().map(|read| &read["published"]).collect();
    assert!(published.contains(&&"stops@2".into()), "{receipt}");
    // Back, and nothing is executed again.
    textum(&tiny, &["alias", "stops@1", "live"]).expect(0);
    textum(&other, &["run"]).expect(0).says("reused");
    assert_eq!(other.read("risks.csv"), "loom,risk\nL09,8\n");
    // A sandbox leaves the tree as it is, and says what it lacks.
    textum(&tiny, &["alias", "stops@2", "live"]).expect(0);
    textum(&other, &["run", "--sandbox"])
        .expect(3)
        .warns("stops@live is 2 now, was 1")
        .warns("textum fetch stops@live -o models/stops");
    textum(&tiny, &["alias", "stops@1", "live"]).expect(0);
    textum(&other, &["run", "--sandbox"]).expect(0);
    // A depot that cannot be reached: what stands there counts, and that is said.
    let hidden = format!("{depot}-hidden");
    std::fs::rename(&depot, &hidden).unwrap();
    textum(&other, &["plan"])
        .expect(0)
        .warns("the registry could not be asked")
        .warns("what stands here counts: stops@1")
        .says("nothing to do");
    std::fs::remove_dir_all(other.path("models")).unwrap();
    textum(&other, &["run"]).expect(3).warns("nothing of it is here");
    std::fs::rename(&hidden, &depot).unwrap();
    // A person's file is not written over; another file in the folder is told.
    textum(&other, &["run"]).expect(0);
    other.write("models/stops/build/model.txt", "7\n");
    textum(&other, &["run"]).expect(2).warns("stands in the way");
    other.write("models/stops/build/model.txt", "2\n");
    // What an interpreter leaves there is nobody's.
    other.write("models/stops/lib/__pycache__/x.pyc", "x");
    other.write("models/stops/__pycache__/y.pyc", "y");
    textum(&other, &["run"]).expect(0);
    assert!(!other.has("models/stops/lib"));
    other.write("models/stops/mine.txt", "x");
    textum(&other, &["run"]).expect(2).warns("holds other files than stops@1");
    std::fs::remove_file(other.path("models/stops/mine.txt")).unwrap();
    for (from, said) in [
        ("stops@live", "names no published version"),
        ("registry:stops", "names no published version"),
        ("registry:stops@next", "has no alias `next`"),
    ] {
        other.write("textum.toml", manifest.replace("registry:stops@live", from));
        textum(&other, &["plan"]).warns(said);
    }
}

#[test]
fn why_versions_differ_is_told_and_that_nothing_else_does() {
    let (_outer, tiny, _) = published();
    publish_another(&tiny, "3");
    tiny.write("rows.csv", format!("{ROWS}L05,1,2026-11-06,0\n"));
    publish_another(&tiny, "5");
    let ran = textum(&tiny, &["compare", "stops@1", "stops@2"]).expect(0);
    ran.says("fit.rate").says("build/model.txt").says("the same: data, packages, use; nothing else differs");
    let found = textum(&tiny, &["compare", "stops@2", "stops@3", "--format", "json"]).expect(0).json();
    let differences = &found["differences"][0];
    assert_eq!(differences["params"][0]["name"], "fit.rate");
    assert!(differences["data"][0]["to"].as_str().unwrap().starts_with("rows@2"));
    assert_eq!(differences["use_of"], serde_json::json!([]));
    textum(&tiny, &["compare", "stops@2", "stops@3"]).expect(0).says("rows@2").says("+1 −0 rows");
    // By its published name a model is shown, traced and rebuilt like by its run.
    textum(&tiny, &["show", "stops@2"]).expect(0).says("Which looms will stop");
    textum(&tiny, &["trace", "stops@2"]).expect(0).says("build/model.txt").says("rows@1");
    textum(&tiny, &["rebuild", "stops@2"]).expect(0).says("identical");
    textum(&tiny, &["trace", "stops@9"]).expect(3).warns("there is no stops@9");
    textum(&tiny, &["compare", "stops@2", "last"]).expect(2).warns("`last` is no published version");
    textum(&tiny, &["compare", "stops@1", "stops@9"]).expect(3);
    textum(&tiny, &["compare", "stops@1", "stops@2", "--format", "csv"]).expect(0).says("stops@2,parameters,fit.rate,2,3");
}

/// A server that receives events, and fails as often as it is told to.
struct Receiver {
    url: String,
    got: Arc<Mutex<Vec<(String, Value)>>>,
    fail: Arc<Mutex<u32>>,
}

impl Receiver {
    fn new() -> Receiver {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let url = format!("http://{}/events", listener.local_addr().unwrap());
        let got: Arc<Mutex<Vec<(String, Value)>>> = Arc::default();
        let fail: Arc<Mutex<u32>> = Arc::default();
        let receiver = Receiver { url, got: got.clone(), fail: fail.clone() };
        std::thread::spawn(move || {
            for stream in listener.incoming() {
                let mut stream = stream.unwrap();
                let mut bytes = Vec::new();
                let mut part = [0; 4096];
                // The head says how long the body is.
                let (head, body) = loop {
                    let count = stream.read(&mut part).unwrap();
                    bytes.extend_from_slice(&part[..count]);
                    let text = String::from_utf8_lossy(&bytes).to_ascii_lowercase();
                    let Some(end) = text.find("\r\n\r\n") else { continue };
                    let length: usize =
                        text.split("content-length: ").nth(1).unwrap().split("\r\n").next().unwrap().parse().unwrap();
                    if bytes.len() >= end + 4 + length {
                        break (text[..end].to_string(), bytes[end + 4..end + 4 + length].to_vec());
                    }
                };
                let mut fail = fail.lock().unwrap();
                let status = if *fail > 0 { "503 Busy" } else { "204 No Content" };
                if *fail == 0 {
                    got.lock().unwrap().push((head, serde_json::from_slice(&body).unwrap()));
                }
                *fail = fail.saturating_sub(1);
                write!(stream, "HTTP/1.1 {status}\r\nContent-Length: 0\r\nConnection: close\r\n\r\n").unwrap();
            }
        });
        receiver
    }

    fn subjects(&self) -> Vec<String> {
        let got = self.got.lock().unwrap();
        got.iter().map(|(_, event)| format!("{} {}", event["type"].as_str().unwrap(), event["subject"].as_str().unwrap())).collect()
    }
}

#[test]
fn events_are_told_once_and_in_order_across_restarts() {
    let (_outer, tiny, _) = published();
    let receiver = Receiver::new();
    let watch = |more: &[&str]| {
        textum(&tiny, &[&["registry", "watch", "--post", &receiver.url, "--once", "--pause", "0.01"], more].concat())
    };
    // It begins with what comes from now on.
    watch(&[]).expect(0);
    assert_eq!(receiver.subjects(), Vec::<String>::new());
    publish_another(&tiny, "3");
    textum(&tiny, &["alias", "stops@2", "live"]).expect(0);
    *receiver.fail.lock().unwrap() = 2;
    watch(&[]).expect(0).warns("answered 503").says("told: alias.moved live");
    textum(&tiny, &["alias", "stops@1", "live"]).expect(0);
    textum(&tiny, &["retire", "stops@2", "--because", "wrong"]).expect(0);
    watch(&[]).expect(0);
    watch(&[]).expect(0);
    let kinds = ["version.published stops@2", "alias.moved stops@2", "alias.moved stops@1", "version.retired stops@2"];
    assert_eq!(receiver.subjects(), kinds.map(|k| format!("textum.registry.{k}")));
    let (head, event) = receiver.got.lock().unwrap()[1].clone();
    assert!(head.contains("content-type: application/cloudevents+json"), "{head}");
    assert_eq!((&event["specversion"], &event["datacontenttype"]), (&"1.0".into(), &"application/json".into()));
    assert_eq!(
        (&event["data"]["alias"], &event["data"]["before"], &event["data"]["version"]),
        (&"live".into(), &1.into(), &2.into())
    );
    let ids: std::collections::BTreeSet<String> = receiver.got.lock().unwrap().iter().map(|(_, e)| e["id"].to_string()).collect();
    assert_eq!(ids.len(), 4);
    // What cannot be told is kept, and what comes after it is told.
    textum(&tiny, &["note", "stops@1", "lost"]).expect(0);
    textum(&tiny, &["note", "stops@1", "told"]).expect(0);
    *receiver.fail.lock().unwrap() = 3;
    watch(&["--tries", "3"]).expect(1).warns("given up");
    assert_eq!(receiver.got.lock().unwrap().last().unwrap().1["data"]["text"], "told");
    let dead = textum(&tiny, &["registry", "watch", "--post", &receiver.url, "--dead"]).expect(0);
    dead.says("answered 503");
    watch(&["--redeliver"]).expect(0).says("told: entry");
    assert_eq!(receiver.got.lock().unwrap().last().unwrap().1["data"]["text"], "lost");
    watch(&["--redeliver"]).expect(0);
    assert_eq!(receiver.got.lock().unwrap().len(), 6);
}

#[test]
fn a_command_is_started_when_an_alias_moves() {
    let (_outer, tiny, _) = published();
    publish_another(&tiny, "3");
    let watch = |more: &[&str], command: &str| {
        let words = [
            &["registry", "watch", "--alias", "live", "--once", "--from", "0", "--pause", "0"],
            more,
            &["--", "sh", "-c", command],
        ];
        textum(&tiny, &words.concat())
    };
    let command = "echo $TEXTUM_NAME@$TEXTUM_VERSION $TEXTUM_ALIAS before=$TEXTUM_BEFORE >> seen; cat >> events";
    watch(&[], command).expect(0);
    textum(&tiny, &["alias", "stops@2", "live"]).expect(0);
    textum(&tiny, &["alias", "stops@2", "next"]).expect(0);
    let again = ["registry", "watch", "--alias", "live", "--once", "--", "sh", "-c", command];
    textum(&tiny, &again).expect(0);
    textum(&tiny, &again).expect(0);
    assert_eq!(tiny.read("seen"), "stops@1 live before=\nstops@2 live before=1\n");
    assert_eq!(tiny.read("events").matches("specversion").count(), 2);
    // Started anew with the same words, it tells nothing twice.
    textum(&tiny, &[&again[..4], &["--from", "0"], &again[4..]].concat()).expect(0);
    assert_eq!(tiny.read("seen").lines().count(), 2);
    // One that fails is tried again, and then kept.
    watch(&["--tries", "2", "--as", "bad"], "echo x >> failed; exit 1").expect(1).warns("did not succeed");
    assert_eq!(tiny.read("failed").lines().count(), 4);
    for (words, said) in [
        (&["registry", "watch"][..], "nobody would be told"),
        (&["registry", "watch", "--post", "shed"], "is no url of a server"),
        (&["registry", "watch", "--as", "a/b", "--", "true"], "cannot be a watcher's name"),
        (&["registry", "watch", "--every", "-1", "--", "true"], ""),
    ] {
        textum(&tiny, words).expect(2).warns(said);
    }
}
