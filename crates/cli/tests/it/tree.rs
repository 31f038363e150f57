//! The working tree: what is put there, what is moved aside, what comes back.

use textum_testkit::Tiny;

use crate::{state, textum, two_stages};

fn git(tiny: &Tiny, words: &[&str]) -> String {
    let mut command = std::process::Command::new("git");
    command.args(["-c", "user.name=w", "-c", "user.email=w@example.org", "-c", "init.defaultBranch=main"]);
    let output = command.args(words).current_dir(tiny.root()).env_clear().envs(tiny.variables()).output().unwrap();
    assert!(output.status.success(), "git {words:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).trim().to_string()
}

#[test]
fn after_a_checkout_of_an_old_commit_its_data_and_outputs_come_back() {
    let tiny = two_stages();
    tiny.write(".gitignore", "build/\nyarn.txt\n");
    git(&tiny, &["init", "-q"]);
    git(&tiny, &["commit", "-q", "--allow-empty", "-m", "nothing of the project"]);
    let run = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    let shown = textum(&tiny, &["show", run["run"].as_str().unwrap(), "--format", "json"]).expect(0).json();
    assert!(shown["receipt"]["git"].is_null(), "a commit without the project's manifest says nothing of it");
    git(&tiny, &["add", "."]);
    git(&tiny, &["commit", "-qm", "first"]);
    let first = tiny.snapshot();
    tiny.write("yarn.txt", "jute\n");
    let run = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    textum(&tiny, &["show", "last"]).expect(0).says("commit");
    git(&tiny, &["add", "."]);
    git(&tiny, &["commit", "-qm", "second"]);
    git(&tiny, &["checkout", "-q", "HEAD~1"]);
    textum(&tiny, &["restore"]).expect(0).says("yarn.txt").says("build/lines.txt");
    let without_git = |s: Vec<(String, Vec<u8>)>| s.into_iter().filter(|(p, _)| !p.starts_with(".git/")).collect::<Vec<_>>();
    assert_eq!(without_git(tiny.snapshot()), without_git(first));
    textum(&tiny, &["plan", "--check"]).expect(0);
    git(&tiny, &["checkout", "-q", "main"]);
    textum(&tiny, &["restore"]).expect(0);
    assert_eq!(tiny.read("yarn.txt"), "jute\n");
    assert_eq!(textum(&tiny, &["run", "--format", "json"]).expect(0).json()["run"], run["run"]);
}

#[test]
fn what_a_person_wrote_is_never_overwritten() {
    let tiny = two_stages();
    tiny.write("build/lines.txt", "mine before any run\n");
    textum(&tiny, &["run"]).expect(0).warns("aside").warns("build/lines.txt");
    tiny.write("build/upper.txt", "edited by hand\n");
    tiny.write("yarn.txt", "edited data\n");
    textum(&tiny, &["restore", "last"]).expect(0).warns("build/upper.txt").warns("yarn.txt");
    assert_eq!(tiny.read("yarn.txt"), "cotton\nlinen\nwool\n");
    let aside: Vec<_> = std::fs::read_dir(tiny.path(".textum/aside")).unwrap().flatten().map(|e| e.path()).collect();
    let kept = |path: &str| aside.iter().filter_map(|a| std::fs::read_to_string(a.join(path)).ok()).collect::<Vec<_>>();
    assert_eq!(kept("build/lines.txt"), ["mine before any run\n"]);
    assert_eq!(kept("build/upper.txt"), ["edited by hand\n"]);
    assert_eq!(kept("yarn.txt"), ["edited data\n"]);
    // What Textum itself has recorded needs no keeping.
    textum(&tiny, &["run", "--set", "count.from=2"]).expect(0);
    assert_eq!(std::fs::read_dir(tiny.path(".textum/aside")).unwrap().count(), aside.len());
}

#[test]
fn restore_brings_one_path_a_digest_or_everything_elsewhere() {
    let tiny = two_stages();
    let run = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    let digest = run["stages"][0]["writes"][0]["digest"].as_str().unwrap().to_string();
    std::fs::remove_dir_all(tiny.path("build")).unwrap();
    textum(&tiny, &["restore", "last:build/upper.txt"]).expect(0);
    assert!(tiny.has("build/upper.txt") && !tiny.has("build/lines.txt"));
    std::fs::remove_file(tiny.path("build/upper.txt")).unwrap();
    textum(&tiny, &["restore", &digest[..12]]).expect(0).says("restored 1 path");
    // `count` from 1 on brings forth the same bytes: which of the two is meant can be said.
    textum(&tiny, &["restore", "last:build/upper.txt"]).expect(0);
    assert_eq!(tiny.read("build/upper.txt"), "COTTON\nLINEN\nWOOL\n");
    textum(&tiny, &["restore", "last", "-o", "elsewhere"]).expect(0);
    for path in ["yarn.txt", "count.sh", "build/lines.txt", "build/scores.json"] {
        assert!(tiny.has(&format!("elsewhere/{path}")), "{path}");
    }
    textum(&tiny, &["restore", "last", "-o", "elsewhere"]).expect(2).warns("is there already");
    textum(&tiny, &["restore", "last:build/uper.txt"]).expect(3).warns("did you mean `build/upper.txt`?");
    tiny.write("count.sh", "true\n");
    textum(&tiny, &["restore", "last"]).expect(0).says("code differs from that of then: count.sh");
    textum(&tiny, &["restore", "last", "--code"]).expect(0).warns("count.sh");
    assert!(tiny.read("count.sh").contains("counting"));
}

#[test]
fn folders_links_and_empty_things_survive_a_round_trip() {
    let tiny = Tiny::with(
        "[data.images]\npath = \"images\"\n[stage.copy]\nrun = \"mkdir -p out/empty; cp -a images/. out/; touch out/none\"\nreads = [\"images/\"]\nwrites = [\"out/\"]\n",
    );
    tiny.write("images/a/one.png", [0, 159, 146, 150]);
    tiny.write("images/b two.png", "x");
    // Names around the slash in the order of bytes.
    for name in ["a.png", "a-b", "a0", "ab"] {
        tiny.write(&format!("images/{name}"), name);
    }
    tiny.write("images/tool.sh", "#!/bin/sh\n");
    std::process::Command::new("chmod").args(["+x", tiny.path("images/tool.sh").to_str().unwrap()]).status().unwrap();
    std::os::unix::fs::symlink("a/one.png", tiny.path("images/link")).unwrap();
    textum(&tiny, &["run"]).expect(0);
    let before = tiny.snapshot();
    std::fs::remove_dir_all(tiny.path("out")).unwrap();
    std::fs::remove_file(tiny.path("images/b two.png")).unwrap();
    tiny.write("images/extra", "mine");
    textum(&tiny, &["restore", "last"]).expect(0).warns("images/extra");
    assert_eq!(tiny.snapshot(), before);
    assert!(tiny.path("out/empty").is_dir() && tiny.path("out/link").is_symlink());
    textum(&tiny, &["plan", "--check"]).expect(0);
    textum(&tiny, &["rebuild", "last"]).expect(0).says("identical");
    let listing = textum(&tiny, &["show", "last", "--format", "json"]).expect(0).json();
    let digest = listing["receipt"]["data"]["images"]["digest"].as_str().unwrap();
    // Anybody can recompute a folder's digest with public tools.
    let shell = r#"cd images && find . \( -type f -o -type l \) -printf '%P\n' | LC_ALL=C sort | while read -r p; do
        if [ -L "$p" ]; then t=link; d=$(printf %s "$(readlink "$p")" | b3sum --no-names); s=$(printf %s "$(readlink "$p")" | wc -c);
        else t=file; [ -x "$p" ] && t=exec; d=$(b3sum --no-names < "$p"); s=$(stat -c %s "$p"); fi
        echo "$t $d $s $p"; done | b3sum --no-names"#;
    if std::process::Command::new("b3sum").arg("--version").output().is_ok() {
        let output = std::process::Command::new("sh").args(["-c", shell]).current_dir(tiny.root()).output().unwrap();
        assert_eq!(format!("b3:{}", String::from_utf8_lossy(&output.stdout).trim()), digest);
    }
}

#[test]
fn a_dataset_that_is_a_folder_counts_file_by_file() {
    let tiny = Tiny::with("[stage.count]\nrun = \"ls images | wc -l > n\"\nreads = [\"images\"]\nwrites = [\"n\"]\n");
    for i in 0..50 {
        tiny.write(&format!("images/{i}.png"), format!("{i}"));
    }
    textum(&tiny, &["run"]).expect(0);
    tiny.write("images/7.png", "other");
    tiny.write("images/50.png", "new");
    textum(&tiny, &["plan"]).expect(0).says("images: +1 −0 files, 1 changed, now 51");
    let run = textum(&tiny, &["run", "--format", "json"]).expect(0).json();
    assert_eq!(state(&run, "count"), "ran");
}

/// What stood there before the first run and comes out just so is not kept twice; anything else is.
#[test]
fn a_copy_of_what_comes_out_the_same_is_not_kept_aside() {
    let tiny = two_stages();
    tiny.write("yarn.txt", "wool\n");
    tiny.write("build/upper.txt", "WOOL\n");
    let ran = textum(&tiny, &["run"]).expect(0).warns("upper.txt came out as what stood there before");
    assert!(!tiny.has(".textum/aside") || std::fs::read_dir(tiny.path(".textum/aside")).unwrap().count() == 0, "{}", ran.err);
    let other = two_stages();
    other.write("yarn.txt", "wool\n");
    other.write("build/upper.txt", "by hand\n");
    let ran = textum(&other, &["run"]).expect(0);
    assert!(ran.err.contains("aside") && !ran.err.contains("came out as"), "{}", ran.err);
    assert!(!textum_testkit::Tiny::at(&other.path(".textum/aside")).snapshot().is_empty());
}
