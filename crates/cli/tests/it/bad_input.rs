//! Trouble from outside: each has a clear error, and nothing is lost.

use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::symlink;

use textum_testkit::Tiny;

use crate::{textum, two_stages};

fn reading_images() -> Tiny {
    let tiny = Tiny::with("[stage.count]\nrun = \"ls images > n\"\nreads = [\"images\"]\nwrites = [\"n\"]\n");
    tiny.write("images/a.png", "a");
    tiny
}

#[test]
fn names_and_links_that_cannot_be_recorded_are_refused_and_shown() {
    let tiny = reading_images();
    let odd = tiny.path("images").join(std::ffi::OsStr::from_bytes(b"b\xff.png"));
    std::fs::write(&odd, "x").unwrap();
    textum(&tiny, &["run"]).expect(2).warns("is not UTF-8").warns("b\\xFF.png");
    std::fs::remove_file(odd).unwrap();
    symlink("/etc/hostname", tiny.path("images/out")).unwrap();
    textum(&tiny, &["run"]).expect(2).warns("points to /etc/hostname, which is outside");
    std::fs::remove_file(tiny.path("images/out")).unwrap();
    symlink("../n", tiny.path("images/out")).unwrap();
    textum(&tiny, &["run"]).expect(2).warns("which is outside");
    std::fs::remove_file(tiny.path("images/out")).unwrap();
    rustix::fs::mknodat(rustix::fs::CWD, tiny.path("images/pipe"), rustix::fs::FileType::Fifo, 0o600.into(), 0).unwrap();
    textum(&tiny, &["run"]).expect(2).warns("neither a file nor a folder");
    std::fs::remove_file(tiny.path("images/pipe")).unwrap();
    textum(&tiny, &["run"]).expect(0);
}

#[test]
fn a_newer_format_is_left_alone() {
    let tiny = two_stages();
    textum(&tiny, &["run"]).expect(0);
    tiny.write(".textum/format", "textum/workspace@9\n");
    for words in [&["plan"][..], &["run"], &["runs"], &["verify"]] {
        textum(&tiny, words).expect(4).warns("textum/workspace@9").warns("newer Textum");
    }
    assert_eq!(tiny.read(".textum/format"), "textum/workspace@9\n");
}

#[test]
fn unknown_and_ambiguous_names_say_what_there_is() {
    let tiny = two_stages();
    textum(&tiny, &["show", "last"]).expect(3).warns("no runs yet");
    let mut ids = Vec::new();
    for i in 0..20 {
        let run = textum(&tiny, &["run", "--label", &format!("l{i}"), "--format", "json"]).expect(0).json();
        ids.push(run["run"].as_str().unwrap().to_string());
    }
    let prefix = &ids[0][..8];
    let ran = textum(&tiny, &["show", prefix]).expect(2).warns("is ambiguous");
    assert!(ids.iter().any(|id| ran.err.contains(id.as_str())), "{}", ran.err);
    textum(&tiny, &["show", "zzzz"]).expect(3).warns("there is no run `zzzz`").warns("textum runs");
    textum(&tiny, &["show", "last~99"]).expect(3).warns("there are only 20 runs");
    textum(&tiny, &["show", "best:auc"]).expect(2).warns("[metric.auc]");
    textum(&tiny, &["show", "b3:12"]).expect(2).warns("at least 6 hex digits");
    textum(&tiny, &["show", "b3:123456789abc"]).expect(3);
    textum(&tiny, &["show", "l7"]).expect(0).says(&ids[7]);
}

#[test]
fn a_full_disk_is_told_and_work_goes_on_when_there_is_room() {
    let tiny = Tiny::with("[stage.big]\nrun = \"head -c 3000000 /dev/urandom > noise.bin\"\nwrites = [\"noise.bin\"]\n");
    textum(&tiny, &["run"]).expect(0);
    tiny.write("more.bin", textum_testkit::noise(3, 4 << 20));
    tiny.manifest("[stage.copy]\nrun = \"head -c 10 more.bin > some\"\nreads = [\"more.bin\"]\nwrites = [\"some\"]\n");
    // No file may grow beyond 1 MiB: a write to the store fails as on a full disk.
    let limited = format!("trap '' XFSZ; ulimit -f 1024; exec {} run", crate::TEXTUM);
    let ran = tiny.textum("/bin/sh", &["-c", &limited]).expect(4);
    assert!(ran.err.contains("make room"), "{}", ran.err);
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
}

#[test]
fn a_reader_of_results_that_goes_away_is_no_failure() {
    let tiny = two_stages();
    textum(&tiny, &["run"]).expect(0);
    let piped = format!("{} trace build/lines.txt | head -1", crate::TEXTUM);
    assert!(!tiny.textum("/bin/sh", &["-c", &piped]).expect(0).err.contains("panic"));
}

#[test]
fn what_is_damaged_or_too_long_is_called_what_it_is() {
    let tiny = Tiny::with("[stage.spin]\nrun = \"echo wool > out\"\nwrites = [\"out\"]\n");
    textum(&tiny, &["run"]).expect(0);
    for command in ["show", "trace", "restore"] {
        textum(&tiny, &[command, &"a".repeat(100_000)]).expect(3).warns("there is no run `aaa");
    }
    textum(&tiny, &["label", "last", "two\nlines"]).expect(2).warns("a name is one line");
    let format = tiny.read(".textum/format");
    for bad in [&b"\xff\xfe"[..], b"", b"textum/workspace@x"] {
        tiny.write(".textum/format", bad);
        textum(&tiny, &["runs"]).expect(4).warns("format is damaged: it should contain the single line `textum/workspace@1`");
    }
    tiny.write(".textum/format", "textum/workspace@9\n");
    textum(&tiny, &["runs"]).expect(4).warns("use a newer Textum");
    tiny.write(".textum/format", format);
    textum(&tiny, &["verify"]).expect(0);
    tiny.write("textum.toml", b"[project]\nname = \"looms\"\n# caf\xe9\n");
    textum(&tiny, &["plan"]).expect(2).warns("textum.toml:3:6").warns("save the file as UTF-8");
}
