//! Damage: it is found, told of with what it touches, never handed out, and mended where that can be.

use std::path::PathBuf;

use textum_testkit::{Tiny, many, noise};

use crate::textum;

fn project() -> Tiny {
    let tiny = Tiny::with(
        "[data.yarn]\npath = \"yarn\"\n[params]\nn = 1\n[stage.card]\nrun = \"cat yarn/* > card; echo {n} >> card\"\nreads = [\"yarn\"]\n\
         params = [\"n\"]\nwrites = [\"card\"]\n",
    );
    tiny.write("yarn/fine.bin", noise(1, 900_000));
    tiny.write("yarn/coarse.txt", "cotton\n".repeat(500));
    tiny
}

fn files(tiny: &Tiny, extension: &str) -> Vec<PathBuf> {
    let all = std::fs::read_dir(tiny.path(".textum/store/packs")).unwrap().flatten().map(|e| e.path());
    let mut found: Vec<PathBuf> = all.filter(|p| p.extension().is_some_and(|e| e == extension)).collect();
    found.sort();
    found
}

fn flip(path: &PathBuf, at: usize, bit: u8) {
    let mut bytes = std::fs::read(path).unwrap();
    bytes[at] ^= 1 << bit;
    std::fs::write(path, bytes).unwrap();
}

#[test]
fn any_flipped_bit_is_found_and_mended_from_the_working_tree() {
    let tiny = project();
    textum(&tiny, &["run"]).expect(0);
    let good = tiny.snapshot();
    let mut state = 0x9E37_79B9_7F4A_7C15u64;
    for round in 0..many("TEXTUM_DAMAGE", 20) {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let extension = if round % 3 == 0 { "index" } else { "pack" };
        let all = files(&tiny, extension);
        let path = &all[(state >> 40) as usize % all.len()];
        let length = std::fs::metadata(path).unwrap().len() as usize;
        flip(path, (state >> 20) as usize % length, (state >> 60) as u8 % 8);
        let report = textum(&tiny, &["verify", "--deep", "--format", "json"]).expect(4).json();
        assert!(!report["problems"].as_array().unwrap().is_empty());
        let mended = textum(&tiny, &["verify", "--repair"]);
        // Receipts exist nowhere else: of those that were hit the loss is told; all else comes back.
        let receipt_lost = mended.status == 4;
        assert!(receipt_lost || mended.status == 0, "{}\n{}", mended.out, mended.err);
        if receipt_lost {
            assert!(
                mended.out.contains("receipt")
                    || mended.out.contains("document")
                    || mended.out.contains("log")
                    || mended.out.contains("environment")
                    || mended.out.contains("manifest")
                    || mended.out.contains("was seen to read"),
                "{}",
                mended.out
            );
            std::fs::remove_dir_all(tiny.path(".textum")).unwrap();
            textum(&tiny, &["run"]).expect(0);
        }
        textum(&tiny, &["verify", "--deep"]).expect(0);
        textum(&tiny, &["restore", "yarn@1", "-o", "out"]).expect(0);
        assert_eq!(std::fs::read(tiny.path("out/yarn/fine.bin")).unwrap(), noise(1, 900_000));
        std::fs::remove_dir_all(tiny.path("out")).unwrap();
        let now: Vec<_> = tiny.snapshot().into_iter().filter(|(n, _)| n != "textum.receipt.json").collect();
        let then: Vec<_> = good.iter().filter(|(n, _)| n != "textum.receipt.json").cloned().collect();
        assert!(now == then, "looking and mending change nothing in the working tree");
    }
}

#[test]
fn damage_is_told_with_the_datasets_and_runs_that_it_touches() {
    let tiny = project();
    textum(&tiny, &["run"]).expect(0);
    // Large packs hold the yarn and what was made of it.
    for pack in files(&tiny, "pack") {
        let length = std::fs::metadata(&pack).unwrap().len() as usize;
        if length > 500_000 {
            flip(&pack, length / 2, 3);
        }
    }
    textum(&tiny, &["restore", "yarn@1", "-o", "out"]).expect(4).warns("damaged");
    assert!(!tiny.has("out/yarn/fine.bin"), "nothing half-good is handed out");
    std::fs::rename(tiny.path("yarn/fine.bin"), tiny.path("kept")).unwrap();
    std::fs::rename(tiny.path("card"), tiny.path("kept-card")).unwrap();
    let report = textum(&tiny, &["verify", "--repair", "--format", "json"]).expect(4).json();
    let touched =
        |what: &str| report["problems"].as_array().unwrap().iter().any(|p| p[what].as_array().is_some_and(|a| !a.is_empty()));
    assert!(touched("datasets") && touched("runs"), "{report}");
    let names: Vec<String> = report["problems"]
        .as_array()
        .unwrap()
        .iter()
        .flat_map(|p| p["datasets"].as_array().unwrap())
        .map(|d| d.to_string())
        .collect();
    assert!(names.contains(&"\"yarn@1\"".to_string()), "{report}");
    // What was lost comes by again: it is taken in whole, though its listing was known.
    std::fs::rename(tiny.path("kept"), tiny.path("yarn/fine.bin")).unwrap();
    std::fs::rename(tiny.path("kept-card"), tiny.path("card")).unwrap();
    textum(&tiny, &["data", "record"]).expect(0).says("yarn@1");
    textum(&tiny, &["verify", "--repair"]).expect(0);
    textum(&tiny, &["restore", "yarn@1", "-o", "out2"]).expect(0);
    assert_eq!(std::fs::read(tiny.path("out2/yarn/fine.bin")).unwrap(), noise(1, 900_000));
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
}

#[test]
fn without_room_the_error_is_clear_and_nothing_is_lost() {
    let tiny = project();
    let second = "[stage.spin]\nrun = \"tail -c 700000 card > cloth\"\nreads = [\"card\"]\nwrites = [\"cloth\"]\n";
    tiny.write("textum.toml", tiny.read("textum.toml") + second);
    for n in 1..6 {
        textum(&tiny, &["run", "--set", &format!("n={n}")]).expect(0);
    }
    // No file may grow beyond 600 blocks of 512 bytes: as if the disk were full.
    let limited = |words: &str| {
        let line = format!("trap '' XFSZ; ulimit -f 600; exec {} {words}", crate::TEXTUM);
        tiny.textum("sh", &["-c", &line])
    };
    tiny.write("yarn/more.bin", noise(9, 2_000_000));
    limited("data record").expect(4).warns("cannot write").warns("make room");
    limited("run").expect(4);
    textum(&tiny, &["verify", "--deep"]).expect(0);
    for run in
        textum(&tiny, &["runs", "--format", "json"]).expect(0).json().as_array().unwrap().iter().filter(|r| r["state"] == "done")
    {
        textum(&tiny, &["rebuild", run["run"].as_str().unwrap()]).expect(0);
    }
    limited("prune --newest 1 --yes").expect(4).warns("make room");
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["data", "record"]).expect(0).says("yarn@2");
    textum(&tiny, &["prune", "--newest", "1", "--yes"]).expect(0);
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["verify", "--deep"]).expect(0);
    let runs = textum(&tiny, &["runs", "--all", "--format", "json"]).expect(0).json();
    for run in runs.as_array().unwrap().iter().filter(|r| r["state"] == "done") {
        textum(&tiny, &["rebuild", run["run"].as_str().unwrap()]).expect(0).says("identical");
    }
}
