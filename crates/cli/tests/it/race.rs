//! Many at once on one project: no command fails that need not, and at the end all is there.

use std::sync::Mutex;
use std::sync::atomic::{AtomicU32, Ordering};
use std::time::{Duration, Instant};

use textum_testkit::{Tiny, many};

use crate::{carding, textum};

const PROCESSES: u32 = 16;

fn project() -> Tiny {
    let scores = "; printf '{\"n\": {n}}' > b/scores.json";
    let tiny = carding(
        &scores.replace('"', "\\\""),
        "params = [\"n\"]\nmetrics = [\"b/scores.json\"]\n\n[metric.n]\nbetter = \"higher\"\n",
    );
    for i in 0..20 {
        tiny.write(&format!("yarn/{i}"), format!("yarn {i}\n").repeat(500));
    }
    textum(&tiny, &["run"]).expect(0);
    tiny
}

/// What a process does in its turn; some work in the tree, which only one can at a time.
fn words(worker: u32, turn: u32) -> Vec<String> {
    let n = (worker * 7 + turn * 3) % 12;
    let line = match (worker, (turn + worker) % 9) {
        (0, _) => format!("run --set n={n}"),
        (_, 0 | 1) => format!("run --sandbox --set n={n}"),
        (_, 2) => "verify".to_string(),
        (_, 3) => "data record".to_string(),
        (_, 4) => format!("restore last -o out/{worker}-{turn}"),
        (_, 5) => format!("run --vary n={n}..{}", n + 3),
        (_, 6) => "trace last".to_string(),
        (_, 7) if worker == 1 => "prune --newest 3 --yes".to_string(),
        (_, 7) if worker == 2 => "rebuild last".to_string(),
        (_, 7) => "plan".to_string(),
        (_, _) => ["runs --by n", "stats", "show last", "data versions yarn"][turn as usize % 4].to_string(),
    };
    line.split(' ').map(String::from).collect()
}

#[test]
fn no_command_fails_that_need_not() {
    let tiny = project();
    let (calls, failures) = (AtomicU32::new(0), Mutex::new(Vec::new()));
    let ends = Instant::now() + Duration::from_secs(u64::from(many("TEXTUM_RACE", 8)));
    std::thread::scope(|scope| {
        for worker in 0..PROCESSES {
            let (tiny, calls, failures) = (&tiny, &calls, &failures);
            scope.spawn(move || {
                for turn in 0.. {
                    if Instant::now() >= ends {
                        return;
                    }
                    let words = words(worker, turn);
                    let words: Vec<&str> = words.iter().map(String::as_str).collect();
                    if worker == 3 && turn % 4 == 0 {
                        // Data changes while others read it: in one file, whole or not at all.
                        tiny.write("new", format!("{turn}\n"));
                        std::fs::rename(tiny.path("new"), tiny.path("yarn/0")).unwrap();
                    }
                    let ran = textum(tiny, &words);
                    calls.fetch_add(1, Ordering::Relaxed);
                    // A read that changed under a stage, and only that, may fail it.
                    let touched = ran.status == 1
                        && (ran.err.contains("was touched while it ran") || ran.err.contains("changes all the time"));
                    if ran.status != 0 && !touched {
                        failures.lock().unwrap().push(format!("{words:?} {}: {}{}", ran.status, ran.out, ran.err));
                    }
                    std::fs::remove_dir_all(tiny.path(&format!("out/{worker}-{turn}"))).ok();
                }
            });
        }
    });
    let failures = failures.into_inner().unwrap();
    let calls = calls.into_inner();
    assert!(failures.is_empty(), "{} of {calls} failed, the first: {:#?}", failures.len(), &failures[..failures.len().min(5)]);
    assert!(calls > PROCESSES, "only {calls} calls");
    textum(&tiny, &["verify", "--deep"]).expect(0);
    assert_eq!(std::fs::read_dir(tiny.path(".textum/runs")).map_or(0, Iterator::count), 0, "nothing is at work any more");
    for run in textum(&tiny, &["runs", "--format", "json"])
        .expect(0)
        .json()
        .as_array()
        .unwrap()
        .iter()
        .filter(|r| r["state"] == "done")
        .step_by(5)
    {
        textum(&tiny, &["rebuild", run["run"].as_str().unwrap()]).expect(0).says("identical");
    }
    eprintln!("{calls} calls");
}
