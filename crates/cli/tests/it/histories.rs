//! Random histories of a stage that reads in many ways without declaring any of it, and of edits between its runs: what it
//! brings forth is always what it would bring forth from scratch in a copy, and what was seen before never runs again.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::process::Command;

use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use textum_testkit::Tiny;

use crate::{TEXTUM, textum};

const FILES: [&str; 5] = ["a", "lib/b", "lib/c", "far/deep/d", "other/b"];
const FOLDERS: [&str; 4] = ["lib", "far", "far/deep", "other"];
/// A link to a folder, and what it may lead to.
const LINK: &str = "link";
const TARGETS: [&str; 3] = ["lib", "other", "nowhere"];

/// What a file holds: the first two are of one size.
const CONTENTS: [&str; 3] = ["1", "2", "333"];

/// How a file is read.
const READS: [&str; 14] = [
    "open(F).read()",
    "open(F, 'r+').read()",
    "os.read(os.open(F, os.O_RDWR), 9)",
    "os.read(os.open(F, os.O_RDWR | os.O_APPEND), 9)",
    "mapped(F)",
    "os.read(os.open(os.path.basename(F), 0, dir_fd=os.open(os.path.dirname(F) or '.', 0)), 9)",
    "open('/proc/self/cwd/' + F).read()",
    "open('/proc/self/fd/' + str(os.open(F, os.O_PATH))).read()",
    "by_own_link(F)",
    "by_own_folder(F)",
    "forked(F)",
    "after_failing(F)",
    "threaded(F)",
    "subprocess.check_output(['cat', F], stderr=subprocess.DEVNULL)",
];

const PRELUDE: &str = r#"
import glob, mmap, os, subprocess, sys, tempfile, threading
def mapped(f):
    with open(f, 'r+b') as h: return mmap.mmap(h.fileno(), 0)[:]
def by_own_link(f):
    with tempfile.TemporaryDirectory() as d:
        os.symlink(os.path.abspath(f), d + '/l')
        return open(d + '/l').read()
def by_own_folder(f):
    with tempfile.TemporaryDirectory() as d:
        os.symlink(os.path.abspath(os.path.dirname(f) or '.'), d + '/l')
        return open(d + '/l/' + os.path.basename(f)).read()
def forked(f):
    r, w = os.pipe()
    if os.fork() == 0:
        try: os.write(w, open(f, 'rb').read())
        except OSError: os.write(w, b'none')
        os._exit(0)
    os.wait()
    return os.read(r, 99)
def after_failing(f):
    for call in (lambda: os.rename('nothing', f), lambda: os.link('nothing', f), lambda: os.rmdir(f), lambda: os.truncate(f, -1)):
        try: call()
        except OSError: pass
    return open(f).read()
def threaded(f):
    found = []
    def read():
        try: found.append(open(f).read())
        except OSError: found.append('none')
    t = threading.Thread(target=read); t.start(); t.join()
    return found
def gone_into(link, name):
    here = os.open('.', 0)
    try:
        os.chdir(link)
        return open(name).read()
    finally: os.fchdir(here)
def asked(d):
    return sorted(os.listdir(d)) if os.path.isdir(d) else 'none'
def walked(d):
    return sorted(os.path.join(at, name) for at, _, names in os.walk(d) for name in names)
def says(look):
    try: print(look())
    except (OSError, subprocess.CalledProcessError): print('none')
"#;

#[derive(Clone, Debug)]
enum Look {
    Read(usize, usize),
    Exists(usize),
    Size(usize),
    Executable(usize),
    List(usize),
    Asked(usize),
    Walk(usize),
    Glob(usize),
    Readlink,
    Through(usize),
    GoneInto(usize),
    InFolder(usize),
    /// The second only if the first is there.
    If(usize, Box<Look>),
}

#[derive(Clone, Debug)]
enum Edit {
    Write(usize, usize),
    Remove(usize),
    Touch(usize),
    Chmod(usize, bool),
    /// A file that no look asks for by its name.
    Other(usize),
    Relink(usize),
}

/// The project, as the model has it: contents with whether they may be executed, other files, what the link leads to.
#[derive(Clone, Default)]
struct Model {
    files: BTreeMap<String, (usize, bool)>,
    others: BTreeSet<String>,
    target: usize,
}

impl Look {
    fn script(&self) -> String {
        let name = |f: &usize| format!("'{}'", FILES[*f]);
        let base = |f: &usize| FILES[*f].rsplit('/').next().unwrap();
        let folder = |d: &usize| format!("'{}'", FOLDERS[*d]);
        match self {
            Look::Read(f, how) => format!("says(lambda: {})", READS[*how].replace('F', &name(f))),
            Look::Exists(f) => format!("print(os.path.exists({}))", name(f)),
            Look::Size(f) => format!("says(lambda: os.path.getsize({}))", name(f)),
            Look::Executable(f) => format!("print(os.access({}, os.X_OK))", name(f)),
            Look::List(d) => format!("says(lambda: sorted(e.name for e in os.scandir({})))", folder(d)),
            Look::Asked(d) => format!("says(lambda: asked({}))", folder(d)),
            Look::Walk(d) => format!("says(lambda: walked({}))", folder(d)),
            Look::Glob(d) => format!("print(sorted(glob.glob({} + '/*')))", folder(d)),
            Look::Readlink => format!("print(os.readlink('{LINK}'))"),
            Look::Through(f) => format!("says(lambda: open('{LINK}/{}').read())", base(f)),
            Look::GoneInto(f) => format!("says(lambda: gone_into('{LINK}', '{}'))", base(f)),
            Look::InFolder(f) => format!("says(lambda: os.read(os.open('{}', 0, dir_fd=os.open('{LINK}', 0)), 9))", base(f)),
            Look::If(f, then) => format!("if os.path.exists({}): {}", name(f), then.script()),
        }
    }

    /// All that it sees. Where this is the same, it does the same.
    fn sees(&self, model: &Model) -> String {
        let read = |path: &str| model.files.get(path).map(|(value, exec)| format!("{value} {exec}"));
        let looked = |f: usize| model.files.get(FILES[f]).map(|(value, exec)| (CONTENTS[*value].len(), *exec));
        let behind = |f: usize| format!("{}/{}", TARGETS[model.target], FILES[f].rsplit('/').next().unwrap());
        let all = || model.files.keys().chain(&model.others);
        match self {
            Look::Read(f, _) => format!("{:?}", read(FILES[*f])),
            Look::Exists(f) | Look::Size(f) => format!("{:?}", looked(*f)),
            Look::Executable(f) => format!("{:?}", model.files.get(FILES[*f]).map(|(_, exec)| exec)),
            Look::List(d) | Look::Asked(d) | Look::Glob(d) => {
                let inside = all().filter_map(|p| p.strip_prefix(FOLDERS[*d])?.strip_prefix('/'));
                format!("{:?}", inside.map(|p| p.split('/').next().unwrap()).collect::<BTreeSet<_>>())
            }
            Look::Walk(d) => format!("{:?}", all().filter(|p| p.starts_with(&format!("{}/", FOLDERS[*d]))).collect::<Vec<_>>()),
            Look::Readlink => model.target.to_string(),
            Look::Through(f) => read(&behind(*f)).unwrap_or_else(|| format!("none {}", model.target)),
            Look::GoneInto(f) | Look::InFolder(f) => format!("{} {:?}", model.target, read(&behind(*f))),
            Look::If(f, then) => match looked(*f) {
                Some(seen) => format!("{seen:?} {}", then.sees(model)),
                None => "not".to_string(),
            },
        }
    }
}

fn look() -> impl Strategy<Value = Look> {
    let (file, folder) = (0..FILES.len(), 0..FOLDERS.len());
    let simple = prop_oneof![
        8 => (file.clone(), 0..READS.len()).prop_map(|(f, how)| Look::Read(f, how)),
        1 => file.clone().prop_map(Look::Exists),
        1 => file.clone().prop_map(Look::Size),
        1 => file.clone().prop_map(Look::Executable),
        1 => folder.clone().prop_map(Look::List),
        1 => folder.clone().prop_map(Look::Asked),
        1 => folder.clone().prop_map(Look::Walk),
        1 => folder.prop_map(Look::Glob),
        1 => Just(Look::Readlink),
        1 => file.clone().prop_map(Look::Through),
        1 => file.clone().prop_map(Look::GoneInto),
        1 => file.clone().prop_map(Look::InFolder),
    ];
    simple.clone().prop_flat_map(move |then| {
        prop_oneof![3 => Just(then.clone()), 1 => (0..FILES.len()).prop_map(move |f| Look::If(f, Box::new(then.clone())))]
    })
}

fn edit() -> impl Strategy<Value = Edit> {
    let file = 0..FILES.len();
    prop_oneof![
        4 => (file.clone(), 0..CONTENTS.len()).prop_map(|(f, v)| Edit::Write(f, v)),
        2 => file.clone().prop_map(Edit::Remove),
        1 => file.clone().prop_map(Edit::Touch),
        1 => (file, any::<bool>()).prop_map(|(f, exec)| Edit::Chmod(f, exec)),
        1 => (0..FOLDERS.len()).prop_map(Edit::Other),
        2 => (0..TARGETS.len()).prop_map(Edit::Relink),
    ]
}

fn apply(tiny: &Tiny, model: &mut Model, edit: &Edit) {
    let set_mode = |path: &str, exec: bool| {
        let mode = if exec { 0o755 } else { 0o644 };
        std::fs::set_permissions(tiny.path(path), std::os::unix::fs::PermissionsExt::from_mode(mode)).unwrap();
    };
    match edit {
        Edit::Write(f, value) => {
            let exec = model.files.get(FILES[*f]).is_some_and(|(_, exec)| *exec);
            tiny.write(FILES[*f], CONTENTS[*value]);
            model.files.insert(FILES[*f].to_string(), (*value, exec));
        }
        Edit::Remove(f) => {
            if model.files.remove(FILES[*f]).is_some() {
                std::fs::remove_file(tiny.path(FILES[*f])).unwrap();
            }
        }
        Edit::Touch(f) => {
            if let Some((value, _)) = model.files.get(FILES[*f]) {
                tiny.write(FILES[*f], CONTENTS[*value]);
            }
        }
        Edit::Chmod(f, exec) => {
            if let Some(file) = model.files.get_mut(FILES[*f]) {
                file.1 = *exec;
                set_mode(FILES[*f], *exec);
            }
        }
        Edit::Other(d) => {
            let path = format!("{}/other.txt", FOLDERS[*d]);
            tiny.write(&path, "x");
            model.others.insert(path);
        }
        Edit::Relink(target) => {
            let _ = std::fs::remove_file(tiny.path(LINK));
            std::os::unix::fs::symlink(TARGETS[*target], tiny.path(LINK)).unwrap();
            model.target = *target;
        }
    }
}

/// What the script brings forth from scratch, in a copy of the project.
fn from_scratch(tiny: &Tiny, around: &Path) -> String {
    let copy = around.join("copy");
    let _ = std::fs::remove_dir_all(&copy);
    assert!(Command::new("cp").arg("-a").arg(tiny.root()).arg(&copy).status().unwrap().success());
    let mut command = Command::new("/usr/bin/python3");
    command.args(["-B", "look.py"]).current_dir(&copy).env_clear().env("PATH", "/usr/bin:/bin");
    String::from_utf8(command.output().unwrap().stdout).unwrap()
}

fn history(looks: &[Look], first: &[Edit], edits: &[Edit]) {
    let around = tempfile::Builder::new().prefix("textum-history-").tempdir().unwrap();
    let tiny = Tiny::at(&around.path().join("project"));
    let script: Vec<String> = looks.iter().map(Look::script).collect();
    tiny.write("look.py", format!("{PRELUDE}{}\n", script.join("\n")));
    tiny.manifest("[stage.fit]\nrun = \"/usr/bin/python3 -B look.py > cloth\"\nreads = [\"look.py\"]\nwrites = [\"cloth\"]\n");
    let mut model = Model::default();
    // Folders that come and go with their only file would be seen where the model sees none.
    for folder in FOLDERS {
        tiny.write(&format!("{folder}/keep"), "");
        model.others.insert(format!("{folder}/keep"));
    }
    apply(&tiny, &mut model, &Edit::Relink(0));
    first.iter().for_each(|e| apply(&tiny, &mut model, e));
    let mut seen: BTreeSet<Vec<String>> = BTreeSet::new();
    for edit in [None].into_iter().chain(edits.iter().map(Some)) {
        edit.iter().for_each(|e| apply(&tiny, &mut model, e));
        let sees: Vec<String> = looks.iter().map(|l| l.sees(&model)).collect();
        let plan = textum(&tiny, &["plan", "--format", "json"]).expect(0).json();
        let runs = plan["stages"][0]["action"] == "run";
        let tried = || format!("{}\nafter {edit:?} of {first:?} {edits:?}: {sees:?}", script.join("\n"));
        assert!(!(runs && seen.contains(&sees)), "it runs again: {}\n{plan:#}", tried());
        textum(&tiny, &["run"]).expect(0);
        let fresh = from_scratch(&tiny, around.path());
        assert_eq!(tiny.read("cloth"), fresh, "a stale result: {}", tried());
        // Once more: it leaves nothing behind by which it runs again.
        let plan = textum(&tiny, &["plan", "--format", "json"]).expect(0).json();
        assert_eq!(plan["stages"][0]["action"], "up-to-date", "{}\n{plan:#}", tried());
        seen.insert(sees);
    }
}

/// Never a result that would come out otherwise, and never an execution where nothing that was seen has changed.
#[test]
fn a_result_is_what_the_stage_would_bring_forth_from_scratch() {
    let cases = std::env::var("TEXTUM_HISTORIES").ok().and_then(|n| n.parse().ok()).unwrap_or(300);
    let mut runner = TestRunner::new(Config { cases, failure_persistence: None, max_shrink_iters: 60, ..Config::default() });
    let strategy = (prop::collection::vec(look(), 1..5), prop::collection::vec(edit(), 0..5), prop::collection::vec(edit(), 1..5));
    let result = runner.run(&strategy, |(looks, first, edits)| {
        history(&looks, &first, &edits);
        Ok(())
    });
    result.unwrap();
    assert!(Path::new(TEXTUM).is_file());
}
