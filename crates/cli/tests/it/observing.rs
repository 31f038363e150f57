//! Observing itself: against a model of what scripts read, when it is killed, when it is not allowed; and sealing.

use std::collections::{BTreeMap, BTreeSet};

use proptest::prelude::*;
use proptest::test_runner::{Config, TestRunner};
use textum_testkit::Tiny;

use crate::{TEXTUM, textum};

const FILES: [&str; 5] = ["a", "lib/b", "lib/c", "far/deep/d", "../home-file"];
const FOLDERS: [&str; 3] = ["lib", "far", "far/deep"];

/// Something that a script does; what it sees decides what it prints.
#[derive(Clone, Debug)]
enum Look {
    Cat(usize),
    Exists(usize),
    List(usize),
    /// Reads the second only if the first is there.
    If(usize, usize),
}

#[derive(Clone, Debug)]
enum Edit {
    Write(usize, u8),
    Remove(usize),
    /// Writes what is there once more.
    Touch(usize),
    /// A file that no script looks at; a folder that is listed shows it.
    Other(usize),
}

impl Look {
    fn command(&self) -> String {
        match self {
            Look::Cat(f) => format!("cat {} 2>/dev/null || echo none", FILES[*f]),
            Look::Exists(f) => format!("test -e {} && echo there || echo not", FILES[*f]),
            Look::List(f) => format!("ls {} 2>/dev/null || echo none", FOLDERS[*f]),
            Look::If(f, g) => format!("test -e {} && {{ {}; }} || echo not", FILES[*f], Look::Cat(*g).command()),
        }
    }

    /// All that it sees: what is the same here cannot change what it does.
    fn sees(&self, tree: &BTreeMap<String, u8>) -> String {
        let read = |f: usize| format!("{:?}", tree.get(FILES[f]));
        let exists = |f: usize| tree.contains_key(FILES[f]);
        match self {
            Look::Cat(f) => read(*f),
            Look::Exists(f) => exists(*f).to_string(),
            Look::List(d) => {
                let inside = tree.keys().filter_map(|p| p.strip_prefix(FOLDERS[*d])?.strip_prefix('/'));
                format!("{:?}", inside.map(|p| p.split('/').next().unwrap()).collect::<BTreeSet<_>>())
            }
            Look::If(f, g) => format!("{} {}", exists(*f), if exists(*f) { read(*g) } else { String::new() }),
        }
    }
}

fn look() -> impl Strategy<Value = Look> {
    prop_oneof![
        3 => (0..FILES.len()).prop_map(Look::Cat),
        2 => (0..FILES.len()).prop_map(Look::Exists),
        1 => (0..FOLDERS.len()).prop_map(Look::List),
        2 => (0..FILES.len(), 0..FILES.len()).prop_map(|(f, g)| Look::If(f, g)),
    ]
}

fn edit() -> impl Strategy<Value = Edit> {
    prop_oneof![
        4 => (0..FILES.len(), 0u8..3).prop_map(|(f, v)| Edit::Write(f, v)),
        2 => (0..FILES.len()).prop_map(Edit::Remove),
        1 => (0..FILES.len()).prop_map(Edit::Touch),
        1 => (0..FOLDERS.len()).prop_map(Edit::Other),
    ]
}

fn put(tiny: &Tiny, tree: &mut BTreeMap<String, u8>, path: &str, value: u8) {
    tiny.write(path, format!("{value}\n"));
    tree.insert(path.to_string(), value);
}

fn history(looks: &[Look], first: &[Edit], edits: &[Edit]) {
    let around = tempfile::Builder::new().prefix("textum-observed-").tempdir().unwrap();
    let tiny = Tiny::at(&around.path().join("project"));
    let command = looks.iter().map(Look::command).collect::<Vec<_>>().join("; ");
    tiny.manifest(&format!("[stage.fit]\nrun = \"( {command} ) > cloth\"\nwrites = [\"cloth\"]\n"));
    let mut tree = BTreeMap::new();
    // Folders that come and go with their only file would be seen where the model sees none.
    FOLDERS.iter().for_each(|f| put(&tiny, &mut tree, &format!("{f}/keep"), 0));
    let apply = |edit: &Edit, tree: &mut BTreeMap<String, u8>| match edit {
        Edit::Write(f, value) => put(&tiny, tree, FILES[*f], *value),
        Edit::Remove(f) => {
            if tree.remove(FILES[*f]).is_some() {
                std::fs::remove_file(tiny.path(FILES[*f])).unwrap();
            }
        }
        Edit::Touch(f) => {
            if let Some(value) = tree.get(FILES[*f]).copied() {
                put(&tiny, tree, FILES[*f], value);
            }
        }
        Edit::Other(f) => put(&tiny, tree, &format!("{}/other", FOLDERS[*f]), 0),
    };
    first.iter().for_each(|e| apply(e, &mut tree));
    let mut seen: BTreeMap<Vec<String>, String> = BTreeMap::new();
    let mut standing: Option<Vec<String>> = None;
    for edit in [None].into_iter().chain(edits.iter().map(Some)) {
        edit.iter().for_each(|e| apply(e, &mut tree));
        let sees: Vec<String> = looks.iter().map(|l| l.sees(&tree)).collect();
        let plan = textum(&tiny, &["plan", "--format", "json"]).expect(0).json();
        let action = plan["stages"][0]["action"].as_str().unwrap().to_string();
        let cloth = || tiny.read("cloth");
        // Two things seen may print the same: then the result stands there already.
        let expected = match seen.get(&sees) {
            None => "run",
            Some(printed) if standing.is_some() && *printed == cloth() => "up-to-date",
            Some(_) => "reuse",
        };
        assert_eq!(action, expected, "{command}\nafter {edit:?} of {edits:?}: {sees:?}\n{plan:#}");
        textum(&tiny, &["run"]).expect(0);
        let fresh = tiny.textum("/bin/sh", &["-c", &command]).expect(0).out;
        assert_eq!(cloth(), fresh, "{command}\nafter {edit:?} of {edits:?}: a stale result");
        seen.insert(sees.clone(), fresh);
        standing = Some(sees);
    }
}

/// Never a stale result, and never an execution where nothing that was read has changed.
#[test]
fn results_stand_just_as_long_as_all_that_was_seen_stands() {
    let cases = std::env::var("TEXTUM_HISTORIES").ok().and_then(|n| n.parse().ok()).unwrap_or(60);
    let mut runner = TestRunner::new(Config { cases, failure_persistence: None, max_shrink_iters: 60, ..Config::default() });
    let strategy = (prop::collection::vec(look(), 1..4), prop::collection::vec(edit(), 0..4), prop::collection::vec(edit(), 1..4));
    let result = runner.run(&strategy, |(looks, first, edits)| {
        history(&looks, &first, &edits);
        Ok(())
    });
    result.unwrap();
}

fn children(of: u32) -> Vec<u32> {
    let tasks = std::fs::read_dir(format!("/proc/{of}/task")).unwrap().flatten();
    let texts = tasks.map(|t| std::fs::read_to_string(t.path().join("children")).unwrap_or_default());
    texts.flat_map(|text| text.split_whitespace().filter_map(|p| p.parse().ok()).collect::<Vec<u32>>()).collect()
}

/// A tracer that is killed takes its stage along, and nothing is recorded as done.
#[test]
fn a_tracer_that_is_killed_ends_its_stage_and_the_stage_has_failed() {
    for loops in [0, 3, 40] {
        let command = format!(
            "echo x > cloth; for i in $(seq {loops}); do cat yarn > /dev/null; done; echo $$ > begun; while :; do sleep 0.01; done"
        );
        let tiny = Tiny::with(&format!("[stage.weave]\nrun = \"{command}\"\nwrites = [\"cloth\"]\n"));
        tiny.write("yarn", "wool\n");
        let mut run = tiny.start(TEXTUM, &["run"]);
        while std::fs::read_to_string(tiny.path("begun")).unwrap_or_default().is_empty() {
            std::thread::yield_now();
        }
        let tracer = children(run.id()).into_iter().find(|pid| {
            std::fs::read(format!("/proc/{pid}/cmdline")).is_ok_and(|c| c.windows(15).any(|w| w == b"--observe-stage"))
        });
        let stage: u32 = tiny.read("begun").trim().parse().unwrap();
        tiny.textum("/bin/kill", &["-9", &tracer.unwrap().to_string()]).expect(0);
        assert_eq!(run.wait().unwrap().code(), Some(1));
        let begun = std::time::Instant::now();
        let lives =
            || std::fs::read_to_string(format!("/proc/{stage}/stat")).is_ok_and(|s| !s.contains(") Z ") && s.contains("(sh)"));
        while lives() {
            assert!(begun.elapsed().as_secs() < 60, "the stage lives on");
            std::thread::yield_now();
        }
        let shown = textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json();
        assert_eq!(shown["stages"][0]["state"], "failed", "{shown:#}");
        let plan = textum(&tiny, &["plan", "--format", "json"]).expect(0).json();
        assert_eq!(plan["stages"][0]["action"], "run");
    }
}

#[test]
fn many_processes_at_once_are_all_seen_and_signals_reach_them() {
    let tiny = Tiny::with(
        "[stage.weave]\nrun = '''for i in $(seq 200); do (read x < in/$i; echo $x) & done > cloth; wait; sh -c 'kill -TERM $$' || echo ended >> cloth; \
         sh -c 'trap \"echo caught; exit 0\" USR1; kill -USR1 $$; sleep 5' >> cloth'''\nwrites = [\"cloth\"]\n",
    );
    (1..=200).for_each(|i| tiny.write(&format!("in/{i}"), format!("{i}\n")));
    textum(&tiny, &["run"]).expect(0);
    assert_eq!(tiny.read("cloth").lines().count(), 202);
    assert!(tiny.read("cloth").ends_with("ended\ncaught\n"));
    let trace = textum(&tiny, &["trace", "cloth", "--format", "json"]).expect(0).json();
    let read = trace["edges"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|e| e["role"] == "observed" && e["from"].as_str().unwrap().starts_with("file:in/"));
    assert_eq!(read.count(), 200);
    tiny.write("in/137", "another\n");
    textum(&tiny, &["plan"]).expect(0).says("read without being declared: in/137 changed");
}

/// A stage that ends by a signal, or with a status, does so under the tracer as without it.
#[test]
fn how_a_command_ends_is_told_as_it_is() {
    for (command, said) in [
        ("exit 3", "exit status 3"),
        ("kill -SEGV $$", "killed by signal 11"),
        ("kill -KILL $$", "killed by signal 9"),
        ("no-such-program-anywhere", "its command was not found"),
        ("exit 125", "exit status 125"),
    ] {
        let tiny = Tiny::with(&format!("[stage.s]\nrun = \"{command}\"\nwrites = [\"out\"]\n"));
        textum(&tiny, &["run"]).expect(1).warns(said);
    }
    let tiny = Tiny::with("[stage.s]\nrun = [\"no-such-program-anywhere\"]\nwrites = [\"out\"]\n");
    textum(&tiny, &["run"]).expect(1).warns("no-such-program-anywhere");
}

/// Where tracing is not permitted, as under another tracer, all else works, and it is said.
#[test]
fn without_permission_to_trace_everything_else_works_and_it_is_told() {
    let tiny = Tiny::with("[stage.weave]\nrun = \"cat yarn > cloth\"\nreads = [\"yarn\"]\nwrites = [\"cloth\"]\n");
    tiny.write("yarn", "wool\n");
    let record = tiny.path("outer.json").display().to_string();
    let under = |words: &[&str]| {
        let outer = ["--observe-stage", &record, "", TEXTUM];
        tiny.textum(TEXTUM, &[&outer[..], words].concat())
    };
    under(&["run"]).expect(0).warns("not observed: weave: tracing is not permitted here").warns("; only what it declares counts");
    assert_eq!(tiny.read("cloth"), "wool\n");
    textum(&tiny, &["trace", "cloth"]).expect(0).says("not observed: tracing is not permitted here");
    under(&["plan"]).expect(0).says("nothing to do");
    tiny.write("yarn", "silk\n");
    under(&["run"]).expect(0);
    assert_eq!(tiny.read("cloth"), "silk\n");
}

#[test]
fn observing_can_be_switched_off_and_reuse_too_and_both_are_said() {
    let tiny = Tiny::with(
        "[stage.off]\nrun = \"cat hidden > off\"\nwrites = [\"off\"]\nobserve = false\n\n[stage.each]\nrun = \"date +%N > each\"\nwrites = [\"each\"]\nreuse = false\n",
    );
    tiny.write("hidden", "1\n");
    textum(&tiny, &["run"]).expect(0);
    tiny.write("hidden", "2\n");
    let plan = textum(&tiny, &["plan"]).expect(0);
    assert!(
        plan.out.contains("off   up-to-date") && plan.out.contains("it runs each time, as `reuse = false` says"),
        "{}",
        plan.out
    );
    textum(&tiny, &["trace", "off"]).expect(0).says("not observed: the manifest says so");
    // Switched on again, nothing is known of what it read: it is executed once more.
    let manifest = tiny.read("textum.toml");
    tiny.write("textum.toml", manifest.replace("observe = false\n", ""));
    textum(&tiny, &["plan"]).expect(0).says("what it read was never observed");
    tiny.write("textum.toml", manifest);
    let before = tiny.read("each");
    textum(&tiny, &["run"]).expect(0);
    assert_ne!(tiny.read("each"), before);
    textum(&Tiny::with("[stage.s]\nrun = \"x\"\nwrites = [\"o\"]\nobserve = \"no\"\n"), &["plan"]).expect(2).warns("true or false");
    textum(&Tiny::with("[observe]\nsystem = \"all\"\n[stage.s]\nrun = \"x\"\nwrites = [\"o\"]\n"), &["plan"])
        .expect(2)
        .warns("count");
}

/// Of several results with one key, the one that stands in the tree says why it stands no longer.
#[test]
fn the_result_in_the_tree_says_what_has_changed() {
    let tiny = Tiny::with("[stage.s]\nrun = \"cat hidden > out; true\"\nwrites = [\"out\"]\n");
    tiny.write("hidden", "1\n");
    textum(&tiny, &["run"]).expect(0);
    // A newer one, made where there was no such file.
    textum(&tiny, &["run", "--sandbox", "--force", "s"]).expect(0);
    textum(&tiny, &["plan"]).expect(0).says("nothing to do");
    tiny.write("hidden", "2\n");
    textum(&tiny, &["plan"]).expect(0).says("read without being declared: hidden changed");
    std::fs::remove_file(tiny.path("hidden")).unwrap();
    textum(&tiny, &["plan"]).expect(0).says("would be put in place");
}

#[test]
fn what_is_ignored_does_not_count() {
    let tiny =
        Tiny::with("[observe]\nignore = [\"scratch/**\"]\n\n[stage.s]\nrun = \"cat scratch/a other > out\"\nwrites = [\"out\"]\n");
    tiny.write("scratch/a", "1\n");
    tiny.write("other", "1\n");
    textum(&tiny, &["run"]).expect(0);
    tiny.write("scratch/a", "2\n");
    textum(&tiny, &["plan"]).expect(0).says("nothing to do");
    tiny.write("other", "2\n");
    textum(&tiny, &["plan"]).expect(0).says("other changed");
}

/// What a stage has undeclared is written down by `adopt`; its result stands, and later changes are seen.
#[test]
fn adopt_writes_down_what_was_read_and_nothing_is_executed_for_it() {
    let manifest = "[stage.spin]\nrun = \"cat wool > yarn\"\nreads = [\n  \"wool\", # from the sheep\n]\nwrites = [\"yarn\"]\n\n\
                    [stage.weave]\nrun = \"cat yarn pattern > cloth\"\nwrites = [\"cloth\"]\n";
    let tiny = Tiny::with(manifest);
    tiny.write("wool", "w\n");
    tiny.write("pattern", "twill\n");
    textum(&tiny, &["run", "spin"]).expect(0);
    textum(&tiny, &["run"]).expect(0).warns("`textum adopt weave` writes it down");
    let dry = textum(&tiny, &["adopt", "--dry-run"]).expect(0);
    assert!(dry.out.contains("+ pattern") && dry.out.contains("comes after spin now"), "{}", dry.out);
    assert!(tiny.read("textum.toml").contains(manifest));
    textum(&tiny, &["adopt"]).expect(0).says("its result stands");
    let written = tiny.read("textum.toml");
    assert!(written.contains("\"wool\", # from the sheep") && written.contains("reads = [\"pattern\", \"yarn\"]"), "{written}");
    textum(&tiny, &["plan"]).expect(0).says("nothing to do");
    textum(&tiny, &["adopt"]).expect(0).says("nothing to adopt");
    textum(&tiny, &["verify", "--deep"]).expect(0);
    textum(&tiny, &["rebuild", "cloth"]).expect(0).says("identical");
    tiny.write("wool", "x\n");
    textum(&tiny, &["run"]).expect(0);
    assert_eq!(tiny.read("cloth"), "x\ntwill\n");
    // Two that read from one another cannot both come first.
    let tiny = Tiny::with(
        "[stage.one]\nrun = \"cat two 2>/dev/null; echo 1 > one\"\nwrites = [\"one\"]\n\n[stage.two]\nrun = \"cat one; echo 2 > two\"\nreads = [\"one\"]\nwrites = [\"two\"]\n",
    );
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["run", "--force", "one"]).expect(0);
    textum(&tiny, &["adopt"]).expect(0).says("two writes it and comes after one already");
}

fn sealed(run: &str, more: &str) -> Tiny {
    let tiny = Tiny::with(&format!("[stage.weave]\nrun = '''{run}'''\nwrites = [\"cloth\"]\nsealed = true\n{more}"));
    tiny.write("yarn", "wool\n");
    tiny
}

#[test]
fn a_sealed_stage_reads_what_it_declares_and_nothing_else() {
    let tiny = sealed("sort yarn > $TMPDIR/x; cp $TMPDIR/x cloth; ls -A ~ >> cloth; cat cloth > /dev/null", "reads = [\"yarn\"]\n");
    textum(&tiny, &["run"]).expect(0);
    assert_eq!(tiny.read("cloth"), "wool\n");
    assert!(!tiny.path(".textum/sandboxes").read_dir().is_ok_and(|mut d| d.next().is_some()), "its sandbox is gone");
    textum(&tiny, &["plan"]).expect(0).says("nothing to do");
    textum(&tiny, &["trace", "cloth"]).expect(0).says("sealed: nothing else could be read");
    textum(&tiny, &["rebuild", "cloth"]).expect(0).says("identical");
    let around = tiny.root().parent().unwrap().display().to_string();
    let outside = tempfile::Builder::new().prefix("textum-outside-").tempdir().unwrap();
    let file = outside.path().join("far").display().to_string();
    std::fs::write(&file, "far\n").unwrap();
    for (command, said) in [
        (format!("cat {file} > cloth"), file.clone()),
        (format!("cat {file} 2>/dev/null; cp yarn cloth"), file.clone()),
        (format!("cp yarn cloth; echo x > {around}/textum-never-made 2>/dev/null || true"), "textum-never-made".into()),
        (
            "cp yarn cloth; python3 -c 'import socket; socket.create_connection((\"127.0.0.1\", 9))' 2>/dev/null || true".into(),
            "127.0.0.1:9".into(),
        ),
    ] {
        let tiny = sealed(&command, "reads = [\"yarn\"]\n");
        textum(&tiny, &["run"]).expect(1).warns("it is sealed and tried in vain").warns(&said);
        assert!(!tiny.has("cloth") && !std::path::Path::new(&around).join("textum-never-made").exists());
    }
    // A file of the project that it does without is tried in vain all the same.
    let tiny = sealed("cat other > cloth 2>/dev/null; true", "reads = [\"yarn\"]\n");
    tiny.write("other", "x\n");
    textum(&tiny, &["run"]).expect(1).warns("reads = [\"other\"] in [stage.weave]");
    // A file of the project by its whole name: how to declare it is said.
    let tiny = sealed("", "");
    tiny.manifest(&format!(
        "[stage.weave]\nrun = \"cat {}/yarn > cloth\"\nwrites = [\"cloth\"]\nsealed = true\n",
        tiny.root().display()
    ));
    textum(&tiny, &["run"]).expect(1).warns("reads = [\"yarn\"] in [stage.weave]");
    // What is not declared is not there at all; the same by an option, for every stage.
    let tiny = Tiny::with("[stage.weave]\nrun = \"cat yarn > cloth\"\nwrites = [\"cloth\"]\n");
    tiny.write("yarn", "wool\n");
    textum(&tiny, &["run", "--sealed"]).expect(1).warns("tried in vain yarn");
    textum(&tiny, &["run"]).expect(0);
}

#[test]
fn a_rebuild_is_sealed_where_what_was_recorded_allows_it_and_says_where_not() {
    let tiny = Tiny::with(
        "[stage.card]\nrun = \"cat yarn lib > sliver\"\nreads = [\"yarn\"]\nwrites = [\"sliver\"]\n\
         [stage.weave]\nrun = \"cat sliver ~/pattern > cloth\"\nreads = [\"sliver\"]\nwrites = [\"cloth\"]\n",
    );
    for name in ["yarn", "lib"] {
        tiny.write(name, name);
    }
    let home = Tiny::new();
    home.write("pattern", "p");
    let there = home.root().display().to_string();
    let textum = |tiny: &Tiny, words: &[&str]| tiny.textum_with(TEXTUM, words, &[("HOME", &there)]);
    textum(&tiny, &["run"]).expect(0);
    let told = textum(&tiny, &["rebuild", "cloth", "--format", "json"]).expect(0).json();
    let of = |at: usize, key: &str| told["stages"][at][key].clone();
    assert_eq!((of(0, "sealed"), of(0, "unsealed")), (true.into(), serde_json::Value::Null));
    assert_eq!((of(1, "sealed"), of(1, "unsealed")), (false.into(), "it read ~/pattern, outside the project".into()));
    textum(&tiny, &["rebuild", "sliver"]).expect(0).says("sealed: nothing but what was recorded could be read");
    textum(&tiny, &["rebuild", "cloth"])
        .expect(0)
        .says("1 of 2 stages sealed; not sealed: weave: it read ~/pattern, outside the project");
    // One that the seal itself would end is executed as it was, and told so.
    tiny.manifest("[stage.card]\nrun = \"[ $HOME = $SHED ] || exit 4; cat yarn > sliver\"\nreads = [\"yarn\"]\nwrites = [\"sliver\"]\n[environment]\nvars = [\"SHED\"]\n");
    let textum = |words: &[&str]| tiny.textum_with(TEXTUM, words, &[("HOME", &there), ("SHED", &there)]);
    textum(&["run"]).expect(0);
    textum(&["rebuild", "sliver"]).expect(0).says("not sealed: card: its command ended with exit status 4");
}

#[test]
fn runs_are_found_by_what_their_stages_used() {
    let tiny = Tiny::with("[stage.card]\nrun = \"cat yarn lib/carder > sliver\"\nreads = [\"yarn\"]\nwrites = [\"sliver\"]\n");
    tiny.write("yarn", "y");
    tiny.write("lib/carder", "1");
    let first = textum(&tiny, &["run", "--format", "json"]).expect(0).json()["run"].clone();
    tiny.write("yarn", "z");
    std::fs::remove_file(tiny.path("lib/carder")).unwrap();
    textum(&tiny, &["run"]).expect(1);
    let found = |condition: &str| -> Vec<serde_json::Value> {
        let runs = textum(&tiny, &["runs", "--where", condition, "--format", "json"]).expect(0).json();
        runs.as_array().unwrap().iter().map(|r| r["run"].clone()).collect()
    };
    assert_eq!(found("undeclared contains 'lib/carder'"), [first]);
    assert_eq!(found("undeclared contains 'nothing'").len(), 0);
    textum(&tiny, &["runs", "--group-by", "undeclared"]).expect(0).says("lib/carder");
    textum(&tiny, &["runs", "--columns", "undeclared"]).expect(2).warns("--where 'undeclared = …'");
    textum(&tiny, &["runs", "--where", "used.numpy = 1"]).expect(2).warns("no run has a parameter or metric `used.numpy`");
}

/// What nothing kept from reading more is no sealed result; a sealed one is good for whoever asks for less.
#[test]
fn a_result_that_was_not_sealed_does_not_count_for_a_stage_that_is() {
    let manifest = "[stage.weave]\nrun = \"cat yarn > cloth\"\nreads = [\"yarn\"]\nwrites = [\"cloth\"]\n";
    let tiny = Tiny::with(manifest);
    tiny.write("yarn", "wool\n");
    textum(&tiny, &["run"]).expect(0);
    textum(&tiny, &["plan"]).expect(0).says("nothing to do");
    textum(&tiny, &["plan", "--sealed"]).expect(0).says("its result was not sealed");
    tiny.manifest(&format!("{manifest}sealed = true\n"));
    textum(&tiny, &["plan"]).expect(0).says("its result was not sealed");
    let ran = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    assert_eq!(ran["stages"][0]["state"], "ran");
    textum(&tiny, &["plan"]).expect(0).says("nothing to do");
    tiny.manifest(manifest);
    textum(&tiny, &["plan"]).expect(0).says("nothing to do");
    textum(&tiny, &["run", "--sealed"]).expect(0).says("nothing to do");
}

/// A database that is only asked is read; one that is written into is state: named, left where it is, and no output.
#[test]
fn a_drafted_stage_never_claims_what_was_there() {
    let tiny = Tiny::with("[stage.other]\nrun = \"true > other\"\nwrites = [\"other\"]\n");
    let python = |script: &str| tiny.textum("python3", &["-c", script]).expect(0);
    python("import sqlite3; c = sqlite3.connect('looms.db'); c.execute('create table t(a)'); c.commit()");
    let before = std::fs::read(tiny.path("looms.db")).unwrap();
    tiny.write(
        "ask.py",
        "import sqlite3\nopen('out', 'w').write(str(sqlite3.connect('looms.db').execute('select * from t').fetchall()))\n",
    );
    let said = textum(&tiny, &["draft", "ask", "--format", "json", "--", "python3", "ask.py"]).expect(0).json();
    let list =
        |key: &str| said["draft"][key].as_array().unwrap().iter().map(|v| v.as_str().unwrap().to_string()).collect::<Vec<_>>();
    assert_eq!(
        (list("reads"), list("writes"), list("state")),
        (vec!["ask.py".into(), "looms.db".into()], vec!["out".into()], vec![])
    );
    assert_eq!(std::fs::read(tiny.path("looms.db")).unwrap(), before);
    textum(&tiny, &["run"]).expect(0);
    assert_eq!(std::fs::read(tiny.path("looms.db")).unwrap(), before, "it is where it was");
    tiny.write("put.py", "import sqlite3\nc = sqlite3.connect('looms.db'); c.execute('insert into t values(1)'); c.commit()\nopen('put', 'w').write('1')\n");
    let said = textum(&tiny, &["draft", "put", "--format", "json", "--", "python3", "put.py"]).expect(0).json();
    let list =
        |key: &str| said["draft"][key].as_array().unwrap().iter().map(|v| v.as_str().unwrap().to_string()).collect::<Vec<_>>();
    assert_eq!((list("writes"), list("state")), (vec!["put".to_string()], vec!["looms.db".to_string()]));
    tiny.write("more.py", tiny.read("put.py").replace("'put'", "'more'"));
    textum(&tiny, &["draft", "more", "--dry-run", "--", "python3", "more.py"])
        .expect(0)
        .says("left out: it was there before")
        .says("looms.db");
}
