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
    let kills = many("TEXTUM_KILLS", 60);
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
    let tiny = Tiny::with("[stage.long]\nrun = \"echo weaving; echo x > begun; sleep 300\"\nwrites = [\"out\"]\n");
    tiny.textum("mkfifo", &["begun"]).expect(0);
    killed_at_work(&tiny, &["run"]);
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

/// A generator of numbers that is the same every time (xorshift64).
struct Numbers(u64);

impl Numbers {
    fn next(&mut self, below: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % below
    }
}

/// Starts a command and kills it after a random while; whether it was killed before its end.
fn killed(tiny: &Tiny, words: &[&str], micros: u64) -> bool {
    let mut child = tiny.start(TEXTUM, words);
    std::thread::sleep(Duration::from_micros(micros));
    let _ = child.kill();
    !child.wait().unwrap().success()
}

#[test]
fn killed_while_recording_restoring_pruning_and_mending_nothing_recorded_is_lost() {
    let tiny = Tiny::with(
        "[data.yarn]\npath = \"yarn\"\n[params]\nn = 0\n[stage.card]\nrun = \"cat yarn/* > card; echo {n} >> card\"\nreads = [\"yarn\"]\n\
         params = [\"n\"]\nwrites = [\"card\"]\n[stage.spin]\nrun = \"tail -c 300000 card > spun\"\nreads = [\"card\"]\nwrites = [\"spun\"]\n",
    );
    let write = |n: u64| {
        tiny.write("yarn/a.bin", noise(n + 1, 1_500_000));
        tiny.write("yarn/b.txt", format!("yarn {n}\n").repeat(200));
        (0..40).for_each(|i| tiny.write(&format!("yarn/small/{i}"), format!("{i} of {}", n % 3)));
    };
    let mut numbers = Numbers(0x5EED_1804_2026_1123);
    let kills = many("TEXTUM_KILLS", 60);
    write(0);
    textum(&tiny, &["run"]).expect(0);
    let mut known: Vec<(String, Vec<u8>)> = Vec::new();
    let mut met = [0u32; 4];
    for round in 0..kills {
        let kind = round as usize % 4;
        match kind {
            0 => {
                write(u64::from(round));
                met[0] += u32::from(killed(&tiny, &["data", "record"], numbers.next(60_000)));
            }
            1 => {
                // What stands in the tree is recorded first: a restore may then replace it.
                textum(&tiny, &["data", "record"]).expect(0);
                let versions = textum(&tiny, &["data", "versions", "yarn", "--format", "json"]).expect(0).json();
                let all = versions["versions"].as_array().unwrap();
                let name = all[numbers.next(all.len() as u64) as usize]["name"].as_str().unwrap().to_string();
                met[1] += u32::from(killed(&tiny, &["restore", &name], numbers.next(40_000)));
                textum(&tiny, &["restore", &name]).expect(0);
            }
            2 => {
                textum(&tiny, &["run", "--set", &format!("n={round}")]).expect(0);
                met[2] += u32::from(killed(&tiny, &["prune", "--newest", "1", "--yes"], numbers.next(40_000)));
            }
            _ => met[3] += u32::from(killed(&tiny, &["verify", "--repair"], numbers.next(60_000))),
        }
        if round % 8 == 7 {
            textum(&tiny, &["data", "record"]).expect(0);
            let shown = textum(&tiny, &["data", "--format", "json"]).expect(0).json();
            let name = format!("yarn@{}", shown[0]["version"]);
            known.retain(|(n, _)| *n != name);
            known.push((name, std::fs::read(tiny.path("yarn/a.bin")).unwrap()));
            textum(&tiny, &["verify", "--deep"]).expect(0);
        }
        if round % 24 == 23 || round + 1 == kills {
            for (name, bytes) in &known {
                textum(&tiny, &["restore", name, "-o", "out"]).expect(0);
                assert!(std::fs::read(tiny.path("out/yarn/a.bin")).unwrap() == *bytes, "{name} is another");
                std::fs::remove_dir_all(tiny.path("out")).unwrap();
            }
        }
    }
    assert!(met.iter().all(|n| *n > 0), "some command was never met at work: {met:?}");
    let runs = textum(&tiny, &["runs", "--all", "--format", "json"]).expect(0).json();
    for run in runs.as_array().unwrap().iter().filter(|r| r["state"] == "done").step_by(5) {
        textum(&tiny, &["rebuild", run["run"].as_str().unwrap()]).expect(0).says("identical");
    }
    let parts: Vec<_> = std::fs::read_dir(tiny.path(".textum/store/parts")).unwrap().collect();
    assert!(parts.len() <= 1 && !tiny.has(".textum/store/drop.journal"), "left over: {parts:?}");
    assert!(
        !std::fs::read_dir(tiny.root()).unwrap().flatten().any(|e| e.file_name().to_string_lossy().starts_with(".textum-part"))
    );
}

/// Starts a command that says so at a pipe once its stage is at work, kills it then, and gives what it had begun in.
fn killed_at_work(tiny: &Tiny, words: &[&str]) -> Vec<String> {
    let mut lost = tiny.start(TEXTUM, words);
    assert_eq!(tiny.read("begun"), "x\n");
    lost.kill().unwrap();
    lost.wait().unwrap();
    sandboxes(tiny)
}

fn sandboxes(tiny: &Tiny) -> Vec<String> {
    let entries = std::fs::read_dir(tiny.path(".textum/sandboxes")).into_iter().flatten().flatten();
    entries.map(|e| e.file_name().into_string().unwrap()).filter(|n| !n.starts_with('.')).collect()
}

#[test]
fn what_killed_sandboxes_and_rebuilds_left_is_swept() {
    let tiny = Tiny::new();
    let begun = tiny.path("begun");
    tiny.manifest(&format!(
        "[data.d]\npath = \"d\"\n[stage.wait]\nrun = \"cat d > out; if [ -p '{0}' ]; then echo x > '{0}' && sleep 300; fi\"\nreads = [\"d\"]\nwrites = [\"out\"]\n",
        begun.display()
    ));
    tiny.write("d", "yarn\n");
    textum(&tiny, &["run"]).expect(0);
    let first = textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json()["run"].as_str().unwrap().to_string();
    tiny.textum("mkfifo", &["begun"]).expect(0);
    tiny.write("d", "more yarn\n");
    assert_eq!(killed_at_work(&tiny, &["run", "--sandbox"]).len(), 1);
    textum(&tiny, &["runs"]).expect(0).warns("recorded as interrupted");
    assert_eq!(sandboxes(&tiny), Vec::<String>::new());
    let left = killed_at_work(&tiny, &["rebuild", &first]);
    assert_eq!(left.len(), 1);
    std::fs::remove_file(&begun).unwrap();
    // One that is kept on purpose stays, whoever rebuilds after it.
    textum(&tiny, &["rebuild", &first, "--keep"]).expect(0);
    let kept = sandboxes(&tiny);
    assert!(kept.len() == 1 && kept != left, "{kept:?} {left:?}");
    textum(&tiny, &["rebuild", &first]).expect(0);
    assert_eq!(sandboxes(&tiny), kept);
}
