//! How a project begins: its files, its repository, and what is left alone.

use textum_testkit::Tiny;

use crate::textum;

fn git(tiny: &Tiny, folder: &str, words: &[&str]) -> String {
    let ran = tiny.textum("git", &[&["-C", folder], words].concat()).expect(0);
    ran.out.trim().to_string()
}

#[test]
fn a_new_project_runs_and_has_a_repository_of_its_own() {
    for template in ["bare", "tabular"] {
        let tiny = Tiny::new();
        let told = textum(&tiny, &["new", "looms", "--template", template]).expect(0);
        assert!(told.out.contains("+ .git") && told.out.contains("+ textum.toml"), "{}", told.out);
        assert_eq!(git(&tiny, "looms", &["branch", "--show-current"]), "main");
        // What Textum and Python make is not git's to see, and nothing is committed.
        let seen = git(&tiny, "looms", &["status", "--porcelain", "--untracked-files=all"]);
        assert!(seen.contains("textum.toml") && !seen.contains("data/"), "{seen}");
        let project = Tiny::at(&tiny.path("looms"));
        textum(&project, &["plan"]).expect(0);
        textum(&project, &["run"]).expect(0);
        assert!(textum(&project, &["plan"]).expect(0).out.contains("nothing to do"));
        let seen = git(&tiny, "looms", &["status", "--porcelain", "--untracked-files=all"]);
        assert!(!seen.contains(".textum/") && seen.contains("textum.receipt.json"), "{seen}");
    }
}

#[test]
fn what_is_there_already_is_left_as_it_is() {
    let tiny = Tiny::new();
    tiny.write("textum.toml", "[project]\nname = \"mine\"\n");
    tiny.write(".gitignore", "/data\n*.log");
    tiny.write("steps/count.sh", "mine");
    tiny.textum("git", &["init", "--quiet", "."]).expect(0);
    let head = tiny.read(".git/HEAD");
    let told = textum(&tiny, &["new"]).expect(0);
    assert!(told.out.contains("kept as it is: textum.toml") && !told.out.contains("+ .git\n"), "{}", told.out);
    assert_eq!((tiny.read("textum.toml").as_str(), tiny.read("steps/count.sh").as_str()), ("[project]\nname = \"mine\"\n", "mine"));
    assert_eq!(tiny.read(".gitignore"), "/data\n*.log\n/build/\n__pycache__/\n");
    assert_eq!(tiny.read(".git/HEAD"), head);
    // Once more: nothing is added.
    let before = tiny.snapshot();
    let again = textum(&tiny, &["new"]).expect(0);
    assert!(!again.out.contains("+ "), "{}", again.out);
    assert_eq!(tiny.snapshot(), before);
}

#[test]
fn within_a_repository_none_is_begun_and_none_where_it_is_not_wanted() {
    let tiny = Tiny::new();
    tiny.textum("git", &["init", "--quiet", "."]).expect(0);
    textum(&tiny, &["new", "looms"]).expect(0);
    assert!(!tiny.has("looms/.git"));
    let other = Tiny::new();
    textum(&other, &["new", "looms", "--no-git"]).expect(0);
    assert!(!other.has("looms/.git"));
    // The demo has one of its own, whatever is around it.
    textum(&tiny, &["demo", "shed", "--write-only"]).expect(0);
    assert_eq!(git(&tiny, "shed", &["log", "--format=%an: %s"]), "A weaver: The pipeline as it was found");
    textum(&other, &["demo", "shed", "--write-only", "--no-git"]).expect(0);
    assert!(!other.has("shed/.git") && other.has("shed/textum.toml"));
}

/// Hooks, templates and settings of the person's own have no part in it.
#[test]
fn nothing_of_a_persons_git_is_executed_or_needed() {
    let tiny = Tiny::new();
    let home = tiny.path("home");
    for hook in ["home/hooks/pre-commit", "home/template/hooks/pre-commit", "home/hooks/post-commit"] {
        tiny.write(hook, format!("#!/bin/sh\ntouch {}/executed\nexit 1\n", tiny.root().display()));
        std::fs::set_permissions(tiny.path(hook), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    }
    tiny.write(
        "home/.gitconfig",
        format!("[core]\nhooksPath = {0}/hooks\n[init]\ntemplateDir = {0}/template\n[commit]\ngpgsign = true\n", home.display()),
    );
    let home = home.display().to_string();
    let variables = [("HOME", home.as_str()), ("GIT_DIR", "/nowhere"), ("GIT_AUTHOR_NAME", "")];
    tiny.textum_with(crate::TEXTUM, &["demo", "shed", "--write-only"], &variables[..2]).expect(0);
    assert!(tiny.has("shed/.git/HEAD") && !tiny.has("executed"));
    assert_eq!(git(&tiny, "shed", &["rev-list", "--count", "HEAD"]), "1");
}

#[test]
fn without_git_everything_else_is_there() {
    let tiny = Tiny::new();
    // One that cannot do anything is as good as none.
    tiny.write("bin/git", "#!/bin/sh\nexit 127\n");
    std::fs::set_permissions(tiny.path("bin/git"), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let path = format!("{}:{}", tiny.path("bin").display(), std::env::var("PATH").unwrap());
    let told = tiny.textum_with(crate::TEXTUM, &["new", "looms"], &[("PATH", &path)]).expect(0);
    assert!(!told.out.contains(".git\n") && tiny.has("looms/textum.toml"), "{}", told.out);
    tiny.textum_with(crate::TEXTUM, &["demo", "shed", "--write-only"], &[("PATH", &path)]).expect(0);
    assert!(!tiny.has("shed/.git") && tiny.has("shed/data/shifts.csv"));
}
