//! Edits while a stage runs: what it saw is what counts, not what is there when it has ended.

use std::fs;
use std::path::Path;
use std::process::Command;

use textum_testkit::Tiny;

use crate::{TEXTUM, textum};

const SCRIPT: &str = "
import os, sys
seen = sorted(os.listdir('lib')), os.path.exists('maybe'), os.path.exists('there'), os.path.getsize('sized'), os.readlink('link')
seen += os.getxattr('tagged', 'user.loom'),
for name in 'rw', 'base', 'going':
    try:
        with open(name, 'r+') as f: seen += f.read(),
    except FileNotFoundError: seen += None,
opened = open('held', 'r+')
open(sys.argv[1]).read()
seen += opened.read(),
opened.close()
with open('out', 'w') as f: print(seen, file=f)
";

fn begin() -> (Tiny, tempfile::TempDir) {
    let tiny = Tiny::new();
    for name in ["lib/a", "lib/b", "there", "sized", "tagged", "rw", "base", "going", "held"] {
        tiny.write(name, "1");
    }
    std::os::unix::fs::symlink("a", tiny.path("link")).unwrap();
    rustix::fs::setxattr(tiny.path("tagged"), "user.loom", b"1", rustix::fs::XattrFlags::empty()).unwrap();
    tiny.write("look.py", SCRIPT);
    let outside = tempfile::tempdir().unwrap();
    let gate = outside.path().join("gate");
    assert!(Command::new("mkfifo").arg(&gate).status().unwrap().success());
    let run = format!("python3 look.py {}", gate.display());
    tiny.manifest(&format!("[stage.look]\nrun = \"{run}\"\nreads = [\"look.py\"]\nwrites = [\"out\"]\n"));
    (tiny, outside)
}

/// Runs the stage, and does something when it has looked at everything but `held`.
fn run(tiny: &Tiny, gate: &Path, meanwhile: impl FnOnce()) {
    let mut child = tiny.start(TEXTUM, &["run"]);
    // It opens once the stage has it open for reading.
    let gate = fs::OpenOptions::new().write(true).open(gate).unwrap();
    meanwhile();
    drop(gate);
    assert!(child.wait().unwrap().success());
}

fn replace(tiny: &Tiny, name: &str, text: &str) {
    tiny.write("lib.new", text);
    fs::rename(tiny.path("lib.new"), tiny.path(name)).unwrap();
}

#[test]
fn what_comes_goes_or_changes_while_a_stage_runs_makes_it_run_again() {
    type Edit = fn(&Tiny);
    let edits: [(&str, Edit); 11] = [
        ("an entry comes", |tiny| tiny.write("lib/c", "1")),
        ("an entry goes", |tiny| fs::remove_file(tiny.path("lib/b")).unwrap()),
        ("what was not there comes", |tiny| tiny.write("maybe", "1")),
        ("what was there goes", |tiny| fs::remove_file(tiny.path("there")).unwrap()),
        ("a size", |tiny| tiny.write("sized", "333")),
        ("a link", |tiny| {
            fs::remove_file(tiny.path("link")).unwrap();
            std::os::unix::fs::symlink("b", tiny.path("link")).unwrap();
        }),
        ("an attribute", |tiny| {
            rustix::fs::setxattr(tiny.path("tagged"), "user.loom", b"2", rustix::fs::XattrFlags::empty()).unwrap();
        }),
        ("what it opened to change and did not", |tiny| tiny.write("rw", "2")),
        ("the same, replaced", |tiny| replace(tiny, "base", "2")),
        ("the same, removed", |tiny| fs::remove_file(tiny.path("going")).unwrap()),
        ("what it still has open to change", |tiny| replace(tiny, "held", "2")),
    ];
    let (tiny, outside) = begin();
    let gate = outside.path().join("gate");
    run(&tiny, &gate, || {});
    textum(&tiny, &["plan"]).expect(0).says("up-to-date");
    for (what, edit) in edits {
        // Something else that makes it run.
        tiny.write("look.py", format!("{SCRIPT}# {what}\n"));
        run(&tiny, &gate, || edit(&tiny));
        let before = tiny.read("out");
        let plan = textum(&tiny, &["plan"]).expect(0);
        assert!(plan.out.contains("1 of 1 stage would run"), "{what}: {}", plan.out);
        run(&tiny, &gate, || {});
        assert_ne!(tiny.read("out"), before, "{what}");
        textum(&tiny, &["plan"]).expect(0).says("up-to-date");
    }
}

#[test]
fn what_the_stage_itself_makes_and_removes_while_it_runs_is_no_edit() {
    let tiny = Tiny::new();
    tiny.write("lib/old", "1");
    tiny.write(
        "own.py",
        "import os\nif not os.path.exists('cache'): os.mkdir('cache')\nn = len(os.listdir('cache')) + len(os.listdir('lib'))\n\
         open('cache/a', 'w').close(); open('lib/new', 'w').close()\nif os.path.exists('lib/old'): os.remove('lib/old')\n\
         os.rename('lib/new', 'lib/newer'); open('lib/gone', 'w').close(); os.remove('lib/gone')\nopen('out', 'w').write('1')\n",
    );
    tiny.manifest("[stage.own]\nrun = \"python3 own.py\"\nreads = [\"own.py\"]\nwrites = [\"out\"]\n");
    textum(&tiny, &["run"]).expect(0).says("own  ran");
    textum(&tiny, &["plan"]).expect(0).says("up-to-date");
    tiny.write("lib/other", "1");
    textum(&tiny, &["plan"]).expect(0).says("lib/other");
}
