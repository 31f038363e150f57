//! Options that every command has, what counts of the environment, and what damage does.

use std::os::unix::fs::PermissionsExt;

use textum_testkit::{Tiny, noise};

use crate::{TEXTUM, state, textum, two_stages};

#[test]
fn tables_have_other_forms_and_colour_only_where_asked_for() {
    let tiny = two_stages();
    textum(&tiny, &["run", "--label", "first, with comma"]).expect(0);
    textum(&tiny, &["run", "--set", "count.from=3"]).expect(0);
    let csv = textum(&tiny, &["runs", "--format", "csv"]).expect(0).out;
    assert!(csv.starts_with("run,started,state,seconds,label,sweep,by,count.from"), "{csv}");
    assert!(csv.contains("\"first, with comma\""), "{csv}");
    textum(&tiny, &["runs", "--format", "md"]).expect(0).says("| --- |");
    textum(&tiny, &["runs"]).expect(0).says("same in all: count.unit m").says("3 *");
    textum(&tiny, &["runs", "--last", "1"]).expect(0).says("1 older run not shown");
    textum(&tiny, &["trace", "last", "--format", "csv"]).expect(2).warns("use --format text or json");
    assert!(!textum(&tiny, &["runs"]).out.contains('\x1b'));
    assert!(textum(&tiny, &["runs", "--color", "always"]).expect(0).out.contains("\x1b["));
    assert_eq!(textum(&tiny, &["run", "-q"]).expect(0).err, "");
}

#[test]
fn output_of_stages_is_shown_when_asked_for() {
    let tiny = Tiny::with("[stage.s]\nrun = \"echo warp; echo weft >&2; echo x > o\"\nwrites = [\"o\"]\n");
    let ran = textum(&tiny, &["run", "--echo"]).expect(0).warns("warp").warns("weft");
    assert!(!ran.out.contains("warp"), "results and output do not mix");
    textum(&tiny, &["show", "last", "--log", "s"]).expect(0).says("warp\nweft\n");
    textum(&tiny, &["show", "last", "--log", "t"]).expect(3).warns("stages with a log: s");
}

#[test]
fn declared_variables_and_files_count_for_every_stage() {
    let tiny = Tiny::with(
        "[environment]\nvars = [\"LOOMS\"]\nfiles = [\"settings.txt\"]\n[stage.a]\nrun = \"echo $LOOMS > a\"\nwrites = [\"a\"]\n[stage.b]\nrun = \"cat settings.txt > b\"\nwrites = [\"b\"]\n",
    );
    tiny.write("settings.txt", "one\n");
    textum(&tiny, &["run"]).expect(0);
    let with = |value: &str, words: &str| tiny.textum("/bin/sh", &["-c", &format!("LOOMS={value} {TEXTUM} {words}")]);
    with("24", "plan").expect(0).says("variable LOOMS not set → 24").says("2 of 2 stages would run");
    with("24", "run").expect(0);
    assert_eq!(tiny.read("a"), "24\n");
    tiny.write("settings.txt", "two\n");
    with("24", "plan").expect(0).says("settings.txt: 1 of 1 line differ");
    with("24", "run").expect(0);
    assert_eq!(tiny.read("b"), "two\n");
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    textum(&tiny, &["trace", "a"]).expect(0).says("LOOMS=24").says("settings.txt");
}

#[test]
fn whether_a_file_may_be_executed_counts_and_comes_back() {
    let tiny =
        Tiny::with("[stage.s]\nrun = \"./tool.sh && cp -p tool.sh made.sh\"\nreads = [\"tool.sh\"]\nwrites = [\"made.sh\"]\n");
    tiny.write("tool.sh", "#!/bin/sh\ntrue\n");
    textum(&tiny, &["run"]).expect(1).warns("exit status");
    std::fs::set_permissions(tiny.path("tool.sh"), std::fs::Permissions::from_mode(0o755)).unwrap();
    // The copy keeps the mode of a tool that may now be executed.
    textum(&tiny, &["run"]).expect(0);
    std::fs::remove_file(tiny.path("made.sh")).unwrap();
    textum(&tiny, &["restore", "last"]).expect(0);
    assert_ne!(tiny.path("made.sh").metadata().unwrap().permissions().mode() & 0o100, 0);
    std::fs::set_permissions(tiny.path("tool.sh"), std::fs::Permissions::from_mode(0o644)).unwrap();
    textum(&tiny, &["plan", "--check"]).expect(1).says("tool.sh");
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
}

#[test]
fn a_declared_link_counts_by_what_it_points_to_and_must_stay_inside() {
    let tiny = Tiny::with("[stage.s]\nrun = \"cat current.csv > o\"\nreads = [\"current.csv\"]\nwrites = [\"o\"]\n");
    tiny.write("data/may.csv", "may\n");
    std::os::unix::fs::symlink("data/may.csv", tiny.path("current.csv")).unwrap();
    textum(&tiny, &["run"]).expect(0);
    tiny.write("data/may.csv", "june\n");
    let run = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    assert_eq!(state(&run, "s"), "ran");
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    std::fs::remove_file(tiny.path("current.csv")).unwrap();
    std::os::unix::fs::symlink("/etc/hostname", tiny.path("current.csv")).unwrap();
    textum(&tiny, &["plan"]).expect(2).warns("which is outside");
}

#[test]
fn large_data_comes_back_exactly_and_damage_is_never_handed_out() {
    let tiny = Tiny::with(
        "[data.big]\npath = \"big.bin\"\n[stage.s]\nrun = \"head -c 100 big.bin > o\"\nreads = [\"big.bin\"]\nwrites = [\"o\"]\n",
    );
    let first = noise(1, 9 << 20);
    tiny.write("big.bin", &first);
    textum(&tiny, &["run"]).expect(0);
    let mut second = first.clone();
    second.splice(1000..1000, noise(2, 5000));
    tiny.write("big.bin", &second);
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["restore", "last~1"]).expect(0);
    assert!(std::fs::read(tiny.path("big.bin")).unwrap() == first);
    // One bit in the largest pack.
    let packs = std::fs::read_dir(tiny.path(".textum/store/packs")).unwrap().flatten().map(|e| e.path());
    let pack = packs.filter(|p| p.extension().is_some_and(|e| e == "pack")).max_by_key(|p| p.metadata().unwrap().len()).unwrap();
    let mut bytes = std::fs::read(&pack).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 4;
    std::fs::write(&pack, bytes).unwrap();
    textum(&tiny, &["verify"]).expect(0);
    textum(&tiny, &["verify", "--deep"]).expect(4).says("not those that were written");
    let before = tiny.snapshot();
    textum(&tiny, &["restore", "last"]).expect(4).warns("is damaged");
    let after = tiny.snapshot();
    assert!(before.iter().all(|file| after.contains(file)), "what stood there is still there");
}

#[test]
fn a_result_whose_content_is_gone_is_made_again() {
    let tiny = two_stages();
    textum(&tiny, &["run"]).expect(0);
    std::fs::remove_dir_all(tiny.path("build")).unwrap();
    let packs = std::fs::read_dir(tiny.path(".textum/store/packs")).unwrap().flatten().map(|e| e.path());
    // The newest pack has the outputs and the receipts of the run.
    let newest = packs
        .filter(|p| p.extension().is_some_and(|e| e == "pack"))
        .max_by_key(|p| p.metadata().unwrap().modified().unwrap())
        .unwrap();
    std::fs::remove_file(newest.with_extension("index")).unwrap();
    std::fs::remove_file(newest).unwrap();
    textum(&tiny, &["verify"]).expect(4);
    // What was in it exists nowhere else, and that is said; the rest is in order again.
    textum(&tiny, &["verify", "--repair"]).expect(4).says("made anew").says("was lost");
    textum(&tiny, &["verify"]).expect(4).says("the receipt of a run");
    textum(&tiny, &["verify", "--acknowledge"]).expect(0).says("5 receipts");
    textum(&tiny, &["verify", "--deep"]).expect(0).says("acknowledged");
    let run = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    assert_eq!((state(&run, "upper"), state(&run, "count")), ("ran".into(), "ran".into()));
    assert_eq!(tiny.read("build/lines.txt"), "COTTON\nLINEN\nWOOL\n");
}
