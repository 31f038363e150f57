//! Textum killed at random instants: nothing recorded is lost, and no hand is needed afterwards.

use std::time::Duration;

use textum_testkit::{Tiny, many, noise};

use crate::{TEXTUM, textum};

fn project() -> Tiny {
    let tiny = Tiny::with(
        r#"
[params]
n = 0

[stage.card]
run = "sleep 0.01; cat yarn.bin > build/card.bin; echo {n} >> build/card.bin"
reads = ["yarn.bin"]
params = ["n"]
writes = ["build/card.bin"]

[stage.spin]
run = "mkdir -p build/spun; for i in 1 2 3; do head -c 20$i build/card.bin > build/spun/$i; done; tail -c 2 build/card.bin > build/spun/n"
reads = ["build/card.bin"]
writes = ["build/spun/"]

[stage.weave]
run = "cat build/spun/* > build/cloth"
reads = ["build/spun"]
writes = ["build/cloth"]
"#,
    );
    tiny.write("yarn.bin", noise(9, 2 << 20));
    std::fs::create_dir_all(tiny.path("build")).unwrap();
    tiny
}

#[test]
fn killed_at_random_instants_nothing_recorded_is_lost() {
    let tiny = project();
    textum(&tiny, &["run"]).expect(0);
    let kills = many("TEXTUM_KILLS", 100);
    let mut state = 88_172_645_463_325_252u64;
    for round in 0..kills {
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        let set = format!("n={round}");
        let mut child = tiny.start(TEXTUM, &["run", "--set", &set]);
        std::thread::sleep(Duration::from_micros(state % 120_000));
        let _ = child.kill();
        child.wait().unwrap();
        if round % 10 == 9 {
            textum(&tiny, &["verify", "--deep"]).expect(0);
            let done = textum(&tiny, &["run", "--set", &set]).expect(0);
            assert!(!done.err.contains("damaged"), "{}", done.err);
            assert_eq!(tiny.read("build/spun/n"), format!("{}\n", round % 10));
        }
    }
    textum(&tiny, &["verify", "--deep"]).expect(0);
    let runs = textum(&tiny, &["runs", "--all", "--format", "json"]).expect(0).json();
    let runs = runs.as_array().unwrap();
    let in_state = |s: &str| runs.iter().filter(|r| r["state"] == s).collect::<Vec<_>>();
    assert!(!in_state("interrupted").is_empty(), "no kill ever met a run at work");
    assert!(in_state("failed").is_empty(), "{:?}", in_state("failed"));
    for run in in_state("done").iter().step_by(4) {
        textum(&tiny, &["rebuild", run["run"].as_str().unwrap()]).expect(0).says("identical");
    }
    let left: Vec<_> = std::fs::read_dir(tiny.path(".textum/store/parts")).unwrap().collect();
    assert!(left.len() <= 1, "parts of dead writers were left: {left:?}");
}

#[test]
fn what_a_lost_textum_left_running_is_ended_and_its_log_is_kept() {
    let tiny = Tiny::with("[stage.long]\nrun = \"echo weaving; sleep 300\"\nwrites = [\"out\"]\n");
    let mut child = tiny.start(TEXTUM, &["run"]);
    std::thread::sleep(Duration::from_millis(700));
    child.kill().unwrap();
    child.wait().unwrap();
    let runs = textum(&tiny, &["runs", "--format", "json"]).expect(0).json();
    assert_eq!(runs[0]["state"], "interrupted");
    textum(&tiny, &["show", "last", "--log", "long"]).expect(0).says("weaving");
    let mark = format!("TEXTUM_RUN={}", runs[0]["run"].as_str().unwrap());
    let alive = std::fs::read_dir("/proc")
        .unwrap()
        .flatten()
        .filter(|e| std::fs::read(e.path().join("environ")).is_ok_and(|v| v.split(|b| *b == 0).any(|x| x == mark.as_bytes())));
    assert_eq!(alive.count(), 0, "the stage goes on without anybody");
}
