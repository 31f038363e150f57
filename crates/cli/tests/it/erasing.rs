//! Rows forgotten: they are in no byte that Textum keeps, what has nothing to do with them is whole, and whatever instant it
//! ends at, it goes on or has not begun.

use std::path::Path;

use serde_json::Value;
use textum_testkit::{Ran, Tiny, fault_steps, holding, many};

use crate::{TEXTUM, textum};

/// What is to be forgotten.
const WEAVER: &str = "weaver-7f3a91c2";
const ERASE: [&str; 8] =
    ["data", "erase", "shifts", "--where", "weaver = \"weaver-7f3a91c2\"", "--because", "asked to be forgotten", "-y"];

const STAGES: &str = r#"
[data.shifts]
path = "shifts.csv"
[data.looms]
path = "looms.csv"
[params]
n = 1
[stage.clean]
run    = "mkdir -p b/parts; grep -v '^$' shifts.csv > b/clean.csv; for l in 1 2 3; do grep ,L$l, shifts.csv > b/parts/$l.csv; done; head -40 shifts.csv"
reads  = ["shifts.csv"]
writes = ["b/clean.csv", "b/parts"]
[stage.fit]
run    = "(echo factor {n}; grep L1 b/parts/1.csv) > b/model.txt"
reads  = ["b/parts/1.csv"]
params = ["n"]
writes = ["b/model.txt"]
[stage.predict]
run    = "(cat b/model.txt looms.csv | wc -c) > b/predicted.txt"
reads  = ["b/model.txt", "looms.csv"]
writes = ["b/predicted.txt"]
[stage.plain]
run    = "sort looms.csv > b/sorted.txt; echo sorted"
reads  = ["looms.csv"]
writes = ["b/sorted.txt"]
[model.stops]
files = ["b/model.txt"]
"#;

/// Rows of shifts; those of the weaver in between, where they are `with` her.
fn rows(first: u32, count: u32, with: bool) -> String {
    let row = |n: u32| {
        let weaver = if n.is_multiple_of(5) {
            if with { WEAVER.to_string() } else { return String::new() }
        } else {
            format!("weaver-{n:08x}")
        };
        format!("S{n:05},L{},{weaver},{}\n", n % 4, n.wrapping_mul(2_654_435_761) % 1000)
    };
    format!("shift,loom,weaver,stops\n{}", (first..first + count).map(row).collect::<String>())
}

fn begin(tiny: &Tiny, more: &str) {
    tiny.manifest(&format!("{STAGES}{more}"));
    tiny.write("looms.csv", "loom\nL3\nL1\nL2\n");
}

/// A project with three versions of its data, of which the second and the third have the rows.
fn three_versions(tiny: &Tiny, more: &str) {
    begin(tiny, more);
    for (text, n) in [(rows(1, 4, false), "n=1"), (rows(1, 400, true), "n=2"), (rows(1, 500, true), "n=3")] {
        tiny.write("shifts.csv", text);
        textum(tiny, &["run", "--set", n]).expect(0);
    }
}

/// The same below an outer folder, with a depot beside it.
fn sharing(outer: &Tiny) -> Tiny {
    let tiny = Tiny::at(&outer.path("shed"));
    three_versions(&tiny, "");
    textum(&tiny, &["depot", "add", "team", "../depot"]).expect(0);
    tiny
}

fn erased(tiny: &Tiny, more: &[&str]) -> Value {
    textum(tiny, &[&ERASE[..], more, &["--format", "json"]].concat()).expect(0).json()
}

fn strings(list: &Value, key: &str) -> Vec<String> {
    let mut all: Vec<String> = list.as_array().unwrap().iter().map(|v| v[key].as_str().unwrap_or_default().to_string()).collect();
    all.sort();
    all.dedup();
    all
}

/// Where frames of Zstandard begin that hold these bytes.
fn frames_with(bytes: &[u8], needle: &str) -> Vec<usize> {
    let holds = |at: &usize| {
        let mut out = Vec::new();
        let frame = zstd::stream::read::Decoder::new(&bytes[*at..]).map(zstd::stream::read::Decoder::single_frame);
        frame.is_ok_and(|mut f| std::io::Read::read_to_end(&mut f, &mut out).is_ok())
            && String::from_utf8_lossy(&out).contains(needle)
    };
    memchr::memmem::find_iter(bytes, &[0x28, 0xB5, 0x2F, 0xFD]).filter(holds).collect()
}

#[test]
fn they_are_in_no_byte_of_store_ledger_tree_and_depot() {
    let outer = Tiny::new();
    let tiny = sharing(&outer);
    textum(&tiny, &["sync"]).expect(0);
    // In a sandbox, aside, in a damaged pack that is kept, and in a half of what a dead process wrote.
    textum(&tiny, &["run", "--sandbox", "--set", "n=4"]).expect(0);
    tiny.write("b/clean.csv", format!("{}edited by hand\n", rows(1, 30, true)));
    textum(&tiny, &["run", "--set", "n=5"]).expect(0);
    // One of several frames that hold the rows: no receipt is hurt, and what is kept of the pack still has some.
    let (pack, at) = holding(&tiny.path(".textum/store/packs"), WEAVER)
        .into_iter()
        .map(|pack| format!(".textum/store/packs/{pack}"))
        .find_map(|pack| {
            let frames = frames_with(&std::fs::read(tiny.path(&pack)).unwrap(), WEAVER);
            (frames.len() > 1).then(|| (pack, frames[0]))
        })
        .unwrap();
    let mut bytes = std::fs::read(tiny.path(&pack)).unwrap();
    bytes[at + 20] ^= 4;
    tiny.write(&pack, &bytes);
    textum(&tiny, &["verify", "--repair"]);
    tiny.write(".textum/incoming/.part-1-x", rows(1, 20, true));
    let before = holding(&tiny.path(".textum"), WEAVER);
    for place in ["store/packs/", "store/damaged/", "aside/", "sandboxes/", "incoming/"] {
        assert!(before.iter().any(|f| f.starts_with(place)), "{place}: {before:?}");
    }
    assert!(!holding(&outer.path("depot"), WEAVER).is_empty());
    let whole = textum(&tiny, &["verify", "--deep"]).status;
    let ran = textum(&tiny, &[&ERASE[..7], &["--dry-run"]].concat()).expect(0);
    ran.says("shifts@2")
        .says("of 400 rows")
        .says("b/model.txt")
        .says("rows stay")
        .says("from the working tree")
        .says("damaged packs");
    assert_eq!(holding(&tiny.path(".textum"), WEAVER), before, "a look changes nothing");
    let done = erased(&tiny, &["--report", "account.md"]);
    assert_eq!(holding(&tiny.path("."), WEAVER), Vec::<String>::new());
    assert_eq!(holding(&outer.path("depot"), WEAVER), Vec::<String>::new());
    assert_eq!(strings(&done["versions"], "version"), ["shifts@2", "shifts@3"]);
    assert_eq!(done["versions"][0]["rows"], 80);
    // The tree has the dataset without them, and it is recorded.
    assert_eq!(tiny.read("shifts.csv"), rows(1, 500, false));
    let versions = textum(&tiny, &["data", "versions", "shifts", "--format", "json"]).expect(0).json();
    assert_eq!((&versions["tree"]["version"], &versions["versions"][3]["rows"]), (&4.into(), &400.into()));
    assert_eq!(versions["versions"][1]["erased"]["because"], "asked to be forgotten");
    assert!(!tiny.has("b/clean.csv") && !tiny.has("b/model.txt") && tiny.has("b/sorted.txt"));
    // What has nothing to do with them is whole, and receipts are.
    assert!(whole == 4 || whole == 0);
    textum(&tiny, &["verify", "--deep"]).expect(0).says("all is there").says("erased");
    textum(&tiny, &["verify", "--depot", "team", "--deep"]).expect(0).says("all is there");
    textum(&tiny, &["restore", "shifts@1", "-o", "first"]).expect(0);
    assert_eq!(tiny.read("first/shifts.csv"), rows(1, 4, false));
    textum(&tiny, &["restore", "last~4:b/model.txt", "-o", "first"]).expect(0);
    textum(&tiny, &["restore", "last:b/sorted.txt", "-o", "first"]).expect(0);
    textum(&tiny, &["trace", "last:b/model.txt"]).expect(0).says("shifts@3").says("erased").says("asked to be forgotten");
    textum(&tiny, &["show", "last"]).expect(0).says("b/parts").says("asked to be forgotten");
    for (words, status) in [
        (&["restore", "shifts@2"][..], 3),
        (&["restore", "last"], 3),
        (&["rebuild", "last"], 3),
        (&["data", "diff", "shifts@2", "shifts@4"], 3),
        (&["restore", "last:b/parts"], 3),
    ] {
        textum(&tiny, words).expect(status).warns("erased on").warns("asked to be forgotten");
    }
    textum(&tiny, &["data", "find", "shifts", "--where", "loom = \"L1\""]).expect(0).says("erased on");
    textum(&tiny, &["rebuild", "last~4"]).expect(0).says("identical");
    // The account, and no word of what it was.
    let account = tiny.read("account.md");
    for text in ["asked to be forgotten", "shifts@2", "weaver", "b/model.txt", "shifts@4"] {
        assert!(account.contains(text), "{text}: {account}");
    }
    textum(&tiny, &[&ERASE[..], &["--report", "account.md"]].concat()).expect(2).warns("there already");
    textum(&tiny, &ERASE).expect(3).warns("no version of shifts has such rows");
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["sync"]).expect(0);
    // Nor does it come back by somebody's copy.
    tiny.write("shifts.csv", rows(1, 400, true));
    textum(&tiny, &["run"]).expect(1).warns("erased on").warns("textum data versions");
    textum(&tiny, &["data", "record"]).expect(1).warns("erased on");
    textum(&tiny, &["run", "--vary", "n=1,2"]).expect(1).warns("erased on");
    assert_eq!(holding(&tiny.path(".textum"), WEAVER), Vec::<String>::new());
}

#[test]
fn whatever_instant_it_ends_at_it_goes_on_or_has_not_begun() {
    let template = Tiny::new();
    begin(&template, "");
    template.write("shifts.csv", rows(1, 60, true));
    textum(&template, &["run"]).expect(0);
    for (at, fault) in ["crash", "torn", "full", "error"].into_iter().enumerate() {
        let (mut begun, mut not_begun, mut last) = (0, 0, 0);
        for step in fault_steps(at) {
            let what = format!("{fault}:{step}");
            let tiny = Tiny::new();
            tiny.textum("cp", &["-a", &format!("{}/.", template.root().display()), "."]).expect(0);
            let ran = tiny.textum_with(TEXTUM, &ERASE, &[("TEXTUM_FAULT", &what)]);
            assert!(!ran.err.contains("panicked"), "{what}: {}", ran.err);
            last = if ran.status == 0 { last } else { step };
            // Any command finishes what has begun.
            let looked = textum(&tiny, &["verify", "--deep"]);
            assert_eq!(looked.status, 0, "{what}: {}{}", looked.out, looked.err);
            assert!(!tiny.has(".textum/store/hold.journal"), "{what}");
            if textum(&tiny, &["restore", "shifts@1", "-o", "out"]).status == 0 {
                not_begun += 1;
                assert_eq!(tiny.read("out/shifts.csv"), rows(1, 60, true), "{what}");
                assert_eq!(tiny.read("shifts.csv"), rows(1, 60, true), "{what}");
                std::fs::remove_dir_all(tiny.path("out")).unwrap();
                textum(&tiny, &["restore", "last:b/parts", "-o", "parts"]).expect(0);
                std::fs::remove_dir_all(tiny.path("parts")).unwrap();
                textum(&tiny, &ERASE).expect(0);
            } else {
                begun += 1;
            }
            assert_eq!(holding(tiny.root(), WEAVER), Vec::<String>::new(), "{what}");
            assert_eq!(tiny.read("shifts.csv"), rows(1, 60, false), "{what}");
            textum(&tiny, &["restore", "last:b/sorted.txt", "-o", "kept"]).expect(0);
            textum(&tiny, &["verify", "--deep"]).expect(0);
            if step > last + 8 {
                break;
            }
            assert!(step < many("TEXTUM_STEPS", 400), "{what}: there is no end of steps");
        }
        assert!(not_begun > 1 && begun > 1, "{fault}: {not_begun} not begun, {begun} begun");
    }
}

/// Something done in a project below an outer folder, by somebody of their own.
fn on(outer: &Tiny, name: &str, words: &[&str]) -> Ran {
    let words = [&["-C", name], words].concat();
    outer.textum_with(TEXTUM, &words, &[("USER", name), ("TEXTUM_HOST", "loom")])
}

#[test]
fn a_depot_out_of_reach_is_told_until_it_is_done() {
    let outer = Tiny::new();
    let tiny = sharing(&outer);
    textum(&tiny, &["sync"]).expect(0);
    std::fs::rename(outer.path("depot"), outer.path("away")).unwrap();
    textum(&tiny, &ERASE).expect(1).says("team is pending").warns("textum data erase --pending");
    assert_eq!(holding(tiny.root(), WEAVER), Vec::<String>::new());
    textum(&tiny, &["runs"]).expect(0).warns("team still has what was erased");
    textum(&tiny, &["data", "erase", "--pending"]).expect(1).says("pending");
    textum(&tiny, &["data", "erase", "shifts", "--report", "a.md"]).expect(0);
    assert!(tiny.read("a.md").contains("team has not heard of it"));
    std::fs::rename(outer.path("away"), outer.path("depot")).unwrap();
    // As long as it is there, nothing fetches it.
    assert!(!holding(&outer.path("depot"), WEAVER).is_empty());
    textum(&tiny, &["restore", "shifts@3"]).expect(3).warns("erased on");
    textum(&tiny, &["sync", "--content", "all"]).expect(0);
    assert_eq!(holding(&tiny.path(".textum"), WEAVER), Vec::<String>::new());
    textum(&tiny, &["data", "erase", "--pending"]).expect(0).says("team");
    assert_eq!(holding(&outer.path("depot"), WEAVER), Vec::<String>::new());
    let quiet = textum(&tiny, &["runs"]).expect(0);
    assert!(!quiet.err.contains("still has"), "{}", quiet.err);
    textum(&tiny, &["data", "erase", "--pending"]).expect(0).says("nothing is pending");
    textum(&tiny, &["verify", "--depot", "team", "--deep"]).expect(0);
}

#[test]
fn whoever_shares_the_depot_is_told_and_erases_what_they_have_made() {
    let outer = Tiny::new();
    let ada = Tiny::at(&outer.path("ada"));
    three_versions(&ada, "");
    textum(&ada, &["depot", "add", "team", "../depot"]).expect(0);
    on(&outer, "ada", &["sync"]).expect(0);
    let bo = Tiny::at(&outer.path("bo"));
    for name in ["textum.toml", "looms.csv", "shifts.csv", "textum.receipt.json"] {
        bo.write(name, std::fs::read(ada.path(name)).unwrap());
    }
    // Results that nobody else knows of.
    on(&outer, "bo", &["sync", "--content", "all"]).expect(0);
    on(&outer, "bo", &["run", "--set", "n=7"]).expect(0);
    on(&outer, "ada", &ERASE).expect(0);
    assert!(!holding(&bo.path(".textum"), WEAVER).is_empty());
    on(&outer, "bo", &["sync"]).expect(1).warns("others have erased what is still here");
    assert_eq!(holding(&outer.path("depot"), WEAVER), Vec::<String>::new(), "what is to be forgotten is not sent again");
    on(&outer, "bo", &["runs"]).expect(0).warns("others have erased rows of shifts");
    on(&outer, "bo", &["data", "erase", "--pending"]).expect(2).warns("nobody to be asked");
    let would = on(&outer, "bo", &["data", "erase", "--pending", "--dry-run"]).expect(0);
    would.says("asked to be forgotten").says("shifts.csv").says("b/model.txt").says("from the working tree");
    let would = on(&outer, "bo", &["data", "erase", "--pending", "--dry-run", "--format", "json"]).expect(0).json();
    assert_eq!((&would["theirs"][0]["erased"]["dataset"], &would["depots"]), (&"shifts".into(), &serde_json::json!({})));
    assert!(!holding(&bo.path(".textum"), WEAVER).is_empty(), "nothing goes without a word of theirs");
    on(&outer, "bo", &["data", "erase", "--pending", "-y"]).expect(0).says("erased");
    assert_eq!(holding(&bo.path(".textum"), WEAVER), Vec::<String>::new());
    assert!(!bo.has("b/model.txt"), "made of them");
    on(&outer, "bo", &["verify", "--deep"]).expect(0);
    on(&outer, "bo", &["restore", "last:b/model.txt"]).expect(3).warns("erased on");
    let quiet = on(&outer, "bo", &["runs"]).expect(0);
    assert!(!quiet.err.contains("others have erased"), "{}", quiet.err);
    on(&outer, "bo", &["sync"]).expect(0);
    on(&outer, "ada", &["sync"]).expect(0);
    for name in ["ada", "bo"] {
        on(&outer, name, &["verify", "--deep"]).expect(0);
        on(&outer, name, &["verify", "--depot", "team", "--deep"]).expect(0);
        assert_eq!(holding(&outer.path(&format!("{name}/.textum")), WEAVER), Vec::<String>::new(), "{name}");
    }
    assert_eq!(holding(&outer.path("depot"), WEAVER), Vec::<String>::new());
}

/// Another project that predicts with what the shed has published.
fn tomorrow(outer: &Tiny) -> Tiny {
    let other = Tiny::at(&outer.path("tomorrow"));
    other.write(
        "textum.toml",
        "[project]\nname = \"tomorrow\"\n[depot.team]\nurl = \"../depot\"\n[data.model]\npath = \"m\"\nfrom = \"registry:stops@live\"\n\
         [stage.predict]\nrun = \"(cat m/b/model.txt; echo tomorrow) > risks.csv\"\nreads = [\"m\"]\nwrites = [\"risks.csv\"]\n\
         [stage.part]\nrun = \"wc -c < m/b/model.txt > part.txt\"\nreads = [\"m/b/model.txt\"]\nwrites = [\"part.txt\"]\n\
         [stage.own]\nrun = \"echo its own > own.txt\"\nwrites = [\"own.txt\"]\n",
    );
    textum(&other, &["run"]).expect(0);
    textum(&other, &["sync"]).expect(0);
    other
}

#[test]
fn what_was_published_of_them_is_taken_back_and_other_projects_are_told() {
    let outer = Tiny::new();
    let tiny = sharing(&outer);
    textum(&tiny, &["publish", "stops", "--unsigned"]).expect(0);
    textum(&tiny, &["alias", "stops@1", "live", "--unsigned"]).expect(0);
    textum(&tiny, &["sync"]).expect(0);
    let other = tomorrow(&outer);
    assert!(other.read("risks.csv").contains(WEAVER));
    let done = erased(&tiny, &["--unsigned"]);
    assert_eq!(done["retired"], serde_json::json!([{"version": "stops@1", "failed": null}]));
    assert_eq!(strings(&done["predictions"], "path"), ["part.txt", "risks.csv"]);
    assert_eq!(done["depots"][0]["projects"], serde_json::json!(["tomorrow"]));
    assert_eq!(holding(&outer.path("depot"), WEAVER), Vec::<String>::new());
    textum(&tiny, &["registry", "show", "stops@1"]).expect(0).says("asked to be forgotten");
    textum(&tiny, &["fetch", "stops@1", "-o", "fetched"]).expect(3).warns("asked to be forgotten");
    textum(&other, &["sync"]).expect(1).warns("others have erased what is still here");
    textum(&other, &["data", "erase", "--pending", "-y"]).expect(0);
    assert_eq!(holding(&other.path(".textum"), WEAVER), Vec::<String>::new());
    assert!(!other.has("risks.csv") && !other.has("part.txt") && other.has("own.txt"));
    textum(&other, &["verify", "--deep"]).expect(0);
    textum(&other, &["trace", "last:risks.csv"]).expect(0).says("stops@1").says("erased");
    textum(&other, &["sync"]).expect(0);
    assert_eq!(holding(&outer.path("depot"), WEAVER), Vec::<String>::new());
}

#[test]
fn models_may_stay_with_what_was_made_with_them() {
    let outer = Tiny::new();
    let tiny = sharing(&outer);
    textum(&tiny, &["publish", "stops", "--unsigned"]).expect(0);
    textum(&tiny, &["alias", "stops@1", "live", "--unsigned"]).expect(0);
    textum(&tiny, &["sync"]).expect(0);
    let other = tomorrow(&outer);
    let (model, predicted) = (tiny.read("b/model.txt"), tiny.read("b/predicted.txt"));
    let done = erased(&tiny, &["--keep-models"]);
    let kept: Vec<&Value> = done["left"].as_array().unwrap().iter().filter(|l| l["kind"] == "model").collect();
    assert!(kept.iter().all(|l| l["what"] == "b/model.txt") && kept.len() == 2, "{done}");
    assert_eq!((tiny.read("b/model.txt"), tiny.read("b/predicted.txt")), (model.clone(), predicted));
    assert!(!tiny.has("b/clean.csv") && !tiny.has("b/parts"));
    textum(&tiny, &["restore", "last:b/predicted.txt", "-o", "out"]).expect(0);
    textum(&tiny, &["restore", "last:b/clean.csv"]).expect(3).warns("erased on");
    textum(&tiny, &["fetch", "stops@live", "-o", "fetched"]).expect(0);
    assert_eq!(tiny.read("fetched/b/model.txt"), model);
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["verify", "--depot", "team", "--deep"]).expect(0);
    textum(&other, &["sync"]).expect(0);
    textum(&other, &["restore", "last:risks.csv", "-o", "out"]).expect(0);
}

#[test]
fn what_is_left_is_said_and_what_must_not_be_is_refused() {
    let tiny = Tiny::new();
    three_versions(&tiny, "[data.copy]\npath = \"copy.csv\"\n");
    let git = |words: &[&str]| tiny.textum("git", &[&["-c", "user.name=a", "-c", "user.email=a@b"], words].concat()).expect(0);
    git(&["init", "-q", "."]);
    git(&["add", "shifts.csv"]);
    git(&["commit", "-qm", "data"]);
    tiny.write("copy.csv", format!("{}S99999,L1,weaver-of-its-own,7\n", rows(1, 100, true)));
    textum(&tiny, &["data", "record"]).expect(0);
    tiny.write("notes/old.csv", rows(1, 50, true));
    let refused = |words: &[&str], status: i32, what: &str| {
        textum(&tiny, &[&["data", "erase"], words].concat()).expect(status).warns(what);
    };
    refused(&["shifts", "--where", "weaver = \"weaver-7f3a91c2\""], 2, "--because");
    refused(&["shifts", "--where", "weaver = \"weaver-7f3a91c2\"", "--because", " ", "-y"], 2, "not said why");
    refused(&["shifts", "--where", "weaver = \"weaver-7f3a91c2\"", "--because", "weaver-7f3a91c2 asked", "-y"], 2, "for ever");
    refused(&["shifts", "--where", "\"a\" = \"a\"", "--because", "x", "-y"], 2, "no column");
    refused(&["shifts", "--where", "colour = \"red\"", "--because", "x", "-y"], 2, "colour");
    refused(&["shiftz", "--where", "loom = \"L1\"", "--because", "x", "-y"], 3, "shiftz");
    refused(&["shifts", "--where", "loom = \"L77\"", "--because", "x", "-y"], 3, "no version");
    refused(&["shifts", "--where", "loom = \"L1\"", "--because", "x"], 2, "nobody to be asked");
    tiny.write("photos/a.csv", rows(1, 9, true));
    textum(&tiny, &["data", "add", "photos"]).expect(0);
    refused(&["photos", "--where", "loom = \"L1\"", "--because", "x", "-y"], 2, "is a folder");
    std::fs::remove_dir_all(tiny.path("photos")).unwrap();
    let done = erased(&tiny, &[]);
    let left = |kind: &str| -> Vec<String> {
        let of: Vec<Value> = done["left"].as_array().unwrap().iter().filter(|l| l["kind"] == kind).cloned().collect();
        strings(&Value::Array(of), "what")
    };
    assert_eq!(left("git"), ["shifts.csv"]);
    assert_eq!(left("file"), ["copy.csv", "notes/old.csv"]);
    // A file of the folder, and the dataset of the same rows.
    let same = left("same-rows");
    assert!(same.contains(&"copy@1".to_string()) && same.len() == 2, "{same:?}");
    assert_eq!(done["published"], serde_json::json!([]));
    // The copy goes by its own name.
    textum(&tiny, &["data", "erase", "copy", "--where", "weaver = \"weaver-7f3a91c2\"", "--because", "a copy", "-y"]).expect(0);
    assert_eq!(holding(&tiny.path(".textum"), WEAVER).len(), 1, "of the folder");
    assert!(tiny.read("copy.csv").contains("weaver-of-its-own"));
    // A hostile journal does nothing.
    tiny.write(".textum/store/hold.journal", "{\"type\":\"textum/erase-journal@1\",\"sandboxes\":[\"../../..\"]}");
    textum(&tiny, &["runs"]).expect(4).warns("hold.journal");
    assert!(Path::new(&tiny.path("notes/old.csv")).exists());
}

#[test]
fn nothing_is_erased_while_runs_are_at_work() {
    let tiny = Tiny::new();
    let root = tiny.root().display();
    begin(&tiny, &format!("[stage.slow]\nrun = \"touch {root}/begun; cat {root}/fifo > b/slow.txt\"\nwrites = [\"b/slow.txt\"]\n"));
    tiny.write("shifts.csv", rows(1, 40, true));
    textum(&tiny, &["data", "record"]).expect(0);
    tiny.textum("mkfifo", &["fifo"]).expect(0);
    let mut child = tiny.start(TEXTUM, &["run", "--sandbox", "slow"]);
    while !tiny.has("begun") {
        std::thread::yield_now();
    }
    textum(&tiny, &ERASE).expect(1).warns("at work");
    assert!(tiny.read("shifts.csv").contains(WEAVER));
    textum(&tiny, &["stop"]).expect(0);
    let _ = child.wait();
    textum(&tiny, &ERASE).expect(0);
}

#[test]
fn a_model_that_stays_is_fetched_though_its_example_is_gone() {
    let tiny = Tiny::new();
    crate::publishing::begin(&tiny, "");
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["publish", "stops", "--unsigned"]).expect(0);
    textum(&tiny, &["fetch", "stops@1", "-o", "before", "--check"]).expect(0).says("as before");
    let words =
        ["data", "erase", "rows", "--where", "loom = \"L02\"", "--because", "the loom was never ours", "-y", "--keep-models"];
    textum(&tiny, &words).expect(0).says("build/model.txt is a model that stays");
    assert_eq!(holding(&tiny.path(".textum"), "L02,2,2026-11-03"), Vec::<String>::new());
    textum(&tiny, &["fetch", "stops@1", "-o", "after"]).expect(0);
    assert_eq!(tiny.read("after/build/model.txt"), tiny.read("before/build/model.txt"));
    textum(&tiny, &["fetch", "stops@1", "-o", "after", "--check"]).expect(3).warns("may have been erased");
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["registry", "check"]).expect(0);
}

#[test]
fn a_receipt_of_others_removes_nothing_by_itself_and_cannot_harm_the_terminal() {
    let tiny = Tiny::new();
    three_versions(&tiny, "");
    let digest =
        textum(&tiny, &["data", "versions", "shifts", "--format", "json"]).expect(0).json()["versions"][2]["digest"].clone();
    let digest = digest.as_str().unwrap();
    let said = format!(
        "{{\"because\":\"\\u001b[2Jgone | `x`\",\"by\":\"eve\\u0007@there\",\"columns\":[\"a\"],\"contents\":{{\"{digest}\":1}},\
         \"dataset\":\"shifts\",\"erased\":\"2026-11-27T00:00:00Z\",\"type\":\"textum/erase-receipt@1\",\
         \"versions\":{{\"3\":{{\"digest\":\"{digest}\",\"rows\":9}}}}}}"
    );
    let store = textum_core::store::Store::open(&tiny.path(".textum/store"));
    let writer = store.writer().unwrap();
    writer.put_document(said.as_bytes()).unwrap();
    writer.publish().unwrap();
    drop(writer);
    let ran = textum(&tiny, &["data", "versions", "shifts"]).expect(0).warns("others have erased rows of shifts");
    assert!(!ran.out.contains('\u{1b}') && !ran.err.contains('\u{1b}'));
    textum(&tiny, &["restore", "shifts@3", "-o", "out"]).expect(0);
    assert_eq!(tiny.read("out/shifts.csv"), rows(1, 500, true), "it is here, whatever somebody says");
    textum(&tiny, &["data", "erase", "shifts", "--report", "a.md"]).expect(0);
    let account = tiny.read("a.md");
    assert!(!account.contains('\u{1b}') && account.contains("is in the store"), "{account}");
    textum(&tiny, &["verify", "--deep"]).expect(0);
}

#[test]
fn a_depot_is_whole_whatever_instant_its_erasing_ends_at() {
    let template = Tiny::new();
    let shed = Tiny::at(&template.path("shed"));
    begin(&shed, "");
    shed.write("shifts.csv", rows(1, 60, true));
    textum(&shed, &["run"]).expect(0);
    textum(&shed, &["depot", "add", "team", "../depot"]).expect(0);
    textum(&shed, &["sync"]).expect(0);
    std::fs::rename(template.path("depot"), template.path("away")).unwrap();
    textum(&shed, &ERASE).expect(1).says("pending");
    std::fs::rename(template.path("away"), template.path("depot")).unwrap();
    for fault in ["crash", "error"] {
        let (mut last, mut met) = (0, 0);
        for step in 1.. {
            let what = format!("{fault}:{step}");
            let outer = Tiny::new();
            outer.textum("cp", &["-a", &format!("{}/.", template.root().display()), "."]).expect(0);
            let tiny = Tiny::at(&outer.path("shed"));
            let ran = tiny.textum_with(TEXTUM, &["data", "erase", "--pending"], &[("TEXTUM_FAULT", &what)]);
            assert!(!ran.err.contains("panicked"), "{what}: {}", ran.err);
            (last, met) = if ran.status == 0 { (last, met) } else { (step, met + 1) };
            // What stays can be had at any time, by somebody who knows of nothing.
            textum(&tiny, &["verify", "--depot", "team", "--deep"]).expect(0);
            let bo = Tiny::at(&outer.path("bo"));
            bo.write("textum.toml", tiny.read("textum.toml"));
            textum(&bo, &["sync", "--down"]).expect(0);
            textum(&bo, &["restore", "last:b/sorted.txt", "-o", "out"]).expect(0);
            textum(&tiny, &["data", "erase", "--pending"]).expect(0);
            assert_eq!(holding(&outer.path("depot"), WEAVER), Vec::<String>::new(), "{what}");
            textum(&tiny, &["verify", "--depot", "team", "--deep"]).expect(0);
            if step > last + 6 {
                break;
            }
            assert!(step < many("TEXTUM_STEPS", 400), "{what}: there is no end of steps");
        }
        assert!(met > 3, "{fault}: {met} were met");
    }
}

#[test]
fn of_a_large_table_only_the_pieces_with_the_rows_go() {
    let outer = Tiny::new();
    let tiny = Tiny::at(&outer.path("shed"));
    begin(&tiny, "");
    // Only some of its pieces have such rows, and the version without them has all the others.
    let large = |with: bool| format!("{}{}", rows(1, 100, with), rows(1_000, 120_000, false).split_once('\n').unwrap().1);
    tiny.write("shifts.csv", large(true));
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["depot", "add", "team", "../depot"]).expect(0);
    textum(&tiny, &["sync"]).expect(0);
    textum(&tiny, &ERASE).expect(0);
    textum(&tiny, &["verify", "--deep"]).expect(0);
    assert_eq!(holding(&outer.path("."), WEAVER), Vec::<String>::new());
    std::fs::remove_file(tiny.path("shifts.csv")).unwrap();
    textum(&tiny, &["restore", "shifts@2"]).expect(0);
    assert!(tiny.read("shifts.csv") == large(false));
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["sync"]).expect(0);
    textum(&tiny, &["verify", "--depot", "team", "--deep"]).expect(0);
    let bo = Tiny::at(&outer.path("bo"));
    bo.write("textum.toml", tiny.read("textum.toml"));
    textum(&bo, &["sync", "--down"]).expect(0);
    textum(&bo, &["restore", "shifts@2"]).expect(0);
    assert!(bo.read("shifts.csv") == large(false));
}

#[test]
fn as_long_as_there_is_no_room_to_finish_looking_goes_on_and_nothing_is_added() {
    let template = Tiny::new();
    begin(&template, "");
    template.write("shifts.csv", rows(1, 60, true));
    textum(&template, &["run"]).expect(0);
    let mut met = 0;
    for step in 1..80 {
        let tiny = Tiny::new();
        tiny.textum("cp", &["-a", &format!("{}/.", template.root().display()), "."]).expect(0);
        let ran = tiny.textum_with(TEXTUM, &ERASE, &[("TEXTUM_FAULT", &format!("full:{step}"))]);
        if ran.status == 0 {
            assert!(met > 0, "it was never cut off");
            return;
        }
        if !tiny.has(".textum/store/hold.journal") {
            continue;
        }
        met += 1;
        let full = |words: &[&str]| tiny.textum_with(TEXTUM, words, &[("TEXTUM_FAULT", "full:1")]);
        full(&["runs"]).expect(0).warns("is not finished yet");
        tiny.write("looms.csv", "loom\nL9\n");
        let refused = full(&["data", "record", "looms"]);
        assert!(refused.status != 0 && !refused.err.contains("panicked"), "{step}: {}", refused.err);
        textum(&tiny, &["runs"]).expect(0).warns("was finished");
        assert_eq!(holding(tiny.root(), WEAVER), Vec::<String>::new(), "{step}");
        textum(&tiny, &["data", "record", "looms"]).expect(0);
        textum(&tiny, &["verify", "--deep"]).expect(0);
    }
    panic!("there is no end of steps");
}
