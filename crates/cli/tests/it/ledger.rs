//! The ledger when it is busy, full, read only, damaged or none: told apart, and never a reason to lose anything.

use textum_testkit::Tiny;

use crate::{TEXTUM, textum, two_stages};

fn with_runs() -> Tiny {
    let tiny = two_stages();
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["run", "--set", "count.from=2"]).expect(0);
    tiny
}

/// The questions that reading commands answer.
const LOOKS: [&[&str]; 7] =
    [&["plan"], &["runs"], &["show", "last"], &["trace", "build/lines.txt"], &["compare", "last~1", "last"], &["data"], &["stats"]];

/// What is told, without how long ago anything was: that changes while a test goes on.
fn without_ages(told: &str) -> String {
    let mut kept: Vec<&str> = Vec::new();
    for word in told.split_whitespace() {
        match word {
            "ago" => kept.truncate(kept.len().saturating_sub(2)),
            "now" if kept.last() == Some(&"just") => drop(kept.pop()),
            word => kept.push(word),
        }
    }
    kept.join(" ")
}

#[test]
fn a_flipped_bit_in_the_ledger_is_found_wherever_it_says_something() {
    let tiny = with_runs();
    let path = tiny.path(".textum/ledger.db");
    let run = textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json()["run"].as_str().unwrap().to_string();
    let good = std::fs::read(&path).unwrap();
    // Wherever the run is named: in tables and in indexes.
    let places: Vec<usize> = memchr::memmem::find_iter(&good, run.as_bytes()).collect();
    assert!(places.len() > 8, "{}", places.len());
    for at in places {
        let mut bad = good.clone();
        bad[at + run.len() - 1] ^= 2;
        std::fs::write(&path, &bad).unwrap();
        let report = textum(&tiny, &["verify", "--format", "json"]);
        assert_eq!(report.status, 4, "a bit at {at}: {}", report.out);
        assert!(report.json()["problems"].as_array().unwrap().iter().all(|p| p["derived"] == true), "{}", report.out);
    }
    textum(&tiny, &["verify", "--repair"]).expect(0).says("made anew");
    textum(&tiny, &["show", "last"]).expect(0).says(&run);
}

#[test]
fn reading_works_where_nothing_may_be_written() {
    let tiny = with_runs();
    let before: Vec<String> = LOOKS.iter().map(|w| without_ages(&textum(&tiny, w).expect(0).out)).collect();
    let is_root = tiny.textum("id", &["-u"]).out.trim() == "0";
    let locked = |on: bool| {
        let mode = if on { "a-w,a+rX" } else { "u+w" };
        tiny.textum("chmod", &["-R", mode, "."]).expect(0);
    };
    tiny.textum("cp", &[TEXTUM, "textum-copy"]).expect(0);
    locked(true);
    for (words, before) in LOOKS.iter().zip(&before) {
        // Whoever may do anything is nobody for this.
        let mut line: Vec<&str> =
            if is_root { vec!["--reuid=65534", "--regid=65534", "--clear-groups", "./textum-copy"] } else { vec![] };
        line.extend(*words);
        let ran = tiny.textum(if is_root { "setpriv" } else { "./textum-copy" }, &line);
        assert_eq!((ran.status, &without_ages(&ran.out)), (0, before), "{words:?}: {}", ran.err);
    }
    locked(false);
    textum(&tiny, &["verify", "--deep"]).expect(0);
    // With the ledger gone it is made in memory out of the packs.
    for name in ["ledger.db", "ledger.db-wal", "ledger.db-shm"] {
        let _ = std::fs::remove_file(tiny.path(&format!(".textum/{name}")));
    }
    locked(true);
    let line: &[&str] =
        if is_root { &["--reuid=65534", "--regid=65534", "--clear-groups", "./textum-copy", "runs"] } else { &["runs"] };
    let ran = tiny.textum(if is_root { "setpriv" } else { "./textum-copy" }, line);
    assert_eq!((ran.status, &without_ages(&ran.out)), (0, &before[1]), "{}", ran.err);
    locked(false);
}

#[test]
fn a_ledger_that_another_process_holds_is_not_damaged() {
    let tiny = with_runs();
    let hold = "import sqlite3, sys\nc = sqlite3.connect('.textum/ledger.db', isolation_level=None)\nc.execute('BEGIN EXCLUSIVE')\nprint('held', flush=True)\nsys.stdin.read()\n";
    let mut child = std::process::Command::new("python3")
        .args(["-c", hold])
        .current_dir(tiny.root())
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    let mut line = String::new();
    std::io::BufRead::read_line(&mut std::io::BufReader::new(child.stdout.take().unwrap()), &mut line).unwrap();
    assert_eq!(line, "held\n");
    // Each waits for a while: all of them at the same time. The run is one in a sandbox: one in the tree takes the
    // file away that `trace` asks about, until it has made the new one.
    let run: &[&str] = &["run", "--sandbox", "--set", "count.from=7"];
    std::thread::scope(|scope| {
        let tiny = &tiny;
        let all: Vec<_> = LOOKS.iter().copied().chain([run]).map(|words| scope.spawn(move || textum(tiny, words))).collect();
        for ran in all {
            let ran = ran.join().unwrap();
            assert!(ran.expect(0).out.len() > 10);
        }
    });
    drop(child.stdin.take());
    child.wait().unwrap();
    textum(&tiny, &["verify"]).expect(0);
    assert_eq!(textum(&tiny, &["runs", "--format", "json"]).expect(0).json().as_array().unwrap().len(), 3);
}

#[test]
fn the_ledger_needs_no_memory_that_a_full_disk_could_take_from_it() {
    // A file that processes share as memory ends whoever touches it where the disk has no room for the page: there
    // is none, not even in the midst of a run, and one that was left is not used.
    let tiny = Tiny::with("[stage.list]\nrun = \"ls .textum > list\"\nwrites = [\"list\"]\n");
    textum(&tiny, &["run"]).expect(0);
    let list = tiny.read("list");
    assert!(list.contains("ledger.db\n"), "{list}");
    assert!(!list.contains("ledger.db-shm") && !list.contains("ledger.db-wal"), "{list}");
    // One of a Textum that kept a log ahead is taken over.
    let ahead =
        "import sqlite3; c = sqlite3.connect('.textum/ledger.db'); print(c.execute('PRAGMA journal_mode = WAL').fetchone()[0])";
    assert_eq!(tiny.textum("python3", &["-c", ahead]).expect(0).out, "wal\n");
    textum(&tiny, &["runs"]).expect(0);
    let mode = "import sqlite3; c = sqlite3.connect('.textum/ledger.db'); print(c.execute('PRAGMA journal_mode').fetchone()[0])";
    assert_eq!(tiny.textum("python3", &["-c", mode]).expect(0).out, "delete\n");
}

#[test]
fn a_ledger_is_made_anew_while_others_read_it() {
    let tiny = with_runs();
    let path = tiny.path(".textum/ledger.db");
    let inode = || std::os::unix::fs::MetadataExt::ino(&std::fs::metadata(&path).unwrap());
    let (before, shown) = (inode(), without_ages(&textum(&tiny, &["runs"]).expect(0).out));
    // What a person holds open stays the ledger of everybody, whatever has become of what was in it.
    let good = std::fs::read(&path).unwrap();
    let mut torn = good.clone();
    torn[4096..].fill(0xa5);
    let mut headless = good.clone();
    headless[..100].fill(0);
    for bad in [torn, headless, b"yarn, not a ledger\n".repeat(400), good[..good.len() / 2].to_vec()] {
        std::fs::write(&path, &bad).unwrap();
        textum(&tiny, &["verify"]).expect(4);
        std::thread::scope(|scope| {
            let repairs: Vec<_> = (0..3).map(|_| scope.spawn(|| textum(&tiny, &["verify", "--repair"]))).collect();
            repairs.into_iter().for_each(|r| drop(r.join().unwrap().expect(0)));
            let looks: Vec<_> = (0..3).map(|_| scope.spawn(|| textum(&tiny, &["runs"]))).collect();
            looks.into_iter().for_each(|r| assert_eq!(without_ages(&r.join().unwrap().expect(0).out), shown));
        });
        assert_eq!(inode(), before);
        textum(&tiny, &["verify"]).expect(0);
    }
}

#[test]
fn a_full_disk_is_called_full_and_reading_goes_on() {
    let tiny = with_runs();
    let before: Vec<String> = LOOKS.iter().map(|w| without_ages(&textum(&tiny, w).expect(0).out)).collect();
    // No file may grow at all: as if the disk were full to the last byte. A signal would end it without a word.
    let full = |words: &[&str]| {
        let line = format!("trap '' XFSZ; ulimit -f 0; exec {TEXTUM} {}", words.join(" "));
        tiny.textum("sh", &["-c", &line])
    };
    for (words, before) in LOOKS.iter().zip(&before) {
        let ran = full(words);
        assert_eq!((ran.status, &without_ages(&ran.out)), (0, before), "{words:?}: {}", ran.err);
    }
    std::fs::remove_file(tiny.path(".textum/ledger.db")).unwrap();
    full(&["runs"]).expect(0);
    let ran = full(&["run", "--set", "count.from=3"]).expect(4);
    assert!(ran.err.contains("make room") && !ran.err.contains("damaged"), "{}", ran.err);
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["run", "--set", "count.from=3"]).expect(0);
}

#[test]
fn a_run_that_was_cut_off_hinders_nobody_from_looking_while_the_disk_is_full() {
    let tiny = Tiny::with("[stage.wait]\nrun = \"echo x > begun; sleep 300\"\nwrites = [\"out\"]\n");
    tiny.textum("mkfifo", &["begun"]).expect(0);
    let mut lost =
        std::process::Command::new(TEXTUM).arg("run").current_dir(tiny.root()).stderr(std::process::Stdio::null()).spawn().unwrap();
    assert_eq!(tiny.read("begun"), "x\n");
    lost.kill().unwrap();
    lost.wait().unwrap();
    let line = format!("trap '' XFSZ; ulimit -f 0; exec {TEXTUM} stats");
    let ran = tiny.textum("sh", &["-c", &line]);
    ran.expect(0).warns("could not be recorded as that yet");
    textum(&tiny, &["runs"]).expect(0).warns("was cut off; it is now recorded as interrupted").says("interrupted");
}

#[test]
fn the_loss_of_a_run_is_told_until_somebody_knows_of_it() {
    let tiny = Tiny::with("[params]\nn = 0\n[stage.s]\nrun = \"echo {n} > out\"\nparams = [\"n\"]\nwrites = [\"out\"]\n");
    for n in ["n=1", "n=2", "n=3"] {
        textum(&tiny, &["run", "--set", n]).expect(0);
    }
    let runs = textum(&tiny, &["runs", "--format", "json"]).expect(0).json();
    let middle = runs[1]["run"].as_str().unwrap().to_string();
    // The pack with the receipts of the second run, and the ledger with it: nothing but the third run knows.
    let store = textum_core::store::Store::open(&tiny.path(".textum/store"));
    let holds = |pack: &textum_core::store::Digest| {
        let documents = store.documents_in(pack).unwrap();
        documents.iter().any(|d| String::from_utf8(store.read(d).unwrap()).unwrap().contains(&middle))
    };
    let packs = store.packs().unwrap();
    for pack in packs.iter().filter(|p| holds(p)).take(1) {
        for ending in ["pack", "index"] {
            let _ = std::fs::remove_file(tiny.path(&format!(".textum/store/packs/{}.{ending}", pack.hex())));
        }
    }
    for name in ["ledger.db", "ledger.db-wal", "ledger.db-shm"] {
        let _ = std::fs::remove_file(tiny.path(&format!(".textum/{name}")));
    }
    textum(&tiny, &["verify"]).expect(4).says("was lost");
    for _ in 0..3 {
        textum(&tiny, &["verify", "--repair"]).expect(4).says("was lost");
        textum(&tiny, &["verify"]).expect(4).says("was lost");
    }
    textum(&tiny, &["verify", "--acknowledge"]).expect(0).says("acknowledged");
    textum(&tiny, &["verify"]).expect(0).says("which somebody has acknowledged");
    textum(&tiny, &["verify", "--acknowledge"]).expect(0).says("nothing to acknowledge");
}
