//! Inputs that nobody declared: each kind is noticed, whatever way it was read; and what could not have changed a
//! result leaves it up to date.

use std::fs;
use std::os::unix::fs::{PermissionsExt, symlink};

use textum_testkit::{Ran, Tiny};

use crate::{TEXTUM, textum};

/// A project in a folder of its own, with a home folder and a folder for programs beside it.
struct Shed {
    _around: tempfile::TempDir,
    tiny: Tiny,
}

/// A way in which a stage depends on something that it does not declare.
struct Hidden {
    name: &'static str,
    /// What the stage does, in a shell.
    command: &'static str,
    /// What stands there before, and what is done to it, in a shell in the project's folder. `$HOME` is its own.
    before: &'static str,
    change: &'static str,
    /// Undoes the change: the first result must come back.
    back: &'static str,
}

const fn hidden(
    name: &'static str,
    command: &'static str,
    before: &'static str,
    change: &'static str,
    back: &'static str,
) -> Hidden {
    Hidden { name, command, before, change, back }
}

const PY: &str = "python3 steps/fit.py > cloth";

const KINDS: &[Hidden] = &[
    hidden("a file beside", "cat other > cloth", "echo 1 > other", "echo 2 > other", "echo 1 > other"),
    hidden("a file in the home folder", "cat ~/looms > cloth", "echo 1 > ~/looms", "echo 2 > ~/looms", "echo 1 > ~/looms"),
    hidden(
        "an absolute path",
        "cat $HOME/../share/x > cloth",
        "mkdir ../share; echo 1 > ../share/x",
        "echo 2 > ../share/x",
        "echo 1 > ../share/x",
    ),
    hidden("a path upwards", "cat ../far > cloth", "echo 1 > ../far", "echo 2 > ../far", "echo 1 > ../far"),
    hidden(
        "a script called by a script",
        "sh steps/a.sh > cloth",
        "echo 'sh steps/b.sh' > steps/a.sh; echo 'echo 1' > steps/b.sh",
        "echo 'echo 2' > steps/b.sh",
        "echo 'echo 1' > steps/b.sh",
    ),
    hidden(
        "a program on the path",
        "weave > cloth",
        "printf '#!/bin/sh\\necho 1\\n' > ../bin/weave; chmod +x ../bin/weave",
        "printf '#!/bin/sh\\necho 2\\n' > ../bin/weave",
        "printf '#!/bin/sh\\necho 1\\n' > ../bin/weave",
    ),
    hidden(
        "a program earlier on the path",
        "weave > cloth",
        "printf '#!/bin/sh\\necho 1\\n' > ../bin/weave; chmod +x ../bin/weave",
        "printf '#!/bin/sh\\necho 2\\n' > ../first/weave; chmod +x ../first/weave",
        "rm ../first/weave",
    ),
    hidden("a name that appears", "cat maybe > cloth 2>/dev/null || echo none > cloth", "true", "echo 2 > maybe", "rm maybe"),
    hidden(
        "a name that is only looked for",
        "test -e flag && echo 2 > cloth || echo 1 > cloth",
        "true",
        "echo x > flag",
        "rm flag",
    ),
    hidden(
        "a name in a folder that appears",
        "cat conf/maybe > cloth 2>/dev/null || echo none > cloth",
        "true",
        "mkdir conf; echo 2 > conf/maybe",
        "rm -r conf",
    ),
    hidden("a file that goes", "cat gone > cloth 2>/dev/null || echo none > cloth", "echo 1 > gone", "rm gone", "echo 1 > gone"),
    hidden("a folder that is listed", "ls many > cloth", "mkdir many; echo > many/a", "echo > many/b", "rm many/b"),
    hidden(
        "a pattern of the shell",
        "cat many/*.txt > cloth",
        "mkdir many; echo 1 > many/a.txt",
        "echo 2 > many/b.txt",
        "rm many/b.txt",
    ),
    hidden(
        "a folder listed from elsewhere",
        "ls ~/many > cloth",
        "mkdir ~/many; echo > ~/many/a",
        "echo > ~/many/b",
        "rm ~/many/b",
    ),
    hidden("the home folder, listed", "ls ~ > cloth", "echo > ~/a", "echo > ~/b", "rm ~/b"),
    hidden("the home folder, looked at", "test -d ~ && cat ~/a > cloth", "echo 1 > ~/a", "echo 2 > ~/a", "echo 1 > ~/a"),
    hidden("a file behind a link", "cat link > cloth", "echo 1 > real; ln -s real link", "echo 2 > real", "echo 1 > real"),
    hidden(
        "a link that leads elsewhere",
        "cat link > cloth",
        "echo 1 > one; echo 2 > two; ln -s one link",
        "ln -sfn two link",
        "ln -sfn one link",
    ),
    hidden(
        "a folder behind a link",
        "cat folder/x > cloth",
        "mkdir one two; echo 1 > one/x; echo 2 > two/x; ln -s one folder",
        "ln -sfn two folder",
        "ln -sfn one folder",
    ),
    hidden(
        "a folder replaced by a file",
        "test -d thing && echo 1 > cloth || echo 2 > cloth",
        "mkdir thing",
        "rmdir thing; echo > thing",
        "rm thing; mkdir thing",
    ),
    hidden(
        "a hard link that the stage makes",
        "ln other here; cat here > cloth; rm here",
        "echo 1 > other",
        "echo 2 > other",
        "echo 1 > other",
    ),
    hidden(
        "a link that the stage makes",
        "ln -s other here; cat here > cloth; rm here",
        "echo 1 > other",
        "echo 2 > other",
        "echo 1 > other",
    ),
    hidden(
        "a copy that the stage makes",
        "cp other here; cat here > cloth; rm here",
        "echo 1 > other",
        "echo 2 > other",
        "echo 1 > other",
    ),
    hidden(
        "a file replaced by renaming",
        "cat other > cloth",
        "echo 1 > other",
        "echo 2 > new; mv new other",
        "echo 1 > new; mv new other",
    ),
    hidden(
        "a child in the background",
        "(sleep 0; cat other > part) & wait; cat part > cloth; rm part",
        "echo 1 > other",
        "echo 2 > other",
        "echo 1 > other",
    ),
    hidden(
        "a child in a session of its own",
        "setsid -w sh -c 'cat other > cloth'",
        "echo 1 > other",
        "echo 2 > other",
        "echo 1 > other",
    ),
    hidden("an environment given away", "env -i /bin/cat other > cloth", "echo 1 > other", "echo 2 > other", "echo 1 > other"),
    hidden(
        "a file that is executed",
        "./tool > cloth",
        "printf '#!/bin/sh\\necho 1\\n' > tool; chmod +x tool",
        "printf '#!/bin/sh\\necho 2\\n' > tool",
        "printf '#!/bin/sh\\necho 1\\n' > tool",
    ),
    hidden(
        "an interpreter named by a script",
        "./tool > cloth",
        "printf '#!/bin/sh\\necho 1\\n' > ../bin/inner; chmod +x ../bin/inner; printf '#!/usr/bin/env inner\\n' > tool; chmod +x tool",
        "printf '#!/bin/sh\\necho 2\\n' > ../bin/inner",
        "printf '#!/bin/sh\\necho 1\\n' > ../bin/inner",
    ),
    hidden(
        "whether a file may be executed",
        "test -x other && echo 2 > cloth || echo 1 > cloth; cat other >> cloth",
        "echo 1 > other",
        "chmod +x other",
        "chmod -x other",
    ),
    hidden(
        "a module",
        PY,
        "echo 'import units; print(units.n)' > steps/fit.py; echo 'n = 1' > steps/units.py",
        "echo 'n = 20' > steps/units.py",
        "echo 'n = 1' > steps/units.py",
    ),
    hidden(
        "a module that hides another",
        PY,
        "echo 'import json; print(getattr(json, \"n\", 1))' > steps/fit.py",
        "echo 'n = 2' > steps/json.py",
        "rm steps/json.py",
    ),
    hidden(
        "a package's module, run with -m",
        "python3 -m shed.fit > cloth",
        "mkdir shed; echo > shed/__init__.py; echo 'from shed import units; print(units.n)' > shed/fit.py; echo 'n = 1' > shed/units.py",
        "echo 'n = 20' > shed/units.py",
        "echo 'n = 1' > shed/units.py",
    ),
    hidden(
        "a file that is mapped",
        PY,
        "echo 'import mmap; f = open(\"other\"); print(mmap.mmap(f.fileno(), 0, prot=mmap.PROT_READ)[:])' > steps/fit.py; echo 1 > other",
        "echo 2 > other",
        "echo 1 > other",
    ),
    hidden(
        "a file read by a thread",
        PY,
        "echo 'import threading as t; a = t.Thread(target=lambda: print(open(\"other\").read())); a.start(); a.join()' > steps/fit.py; echo 1 > other",
        "echo 2 > other",
        "echo 1 > other",
    ),
    hidden(
        "a folder walked through",
        PY,
        "echo 'import os; print([f for _, _, f in os.walk(\"many\")])' > steps/fit.py; mkdir -p many/deep; echo > many/deep/a",
        "echo > many/deep/b",
        "rm many/deep/b",
    ),
    hidden(
        "a folder listed after it was looked at",
        PY,
        "echo 'import os; print(os.path.isdir(\"many\"), os.listdir(\"many\"))' > steps/fit.py; mkdir many; echo > many/a",
        "echo > many/b",
        "rm many/b",
    ),
    hidden(
        "a library that is preloaded from a file",
        "LC_ALL=C sort -u ~/words > cloth",
        "printf 'b\\na\\n' > ~/words",
        "printf 'c\\n' >> ~/words",
        "printf 'b\\na\\n' > ~/words",
    ),
    hidden(
        "a very long name",
        "cat $(printf 'x%.0s' $(seq 200)) > cloth",
        "echo 1 > $(printf 'x%.0s' $(seq 200))",
        "echo 2 > $(printf 'x%.0s' $(seq 200))",
        "echo 1 > $(printf 'x%.0s' $(seq 200))",
    ),
    hidden(
        "a name that is no UTF-8",
        "cat $(printf '\\377') > cloth",
        "echo 1 > $(printf '\\377')",
        "echo 2 > $(printf '\\377')",
        "echo 1 > $(printf '\\377')",
    ),
];

impl Shed {
    fn new(command: &str, before: &str) -> Shed {
        let around = tempfile::Builder::new().prefix("textum-shed-").tempdir().unwrap();
        for folder in ["home", "bin", "first", "project/steps"] {
            fs::create_dir_all(around.path().join(folder)).unwrap();
        }
        let tiny = Tiny::at(&around.path().join("project"));
        tiny.write("steps/fit.py", "");
        tiny.manifest(&format!("[stage.fit]\nrun = {command:?}\nreads = [\"steps/fit.py\"]\nwrites = [\"cloth\"]\n"));
        let shed = Shed { _around: around, tiny };
        shed.shell(before);
        shed
    }

    fn variables(&self) -> Vec<(String, String)> {
        let around = self.tiny.root().parent().unwrap().display().to_string();
        let path = format!("{around}/first:{around}/bin:{}", std::env::var("PATH").unwrap_or_default());
        vec![("HOME".into(), format!("{around}/home")), ("PATH".into(), path)]
    }

    fn shell(&self, text: &str) {
        let variables = self.variables();
        let pairs: Vec<(&str, &str)> = variables.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
        self.tiny.textum_with("/bin/sh", &["-e", "-c", text], &pairs).expect(0);
    }

    fn textum(&self, words: &[&str]) -> Ran {
        self.with(words, &[])
    }

    fn with(&self, words: &[&str], more: &[(&str, &str)]) -> Ran {
        let variables = self.variables();
        let mut pairs: Vec<(&str, &str)> = variables.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
        pairs.extend(more);
        self.tiny.textum_with(TEXTUM, words, &pairs)
    }

    fn action(&self) -> String {
        let plan = self.textum(&["plan", "--format", "json"]).expect(0).json();
        plan["stages"][0]["action"].as_str().unwrap().to_string()
    }
}

#[test]
fn every_kind_of_hidden_input_is_noticed_and_the_first_result_comes_back_with_it() {
    for kind in KINDS {
        let shed = Shed::new(kind.command, kind.before);
        let said = |ran: &Ran| format!("{}: {}\n{}{}", kind.name, kind.command, ran.out, ran.err);
        let ran = shed.textum(&["run"]);
        assert_eq!(ran.status, 0, "{}", said(&ran));
        let first = shed.tiny.read("cloth");
        assert_eq!(shed.action(), "up-to-date", "{} {}", kind.name, shed.textum(&["plan"]).out);
        shed.shell(kind.change);
        assert_eq!(shed.action(), "run", "{}: the change is not noticed", kind.name);
        let ran = shed.textum(&["run"]);
        assert_eq!(ran.status, 0, "{}", said(&ran));
        let second = shed.tiny.read("cloth");
        assert_ne!(first, second, "{}: the change makes no difference, so that the test shows nothing", kind.name);
        assert_eq!(shed.action(), "up-to-date", "{}", kind.name);
        shed.shell(kind.back);
        let plan = shed.textum(&["plan"]);
        assert_eq!(shed.action(), "reuse", "{}", said(&plan));
        shed.textum(&["run"]).expect(0);
        assert_eq!(shed.tiny.read("cloth"), first, "{}", kind.name);
    }
}

#[test]
fn variables_that_are_handed_on_count_by_value_and_others_do_not() {
    let shed = Shed::new("date -d @0 > cloth", "true");
    shed.textum(&["run"]).expect(0);
    assert_eq!(shed.action(), "up-to-date");
    for (name, value) in
        [("TZ", "Asia/Tokyo"), ("LANG", "C"), ("USER", "ada"), ("CUDA_VISIBLE_DEVICES", "1"), ("LD_LIBRARY_PATH", "/x")]
    {
        let plan = shed.with(&["plan"], &[(name, value)]).expect(0);
        assert!(plan.out.contains(&format!("variable {name}")), "{name}: {}", plan.out);
    }
    for (name, value) in [("TERM", "dumb"), ("COLUMNS", "40"), ("EDITOR", "ed"), ("SSH_TTY", "/dev/pts/1")] {
        let plan = shed.with(&["plan"], &[(name, value)]).expect(0);
        assert!(plan.out.contains("nothing to do"), "{name}: {}", plan.out);
    }
}

/// What could not have changed a result.
#[test]
fn nothing_that_was_not_read_makes_a_stage_run_again() {
    let script = "import json, units, csv, os; print(units.n, open('data/yarn.csv').read(), os.path.exists('flag'))";
    let before = format!(
        "mkdir data; echo 1 > data/yarn.csv; echo 'n = 1' > steps/units.py; printf '%s' \"{script}\" > steps/fit.py; \
         echo 1 > ~/looms; mkdir lib; echo x > lib/other; git init -q . 2>/dev/null || true"
    );
    let shed = Shed::new("python3 steps/fit.py > cloth; cat lib/other ~/looms >> cloth", &before);
    shed.textum(&["run"]).expect(0);
    for (name, change) in [
        ("another terminal", "true"),
        ("touching a script", "touch steps/fit.py"),
        ("touching a module", "touch steps/units.py"),
        ("touching a file of the home folder", "touch ~/looms"),
        ("a file replaced by its like", "cp steps/units.py x; mv x steps/units.py"),
        ("an unrelated file beside the script", "echo x > steps/notes.txt"),
        ("an unrelated module beside the script", "echo 'x = 1' > steps/other.py"),
        ("a folder beside the script", "mkdir steps/more; echo x > steps/more/a.py"),
        ("a file at the top", "echo x > README.md"),
        ("a module at the top", "echo x > setup.py"),
        ("compiled files removed", "rm -rf steps/__pycache__"),
        ("compiled files made", "python3 -m compileall -q steps"),
        ("a new file in the home folder", "echo x > ~/new"),
        ("a new folder in the home folder", "mkdir ~/more; echo x > ~/more/a"),
        ("a new file beside a read one", "echo x > lib/more"),
        ("a new program that nothing calls", "printf '#!/bin/sh\\n' > ../bin/other; chmod +x ../bin/other"),
        ("a commit", "git add -A && git -c user.name=a -c user.email=a@b commit -qm x"),
        ("another branch", "git checkout -qb other"),
        ("a cache", "mkdir -p ~/.cache/fontconfig; echo x > ~/.cache/fontconfig/a"),
        ("permissions of a folder", "chmod 750 lib"),
        ("a comment in the manifest", "echo '# more' >> textum.toml"),
        (
            "a dataset that nothing reads",
            "printf '\\n[data.more]\\npath = \"data/more.csv\"\\n' >> textum.toml; echo 1 > data/more.csv",
        ),
    ] {
        shed.shell(change);
        let plan = shed.textum(&["plan"]).expect(0);
        assert!(plan.out.contains("nothing to do"), "{name}: {}", plan.out);
    }
    // The same from another working folder, and with the project moved elsewhere.
    let plan = shed.with(&["plan", "-C", shed.tiny.root().to_str().unwrap()], &[]).expect(0);
    assert!(plan.out.contains("nothing to do"), "{}", plan.out);
    let moved = shed.tiny.root().parent().unwrap().join("moved");
    fs::rename(shed.tiny.root(), &moved).unwrap();
    let variables = shed.variables();
    let pairs: Vec<(&str, &str)> = variables.iter().map(|(k, v)| (k.as_str(), v.as_str())).collect();
    let plan = Tiny::at(&moved).textum_with(TEXTUM, &["plan"], &pairs).expect(0);
    assert!(plan.out.contains("nothing to do"), "moved: {}", plan.out);
}

#[test]
fn what_is_changed_while_the_stage_runs_fails_it() {
    let shed = Shed::new("cat other > cloth; echo 2 > ../new; mv ../new other; sleep 0", "echo 1 > other");
    // The stage itself changes what it has read: that is state that it keeps, and said.
    let ran = shed.textum(&["run"]);
    assert_eq!(ran.status, 0, "{}", ran.err);
    // Somebody else does.
    let shed = Shed::new("cat other > cloth; touch ready; while ! test -e go; do sleep 0.01; done", "echo 1 > other");
    let variables = shed.variables();
    let mut child = std::process::Command::new(TEXTUM)
        .args(["run"])
        .current_dir(shed.tiny.root())
        .env_clear()
        .envs(variables)
        .stdout(std::process::Stdio::null())
        .stderr(std::process::Stdio::null())
        .spawn()
        .unwrap();
    while !shed.tiny.has("ready") {
        std::thread::yield_now();
    }
    shed.shell("echo 2 > other; echo 1 > other; touch go");
    assert_eq!(child.wait().unwrap().code(), Some(1));
    let shown = shed.textum(&["show", "last"]);
    assert!(shown.out.contains("other was touched while it ran"), "{}", shown.out);
}

#[test]
fn what_cannot_be_read_is_survived_and_links_lead_where_they_lead() {
    let shed = Shed::new("cat secret > cloth 2>/dev/null || echo none > cloth; cat loop >> cloth 2>/dev/null || true", "true");
    shed.tiny.write("secret", "1");
    fs::set_permissions(shed.tiny.path("secret"), fs::Permissions::from_mode(0o000)).unwrap();
    symlink("loop", shed.tiny.path("loop")).unwrap();
    let ran = shed.textum(&["run"]);
    assert_eq!(ran.status, 0, "{}", ran.err);
    shed.textum(&["plan"]).expect(0);
}

/// With two stages that share a name in the tree: what another stage writes counts for who reads it undeclared, and
/// is waited for.
#[test]
fn an_input_that_only_another_stage_declares_counts_and_comes_first() {
    let tiny = Tiny::with(
        "[stage.late]\nrun = \"cat cloth > sold\"\nwrites = [\"sold\"]\n\n\
         [stage.weave]\nrun = \"cat yarn > cloth\"\nreads = [\"yarn\"]\nwrites = [\"cloth\"]\n",
    );
    tiny.write("yarn", "1");
    tiny.write("cloth", "0");
    textum(&tiny, &["run"]);
    textum(&tiny, &["run"]).expect(0);
    assert_eq!(tiny.read("sold"), "1");
    assert!(textum(&tiny, &["plan"]).expect(0).out.contains("nothing to do"));
    tiny.write("yarn", "2");
    let plan = textum(&tiny, &["plan", "--format", "json"]).expect(0).json();
    assert!(plan["stages"].as_array().unwrap().iter().all(|s| s["action"] == "run"), "{plan:#}");
    textum(&tiny, &["run"]).expect(0);
    assert_eq!(tiny.read("sold"), "2");
    assert!(textum(&tiny, &["plan"]).expect(0).out.contains("nothing to do"));
}

/// A notebook that is executed by a kernel: another process, that is spoken to over the network of this machine.
#[test]
fn a_notebook_that_a_kernel_executes_is_observed_like_a_script() {
    let named = std::env::var_os("TEXTUM_JUPYTER").map(std::path::PathBuf::from);
    let found =
        std::env::var_os("PATH").iter().flat_map(std::env::split_paths).map(|p| p.join("jupyter-nbconvert")).find(|p| p.exists());
    let Some(program) = named.or(found) else {
        eprintln!("not run: there is no jupyter-nbconvert on the PATH, and TEXTUM_JUPYTER names none");
        return;
    };
    let tiny = Tiny::with(&format!(
        "[environment]\npython = \"{}/python3\"\n[stage.fit]\nrun = \"{} --execute --ExecutePreprocessor.startup_timeout=600 --to notebook --output out.ipynb fit.ipynb\"\n\
         reads = [\"fit.ipynb\"]\nwrites = [\"model\", \"out.ipynb\"]\n",
        program.parent().unwrap().display(),
        program.display()
    ));
    let cell = "import units\\nopen('model', 'w').write(str(units.SCALE))";
    tiny.write(
        "fit.ipynb",
        format!(
            "{{\"cells\": [{{\"cell_type\": \"code\", \"execution_count\": null, \"id\": \"a\", \"metadata\": {{}}, \"outputs\": [], \
             \"source\": \"{cell}\"}}], \"metadata\": {{\"kernelspec\": {{\"display_name\": \"P\", \"language\": \"python\", \"name\": \"python3\"}}}}, \
             \"nbformat\": 4, \"nbformat_minor\": 5}}"
        ),
    );
    let home = Tiny::new();
    let there = home.root().display().to_string();
    let textum = |words: &[&str]| tiny.textum_with(TEXTUM, words, &[("HOME", &there)]);
    tiny.write("units.py", "SCALE = 3\n");
    textum(&["run"]).expect(0);
    textum(&["plan"]).expect(0).says("nothing to do");
    tiny.write("units.py", "SCALE = 14\n");
    textum(&["plan"]).expect(0).says("read without being declared: units.py changed");
    textum(&["run"]).expect(0);
    assert_eq!(tiny.read("model"), "14");
    tiny.write("units.py", "SCALE = 3\n");
    textum(&["run"]).expect(0).says("reused");
    assert_eq!(tiny.read("model"), "3");
    let trace = textum(&["trace", "model", "--format", "json"]).expect(0).json();
    assert_eq!(trace["observed"][0]["network"], serde_json::json!([]), "the kernel is the stage's own");
    textum(&["rebuild", "model"]).expect(0).says("identical").says("sealed: nothing but what was recorded could be read");
}
