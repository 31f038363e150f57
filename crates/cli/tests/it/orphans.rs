//! What a killed Textum leaves at work: the next one ends it, whatever it did to its environment or its session.

use std::time::{Duration, Instant};

use textum_testkit::Tiny;

use crate::{TEXTUM, textum};

fn running(pid: &str) -> bool {
    let stat = std::fs::read_to_string(format!("/proc/{}/stat", pid.trim())).unwrap_or_default();
    stat.rsplit_once(')').is_some_and(|(_, rest)| !rest.trim_start().starts_with(['Z', 'X']))
}

fn until(what: &str, mut holds: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(60), "{what} did not come about");
        std::thread::sleep(Duration::from_millis(5));
    }
}

fn left_by(command: &str) -> (Tiny, Vec<String>) {
    let manifest = format!("[stage.weave]\nrun = ['sh', '-c', '''{command}''']\nwrites = [\"cloth\"]\n");
    let tiny = Tiny::with(&manifest);
    let mut child = tiny.start(TEXTUM, &["run"]);
    until("the stage", || std::fs::read_to_string(tiny.path("pids")).is_ok_and(|t| t.contains("all")));
    child.kill().unwrap();
    child.wait().unwrap();
    let pids: Vec<String> = tiny.read("pids").lines().filter(|l| *l != "all").map(String::from).collect();
    assert!(!pids.is_empty() && pids.iter().all(|p| running(p)), "they live on: {pids:?}");
    (tiny, pids)
}

#[test]
fn what_a_killed_run_left_at_work_is_ended_by_whoever_comes_next() {
    let loop_of = "while :; do sleep 0.05; done";
    for command in [
        format!("echo $$ > pids; echo all >> pids; {loop_of}"),
        // Its own environment given away: it is known by its job.
        format!("echo $$ > pids; echo all >> pids; exec env -i /bin/sh -c '{loop_of}'")
            .replace("'while", "\"while")
            .replace("done'", "done\""),
        // Children in the background, and one in a session of its own.
        "sleep 1000 & echo $! > pids; setsid sleep 1000 & echo $! >> pids; echo all >> pids; wait".to_string(),
    ] {
        for next in [&["runs"][..], &["show", "last"], &["run"]] {
            let (tiny, pids) = left_by(&command);
            // A next run must not begin it anew: the stage is another one by then.
            tiny.manifest("[stage.weave]\nrun = \"echo x > cloth\"\nwrites = [\"cloth\"]\n");
            let ran = textum(&tiny, next).expect(0);
            until(&format!("the end of {next:?} {command}"), || !pids.iter().any(|p| running(p)));
            let runs = textum(&tiny, &["runs", "--format", "json"]).expect(0).json();
            let first = runs.as_array().unwrap().last().unwrap().clone();
            assert_eq!(first["state"], "interrupted", "{command}: {}", ran.err);
        }
    }
}

#[test]
fn a_job_of_a_number_that_is_anothers_now_is_left_alone() {
    let (tiny, pids) = left_by("echo $$ > pids; echo all >> pids; while :; do sleep 0.05; done");
    // What names the job now names this very test, as a number that was given out anew would.
    let runs = std::fs::read_dir(tiny.path(".textum/runs")).unwrap().flatten();
    let run = runs.map(|e| e.path()).find(|p| p.join("weave").exists()).unwrap();
    let events = std::fs::read_to_string(run.join("events")).unwrap();
    let line = events.lines().find(|l| l.contains("\"submitted\"")).unwrap();
    let id = line.split("\"job\":\"").nth(1).unwrap().split('"').next().unwrap();
    let own = std::process::id();
    let names = [format!("{own}.1.00000000"), format!("{own}"), "1.1.1".into(), "-1.0.0".into(), "\\u0000".repeat(9000)];
    for (number, name) in names.iter().enumerate() {
        let copy = tiny.path(&format!(".textum/runs/20200101-000{number}-beef"));
        tiny.textum("cp", &["-r", run.to_str().unwrap(), copy.to_str().unwrap()]).expect(0);
        std::fs::write(copy.join("events"), events.replace(id, name)).unwrap();
    }
    textum(&tiny, &["runs"]).expect(0);
    assert!(running(&own.to_string()));
    until("its end", || !pids.iter().any(|p| running(p)));
}

/// Between a command's start and the line that names it Textum can be killed too.
#[test]
fn a_job_whose_id_was_never_written_down_is_ended_by_where_it_prints() {
    let command = "echo $$ > pids; echo all >> pids; exec env -i /bin/sh -c \"while :; do sleep 0.05; done\"";
    let (tiny, pids) = left_by(command);
    let runs = std::fs::read_dir(tiny.path(".textum/runs")).unwrap().flatten();
    let run = runs.map(|e| e.path()).find(|p| p.join("weave").exists()).unwrap();
    let events = std::fs::read_to_string(run.join("events")).unwrap();
    let without: String = events.lines().filter(|l| !l.contains("\"submitted\"")).map(|l| format!("{l}\n")).collect();
    std::fs::write(run.join("events"), without).unwrap();
    // Whoever only reads the log is left alone.
    let mut reader = std::process::Command::new("tail").args(["-f", "weave/log"]).current_dir(&run).spawn().unwrap();
    textum(&tiny, &["runs"]).expect(0);
    until("its end", || !pids.iter().any(|p| running(p)));
    assert!(running(&reader.id().to_string()));
    reader.kill().unwrap();
    reader.wait().unwrap();
}
