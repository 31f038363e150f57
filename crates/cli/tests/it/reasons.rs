//! What makes a stage run, and what does not: a table of changes, each on a project of its own in which everything was
//! up to date, with what the plan says and what the run then does.

use std::os::unix::fs::PermissionsExt;

use serde_json::Value;
use textum_testkit::Tiny;

use crate::{state, textum};

/// `card` reads data and a script, `weave` what it wrote and a folder, `label` stands apart.
fn project() -> Tiny {
    let tiny = Tiny::with(
        r#"
[data.yarn]
path = "yarn.csv"
key = ["id"]

[params]
least = 2
unit = "m"
loom = { speed = 5, name = "L01" }

[environment]
vars = ["SHED"]

[stage.card]
run = "sh card.sh {least}"
reads = ["yarn.csv", "card.sh"]
params = ["least"]
writes = ["b/carded.csv"]

[stage.weave]
run = "cat b/carded.csv patterns/* > b/cloth; echo {loom.speed} >> b/cloth; printf '{\"n\": 1}' > b/scores.json"
reads = ["b/carded.csv", "patterns"]
params = ["loom"]
writes = ["b/cloth"]
metrics = ["b/scores.json"]

[stage.label]
run = "echo {unit} > b/label"
params = ["unit"]
writes = ["b/label"]

[metric.n]
better = "higher"
"#,
    );
    tiny.write("yarn.csv", "id,count\n1,1\n2,5\n3,9\n");
    tiny.write("card.sh", "mkdir -p b\nawk -F, -v l=$1 'NR == 1 || $2 >= l' yarn.csv > b/carded.csv\n");
    tiny.write("patterns/twill", "twill\n");
    tiny.write("patterns/satin", "satin\n");
    tiny.write("notes.md", "nobody reads this\n");
    tiny.write("b/.keep", "");
    tiny
}

struct Change {
    name: &'static str,
    make: fn(&Tiny),
    /// Further words for plan and run.
    words: &'static [&'static str],
    /// What the plan is to do with `card`, `weave` and `label`.
    plan: [&'static str; 3],
    /// What it says of the first stage that it runs or reuses.
    says: &'static str,
    /// What the run then says of each.
    run: [&'static str; 3],
}

const NOTHING: Change = Change {
    name: "nothing",
    make: |_| {},
    words: &[],
    plan: ["up-to-date", "up-to-date", "up-to-date"],
    says: "",
    run: ["up-to-date", "up-to-date", "up-to-date"],
};

fn edit(tiny: &Tiny, path: &str, from: &str, to: &str) {
    let text = tiny.read(path);
    assert!(text.contains(from), "{path} has no {from}");
    std::fs::write(tiny.path(path), text.replacen(from, to, 1)).unwrap();
}

const ALL: &[&str] = &["run", "run", "up-to-date"];

fn changes() -> Vec<Change> {
    let all = [ALL[0], ALL[1], ALL[2]];
    let ran = ["ran", "ran", "up-to-date"];
    let weave = ["up-to-date", "run", "up-to-date"];
    let woven = ["up-to-date", "ran", "up-to-date"];
    vec![
        NOTHING,
        // What must leave everything as it is.
        Change { name: "a file nobody reads", make: |t| t.write("notes.md", "changed\n"), ..NOTHING },
        Change { name: "a new file beside the others", make: |t| t.write("more.csv", "1\n"), ..NOTHING },
        Change {
            name: "times of reads",
            make: |t| drop(t.textum("touch", &["yarn.csv", "card.sh", "patterns/twill"]).expect(0)),
            ..NOTHING
        },
        Change { name: "times of outputs", make: |t| drop(t.textum("touch", &["b/carded.csv", "b/cloth"]).expect(0)), ..NOTHING },
        Change {
            name: "a comment in the manifest",
            make: |t| edit(t, "textum.toml", "[params]", "# how it is set\n[params]"),
            ..NOTHING
        },
        Change {
            name: "the order of the manifest",
            make: |t| edit(t, "textum.toml", "least = 2\nunit = \"m\"", "unit = \"m\"\nleast = 2"),
            ..NOTHING
        },
        Change {
            name: "the order of reads",
            make: |t| edit(t, "textum.toml", "\"yarn.csv\", \"card.sh\"", "\"card.sh\", \"yarn.csv\""),
            ..NOTHING
        },
        Change {
            name: "a parameter nobody uses",
            make: |t| edit(t, "textum.toml", "least = 2", "least = 2\nspare = 7"),
            ..NOTHING
        },
        Change {
            name: "words about a dataset",
            make: |t| edit(t, "textum.toml", "key = [\"id\"]", "key = [\"id\"]\nabout = \"counts\""),
            ..NOTHING
        },
        Change { name: "the direction of a metric", make: |t| edit(t, "textum.toml", "\"higher\"", "\"lower\""), ..NOTHING },
        Change {
            name: "a gate",
            make: |t| edit(t, "textum.toml", "[metric.n]", "[[gate]]\nafter = \"weave\"\ncheck = \"n >= 0\"\n\n[metric.n]"),
            ..NOTHING
        },
        Change {
            name: "what a stage needs",
            make: |t| edit(t, "textum.toml", "params = [\"unit\"]", "params = [\"unit\"]\nneeds = { cpus = 2 }"),
            ..NOTHING
        },
        Change { name: "a hidden file in a read folder's parent", make: |t| t.write(".hidden", "x"), ..NOTHING },
        Change { name: "the ledger lost", make: |t| std::fs::remove_file(t.path(".textum/ledger.db")).unwrap(), ..NOTHING },
        Change { name: "the caches lost", make: |t| std::fs::remove_dir_all(t.path(".textum/cache")).unwrap(), ..NOTHING },
        Change {
            name: "written anew with the same bytes",
            make: |t| {
                let was = t.read("yarn.csv");
                std::fs::remove_file(t.path("yarn.csv")).unwrap();
                t.write("yarn.csv", was)
            },
            ..NOTHING
        },
        Change { name: "a parameter set to what it is", words: &["--set", "least=2"], ..NOTHING },
        Change {
            name: "the same number written otherwise",
            make: |t| edit(t, "textum.toml", "speed = 5", "speed = 0x5"),
            ..NOTHING
        },
        // What must make a stage run, and those after it unless it comes out the same.
        Change {
            name: "a row",
            make: |t| edit(t, "yarn.csv", "2,5", "2,6"),
            plan: all,
            says: "yarn.csv: 1 of 3 rows changed in count",
            run: ran,
            ..NOTHING
        },
        Change {
            name: "a row that does not count",
            make: |t| edit(t, "yarn.csv", "1,1", "1,0"),
            plan: all,
            says: "1 of 3 rows changed",
            run: ["ran", "up-to-date", "up-to-date"],
            ..NOTHING
        },
        Change { name: "a parameter", words: &["--set", "least=6"], plan: all, says: "least 2 → 6", run: ran, ..NOTHING },
        Change {
            name: "a script",
            make: |t| edit(t, "card.sh", ">= l", ">= 3 * l"),
            plan: all,
            says: "card.sh: 1 of 2 lines differ",
            run: ran,
            ..NOTHING
        },
        Change {
            name: "a comment in a script",
            make: |t| edit(t, "card.sh", "mkdir", "# first\nmkdir"),
            plan: all,
            says: "card.sh: +1 −0 lines",
            run: ["ran", "up-to-date", "up-to-date"],
            ..NOTHING
        },
        Change {
            name: "the command",
            make: |t| edit(t, "textum.toml", "sh card.sh", "sh ./card.sh"),
            plan: all,
            says: "command",
            run: ["ran", "up-to-date", "up-to-date"],
            ..NOTHING
        },
        Change {
            name: "a file of a read folder",
            make: |t| t.write("patterns/twill", "herringbone\n"),
            plan: weave,
            says: "patterns",
            run: woven,
            ..NOTHING
        },
        Change {
            name: "a new file in a read folder",
            make: |t| t.write("patterns/z", "plain\n"),
            plan: weave,
            says: "patterns",
            run: woven,
            ..NOTHING
        },
        Change {
            name: "a file gone from a read folder",
            make: |t| std::fs::remove_file(t.path("patterns/satin")).unwrap(),
            plan: weave,
            says: "patterns",
            run: woven,
            ..NOTHING
        },
        Change {
            name: "a file of a read folder renamed",
            make: |t| std::fs::rename(t.path("patterns/satin"), t.path("patterns/a")).unwrap(),
            plan: weave,
            says: "patterns",
            run: woven,
            ..NOTHING
        },
        Change {
            name: "an executable bit",
            make: |t| std::fs::set_permissions(t.path("card.sh"), std::fs::Permissions::from_mode(0o755)).unwrap(),
            plan: all,
            says: "may now be executed, its bytes are the same",
            run: ["ran", "up-to-date", "up-to-date"],
            ..NOTHING
        },
        Change {
            name: "a leaf of a declared table",
            words: &["--set", "loom.speed=7"],
            plan: weave,
            says: "loom.speed 5 → 7",
            run: woven,
            ..NOTHING
        },
        Change {
            name: "another leaf of it",
            words: &["--set", "loom.name=L02"],
            plan: weave,
            says: "loom.name",
            run: woven,
            ..NOTHING
        },
        Change {
            name: "a parameter of the stage that stands apart",
            words: &["--set", "unit=yd"],
            plan: ["up-to-date", "up-to-date", "run"],
            says: "unit",
            run: ["up-to-date", "up-to-date", "ran"],
            ..NOTHING
        },
        Change {
            name: "a new declared read",
            make: |t| edit(t, "textum.toml", "\"patterns\"]", "\"patterns\", \"notes.md\"]"),
            plan: weave,
            says: "notes.md",
            run: woven,
            ..NOTHING
        },
        Change {
            name: "a number made a text",
            make: |t| edit(t, "textum.toml", "least = 2", "least = \"2\""),
            plan: all,
            says: "least",
            run: ["ran", "up-to-date", "up-to-date"],
            ..NOTHING
        },
        Change {
            name: "a variable that counts",
            make: |t| edit(t, "textum.toml", "vars = [\"SHED\"]", "vars = [\"SHED\", \"HOME\"]"),
            plan: ["run", "run", "run"],
            says: "",
            run: ["ran", "ran", "ran"],
            ..NOTHING
        },
        // What is put back, or had before, is not executed.
        Change {
            name: "an output gone",
            make: |t| std::fs::remove_file(t.path("b/cloth")).unwrap(),
            plan: ["up-to-date", "reuse", "up-to-date"],
            says: "b/cloth",
            run: ["up-to-date", "reused", "up-to-date"],
            ..NOTHING
        },
        Change {
            name: "an output edited",
            make: |t| t.write("b/carded.csv", "mine\n"),
            plan: ["reuse", "up-to-date", "up-to-date"],
            says: "b/carded.csv",
            run: ["reused", "up-to-date", "up-to-date"],
            ..NOTHING
        },
        Change {
            name: "all outputs gone",
            make: |t| std::fs::remove_dir_all(t.path("b")).unwrap(),
            plan: ["reuse", "reuse", "reuse"],
            says: "",
            run: ["reused", "reused", "reused"],
            ..NOTHING
        },
        Change {
            name: "back to an earlier state",
            make: |t| {
                textum(t, &["run", "--set", "least=6"]).expect(0);
            },
            plan: ["reuse", "reuse", "up-to-date"],
            says: "least 6 → 2",
            run: ["reused", "reused", "up-to-date"],
            ..NOTHING
        },
        Change {
            name: "made to run",
            words: &["--force", "card"],
            plan: all,
            says: "",
            run: ["ran", "up-to-date", "up-to-date"],
            ..NOTHING
        },
    ]
}

fn actions(plan: &Value) -> Vec<String> {
    plan["stages"].as_array().unwrap().iter().map(|s| s["action"].as_str().unwrap().to_string()).collect()
}

#[test]
fn each_change_runs_what_it_must_and_nothing_else() {
    let base = project();
    textum(&base, &["run"]).expect(0);
    for change in changes() {
        let tiny = Tiny::new();
        tiny.textum("cp", &["-a", &format!("{}/.", base.root().display()), "."]).expect(0);
        (change.make)(&tiny);
        let name = change.name;
        // A look at it leaves everything as it is, and says the same twice.
        let forced = change.words.contains(&"--force");
        let words = if forced { &[][..] } else { change.words };
        let plan = textum(&tiny, &[&["plan", "--format", "json"], words].concat()).expect(0).json();
        if !forced {
            assert_eq!(actions(&plan), change.plan, "{name}: {plan:#}");
            for reason in plan["stages"].as_array().unwrap().iter().flat_map(|s| s["reasons"].as_array().unwrap()) {
                let same_bytes = reason["text"].as_str().unwrap().contains("its bytes are the same");
                assert!(!same_bytes || reason["from"] == reason["to"], "{name}: {reason}");
            }
            let again = textum(&tiny, &[&["plan", "--format", "json"], words].concat()).expect(0).json();
            assert_eq!(plan, again, "{name}");
            let check = textum(&tiny, &[&["plan", "--check"], words].concat());
            assert_eq!(
                check.status,
                i32::from(change.plan.contains(&"run") || change.plan.contains(&"reuse")),
                "{name}: {}",
                check.out
            );
            let first = plan["stages"].as_array().unwrap().iter().find(|s| s["action"] != "up-to-date");
            let told = first.map_or(String::new(), |s| s["reasons"].to_string());
            assert!(told.contains(change.says), "{name}: {told}");
        }
        let run = textum(&tiny, &[&["run", "--format", "json"], change.words].concat()).expect(0).json();
        let done: Vec<String> = ["card", "weave", "label"].iter().map(|s| state(&run, s)).collect();
        assert_eq!(done, change.run, "{name}");
        // And then there is nothing more to do, and all of it can be made again.
        let after = textum(&tiny, &[&["plan", "--format", "json"], words].concat()).expect(0).json();
        assert_eq!(actions(&after), ["up-to-date"; 3], "{name}: {after:#}");
        textum(&tiny, &["verify"]).expect(0);
    }
}
