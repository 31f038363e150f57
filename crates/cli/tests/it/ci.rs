//! The recipe for CI, started by the hook of a bare repository on each push, on a machine that has nothing.

use std::os::unix::fs::PermissionsExt;
use std::path::Path;

use textum_testkit::{Ran, Tiny};

use crate::TEXTUM;

/// A person's machine, a repository that others push to, and a depot, side by side.
struct Shed {
    tiny: Tiny,
}

impl Shed {
    fn sh(&self, command: &str) -> Ran {
        let path = format!("{}:{}", Path::new(TEXTUM).parent().unwrap().display(), std::env::var("PATH").unwrap());
        let home = self.tiny.root().display().to_string();
        let git = [("GIT_CONFIG_GLOBAL", "/dev/null"), ("GIT_AUTHOR_NAME", "a"), ("GIT_AUTHOR_EMAIL", "a@b")];
        let more = [("GIT_COMMITTER_NAME", "a"), ("GIT_COMMITTER_EMAIL", "a@b"), ("PATH", path.as_str()), ("HOME", home.as_str())];
        self.tiny.textum_with("/bin/sh", &["-c", command], &[&git[..], &more[..]].concat())
    }
}

#[test]
fn a_push_starts_the_recipe_and_only_what_changed_is_executed() {
    let shed = Shed { tiny: Tiny::new() };
    let tiny = &shed.tiny;
    let recipe = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples/ci/on-push.sh");
    tiny.write(
        "ada/textum.toml",
        "[project]\nname = \"looms\"\n[depot.team]\nurl = \"../depot\"\n[params]\nn = 1\n[data.yarn]\npath = \"yarn\"\n\
         [stage.card]\nrun = \"cat yarn > sliver\"\nreads = [\"yarn\"]\nwrites = [\"sliver\"]\n\
         [stage.weave]\nrun = \"cat sliver > cloth; printf '{\\\"auc\\\": 0.%d}' {n} > m.json\"\nreads = [\"sliver\"]\nparams = [\"n\"]\n\
         writes = [\"cloth\"]\nmetrics = [\"m.json\"]\n[metric.auc]\nbetter = \"higher\"\n[[gate]]\nafter = \"weave\"\ncheck = \"auc > 0.05\"\n",
    );
    tiny.write("ada/.gitignore", ".textum/\nyarn\nsliver\ncloth\n");
    tiny.write("ada/yarn", "wool\n");
    // What the hook does: a clone of what was pushed, beside the depot, and the recipe in it.
    let hook = format!(
        "#!/bin/sh\nunset GIT_DIR\nread old new name\ncd {root} && rm -rf ci && git clone -q shed.git ci && cd ci && git checkout -q $new\n\
         TEXTUM_HOST=ci USER=ci sh {recipe} ../comment.md > ../ci.out 2>&1; echo $? > ../ci.status\n",
        root = tiny.root().display(),
        recipe = recipe.display()
    );
    shed.sh("git init -q --bare shed.git").expect(0);
    tiny.write("shed.git/hooks/post-receive", hook);
    std::fs::set_permissions(tiny.path("shed.git/hooks/post-receive"), std::fs::Permissions::from_mode(0o755)).unwrap();
    shed.sh("mkdir set && cd set && printf '[project]\nname = \"x\"\n' > textum.toml && textum depot add team ../depot && cd .. && rm -rf set").expect(0);
    shed.sh("cd ada && textum run && textum sync && git init -q -b main && git remote add origin ../shed.git").expect(0);
    let push = |message: &str| {
        shed.sh(&format!("cd ada && git add -A && git commit -q -m {message} && git push -q origin main")).expect(0);
        let out = tiny.read("ci.out");
        (tiny.read("ci.status").trim().parse::<i32>().unwrap(), out)
    };
    let (status, out) = push("first");
    assert_eq!(status, 0, "{out}");
    assert!(out.contains("nothing to do"), "the machine was empty, and still nothing is executed: {out}");

    // A parameter: one stage of two.
    tiny.write("ada/textum.toml", tiny.read("ada/textum.toml").replace("n = 1", "n = 2"));
    let (status, out) = push("second");
    assert_eq!(status, 0, "{out}");
    let show = shed.sh("cd ci && textum show last --format json").expect(0).json();
    let states: Vec<(&str, &str)> = show["receipt"]["stages"]
        .as_array()
        .unwrap()
        .iter()
        .map(|s| (s["stage"].as_str().unwrap(), s["state"].as_str().unwrap()))
        .collect();
    assert_eq!(states, [("card", "up-to-date"), ("weave", "ran")]);
    let comment = tiny.read("comment.md");
    assert!(comment.contains("auc") && comment.contains("0.2"), "{comment}");
    // What CI has trained nobody trains again.
    shed.sh("cd ada && textum run").expect(0).says("made by ci@ci");

    // A gate that does not hold fails it.
    tiny.write("ada/textum.toml", tiny.read("ada/textum.toml").replace("auc > 0.05", "auc > 0.5"));
    let (status, out) = push("third");
    assert_eq!(status, 1, "{out}");
    assert!(out.contains("auc > 0.5"), "{out}");
}
