//! Undeclared inputs do not stay hidden.

use textum_testkit::Tiny;

use crate::{textum, two_stages};

#[test]
fn an_undeclared_read_fails_in_a_sandbox_and_the_likely_file_is_named() {
    let tiny = Tiny::with("[stage.fit]\nrun = \"python3 steps/fit.py\"\nreads = [\"steps/fit.py\"]\nwrites = [\"model\"]\n");
    tiny.write("steps/fit.py", "import looms\nopen('model', 'w').write(looms.NAME)\n");
    tiny.write("steps/looms.py", "NAME = 'L17'\n");
    textum(&tiny, &["run", "--sandbox"]).expect(1).warns("steps/looms.py").warns("does not declare");
    tiny.write("steps/fit.py", "open('model', 'w').write(open('notes/yarn.txt').read())\n");
    tiny.write("notes/yarn.txt", "linen\n");
    textum(&tiny, &["run", "--sandbox"]).expect(1).warns("notes/yarn.txt");
    // In the working tree it works, and is reported.
    textum(&tiny, &["run"]).expect(0).warns("undeclared").warns("notes/yarn.txt");
    textum(&tiny, &["show", "last"]).expect(0).says("notes/yarn.txt");
    // A rebuild has what was recorded, and what was seen to be read is: it succeeds, whatever has become of the file.
    tiny.write("notes/yarn.txt", "hemp\n");
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    // What only its owner may read is nobody else's in a rebuild either.
    tiny.textum("chmod", &["600", "notes/yarn.txt"]).expect(0);
    textum(&tiny, &["run"]).expect(0);
    tiny.textum("rm", &["-r", "notes"]).expect(0);
    textum(&tiny, &["rebuild", "last", "--keep"]).expect(0);
    let kept = tiny.textum("find", &[".textum", "-name", "yarn.txt", "-perm", "600"]).expect(0).out;
    assert_eq!(kept.lines().count(), 1, "{kept}");
}

#[test]
fn a_sandbox_leaves_the_tree_alone_and_shares_results() {
    let tiny = two_stages();
    let before = tiny.snapshot();
    let run = textum(&tiny, &["run", "--sandbox", "--set", "count.from=2", "--format", "json"]).expect(0).json();
    assert_eq!(tiny.snapshot(), before);
    let sandbox = std::path::PathBuf::from(run["sandbox"].as_str().unwrap());
    assert_eq!(std::fs::read_to_string(sandbox.join("build/lines.txt")).unwrap(), "LINEN\nWOOL\n");
    let plan = textum(&tiny, &["plan", "--set", "count.from=2", "--format", "json"]).expect(0).json();
    assert_eq!(plan["stages"][1]["action"], "reuse");
}

/// The time zone lies outside the project, where a sealed stage may read it: such a stage is sealed when it is rebuilt.
#[test]
fn the_time_zone_keeps_no_rebuild_from_being_sealed() {
    let tiny = Tiny::with(
        "[stage.tell]\nrun = \"env -u TZ date -r yarn +%Z > zone; cat /etc/localtime > /dev/null || true\"\nreads = [\"yarn\"]\nwrites = [\"zone\"]\n",
    );
    tiny.write("yarn", "wool\n");
    textum(&tiny, &["run"]).expect(0);
    let rebuilt = textum(&tiny, &["rebuild", "last", "--format", "json"]).expect(0).json();
    let stage = &rebuilt["stages"][0];
    assert_eq!((&stage["unsealed"], &stage["sealed"]), (&serde_json::Value::Null, &true.into()), "{stage}");
}
