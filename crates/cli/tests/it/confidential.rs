//! What is private stays private, what is secret is not recorded, what comes from outside is shown and not obeyed, and
//! a look executes nothing of the project.

use std::os::unix::fs::PermissionsExt;

use textum_testkit::Tiny;

use crate::{TEXTUM, textum};

fn mode(tiny: &Tiny, path: &str) -> u32 {
    tiny.path(path).metadata().unwrap().permissions().mode() & 0o777
}

fn chmod(tiny: &Tiny, path: &str, mode: u32) {
    std::fs::set_permissions(tiny.path(path), std::fs::Permissions::from_mode(mode)).unwrap();
}

#[test]
fn private_files_come_back_private_and_the_store_is_for_its_owner() {
    let tiny = Tiny::with(
        "[data.staff]\npath = \"staff.csv\"\n[data.all]\npath = \"all\"\n[stage.s]\nrun = \"umask 077; cat staff.csv > secret; printf x > tool; chmod 700 tool\"\nreads = [\"staff.csv\"]\nwrites = [\"secret\", \"tool\"]\n",
    );
    tiny.write("staff.csv", "name,pay\nA,1\n");
    tiny.write("all/open", "o");
    tiny.write("all/deep/closed", "c");
    tiny.write("all/hidden/in", "h");
    chmod(&tiny, "staff.csv", 0o600);
    chmod(&tiny, "all/deep/closed", 0o600);
    chmod(&tiny, "all/hidden", 0o700);
    textum(&tiny, &["run"]).expect(0);
    assert_eq!(mode(&tiny, ".textum"), 0o700);
    for path in ["secret", "tool", "staff.csv", "all/deep/closed", "all/hidden/in", "all/open"] {
        std::fs::remove_file(tiny.path(path)).unwrap();
    }
    std::fs::remove_dir_all(tiny.path("all")).unwrap();
    let expected = [
        ("secret", 0o600),
        ("tool", 0o700),
        ("staff.csv", 0o600),
        ("all/open", 0o644),
        ("all/deep/closed", 0o600),
        ("all/hidden/in", 0o600),
    ];
    textum(&tiny, &["restore"]).expect(0);
    for (path, wanted) in expected {
        assert_eq!(mode(&tiny, path), wanted, "{path}");
    }
    textum(&tiny, &["restore", "last", "-o", "out"]).expect(0);
    textum(&tiny, &["restore", "all@1", "-o", "out2"]).expect(0);
    assert_eq!((mode(&tiny, "out/secret"), mode(&tiny, "out2/all/deep/closed")), (0o600, 0o600));
    // A mode is no content: nothing runs again for it.
    chmod(&tiny, "staff.csv", 0o644);
    textum(&tiny, &["plan"]).expect(0).says("nothing to do");
}

#[test]
fn a_group_that_shares_a_project_can_work_on_one_store() {
    let tiny = Tiny::with("[params]\nn = 0\n[stage.s]\nrun = \"echo {n} > out\"\nparams = [\"n\"]\nwrites = [\"out\"]\n");
    chmod(&tiny, ".", 0o2775);
    let shared = |words: &str| tiny.textum("sh", &["-c", &format!("umask 002; exec {TEXTUM} {words}")]);
    shared("run").expect(0);
    assert_eq!(mode(&tiny, ".textum"), 0o770);
    let mut all = tiny.textum("find", &[".textum", "-not", "-perm", "-g+w", "-not", "-name", "*.key"]).out;
    all.retain(|c| c != '\n');
    assert_eq!(all, "", "not for the group to write");
    for name in ["store/packs", "runs"] {
        assert!(tiny.has(&format!(".textum/{name}")), "{name}");
    }
}

#[test]
fn values_of_secret_variables_stand_nowhere() {
    let tiny = Tiny::with(
        "[environment]\ncount_secrets = true\nvars = [\"SHED_TOKEN\", \"LOOMS\"]\n[stage.s]\nrun = \"test ${#SHED_TOKEN} = 15 && echo $LOOMS > out\"\nwrites = [\"out\"]\n",
    );
    let run = |token: &str, words: &[&str]| tiny.textum_with(TEXTUM, words, &[("SHED_TOKEN", token), ("LOOMS", "twelve")]);
    run("hunter2-hunter2", &["run"]).expect(0);
    run("hunter2-hunter2", &["plan"]).expect(0).says("nothing to do");
    run("hunter2-hunter2", &["rebuild", "last"]).expect(0).says("identical");
    // Another value counts, and neither is told.
    let plan = run("swordfish-swordfish", &["plan"]).expect(0);
    assert!(plan.out.contains("SHED_TOKEN") && !plan.out.contains("swordfish") && !plan.out.contains("hunter2"), "{}", plan.out);
    let store = textum_core::store::Store::open(&tiny.path(".textum/store"));
    for (digest, kind, _) in store.all_entries().unwrap() {
        if kind != textum_core::store::Kind::Parts {
            let bytes = store.read(&digest).unwrap();
            assert!(!String::from_utf8_lossy(&bytes).contains("hunter2"), "{digest}");
        }
    }
    let found = tiny.textum("grep", &["-rl", "hunter2", ".textum"]);
    assert_eq!(found.out, "");
    assert_eq!(mode(&tiny, ".textum/secret.key"), 0o600);
}

#[test]
fn nothing_from_outside_reaches_the_terminal_raw() {
    let evil = "\u{1b}]0;owned\u{7}\u{1b}[2J\u{9b}31m";
    let tiny = Tiny::with(
        "[data.d]\npath = \"d.csv\"\nkey = [\"k\"]\n[params]\np = \"\\u001b[31mred\\u0007\"\n[stage.s]\nrun = \"printf '{\\\"a\\\\u001b[2Jb\\\": 1}' > m.json; printf '\\\\033[2Jlog\\\\n'; printf '{\\\"note\\\": \\\"\\\\\\\\u001b[5mnote\\\"}\\\\n' >> $TEXTUM_SIGNALS; mkdir -p o; echo x > \\\"o/$(printf 'f\\\\033[2J')\\\"\"\n\
         reads = [\"d.csv\"]\nparams = [\"p\"]\nwrites = [\"o/\"]\nmetrics = [\"m.json\"]\n",
    );
    tiny.write("d.csv", format!("k,{evil}\n1,{evil}a\n2,b\n"));
    let colored = |words: &[&str]| tiny.textum(TEXTUM, &[words, &["--color", "always"]].concat());
    let check = |words: &[&str]| {
        for ran in [textum(&tiny, words), colored(words)] {
            for text in [&ran.out, &ran.err] {
                // Colours of Textum's own are all that may be there.
                let own = ["\u{1b}[0m", "\u{1b}[1m", "\u{1b}[2m", "\u{1b}[31m", "\u{1b}[32m", "\u{1b}[36m"];
                let rest = own.iter().fold(text.replace(['\n', '\t'], ""), |t, code| t.replace(code, ""));
                assert!(!rest.chars().any(char::is_control), "{words:?}: {rest:?}");
                assert!(!text.contains("\u{1b}[31mred"), "{words:?}: a colour from outside: {text:?}");
            }
        }
    };
    check(&["run", "--note", evil, "--label", "l", "--echo"]);
    textum(&tiny, &["label", "last", evil]);
    tiny.write("d.csv", format!("k,{evil}\n1,{evil}z\n3,c\n"));
    for words in [
        &["plan"][..],
        &["runs"],
        &["runs", "--all"],
        &["show", "last"],
        &["trace", "o"],
        &["data"],
        &["data", "versions", "d"],
        &["data", "diff", "d@1", "d"],
        &["data", "profile", "d"],
        &["data", "find", "d", "k = 1"],
        &["compare", "last", "last"],
        &["stats"],
        &["plot", "last"],
        &["restore", evil],
        &["show", evil],
        &["run", evil],
        &["trace", evil],
        &["data", "diff", evil],
        &["runs", "--where", evil],
        &["run", "--set", &format!("p={evil}"), "--sandbox"],
        &["report", "last", "--format", "md"],
        &["runs", "--format", "md"],
        &["runs", "--format", "json"],
        &["show", "last", "--format", "json"],
    ] {
        check(words);
    }
    // Into a pipe a log goes as it is.
    assert!(
        textum(&tiny, &["show", "last~1", "--log", "s"]).out.contains("\u{1b}[2Jlog")
            || textum(&tiny, &["show", "last", "--log", "s"]).out.contains("\u{1b}[2Jlog")
    );
}

#[test]
fn a_look_executes_nothing_of_the_project() {
    let tiny = Tiny::with("[environment]\npython = \"./evil.sh\"\n[stage.s]\nrun = \"echo x > out\"\nwrites = [\"out\"]\n");
    let witness = tiny.path("executed").display().to_string();
    tiny.write("evil.sh", format!("#!/bin/sh\ntouch {witness}\nexec python3 \"$@\"\n"));
    chmod(&tiny, "evil.sh", 0o755);
    // Modules named like those of the library, where an interpreter would look first.
    for module in ["json", "platform", "re", "importlib", "sitecustomize"] {
        tiny.write(&format!("{module}.py"), format!("open({witness:?}, 'w')\n"));
    }
    let looks: [&[&str]; 8] = [
        &["plan"],
        &["run", "--check"],
        &["runs"],
        &["data"],
        &["stats"],
        &["verify"],
        &["prune", "--dry-run"],
        &["trace", "evil.sh"],
    ];
    for words in looks {
        textum(&tiny, words);
        assert!(!tiny.has("executed"), "{words:?}");
    }
    textum(&tiny, &["plan"]).expect(1).warns("lies in the project").warns("textum run");
    let system = tiny.read("textum.toml").replace("./evil.sh", "python3");
    tiny.write("textum.toml", &system);
    for path in [".", ":"] {
        tiny.textum_with(TEXTUM, &["plan"], &[("PYTHONPATH", path)]).expect(0);
        assert!(!tiny.has("executed"), "a module of the project with PYTHONPATH={path}");
    }
    // A virtual environment in the project is read from its files, and says what it says when it is started.
    tiny.write("textum.toml", system.replace("python3", ".venv/bin/python"));
    tiny.textum("python3", &["-m", "venv", "--without-pip", ".venv"]).expect(0);
    let site = tiny.textum("sh", &["-c", "echo .venv/lib/python3*/site-packages"]).out.trim().to_string();
    tiny.write(
        &format!("{site}/Loom_Tools-2.1.dist-info/METADATA"),
        "Metadata-Version: 2.1\nName: Loom_Tools\nVersion: 2.1\n\nText\nVersion: 9\n",
    );
    tiny.write(&format!("{site}/evil.pth"), format!("import pathlib; pathlib.Path({witness:?}).touch()\n"));
    textum(&tiny, &["plan"]).expect(0);
    assert!(!tiny.has("executed"), "the environment was started by a plan");
    for module in ["json", "platform", "re", "importlib", "sitecustomize"] {
        std::fs::remove_file(tiny.path(&format!("{module}.py"))).unwrap();
    }
    textum(&tiny, &["run"]).expect(0);
    assert!(tiny.has("executed"), "a run starts it");
    std::fs::remove_file(tiny.path("executed")).unwrap();
    std::fs::remove_dir_all(tiny.path(".textum/cache")).ok();
    textum(&tiny, &["plan"]).expect(0).says("nothing to do");
    assert!(!tiny.has("executed"));
}
