//! What stages may do without taking anything else with them: strange outputs, memory, daemons, endless lines.

use std::path::Path;
use std::time::{Duration, Instant};

use textum_testkit::Tiny;

use crate::{TEXTUM, state, textum};

/// Waits for something to come about; the test fails when it does not.
pub fn until(what: &str, mut come: impl FnMut() -> bool) {
    let began = Instant::now();
    while !come() {
        assert!(began.elapsed() < Duration::from_secs(60), "{what} did not come about");
        std::thread::sleep(Duration::from_millis(10));
    }
}

#[test]
fn a_stage_that_leaves_what_cannot_be_recorded_fails_alone() {
    for (what, command) in [
        ("neither a file nor a folder", "mkdir -p bad; mkfifo bad/pipe"),
        ("outside", "mkdir -p bad; ln -s /etc/hostname bad/link"),
        ("outside", "mkdir -p bad/a; ln -s .. bad/a/top; ln -s a/top/../x bad/link"),
        ("not UTF-8", "mkdir -p bad; echo x > bad/$(printf '\\\\377')"),
    ] {
        let tiny = Tiny::with(&format!(
            "[params]\nn = 0\n[stage.bad]\nrun = \"if [ {{n}} = 1 ]; then {command}; else mkdir -p bad; echo {{n}} > bad/x; fi\"\nparams = [\"n\"]\nwrites = [\"bad/\"]\n\
             [stage.good]\nrun = \"echo {{n}} > good\"\nparams = [\"n\"]\nwrites = [\"good\"]\n"
        ));
        let run = textum(&tiny, &["run", "--set", "n=1", "--keep-going", "--format", "json"]).expect(1);
        assert!(run.err.contains(what), "{command}: {}", run.err);
        let run = run.json();
        assert_eq!((state(&run, "bad").as_str(), state(&run, "good").as_str()), ("failed", "ran"));
        // Nobody is kept from going on, and what it left is a person's to look at.
        textum(&tiny, &["plan"]).expect(0);
        textum(&tiny, &["run"]).expect(0);
        let aside = std::fs::read_dir(tiny.path(".textum/aside")).unwrap().count();
        assert_eq!(aside, 1, "{command}");
        // In a sweep the other variants go on.
        let sweep = textum(&tiny, &["run", "--vary", "n=1..4", "--format", "json"]).expect(1).json();
        let states: Vec<&str> = sweep["variants"].as_array().unwrap().iter().map(|v| v["state"].as_str().unwrap()).collect();
        assert_eq!(states.iter().filter(|s| **s == "done").count(), states.len() - 1, "{states:?}");
        textum(&tiny, &["verify"]).expect(0);
    }
    // A pipe where a file of metrics is declared holds nobody up.
    let tiny =
        Tiny::with("[stage.s]\nrun = \"mkfifo m.json; sleep 1; echo x > out\"\nwrites = [\"out\"]\nmetrics = [\"m.json\"]\n");
    textum(&tiny, &["run"]).expect(1).warns("neither a file nor a folder");
}

#[test]
fn more_memory_than_needed_stops_the_stage_with_the_figure() {
    let tiny = Tiny::with(
        "[stage.greedy]\nrun = [\"python3\", \"-c\", \"import time; x = bytearray(200 << 20); x[::4096] = x[::4096]; time.sleep(60)\"]\nwrites = [\"out\"]\nneeds = { memory = \"50MiB\" }\n\
         [stage.modest]\nrun = \"echo x > fine\"\nwrites = [\"fine\"]\nneeds = { memory = \"50MiB\" }\n",
    );
    let run = textum(&tiny, &["run", "--keep-going", "--format", "json"]).expect(1);
    let (watched, refused) = ("MiB of memory, and its `needs` say 50 MiB", "it wanted more than the 50 MiB of memory");
    assert!(run.err.contains(watched) || run.err.contains(refused), "{}", run.err);
    assert_eq!(state(&run.json(), "modest"), "ran");
}

/// Whether this machine lets us make a control group for memory (version 1, below our own).
fn gives_memory_groups() -> bool {
    let probe = own_memory_group().map(|folder| folder.join("shed-probe"));
    probe.is_some_and(|probe| std::fs::create_dir(&probe).and_then(|()| std::fs::remove_dir(&probe)).is_ok())
}

fn own_memory_group() -> Option<std::path::PathBuf> {
    let groups = std::fs::read_to_string("/proc/self/cgroup").ok()?;
    let own = groups.lines().find_map(|line| Some(line.split_once(":memory:")?.1.to_string()))?;
    Some(std::path::Path::new("/sys/fs/cgroup/memory").join(own.trim_start_matches('/')))
}

#[test]
fn the_kernel_holds_a_stage_to_its_memory_where_it_gives_groups() {
    if !gives_memory_groups() {
        eprintln!("no control group of memory can be made here: stages are watched only");
        return;
    }
    // Too short for a look, and ended well in spite of what the kernel did to its helper.
    let tiny = Tiny::with(
        "[stage.brief]\nrun = \"python3 -c 'x = bytearray(200 << 20)'; (setsid -w sh -c 'sleep 300 & echo $! > pid'); echo x > out\"\nwrites = [\"out\"]\nneeds = { memory = \"50MiB\" }\n\
         [stage.words]\nrun = [\"sh\", \"-c\", \"echo \\\"$1, $2\\\" > words\", \"sh\", \"two words\", \"$HOME\"]\nwrites = [\"words\"]\nneeds = { memory = \"50MiB\" }\n",
    );
    let run = textum(&tiny, &["run", "--keep-going", "--format", "json"]).expect(1);
    assert_eq!(state(&run.json(), "brief"), "stopped");
    // On a busy machine the look may come first.
    let (refused, watched) =
        ("it wanted more than the 50 MiB of memory that its `needs` say", "MiB of memory, and its `needs` say 50 MiB");
    assert!(run.err.contains(refused) || run.err.contains(watched), "{}", run.err);
    if run.err.contains(watched) || !tiny.has("pid") {
        return;
    }
    assert_eq!(tiny.read("words"), "two words, $HOME\n");
    let pid = tiny.read("pid").trim().to_string();
    assert!(!std::fs::read_to_string(format!("/proc/{pid}/stat")).is_ok_and(|s| !s.contains(") Z ")), "{pid} is left");
}

#[test]
fn a_daemon_ends_with_its_stage() {
    let tiny = Tiny::with(
        "[stage.s]\nrun = \"(setsid sh -c 'echo $$ > pid; setsid sh -c \\\"echo \\\\$\\\\$ > pid2; exec sleep 300\\\" & exec sleep 300' > /dev/null 2>&1 &); while [ ! -s pid2 ]; do sleep 0.02; done; echo x > out\"\nwrites = [\"out\"]\n",
    );
    textum(&tiny, &["run"]).expect(0);
    for name in ["pid", "pid2"] {
        let pid = tiny.read(name).trim().to_string();
        let alive = || std::fs::read_to_string(format!("/proc/{pid}/stat")).is_ok_and(|s| !s.contains(") Z "));
        assert!(!alive(), "{name} {pid} outlived its stage");
    }
}

#[test]
fn a_gigabyte_in_one_line_is_not_shown_whole() {
    let tiny = Tiny::with("[stage.s]\nrun = \"head -c 300000000 /dev/zero | tr '\\\\0' x; exit 3\"\nwrites = [\"out\"]\n");
    let ran = textum(&tiny, &["run", "--echo"]);
    assert_eq!(ran.status, 1);
    assert!(ran.err.len() < 200_000, "{} bytes were shown", ran.err.len());
    assert!(ran.err.contains("the rest of this line is in the log"));
}

#[test]
fn a_key_is_executed_once_whoever_wants_it() {
    let tiny = Tiny::with("");
    let (count, go) = (tiny.path("count").display().to_string(), tiny.path("go").display().to_string());
    tiny.manifest(&format!(
        "[stage.slow]\nrun = \"echo x >> {count}; while [ ! -e {go} ]; do sleep 0.02; done; echo done > out\"\nwrites = [\"out\"]\n"
    ));
    let mut children: Vec<_> = (0..3).map(|_| tiny.start(TEXTUM, &["run", "--sandbox"])).collect();
    let at_work = || {
        std::fs::read_dir(tiny.path(".textum/runs")).map_or(0, |d| d.flatten().filter(|e| e.path().join("events").exists()).count())
    };
    let waits = |path: &Path| std::fs::read_to_string(path.join("events")).is_ok_and(|e| e.contains("\"waits\""));
    let waiting = || std::fs::read_dir(tiny.path(".textum/runs")).map_or(0, |d| d.flatten().filter(|e| waits(&e.path())).count());
    until("two that wait for one", || at_work() == 3 && waiting() == 2);
    tiny.write("go", "");
    for child in &mut children {
        assert!(child.wait().unwrap().success());
    }
    assert_eq!(tiny.read("count"), "x\n", "it was executed once");
    let runs = textum(&tiny, &["runs", "--format", "json"]).expect(0).json();
    assert!(runs.as_array().unwrap().iter().all(|r| r["state"] == "done") && runs.as_array().unwrap().len() == 3);
    // The one who executes it dies: another takes its place.
    std::fs::remove_file(tiny.path("go")).unwrap();
    let forced = tiny.read("textum.toml").replace("echo done", "echo again");
    tiny.write("textum.toml", forced);
    let mut first = tiny.start(TEXTUM, &["run", "--sandbox"]);
    until("the first at work", || tiny.read("count") == "x\nx\n");
    let mut second = tiny.start(TEXTUM, &["run", "--sandbox"]);
    until("the second waiting", || waiting() == 1);
    first.kill().unwrap();
    first.wait().unwrap();
    until("the second at work", || tiny.read("count") == "x\nx\nx\n");
    tiny.write("go", "");
    assert!(second.wait().unwrap().success());
}

#[test]
fn a_clock_set_back_does_not_make_last_the_wrong_run() {
    let tiny = Tiny::with("[params]\nn = 0\n[stage.s]\nrun = \"echo {n} > out\"\nparams = [\"n\"]\nwrites = [\"out\"]\n");
    textum(&tiny, &["run"]).expect(0);
    // As if the clock had been years ahead when this run was made.
    let store = textum_core::store::Store::open(&tiny.path(".textum/store"));
    let digests: Vec<_> = store.packs().unwrap().into_iter().flat_map(|p| store.documents_in(&p).unwrap()).collect();
    let writer = store.writer().unwrap();
    for digest in digests {
        let mut document: serde_json::Value = serde_json::from_slice(&store.read(&digest).unwrap()).unwrap();
        if document["type"] == "textum/run-receipt@1" {
            document["run"] = "20990101-0000-ffff".into();
            document["started"] = "2099-01-01T00:00:00Z".into();
            writer.put_document(&textum_core::record::receipt::canonical(&document).unwrap()).unwrap();
        }
    }
    writer.publish().unwrap();
    textum(&tiny, &["show", "last"]).expect(0).says("20990101-0000-ffff");
    let run = textum(&tiny, &["run", "--set", "n=7", "--format", "json"]).expect(0).json()["run"].as_str().unwrap().to_string();
    textum(&tiny, &["show", "last"]).expect(0).says(&run);
    textum(&tiny, &["show", "last~1"]).expect(0).says("20990101-0000-ffff");
    let next = textum(&tiny, &["run", "--set", "n=8", "--format", "json"]).expect(0).json()["run"].as_str().unwrap().to_string();
    textum(&tiny, &["show", "last"]).expect(0).says(&next);
    textum(&tiny, &["verify"]).expect(0);
}

#[test]
fn what_cannot_be_printed_is_an_error() {
    let tiny = Tiny::with("[stage.s]\nrun = \"echo x > out\"\nwrites = [\"out\"]\n");
    textum(&tiny, &["run"]).expect(0);
    let into = |words: &str, to: &str| tiny.textum("sh", &["-c", &format!("{TEXTUM} {words} {to}")]);
    into("runs", "> /dev/full").expect(4).warns("standard output");
    into("runs --format json", "> /dev/full").expect(4);
    into("show last --log s", "> /dev/full");
    // A reader that has seen enough is none.
    into("runs", "| head -c 1 > /dev/null").expect(0);
}

/// Two stages that each want the whole machine; the second tells what had happened in the run when it began.
fn one_after_the_other(first: &str, more: &str) -> Tiny {
    let needs = "observe = false\nneeds = { cpus = 4096 }\n";
    Tiny::with(&format!(
        "[stage.a]\nrun = \"head -c 30000000 /dev/urandom > a; {first}\"\nwrites = [\"a\"]\nmetrics = [\"m.json\"]\n{needs}\
         [stage.b]\nrun = \"cat .textum/runs/*/events > b\"\nwrites = [\"b\"]\n{needs}{more}"
    ))
}

#[test]
fn the_next_stage_begins_while_a_result_is_recorded_but_not_before_a_gate_has_looked_at_it() {
    let writes_metric = "echo '{\\\"m\\\": 1}' > m.json";
    let settled = "\"event\":\"stage-settled\",\"stage\":\"a\"";
    // One at a time is one at a time.
    let tiny = one_after_the_other(writes_metric, "");
    textum(&tiny, &["run", "-j1"]).expect(0);
    assert!(tiny.read("b").contains(settled), "{}", tiny.read("b"));
    // Beside the recording nothing is lost: what both made is what is recorded.
    let tiny = one_after_the_other(writes_metric, "");
    textum(&tiny, &["run"]).expect(0);
    assert!(tiny.read("b").contains("\"stage-started\",\"stage\":\"a\""));
    textum(&tiny, &["plan", "--check"]).expect(0);
    textum(&tiny, &["verify", "--deep"]).expect(0);
    // A gate keeps what comes later from running: here that is everything.
    let tiny = one_after_the_other(writes_metric, "[[gate]]\nafter = \"a\"\ncheck = \"m > 5\"\n");
    textum(&tiny, &["run"]).expect(1).warns("does not hold").says("b  skipped");
    let tiny = one_after_the_other(writes_metric, "[[gate]]\nafter = \"a\"\ncheck = \"m < 5\"\n");
    textum(&tiny, &["run"]).expect(0);
    assert!(tiny.read("b").contains(settled), "{}", tiny.read("b"));
    // After one that failed nothing begins.
    let tiny = one_after_the_other("exit 3", "");
    textum(&tiny, &["run"]).expect(1);
    assert!(!tiny.has("b"));
}
